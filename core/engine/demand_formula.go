package engine

import (
	"time"

	"idleember/core/control"
	"idleember/core/site"
)

// Whenever demands while a condition holds.
const Whenever site.DemandKind = "formula"

type byFormula struct{}

func (byFormula) name() site.DemandKind                        { return Whenever }
func (byFormula) validate(d site.Demand, _ site.Control) error { return d.Condition.Validate() }
func (byFormula) condition(d site.Demand) site.Condition       { return d.Condition }
func (byFormula) build(b *binder, d *demand)                   { d.cond = b.condition(d.cfg.Condition) }

func (byFormula) demanded(_ *Engine, x *controlled, d *demand) (control.Demanded, time.Duration) {
	return control.Demanded{Is: d.cond.Is, To: d.to(x)}, 0
}

func (byFormula) words(e *Engine, _ *controlled, d *demand) string {
	if d.cfg.Name != "" {
		return d.cfg.Name + ": " + e.formulaWords(d.cond.when)
	}
	return e.formulaWords(d.cond.when)
}
