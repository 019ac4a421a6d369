package bottle

import (
	"fmt"
	"slices"
	"time"

	"idleember/core/engine"
	"idleember/core/mailbox"
	"idleember/core/reading"
	"idleember/core/site"
)

// hub is the service without its goroutines: engine, store and mailboxes. What it keeps is kept in pieces, as on a
// disk, and coded and decoded as there.
type hub struct {
	w       *world
	up      bool
	engine  *engine.Engine
	site    *site.Site
	booted  time.Duration // when it last started
	wrong   time.Duration // how far its clock is ahead of the right time
	trusted bool
	doubted bool // the clock of the run before was wrong, and nobody knows by how much
	boxes   map[string]*mailbox.Box

	disk     disk          // what is kept
	staged   []write       // what is written and not yet kept
	after    []func()      // what waits until that is kept
	slow     time.Duration // how long a commit takes
	commits  int           // that are on their way
	dieAfter int           // it is killed after so many effects; 0: it is not
	loses    bool          // what was not kept yet when it is killed
	alive    int
	waits    []wait
	reading  engine.Reading // that arrives
	clock    time.Time      // what it should show at the following
	clockAt  time.Duration
}

// wait is something that goes on when a condition is met, or at a time.
type wait struct {
	until time.Duration
	met   func() bool
	then  func(met bool)
}

// disk is what the store holds.
type disk struct {
	site  *site.Site
	state map[[2]string]engine.Keep
	read  map[string]*history
	alive time.Time
}

// history is what is kept of a signal's readings.
type history struct {
	last engine.Store
	log  []engine.Sample // of the last hours
}

// write is something to be kept: a state, a reading, or a change of the disk.
type write struct {
	state  engine.Keep
	read   engine.Store
	change func(*disk)
}

func newHub(w *world, s *site.Site) *hub {
	return &hub{w: w, trusted: true, disk: disk{site: s, state: map[[2]string]engine.Keep{}, read: map[string]*history{}}}
}

// wall is the hub's own clock.
func (h *hub) wall() time.Time { return h.right().Add(h.wrong) }

// right is the time that it should show.
func (h *hub) right() time.Time {
	if h.clockAt != h.w.now || h.clock.IsZero() {
		at := h.w.plan.Offset + h.w.now
		h.clockAt, h.clock = h.w.now, epoch.Add(at-at%time.Millisecond)
	}
	return h.clock
}

func (h *hub) time() engine.Now {
	return engine.Now{Wall: h.wall(), Mono: h.w.now - h.booted, Trusted: h.trusted}
}

// start brings the hub up with what the disk holds.
func (h *hub) start() {
	if h.up {
		return
	}
	h.up, h.engine, h.booted = true, engine.New(), h.w.now
	h.site = h.disk.site
	h.boxes, h.staged, h.after, h.commits, h.dieAfter, h.waits = map[string]*mailbox.Box{}, nil, nil, 0, 0, nil
	var state engine.Restored
	state.Alive, state.Doubted, h.doubted = h.disk.alive, h.doubted, false
	for key, k := range h.disk.state {
		body, err := k.Body()
		if err == nil {
			err = state.Add(key[0], key[1], body)
		}
		if err != nil {
			h.w.oracle.fault("restore", key[1], "%s", err)
		}
	}
	known := map[string]engine.SignalState{}
	for _, s := range state.Signals {
		known[s.ID] = s
	}
	state.Signals = nil
	for _, id := range sorted(h.site.Signals) {
		s := known[id]
		s.ID = id
		if r := h.disk.read[id]; r != nil {
			last := r.last
			if last.At.After(h.wall()) {
				last.At = h.wall()
			}
			s = s.Read(last)
		}
		state.Signals = append(state.Signals, s)
	}
	h.w.oracle.starts()
	h.apply(engine.SiteChanged{Site: h.site})
	h.apply(state)
	for _, id := range h.w.order {
		if b := h.w.boards[id]; b != nil && h.site.Devices[id].ID != "" {
			b.link.hubBack()
			h.attach(id)
		}
	}
	h.alive++
	alive := h.alive
	h.beAlive(alive)
}

// attach gives the link of a device a mailbox with all that is wanted now.
func (h *hub) attach(device string) {
	box := &mailbox.Box{}
	_, controls := h.site.Of(device)
	for _, id := range controls {
		box.Name(id, h.site.Controls[id].Raw)
	}
	for _, want := range h.engine.Wants(device) {
		box.Want(want)
	}
	for _, m := range h.engine.Mirrors(device) {
		box.Mirror(m)
	}
	h.boxes[device] = box
	h.drain(device)
}

