package store

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"

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

// Salvage reads the database of a hub, however damaged, without SQLite, and writes all of it that is whole into a new one in a folder
// that is empty or not there. The old one stays as it is. Rows that no table reaches any more are taken where it is certain what they
// are. Sums of hours are made anew from the readings. progress may be nil.
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
	v := &salvage{from: from, ctx: ctx, file: f, lost: f.Remarks, progress: progress, names: map[int64]string{}, thinned: map[int64]int64{}, blocks: map[int64][]series.Span{}}
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
		return nil, &InUseError{dir}
	}
	return func() { _ = lock.Close() }, nil
}

func copyFolder(from, to string) error {
	if _, err := os.Stat(from); errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return os.CopyFS(to, os.DirFS(from))
}

// rescued is a table of the new database.
type rescued struct {
	name    string
	keyed   bool // it has no rowid
	columns []column
	insert  string
	root    uint32
	gaps    []gap
	lost    int // rows that were refused
}

type column struct {
	Name    string
	Type    string
	NotNull bool
	Default *string
	PK      int
}

// gap is where something of a table is missing: between two rows.
type gap struct{ before, after []any }

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

// write makes the new database and fills it.
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
		v.lost = append(v.lost, "a part of the list of what is kept where; of these, what was found is taken, and it is not known whether that is all: "+strings.Join(v.rootless, ", "))
	}
	if err := v.orphans(); err != nil {
		return err
	}
	v.tell()
	if v.rows <= 1 { // what a new database has itself
		return fmt.Errorf("%w in %s; restore a backup", errNothing, v.from)
	}
	if err := v.mend(); err != nil {
		return err
	}
	if v.progress != nil {
		v.progress(len(v.tables), len(v.tables))
	}
	return errors.Join(v.tx.Commit(), db.Close())
}

