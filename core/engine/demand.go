package engine

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"idleember/core/control"
	"idleember/core/site"
	"idleember/core/words"
)

// demandKinds are the kinds of demands, a file each.
var demandKinds = []demandKind{holdAbove, holdBelow, scheduled{}, dayLength{}, byFormula{}, exercise{}, curve{},
	regulate{}}

// demandKind is what demands of a kind are at each step of their lives.
type demandKind interface {
	name() site.DemandKind
	// validate says in a sentence what is wrong with one, but for its formulas.
	validate(d site.Demand, c site.Control) error
	// build binds what it looks at.
	build(b *binder, d *demand)
	// demanded is what it comes to, and when it must be looked at again; the zero value: not by the clock.
	demanded(e *Engine, x *controlled, d *demand) (control.Demanded, time.Duration)
	// aloud is when it asks, as a part of a sentence.
	aloud(s *site.Site, d site.Demand) words.Fact
	// says what it looks at, with its numbers.
	says(e *Engine, x *controlled, d *demand) words.Fact
}

// A kind may also know more.
type (
	// conditioned kinds are a condition: what it is tells how one thing influences another.
	conditioned interface {
		condition(d site.Demand) site.Condition
	}
	// planned kinds know what is coming.
	planned interface {
		// upcoming is what will run in [from, to).
		upcoming(e *Engine, x *controlled, d *demand, from, to time.Time) []Upcoming
	}
	// turning kinds know when they turn next.
	turning interface {
		turns(d *demand) (at time.Time, on bool)
	}
	// timed kinds are unknown while the clock is not believed.
	timed interface{ timed() }
)

func kindOf(k site.DemandKind) demandKind {
	if i := slices.IndexFunc(demandKinds, func(x demandKind) bool { return x.name() == k }); i >= 0 {
		return demandKinds[i]
	}
	return nil
}

// CheckAutomation says in a sentence what is wrong with the automation of a control, or returns nil. It does not look
// into formulas.
func CheckAutomation(s *site.Site, c site.Control, a *site.Automation) error {
	for i, d := range a.Demands {
		if err := checkDemand(d, c); err != nil {
			return fmt.Errorf("demand %d: %w", i+1, err)
		}
	}
	return a.Validate(s, c)
}

func checkDemand(d site.Demand, c site.Control) error {
	if d.To != nil {
		if err := c.Check(*d.To); err != nil {
			return err
		}
	}
	k := kindOf(d.Kind)
	if k == nil {
		var names []string
		for _, k := range demandKinds {
			names = append(names, string(k.name()))
		}
		last := len(names) - 1
		return fmt.Errorf("the demand %q is unknown; use %s or %s", d.Kind, strings.Join(names[:last], ", "), names[last])
	}
	return k.validate(d, c)
}

// demand is one demand of a control's auto.
type demand struct {
	kind     demandKind
	cfg      *site.Demand
	cond     *cond  // what it waits for
	of       *bound // the quantity that it follows
	target   *bound // the setpoint, or the hours
	schedule timetable
	DemandState
}

// DemandState is what a demand remembers.
type DemandState struct {
	Key      string      `json:"key"`
	First    time.Time   `json:"first,omitzero"`    // day length: the day's first daylight
	Began    time.Time   `json:"began,omitzero"`    // exercise: when the present run began
	Integral float64     `json:"integral,omitzero"` // regulate
	Diff     float64     `json:"diff,omitzero"`     // regulate: the difference since then
	Level    site.Amount `json:"level,omitzero"`    // curve, regulate: what it demanded last
	At       time.Time   `json:"at,omitzero"`       // regulate: when the integral was last put on
	moves    bool        // regulate: it is looked at when it is time to put it on again
}

// DemandsState is what the demands of a control remember. It is kept apart from the control's own state, because a
// regulator remembers something new every few seconds.
type DemandsState struct {
	Control string        `json:"control"`
	Demands []DemandState `json:"demands"`
}

// recall takes back what a demand remembers, where it is among that of its control.
func (d *demand) recall(list []DemandState) {
	if i := slices.IndexFunc(list, func(s DemandState) bool { return s.Key == d.Key }); i >= 0 {
		d.DemandState = list[i]
	}
}

func (d *demand) key() string { return asKey(*d.cfg) }

func asKey(d site.Demand) string {
	return fmt.Sprintf("%s|%s|%s|%s|%s|%g|%d", d.Kind, d.Of, d.Target, d.Daylight, d.When, d.Gain, d.EveryMS)
}

