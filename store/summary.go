package store

import (
	"context"
	"fmt"

	"idleember/core/series"
)

// Spread looks at the readings of a series in a stretch one by one, and at the one before it, and adds them to sp.
func (s *Store) Spread(ctx context.Context, name string, sp *series.Spread, from, to int64) error {
	id, ok, err := s.idOf(ctx, name)
	if err != nil || !ok {
		return err
	}
	start := from
	if err := s.before(ctx, id, from, func(r Reading) { start = r.T }); err != nil {
		return err
	}
	top := s.recent.view(id, start, to)
	first := true
	err = eachRange(ctx, s, id, start, to, &top, func(c *series.Columns, i, j int) bool {
		if first && c.T[i] < from { // nothing else from before counts
			sp.Add(c, i, i+1)
			for i < j && c.T[i] < from {
				i++
			}
		}
		first = false
		sp.Add(c, i, j)
		return ctx.Err() == nil
	})
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if err != nil {
		return fmt.Errorf("store: readings of %s: %w", name, err)
	}
	return nil
}

// Columns reads a series' readings in [from, to) as columns, in time order.
func (s *Store) Columns(ctx context.Context, name string, from, to int64, each func(c *series.Columns, i,
	j int)) error {
	id, ok, err := s.idOf(ctx, name)
	if err != nil || !ok {
		return err
	}
	top := s.recent.view(id, from, to)
	err = eachRange(ctx, s, id, from, to, &top, func(c *series.Columns, i, j int) bool {
		each(c, i, j)
		return ctx.Err() == nil
	})
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if err != nil {
		return fmt.Errorf("store: readings of %s: %w", name, err)
	}
	return nil
}