// lay makes the tables of the format that the old database has.
func (v *salvage) lay(db *sqlx.DB, versions uint32) error {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	p, err := goose.NewProvider(goose.DialectSQLite3, db.DB, files, goose.WithLogger(goose.NopLogger()))
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

// alias reports whether a column is the rowid, which stands beside the row and not in it.
func (t *rescued) alias(i int) bool {
	return !t.keyed && t.columns[i].PK == 1 && t.columns[i].Type == "INTEGER"
}

// fits reports whether a row can be one of the table.
func (t *rescued) fits(r pages.Row) bool {
	if len(r.Values) == 0 || len(r.Values) > len(t.columns) {
		return false
	}
	for i, c := range t.columns {
		if i >= len(r.Values) {
			if c.NotNull && c.Default == nil {
				return false
			}
			continue
		}
		ok := true
		switch r.Values[i].(type) {
		case nil:
			ok = !c.NotNull || t.alias(i)
		case int64, float64:
			ok = c.Type == "INTEGER" || c.Type == "REAL" || c.Type == ""
		case string:
			ok = c.Type == "TEXT" || c.Type == ""
		case []byte:
			ok = c.Type == "BLOB" || c.Type == ""
		}
		if !ok || t.alias(i) && r.Values[i] != nil {
			return false
		}
	}
	return true
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

func (t *rescued) values(r pages.Row) []any {
	values := slices.Clone(r.Values)
	for i := range values {
		if t.alias(i) {
			values[i] = r.ID
		}
	}
	return values
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
	query := fmt.Sprintf("%s INTO %s (%s) VALUES (?%s)", t.insert, t.name, `"`+strings.Join(names, `", "`)+`"`, strings.Repeat(", ?", len(values)-1))
	if _, err := v.tx.ExecContext(v.ctx, query, values...); err != nil {
		if v.ctx.Err() != nil || strings.Contains(err.Error(), "disk") || strings.Contains(err.Error(), "full") {
			return err
		}
		t.lost++ // it is there already, or is nothing that the table takes
		return nil
	}
	v.rows++
	return nil
}

var errNothing = errors.New("nothing can be read of what is kept")

var errDamaged = errors.New("it is damaged")

// stretchError says of which time something is damaged.
type stretchError struct{ what, from, to string }

func (e *stretchError) Error() string { return e.what + " from " + e.from + " to " + e.to }

// sound returns the row as it is to be kept; nil: it need not be.
func (v *salvage) sound(t *rescued, values []any) ([]any, error) {
	text := func(i int) (s string) {
		if i < len(values) {
			s, _ = values[i].(string)
		}
		return s
	}
	number := func(i int) (n int64) {
		if i < len(values) {
			n, _ = values[i].(int64)
		}
		return n
	}
	blob := func(i int) (b []byte) {
		if i < len(values) {
			b, _ = values[i].([]byte)
		}
		return b
	}
	var into any
	switch t.name {
	case "series":
		v.names[number(0)] = text(1)
		if len(values) > 2 && number(2) != math.MinInt64 {
			v.thinned[number(0)] = number(2)
		}
	case "blocks":
		return v.block(values, number, blob)
	case "cells":
		id := number(0) >> dayBits
		thin, ok := v.thinned[id]
		if !ok || dayOf(number(0)) >= thin {
			return nil, nil // they are made anew
		}
		cells, err := v.codec.DecodeCells(nil, dayOf(number(0)), blob(1))
		if err != nil {
			return values, &stretchError{"sums of hours of " + v.called(id), atTime(dayOf(number(0))), atTime(dayOf(number(0)) + series.Day)}
		}
		cells = slices.DeleteFunc(cells, func(c series.Cell) bool { return c.At >= thin })
		if len(cells) == 0 {
			return nil, nil
		}
		return []any{values[0], v.codec.EncodeCells(nil, dayOf(number(0)), cells)}, nil
	case "log":
		changes, err := openRow(number(0), blob(2))
		if err == nil {
			err = eachOp(changes, func(op) {})
		}
		if err != nil {
			return values, &stretchError{"some of what came", atTime(number(1) - 5000), atTime(number(1))}
		}
	case "places":
		into = &[]site.Fact{}
		if text(3) == "" {
			into = nil
		}
		return values, unmarshals(text(3), into)
	case "devices":
		return values, unmarshals(text(7), &deviceSettings{})
	case "signals":
		return values, unmarshals(text(11), &signalSettings{})
	case "controls":
		return values, unmarshals(text(11), &controlSettings{})
	case "brokers":
		return values, unmarshals(text(1), &site.Broker{})
	case "models":
		return values, unmarshals(text(1), &site.Model{})
	case "state":
		return values, unmarshals(text(2), &map[string]any{})
	case "dashboards":
		return values, unmarshals(text(1), &site.Dashboard{})
	case "preferences":
		return values, unmarshals(text(1), &site.Preferences{})
	case "parts":
		if onePart((&site.Site{}).Clone(), text(0), text(1), text(2)) != nil {
			return values, errDamaged
		}
	case "hub":
		switch key := text(0); key {
		case "site":
			into = &site.Hub{}
		case "messaging":
			into = &site.Messaging{}
		case "backups":
			into = &site.Backups{}
		case "rights":
			into = &[]site.Right{}
		case "panel":
			into = &site.Panel{}
		}
		if into != nil {
			return values, unmarshals(text(1), into)
		}
	}
	return values, nil
}

func unmarshals(text string, into any) error {
	if text == "" || into == nil {
		return nil
	}
	if json.Unmarshal([]byte(text), into) != nil {
		return errDamaged
	}
	return nil
}

// block verifies a block by its own checksum and by what stands beside it.
func (v *salvage) block(values []any, number func(int) int64, blob func(int) []byte) ([]any, error) {
	id, from := number(0)>>timeBits, timeOf(number(0))
	span := series.Span{From: from, To: number(1) + 1}
	where := &stretchError{v.called(id), atTime(from), atTime(number(1))}
	c := &series.Columns{}
	if err := v.codec.Decode(c, blob(3)); err != nil || c.Len() == 0 || c.T[0] != from || c.T[c.Len()-1] != number(1) || int64(c.Len()) != number(2) || !slices.IsSorted(c.T) {
		if err == nil && c.Len() > 0 && slices.IsSorted(c.T) && c.T[0] == from { // what stands beside it is wrong
			values = []any{values[0], c.T[c.Len()-1], int64(c.Len()), blob(3)}
			span.To = c.T[c.Len()-1] + 1
		} else {
			return values, where
		}
	}
	at, _ := slices.BinarySearchFunc(v.blocks[id], span.From, func(s series.Span, t int64) int { return int(min(1, max(-1, s.From-t))) })
	if at > 0 && v.blocks[id][at-1].To > span.From || at < len(v.blocks[id]) && v.blocks[id][at].From < span.To {
		return nil, nil // what is there is newer
	}
	v.blocks[id] = slices.Insert(v.blocks[id], at, span)
	return values, nil
}

// called is what a series is of.
func (v *salvage) called(id int64) string {
	if name, ok := v.names[id]; ok {
		return name
	}
	return fmt.Sprintf("a series whose name is lost (%d)", id)
}

func atTime(t int64) string { return time.UnixMilli(t).UTC().Format("2006-01-02 15:04:05Z") }

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
				if !of(t) || len(t.gaps) == 0 || t.keyed != keyed || slices.ContainsFunc(rows, func(r pages.Row) bool { return !t.fits(r) || !t.looks(r.Values) }) {
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
		return v.file.FreeKnown || t.name != "passes" && t.name != "invites" // a token that somebody took back must not work again
	})
	if len(v.doubtful) > 0 {
		v.lost = append(v.lost, "it is not known which pages are free: of these, something that was deleted may be there again, or be as it was before: "+strings.Join(v.doubtful, ", "))
	}
	return failed
}

