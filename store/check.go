package store

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/jmoiron/sqlx"

	"idleember/core/series"
)

// Check reads everything that is kept of all series, and verifies it: the database's own structure, each block's
// checksum, contents and order, and the sums of hours against the readings. The error tells of every fault. progress
// may be nil.
func (s *Store) Check(ctx context.Context, progress func(done, of int)) error {
	var faults []error
	if err := quick(ctx, s.read); err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		faults = append(faults, err)
	}
	if err := s.checkLog(ctx); err != nil {
		faults = append(faults, err)
	}
	var all []struct {
		ID   int64
		Name string
	}
	if err := s.read.SelectContext(ctx, &all, `SELECT id, name FROM series ORDER BY id`); err != nil {
		return err
	}
	for i, x := range all {
		if progress != nil {
			progress(i, len(all))
		}
		if err := s.checkSeries(ctx, x.ID); err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			faults = append(faults, fmt.Errorf("%s: %w", x.Name, err))
		}
	}
	if progress != nil {
		progress(len(all), len(all))
	}
	return errors.Join(faults...)
}

// checkLog verifies the rows of the log that are not in blocks yet.
func (s *Store) checkLog(ctx context.Context) error {
	rows, err := s.read.QueryxContext(ctx, `SELECT seq, readings FROM log WHERE seq > (SELECT seq FROM sealed) AND readings IS NOT NULL ORDER BY seq`)
	if err != nil {
		return err
	}
	defer func() { _ = rows.Close() }()
	var faults []error
	for rows.Next() {
		var seq int64
		var body []byte
		if err := rows.Scan(&seq, &body); err != nil {
			return err
		}
		changes, err := openRow(seq, body)
		if err == nil {
			err = eachOp(changes, func(op) {})
		}
		if err != nil {
			faults = append(faults, fmt.Errorf("row %d of the log: %w", seq, err))
		}
	}
	return errors.Join(append(faults, rows.Err())...)
}

const lastScrub = "last-scrub"

// Scrub is Check, and remembers when it was.
func (s *Store) Scrub(ctx context.Context) error {
	err := s.Check(ctx, nil)
	if ctx.Err() == nil {
		if kept := os.WriteFile(filepath.Join(s.dir, lastScrub), nil, 0o600); kept == nil {
			now := time.Now()
			_ = os.Chtimes(filepath.Join(s.dir, lastScrub), now, now) // else it is done sooner than it need be
		}
	}
	return err
}

// Scrubbed is when all that is kept was last read and verified.
func (s *Store) Scrubbed() time.Time {
	info, err := os.Stat(filepath.Join(s.dir, lastScrub))
	if err != nil {
		return time.Time{}
	}
	return info.ModTime()
}

// Quick verifies the structure of the database of a hub, which may be running, where it lies.
func Quick(ctx context.Context, dir string) error {
	db, err := beside(dir)
	if err != nil {
		return err
	}
	defer func() { _ = db.Close() }()
	return quick(ctx, db)
}

// Copy writes the database of a hub, which may be running, to a folder, laid out anew, so that it can be looked at
// there.
func Copy(ctx context.Context, dir, to string) error {
	db, err := beside(dir)
	if err != nil {
		return err
	}
	defer func() { _ = db.Close() }()
	if _, err := db.ExecContext(ctx, `VACUUM INTO ?`, filepath.Join(to, File)); err != nil {
		return fmt.Errorf("the database in %s cannot be copied to %s: %w", dir, to, err)
	}
	return nil
}

func beside(dir string) (*sqlx.DB, error) {
	return sqlx.Open("sqlite", uri(filepath.Join(dir, File))+"?mode=rw&_pragma=busy_timeout(10000)")
}

func quick(ctx context.Context, db *sqlx.DB) error {
	var faults []error
	var words []string
	if err := db.SelectContext(ctx, &words, `PRAGMA quick_check(20)`); err != nil {
		return err
	}
	for _, w := range words {
		if w != "ok" {
			faults = append(faults, fmt.Errorf("the database: %s", w))
		}
	}
	return errors.Join(faults...)
}

func (s *Store) checkSeries(ctx context.Context, id int64) error {
	s.sealing.Lock() // blocks and sums change together, but are read one after the other here
	defer s.sealing.Unlock()
	last, fault := int64(earliest), error(nil)
	var sum series.Summer
	err := eachRange(ctx, strict{s}, id, earliest, latest, &layer{}, func(c *series.Columns, i, j int) bool {
		for k := i; k < j; k++ {
			if c.T[k] < last {
				fault = fmt.Errorf("readings are out of order at %s", time.UnixMilli(c.T[k]).UTC().Format(time.RFC3339))
				return false
			}
			last = c.T[k]
		}
		sum.Add(c, i, j)
		return true
	})
	if fault != nil || err != nil {
		return errors.Join(fault, err)
	}
	sum.Flush()
	cells, thin := sum.Cells, s.recent.thin(id)
	cells = slices.DeleteFunc(cells, func(c series.Cell) bool { return c.At < thin })
	var rows []struct {
		Key  int64
		Body []byte
	}
	if err := s.read.SelectContext(ctx, &rows, `SELECT key, body FROM cells WHERE key >= ? AND key < ? ORDER BY key`,
		cellKey(id, epoch), cellKey(id+1, epoch)); err != nil {
		return err
	}
	var codec series.Codec
	for _, row := range rows {
		d := dayOf(row.Key)
		had, err := codec.DecodeCells(nil, d, row.Body)
		if err != nil {
			return fmt.Errorf("the sums of %s: %w", time.UnixMilli(d).UTC().Format(time.DateOnly), err)
		}
		kept := len(had)
		if had = slices.DeleteFunc(had, func(c series.Cell) bool { return c.At < thin }); len(had) == 0 {
			continue // of readings that went
		}
		if len(had) < kept {
			row.Body = codec.EncodeCells(nil, d, had)
		}
		n := 0
		for n < len(cells) && cells[n].At < d+series.Day {
			n++
		}
		if n == 0 || cells[0].At < d || !bytes.Equal(row.Body, codec.EncodeCells(nil, d, cells[:n])) {
			return fmt.Errorf("the sums of %s are not those of the readings", time.UnixMilli(d).UTC().Format(time.DateOnly))
		}
		cells = cells[n:]
	}
	if len(cells) > 0 {
		return fmt.Errorf("the sums of %s are missing", time.UnixMilli(cells[0].At).UTC().Format(time.DateOnly))
	}
	return nil
}

// Orphans names the series of which there is no signal or control any more.
func (s *Store) Orphans(ctx context.Context) (names []string, err error) {
	err = s.read.SelectContext(ctx, &names, `SELECT name FROM series WHERE substr(name, 1, 1) <> '-'
		AND name NOT IN (SELECT id FROM parts WHERE kind IN ('signal', 'setting', 'device'))
		AND name NOT IN (SELECT id || what FROM parts, (SELECT '.is' AS what UNION SELECT '.want' UNION SELECT '.mode') WHERE kind = 'control') ORDER BY name`)
	return names, err
}
