package store

import (
	"errors"
	"os"
	"path/filepath"
	"syscall"
	"time"
)

// reserve is a file that takes room on the disk until that is full. Then it goes, and what it took is for commands, states and the
// journal alone, until there is room for it again. It belongs to the writing goroutine.
type reserve struct {
	spent  bool
	looked time.Time
}

const (
	reserveFile = "reserve"
	reserveSize = 8 << 20
	reserveMore = 4 << 20         // that must be free besides, before readings are taken again
	reserveLook = 2 * time.Second // how often it is looked whether there is room again
)

// ErrFull says that the disk is full.
var ErrFull = errors.New("the disk is full; make room on it, or keep readings for less time")

// make takes the room, where there is some; it returns false where there is not.
func (r *reserve) make(s *Store) bool {
	name := filepath.Join(s.dir, reserveFile)
	if info, err := os.Stat(name); err == nil && info.Size() == reserveSize {
		return true
	}
	f, err := os.OpenFile(name, os.O_CREATE|os.O_RDWR|os.O_TRUNC, 0o600)
	if err != nil {
		return false
	}
	err = syscall.Fallocate(int(f.Fd()), 0, 0, reserveSize)
	if errors.Is(err, syscall.EOPNOTSUPP) || errors.Is(err, syscall.ENOSYS) { // then by writing
		_, err = f.Write(make([]byte, reserveSize))
	}
	if err = errors.Join(err, f.Close()); err != nil {
		s.log.Warn("there is no room for a reserve on the disk", "bytes", reserveSize, "error", err)
		_ = os.Remove(name)
		return false
	}
	return true
}

// spend lets the reserve go because the disk is full; it returns false where that was done before.
func (s *Store) spend() bool {
	if s.reserve.spent {
		return false
	}
	s.reserve.spent, s.reserve.looked = true, time.Now()
	err := os.Remove(filepath.Join(s.dir, reserveFile))
	s.log.Error("the disk is full: readings are refused, commands and the journal go on out of a reserve", "reserve", err == nil)
	return true
}

// refuseBulk answers those of a group that hold readings while the disk is full, and returns the others.
func (s *Store) refuseBulk(group []*Batch) []*Batch {
	if !s.reserve.spent || s.roomAgain() {
		return group
	}
	rest := group[:0]
	for _, b := range group {
		if b.Bulk {
			b.Done(ErrFull)
		} else {
			rest = append(rest, b)
		}
	}
	return rest
}

func (s *Store) roomAgain() bool {
	if time.Since(s.reserve.looked) < reserveLook {
		return false
	}
	s.reserve.looked = time.Now()
	var st syscall.Statfs_t
	if err := syscall.Statfs(s.dir, &st); err != nil || st.Bavail*uint64(st.Bsize) < reserveSize+reserveMore { //nolint:gosec // sizes of the system's
		return false
	}
	if !s.reserve.make(s) {
		return false
	}
	s.reserve.spent = false
	s.log.Info("there is room on the disk again: readings are taken")
	return true
}
