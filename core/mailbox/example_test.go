package mailbox_test

import (
	"fmt"
	"time"

	"idleember/core/engine"
	"idleember/core/mailbox"
)

// A device that was busy hears the newest want of each control, not all that there were.
func ExampleBox_Take() {
	var b mailbox.Box
	b.Name("kiln.fan", "fan")
	b.Want(engine.Want{Control: "kiln.fan", Value: 1, Rev: 1})
	b.Want(engine.Want{Control: "kiln.fan", Value: 0, Rev: 2})
	for _, w := range b.Take(time.Now()).Wants {
		fmt.Println(w.Raw, w.Value)
	}
	// Output:
	// fan 0
}