func (h *hub) beAlive(alive int) {
	if h.up && h.alive == alive {
		h.disk.alive = h.wall()
		h.w.in(time.Minute, func() { h.beAlive(alive) })
	}
}

// kill ends the hub as a power cut does.
func (h *hub) kill() {
	if !h.up {
		return
	}
	if !h.loses {
		h.keep(h.staged)
	}
	h.up, h.staged, h.after, h.waits = false, nil, nil, nil
	h.w.oracle.killed()
	for _, id := range h.w.order {
		h.w.boards[id].link.hubGone()
	}
}

func (h *hub) keep(list []write) {
	d := &h.disk
	for i := range list {
		switch x := &list[i]; {
		case x.change != nil:
			x.change(d)
		case x.state.Kind == "":
			d.add(&x.read)
		case x.state.State == nil:
			delete(d.state, [2]string{x.state.Kind, x.state.ID})
		default:
			d.state[[2]string{x.state.Kind, x.state.ID}] = x.state
		}
	}
}

// wake is when the engine wants to be asked, in the world's time.
func (h *hub) wake() (time.Duration, bool) {
	if !h.up {
		return 0, false
	}
	at, ok := h.engine.NextWake()
	return at + h.booted, ok
}

// apply gives the engine an input and lets its effects out in their order: what must be kept first waits for the disk,
// the safe value never does.
func (h *hub) apply(in engine.Input) {
	if !h.up {
		return
	}
	effects := h.engine.Apply(h.time(), in)
	if h.w.effects != nil {
		h.w.effects(h.w.now, effects)
	}
	h.w.oracle.applied(in, effects)
	for _, x := range effects {
		if h.dieAfter > 0 {
			if h.dieAfter--; h.dieAfter == 0 {
				h.kill()
				return
			}
		}
		h.let(x)
	}
	h.w.oracle.settled()
	h.flush()
	for i := 0; i < len(h.waits) && h.up; i++ {
		if x := h.waits[i]; x.met() {
			h.waits = append(h.waits[:i:i], h.waits[i+1:]...)
			x.then(true)
			break
		}
	}
}

func (h *hub) let(x engine.Effect) {
	if k, ok := engine.Kept(x); ok {
		h.staged = append(h.staged, write{state: k})
	}
	if h.w.story != nil {
		h.w.narrate(x)
	}
	switch x := x.(type) {
	case *engine.Store:
		if x.Live {
			h.staged = append(h.staged, write{read: *x})
		}
	case engine.Want:
		h.w.oracle.wanted(x)
		if x.Urgent || x.Pulse != "" && x.Value == 0 {
			h.put(x.Device, func(b *mailbox.Box) { b.Want(x) })
		} else {
			h.later(func() { h.put(x.Device, func(b *mailbox.Box) { b.Want(x) }) })
		}
	case engine.Withdrawn:
		raw := h.site.Controls[x.Control].Raw
		h.later(func() { h.put(x.Device, func(b *mailbox.Box) { b.Withdraw(x.Control, raw, x.Rev) }) })
	case engine.Beat:
		h.put(x.Device, func(b *mailbox.Box) { b.Beat(x.Lease) })
	case engine.Mirror:
		h.later(func() { h.put(x.Device, func(b *mailbox.Box) { b.Mirror(x) }) })
	case engine.NeedHistory:
		h.w.in(50*time.Millisecond, func() {
			if h.up {
				from := h.wall().Add(-x.Span)
				h.apply(engine.History{ID: x.ID, Span: x.Span, From: from, Samples: h.disk.since(x.ID, from)})
			}
		})
	}
}

// narrate tells of an effect.
func (w *world) narrate(x engine.Effect) {
	switch x := x.(type) {
	case engine.ControlChanged:
		w.tell(x.State.ID, "state: want %v is %v %s %s %s, %s %s", at(x.State.Want), at(x.State.Is), x.State.Phase,
			x.State.Mode, x.State.Limit, x.State.Reason, lockWords(x.State.Locks))
	case engine.Journal:
		w.tell(x.Object, "journal: %s %s → %s (%s)", x.Action, x.Before, x.After, x.Reason)
	case engine.Want:
		w.tell(x.Control, "want %v, rev %d, fleeting %v, urgent %v, pulse %q", x.Value, x.Rev, x.Fleeting, x.Urgent, x.Pulse)
	case engine.Beat:
		w.tell(x.Device, "beat")
	}
}

