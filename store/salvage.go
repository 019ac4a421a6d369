package store

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
	sqlite3 "modernc.org/sqlite/lib"

	"idleember/core/series"
	"idleember/core/site"
	"idleember/store/pages"
)

// Salvaged says what was taken out of a damaged database.
type Salvaged struct {
	Rows     int      // of all tables
	Readings int64    // that are there again
	Lost     []string // what could not be read, in sentences, as far as it is known what it was
}

// Salvage reads the database of a hub, however damaged, without SQLite, and writes all of it that is whole into a new
// one in a folder that is empty or not there. The old one stays as it is. Rows that no table reaches any more are taken
// where it is certain what they are. Sums of hours are made anew from the readings. progress may be nil.
func Salvage(ctx context.Context, from, to string, progress func(done, of int)) (out Salvaged, err error) {
	if entries, err := os.ReadDir(to); err == nil && len(entries) > 0 {
		return out, fmt.Errorf("%s is not empty; salvage into an empty folder, so that nothing is lost", to)
	}
	unlock, err := holdOff(from)
	if err != nil {
		return out, err
	}
	defer unlock()
	f, err := pages.Open(filepath.Join(from, File))
	if err != nil {
		return out, fmt.Errorf("there is nothing to salvage in %s: %s", from, reason(err))
	}
	defer func() { _ = f.Close() }()
	if f.Pages() == 0 {
		return out, fmt.Errorf("the database in %s is empty; restore a backup", from)
	}
	v := &salvage{from: from, ctx: ctx, file: f, lost: f.Remarks, progress: progress, names: map[int64]string{},
		thinned: map[int64]int64{}, blocks: map[int64][]series.Span{}}
	if err := v.write(to); err != nil {
		_ = os.Remove(filepath.Join(to, File))
		_ = os.Remove(to) // where it is empty
		if newer := (*NewerError)(nil); errors.As(err, &newer) || errors.Is(err, errNothing) {
			return out, err
		}
		return out, fmt.Errorf("the new database in %s cannot be written: %w", to, err)
	}
	if err := copyFolder(filepath.Join(from, tlsFolder), filepath.Join(to, tlsFolder)); err != nil {
		v.lost = append(v.lost, "the hub's authority: "+reason(err))
	}
	s, err := Open(ctx, to, Options{})
	if err != nil {
		return out, err
	}
	defer func() { err = errors.Join(err, s.Close()) }()
	if _, err := s.Site(ctx); err != nil {
		return out, fmt.Errorf("the configuration that was salvaged cannot be read: %w", err)
	}
	if out.Readings, err = v.sumUp(s); err != nil {
		return out, err
	}
	if err := s.Check(ctx, nil); err != nil {
		return out, fmt.Errorf("what was salvaged is not sound: %w", err)
	}
	out.Rows, out.Lost = v.rows, v.lost
	return out, ctx.Err()
}

// holdOff sees to it that no hub runs in a folder meanwhile.
func holdOff(dir string) (func(), error) {
	lock, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_RDWR, 0)
	if err != nil {
		return func() {}, nil // nobody ever ran there, or the disk is only to be read
	}
	if !flock(lock) {
		_ = lock.Close()
		return nil, &InUseError{Dir: dir}
	}
	return func() { _ = lock.Close() }, nil
}

func copyFolder(from, to string) error {
	if _, err := os.Stat(from); errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return os.CopyFS(to, os.DirFS(from))
}

type salvage struct {
	from     string
	ctx      context.Context
	file     *pages.File
	tx       *sqlx.Tx
	tables   []*rescued
	names    map[int64]string
	thinned  map[int64]int64
	blocks   map[int64][]series.Span
	codec    series.Codec
	rows     int
	lost     []string
	rootless []string // of what it is not known where it begins
	doubtful []string // of what something that was deleted may be there again
	progress func(done, of int)
}

