package serve

import (
	"bytes"
	"math"
	"os"
	"runtime/debug"
	"strconv"
)

// leastMemory is what the hub takes in any case.
const leastMemory = 96 << 20

// boundMemory lets the collector work harder before the process takes more than half of the memory that there is, so
// that a small computer has some left for its disk's cache. GOMEMLIMIT says otherwise.
func boundMemory() {
	if os.Getenv("GOMEMLIMIT") == "" {
		if limit := memoryLimit(os.ReadFile); limit > 0 {
			debug.SetMemoryLimit(limit)
		}
	}
}

// memoryLimit is half of the computer's memory, or of what the system lets the process have; 0: nobody knows.
func memoryLimit(read func(string) ([]byte, error)) int64 {
	have := int64(math.MaxInt64)
	if text, err := read("/proc/meminfo"); err == nil {
		if f := bytes.Fields(text); len(f) > 1 && string(f[0]) == "MemTotal:" {
			if kB, err := strconv.ParseInt(string(f[1]), 10, 64); err == nil && kB > 0 {
				have = kB << 10
			}
		}
	}
	if text, err := read("/sys/fs/cgroup/memory.max"); err == nil {
		if n, err := strconv.ParseInt(string(bytes.TrimSpace(text)), 10, 64); err == nil && n > 0 {
			have = min(have, n)
		}
	}
	if have == math.MaxInt64 {
		return 0
	}
	return max(have/2, leastMemory)
}