// partKinds are those of the configuration's parts, stateKinds those of what the engine remembers.
var (
	partKinds  = []string{"automation", "group", "setting", "preset", "rule", "alert", "route"}
	stateKinds = []string{"signal", "control", "device", "setting", "alert", "rule", "group", "demands", "condition"}
	hubKeys    = []string{"site", "messaging", "backups", "rights", "panel", "alive", "clock"}
)

// looks reports whether what is written in a row is of the table: several have columns of the same types.
func (t *rescued) looks(values []any) bool {
	text := func(i int) (s string) {
		if i < len(values) {
			s, _ = values[i].(string)
		}
		return s
	}
	has := func(i int, key string) bool {
		var x map[string]json.RawMessage
		return json.Unmarshal([]byte(text(i)), &x) == nil && x[key] != nil
	}
	switch t.name {
	case "hub":
		return slices.Contains(hubKeys, text(0)) || strings.HasPrefix(text(0), "secret ")
	case "members":
		return slices.Contains([]string{"owner", "member", "guest"}, text(2))
	case "signals", "controls":
		return strings.HasPrefix(text(0), text(1)+".")
	case "models":
		return strings.HasPrefix(text(1), "{") && !slices.Contains(hubKeys, text(0))
	case "dashboards":
		return has(1, "tiles")
	case "preferences":
		return strings.HasPrefix(text(1), "{") && !has(1, "tiles")
	case "parts":
		return slices.Contains(partKinds, text(0)) && (has(2, "name") || text(0) == "automation" && has(2, "control"))
	case "state":
		return slices.Contains(stateKinds, text(0)) && strings.HasPrefix(text(2), "{") && !has(2, "name")
	case "brokers":
		return strings.HasPrefix(text(1), "{")
	}
	return true
}

// labels are what people call what a table holds.
var labels = map[string]string{"hub": "the hub's own settings", "state": "what was remembered of controls and signals", "parts": "automation, rules, presets, alerts and notifications",
	"members": "accounts", "passes": "sessions, tokens and walls", "refusals": "refused messages", "alert_events": "the alert history", "views": "views of charts",
	"preferences": "preferences", "versions": "earlier versions of the configuration", "series": "names of series", "blocks": "readings", "log": "the newest readings",
	"cells": "sums of hours", "journal": "the journal", "models": "device models", "subscriptions": "subscriptions to push messages", "deliveries": "messages on their way",
	"sealed": "how far the newest readings are in blocks", "damaged": "damaged readings that were set aside", "own_stamps": "times that devices stamped", "invites": "invitations", "stills": "still pictures"}

func label(table string) string {
	if l, ok := labels[table]; ok {
		return l
	}
	return strings.ReplaceAll(table, "_", " ")
}

// keyOf is what a row is known by.
func (t *rescued) keyOf(values []any) string {
	if (t.name == "parts" || t.name == "state") && len(values) > 1 {
		return fmt.Sprintf("%v %q", values[0], values[1])
	}
	return keyOf(values)
}

func keyOf(values []any) string {
	if len(values) == 0 {
		return "…"
	}
	switch k := values[0].(type) {
	case string:
		return fmt.Sprintf("%q", k)
	case []byte:
		return fmt.Sprintf("%x", k[:min(4, len(k))])
	default:
		return fmt.Sprint(k)
	}
}

// tell says what is missing.
func (v *salvage) tell() {
	for _, t := range v.tables {
		told := map[string]bool{}
		for _, g := range t.gaps {
			if slices.Contains(v.rootless, label(t.name)) {
				break
			}
			where := "after " + t.keyOf(g.before)
			if g.before == nil {
				where = "from the beginning on"
			}
			if g.after != nil {
				where += ", before " + t.keyOf(g.after)
			}
			if t.name == "blocks" {
				where = v.between(g)
			}
			if !told[where] {
				told[where] = true
				v.lost = append(v.lost, label(t.name)+": something may be missing "+where)
			}
		}
		if t.lost > 0 {
			v.lost = append(v.lost, fmt.Sprintf("%s: %d rows stand there twice or make no sense", label(t.name), t.lost))
		}
	}
	if v.progress != nil {
		v.progress(len(v.tables), len(v.tables))
	}
}

// between says of which readings something may be missing.
func (v *salvage) between(g gap) string {
	point := func(values []any, which int) (id, t int64) {
		key, _ := values[0].(int64)
		if id, t = key>>timeBits, timeOf(key); which == 1 && len(values) > 1 {
			t, _ = values[1].(int64)
		}
		return id, t
	}
	switch {
	case g.before == nil && g.after == nil:
		return "of every series"
	case g.before == nil:
		id, t := point(g.after, 0)
		return fmt.Sprintf("of %s before %s, and of series before it", v.called(id), atTime(t))
	case g.after == nil:
		id, t := point(g.before, 1)
		return fmt.Sprintf("of %s after %s, and of series after it", v.called(id), atTime(t))
	}
	one, from := point(g.before, 1)
	other, until := point(g.after, 0)
	if one == other {
		return fmt.Sprintf("of %s between %s and %s", v.called(one), atTime(from), atTime(until))
	}
	return fmt.Sprintf("of %s after %s, of %s before %s, and of series between them", v.called(one), atTime(from), v.called(other), atTime(until))
}

// mend sees to it that what is there can stand without what is not.
func (v *salvage) mend() error {
	var lost []string
	for _, x := range []struct{ said, find, do string }{
		{"the place %s: its name, picture and facts are lost", `SELECT DISTINCT place FROM devices WHERE place NOT IN (SELECT id FROM places)`, `INSERT INTO places (id, name, position) VALUES (?1, ?1, 99)`},
		{"the device %s: how it was linked is lost, and its key; give it a new one", `SELECT DISTINCT device FROM (SELECT device FROM signals UNION SELECT device FROM controls) WHERE device NOT IN (SELECT id FROM devices)`, ""},
		{"sessions, tokens and walls of the account %s, which is lost", `SELECT DISTINCT member FROM passes WHERE member NOT IN (SELECT id FROM members)`, `DELETE FROM passes WHERE member = ?1`},
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
	_ = v.tx.Get(&place, `SELECT id FROM places ORDER BY position LIMIT 1`)
	if _, err := v.tx.Exec(`INSERT OR IGNORE INTO places (id, name, position) VALUES (?1, ?1, 0)`, place); err != nil {
		return err
	}
	none := make([]byte, 32) // a hash that no key has
	_, _ = rand.Read(none)
	_, err := v.tx.Exec(`INSERT INTO devices (id, name, place, key_hash, lease_ms, new_signals, created_ms) VALUES (?1, ?1, ?2, ?3, 60000, 1, ?4)`, id, place, none, time.Now().UnixMilli())
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
