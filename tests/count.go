// Package tests drives a whole hub on loopback as its users do.
package tests

import (
	"os"
	"testing"
)

// Count is how often a test repeats what it proves: small, or full where IDLEEMBER_PROVE is set.
func Count(t testing.TB, small, full int) int {
	n := small
	if os.Getenv("IDLEEMBER_PROVE") != "" {
		n = full
	}
	t.Logf("repeated %d times", n)
	return n
}