// binder binds what a demand of a control looks at.
type binder struct {
	e *Engine
	x *controlled
}

func (b *binder) quantity(text string) *bound {
	q := b.e.bind(text)
	q.controls = append(q.controls, b.x)
	return q
}

func (b *binder) condition(cfg site.Condition) *cond {
	c := b.e.condition(cfg)
	c.controls = append(c.controls, b.x)
	return c
}

func (e *Engine) buildDemand(x *controlled, cfg *site.Demand) *demand {
	d := &demand{cfg: cfg, kind: kindOf(cfg.Kind)}
	d.Key = d.key()
	if d.kind == nil { // kept by another version; it asks for nothing
		d.kind = unknownKind{}
	}
	d.kind.build(&binder{e, x}, d)
	return d
}

func tri(on bool) control.Tri {
	if on {
		return control.True
	}
	return control.False
}

// to is what the demand asks for where it is true.
func (d *demand) to(x *controlled) site.Amount {
	if d.cfg.To != nil {
		return *d.cfg.To
	}
	return x.cfg.Full()
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// keepDemands has the store remember what the demands of a control remember.
func (e *Engine) keepDemands(x *controlled) {
	var list []DemandState
	for _, d := range x.demands {
		if s := d.DemandState; !s.First.IsZero() || !s.Began.IsZero() || !s.At.IsZero() {
			list = append(list, s)
		}
	}
	e.emit(Keep{keptDemands, x.ID, DemandsState{x.ID, list}})
}

// startAbove is how far above its lowest running level a level must be asked for before it starts, in per cent.
const startAbove = 2

// level bounds an output, rounds it to whole per cent, and leaves it where the difference is not worth telling.
func (d *demand) level(x *controlled, out float64) site.Amount {
	most := d.cfg.Most
	if most == 0 {
		most = 100
	}
	out = min(max(out, d.cfg.Least), most)
	if lowest := float64(x.cfg.Lowest); lowest > 0 && (out < lowest || d.Level == 0 && out < lowest+startAbove) {
		out = 0 // it starts a little above the level at which it stops
	}
	if math.Abs(out-float64(d.Level)) >= 1 || out == 0 || out == most {
		d.Level = site.Amount(math.Round(out))
	}
	return d.Level
}

// isLevel says that a kind needs a level, and what is wrong with its bounds.
func isLevel(d site.Demand, c site.Control) error {
	switch {
	case c.What() != site.Level:
		return fmt.Errorf("%s is no level; a %s demand needs one", c.Name, d.Kind)
	case d.Least < 0 || d.Most < 0 || d.Most > 100 || d.Most > 0 && d.Least > d.Most:
		return fmt.Errorf("the level is bounded by %g and %g; choose 0 to 100, the least first", d.Least, d.Most)
	}
	return nil
}

// missing names what a level does not know; nothing where it knows all.
func (e *Engine) missing(d *demand) words.Fact {
	for _, b := range []*bound{d.of, d.target} {
		if b != nil && !b.value.Known {
			return words.Of("demand.unknown", "Name", e.nameOf(b.f.Text))
		}
	}
	return words.Fact{}
}

// unknownKind stands for a kind that this version does not know.
type unknownKind struct{}

func (unknownKind) name() site.DemandKind                    { return "" }
func (unknownKind) validate(site.Demand, site.Control) error { return nil }
func (unknownKind) build(*binder, *demand)                   {}
func (unknownKind) aloud(_ *site.Site, d site.Demand) words.Fact {
	return words.Of("when.strange", "Kind", string(d.Kind))
}

func (unknownKind) says(*Engine, *controlled, *demand) words.Fact { return words.Of("demand.strange") }

func (unknownKind) demanded(_ *Engine, x *controlled, d *demand) (control.Demanded, time.Duration) {
	return control.Demanded{To: d.to(x)}, 0
}

// demandFact says what a demand of a control looks at, with its numbers.
func (e *Engine) demandFact(x *controlled, i int) words.Fact {
	return x.demands[i].kind.says(e, x, x.demands[i])
}

// monoOf is the monotonic time at which a demand is looked at again, at least once a minute; 0 for no time.
func (e *Engine) monoOf(wall time.Time) time.Duration {
	if wall.IsZero() {
		return 0
	}
	return e.mono(wall)
}
