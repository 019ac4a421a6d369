package engine

import (
	"slices"
	"strings"
	"time"

	"idleember/core/alert"
	"idleember/core/site"
	"idleember/core/words"
)

// Saying is a sentence with clocks that run on: since when and until when they count.
type Saying struct {
	Fact         words.Fact
	Since, Until time.Time
}

// Tone is what to make of a state.
type Tone string

// The tones.
const (
	ToneOn   Tone = "on"
	ToneOff  Tone = "off"
	ToneWait Tone = "wait"
	ToneWarn Tone = "warn"
)

// Need is something that needs a person. From is when it begins to; zero: it does.
type Need struct {
	Saying
	What  words.Fact // what it is about
	From  time.Time
	Grave bool
}

const (
	hiccup  = time.Minute    // a board that restarts is away for a moment
	longish = 24 * time.Hour // by hand for longer is worth a look
)

// seen is what a control is, as one says of a thing that one sees.
func seen(c *site.Control, a site.Amount) words.Fact {
	if c.What() == site.Mover {
		return words.Of([]string{"state.is_shut", "state.is_half", "state.is_open"}[min(max(int(a), 0), 2)])
	}
	if c.What() == site.Level {
		return words.Amount(words.Quantity{Num: float64(a), Unit: "%"})
	}
	return c.Told(a)
}

// runs reports whether a control that is so runs: on, above 0 %, not shut.
func runs(c *site.Control, a *site.Amount) Tone {
	on := a != nil && *a > 0
	switch c.What() {
	case site.Choice:
		on = false
	case site.Mover:
		on = a != nil && *a == site.Open
	}
	if on {
		return ToneOn
	}
	return ToneOff
}

// Says is the state of a control in a few words, and what to make of it. Long, because it is one state after the
// other, the first that applies.
func (e *Engine) Says(id string) (Saying, Tone) {
	x := e.controls[id]
	if x == nil {
		return Saying{}, ToneOff
	}
	d := e.devices[x.cfg.Device]
	online, mover := d != nil && d.Online, x.cfg.What() == site.Mover
	plain := func(code string, tone Tone) (Saying, Tone) { return Saying{Fact: words.Of(code)}, tone }
	away := func(code string, tone Tone) (Saying, Tone) {
		if !online && !mover {
			code += "_away"
		}
		return plain(code, tone)
	}
	wants := func(code string, tone Tone) (Saying, Tone) {
		return Saying{Fact: words.Of(code, "To", seen(x.cfg, *x.Want))}, tone
	}
	switch {
	case x.Service != "":
		return plain("state.service", ToneWarn)
	case x.cfg.Momentary != nil:
		switch x.Phase {
		case Pending:
			return plain("state.pulsing", ToneWait)
		case Unconfirmed:
			return plain("state.unconfirmed", ToneWarn)
		case Idle:
			return plain("state.never_pulsed", ToneOff)
		}
		return plain("state.pulsed", ToneOff)
	case x.Phase == Pending && mover && x.Want != nil:
		return plain([]string{"state.closing", "state.stopping", "state.opening"}[min(max(int(*x.Want), 0), 2)], ToneWait)
	case x.Phase == Pending:
		return away("state.pending", ToneWait)
	case x.Phase == Unconfirmed:
		return away("state.unconfirmed", ToneWarn)
	case x.Proof == ProofMissing && x.Want != nil:
		return wants("state.no_effect", ToneWarn)
	case x.Phase == Assumed && x.Want != nil:
		return wants("state.assumed", runs(x.cfg, x.Want))
	case x.Phase == Sent && x.Want != nil:
		return wants("state.sent", runs(x.cfg, x.Want))
	case x.Is == nil:
		return plain("state.unheard", ToneOff)
	}
	is := seen(x.cfg, *x.Is)
	if !online && !mover {
		return Saying{Fact: words.Of("state.last", "Is", is)}, ToneWarn
	}
	tone := runs(x.cfg, x.Is)
	switch {
	case x.Mode == Manual && !x.HandUntil.IsZero():
		return Saying{Fact: words.Of("state.hand_left", "Is", is, "Left", words.Left), Until: x.HandUntil}, tone
	case x.Mode == Manual:
		return Saying{Fact: words.Of("state.hand", "Is", is)}, tone
	case tone == ToneOn && !x.IsSince.IsZero():
		return Saying{Fact: words.Of("state.for", "Is", is, "Age", words.Age), Since: x.IsSince}, tone
	}
	return Saying{Fact: is}, tone
}

