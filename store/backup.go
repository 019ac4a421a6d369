package store

import (
	"bufio"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
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

// WriteBackup writes a whole copy of a hub's database, as it is at one moment, to a file that is not there yet, and
// verifies it. The hub may run meanwhile. Beside it stands FILE.sha256, as sha256sum reads it. With a passphrase the
// file is encrypted, in the format age-encryption.org/v1 (scrypt, ChaCha20-Poly1305).
func WriteBackup(ctx context.Context, dir, file, passphrase string) (b Backed, err error) {
	if _, err := os.Stat(filepath.Join(dir, File)); err != nil {
		return b, fmt.Errorf("there is no hub in %s; tell where it is with --data", dir)
	}
	if _, err := os.Stat(file); err == nil {
		return b, fmt.Errorf("%s is there already; choose another name, or take it away first", file)
	}
	// The copy is made beside the database, where the same lies in the clear anyway; only what is as it shall be is
	// written elsewhere.
	copied, part := filepath.Join(dir, fmt.Sprintf("%s%d%s", partBegin, os.Getpid(), partEnd)), file+partEnd
	clear := func() {
		_ = os.Remove(copied)
		_ = os.Remove(part)
	}
	clear() // what a backup left that was broken off
	defer clear()
	f, err := os.OpenFile(copied, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600) // password hashes are in it
	if err != nil {
		return b, fmt.Errorf("the backup cannot be written: %s", reason(err))
	}
	_ = f.Close()
	db, err := beside(dir)
	if err != nil {
		return b, err
	}
	defer func() { _ = db.Close() }()
	if copied, err = filepath.Abs(copied); err == nil { // what begins with file: would be taken for more than a path
		_, err = db.ExecContext(ctx, `VACUUM INTO ?`, copied)
	}
	if err != nil {
		return b, fmt.Errorf("the backup cannot be written: %w", err)
	}
	if err := whole(ctx, copied); err != nil {
		return b, fmt.Errorf("the copy is not whole, so it was not kept: %w", err)
	}
	if passphrase != "" {
		if err := addAuthority(ctx, copied, dir); err != nil {
			return b, fmt.Errorf("the hub's authority cannot be backed up: %w", err)
		}
	}
	if err := seal(copied, part, passphrase); err != nil {
		return b, fmt.Errorf("the backup cannot be written: %w", err)
	}
	if b, err = sumOf(part); err != nil {
		return b, err
	}
	if err := errors.Join(syncFile(part), os.WriteFile(file+".sha256", []byte(b.Sum+"  "+filepath.Base(file)+"\n"),
		0o600)); err != nil {
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

// Restore brings a backup into a folder that is empty or not there, after it was verified. What an earlier idleember
// wrote is brought up to date by Open. An encrypted one needs its passphrase: without, the error is ErrEncrypted.
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
		return b, fmt.Errorf("%s is not what was written: its SHA-256 is %s, and %s.sha256 says another", file, b.Sum,
			filepath.Base(file))
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
	part := filepath.Join(dir, File+partEnd)
	defer func() {
		_ = os.Remove(part)
		if err != nil { // half a folder would be taken for a hub
			_ = os.RemoveAll(filepath.Join(dir, tlsFolder))
			_ = os.Remove(dir) // where it is empty, as it was
		}
	}()
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
	if err := takeAuthority(ctx, part, dir); err != nil {
		return b, fmt.Errorf("the hub's authority cannot be brought back: %w", err)
	}
	return b, errors.Join(syncFile(part), os.Rename(part, filepath.Join(dir, File)), syncFile(dir))
}

// ErrPassphrase says that a backup was encrypted with another one.
var ErrPassphrase = errors.New("this is not the backup's passphrase")

// ErrEncrypted says that a backup needs a passphrase.
var ErrEncrypted = errors.New("this backup is encrypted; tell its passphrase with --passphrase-file, or in " +
	"IDLEEMBER_PASSPHRASE")

const sealedMark = "age-encryption.org/v1"

// scryptWork is the work factor of scrypt (RFC 7914): N is 2 to this. It takes 64 MB; the library's own 18 takes 256
// MB, which a small computer may not have.
const scryptWork = 16

// seal copies a file, encrypted where there is a passphrase.
func seal(file, to, passphrase string) error {
	from, err := os.Open(file)
	if err != nil {
		return err
	}
	defer func() { _ = from.Close() }()
	f, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	if passphrase == "" {
		_, err = io.Copy(f, from)
		return errors.Join(err, f.Sync(), f.Close())
	}
	who, err := age.NewScryptRecipient(passphrase)
	if err == nil {
		who.SetWorkFactor(scryptWork)
		var w io.WriteCloser
		if w, err = age.Encrypt(f, who); err == nil {
			_, err = io.Copy(w, from)
			err = errors.Join(err, w.Close())
		}
	}
	return errors.Join(err, f.Sync(), f.Close())
}

// What a backup is called while it is made.
const (
	partBegin = "backup-"
	partEnd   = ".part"
)

// sweep takes away what backups and restores left that were killed.
func sweep(dir string) {
	parts, _ := filepath.Glob(filepath.Join(escaped(dir), "backups", "*"+partEnd))
	mine, _ := filepath.Glob(filepath.Join(escaped(dir), partBegin+"*"+partEnd))
	for _, file := range mine {
		pid, err := strconv.Atoi(strings.TrimSuffix(strings.TrimPrefix(filepath.Base(file), partBegin), partEnd))
		if err == nil && pid != os.Getpid() && syscall.Kill(pid, 0) == nil {
			continue // somebody makes one just now
		}
		parts = append(parts, file)
	}
	for _, file := range parts {
		_ = os.Remove(file)
	}
	for _, begin := range []string{DrillFolder, freshFolder} {
		folders, _ := filepath.Glob(filepath.Join(escaped(dir), begin+"*"))
		for _, f := range folders {
			_ = os.RemoveAll(f)
		}
	}
}

// escaped is a folder as Glob takes it.
func escaped(dir string) string {
	return strings.NewReplacer(`\`, `\\`, "*", `\*`, "?", `\?`, "[", `\[`).Replace(dir)
}

// The hub's authority lies beside the database. An encrypted backup takes it along, so that phones and boards go on
// trusting the hub after a restore.
const (
	authoritySecret = "secret the hub's authority"
	tlsFolder       = "tls"
)

var authorityFiles = []string{"ca.key", "ca.pem"} // the key first: a certificate without its key would be useless

func addAuthority(ctx context.Context, file, dir string) error {
	kept := map[string]string{}
	for _, name := range authorityFiles {
		text, err := os.ReadFile(filepath.Join(dir, tlsFolder, name))
		if errors.Is(err, os.ErrNotExist) {
			return nil
		}
		if err != nil {
			return err
		}
		kept[name] = string(text)
	}
	db, err := sqlx.Open("sqlite", uri(file)+"?mode=rw")
	if err != nil {
		return err
	}
	_, err = db.ExecContext(ctx, `INSERT OR REPLACE INTO hub (key, value) VALUES (?, ?)`, authoritySecret, asJSON(kept))
	return errors.Join(err, db.Close())
}

// takeAuthority puts the authority of a backup beside its database.
func takeAuthority(ctx context.Context, file, dir string) error {
	db, err := sqlx.Open("sqlite", uri(file)+"?mode=rw")
	if err != nil {
		return err
	}
	defer func() { _ = db.Close() }()
	var text string
	if err := db.GetContext(ctx, &text, `SELECT value FROM hub WHERE key = ?`, authoritySecret); err != nil {
		if notFound(err) {
			return nil
		}
		return err
	}
	kept := map[string]string{}
	if err := json.Unmarshal([]byte(text), &kept); err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Join(dir, tlsFolder), 0o700); err != nil {
		return err
	}
	for _, name := range authorityFiles {
		if err := os.WriteFile(filepath.Join(dir, tlsFolder, name), []byte(kept[name]), 0o600); err != nil {
			return err
		}
	}
	_, err = db.ExecContext(ctx, `DELETE FROM hub WHERE key = ?`, authoritySecret)
	return err
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
	var other *age.NoIdentityMatchError
	switch {
	case errors.As(err, &other):
		return nil, ErrPassphrase
	case err != nil:
		return nil, fmt.Errorf("the encrypted backup is damaged: %w", err)
	}
	return plain, nil
}

// Backup is one of those that the hub made by itself.
type Backup struct {
	Name  string    `json:"name"`
	At    time.Time `json:"at"`
	Bytes int64     `json:"bytes"`
	// Damaged says what of the database was damaged when it was made; empty: nothing.
	Damaged string `json:"damaged,omitempty"`
	// Of says of which other hub it is; empty: of this one.
	Of string `json:"of,omitempty"`
}

const (
	backupBegin = "backup-"
	backupTime  = "20060102-150405"
	backupEnd   = ".ember"
)

// BackupName is what a backup is called that was made at a time, of another hub or, where of is empty, of this one.
func BackupName(at time.Time, of string) string {
	if of != "" {
		of = "." + of
	}
	return backupBegin + at.UTC().Format(backupTime) + of + backupEnd
}

// Named reads the name of a backup.
func Named(name string) (at time.Time, of string, ok bool) {
	stem, begins := strings.CutPrefix(name, backupBegin)
	stem, ends := strings.CutSuffix(stem, backupEnd)
	stem, of, tagged := strings.Cut(stem, ".")
	at, err := time.Parse(backupTime, stem)
	plain := !strings.ContainsFunc(of, func(r rune) bool {
		return (r < 'a' || r > 'z') && (r < '0' || r > '9') && r != '_' && r != '-'
	})
	return at, of, begins && ends && err == nil && plain && tagged == (of != "")
}

// BackupFolder is where the hub's own backups are.
func (s *Store) BackupFolder() string { return filepath.Join(s.dir, "backups") }

// Backups lists those in the hub's own folder, the newest first.
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
		at, of, ok := Named(e.Name())
		if info, err := e.Info(); ok && err == nil {
			said, _ := os.ReadFile(filepath.Join(s.BackupFolder(), e.Name()+damagedEnd))
			list = append(list, Backup{Name: e.Name(), At: at, Bytes: info.Size(), Damaged: string(said), Of: of})
		}
	}
	slices.Reverse(list) // names are in the order of their times
	return list, nil
}

// Within reports whether a path is in the folder of the database, by whatever name.
func (s *Store) Within(path string) bool {
	whole := func(p string) string {
		if abs, err := filepath.Abs(p); err == nil {
			p = abs
		}
		if real, err := filepath.EvalSymlinks(p); err == nil {
			p = real
		}
		return filepath.Clean(p) + string(filepath.Separator)
	}
	return strings.HasPrefix(whole(path), whole(s.dir))
}

// Encrypted reports whether a backup is.
func Encrypted(file string) (bool, error) {
	f, err := os.Open(file)
	if err != nil {
		return false, err
	}
	defer func() { _ = f.Close() }()
	mark := make([]byte, len(sealedMark))
	_, err = io.ReadFull(f, mark)
	return string(mark) == sealedMark, err
}

// TakeBackup brings a backup from another place to the folder of the hub's own; fill writes it.
func (s *Store) TakeBackup(name string, fill func(io.Writer) error) (b Backup, err error) {
	if err := os.MkdirAll(s.BackupFolder(), 0o700); err != nil {
		return b, err
	}
	file := filepath.Join(s.BackupFolder(), name)
	if _, err := os.Stat(file); err == nil {
		return b, fmt.Errorf("%s is there already", name)
	}
	part := file + partEnd
	f, err := os.OpenFile(part, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if errors.Is(err, os.ErrExist) {
		return b, fmt.Errorf("%s is being fetched", name)
	}
	if err != nil {
		return b, err
	}
	defer func() { _ = os.Remove(part) }()
	if err := errors.Join(fill(f), f.Sync(), f.Close()); err != nil {
		return b, err
	}
	sum, err := sumOf(part)
	if err != nil {
		return b, err
	}
	if sum.Bytes == 0 {
		return b, fmt.Errorf("%s is empty", name)
	}
	if err := os.WriteFile(file+".sha256", []byte(sum.Sum+"  "+name+"\n"), 0o600); err != nil {
		return b, err
	}
	b.Name, b.Bytes = name, sum.Bytes
	b.At, b.Of, _ = Named(name)
	return b, errors.Join(os.Rename(part, file), syncFile(s.BackupFolder()))
}

const lastDrill = "last-drill"

// DrillFolder is what the name of a folder begins with in which a restore is tried.
const DrillFolder = "drill-"

// Drill restores a backup to a folder, and reads and verifies all of it. It remembers when it was.
func (s *Store) Drill(ctx context.Context, file, folder, passphrase string) error {
	if _, err := Restore(ctx, file, folder, passphrase); err != nil {
		return err
	}
	there, err := Open(ctx, folder, Options{})
	if err != nil {
		return err
	}
	_, err = there.Site(ctx)
	if err == nil {
		err = there.Check(ctx, nil)
	}
	if err := errors.Join(err, there.Close()); err != nil {
		return err
	}
	now, mark := time.Now(), filepath.Join(s.dir, lastDrill)
	return errors.Join(os.WriteFile(mark, nil, 0o600), os.Chtimes(mark, now, now))
}

// Drilled is when a restore was last tried and went well.
func (s *Store) Drilled() time.Time {
	info, err := os.Stat(filepath.Join(s.dir, lastDrill))
	if err != nil {
		return time.Time{}
	}
	return info.ModTime()
}

// damagedEnd is of the file beside a backup that says what of it is damaged.
const damagedEnd = ".damaged"

// MakeBackup reads all that is kept and writes a backup to the folder of the hub's own, and lets go of all but the
// newest ones that are kept, and the newest one that was made of a database without damage.
func (s *Store) MakeBackup(ctx context.Context, keep int, passphrase string) (b Backup, err error) {
	if err := os.MkdirAll(s.BackupFolder(), 0o700); err != nil {
		return b, fmt.Errorf("the folder %s cannot be made: %s", s.BackupFolder(), reason(err))
	}
	var file string
	for {
		b.At = time.Now().UTC().Truncate(time.Second)
		b.Name = BackupName(b.At, "")
		file = filepath.Join(s.BackupFolder(), b.Name)
		if _, err := os.Stat(file); err != nil {
			break
		}
		select { // one was made in this second
		case <-time.After(time.Until(b.At.Add(time.Second))):
		case <-ctx.Done():
			return b, ctx.Err()
		}
	}
	if err := s.Scrub(ctx); err != nil {
		if ctx.Err() != nil {
			return b, ctx.Err()
		}
		b.Damaged = err.Error()
		if err := os.WriteFile(file+damagedEnd, []byte(b.Damaged), 0o600); err != nil {
			return b, fmt.Errorf("the backup cannot be written: %s", reason(err))
		}
	}
	made, err := WriteBackup(ctx, s.dir, file, passphrase)
	if err != nil {
		_ = os.Remove(file + damagedEnd)
		return b, err
	}
	b.Bytes = made.Bytes
	list, err := s.Backups()
	if err != nil {
		return b, err
	}
	list = slices.DeleteFunc(list, func(x Backup) bool { return x.Of != "" }) // those stay until somebody takes them away
	clean := slices.IndexFunc(list, func(x Backup) bool { return x.Damaged == "" })
	for i, old := range list {
		if i < keep || i == clean || old.Name == b.Name { // where the clock is wrong, the one just made seems old
			continue
		}
		file := filepath.Join(s.BackupFolder(), old.Name)
		_ = os.Remove(file + damagedEnd) // mostly there is none
		_ = os.Remove(file + ".sha256")  // one that somebody put there may have none
		if err := os.Remove(file); err != nil {
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
	file := filepath.Join(s.BackupFolder(), fmt.Sprintf("before-format-%d-%s.ember", know,
		time.Now().UTC().Format("20060102-150405")))
	if _, err := WriteBackup(ctx, s.dir, file, ""); err != nil {
		return err
	}
	s.log.Info("the database is of an earlier version and is brought up to date; how it was is in a backup", "from", have,
		"to", know, "backup", file)
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
	return db.GetContext(ctx, &n, `SELECT count(*) FROM hub`)
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
