package engine

import (
	"time"

	"idleember/core/access"
	"idleember/core/calendar"
	"idleember/core/control"
	"idleember/core/site"
)

// mover is a door, blind or valve: a control that other controls move.
type mover struct {
	cfg                   *site.Travel
	opens, closes, pulses *controlled
	isOpen, isClosed      *cond
	goal                  site.Amount   // where it is going
	moving                bool          // an output is on, or a pulse was given
	until                 time.Duration // when the travel must be over
	stopped               time.Duration // when an output last went off
	ever                  bool          // one did
	wake                  uint64
	quiet                 bool // after a start nothing moves by itself before something new is decided
	failed                bool
}

func (e *Engine) buildMover(x *controlled) {
	t := x.auto.Travel
	m := &mover{cfg: t, opens: e.controls[t.Opens], closes: e.controls[t.Closes], pulses: e.controls[t.Pulses], quiet: true}
	if x.Want != nil {
		m.goal = *x.Want
	}
	for _, o := range []*controlled{m.opens, m.closes, m.pulses} {
		if o != nil {
			o.moves, o.driven = x, 0
		}
	}
	end := func(formula string) *cond {
		if formula == "" {
			return nil
		}
		c := e.condition(site.Condition{When: formula}, false)
		c.controls = append(c.controls, x)
		return c
	}
	m.isOpen, m.isClosed = end(t.IsOpen), end(t.IsClosed)
	x.mover = m
}

// at reports whether the end contact of a goal is made; known is false where there is none or nobody knows.
func (m *mover) at(goal site.Amount) (there, known bool) {
	c := m.isOpen
	if goal == site.Close {
		c = m.isClosed
	}
	if c == nil || c.Is == control.Unknown {
		return false, false
	}
	return c.Is == control.True, true
}

// place is where the end contacts say that the mover is.
func (m *mover) place() (site.Amount, bool) {
	open, knowsOpen := m.at(site.Open)
	closed, knowsClosed := m.at(site.Close)
	switch {
	case open && !closed:
		return site.Open, true
	case closed && !open:
		return site.Close, true
	case !knowsOpen && !knowsClosed:
		return 0, false
	case m.isClosed == nil && knowsOpen || m.isOpen == nil && knowsClosed: // one contact: the other end is not that one
		if m.moving {
			return site.Stop, true
		}
		if m.isOpen == nil {
			return site.Open, true
		}
		return site.Close, true
	}
	return site.Stop, true
}

// move drives the outputs of a mover to where it should be.
func (e *Engine) move(x *controlled, want site.Amount) {
	m := x.mover
	fresh := x.Want == nil || *x.Want != want || x.again
	m.goal = want
	if fresh {
		x.again = false
		before := wanted(x)
		by := access.HubActor()
		if x.dec.Step == control.ByHand {
			by = x.HandBy
		}
		e.want(x, want, by)
		m.failed = false
		x.Step, x.Reason = x.dec.Step, e.reason(x)
		if by.Kind == access.TheHub && before != x.cfg.Say(want) {
			e.emit(Journal{Actor: by, Action: "switch", Object: x.ID, Before: before, After: x.cfg.Say(want), Reason: x.Reason})
		}
		x.Phase = Pending
		m.quiet = false
	}
	if m.quiet && x.Mode == Auto {
		m.quiet = false // decided afresh
	}
	switch there, known := m.at(want); {
	case want == site.Stop, m.quiet:
		e.drive(x, 0, 0)
		m.moving = false
		e.arrive(x, true)
	case known && there:
		e.drive(x, 0, 0)
		m.moving = false
		e.arrive(x, true)
	case m.failed:
		e.drive(x, 0, 0)
	case m.pulses != nil:
		if fresh && !m.moving {
			m.moving, m.until = true, e.now.Mono+site.Millis(m.cfg.TravelMS)*3/2
			m.wake = e.wakeAt(m.until, wakeMover, x.ID)
			e.pulse(m.pulses, x.WantBy)
		}
	case m.moving && (want == site.Open) == (m.opens.driven > 0):
		if e.now.Mono >= m.until {
			e.travelled(x)
		}
	case x.Phase == Confirmed && !fresh && !known: // it was run for its travel time, and no contact says else
	default:
		e.start(x, want)
	}
	e.emit(ControlChanged{x.ControlState})
}

