package engine

import (
	"time"

	"idleember/core/access"
	"idleember/core/control"
	"idleember/core/site"
	"idleember/core/words"
)

// mover is a door, blind or valve: a control that other controls move. It belongs to the control, not to the building
// of a site: a change of the site in the middle of a travel changes nothing.
type mover struct {
	cfg                   *site.Travel
	opens, closes, pulses *controlled
	isOpen, isClosed      *cond
	until                 time.Duration // when the travel must be over
	stopped               time.Duration // when an output last went off
	ever                  bool          // one did
	wake                  uint64
	quiet                 bool // after a start nothing moves by itself before something new is decided
}

// MoverState is what a mover remembers.
type MoverState struct {
	Goal   site.Amount `json:"goal"` // where it is going
	Moving bool        `json:"moving,omitempty"`
	Failed bool        `json:"failed,omitempty"` // it did not get there; nothing moves it until somebody wants something
	Over   bool        `json:"over,omitempty"`   // an interlock overrules what is wanted
	// what was wanted when an interlock or a lock let go: that alone moves it not
	Stayed *site.Amount `json:"stayed,omitempty"`
}

func (e *Engine) buildMover(x *controlled) {
	t := x.auto.Travel
	m := x.mover
	outputs := [3]*controlled{e.controls[t.Opens], e.controls[t.Closes], e.controls[t.Pulses]}
	if m != nil && outputs != [3]*controlled{m.opens, m.closes, m.pulses} {
		m, x.Mover = nil, nil
	}
	if m == nil {
		m = &mover{quiet: true}
		if x.Mover == nil {
			x.Mover = &MoverState{Goal: site.Stop}
		}
	}
	m.cfg, m.opens, m.closes, m.pulses, m.isOpen, m.isClosed = t, outputs[0], outputs[1], outputs[2], nil, nil
	for _, o := range outputs {
		if o != nil {
			if o.moves = x; !x.Mover.Moving {
				o.driven = 0
			}
		}
	}
	end := func(formula string) *cond {
		if formula == "" {
			return nil
		}
		c := e.condition(site.Condition{When: formula})
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
	if c == nil || c.Is == control.Unknown || goal == site.Stop {
		return false, false
	}
	return c.Is == control.True, true
}

// place is where the end contacts say that the mover is.
func (m *mover) place(moving bool) (site.Amount, bool) {
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
		if moving {
			return site.Stop, true
		}
		if m.isOpen == nil {
			return site.Open, true
		}
		return site.Close, true
	}
	return site.Stop, true
}

// stay leaves a mover where it is when an interlock ends, until something else is wanted or somebody wants something
// anew.
func (e *Engine) stay(x *controlled, dec *control.Decision) {
	s, m := x.Mover, x.mover
	switch {
	case !dec.Has || dec.Step == control.OutOfWork || dec.Step == control.Leaving:
		return
	case dec.Step == control.Interlocked:
		s.Over, s.Stayed = true, nil
	case s.Over:
		s.Over = false
		if own := dec.Asked; x.Want != nil && own != *x.Want && !m.cfg.GoOn {
			s.Stayed = &own
		}
	}
	if s.Stayed != nil && dec.Step != control.Interlocked {
		// what it is held at because it chattered is nothing that is wanted
		if x.again || dec.Asked != *s.Stayed || x.Want == nil {
			s.Stayed = nil
		} else {
			dec.Keep(*x.Want, control.Stays)
		}
	}
}

// stands leaves a mover that was locked or to be taken away, or whose motor was, where it stopped: it does not go on to
// where somebody wanted it before, unless they want it anew.
func (e *Engine) stands(x *controlled) {
	if x.Service != control.InService || x.leaving {
		return
	}
	if x.moves != nil {
		x = x.moves
		e.mark(x)
	}
	if x.mover == nil || x.Hand == nil || x.Want == nil {
		return
	}
	if there, _ := x.mover.at(*x.Hand); there {
		return
	}
	if x.Phase == Assumed { // it was there before, for all that is known
		x.again = false
		return
	}
	own := *x.Hand
	e.want(x, site.Stop, access.HubActor())
	x.Mover.Stayed, x.again = &own, false
}

