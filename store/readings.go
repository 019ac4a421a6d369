package store

import (
	"context"
	"encoding/binary"
	"fmt"
	"iter"
	"math"
	"slices"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"idleember/core/reading"
	"idleember/core/site"
)

// Reading is one stored value of a series.
type Reading struct {
	T       int64 // Unix milliseconds
	Value   reading.Value
	Quality reading.Quality
	Raw     *float64 // before calibration; nil: Value is what came
}

// AddReading keeps a reading of a series. One of the same series and time takes the place of the earlier; replaced, where
// it is not nil, is told when that one differed.
func AddReading(series string, r Reading, replaced func(int)) Change {
	return func(tx *Tx) error {
		id, err := tx.seriesID(series)
		if err != nil {
			return err
		}
		return tx.addReading(id, r, replaced)
	}
}

func (w *Tx) addReading(series int64, r Reading, replaced func(int)) error {
	n, err := w.execN(`INSERT OR IGNORE INTO readings (series, t, v, q, raw) VALUES (?, ?, ?, ?, ?)`, series, r.T, column(r.Value), int(r.Quality), r.Raw)
	if err != nil || n == 1 {
		return err
	}
	n, err = w.execN(`UPDATE readings SET v = ?, q = ?, raw = ? WHERE series = ? AND t = ? AND v IS NOT ?`,
		column(r.Value), int(r.Quality), r.Raw, series, r.T, column(r.Value))
	if n > 0 && replaced != nil {
		replaced(int(n))
	}
	return err
}

// rowsAtOnce are the numbers of rows that one statement inserts, largest first.
var rowsAtOnce = []int{200, 50, 10}

// insertPlain and insertMany hold the statement for each of rowsAtOnce: for good readings without a raw value, which most
// are and which need less than half of the parameters, and for any.
var insertPlain, insertMany = inserts(`(?1, ?, ?, 0, NULL)`), inserts(`(?1, ?, ?, ?, ?)`)

func inserts(row string) map[int]string {
	out := map[int]string{}
	for _, n := range rowsAtOnce {
		out[n] = `INSERT OR IGNORE INTO readings (series, t, v, q, raw) VALUES ` + row + strings.Repeat(`, `+row, n-1)
	}
	return out
}

// AddReadings keeps many readings of a series, as AddReading does one.
func AddReadings(series string, list []Reading, replaced func(int)) Change {
	return func(tx *Tx) error {
		id, err := tx.seriesID(series)
		if err != nil {
			return err
		}
		for _, n := range rowsAtOnce {
			for len(list) >= n {
				if err := tx.addMany(id, list[:n], replaced); err != nil {
					return err
				}
				list = list[n:]
			}
		}
		return tx.addEach(id, list, replaced)
	}
}

// addMany inserts a portion with one statement. Where some of it is there already, each is looked at.
func (w *Tx) addMany(series int64, list []Reading, replaced func(int)) error {
	statements := insertPlain
	plain := !slices.ContainsFunc(list, func(r Reading) bool { return r.Quality != reading.Good || r.Raw != nil })
	if !plain {
		statements = insertMany
	}
	args := append(make([]any, 0, 1+4*len(list)), series)
	for _, r := range list {
		args = append(args, r.T, column(r.Value))
		if !plain {
			var raw any
			if r.Raw != nil {
				raw = *r.Raw
			}
			args = append(args, int64(r.Quality), raw)
		}
	}
	n, err := w.execN(statements[len(list)], args...)
	if err != nil || int(n) == len(list) {
		return err
	}
	return w.addEach(series, list, replaced)
}

func (w *Tx) addEach(series int64, list []Reading, replaced func(int)) error {
	for _, r := range list {
		if err := w.addReading(series, r, replaced); err != nil {
			return err
		}
	}
	return nil
}

// Replace puts other values in the place of readings that are there: a recalibration.
func Replace(series string, list []Reading) Change {
	return func(tx *Tx) error {
		id, err := tx.seriesID(series)
		if err != nil {
			return err
		}
		for _, r := range list {
			if err := tx.exec(`UPDATE readings SET v = ?, q = ?, raw = ? WHERE series = ? AND t = ?`, column(r.Value), int(r.Quality), r.Raw, id, r.T); err != nil {
				return err
			}
		}
		return nil
	}
}

// DropSome deletes up to limit readings of a series, oldest first, and tells left how many it was.
func DropSome(series string, limit int, dropped func(int64)) Change {
	return func(tx *Tx) error {
		n, err := tx.execN(`DELETE FROM readings WHERE (series, t) IN (SELECT series, t FROM readings
			WHERE series = (SELECT id FROM series WHERE name = ?) ORDER BY t LIMIT ?)`, series, limit)
		if err == nil {
			dropped(n)
		}
		return err
	}
}

