package engine

import (
	"time"

	"idleember/core/control"
	"idleember/core/formula"
	"idleember/core/reading"
	"idleember/core/site"
	"idleember/core/words"
)

// Tried is what a control would be.
type Tried struct {
	Want words.Fact
	Why  Why
	Uses map[string]words.Fact // every id that the automation looks at, with the value that was taken
}

// Try says what a control would be in auto by a site that need not be in force, with some values in the place of those
// that are. It begins with the state that is: what a demand remembers, an interlock that holds, a rest. Delays are left
// out, and what a function looks back on is taken to have been the same all the time. Nothing changes.
func (e *Engine) Try(now Now, s *site.Site, id string, values map[string]reading.Value) (Tried, bool) {
	cfg, ok := s.Controls[id]
	if !ok {
		return Tried{}, false
	}
	t := New()
	t.now, t.ready = now, true
	t.site, t.zone = s, s.Hub.Location()
	for d := range s.Devices {
		t.devices[d] = &device{DeviceState: DeviceState{ID: d, Online: true}, resume: map[string]time.Duration{}}
	}
	for g := range s.Signals {
		t.signals[g] = &signal{SignalState: SignalState{ID: g, Fresh: Unknown}}
		if have := e.signals[g]; have != nil {
			t.signals[g].SignalState = have.SignalState
		}
	}
	for c := range s.Controls {
		t.controls[c] = &controlled{ControlState: ControlState{ID: c}}
		if have := e.controls[c]; have != nil { // as it is now: what it ran, rests, holds and remembers counts
			x := t.controls[c]
			x.ControlState, x.onSince, x.offSince, x.restUntil = have.snapshot(), have.onSince, have.offSince, have.restUntil
			x.starts, x.ran, x.doing, x.demands = have.starts, have.ran, have.doing, have.demands
		}
	}
	for g := range s.Settings {
		t.settings[g] = &setting{SettingState: SettingState{ID: g, Value: s.Settings[g].Default}}
		if have := e.settings[g]; have != nil {
			t.settings[g].Value = have.Value
		}
	}
	t.build()
	x := t.controls[id]
	x.Mode, x.Hand = Auto, nil
	out := Tried{Uses: map[string]words.Fact{}}
	for _, key := range sorted(t.points) {
		p := t.points[key]
		v, _ := e.valueNow(key)
		if given, ok := values[key]; ok {
			v = valueOf(given)
			t.pretend(key, given)
		}
		t.take(p, v)
		out.Uses[key] = words.Of("unknown")
		if v.Known {
			out.Uses[key] = t.valueFact(p)
		}
	}
	t.settle()
	for _, c := range t.conds { // delays are over
		if c.Pending != control.Unknown {
			c.Is, c.due = c.Pending, 0
			t.mark(x)
		}
	}
	for _, l := range x.interlocks {
		if l.Pending != control.Unknown {
			t.turn(l, l.Pending)
		}
	}
	t.settle()
	out.Why, _ = t.Why(now, id)
	out.Want = words.Of("nothing")
	if x.dec.Has {
		out.Want = cfg.Told(x.dec.Value)
	}
	return out, true
}

// take gives a point and its windows a value that it is taken to have had all the time.
func (e *Engine) take(p *point, v formula.Value) {
	p.value, p.ever, p.heard = v, true, e.now.Mono
	for _, w := range p.windows {
		w.w.Known(e.now.Wall.Add(-w.need.Span - time.Hour))
		if v.Known && v.Kind != site.Text {
			w.w.Add(e.now.Wall.Add(-w.need.Span-time.Hour), v.Num)
		}
	}
	e.touch(p)
}

// pretend lets a signal or setting have a value, so that the reasons name it.
func (e *Engine) pretend(id string, v reading.Value) {
	if s := e.signals[id]; s != nil {
		s.Seen, s.Fresh, s.Value, s.Quality = true, Live, v, reading.Good
	}
	if g := e.settings[id]; g != nil {
		g.Value = site.Amount(v.Num)
	}
}