// halt stops a mover that is locked or taken away; what is on its way of a pulse ends.
func (e *Engine) halt(x *controlled) {
	m := x.mover
	if x.Mover.Moving {
		x.Mover.Moving = false
		x.Phase, x.Reason = Unconfirmed, words.Of("mover.stopped")
		x.unkept = true
	}
	e.lookOnce(x)
	e.drive(x, 0, 0)
	if m.pulses != nil && m.pulses.Pulse.Running {
		e.cutPulse(m.pulses, words.Of("pulse.door"))
	}
}

// held says why a mover cannot move now; nothing where it can.
func (m *mover) held() words.Fact {
	for _, o := range []*controlled{m.opens, m.closes, m.pulses} {
		if o != nil && o.Service != control.InService {
			return words.Of("mover.service", "Name", o.cfg.Name)
		}
		if o != nil && o.leaving {
			return words.Of("mover.leaving", "Name", o.cfg.Name)
		}
	}
	if m.pulses == nil && (m.opens == nil || m.closes == nil) {
		return words.Of("mover.output")
	}
	return words.Fact{}
}

// move drives the outputs of a mover to where it should be. Long, because it is one decision in its order, and each
// case names the next.
func (e *Engine) move(x *controlled, want site.Amount) {
	m, s := x.mover, x.Mover
	was, phase, reason := *s, x.Phase, x.Reason
	fresh := x.Want == nil || *x.Want != want || x.again
	if x.Want != nil && *x.Want != want && e.chatters(x, x.dec) {
		return // decided again, at once
	}
	if fresh {
		x.again = false
		before := wanted(x)
		by := access.HubActor()
		if x.dec.Step == control.ByHand {
			by = x.HandBy
		}
		e.want(x, want, by)
		s.Failed = false
		x.Step, x.Reason = x.dec.Step, e.reason(x)
		x.told = x.Reason
		if by.Kind == access.TheHub && before != x.cfg.Say(want) {
			e.emit(Journal{Actor: by, Action: "switch", Object: x.ID, Before: before, After: x.cfg.Say(want), Reason: x.Reason})
		}
		x.Phase = Pending
		m.quiet = false
	} else if !x.shown && x.dec.Limit == control.Stays {
		x.shown = true
		x.Step, x.Reason = x.dec.Step, e.reason(x)
		x.told = x.Reason
	}
	s.Goal = want
	if m.quiet && x.Mode == Auto && x.dec.Step != control.Waiting {
		m.quiet = false // decided afresh
	}
	there, known := m.at(want)
	locked := x.dec.Step == control.Interlocked
	switch held := m.held(); {
	case m.pulses != nil && locked:
		s.Moving = s.Moving && e.now.Mono < m.until
		x.Phase = Unconfirmed
		if known && there {
			x.Phase = Confirmed
		} else {
			x.Reason = words.Of("mover.button", "Why", e.reason(x))
		}
	case !held.Empty():
		e.standStill(x)
		x.Phase, x.Reason = Unconfirmed, held
	case want == site.Stop:
		e.standStill(x)
		x.Phase = m.stoppedPhase()
	case known && there:
		e.standStill(x)
		x.Phase = Confirmed
		if s.Failed {
			s.Failed, x.Reason = false, e.reason(x)
		}
	case m.quiet:
		if x.Phase == Pending {
			x.Phase = Unconfirmed
			x.Reason = words.Of("mover.restart", "To", x.cfg.Told(want))
		}
	case s.Failed:
		e.drive(x, 0, 0)
	case m.pulses != nil:
		if fresh && !s.Moving {
			s.Moving, m.until = true, e.now.Mono+site.Millis(m.cfg.TravelMS)*3/2
			m.wake = e.wakeAt(m.until, wakeMover, x.ID)
			e.pulse(m.pulses, x.WantBy)
		}
	case s.Moving && (want == site.Open) == (m.opens.driven > 0):
		if e.now.Mono >= m.until {
			e.travelled(x)
		}
	// it was run for its travel time, and no contact says else
	case (x.Phase == Confirmed || x.Phase == Assumed) && !fresh && !known:
	default:
		e.start(x, want)
	}
	e.lookOnce(x)
	if x.Phase != phase || !x.Reason.Equal(reason) || was.Goal != s.Goal || was.Moving != s.Moving ||
		was.Failed != s.Failed ||
		fresh {
		x.unkept = true
	}
}

