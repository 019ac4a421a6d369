package engine

import (
	"fmt"
	"slices"
	"time"

	"idleember/core/alert"
	"idleember/core/formula"
	"idleember/core/reading"
	"idleember/core/site"
)

// Past runs one alert over recorded values as it would have run live, with its delays, the functions that look back,
// and the time of day. It takes values as they are given; of sessions, stale signals and quality it knows nothing.
type Past struct {
	e          *Engine
	x          *liveAlert
	from, zero time.Time
	open       *alert.Occurrence
	out        []alert.Occurrence
}

// recalled gives a point the value that it had; one that is not known is a gap.
type recalled struct {
	id string
	v  formula.Value
}

func (recalled) input() {}

// NewPast makes ready to try an alert from a time on.
func NewPast(s *site.Site, a site.Alert, from time.Time) (*Past, error) {
	part := (&site.Site{Hub: s.Hub, Places: s.Places, Devices: s.Devices, Signals: s.Signals, Controls: s.Controls,
		Settings: s.Settings}).Clone()
	a.Off = false
	part.Alerts = map[string]*site.Alert{a.ID: &a}
	p := &Past{from: from, zero: from}
	start := func() {
		p.e = New()
		p.e.Apply(Now{Wall: p.zero, Trusted: true}, SiteChanged{part})
		p.x = p.e.liveAlerts[a.ID]
	}
	start()
	for _, id := range p.IDs() {
		for _, w := range p.e.points[id].windows {
			p.zero = earlier(p.zero, from.Add(-w.need.Span))
		}
	}
	start()
	for _, id := range p.IDs() {
		for _, w := range p.e.points[id].windows {
			w.filled = true
			w.w.Known(p.zero)
		}
		if p.e.settings[id] == nil && p.e.signals[id] == nil && Series(part, id) == "" {
			return nil, fmt.Errorf("of %s no history is kept, so that the alert cannot be tried on the past", id)
		}
	}
	p.e.Apply(Now{Wall: p.zero, Trusted: true}, Tick{})
	return p, nil
}

func earlier(a, b time.Time) time.Time {
	if a.Before(b) {
		return a
	}
	return b
}

// IDs are what the alert names, in order.
func (p *Past) IDs() (ids []string) {
	for _, c := range []*cond{p.x.cond, p.x.early} {
		if c == nil {
			continue
		}
		for _, b := range []*bound{c.when, c.until} {
			if b == nil {
				continue
			}
			for _, point := range b.points {
				ids = append(ids, point.id)
			}
		}
	}
	slices.Sort(ids)
	return slices.Compact(ids)
}

// Series is what the history of an id of a formula is kept under; "": none is.
func Series(s *site.Site, id string) string {
	owner, what := id, ""
	if i := len(id) - len(lastPart(id)); i > 0 {
		owner, what = id[:i-1], id[i:]
	}
	switch {
	case s.Signals[id].ID != "" || s.Settings[id].ID != "":
		return id
	case s.Controls[id].ID != "":
		return id + ".is"
	case s.Controls[owner].ID != "" && (what == "is" || what == "want" || what == "mode"):
		return id
	case s.Devices[owner].ID != "" && what == "online":
		return owner
	}
	return ""
}

func lastPart(id string) string {
	for i := len(id) - 1; i >= 0; i-- {
		if id[i] == '.' {
			return id[i+1:]
		}
	}
	return id
}

// Begin is from when on values are needed, so that what looks back is known when the trial begins.
func (p *Past) Begin() time.Time { return p.zero }

// Set tells what something was from a time on; values come in the order of their times. Not known is a gap.
func (p *Past) Set(at time.Time, id string, v reading.Value, known bool) {
	p.Pass(at)
	x := recalled{id: id}
	if known {
		x.v = valueOf(v)
	}
	p.apply(at, x)
}

// Pass lets the time go by until a time, as Set and Finish do. Whoever may be called off does it in steps.
func (p *Past) Pass(until time.Time) {
	for {
		at, ok := p.e.NextWake()
		wall := p.zero.Add(at)
		if !ok || !wall.Before(until) {
			return
		}
		if now := p.zero.Add(p.e.now.Mono); wall.Before(now) {
			wall = now
		}
		p.apply(wall, Tick{})
	}
}

func (p *Past) apply(at time.Time, in Input) {
	p.e.Apply(Now{Wall: at, Mono: at.Sub(p.zero), Trusted: true}, in)
	switch {
	case p.x.Up && p.open == nil:
		p.open = &alert.Occurrence{From: at.UnixMilli()}
	case !p.x.Up && p.open != nil:
		p.close(at, false)
	}
}

func (p *Past) close(at time.Time, still bool) {
	o := *p.open
	o.From, o.To, o.Open = max(o.From, p.from.UnixMilli()), at.UnixMilli(), still
	if p.open = nil; at.After(p.from) {
		p.out = append(p.out, o)
	}
}

// Finish returns when the alert would have been active until a time.
func (p *Past) Finish(to time.Time) []alert.Occurrence {
	p.Pass(to)
	if p.open != nil {
		p.close(to, true)
	}
	return p.out
}

// recall is a value of the past.
func (e *Engine) recall(in recalled) {
	p := e.points[in.id]
	if p == nil {
		return
	}
	p.ever, p.heard = true, e.now.Mono
	e.set(p, in.v)
	if in.v.Known && in.v.Kind != site.Text {
		e.sample(p, e.now.Wall, in.v.Num)
	}
}
