package store

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/core/reading"
)

func TestTheLogIsMovedBehindTheWriter(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	defer func() { _ = s.Close() }()
	// Rows of the log of some pages each; all together the write-ahead log would become longer than a commit would shorten
	// it.
	n := 0
	for round := range 12 {
		for range 100 {
			n++
			require.NoError(t, s.Do(t.Context(), AddReading("a.n", Reading{T: int64(n), Value: reading.Number(float64(n))}, nil),
				AddInputs(time.UnixMilli(int64(n)), make([]byte, 6000))))
		}
		require.Eventually(t, func() bool {
			pages, err := checkpoint(s.read, "NOOP")
			return assert.NoError(t, err) && pages < checkpointPages
		}, 20*time.Second, 20*time.Millisecond, "round %d: most of the log is in the database", round)
	}
	require.NoError(t, s.Do(t.Context(), AddReading("a.n", Reading{T: 0, Value: reading.Number(0)}, nil)))
	wal, err := os.Stat(filepath.Join(dir, File+"-wal"))
	require.NoError(t, err)
	assert.Less(t, wal.Size(), int64(4*checkpointPages*(pageSize+24)), "it begins anew, and does not grow for ever")
}
