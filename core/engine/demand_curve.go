package engine

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"idleember/core/control"
	"idleember/core/site"
	"idleember/core/words"
)

// Curve demands a level that follows a quantity.
const Curve site.DemandKind = "curve"

type curve struct{}

func (curve) name() site.DemandKind { return Curve }

func (curve) validate(d site.Demand, c site.Control) error {
	if err := isLevel(d, c); err != nil {
		return err
	}
	if len(d.Points) < 2 || len(d.Points) > 50 || !slices.IsSortedFunc(d.Points,
		func(a, b [2]float64) int { return cmp.Compare(a[0], b[0]) }) {
		return fmt.Errorf("a curve needs 2 to 50 points, sorted by the quantity")
	}
	for i, p := range d.Points {
		if p[1] < 0 || p[1] > 100 || i > 0 && p[0] == d.Points[i-1][0] {
			return fmt.Errorf("point %d of the curve is wrong; levels are 0 to 100, and no quantity comes twice", i+1)
		}
	}
	return nil
}

func (curve) build(b *binder, d *demand) { d.of = b.quantity(d.cfg.Of) }

func (curve) demanded(_ *Engine, x *controlled, d *demand) (control.Demanded, time.Duration) {
	v := d.of.value
	if !v.Known {
		return control.Demanded{Is: control.Unknown}, 0
	}
	p := d.cfg.Points
	i := slices.IndexFunc(p, func(q [2]float64) bool { return q[0] >= v.Num })
	var out float64
	switch {
	case i < 0:
		out = p[len(p)-1][1]
	case i == 0:
		out = p[0][1]
	default:
		a, b := p[i-1], p[i]
		out = a[1] + (v.Num-a[0])*(b[1]-a[1])/(b[0]-a[0])
	}
	to := d.level(x, out)
	return control.Demanded{Is: tri(to > 0), To: to}, 0
}

func (curve) aloud(s *site.Site, d site.Demand) words.Fact {
	return words.Of("when.curve", "Of", called(s, d.Of))
}

func (curve) says(e *Engine, x *controlled, d *demand) words.Fact {
	if f := e.missing(d); !f.Empty() {
		return f
	}
	return words.Of("demand.curve", "Name", e.nameOf(d.cfg.Of), "Is", quantity(d.of.value.Num, d.of.f.Unit), "To",
		x.cfg.Told(d.Level))
}
