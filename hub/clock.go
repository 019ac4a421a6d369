package hub

import (
	"context"
	"fmt"
	"os"
	"strings"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"

	"idleember/core/access"
	"idleember/core/engine"
	"idleember/core/reading"
	"idleember/core/words"
	"idleember/store"
)

const (
	clockStep    = 2 * time.Second // more than a clock is put right by without anybody noticing
	clockBack    = time.Minute     // so far back the clock is believed: it was a little ahead
	clockForward = 24 * time.Hour  // and so far ahead, unless it has been set from outside
)

// earliestNow is before this program was written: a clock that shows less has not been set.
var earliestNow = time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)

// timekeeper tells the hub's time. That is what the computer's clock shows, unless there is reason to doubt it: where
// it is behind what was written down before, or jumped far without having been set from outside. Then the hub's time
// goes on from what it was, evenly, so that at least the order is right, until the clock can be believed again.
//
// The loop alone looks at the clock; anybody may ask for the time.
type timekeeper struct {
	read    func() time.Time
	set     func() bool // whether something outside keeps the clock right
	boot    func() (id string, up time.Duration)
	started time.Time // on the monotonic clock
	from    atomic.Pointer[doubt]
	seen    atomic.Pointer[glance]

	// of the loop
	since time.Time // when the hub started, by the clock as it is now
	told  bool      // the owner says that the clock is right
}

// glance is what time it was when the clock was looked at.
type glance struct {
	wall time.Time
	mono time.Duration
}

// at is the time at another moment, had the clock gone on evenly.
func (g *glance) at(mono time.Duration) time.Time {
	return g.wall.Add(mono - g.mono).Truncate(time.Millisecond)
}

// doubt is a stretch in which the clock is not believed.
type doubt struct {
	glance           // when it began
	began  time.Time // when what it stamps has to be moved from
	ahead  bool      // the clock jumped ahead
	shows  time.Time // what it showed
}

// moved says what the clock did.
type moved struct {
	from, to time.Time
	since    time.Time // since when what was stamped is off by that
	doubted  bool      // it is not believed from now on
	believed bool      // it is believed again
}

// newTimekeeper starts keeping the time at the computer's clock, unless that is before last. A doubt that was kept goes
// on where the computer was not started anew since.
func newTimekeeper(o Options, last time.Time, kept *store.Doubt) (k *timekeeper, goesOn bool) {
	k = &timekeeper{read: o.Now, set: o.ClockSet, boot: o.Boot, started: time.Now()}
	if k.read == nil {
		k.read = time.Now
	}
	if k.set == nil {
		k.set = keptRight
	}
	if k.boot == nil {
		k.boot = thisBoot
	}
	shows := k.clock()
	k.since = shows
	k.seen.Store(&glance{wall: shows})
	if id, up := k.boot(); kept != nil && id != "" && kept.Boot == id {
		k.since = later(kept.Wall.Add(up-kept.Up), last).Truncate(time.Millisecond)
		k.from.Store(&doubt{glance: glance{wall: k.since}, began: kept.Wall, ahead: kept.Ahead, shows: kept.Shows})
		return k, true
	}
	if last = later(last, earliestNow); shows.Before(last.Add(-clockBack)) && !(shows.After(earliestNow) && k.set()) {
		k.since = last.Add(time.Second).Truncate(time.Millisecond)
		k.from.Store(&doubt{glance: glance{wall: k.since}, began: k.since, shows: shows})
	}
	return k, false
}

// kept is what has to be known of a doubt that has just begun after a restart of the hub.
func (k *timekeeper) kept() store.Doubt {
	d := k.from.Load()
	id, up := k.boot()
	return store.Doubt{Boot: id, Up: up - (time.Since(k.started) - d.mono), Wall: d.wall, Ahead: d.ahead, Shows: d.shows}
}