// write makes the new database and fills it. Long, because it is one step after the other, each of which may find
// damage.
func (v *salvage) write(to string) error {
	if err := os.MkdirAll(to, 0o700); err != nil {
		return err
	}
	objects, whole := v.file.Schema()
	roots, indexes := map[string]uint32{}, []pages.Object{}
	for _, o := range objects {
		if o.Type == "table" {
			roots[o.Name] = o.Root
		} else if o.Type == "index" {
			indexes = append(indexes, o)
		}
	}
	path := filepath.Join(to, File)
	s := &Store{dir: to}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err == nil {
		err = errors.Join(f.Close(), s.lay(v.ctx))
	}
	if err != nil {
		return err
	}
	db, err := sqlx.Open("sqlite", uri(path)+"?_txlock=immediate&_pragma=journal_mode(WAL)&_pragma=foreign_keys(0)")
	if err != nil {
		return err
	}
	defer func() { _ = db.Close() }()
	db.SetMaxOpenConns(1)
	if err := v.lay(db, roots["goose_db_version"]); err != nil {
		return err
	}
	if v.tx, err = db.BeginTxx(v.ctx, nil); err != nil {
		return err
	}
	defer func() { _ = v.tx.Rollback() }()
	if err := v.learn(); err != nil {
		return err
	}
	for i, t := range v.tables {
		if v.progress != nil {
			v.progress(i, len(v.tables))
		}
		if t.root = roots[t.name]; t.root == 0 {
			if !whole {
				t.gaps = append(t.gaps, gap{})
				if l := label(t.name); !slices.Contains(v.rootless, l) {
					v.rootless = append(v.rootless, l)
				}
			}
			continue
		}
		if err := v.take(t); err != nil {
			return err
		}
	}
	for _, o := range indexes {
		if o.Name == "sqlite_autoindex_series_1" {
			v.compareNames(o.Root)
		} else {
			v.file.Skip(o.Root)
		}
	}
	if len(v.rootless) > 0 {
		v.lost = append(v.lost, "a part of the list of what is kept where; of these, what was found is taken, and it is "+
			"not known whether that is all: "+strings.Join(v.rootless, ", "))
	}
	if err := v.orphans(); err != nil {
		return err
	}
	v.tell()
	if v.rows <= 1 { // what a new database has itself
		return fmt.Errorf("%w in %s; restore a backup", errNothing, v.from)
	}
	if err := v.tx.Commit(); err != nil {
		return err
	}
	if err := v.update(db); err != nil {
		return err
	}
	if v.tx, err = db.BeginTxx(v.ctx, nil); err != nil {
		return err
	}
	if err := v.mend(); err != nil {
		return err
	}
	if v.progress != nil {
		v.progress(len(v.tables), len(v.tables))
	}
	return errors.Join(v.tx.Commit(), db.Close())
}

// update brings the new database to the newest format.
func (v *salvage) update(db *sqlx.DB) error {
	p, err := migrator(db)
	if err == nil {
		_, err = p.Up(v.ctx)
	}
	return err
}

func migrator(db *sqlx.DB) (*goose.Provider, error) {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return nil, err
	}
	return goose.NewProvider(goose.DialectSQLite3, db.DB, files, goose.WithLogger(goose.NopLogger()))
}

// lay makes the tables of the format that the old database has.
func (v *salvage) lay(db *sqlx.DB, versions uint32) error {
	p, err := migrator(db)
	if err != nil {
		return err
	}
	var have int64
	v.file.Walk(versions, func(r pages.Row) bool {
		if len(r.Values) != 4 {
			return false
		}
		_, number := r.Values[1].(int64)
		_, when := r.Values[3].(string)
		return number && when && r.Values[2] == int64(1)
	}, func(r pages.Row) { have = max(have, r.Values[1].(int64)) }, func(uint32) {})
	know := p.ListSources()[len(p.ListSources())-1].Version
	if have > know {
		return &NewerError{v.from, have, know}
	}
	if have == 0 {
		have = know
	}
	_, err = p.UpTo(v.ctx, have)
	return err
}

// learn finds out what tables there are, those first that others need.
func (v *salvage) learn() error {
	var all []struct{ Name, SQL string }
	if err := v.tx.Select(&all, `SELECT name, sql FROM sqlite_schema WHERE type = 'table' AND name NOT LIKE 'sqlite_%' AND name <> 'goose_db_version' ORDER BY rowid`); err != nil {
		return err
	}
	for _, x := range all {
		t := &rescued{name: x.Name, keyed: strings.Contains(strings.ToUpper(x.SQL), "WITHOUT ROWID")}
		if err := v.tx.Select(&t.columns, `SELECT name, type, "notnull", dflt_value AS "default", pk FROM pragma_table_info(?)`, x.Name); err != nil {
			return err
		}
		if x.Name == "sealed" {
			t.insert = "INSERT OR REPLACE"
		} else {
			t.insert = "INSERT"
		}
		if x.Name == "series" { // what others are called by
			v.tables = slices.Insert(v.tables, 0, t)
		} else {
			v.tables = append(v.tables, t)
		}
	}
	return nil
}

// take takes what is whole of a table.
func (v *salvage) take(t *rescued) error {
	var last []any
	open := -1
	var failed error
	v.file.Walk(t.root, t.fits, func(r pages.Row) {
		if failed != nil {
			return
		}
		if failed = v.ctx.Err(); failed != nil {
			return
		}
		values := t.values(r)
		for ; open >= 0 && open < len(t.gaps); open++ {
			t.gaps[open].after = values
		}
		open, last = -1, values
		failed = v.put(t, values)
	}, func(uint32) {
		if open < 0 {
			open = len(t.gaps)
		}
		t.gaps = append(t.gaps, gap{before: last})
	})
	return failed
}

// put keeps a row, where it is sound.
func (v *salvage) put(t *rescued, values []any) error {
	values, err := v.sound(t, values)
	if err != nil {
		what := fmt.Sprintf("%s: %s: %s", label(t.name), t.keyOf(values), err)
		if stretch := (*stretchError)(nil); errors.As(err, &stretch) {
			what = stretch.Error()
		}
		v.lost = append(v.lost, what)
		return nil
	}
	if values == nil {
		return nil
	}
	names := make([]string, len(values))
	for i := range values {
		names[i] = t.columns[i].Name
	}
	query := fmt.Sprintf("%s INTO %s (%s) VALUES (?%s)", t.insert, t.name, `"`+strings.Join(names, `", "`)+`"`,
		strings.Repeat(", ?", len(values)-1))
	if _, err := v.tx.ExecContext(v.ctx, query, values...); err != nil {
		if v.ctx.Err() != nil || IsFull(err) || code(err) == sqlite3.SQLITE_IOERR {
			return err
		}
		t.lost++ // it is there already, or is nothing that the table takes
		return nil
	}
	v.rows++
	return nil
}

var errNothing = errors.New("nothing can be read of what is kept")

// compareNames finds series that are called otherwise than the index of their names has it.
func (v *salvage) compareNames(root uint32) {
	type entry struct {
		name string
		id   int64
	}
	var index []entry
	v.file.Walk(root, func(r pages.Row) bool { return len(r.Values) == 2 }, func(r pages.Row) {
		name, _ := r.Values[0].(string)
		id, _ := r.Values[1].(int64)
		index = append(index, entry{name, id})
	}, func(uint32) {})
	for _, e := range index {
		switch name, ok := v.names[e.id]; {
		case !ok:
			if _, err := v.tx.Exec(`INSERT INTO series (id, name) VALUES (?, ?)`, e.id, e.name); err == nil {
				v.names[e.id] = e.name // its row is gone, and what it said besides with it
			}
		case name != e.name:
			v.lost = append(v.lost, fmt.Sprintf("the name of a series: it is %q or %q; the first was taken", name, e.name))
		}
	}
}

// orphans takes what no table reaches any more, where it is certain what it is.
func (v *salvage) orphans() error {
	var failed error
	pass := func(of func(t *rescued) bool) {
		v.file.Orphans(func(_ uint32, keyed bool, rows []pages.Row) bool {
			var fit *rescued
			for _, t := range v.tables {
				if !of(t) || len(t.gaps) == 0 || t.keyed != keyed || slices.ContainsFunc(rows,
					func(r pages.Row) bool { return !t.fits(r) || !t.looks(r.Values) }) {
					continue
				}
				if fit != nil {
					return false // it could be of either
				}
				fit = t
			}
			if fit == nil || failed != nil {
				return false
			}
			if !v.file.FreeKnown && fit.name != "blocks" && fit.name != "log" && !slices.Contains(v.doubtful, label(fit.name)) {
				v.doubtful = append(v.doubtful, label(fit.name))
			}
			for _, r := range rows {
				if failed = errors.Join(failed, v.put(fit, fit.values(r))); failed != nil {
					return false
				}
			}
			return true
		})
	}
	pass(func(t *rescued) bool { return t.name == "series" }) // what others are called by
	pass(func(t *rescued) bool {
		// a token that somebody took back must not work again
		return v.file.FreeKnown || t.name != "passes" && t.name != "invites"
	})
	if len(v.doubtful) > 0 {
		v.lost = append(v.lost, "it is not known which pages are free: of these, something that was deleted may be there "+
			"again, or be as it was before: "+strings.Join(v.doubtful, ", "))
	}
	return failed
}

const savePlace = `INSERT OR IGNORE INTO parts (kind, id, body) VALUES ('place', ?1, json_object('id', ?1, 'name', ?1, 'position', 99))`

// mend sees to it that what is there can stand without what is not.
func (v *salvage) mend() error {
	var lost []string
	for _, x := range []struct{ said, find, do string }{
		{"the place %s: its name, picture and facts are lost",
			`SELECT DISTINCT body ->> 'place' FROM parts WHERE kind = 'device' AND body ->> 'place' NOT IN (SELECT id FROM parts WHERE kind = 'place')`, savePlace},
		{"the device %s: how it was linked is lost, and its key; give it a new one",
			`SELECT DISTINCT body ->> 'device' FROM parts WHERE kind IN ('signal', 'control') AND body ->> 'device' NOT IN (SELECT id FROM parts WHERE kind = 'device')`, ""},
		{"sessions, tokens and walls of the account %s, which is lost",
			`SELECT DISTINCT member FROM passes WHERE member NOT IN (SELECT id FROM members)`,
			`DELETE FROM passes WHERE member = ?1`},
	} {
		var ids []string
		if err := v.tx.Select(&ids, x.find); err != nil {
			return err
		}
		for _, id := range ids {
			lost = append(lost, fmt.Sprintf(x.said, id))
			err := error(nil)
			if x.do != "" {
				_, err = v.tx.Exec(x.do, id)
			} else {
				err = v.standIn(id)
			}
			if err != nil {
				return err
			}
		}
	}
	for _, id := range slices.Sorted(maps.Keys(v.blocks)) {
		if _, ok := v.names[id]; ok {
			continue
		}
		name := fmt.Sprintf("salvaged.series_%d", id)
		lost = append(lost, fmt.Sprintf("the name of a series; it is %s now", name))
		if _, err := v.tx.Exec(`INSERT INTO series (id, name) VALUES (?, ?)`, id, name); err != nil {
			return err
		}
		v.names[id] = name
	}
	var people int
	if err := v.tx.Get(&people, `SELECT count(*) FROM members WHERE role = 'owner'`); err != nil {
		return err
	}
	if people == 0 {
		lost = append(lost, "the owners' accounts: the hub asks for a new owner")
	}
	v.lost = append(v.lost, lost...)
	return nil
}

// standIn makes a device of which only the signals and controls are left.
func (v *salvage) standIn(id string) error {
	place := "salvaged"
	_ = v.tx.Get(&place, `SELECT id FROM parts WHERE kind = 'place' ORDER BY body ->> 'position' LIMIT 1`)
	if _, err := v.tx.Exec(savePlace, place); err != nil {
		return err
	}
	_, err := v.tx.Exec(`INSERT INTO parts (kind, id, body) VALUES ('device', ?, ?)`, id,
		asJSON(site.Device{ID: id, Name: id, Place: place,
			LeaseMS: site.DefaultLease.Milliseconds(), NewSignals: true, Created: time.Now(), Link: site.Link{Kind: site.MQTT}}))
	return err
}

// sumUp makes the sums of hours anew, and counts the readings.
func (v *salvage) sumUp(s *Store) (readings int64, err error) {
	ids := slices.Sorted(maps.Keys(v.names))
	for i, id := range ids {
		if v.progress != nil {
			v.progress(i, len(ids))
		}
		for _, span := range v.blocks[id] {
			span.From, span.To = max(floor(span.From, series.Hour), s.recent.thin(id)), floor(span.To-1, series.Hour)+series.Hour
			if span.From < span.To {
				if err := s.Do(v.ctx, func(w *Tx) error { return w.refresh(id, []series.Span{span}) }); err != nil {
					return readings, err
				}
			}
		}
		n, err := s.Count(v.ctx, v.names[id])
		if err != nil {
			return readings, err
		}
		readings += n
	}
	if err := s.Seal(v.ctx); err != nil {
		return readings, err
	}
	return readings, nil
}