// lookOnce takes back what was confirmed where no contact shows it any more.
func (e *Engine) lookOnce(x *controlled) {
	if x.Phase != Confirmed || x.Want == nil || *x.Want == site.Stop {
		return
	}
	if there, known := x.mover.at(*x.Want); !there {
		x.Phase, x.unkept = Assumed, true
		if known { // somebody moved it
			x.Phase = Unconfirmed
		}
	}
}

func (e *Engine) standStill(x *controlled) {
	e.drive(x, 0, 0)
	x.Mover.Moving = false
}

// stoppedPhase is how far a stop has come: as far as that of its outputs.
func (m *mover) stoppedPhase() Phase {
	if m.pulses != nil {
		return Unconfirmed
	}
	for _, o := range []*controlled{m.opens, m.closes} {
		switch {
		case o == nil:
			return Unconfirmed
		case o.Want != nil && *o.Want > 0 || o.Phase == Pending:
			return Pending
		case o.Phase == Unconfirmed:
			return Unconfirmed
		case o.Phase == Sent:
			return Sent
		}
	}
	return Confirmed
}

// start lets the output of a goal go on, after the pause that reversing needs.
func (e *Engine) start(x *controlled, want site.Amount) {
	m, s := x.mover, x.Mover
	other := m.closes
	if want == site.Close {
		other = m.opens
	}
	pause := site.DefaultPause
	if m.cfg.PauseMS > 0 {
		pause = site.Millis(m.cfg.PauseMS)
	}
	e.standStill(x)
	if m.ever && e.now.Mono < m.stopped+pause {
		m.wake = e.wakeAt(m.stopped+pause, wakeMover, x.ID)
		return
	}
	if other.running() { // looked at again when it is known to be off
		return
	}
	if e.count(x) {
		return
	}
	x.Phase, s.Moving = Pending, true
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
	if m.pulses != nil || m.opens == nil || m.closes == nil {
		return
	}
	if m.opens.driven > 0 && opens == 0 || m.closes.driven > 0 && closes == 0 {
		m.stopped, m.ever = e.now.Mono, true
	}
	if m.opens.driven == opens && m.closes.driven == closes {
		return
	}
	m.opens.driven, m.closes.driven = opens, closes
	e.mark(m.opens)
	e.mark(m.closes)
}

// travelled ends a travel whose time is over, and whose contact is not made: without a contact it is taken to be there;
// with one, or where the motor never answered, something is wrong, and nothing moves until somebody wants something
// new.
func (e *Engine) travelled(x *controlled) {
	m, s := x.mover, x.Mover
	_, known := m.at(s.Goal)
	ran := m.pulses
	if ran == nil {
		ran = m.opens
		if s.Goal == site.Close {
			ran = m.closes
		}
	}
	deaf := m.pulses == nil && ran.cfg.Answers && ran.Phase != Confirmed
	e.standStill(x)
	x.unkept = true
	if known || m.pulses != nil || deaf {
		s.Failed = true
		x.Phase = Unconfirmed
		x.Reason = words.Of("mover.stuck", "To", x.cfg.Told(s.Goal), "Within", site.Millis(m.cfg.TravelMS)*3/2)
		if deaf {
			x.Reason = words.Of("mover.deaf", "To", x.cfg.Told(s.Goal))
		}
		e.emit(Journal{Actor: access.HubActor(), Action: "unconfirmed", Object: x.ID, After: x.cfg.Say(s.Goal),
			Reason: x.Reason})
		e.emit(Message{Object: x.ID, Grave: true, Text: words.Of("mover.message", "Name", x.cfg.Name, "Why", x.Reason)})
		return
	}
	goal := s.Goal
	x.Is, x.IsAt, x.IsSince = &goal, e.now.Wall, e.now.Wall
	x.Phase = Assumed
	e.controlPoints(x)
}

// place takes what a mover is from its end contacts, and reports whether that changed.
func (e *Engine) place(x *controlled) bool {
	at, ok := x.mover.place(x.Mover.Moving)
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
	m, s := x.mover, x.Mover
	m.wake = 0
	if m.pulses != nil && s.Moving && e.now.Mono >= m.until {
		if there, _ := m.at(s.Goal); !there && s.Goal != site.Stop {
			e.travelled(x)
		}
	}
	e.mark(x)
}
