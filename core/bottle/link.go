package bottle

import (
	"fmt"
	"math/rand/v2"
	"time"

	"idleember/core/engine"
	"idleember/core/mailbox"
)

// link carries messages between a board and the hub, in order unless it is out of order. The broker on it keeps the
// last want for each control for whoever connects: the one in the hub ends with the hub, one elsewhere does not.
type link struct {
	b         *board
	rng       *rand.Rand
	outside   bool
	connected bool
	since     time.Duration // when it last began
	session   string
	count     int
	broken    int // how many disturbances forbid a connection
	delay     time.Duration
	lossy     float64 // the part of the messages that is lost
	doubles   float64
	reorders  float64
	down      int // what ends the present connection
	kept      map[string]mailbox.Outgoing
	// when it last lost, doubled or mixed up something: what the hub does not know then, it learns within an hour
	lost time.Duration
	sick time.Duration // when it last lost, delayed or ended something
}

// connect begins a session, or tries again a little later.
func (l *link) connect() {
	w, boot := l.b.w, l.b.boots
	if !l.b.on || l.connected {
		return
	}
	if l.broken > 0 || !w.hub.up && !l.outside {
		l.sick = w.now
		w.in(time.Duration(1000+l.rng.IntN(4000))*time.Millisecond, func() {
			if l.b.boots == boot {
				l.connect()
			}
		})
		return
	}
	l.count++
	l.since = w.now
	l.connected, l.session = true, fmt.Sprintf("%s-%d", l.b.id, l.count)
	l.b.beaten = false
	l.join()
	for _, raw := range sorted(l.kept) {
		k := l.kept[raw]
		l.deliver(func() { l.b.want(k.Control, k.Value, true) })
	}
	l.b.sayAll()
	for _, s := range l.b.sensors {
		s.catchUp()
	}
}

// join tells the hub of the session, where there is one to tell.
func (l *link) join() {
	session, w := l.session, l.b.w
	w.in(20*time.Millisecond, func() { // a connection that is made is known; only what it carries can be lost
		if w.hub.up && l.connected && l.session == session {
			w.hub.apply(engine.Online{Device: l.b.id, Session: session, From: "loopback"})
			w.hub.apply(engine.Listening{Device: l.b.id, Session: session})
		}
	})
}

// drop ends the session. The hub hears of it at once, or after a while where nobody says so.
func (l *link) drop(said bool) {
	if !l.connected {
		return
	}
	w, session := l.b.w, l.session
	l.connected, l.sick = false, w.now
	l.down++
	after := time.Duration(20+l.rng.IntN(100)) * time.Millisecond
	if !said {
		after = time.Duration(1+l.rng.IntN(90)) * time.Second
	}
	w.in(after, func() {
		if w.hub.up {
			w.hub.apply(engine.Offline{Device: l.b.id, Session: session, Why: "the connection ended"})
		}
	})
}

// up carries something to the hub.
func (l *link) up(f func(h *hub, session string)) {
	if !l.connected {
		return
	}
	session := l.session
	l.carry(func() {
		switch {
		case l.b.w.hub.up && (l.connected && l.session == session || l.outside):
			f(l.b.w.hub, session)
		case l.outside: // a broker elsewhere took it, and the hub was not there
			l.lost = l.b.w.now
		}
	})
}

// arrival is a reading on its way to the hub. Most of what happens in a house are readings, so they are used again.
type arrival struct {
	s       *sensor
	v       float64
	stamp   time.Time
	session string
	copies  int // that are on their way
	arrive  func()
}

// upReading carries a reading to the hub.
func (l *link) upReading(s *sensor, v float64, stamp time.Time) {
	if !l.connected {
		return
	}
	w := l.b.w
	var a *arrival
	if last := len(w.spare) - 1; last >= 0 {
		a, w.spare = w.spare[last], w.spare[:last]
	} else {
		a = &arrival{}
		a.arrive = func() {
			l := a.s.b.link
			if h := w.hub; h.up && (l.connected && l.session == a.session || l.outside) {
				h.take(a.s, a.v, a.stamp)
			}
			if a.copies--; a.copies == 0 {
				w.spare = append(w.spare, a)
			}
		}
	}
	a.s, a.v, a.stamp, a.session = s, v, stamp, l.session
	if a.copies = l.carry(a.arrive); a.copies == 0 {
		w.spare = append(w.spare, a)
	}
}

// deliver carries something to the board.
func (l *link) deliver(f func()) {
	if !l.connected {
		return
	}
	session := l.session
	l.carry(func() {
		if l.b.on && l.connected && l.session == session {
			f()
		}
	})
}

// carry takes something along, and says how often it will arrive.
func (l *link) carry(f func()) int {
	w := l.b.w
	delay := l.delay
	if l.lossy > 0 && l.rng.Float64() < l.lossy {
		l.sick, l.lost = w.now, w.now
		w.oracle.loses(l.b)
		return 0
	}
	if l.reorders > 0 && l.rng.Float64() < l.reorders {
		l.sick, l.lost = w.now, w.now
		delay += time.Duration(l.rng.IntN(3000)) * time.Millisecond
		w.oracle.loses(l.b)
	}
	if l.delay > time.Second {
		l.sick = w.now
	}
	w.in(delay, f)
	if l.doubles > 0 && l.rng.Float64() < l.doubles {
		l.sick, l.lost = w.now, w.now
		w.in(delay+time.Duration(l.rng.IntN(2000))*time.Millisecond, f)
		return 2
	}
	return 1
}

// post takes what is in the mailbox to the broker and from there to the board.
func (l *link) post(p mailbox.Post) {
	if l.kept == nil {
		l.kept = map[string]mailbox.Outgoing{}
	}
	for _, raw := range p.Gone {
		delete(l.kept, raw)
	}
	for _, x := range p.Wants {
		switch {
		case x.Pulse != "":
		case x.Fleeting:
			delete(l.kept, x.Raw)
		default:
			l.kept[x.Raw] = x
		}
		control, value := x.Control, x.Value
		l.deliver(func() { l.b.want(control, value, false) })
	}
	for _, m := range p.Mirrors {
		l.deliver(func() { l.b.told(m) })
	}
	if lease := p.Beat; lease > 0 {
		l.deliver(func() { l.b.heardBeat(lease) })
	}
	if p.Ended {
		l.drop(true)
	}
}

// hubGone ends what goes through the hub itself.
func (l *link) hubGone() {
	l.sick = l.b.w.now
	if l.outside {
		return
	}
	l.kept = nil
	if l.connected {
		l.connected = false
		l.down++
		l.connect()
	}
}

// hubBack lets a hub know of a session that a broker elsewhere kept.
func (l *link) hubBack() {
	if l.outside && l.connected {
		l.count++
		l.session = fmt.Sprintf("%s-%d", l.b.id, l.count)
		l.join()
	}
}