func (w *Tx) seriesID(name string) (int64, error) {
	if id, ok := w.series[name]; ok {
		return id, nil
	}
	if err := w.exec(`INSERT OR IGNORE INTO series (name) VALUES (?)`, name); err != nil {
		return 0, err
	}
	var id int64
	if err := w.conn.GetContext(context.Background(), &id, `SELECT id FROM series WHERE name = ?`, name); err != nil {
		return 0, err
	}
	w.series[name] = id
	return id, nil
}

func column(v reading.Value) any {
	switch {
	case v.Kind == site.Text:
		return v.Text
	case v.Num == 0 && math.Signbit(v.Num):
		return binary.LittleEndian.AppendUint64(nil, math.Float64bits(v.Num))
	default:
		return v.Num
	}
}

func value(kind site.Kind, col any) (reading.Value, error) {
	switch c := col.(type) {
	case float64:
		return reading.Value{Kind: kind, Num: c}, nil
	case int64:
		return reading.Value{Kind: kind, Num: float64(c)}, nil
	case string:
		return reading.Text(c), nil
	case []byte:
		if len(c) == 8 {
			return reading.Value{Kind: kind, Num: math.Float64frombits(binary.LittleEndian.Uint64(c))}, nil
		}
	}
	return reading.Value{}, fmt.Errorf("store: a reading holds %T", col)
}

// pageRows is how many readings one read transaction takes: a long one would stop the write-ahead log from being reset.
const pageRows = 20_000

// Readings yields the readings of a series in [from, to), in time order, page by page. The reading before from, which
// tells what held at the start, comes first where there is one and before is true.
func (s *Store) Readings(ctx context.Context, series string, kind site.Kind, from, to time.Time, before bool) iter.Seq2[Reading, error] {
	return func(yield func(Reading, error) bool) {
		var id int64
		if err := s.read.GetContext(ctx, &id, `SELECT id FROM series WHERE name = ?`, series); err != nil {
			if !notFound(err) {
				yield(Reading{}, fmt.Errorf("store: series %s: %w", series, err))
			}
			return
		}
		start, end := from.UnixMilli(), to.UnixMilli()
		if before {
			var prev *int64
			if err := s.read.GetContext(ctx, &prev, `SELECT max(t) FROM readings WHERE series = ? AND t < ?`, id, start); err != nil {
				yield(Reading{}, fmt.Errorf("store: readings of %s: %w", series, err))
				return
			}
			if prev != nil {
				start = *prev
			}
		}
		for {
			page, err := s.page(ctx, id, kind, start, end)
			if err != nil {
				yield(Reading{}, fmt.Errorf("store: readings of %s: %w", series, err))
				return
			}
			for _, r := range page {
				if !yield(r, nil) {
					return
				}
			}
			if len(page) < pageRows {
				return
			}
			start = page[len(page)-1].T + 1
		}
	}
}

func (s *Store) page(ctx context.Context, id int64, kind site.Kind, from, to int64) ([]Reading, error) {
	rows, err := s.read.QueryxContext(ctx, `SELECT t, v, q, raw FROM readings WHERE series = ? AND t >= ? AND t < ? ORDER BY t LIMIT ?`,
		id, from, to, pageRows)
	if err != nil {
		return nil, err
	}
	return scan(rows, kind)
}

// Count returns how many readings a series has.
func (s *Store) Count(ctx context.Context, series string) (int64, error) {
	var n int64
	err := s.read.GetContext(ctx, &n, `SELECT count(*) FROM readings WHERE series = (SELECT id FROM series WHERE name = ?)`, series)
	return n, err
}

// Last returns the newest reading of a series, and false where it has none.
func (s *Store) Last(ctx context.Context, series string, kind site.Kind) (Reading, bool, error) {
	rows, err := s.read.QueryxContext(ctx, `SELECT t, v, q, raw FROM readings WHERE series = (SELECT id FROM series WHERE name = ?)
		ORDER BY t DESC LIMIT 1`, series)
	if err != nil {
		return Reading{}, false, fmt.Errorf("store: last of %s: %w", series, err)
	}
	out, err := scan(rows, kind)
	if err != nil || len(out) == 0 {
		return Reading{}, false, err
	}
	return out[0], true, nil
}

func scan(rows *sqlx.Rows, kind site.Kind) ([]Reading, error) {
	defer func() { _ = rows.Close() }()
	var out []Reading
	for rows.Next() {
		var r Reading
		var col any
		if err := rows.Scan(&r.T, &col, &r.Quality, &r.Raw); err != nil {
			return nil, err
		}
		v, err := value(kind, col)
		if err != nil {
			return nil, err
		}
		r.Value = v
		out = append(out, r)
	}
	return out, rows.Err()
}
