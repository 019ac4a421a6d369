package guess_test

import (
	"fmt"
	"time"

	"idleember/core/guess"
)

// Whoever tries again and again waits ever longer.
func ExampleBook_Try() {
	var b guess.Book
	now := time.Date(2026, 3, 1, 9, 0, 0, 0, time.UTC)
	for range 7 {
		wait := b.Try(now, "account mo")
		fmt.Println(wait)
		now = now.Add(wait)
	}
	// Output:
	// 0s
	// 0s
	// 0s
	// 0s
	// 0s
	// 2s
	// 0s
}