// ControlNeeds is what of a control needs a person.
func (e *Engine) ControlNeeds(now Now, id string) (list []Need) {
	x := e.controls[id]
	if x == nil || !e.site.Devices[x.cfg.Device].Active() {
		return nil
	}
	what := words.Said(x.cfg.Name)
	add := func(f words.Fact, grave bool) { list = append(list, Need{Saying{Fact: f}, what, time.Time{}, grave}) }
	if len(x.Latched) > 0 {
		var locks words.Row
		for _, l := range x.interlocks {
			if slices.Contains(x.Latched, l.ID) {
				locks = append(locks, words.Said(l.cfg.Name))
			}
		}
		add(words.Of("needs.latch", "Locks", locks), true)
	}
	if x.Proof == ProofMissing {
		add(words.Of("needs.proof", "Why", e.Reason(now, id)), true)
	}
	if x.Phase == Unconfirmed && x.cfg.Momentary == nil {
		code := "needs.unconfirmed"
		if d := e.devices[x.cfg.Device]; d == nil || !d.Online {
			code += "_away"
		}
		add(words.Of(code), false)
	}
	if x.Mode == Manual && x.HandUntil.IsZero() && x.Want != nil && !x.WantAt.IsZero() {
		list = append(list, Need{Saying{Fact: words.Of("needs.hand", "Is", seen(x.cfg, *x.Want), "Age", words.Age),
			Since: x.WantAt}, what, x.WantAt.Add(longish), false})
	}
	return list
}

// Presence says whether a device is there.
func (e *Engine) Presence(id string) (says Saying, warn bool) {
	d, cfg := e.devices[id], e.site.Devices[id]
	switch {
	case d == nil:
		return Saying{}, false
	case cfg.State == site.Removed:
		return Saying{Fact: words.Of("presence.removed")}, false
	case !cfg.Active():
		return Saying{Fact: words.Of("presence.disabled")}, false
	case d.Asleep:
		return Saying{Fact: words.Of("presence.asleep", "Age", words.Age, "Every", cfg.Wakes()), Since: d.Since}, false
	case d.Online:
		return Saying{Fact: words.Of("presence.online", "Age", words.Age), Since: d.Since}, false
	case d.Since.IsZero():
		return Saying{Fact: words.Of("presence.never")}, true
	}
	return Saying{Fact: words.Of("presence.offline", "Age", words.Age), Since: d.Since}, true
}

// DeviceNeeds is what of a device needs a person.
func (e *Engine) DeviceNeeds(id string) []Need {
	d, cfg := e.devices[id], e.site.Devices[id]
	if d == nil || d.Online || !cfg.Active() || d.Asleep || d.Since.IsZero() {
		return nil
	}
	return []Need{{Saying{Fact: words.Of("needs.away", "Age", words.Age), Since: d.Since}, words.Said(cfg.Name),
		d.Since.Add(hiccup), false}}
}

// SignalNeeds is what of a signal needs a person: its readings are missing, and its device is there.
func (e *Engine) SignalNeeds(id string) []Need {
	s, cfg := e.signals[id], e.site.Signals[id]
	if s == nil || s.Fresh != Stale || cfg.Reports != site.Periodic {
		return nil
	}
	dev := e.site.Devices[cfg.Device]
	if d := e.devices[cfg.Device]; d == nil || !d.Online || d.Asleep || !dev.Active() {
		return nil
	}
	what := words.Said(cfg.Name)
	if p, ok := e.site.Place(dev.Place); ok {
		what = words.Of("needs.of_place", "Place", p.Name, "Name", strings.ToLower(cfg.Name))
	}
	return []Need{{Saying{Fact: words.Of("needs.stale", "Age", words.Age), Since: s.Heard}, what, time.Time{}, false}}
}

// AlertSays is where an alert stands. limit is what it is compared with.
func AlertSays(s *alert.State, value, limit words.Fact) Saying {
	dots := func(a, b words.Fact) words.Fact {
		if a.Empty() || b.Empty() {
			return words.All(a, b)
		}
		return words.Of("stands.dots", "A", a, "B", b)
	}
	switch s.Phase() {
	case alert.Returned:
		return Saying{Fact: words.Of("stands.returned", "Was", s.Value)}
	case alert.Shelved:
		return Saying{Fact: words.Of("stands.shelved", "By", s.ShelvedBy, "Until", s.ShelvedUntil)}
	case alert.OutOfService:
		return Saying{Fact: words.Of("stands.retired", "By", s.OutBy)}
	}
	f := words.All(value, limit)
	if !value.Empty() && !limit.Empty() {
		f = words.Of("stands.comma", "A", value, "B", limit)
	}
	out := Saying{}
	if phase := s.Phase(); phase == alert.Active || phase == alert.Acknowledged {
		if !s.Since.IsZero() {
			f, out.Since = dots(f, words.Of("stands.for", "Age", words.Age)), s.Since
		}
		if s.Times > 1 {
			f = dots(f, words.Of("stands.times", "N", s.Times))
		}
		if phase == alert.Acknowledged {
			acked := words.Of("stands.acknowledged", "By", s.AckedBy)
			if s.Word != "" {
				acked = words.Of("stands.acknowledged_saying", "By", s.AckedBy, "Word", s.Word)
			}
			f = dots(f, acked)
		}
	}
	out.Fact = f
	return out
}
