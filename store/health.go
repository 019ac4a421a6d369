package store

import (
	"context"
	"fmt"
	"sync/atomic"
	"syscall"
	"time"
)

// Work is what the store did since the start, and what waits for it.
type Work struct {
	Commits, Readings int64
	Took              time.Duration // of all commits together
	Waiting           int           // batches
}

type counters struct{ commits, took, readings atomic.Int64 }

// Work tells what the store did.
func (s *Store) Work() Work {
	return Work{s.count.commits.Load(), s.count.readings.Load(), time.Duration(s.count.took.Load()), len(s.queue)}
}

// DiskUsed is how much of the disk that holds the store is used, in per cent, as far as others than its administrator
// may use it.
func (s *Store) DiskUsed() (percent float64, err error) {
	var st syscall.Statfs_t
	if err := syscall.Statfs(s.dir, &st); err != nil {
		return 0, fmt.Errorf("store: disk: %w", err)
	}
	if st.Blocks == 0 {
		return 0, nil
	}
	used := st.Blocks - st.Bfree
	return 100 * float64(used) / float64(used+uint64(st.Bavail)), nil
}

// Damaged counts the blocks that were found damaged: those set aside, and those left out of what was read since the
// start.
func (s *Store) Damaged(ctx context.Context) (n int64, err error) {
	if err := s.read.GetContext(ctx, &n, `SELECT count(*) FROM damaged`); err != nil {
		return 0, fmt.Errorf("store: damaged blocks: %w", err)
	}
	return n + s.leftOut.Load(), nil
}
