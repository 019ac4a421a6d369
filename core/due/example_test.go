package due_test

import (
	"fmt"
	"time"

	"idleember/core/due"
)

// What is due first comes first; of two that are due together the one that was put in first.
func ExampleQueue() {
	var q due.Queue[string]
	q.Push(time.Minute, "beat")
	q.Push(time.Second, "confirm")
	q.Push(time.Second, "retry")
	for q.Len() > 0 {
		at, _, what := q.Pop()
		fmt.Println(at, what)
	}
	// Output:
	// 1s confirm
	// 1s retry
	// 1m0s beat
}
