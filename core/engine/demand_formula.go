package engine

import (
	"time"

	"idleember/core/control"
	"idleember/core/site"
	"idleember/core/words"
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

func (byFormula) aloud(_ *site.Site, d site.Demand) words.Fact {
	return words.Of("when.formula", "When", conditionAloud(d.Condition))
}

func (byFormula) says(e *Engine, _ *controlled, d *demand) words.Fact {
	return named(d.cfg.Name, e.formulaFact(d.cond.when))
}
