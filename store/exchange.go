package store

import (
	"context"
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"time"

	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"
)

// Damaged reports whether what kept a store from opening is damage of what it keeps, and not its surroundings.
func Damaged(err error) bool {
	var missing *MissingError
	var fault *sqlite.Error
	var syntax *json.SyntaxError
	var kind *json.UnmarshalTypeError
	if errors.As(err, &fault) {
		switch code := fault.Code(); code {
		case sqlite3.SQLITE_IOERR_READ, sqlite3.SQLITE_IOERR_SHORT_READ, sqlite3.SQLITE_IOERR_DATA,
			sqlite3.SQLITE_IOERR_CORRUPTFS:
			return true
		default: // other errors of the disk may be one that is full
			return slices.Contains([]int{sqlite3.SQLITE_CORRUPT, sqlite3.SQLITE_NOTADB, sqlite3.SQLITE_ERROR}, code&0xff)
		}
	}
	return errors.As(err, &missing) || errors.As(err, &syntax) || errors.As(err, &kind)
}

const freshFolder = "fresh-"

// BackupsIn lists the backups that the hub in a folder made, the newest first; its database need not open.
func BackupsIn(dir string) ([]Backup, error) { return (&Store{dir: dir}).Backups() }

// Exchange has a new database made in a folder beside the one of a hub that does not run, opens and verifies it, and
// puts it in the place of the old one. What was there is kept in the folder whose path it returns. Where anything
// fails, nothing has changed.
func Exchange(ctx context.Context, dir string, fill func(fresh string) error) (aside string, err error) {
	at := time.Now().UTC().Format("20060102-150405")
	fresh := filepath.Join(dir, freshFolder+at)
	defer func() { _ = os.RemoveAll(fresh) }()
	if err := fill(fresh); err != nil {
		return "", err
	}
	s, err := Open(ctx, fresh, Options{})
	if err != nil {
		return "", err
	}
	_, err = s.Site(ctx)
	if err == nil {
		err = s.Check(ctx, nil)
	}
	if err := errors.Join(err, s.Close()); err != nil {
		return "", err
	}
	unlock, err := holdOff(dir)
	if err != nil {
		return "", err
	}
	defer unlock()
	aside = filepath.Join(dir, "damaged-"+at)
	if err := os.MkdirAll(aside, 0o700); err != nil {
		return "", err
	}
	// The log goes first: beside another database it would be taken for its own.
	for _, file := range []string{File + "-wal", File + "-shm", File} {
		if err := os.Rename(filepath.Join(dir, file), filepath.Join(aside, file)); err != nil && !errors.Is(err,
			os.ErrNotExist) {
			return "", err
		}
	}
	if err := os.Rename(filepath.Join(fresh, File), filepath.Join(dir, File)); err != nil {
		return "", err
	}
	if _, err := os.Stat(filepath.Join(dir, tlsFolder)); errors.Is(err, os.ErrNotExist) {
		_ = os.Rename(filepath.Join(fresh, tlsFolder), filepath.Join(dir, tlsFolder)) // there may be none
	}
	return aside, syncFile(dir)
}
