package engine

import (
	"slices"
	"time"

	"idleember/core/control"
	"idleember/core/site"
)

// lock is an interlock at work. Its state belongs to the control and to the interlock's id: neither an edit nor another
// name, neither silence nor a restart makes it let go.
type lock struct {
	cfg         *site.Interlock
	x           *controlled
	when, until *bound
	due         time.Duration // when what is pending comes about; 0: nothing is
	wake        uint64
	queued      bool
	loaded      bool // it was judged before, here or in an earlier life
	LockState
}

// LockState is what an interlock remembers.
type LockState struct {
	ID string `json:"id"`
	// true: it was true, and its release was not seen; unknown: it was never true, and nobody knows
	Is      control.Tri `json:"is"`
	At      time.Time   `json:"at,omitzero"`
	Latched bool        `json:"latched,omitempty"`
	Pending control.Tri `json:"pending,omitempty"`
	Since   time.Time   `json:"since,omitzero"` // since when that is so
}

// holds reports whether the interlock forces its value.
func (l *lock) holds() bool { return l.Is != control.False || l.Latched }

// force is what the decision sees of it.
func (l *lock) force() control.Tri {
	if l.Latched {
		return control.True
	}
	return l.Is
}

// buildLock makes an interlock of a control, with the state that it had.
func (e *Engine) buildLock(x *controlled, cfg *site.Interlock, old []*lock) {
	l := &lock{cfg: cfg, x: x, when: e.bind(cfg.When), LockState: LockState{ID: cfg.ID}}
	l.when.locks = append(l.when.locks, l)
	if cfg.Until != "" {
		l.until = e.bind(cfg.Until)
		l.until.locks = append(l.until.locks, l)
	}
	if i := slices.IndexFunc(old, func(o *lock) bool { return o.ID == cfg.ID }); i >= 0 {
		was := old[i]
		l.LockState, l.loaded, l.due = was.LockState, was.loaded, was.due
		if l.due > 0 {
			l.wake = e.wakeAt(l.due, wakeLock, x.ID)
		}
	} else {
		l.restore(e, x.Locks)
	}
	l.Latched = l.Latched && cfg.Latch // unless its owner wants it to latch no more
	x.interlocks = append(x.interlocks, l)
}

// restore takes the state that was kept.
func (l *lock) restore(e *Engine, kept []LockState) {
	i := slices.IndexFunc(kept, func(s LockState) bool { return s.ID == l.cfg.ID })
	if i < 0 {
		return
	}
	l.LockState, l.loaded = kept[i], true
	l.Latched = l.Latched && l.cfg.Latch
	if l.Pending == control.Unknown {
		return
	}
	wait := site.Millis(l.cfg.AfterMS)
	if l.Pending == control.False {
		wait = site.Millis(l.cfg.SettleMS)
	}
	if e.now.Trusted {
		wait -= max(0, min(wait, e.now.Wall.Sub(l.Since)))
	}
	l.due = e.now.Mono + wait
	l.wake = e.wakeAt(l.due, wakeLock, l.x.ID)
}

func (e *Engine) queueLock(l *lock) {
	if !l.queued {
		l.queued = true
		e.locked.push(l)
	}
}

// judgeLock brings an interlock up to date with its formulas. One that was true holds until its release was seen, on
// good readings of everything that it names; one that nobody knows holds at once; a latching one latches on a known
// true alone. Long, because it is one decision in its order, and each case names the next.
func (e *Engine) judgeLock(l *lock) {
	when := l.when.value
	set := when.True() || l.when.doubtful.True()
	goal := l.Is
	switch {
	case set:
		goal = control.True
	case l.Is == control.True:
		over := when.False()
		if l.until != nil {
			over = l.until.value.True()
		}
		if over && l.when.allKnown() && l.until.allKnown() {
			goal = control.False
		}
	case when.Known:
		goal = control.False
	default:
		goal = control.Unknown
	}
	wait := time.Duration(0)
	switch {
	case goal == l.Is:
	case goal == control.True:
		wait = site.Millis(l.cfg.AfterMS)
	case goal == control.False && l.loaded:
		wait = site.Millis(l.cfg.SettleMS)
	}
	if !l.loaded {
		l.loaded, l.Is = true, control.False // until now nobody had looked
		if goal == control.Unknown || !when.Known {
			l.Is = control.Unknown
		}
		e.keepLocks(l.x)
	}
	switch {
	case goal == l.Is:
		if l.due > 0 {
			l.due, l.wake, l.Pending, l.Since = 0, 0, control.Unknown, time.Time{}
			e.keepLocks(l.x)
		}
		if set && l.cfg.Latch && !l.Latched && l.Is == control.True {
			l.Latched = true
			e.keepLocks(l.x)
		}
	case wait == 0:
		e.turn(l, goal)
	case l.due == 0 || l.Pending != goal:
		l.due, l.Pending, l.Since = e.now.Mono+wait, goal, e.now.Wall
		l.wake = e.wakeAt(l.due, wakeLock, l.x.ID)
		e.keepLocks(l.x)
	}
}

// allKnown reports whether everything that a formula names is known and beyond doubt.
func (b *bound) allKnown() bool {
	return b == nil || !slices.ContainsFunc(b.points, func(p *point) bool { return !p.value.Known || p.doubt.Known })
}

func (e *Engine) turn(l *lock, is control.Tri) {
	l.due, l.wake, l.Pending, l.Since = 0, 0, control.Unknown, time.Time{}
	l.Is, l.At = is, e.now.Wall
	if is == control.True && l.cfg.Latch {
		l.Latched = true
	}
	e.keepLocks(l.x)
}

func (e *Engine) lockDue(w wake) {
	x := e.controls[w.id]
	if x == nil {
		return
	}
	for _, l := range x.interlocks {
		if l.wake == w.seq {
			e.turn(l, l.Pending)
		}
	}
}

// keepLocks has the state of a control's interlocks kept with what caused it, and the control decided anew, where it is
// another one.
func (e *Engine) keepLocks(x *controlled) {
	var is []LockState
	var latched []string
	for _, l := range x.interlocks {
		is = append(is, l.LockState)
		if l.Latched {
			latched = append(latched, l.ID)
		}
	}
	if slices.Equal(is, x.Locks) && slices.Equal(latched, x.Latched) {
		return
	}
	x.Locks, x.Latched, x.unkept = is, latched, true
	e.mark(x)
}

// reset lets latched interlocks go whose release was seen.
func (e *Engine) reset(in Reset) {
	x := e.controls[in.Control]
	if x == nil {
		return
	}
	gone := false
	for _, l := range x.interlocks {
		if l.Latched && l.Is == control.False {
			l.Latched, gone = false, true
			e.emit(Journal{Actor: in.Actor, Action: "reset", Object: x.ID, Before: l.cfg.Name, After: "free"})
		}
	}
	if gone {
		e.keepLocks(x)
		x.shown = false
	}
}

// carryOver gives interlocks the state that versions kept before their interlocks had ids: latches by name, the rest by
// text.
func (e *Engine) carryOver(x *controlled, c ControlState, conditions map[string]CondState) {
	for _, l := range x.interlocks {
		if slices.Contains(c.Latched, l.cfg.Name) {
			l.Latched, l.Is, l.At = true, control.True, e.now.Wall
			continue
		}
		if s, ok := conditions[condKey(l.cfg.Condition, true)]; ok && s.Is == control.True {
			l.Is, l.At = control.True, s.At
		}
	}
	e.keepLocks(x)
}
