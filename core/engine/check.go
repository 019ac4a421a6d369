package engine

import (
	"idleember/core/fault"
	"idleember/core/formula"
	"idleember/core/site"
)

// CheckFormulas checks all formulas of a part of a site.
func CheckFormulas(s *site.Site, each func(func(place, text string, quantity bool))) (err error) {
	each(func(place, text string, quantity bool) {
		if err != nil {
			return
		}
		parse := formula.Condition
		if quantity {
			parse = formula.Quantity
		}
		if _, e := parse(text, Names(s)); e != nil {
			err = fault.Invalid(place, "%s, “%s”: %s", place, text, e)
		}
	})
	return err
}