// add keeps a reading, and forgets those of yesterday.
func (d *disk) add(r *engine.Store) {
	h := d.read[r.Signal]
	if h == nil {
		h = &history{}
		d.read[r.Signal] = h
	}
	h.last = *r
	if r.Value.Kind == site.Text || r.Quality != reading.Good {
		return
	}
	if h.log = append(h.log, engine.Sample{At: r.At, Value: r.Value.Num}); len(h.log) > 1000 {
		h.log = append(h.log[:0], h.log[500:]...)
	}
}

// since are the readings from a time on, with the one that held before it first.
func (d *disk) since(id string, from time.Time) []engine.Sample {
	h := d.read[id]
	if h == nil {
		return nil
	}
	list := h.log
	i, _ := slices.BinarySearchFunc(list, from, func(s engine.Sample, t time.Time) int { return s.At.Compare(t) })
	return slices.Clone(list[max(0, i-1):])
}

func at(a *site.Amount) any {
	if a == nil {
		return "–"
	}
	return *a
}

func (h *hub) stage(f func(*disk)) { h.staged = append(h.staged, write{change: f}) }

func (h *hub) later(f func()) { h.after = append(h.after, f) }

// flush commits what is staged.
func (h *hub) flush() {
	if !h.up || len(h.staged)+len(h.after) == 0 {
		return
	}
	staged, after := h.staged, h.after
	if h.slow == 0 && h.commits == 0 {
		h.keep(staged)
		clear(staged)
		h.staged, h.after = staged[:0], nil
		for _, f := range after {
			f()
		}
		return
	}
	h.staged, h.after = nil, nil
	h.commits++
	life := h.alive
	h.w.in(h.slow, func() {
		if h.alive != life {
			return
		}
		if h.up {
			h.commits--
			h.keep(staged)
			for _, f := range after {
				f()
			}
		} else if !h.loses {
			h.keep(staged)
		}
	})
}

func (h *hub) put(device string, f func(*mailbox.Box)) {
	if box := h.boxes[device]; box != nil {
		f(box)
		h.drain(device)
	}
}

// drain lets the link take what is in the mailbox.
func (h *hub) drain(device string) {
	if b := h.w.boards[device]; b != nil {
		b.link.post(h.boxes[device].Take(h.wall()))
	}
}

// take is a reading that arrives.
func (h *hub) take(s *sensor, v float64, stamp time.Time) {
	if s.site != h.site {
		_, ok := h.site.Signals[s.id]
		s.site, s.counts, s.seen = h.site, ok && h.site.Devices[s.b.id].Active(), h.w.oracle.signals[s.id]
	}
	if !s.counts {
		return
	}
	h.w.oracle.arrives(s, v, stamp)
	h.reading = engine.Reading{Signal: s.id, Stamp: stamp, Newest: true, Value: s.reading(v)}
	h.apply(&h.reading)
}

// change puts another site in force.
func (h *hub) change(f func(*site.Site), forget ...[2]string) {
	next := h.site.Clone()
	f(next)
	h.site = next
	h.stage(func(d *disk) {
		d.site = next
		for _, key := range forget {
			delete(d.state, key)
		}
	})
	h.w.oracle.edited()
	h.apply(engine.SiteChanged{Site: next})
}

// await goes on when something is so, or after a time.
func (h *hub) await(span time.Duration, met func() bool, then func(met bool)) {
	if met() {
		then(true)
		return
	}
	w := wait{h.w.now + span, met, then}
	h.waits = append(h.waits, w)
	life := h.alive
	h.w.in(span, func() {
		for i := range h.waits {
			if h.up && h.alive == life && h.waits[i].until == w.until {
				h.waits = append(h.waits[:i:i], h.waits[i+1:]...)
				then(met())
				return
			}
		}
	})
}

func lockWords(list []engine.LockState) (s string) {
	for _, l := range list {
		s += fmt.Sprintf("[%s %d %v", l.ID, l.Is, l.Latched)
		if l.Pending != 0 {
			s += fmt.Sprintf(" → %d", l.Pending)
		}
		s += "]"
	}
	return s
}
