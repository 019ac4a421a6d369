package store

import (
	"context"
	"encoding/binary"
	"fmt"
	"iter"
	"math"
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
}

// AddReading keeps a reading of a series. One of the same series and time takes the place of the earlier.
func AddReading(series string, r Reading) Change {
	return func(tx *Tx) error {
		id, err := tx.seriesID(series)
		if err != nil {
			return err
		}
		return tx.exec(`INSERT OR REPLACE INTO readings (series, t, v, q) VALUES (?, ?, ?, ?)`, id, r.T, column(r.Value), int(r.Quality))
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
	rows, err := s.read.QueryxContext(ctx, `SELECT t, v, q FROM readings WHERE series = ? AND t >= ? AND t < ? ORDER BY t LIMIT ?`,
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
	rows, err := s.read.QueryxContext(ctx, `SELECT t, v, q FROM readings WHERE series = (SELECT id FROM series WHERE name = ?)
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
		if err := rows.Scan(&r.T, &col, &r.Quality); err != nil {
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
