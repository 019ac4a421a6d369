package door

import (
	"testing"

	"go.uber.org/goleak"
)

// What a test began it also ended.
func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }
