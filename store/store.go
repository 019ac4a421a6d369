// Package store keeps everything that the hub remembers, in one SQLite database.
//
// All writing goes through one goroutine that commits what has gathered in one transaction (group commit),
// synchronously: when a batch's done function is called without an error, the batch is on the disk. Readers have a pool
// of their own.
package store

import (
	"cmp"
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"

	"idleember/core/series"
)

//go:embed migrations/*.sql
var migrations embed.FS

func init() { sqlx.BindDriver("sqlite", sqlx.QUESTION) }

// Options of Open.
type Options struct {
	Log *slog.Logger
	// NoSync leaves out the wait for the disk. It exists so that tests can show that they would notice.
	NoSync bool
	// Anew begins an empty database in a folder that holds what is left of one.
	Anew bool
}

// Store is an open database. Use Open to get one.
type Store struct {
	dir     string
	leftOut atomic.Int64 // damaged blocks that reading left out
	lock    *os.File
	read    *sqlx.DB
	write   *sqlx.DB
	tx      *Tx
	queue   chan *Batch
	idle    chan struct{} // closed when the writer has ended
	log     *slog.Logger

	prepared struct {
		sync.Mutex
		of map[string]*sqlx.Stmt
	}
	recent    *recent
	names     names
	told      sync.Map      // keys of damaged blocks that were told of
	sealing   sync.Mutex    // one sealing at a time
	full      chan struct{} // that much is recent that it should be sealed
	reserve   reserve
	presence  presence
	tape      tape
	tight     bool // it was opened on a full disk
	quit      chan struct{}
	sealerEnd chan struct{}
	count     counters

	checkpoints checkpoints
}

// pageSize is the database's: small pages are rewritten sooner, large ones waste less; see docs/performance.md.
const pageSize = 1024

// File is the name of the database in the data folder.
const File = "idleember.db"

// NewerError says that a database was written by a newer version of the program.
type NewerError struct {
	Dir        string
	Have, Know int64
}

func (e *NewerError) Error() string {
	return fmt.Sprintf("the database in %s has format %d, and this idleember knows formats up to %d; start the newer "+
		"idleember that wrote it",
		e.Dir, e.Have, e.Know)
}

// InUseError is returned by Open where another process has the folder open.
type InUseError struct {
	Dir  string
	Note string // what the other one wrote down with LockNote, of no more than 4 kB
}

func (e *InUseError) Error() string {
	return fmt.Sprintf("the data folder %s is in use by another hub; stop it or choose another with --data", e.Dir)
}

// LockNote writes down what others who find the folder in use may know, until the store is closed.
func (s *Store) LockNote(text string) error {
	if err := s.lock.Truncate(0); err != nil {
		return err
	}
	_, err := s.lock.WriteAt([]byte(text), 0)
	return err
}

// Open opens the database in dir, creating both where they are missing, and brings it to this version's format. It
// fails with a sentence where the folder cannot be written, is in use by another hub (*InUseError), or holds a newer
// format (*NewerError).
func Open(ctx context.Context, dir string, o Options) (*Store, error) {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("the data folder %s cannot be made: %s; choose another with --data", dir, reason(err))
	}
	lock, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("the data folder %s cannot be written: %s; choose another with --data", dir, reason(err))
	}
	if !flock(lock) {
		note, _ := io.ReadAll(io.LimitReader(lock, 4096))
		_ = lock.Close()
		return nil, &InUseError{dir, string(note)}
	}
	_ = lock.Truncate(0) // what a hub that was killed had noted
	s := &Store{dir: dir, lock: lock, queue: make(chan *Batch, 1024), idle: make(chan struct{}), log: o.Log,
		recent: &recent{runs: map[int64]*run{}, thinned: map[int64]int64{}}, full: make(chan struct{}, 1),
		quit: make(chan struct{}), sealerEnd: make(chan struct{}),
		checkpoints: checkpoints{grown: make(chan struct{}, 1), end: make(chan struct{})}}
	if _, err := os.Stat(filepath.Join(dir, File)); errors.Is(err, fs.ErrNotExist) && !o.Anew {
		if trace := traces(dir); trace != "" {
			_ = lock.Close()
			return nil, &MissingError{dir, trace}
		}
	}
	sweep(dir)
	s.reserve.makeRoom(s)
	if err := s.open(ctx, o.NoSync); err != nil {
		if s.read != nil {
			_ = s.read.Close()
		}
		if s.write != nil {
			_ = s.write.Close()
		}
		_ = lock.Close()
		return nil, err
	}
	if !s.reserve.spent && !s.reserve.make(s) { // it was spent before this start
		s.reserve.spent, s.reserve.looked = true, time.Now()
	}
	s.tight = s.reserve.spent
	go s.writer()
	go s.sealer(s.tx.seq)
	go s.checkpointer()
	return s, nil
}

// flock takes a lock, which whoever had it may still be about to let go: a process that begins others shares it with
// them for a moment.
func flock(f *os.File) bool {
	for range 20 {
		if syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) == nil {
			return true
		}
		time.Sleep(50 * time.Millisecond)
	}
	return false
}

func (s *Store) open(ctx context.Context, noSync bool) error {
	sync := "FULL"
	if noSync {
		sync = "OFF"
	}
	// Password hashes are in it: made here, so that only this account can read it. SQLite gives its other files the same
	// mode.
	f, err := os.OpenFile(filepath.Join(s.dir, File), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return fmt.Errorf("the database in %s cannot be written: %s; choose another folder with --data", s.dir, reason(err))
	}
	info, err := f.Stat()
	_ = f.Close()
	if err == nil && info.Size() == 0 { // the driver begins with the journal mode, after which the page size is settled
		if err := s.lay(ctx); err != nil {
			return fmt.Errorf("the database in %s cannot be made: %w", s.dir, err)
		}
	}
	// Pragmas belong in the name: by Exec they would reach one pooled connection only. None of the connections makes a
	// file: where the database is taken away, a new one in its place would pass for it at the next start.
	name := uri(filepath.Join(s.dir, File)) +
		"?mode=rw&_txlock=immediate&_pragma=busy_timeout(5000)&_pragma=journal_mode(WAL)" +
		"&_pragma=foreign_keys(1)&_pragma=journal_size_limit(16777216)&_pragma=synchronous(" + sync + ")"
	if s.write, err = sqlx.Open("sqlite", name+fmt.Sprintf("&_pragma=wal_autocheckpoint(%d)",
		checkpointMost)); err != nil {
		return err
	}
	s.write.SetMaxOpenConns(1)
	if err := s.write.PingContext(ctx); err != nil {
		return fmt.Errorf("the database in %s cannot be opened: %w; is it a file of idleember?", s.dir, err)
	}
	if s.read, err = sqlx.Open("sqlite", name+"&_pragma=query_only(1)"); err != nil {
		return err
	}
	if err := s.migrate(ctx); err != nil {
		return err
	}
	return readers(ctx, s.read)
}

// readers opens all connections for reading, and keeps them: also where the database is taken away under the running
// hub, what it needs for telling people can still be read.
func readers(ctx context.Context, db *sqlx.DB) error {
	const most = 4
	db.SetMaxOpenConns(most)
	db.SetMaxIdleConns(most)
	for range most {
		c, err := db.Conn(ctx)
		if err != nil {
			return fmt.Errorf("the database cannot be read: %w", err)
		}
		defer func() { _ = c.Close() }() // back into the pool, after all of them are open
	}
	return nil
}

// uri is a path as SQLite takes it: whatever a folder is called, it is a path and nothing else.
func uri(path string) string { return "file:" + (&url.URL{Path: path}).EscapedPath() }

// lay makes a new database with pages of the size that is wanted.
func (s *Store) lay(ctx context.Context) error {
	db, err := sqlx.Open("sqlite", uri(filepath.Join(s.dir, File))+fmt.Sprintf("?_pragma=page_size(%d)", pageSize))
	if err != nil {
		return err
	}
	_, err = db.ExecContext(ctx, `PRAGMA application_id = 0x656d6272`)
	return errors.Join(err, db.Close())
}

func (s *Store) migrate(ctx context.Context) error {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	p, err := goose.NewProvider(goose.DialectSQLite3, s.write.DB, files, goose.WithLogger(goose.NopLogger()))
	if err != nil {
		return fmt.Errorf("the database in %s cannot be brought up to date: %w", s.dir, err)
	}
	have, know, err := p.GetVersions(ctx)
	if err != nil {
		return fmt.Errorf("the database in %s cannot be read: %w", s.dir, err)
	}
	if have > know {
		return &NewerError{s.dir, have, know}
	}
	if have > 0 && have < know {
		if err := s.backUpFirst(ctx, have, know); err != nil {
			return fmt.Errorf("the database in %s is of an earlier version; before it is brought up to date it is backed up, "+
				"and that failed: %w", s.dir, err)
		}
	}
	if _, err := p.Up(ctx); err != nil {
		return fmt.Errorf("the database in %s cannot be brought from format %d to %d: %w", s.dir, have, know, err)
	}
	conn, err := s.write.Connx(ctx)
	if err != nil {
		return err
	}
	s.tx = &Tx{conn: conn, prepared: map[string]*sqlx.Stmt{}, series: map[string]int64{}, recent: s.recent,
		names: &s.names, tape: &s.tape, log: s.log}
	if err := s.loadThinned(ctx); err != nil {
		return err
	}
	if err := s.moveRows(ctx); err != nil {
		return fmt.Errorf("the readings of an earlier version cannot be sealed: %w", err)
	}
	return s.replay(ctx)
}

// prepare prepares a statement for reading, once.
func (s *Store) prepare(query string) (*sqlx.Stmt, error) {
	s.prepared.Lock()
	defer s.prepared.Unlock()
	st := s.prepared.of[query]
	if st == nil {
		var err error
		if st, err = s.read.Preparex(query); err != nil {
			return nil, err
		}
		if s.prepared.of == nil {
			s.prepared.of = map[string]*sqlx.Stmt{}
		}
		s.prepared.of[query] = st
	}
	return st, nil
}

// Close commits what is queued and closes the database. No Commit may follow.
func (s *Store) Close() error {
	close(s.quit)
	<-s.sealerEnd
	close(s.queue)
	<-s.idle
	<-s.checkpoints.end
	for _, st := range s.tx.prepared {
		_ = st.Close()
	}
	return errors.Join(s.tx.conn.Close(), s.read.Close(), s.write.Close(), s.lock.Truncate(0), s.lock.Close())
}

// Change is one thing to write.
type Change func(tx *Tx) error

// Batch is what must be written together or not at all. Done is called after the commit, or with the reason why there
// was none; it runs on the writing goroutine and must not block.
type Batch struct {
	Changes []Change
	Done    func(error)
	// Bulk marks one that holds readings: it is refused while the disk is full, so that what is left of the disk is for
	// the others.
	Bulk bool
}

// Commit queues a batch. It waits only while the queue is full.
func (s *Store) Commit(b *Batch) { s.queue <- b }

// Do commits changes and waits for the disk.
func (s *Store) Do(ctx context.Context, changes ...Change) error { return s.do(ctx, false, changes) }

// Bring commits readings and waits for the disk. It is refused while that is full.
func (s *Store) Bring(ctx context.Context, changes ...Change) error { return s.do(ctx, true, changes) }

func (s *Store) do(ctx context.Context, bulk bool, changes []Change) error {
	done := make(chan error, 1)
	s.Commit(&Batch{Changes: changes, Bulk: bulk, Done: func(err error) { done <- err }})
	select {
	case err := <-done:
		return err
	case <-ctx.Done():
		return ctx.Err()
	}
}

// Tx is the writing connection inside a transaction, with its prepared statements.
type Tx struct {
	conn     *sqlx.Conn
	prepared map[string]*sqlx.Stmt
	series   map[string]int64
	recent   *recent
	names    *names
	codec    series.Codec
	body     []byte          // memory to write in
	tail     *series.Columns // the newest readings of the series that is being sealed, where they are known
	aside    []series.Span   // hours of damaged blocks that were set aside
	fewest   int             // readings that make the sum of an hour, 0: as many as are worth it
	log      *slog.Logger
	seq      int64 // of the newest row of the log
	readings int64 // that were written since the start

	// of the transaction that is under way
	ops      []op
	inputs   []byte
	inputsAt time.Time
	wrote    bool     // a row of the log
	after    []func() // done after the commit, while nobody reads what is recent
	tape     *tape
	taped    int // bytes of the row that is written
}

const groupLimit = 512 // batches in one transaction

func (s *Store) writer() {
	defer close(s.idle)
	w := s.tx
	var group []*Batch
	for first := range s.queue {
		group = append(group[:0], first)
	gather:
		for len(group) < groupLimit {
			select {
			case b, ok := <-s.queue:
				if !ok {
					break gather
				}
				group = append(group, b)
			default:
				break gather
			}
		}
		if group = s.refuseBulk(group); len(group) == 0 {
			continue
		}
		begun := time.Now()
		err := s.carryOut(group)
		if IsFull(err) && s.spend() {
			if group = s.refuseBulk(group); len(group) == 0 {
				continue
			}
			err = s.carryOut(group)
		}
		if err == nil {
			s.count.commits.Add(1)
			s.count.took.Add(int64(time.Since(begun)))
			s.count.readings.Store(w.readings)
		}
		if w.recent.n > max(sealReadings, sealEach*len(w.recent.runs)) {
			select {
			case s.full <- struct{}{}:
			default:
			}
		}
		if err != nil && len(group) > 1 { // one bad batch must not take the others with it
			for _, b := range group {
				b.Done(s.carryOut([]*Batch{b}))
			}
			continue
		}
		for _, b := range group {
			b.Done(err)
		}
		s.grew()
	}
}

// carryOut commits a group to a database that is still where it belongs.
func (s *Store) carryOut(group []*Batch) error {
	if s.presence.gone {
		return ErrGone
	}
	if err := s.tx.run(group); err != nil {
		return cmp.Or(s.there(), err) // whatever else SQLite says of it
	}
	return s.there()
}

func (w *Tx) run(group []*Batch) error {
	if !slices.ContainsFunc(group, func(b *Batch) bool { return len(b.Changes) > 0 }) {
		return nil
	}
	if err := w.exec(`BEGIN IMMEDIATE`); err != nil {
		return fmt.Errorf("store: begin: %w", err)
	}
	for _, b := range group {
		for _, c := range b.Changes {
			if err := c(w); err != nil {
				w.rollback()
				return fmt.Errorf("store: write: %w", err)
			}
		}
	}
	if err := w.writeLog(); err != nil {
		w.rollback()
		return fmt.Errorf("store: write: %w", err)
	}
	if err := w.exec(`COMMIT`); err != nil {
		w.rollback()
		return fmt.Errorf("store: commit: %w", err)
	}
	w.committed()
	return nil
}

func (w *Tx) rollback() {
	_ = w.exec(`ROLLBACK`) // fails where SQLite has rolled back by itself
	clear(w.series)        // ids given in the transaction are gone
	w.reset()
}

func (w *Tx) reset() { w.ops, w.inputs, w.wrote, w.after = w.ops[:0], nil, false, w.after[:0] }

// exec runs a statement, which is prepared once.
func (w *Tx) exec(query string, args ...any) error {
	st, err := w.prepare(query)
	if err == nil {
		_, err = st.Exec(args...)
	}
	return err
}

func (w *Tx) prepare(query string) (*sqlx.Stmt, error) {
	st := w.prepared[query]
	if st == nil {
		var err error
		if st, err = w.conn.PreparexContext(context.Background(), query); err != nil {
			return nil, err
		}
		w.prepared[query] = st
	}
	return st, nil
}

// EndPasses deletes passes that have ended.
func EndPasses(now time.Time) Change {
	return func(tx *Tx) error {
		return tx.exec(`DELETE FROM passes WHERE expires_ms > 0 AND expires_ms < ?`, now.UnixMilli())
	}
}

// reason strips what only programmers read from an error of the file system.
func reason(err error) string {
	var p *fs.PathError
	if errors.As(err, &p) {
		return p.Err.Error()
	}
	return err.Error()
}

// IsFull reports whether an error of the store means that the disk is full.
func IsFull(err error) bool {
	return code(err) == sqlite3.SQLITE_FULL || errors.Is(err, ErrFull) || errors.Is(err, syscall.ENOSPC)
}

// code is the driver's primary result code of an error, 0 where it is none of the driver's (sqlite.org/rescode.html).
func code(err error) int {
	var fault *sqlite.Error
	if errors.As(err, &fault) {
		return fault.Code() & 0xff
	}
	return 0
}

func notFound(err error) bool { return errors.Is(err, sql.ErrNoRows) }

// Size is how many bytes the database takes on the disk.
func (s *Store) Size() (n int64) {
	for _, name := range []string{File, File + "-wal"} {
		if info, err := os.Stat(filepath.Join(s.dir, name)); err == nil {
			n += info.Size()
		}
	}
	return n
}
