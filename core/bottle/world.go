// Package bottle is a house in a bottle: the engine that decides, the coding of its state and the mailboxes of its
// devices run in virtual time against boards with small physical models, links that fail, a hub that is killed and
// people who change their minds. Everything that happens follows from a Plan, so that the same plan gives the same
// days; an oracle written from what the house promises judges what the outputs physically did and what was sent.
//
// The technique is that of deterministic simulation: one seed, one thread, one queue of events.
package bottle

import (
	"fmt"
	"math/rand/v2"
	"time"

	"idleember/core/due"
	"idleember/core/engine"
)

// epoch is the wall time at which every bottle begins, but for the day of the year that its plan chooses.
var epoch = time.Date(2026, 1, 1, 5, 0, 0, 0, time.UTC)

// world is everything in a bottle at a time.
type world struct {
	plan   *Plan
	now    time.Duration // since the beginning
	queue  due.Queue[func()]
	hub    *hub
	boards map[string]*board
	order  []string // the boards
	oracle *oracle
	events int64 // that were taken
	ticks  int   // of the hub at this instant
	spare  []*arrival
	listener
}

// Run lets a plan happen and returns what the oracle found.
func Run(p *Plan) *Report { return happen(p, listener{}) }

// listener hears what goes on in a bottle. What is nil hears nothing.
type listener struct {
	story   func(of, text string) // what happens to a control, in words
	effects func(at time.Duration, effects []engine.Effect)
	looks   func(*world) // now and then, while the hub is up
	end     func(*world)
}

func happen(p *Plan, l listener) *Report {
	w := &world{plan: p, boards: map[string]*board{}, listener: l}
	w.oracle = newOracle(w)
	w.hub = newHub(w, p.Site)
	for _, id := range sorted(p.Site.Devices) {
		w.boards[id] = newBoard(w, p.Site.Devices[id])
		w.order = append(w.order, id)
	}
	w.hang()
	w.hub.start()
	for _, id := range w.order {
		w.boards[id].powerUp()
	}
	for i := range p.Happenings {
		h := &p.Happenings[i]
		w.at(h.At, func() { w.happen(h) })
	}
	w.at(0, w.oracle.look)
	for len(w.oracle.report.Faults) == 0 && w.step(p.Span) {
	}
	if w.end != nil {
		w.end(w)
	}
	r := &w.oracle.report
	r.Span, r.Events, r.Judged = w.now, w.events, map[string]int64{}
	for i, n := range w.oracle.count {
		r.Judged[rules[i]] = n
	}
	return r
}

// tell adds to the story of a control.
func (w *world) tell(of, format string, args ...any) {
	if w.story != nil {
		w.story(of, clock(w.now)+" "+fmt.Sprintf(format, args...))
	}
}

// step takes what is due next, and reports whether there was anything before the end.
func (w *world) step(end time.Duration) bool {
	at := end
	next, more := w.queue.Next()
	if more {
		at = min(at, next)
	}
	wake, wakes := w.hub.wake()
	w.events++
	switch {
	case wakes && wake <= at && wake < end:
		if w.ticks++; wake > w.now {
			w.ticks = 0
		} else if w.ticks > 1000 {
			w.oracle.fault("bounded", "", "the engine wants to be asked again and again at one instant")
			return false
		}
		w.now = max(w.now, wake)
		w.hub.apply(engine.Tick{})
	case more && next < end:
		_, _, f := w.queue.Pop()
		w.now = max(w.now, next)
		f()
	default:
		w.now = end
		return false
	}
	return true
}

// at lets something happen at a time.
func (w *world) at(at time.Duration, f func()) { w.queue.Push(max(at, w.now), f) }

func (w *world) in(d time.Duration, f func()) { w.at(w.now+d, f) }

// random is a source for one part of the world, so that what happens to one changes nothing for the others.
func (w *world) random(of string) *rand.Rand { return random(w.plan.Seed, of) }

func random(seed uint64, of string) *rand.Rand {
	h := seed ^ 0xcbf29ce484222325
	for i := range len(of) {
		h = (h ^ uint64(of[i])) * 0x100000001b3
	}
	return rand.New(rand.NewPCG(seed, h))
}

// Report is what came of a plan.
type Report struct {
	Faults  []Fault
	Span    time.Duration // how far it came
	Events  int64
	Judged  map[string]int64 // how often each rule could be judged
	Effects int              // the most of one input
}

// Fault is a promise that was broken.
type Fault struct {
	At   time.Duration
	Rule string
	Of   string // the control
	What string
}

func (f Fault) String() string {
	return fmt.Sprintf("%s %s: %s: %s", clock(f.At), f.Of, f.Rule, f.What)
}

// clock is a time of a bottle for people: day and time of day.
func clock(at time.Duration) string {
	t := epoch.Add(at)
	return fmt.Sprintf("day %d %s", int(at/(24*time.Hour))+1, t.Format("15:04:05.000"))
}
