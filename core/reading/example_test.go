package reading_test

import (
	"fmt"
	"time"

	"idleember/core/reading"
)

// What a board sends in one message, each value with its name.
func ExampleMessage() {
	named, faults, err := reading.Message([]byte(`{"chamber":21.40,"lid":"shut","t":1795413600}`), time.Unix(1795413601,
		0))
	for _, n := range named {
		fmt.Println(n.Name, n.Value, n.At.UTC().Format(time.RFC3339))
	}
	fmt.Println(len(faults), err)
	// Output:
	// chamber 21.4 2026-11-23T06:00:00Z
	// lid shut 2026-11-23T06:00:00Z
	// 0 <nil>
}
