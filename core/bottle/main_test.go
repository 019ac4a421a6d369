package bottle

import (
	"os"
	"runtime/debug"
	"testing"
)

// Houses leave much behind and need little, and are faster when that is collected only now and then.
func TestMain(m *testing.M) {
	debug.SetGCPercent(-1)
	debug.SetMemoryLimit(256 << 20)
	os.Exit(m.Run())
}
