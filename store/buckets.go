package store

import (
	"context"
	"fmt"
	"slices"
	"time"

	"idleember/core/reading"
	"idleember/core/series"
)

// Buckets sums the readings of a series up between bounds (Unix milliseconds), see series.Within: from the sums of
// whole hours where they lie within a bucket, from the readings at both ends and where an hour has a gap. now bounds
// how long the last reading holds. The sums are exact.
func (s *Store) Buckets(ctx context.Context, name string, bounds []int64, hold time.Duration,
	now time.Time) ([]series.Bucket, []series.Span, error) {
	b := series.Within(bounds, hold)
	from, to := bounds[0], bounds[len(bounds)-1]
	id, ok, err := s.idOf(ctx, name)
	if err == nil && ok {
		err = s.fill(ctx, b, id, from, to)
	}
	if err != nil {
		return nil, nil, fmt.Errorf("store: buckets of %s: %w", name, err)
	}
	buckets, gaps := b.Finish(now.UnixMilli())
	return buckets, gaps, nil
}

func (s *Store) fill(ctx context.Context, b *series.Bucketer, id, from, to int64) error {
	top := s.recent.view(id, from, to)
	if err := s.before(ctx, id, from, func(r Reading) { b.Add(series.Point{T: r.T, V: r.Value.Num}) }); err != nil {
		return err
	}
	single := func(from, to int64) error {
		i, _ := top.cols.Find(from)
		j, _ := top.cols.Find(to)
		part := layer{drops: top.drops, cols: *top.cols.Slice(i, max(i, j))}
		return eachRange(ctx, s, id, from, to, &part, func(c *series.Columns, i, j int) bool {
			b.AddRange(c, i, j)
			return true
		})
	}
	done, thin := from, s.recent.thin(id)
	var codec series.Codec
	var cells []series.Cell
	for first := floor(from, series.Day); first < to; {
		var rows []struct {
			Key  int64
			Body []byte
		}
		if err := selectBy(ctx, s, &rows, `SELECT key, body FROM cells WHERE key >= ? AND key < ? ORDER BY key LIMIT 400`,
			cellKey(id, max(first, earliest)), cellKey(id, min(floor(to-1, series.Day), latest)+series.Day)); err != nil {
			return err
		}
		for _, row := range rows {
			day := dayOf(row.Key)
			var err error
			if cells, err = codec.DecodeCells(cells[:0], day, row.Body); err != nil {
				return fmt.Errorf("the sums of %s: %w", time.UnixMilli(day).UTC().Format(time.DateOnly), err)
			}
			for i := range cells {
				c := &cells[i]
				if c.At < thin { // there is nothing finer
					c.Gap = 0
				}
				if c.At < done || !b.Fits(c) || c.At >= thin && changes(&top, c.At) {
					continue
				}
				if c.At > done {
					if err := single(done, c.At); err != nil {
						return err
					}
				}
				b.AddCell(c)
				done = c.At + series.Hour
			}
			first = day + series.Day
		}
		if len(rows) < 400 {
			break
		}
	}
	return single(done, to)
}

// before tells what held before a time.
func (s *Store) before(ctx context.Context, id, t int64, each func(Reading)) error {
	for end := t; ; {
		r, ok, err := s.lastBefore(ctx, id, end)
		if err != nil || !ok {
			return err
		}
		if r.Quality != reading.Bad {
			each(r)
			return nil
		}
		end = r.T
	}
}

// changes reports whether a layer changes something in an hour.
func changes(l *layer, hour int64) bool {
	i, _ := l.cols.Find(hour)
	if i < l.cols.Len() && l.cols.T[i] < hour+series.Hour {
		return true
	}
	return slices.ContainsFunc(l.drops, func(d series.Span) bool { return d.From < hour+series.Hour && d.To > hour })
}
