package engine

import (
	"fmt"
	"math"
	"time"

	"idleember/core/control"
	"idleember/core/site"
	"idleember/core/words"
)

// Regulate demands the level that keeps a quantity at a setpoint (PI).
const Regulate site.DemandKind = "regulate"

// regulateEvery is how often a regulator looks at its difference, besides when a reading comes.
const regulateEvery = 5 * time.Second

type regulate struct{}

func (regulate) name() site.DemandKind { return Regulate }

func (regulate) validate(d site.Demand, c site.Control) error {
	if err := isLevel(d, c); err != nil {
		return err
	}
	switch {
	case d.Of == "" || d.Target == "":
		return fmt.Errorf("tell what is regulated and to which setpoint")
	case !(d.Gain > 0) || d.Gain > 10_000:
		return fmt.Errorf("the gain is %g; choose how many per cent one unit of difference is worth, up to 10000", d.Gain)
	case d.IntegralMS < 0 || d.IntegralMS > 0 && d.IntegralMS < 1000 || d.IntegralMS > 24*3600_000:
		return fmt.Errorf("the integral time is %d ms; choose 1 s to 24 h, or 0 for none", d.IntegralMS)
	}
	return nil
}

func (regulate) build(b *binder, d *demand) {
	d.of, d.target = b.quantity(d.cfg.Of), b.quantity(d.cfg.Target)
}

func (k regulate) demanded(e *Engine, x *controlled, d *demand) (out control.Demanded, again time.Duration) {
	if out.Is, out.To = k.at(e, x, d); d.moves {
		again = e.now.Mono + e.now.Wall.Truncate(regulateEvery).Add(regulateEvery).Sub(e.now.Wall)
	}
	return out, again
}

// at is a PI regulator in its parallel form, output = gain · (e + 1/T ∫ e dt), with the integral held where the output
// is at its bound and would go further (conditional integration: K. J. Åström and T. Hägglund, Advanced PID Control,
// 2006, section 3.5). While something else decides, the integral follows what is really sent (tracking, ibid.), so that
// it takes over without a jump; but not where the output would be at the same bound anyway. At a bound, or without a
// difference, nothing changes by itself, and it is not looked at before something else does. Long, because it is one
// formula with its bounds.
func (k regulate) at(e *Engine, x *controlled, d *demand) (is control.Tri, to site.Amount) {
	of, target := d.of.value, d.target.value
	if !of.Known || !target.Known {
		d.At, d.moves = time.Time{}, false
		return control.Unknown, 0
	}
	was := d.DemandState
	step, limit := x.dec.Step, x.dec.Limit
	if step == control.Nothing { // after a restart it counts what decided before
		step, limit = x.Step, x.Limit
	}
	own := step == control.Demanding || step == control.Idle
	diff := target.Num - of.Num
	if d.cfg.Cools {
		diff = -diff
	}
	most := d.cfg.Most
	if most == 0 {
		most = 100
	}
	// The integral is put on at whole multiples of regulateEvery only, so that it does not depend on when else somebody
	// looks.
	grid := e.now.Wall.Truncate(regulateEvery)
	if steps := int(grid.Sub(d.At) / regulateEvery); d.At.IsZero() || steps != 0 {
		switch {
		case d.At.IsZero() || d.cfg.IntegralMS == 0:
		case own && limit == control.NoLimit:
			for range min(max(steps, 0), 720) {
				d.Integral += k.step(d, most)
			}
		case x.Want != nil:
			bounded := func(out float64) float64 { return min(max(out, d.cfg.Least), most) }
			if sent := bounded(float64(*x.Want)); math.Abs(sent-bounded(d.cfg.Gain*diff+d.Integral)) >= 1 {
				d.Integral = sent - d.cfg.Gain*diff
			}
		}
		if d.At = grid; was.At.IsZero() || was.moves { // else what is different now counts from the next whole multiple on
			d.Diff = diff
		}
		// nothing is put on for a time in which something else decided, also not after a restart
		if !own || limit != control.NoLimit {
			d.Diff = 0
		}
	}
	to = d.level(x, d.cfg.Gain*diff+d.Integral)
	if was.At.IsZero() || d.Integral != was.Integral || d.Diff != was.Diff || d.Level != was.Level {
		e.keepDemands(x)
	}
	d.moves = !own || x.dec.Limit != control.NoLimit || d.Diff != diff || d.cfg.IntegralMS > 0 && k.step(d, most) != 0
	return tri(to > 0), to
}

// step is what is put on the integral next: nothing where the output is at a bound that it would go further beyond.
func (regulate) step(d *demand, most float64) float64 {
	out := d.cfg.Gain*d.Diff + d.Integral
	step := d.cfg.Gain * d.Diff * float64(regulateEvery) / float64(site.Millis(d.cfg.IntegralMS))
	middle := (most + d.cfg.Least) / 2
	if out+step <= most && out+step >= d.cfg.Least || math.Abs(out+step-middle) < math.Abs(out-middle) {
		return step
	}
	return 0
}

func (regulate) aloud(s *site.Site, d site.Demand) words.Fact {
	return words.Of("when.regulated", "Of", called(s, d.Of), "Target", called(s, d.Target))
}

func (regulate) says(e *Engine, x *controlled, d *demand) words.Fact {
	if f := e.missing(d); !f.Empty() {
		return f
	}
	return words.Of("demand.regulated", "Name", e.nameOf(d.cfg.Of), "Is", quantity(d.of.value.Num, d.of.f.Unit), "Target",
		quantity(d.target.value.Num, d.of.f.Unit), "To", x.cfg.Told(d.Level))
}
