package store

import (
	"errors"
	"os"
	"path/filepath"
	"syscall"
	"time"
)

// reserve is a file that takes room on the disk until that is full. Then it goes, and what it took is for commands,
// states and the journal alone, until there is room for it again. That it is not there is how it is remembered over a
// start. A second, small one goes only when a database is opened on a full disk, which takes some room. It belongs to
// the writing goroutine.
type reserve struct {
	spent  bool
	looked time.Time
}

const (
	reserveFile = "reserve"
	reserveSize = 8 << 20
	openingFile = "reserve.opening"
	openingSize = 1 << 20
	reserveMore = 4 << 20         // that must be free besides, before readings are taken again
	reserveLook = 2 * time.Second // how often it is looked whether there is room again
)

// ErrFull says that the disk is full.
var ErrFull = errors.New("the disk is full; make room on it, or keep readings for less time")

// make takes the room, where there is enough for that and for work besides; it returns false where there is not.
func (r *reserve) make(s *Store) bool {
	if info, err := os.Stat(filepath.Join(s.dir, reserveFile)); err == nil && info.Size() == reserveSize {
		_ = s.take(openingFile, openingSize) // a hub of before has but the one
		return true
	}
	if free, ok := s.free(); ok && free < reserveSize+openingSize+reserveMore {
		return false
	}
	return s.take(openingFile, openingSize) && s.take(reserveFile, reserveSize)
}

// take makes a file of a size that takes room and holds nothing.
func (s *Store) take(file string, size int64) bool {
	name := filepath.Join(s.dir, file)
	if info, err := os.Stat(name); err == nil && info.Size() == size {
		return true
	}
	f, err := os.OpenFile(name, os.O_CREATE|os.O_RDWR|os.O_TRUNC, 0o600)
	if err != nil {
		return false
	}
	err = syscall.Fallocate(int(f.Fd()), 0, 0, size)
	if errors.Is(err, syscall.EOPNOTSUPP) || errors.Is(err, syscall.ENOSYS) { // then by writing
		_, err = f.Write(make([]byte, size))
	}
	if err = errors.Join(err, f.Close()); err != nil {
		s.log.Warn("there is no room for a reserve on the disk", "bytes", size, "error", err)
		_ = os.Remove(name)
		return false
	}
	return true
}

// free is how much room there is on the disk, in bytes; false: it cannot be told.
func (s *Store) free() (uint64, bool) {
	var st syscall.Statfs_t
	if err := syscall.Statfs(s.dir, &st); err != nil {
		return 0, false
	}
	return st.Bavail * uint64(st.Bsize), true //nolint:gosec // sizes of the system's
}

// Free is how many bytes are free where the database is, without the reserve.
func (s *Store) Free() uint64 {
	n, _ := s.free()
	return n
}

// OpenedFull reports whether the disk was full when the database was opened.
func (s *Store) OpenedFull() bool { return s.tight }

// makeRoom lets both reserves go before the database is opened, where the disk is full.
func (r *reserve) makeRoom(s *Store) {
	if free, ok := s.free(); !ok || free >= reserveMore {
		return
	}
	r.spent, r.looked = true, time.Now()
	for _, name := range []string{reserveFile, openingFile} {
		_ = os.Remove(filepath.Join(s.dir, name))
	}
	s.log.Error("the disk is full: readings are refused until there is room again", "folder", s.dir)
}

// spend lets the reserve go because the disk is full; it returns false where that was done before.
func (s *Store) spend() bool {
	if s.reserve.spent {
		return false
	}
	s.reserve.spent, s.reserve.looked = true, time.Now()
	err := os.Remove(filepath.Join(s.dir, reserveFile))
	s.log.Error("the disk is full: readings are refused, commands and the journal go on out of a reserve", "reserve",
		err == nil)
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
	if !s.reserve.make(s) {
		return false
	}
	s.reserve.spent = false
	s.log.Info("there is room on the disk again: readings are taken")
	return true
}
