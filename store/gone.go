package store

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"idleember/core/fault"
)

// ErrGone says that the database was deleted, moved or replaced under the running hub.
var ErrGone = errors.New("the database was deleted, moved or replaced while the hub ran, so nothing can be kept; " +
	"stop the hub, bring the folder or a backup back, and start it again")

// MissingError says that a folder holds what belongs to a database, and no database.
type MissingError struct{ Dir, Trace string }

func (e *MissingError) Error() string {
	return fmt.Sprintf("there is no database in %s, but %s of one: it was deleted or moved; bring it back, restore a "+
		"backup (idleember restore), or begin a new hub with --anew", e.Dir, e.Trace)
}

// presence knows the files of the database by what they are, not by what they are called. It belongs to the writing
// goroutine.
type presence struct {
	database, log os.FileInfo
	gone          bool
}

// there returns ErrGone once the files at the database's place are not those that are written to. What was committed
// into them would be lost with the process.
func (s *Store) there() error {
	p := &s.presence
	same := func(name string, known *os.FileInfo) bool {
		info, err := os.Stat(filepath.Join(s.dir, name))
		if err != nil {
			return *known == nil && name != File
		}
		if *known == nil {
			*known = info
		}
		return os.SameFile(*known, info)
	}
	if !p.gone && same(File, &p.database) && same(File+"-wal", &p.log) {
		return nil
	}
	p.gone = true
	return ErrGone
}

// traces says what in a folder without a database is of one; "": nothing.
func traces(dir string) string {
	if list, err := os.ReadDir(filepath.Join(dir, "backups")); err == nil && len(list) > 0 {
		return "backups"
	}
	for _, x := range [][2]string{{reserveFile, "the reserve"}, {openingFile, "the reserve"}, {File + "-wal",
		"the write-ahead log"}, {lastBackup, "a note about the last backup"}} {
		if _, err := os.Stat(filepath.Join(dir, x[0])); err == nil {
			return x[1]
		}
	}
	return ""
}

// Unsaved is a failed write as a *fault.UnsavedError.
func Unsaved(err error) error { return &fault.UnsavedError{Err: err, Full: IsFull(err)} }