// thisBoot asks the kernel which start of the computer this is, and for how long it runs, sleep included
// (clock_gettime(2)).
func thisBoot() (id string, up time.Duration) {
	b, err := os.ReadFile("/proc/sys/kernel/random/boot_id")
	var ts unix.Timespec
	if err != nil || unix.ClockGettime(unix.CLOCK_BOOTTIME, &ts) != nil {
		return "", 0
	}
	return strings.TrimSpace(string(b)), time.Duration(ts.Nano())
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

func (k *timekeeper) clock() time.Time { return k.read().Round(0).Truncate(time.Millisecond) }

// time is the hub's time, and whether it can be trusted.
func (k *timekeeper) time() (wall time.Time, trusted bool) {
	mono := time.Since(k.started)
	if d := k.from.Load(); d != nil {
		return d.at(mono), false
	}
	shows, is := k.clock(), k.seen.Load().at(mono)
	if !near(shows.Sub(is)) && !k.set() {
		return is, false // the loop has not looked yet
	}
	return shows, true
}

// near reports whether a clock that jumped so far is believed without anybody's word.
func near(off time.Duration) bool { return off >= -clockBack && off <= clockForward }

// look compares the computer's clock with the monotonic one.
func (k *timekeeper) look() (m moved, ok bool) {
	mono, shows := time.Since(k.started), k.clock()
	d := k.from.Load()
	seen := k.seen.Load()
	is := seen.at(mono)
	if d != nil {
		is = d.at(mono)
	}
	off := shows.Sub(is)
	m = moved{from: is, to: shows}
	switch {
	case d != nil && (k.told || near(off) || shows.After(earliestNow) && k.set()):
		m.since, m.believed = d.began, true
	case d != nil:
		return m, false
	case off.Abs() < clockStep:
		if mono-seen.mono > clockStep/2 {
			k.seen.Store(&glance{shows, mono})
		}
		return m, false
	case near(off) || shows.After(earliestNow) && k.set():
		m.since = k.since
	default:
		m.doubted = true
		k.told = false
		k.from.Store(&doubt{glance: glance{is, mono}, began: is, ahead: off > 0, shows: shows})
		return m, true
	}
	if !k.since.Before(m.since) {
		k.since = k.since.Add(off)
	}
	k.told = false
	k.seen.Store(&glance{shows, mono})
	k.from.Store(nil)
	return m, true
}

// keptRight asks the kernel whether something, as a time service, keeps the clock right (adjtimex(2)).
func keptRight() bool {
	var x unix.Timex
	state, err := unix.Adjtimex(&x)
	return err == nil && state != unix.TIME_ERROR && x.Status&unix.STA_UNSYNC == 0
}

// Clock is the hub's time, and whether it is right as far as the hub knows.
func (h *Hub) Clock() (now time.Time, right bool) { return h.keeper.time() }

// Time is the hub's time.
func (h *Hub) Time() time.Time {
	now, _ := h.keeper.time()
	return now
}

func (h *Hub) now() engine.Now {
	wall, trusted := h.keeper.time()
	return engine.Now{Wall: wall, Mono: time.Since(h.started), Trusted: trusted}
}

// trusted reports whether the hub knows what time it is. What throws old things away waits for that.
func (h *Hub) trusted() bool { return h.keeper.from.Load() == nil }

// clockDoubt says in a sentence why the clock is not believed, empty where it is.
func (h *Hub) clockDoubt() string {
	d := h.keeper.from.Load()
	if d == nil {
		return ""
	}
	zone := h.Site().Hub.Location()
	const form = "2 Jan 2006 15:04"
	what, shows := "is behind what was stored before", h.keeper.clock()
	switch ahead := shows.Sub(h.Time()) > clockForward; {
	case d.ahead:
		what = "jumped far ahead"
	case ahead:
		what = "was behind what was stored before and is now far ahead of that"
	}
	return fmt.Sprintf("the computer's clock %s: it shows %s, and the hub goes by %s; schedules wait until it is set",
		what, shows.In(zone).Format(form), h.Time().In(zone).Format(form))
}

// lookAtClock notices that the clock was set.
func (h *Hub) lookAtClock() {
	m, ok := h.keeper.look()
	if !ok {
		return
	}
	by := m.to.Sub(m.from)
	zone := h.site.Hub.Location()
	said, to := m.from.In(zone).Format(time.DateTime), m.to.In(zone).Format(time.DateTime)
	if m.doubted {
		h.log.Warn("the computer's clock jumped and is not believed; set it", "shows", to, "expected", said)
		h.write(store.SaveDoubt(h.keeper.kept()))
		h.journal(m.from, access.HubActor(), "clock", "hub.clock", said, to,
			"not believed: the hub's time goes on from what it was")
		h.clockTold()
		return
	}
	why := fmt.Sprintf("it was set %s %s", words.Duration(by.Abs().Round(time.Second)), map[bool]string{true: "ahead",
		false: "back"}[by > 0])
	h.log.Info("the computer's clock was set", "from", said, "to", to)
	if m.believed {
		n, err := h.restamp(m.since, m.from, by)
		if err != nil {
			h.log.Error("what came while the clock was wrong keeps its wrong times", "error", err)
			why += "; what came before keeps its times: " + err.Error()
		} else {
			why += fmt.Sprintf("; what the hub stamped since %s, %d readings, was moved along",
				m.since.In(zone).Format(time.DateTime), n)
		}
	}
	h.journal(m.to, access.HubActor(), "clock", "hub.clock", said, to, why)
	h.applyNow(engine.ClockSet{From: m.since, By: by})
	h.clockTold()
}

// clockTold tells everybody how it stands with the clock.
func (h *Hub) clockTold() {
	h.lookAtOneself()
	h.live.Publish("hub", h.Status(), access.Anything)
}

// restamp moves what the store took while the clock was wrong. The loop waits for it: nothing may come in between.
func (h *Hub) restamp(from, to time.Time, by time.Duration) (n int, err error) {
	h.flush()
	h.ownedCount = 0
	return h.store.Restamp(context.Background(), from, to.Add(reading.MostApart+time.Millisecond), by,
		to.Add(by+5*time.Minute))
}

// ownedMost bounds what is kept of readings that devices stamped while the hub's clock is wrong.
const ownedMost = 1 << 20

// stampedItself keeps while the clock is wrong that a device gave readings' times.
func (h *Hub) stampedItself(series string, at ...int64) {
	if h.trusted() || len(at) == 0 {
		return
	}
	if h.ownedCount += len(at); h.ownedCount < ownedMost {
		h.writeReadings(store.AddStamps(series, h.Time(), at))
	}
}

// beginClock takes up, at the start, what was known of the clock.
func (h *Hub) beginClock(kept *store.Doubt, goesOn bool) {
	zone := h.site.Hub.Location()
	now, why := h.Time(), h.clockDoubt()
	if kept != nil && !goesOn {
		h.journal(now, access.HubActor(), "clock", "hub.clock", "", "", fmt.Sprintf(
			"what the hub stamped since %s, while its clock was wrong, keeps its times: the computer was started anew since",
			kept.Wall.In(zone).Format(time.DateTime)))
		h.write(store.EndDoubt)
	}
	if why == "" {
		return
	}
	h.log.Warn(why)
	reason := "not believed: it is behind what was stored before"
	if goesOn {
		reason = "not believed since " + kept.Wall.In(zone).Format(time.DateTime)
	} else {
		h.write(store.SaveDoubt(h.keeper.kept()))
	}
	h.journal(now, access.HubActor(), "clock", "hub.clock", "", h.keeper.clock().In(zone).Format(time.DateTime), reason)
}

// ClockNow is how it stands with the clock.
type ClockNow struct {
	Time, Shows time.Time // the hub's time, and what the computer's clock shows
	Zone, Doubt string    // Doubt says in a sentence why that is not believed
}

// ClockNow tells how it stands with the clock.
func (h *Hub) ClockNow(ctx context.Context) (out ClockNow, err error) {
	return out, h.ask(ctx, func() error {
		out = ClockNow{h.Time(), h.keeper.clock(), h.site.Hub.Zone, h.clockDoubt()}
		return nil
	})
}

// TrustClock has the hub believe the computer's clock, because the owner says that it is right.
func (h *Hub) TrustClock(ctx context.Context, a access.Actor) (ClockNow, error) {
	if err := h.do(ctx, func() error {
		if err := access.May(a, access.Configure, access.Anything); err != nil {
			return err
		}
		h.lookAtClock()
		if h.trusted() {
			return nil
		}
		h.keeper.told = true
		h.journal(h.Time(), a, "clock", "hub.clock", "", h.keeper.clock().In(h.site.Hub.Location()).Format(time.DateTime),
			"said to be right")
		h.lookAtClock()
		return nil
	}); err != nil {
		return ClockNow{}, err
	}
	return h.ClockNow(ctx)
}
