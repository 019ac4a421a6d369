package store

import (
	"bufio"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"
)

// lastBackup is a file beside the database whose time is that of the newest backup.
const lastBackup = "last-backup"

// Backed says what a backup is.
type Backed struct {
	Bytes int64
	Sum   string // SHA-256 of the file
}

// WriteBackup writes a whole copy of a hub's database, as it is at one moment, to a file that is not there yet, and verifies it. The hub
// may run meanwhile. Beside it stands FILE.sha256, as sha256sum reads it.
func WriteBackup(ctx context.Context, dir, file string) (b Backed, err error) {
	if _, err := os.Stat(filepath.Join(dir, File)); err != nil {
		return b, fmt.Errorf("there is no hub in %s; tell where it is with --data", dir)
	}
	if _, err := os.Stat(file); err == nil {
		return b, fmt.Errorf("%s is there already; choose another name, or take it away first", file)
	}
	part := file + ".part"
	_ = os.Remove(part) // of a backup that was broken off
	defer func() { _ = os.Remove(part) }()
	f, err := os.OpenFile(part, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600) // password hashes are in it
	if err != nil {
		return b, fmt.Errorf("the backup cannot be written: %s", reason(err))
	}
	_ = f.Close()
	db, err := sqlx.Open("sqlite", "file:"+filepath.Join(dir, File)+"?_pragma=busy_timeout(10000)")
	if err != nil {
		return b, err
	}
	defer func() { _ = db.Close() }()
	if _, err := db.ExecContext(ctx, `VACUUM INTO ?`, part); err != nil {
		return b, fmt.Errorf("the backup cannot be written: %w", err)
	}
	if err := whole(ctx, part); err != nil {
		return b, fmt.Errorf("the copy is not whole, so it was not kept: %w", err)
	}
	if b, err = sumOf(part); err != nil {
		return b, err
	}
	if err := errors.Join(syncFile(part), os.WriteFile(file+".sha256", []byte(b.Sum+"  "+filepath.Base(file)+"\n"), 0o600)); err != nil {
		return b, err
	}
	if err := os.Rename(part, file); err != nil {
		return b, err
	}
	if err := errors.Join(syncFile(file+".sha256"), syncFile(filepath.Dir(file))); err != nil {
		return b, err
	}
	now := time.Now()
	if err := os.WriteFile(filepath.Join(dir, lastBackup), []byte(file+"\n"), 0o600); err != nil {
		return b, err
	}
	return b, os.Chtimes(filepath.Join(dir, lastBackup), now, now)
}

// Restore brings a backup into a folder that is empty or not there, after it was verified. What an earlier idleember wrote is
// brought up to date by Open.
func Restore(ctx context.Context, file, dir string) (b Backed, err error) {
	if entries, err := os.ReadDir(dir); err == nil && len(entries) > 0 {
		return b, fmt.Errorf("%s is not empty; restore to an empty folder, so that nothing is lost", dir)
	}
	if b, err = sumOf(file); err != nil {
		return b, fmt.Errorf("the backup cannot be read: %s", reason(err))
	}
	want, err := os.ReadFile(file + ".sha256")
	switch {
	case err == nil && strings.Fields(string(want) + " -")[0] != b.Sum:
		return b, fmt.Errorf("%s is not what was written: its SHA-256 is %s, and %s.sha256 says another", file, b.Sum, filepath.Base(file))
	case err != nil && !errors.Is(err, os.ErrNotExist):
		return b, err
	}
	if err := whole(ctx, file); err != nil {
		return b, fmt.Errorf("%s is damaged, or no backup of a hub: %w", file, err)
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return b, err
	}
	from, err := os.Open(file)
	if err != nil {
		return b, err
	}
	defer func() { _ = from.Close() }()
	to, err := os.OpenFile(filepath.Join(dir, File), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return b, err
	}
	_, err = io.Copy(to, from)
	return b, errors.Join(err, to.Sync(), to.Close(), syncFile(dir))
}

// Backup is one of those that the hub made by itself.
type Backup struct {
	Name  string    `json:"name"`
	At    time.Time `json:"at"`
	Bytes int64     `json:"bytes"`
}

const backupName = "backup-20060102-150405.ember"

// BackupFolder is where the hub's own backups are.
func (s *Store) BackupFolder() string { return filepath.Join(s.dir, "backups") }

// Backups lists the hub's own, the newest first.
func (s *Store) Backups() ([]Backup, error) {
	list := []Backup{}
	entries, err := os.ReadDir(s.BackupFolder())
	if errors.Is(err, os.ErrNotExist) {
		return list, nil
	}
	if err != nil {
		return nil, fmt.Errorf("store: backups: %w", err)
	}
	for _, e := range entries {
		at, err := time.Parse(backupName, e.Name())
		info, gone := e.Info()
		if err == nil && gone == nil {
			list = append(list, Backup{Name: e.Name(), At: at, Bytes: info.Size()})
		}
	}
	slices.Reverse(list) // names are in the order of their times
	return list, nil
}

// MakeBackup writes one to the folder of the hub's own, and lets go of all but the newest ones that are kept.
func (s *Store) MakeBackup(ctx context.Context, keep int) (b Backup, err error) {
	if err := os.MkdirAll(s.BackupFolder(), 0o700); err != nil {
		return b, fmt.Errorf("the folder %s cannot be made: %s", s.BackupFolder(), reason(err))
	}
	b.At = time.Now().UTC().Truncate(time.Second)
	b.Name = b.At.Format(backupName)
	made, err := WriteBackup(ctx, s.dir, filepath.Join(s.BackupFolder(), b.Name))
	if err != nil {
		return b, err
	}
	b.Bytes = made.Bytes
	list, err := s.Backups()
	if err != nil {
		return b, err
	}
	for _, old := range list[min(keep, len(list)):] {
		file := filepath.Join(s.BackupFolder(), old.Name)
		if err := errors.Join(os.Remove(file), os.Remove(file+".sha256")); err != nil {
			return b, fmt.Errorf("an old backup cannot be let go: %w", err)
		}
	}
	return b, nil
}

// LastBackup is when the newest backup was made.
func (s *Store) LastBackup() (time.Time, bool) {
	info, err := os.Stat(filepath.Join(s.dir, lastBackup))
	if err != nil {
		return time.Time{}, false
	}
	return info.ModTime(), true
}

// whole checks a database's structure, and that it is one of ours.
func whole(ctx context.Context, file string) error {
	db, err := sqlx.Open("sqlite", "file:"+file+"?mode=ro&immutable=1")
	if err != nil {
		return err
	}
	defer func() { _ = db.Close() }()
	var said []string
	if err := db.SelectContext(ctx, &said, `PRAGMA integrity_check(5)`); err != nil {
		return err
	}
	if len(said) != 1 || said[0] != "ok" {
		return errors.New(strings.Join(said, "; "))
	}
	var n int
	return db.GetContext(ctx, &n, `SELECT count(*) FROM devices`)
}

func sumOf(file string) (b Backed, err error) {
	f, err := os.Open(file)
	if err != nil {
		return b, err
	}
	defer func() { _ = f.Close() }()
	h := sha256.New()
	b.Bytes, err = io.Copy(h, bufio.NewReaderSize(f, 1<<20))
	b.Sum = hex.EncodeToString(h.Sum(nil))
	return b, err
}

func syncFile(name string) error {
	f, err := os.Open(name)
	if err != nil {
		return err
	}
	return errors.Join(f.Sync(), f.Close())
}
