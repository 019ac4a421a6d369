package serve

import (
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestMemoryIsBoundedByWhatThereIs(t *testing.T) {
	for _, x := range []struct {
		meminfo, group string
		limit          int64
	}{{"MemTotal:         945364 kB\nMemFree: 1 kB\n", "max\n", 945364 << 9}, {"MemTotal:         945364 kB\n",
		"268435456\n", 128 << 20}, {"MemTotal: 100000 kB\n", "", 96 << 20}, {"", "", 0}, {"nonsense", "0", 0}} {
		assert.Equal(t, x.limit, memoryLimit(func(name string) ([]byte, error) {
			text := map[string]string{"/proc/meminfo": x.meminfo, "/sys/fs/cgroup/memory.max": x.group}[name]
			if text == "" {
				return nil, os.ErrNotExist
			}
			return []byte(text), nil
		}), x)
	}
}
