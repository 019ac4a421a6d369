package fault_test

import (
	"errors"
	"fmt"

	"idleember/core/fault"
)

func Example() {
	fmt.Println(fault.NotFound("signal", "kiln.chambr", "kiln.chamber", "kiln.door"))
	err := fault.Invalid("until", "%d hours are too long", 900)
	var bad *fault.InvalidError
	fmt.Println(errors.As(err, &bad), bad.Field, err)
	// Output:
	// there is no signal called "kiln.chambr"; did you mean kiln.chamber or kiln.door?
	// true until 900 hours are too long
}
