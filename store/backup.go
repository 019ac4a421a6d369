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

	"filippo.io/age"
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
// may run meanwhile. Beside it stands FILE.sha256, as sha256sum reads it. With a passphrase the file is encrypted, in the format
// age-encryption.org/v1 (scrypt, ChaCha20-Poly1305).
func WriteBackup(ctx context.Context, dir, file, passphrase string) (b Backed, err error) {
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
	db, err := beside(dir)
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
	if passphrase != "" {
		sealed := file + ".sealed.part"
		defer func() { _ = os.Remove(sealed) }()
		if err := encrypt(part, sealed, passphrase); err != nil {
			return b, fmt.Errorf("the backup cannot be encrypted: %w", err)
		}
		if err := os.Rename(sealed, part); err != nil {
			return b, err
		}
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
// brought up to date by Open. An encrypted one needs its passphrase: without, the error is ErrEncrypted.
func Restore(ctx context.Context, file, dir, passphrase string) (b Backed, err error) {
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
	from, err := os.Open(file)
	if err != nil {
		return b, err
	}
	defer func() { _ = from.Close() }()
	plain, err := decrypt(bufio.NewReaderSize(from, 1<<16), passphrase)
	if err != nil {
		return b, err
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return b, err
	}
	// It gets the name of a database only when it is known to be one.
	part := filepath.Join(dir, File+".part")
	defer func() { _ = os.Remove(part) }()
	to, err := os.OpenFile(part, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return b, err
	}
	_, err = io.Copy(to, plain)
	if err := errors.Join(err, to.Sync(), to.Close()); err != nil {
		return b, fmt.Errorf("%s cannot be read to its end: %w", file, err)
	}
	if err := whole(ctx, part); err != nil {
		return b, fmt.Errorf("%s is damaged, or no backup of a hub: %w", file, err)
	}
	return b, errors.Join(os.Rename(part, filepath.Join(dir, File)), syncFile(dir))
}

// ErrEncrypted says that a backup needs a passphrase.
var ErrEncrypted = errors.New("this backup is encrypted; tell its passphrase with --passphrase-file, or in IDLEEMBER_PASSPHRASE")

const sealedMark = "age-encryption.org/v1"

func encrypt(file, to, passphrase string) error {
	who, err := age.NewScryptRecipient(passphrase)
	if err != nil {
		return err
	}
	from, err := os.Open(file)
	if err != nil {
		return err
	}
	defer func() { _ = from.Close() }()
	f, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	w, err := age.Encrypt(f, who)
	if err == nil {
		_, err = io.Copy(w, from)
		err = errors.Join(err, w.Close())
	}
	return errors.Join(err, f.Sync(), f.Close())
}

func decrypt(r *bufio.Reader, passphrase string) (io.Reader, error) {
	if mark, _ := r.Peek(len(sealedMark)); string(mark) != sealedMark {
		return r, nil
	}
	if passphrase == "" {
		return nil, ErrEncrypted
	}
	who, err := age.NewScryptIdentity(passphrase)
	if err != nil {
		return nil, err
	}
	plain, err := age.Decrypt(r, who)
	if err != nil {
		return nil, fmt.Errorf("this is not the backup's passphrase: %w", err)
	}
	return plain, nil
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
func (s *Store) MakeBackup(ctx context.Context, keep int, passphrase string) (b Backup, err error) {
	if err := os.MkdirAll(s.BackupFolder(), 0o700); err != nil {
		return b, fmt.Errorf("the folder %s cannot be made: %s", s.BackupFolder(), reason(err))
	}
	b.At = time.Now().UTC().Truncate(time.Second)
	b.Name = b.At.Format(backupName)
	made, err := WriteBackup(ctx, s.dir, filepath.Join(s.BackupFolder(), b.Name), passphrase)
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

// backUpFirst writes a backup before a database is brought from an earlier format to a newer one.
func (s *Store) backUpFirst(ctx context.Context, have, know int64) error {
	if err := os.MkdirAll(s.BackupFolder(), 0o700); err != nil {
		return err
	}
	file := filepath.Join(s.BackupFolder(), fmt.Sprintf("before-format-%d-%s.ember", know, time.Now().UTC().Format("20060102-150405")))
	if _, err := WriteBackup(ctx, s.dir, file, ""); err != nil {
		return err
	}
	s.log.Info("the database is of an earlier version and is brought up to date; how it was is in a backup", "from", have, "to", know, "backup", file)
	return nil
}

// LastBackup is when the newest backup was made.
func (s *Store) LastBackup() (time.Time, bool) { return LastBackup(s.dir) }

// LastBackup is when the newest backup of the hub in a folder was made.
func LastBackup(dir string) (time.Time, bool) {
	info, err := os.Stat(filepath.Join(dir, lastBackup))
	if err != nil {
		return time.Time{}, false
	}
	return info.ModTime(), true
}

// whole checks a database's structure, and that it is one of ours.
func whole(ctx context.Context, file string) error {
	db, err := sqlx.Open("sqlite", uri(file)+"?mode=ro&immutable=1")
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