// start lets the output of a goal go on, after the pause that reversing needs.
func (e *Engine) start(x *controlled, want site.Amount) {
	m := x.mover
	on, other := m.opens, m.closes
	if want == site.Close {
		on, other = m.closes, m.opens
	}
	pause := site.DefaultPause
	if m.cfg.PauseMS > 0 {
		pause = site.Millis(m.cfg.PauseMS)
	}
	if other.driven > 0 || on.driven == 0 && m.moving {
		e.drive(x, 0, 0)
		m.moving = false
	}
	if other.running() || m.ever && e.now.Mono < m.stopped+pause {
		m.wake = e.wakeAt(max(m.stopped+pause, e.now.Mono+100*time.Millisecond), wakeMover, x.ID)
		return
	}
	m.moving = true
	length := site.Millis(m.cfg.TravelMS)
	if m.isOpen != nil && want == site.Open || m.isClosed != nil && want == site.Close {
		length = length * 3 / 2 // the contact ends it; a cold motor is slower
	}
	m.until = e.now.Mono + length
	m.wake = e.wakeAt(m.until, wakeMover, x.ID)
	if want == site.Open {
		e.drive(x, 1, 0)
	} else {
		e.drive(x, 0, 1)
	}
}

// drive tells the outputs what to be; never both on.
func (e *Engine) drive(x *controlled, opens, closes site.Amount) {
	m := x.mover
	if m.pulses != nil {
		return
	}
	if m.opens.driven > 0 && opens == 0 || m.closes.driven > 0 && closes == 0 {
		m.stopped, m.ever = e.now.Mono, true
	}
	m.opens.driven, m.closes.driven = opens, closes
	e.mark(m.opens)
	e.mark(m.closes)
}

// travelled ends a travel whose time is over: without a contact it is there now; with one that was not made something is
// wrong, and nothing moves until somebody wants something new.
func (e *Engine) travelled(x *controlled) {
	m := x.mover
	m.moving = false
	e.drive(x, 0, 0)
	if there, known := m.at(m.goal); known && !there || m.pulses != nil && !known {
		m.failed = true
		x.Phase = Unconfirmed
		x.Reason = "did not get to " + x.cfg.Say(m.goal) + " within " + calendar.Words(site.Millis(m.cfg.TravelMS)*3/2) + "; it was stopped, look at it"
		e.emit(Journal{Actor: access.HubActor(), Action: "unconfirmed", Object: x.ID, After: x.cfg.Say(m.goal), Reason: x.Reason})
		e.emit(Message{Object: x.ID, Grave: true, Text: x.cfg.Name + " " + x.Reason})
		return
	}
	goal := m.goal
	x.Is, x.IsAt, x.IsSince = &goal, e.now.Wall, e.now.Wall
	e.arrive(x, true)
	e.controlPoints(x)
}

func (e *Engine) arrive(x *controlled, there bool) {
	if there && x.Phase != Confirmed {
		x.Phase = Confirmed
	}
}

// place takes what a mover is from its end contacts, and reports whether that changed.
func (e *Engine) place(x *controlled) bool {
	at, ok := x.mover.place()
	if !ok || x.Is != nil && *x.Is == at {
		return false
	}
	x.Is, x.IsAt, x.IsSince = &at, e.now.Wall, e.now.Wall
	e.controlPoints(x)
	return true
}

func (e *Engine) moverDue(w wake) {
	x := e.controls[w.id]
	if x == nil || x.mover == nil || x.mover.wake != w.seq {
		return
	}
	x.mover.wake = 0
	if m := x.mover; m.pulses != nil && m.moving && e.now.Mono >= m.until {
		m.moving = false
		if there, _ := m.at(m.goal); !there && m.goal != site.Stop {
			e.travelled(x)
			e.emit(ControlChanged{x.ControlState})
		}
		return
	}
	e.mark(x)
}
