package bottle

import (
	"os"
	"runtime/debug"
	"testing"
)

// Houses leave much behind and need little: with less collecting they are a sixth faster.
func TestMain(m *testing.M) {
	debug.SetGCPercent(800)
	os.Exit(m.Run())
}
