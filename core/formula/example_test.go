package formula_test

import (
	"fmt"
	"time"

	"idleember/core/formula"
	"idleember/core/site"
)

type signals map[string]formula.Name

func (s signals) Name(id string) (formula.Name, []string, bool) {
	n, ok := s[id]
	return n, site.Nearest(id, []string{"kiln.chamber"}), ok
}

func ExampleCondition() {
	names := signals{"kiln.chamber": {Kind: site.Number, Unit: "Cel"}}
	f, err := formula.Condition("kiln.chamber > 120", names)
	fmt.Println(f.IDs, err)
	fmt.Println(f.Eval(&formula.Env{Values: []formula.Value{formula.Number(140)}, Ages: []time.Duration{0}}).True())
	_, err = formula.Condition("kiln.chambre > 120", names)
	fmt.Println(err)
	// Output:
	// [kiln.chamber] <nil>
	// true
	// at character 1: there is no kiln.chambre; did you mean kiln.chamber?
}
