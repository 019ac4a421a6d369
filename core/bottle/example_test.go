package bottle_test

import (
	"fmt"
	"time"

	"idleember/core/bottle"
)

// Half an hour of a house that was made up from a seed, in virtual time: whatever a rule of it finds broken is a fault.
func ExampleRun() {
	r := bottle.Run(bottle.NewPlan(1, 30*time.Minute, 4, 20))
	fmt.Println(r.Span, len(r.Faults))
	// Output:
	// 30m0s 0
}
