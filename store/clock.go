package store

import (
	"context"
	"fmt"
	"slices"
	"time"

	"idleember/core/reading"
)

// LastTime is the newest time at which something was written down: by the journal, or that the hub was running.
func (s *Store) LastTime(ctx context.Context) (time.Time, error) {
	var ms []int64
	if err := selectBy(ctx, s, &ms, `SELECT at_ms FROM journal ORDER BY id DESC LIMIT 1`); err != nil {
		return time.Time{}, fmt.Errorf("store: last time: %w", err)
	}
	alive, err := s.alive(ctx)
	if err != nil || len(ms) == 0 {
		return alive, err
	}
	if at := time.UnixMilli(ms[0]); at.After(alive) {
		return at, nil
	}
	return alive, nil
}

// Stamp is a reading's time that its device gave, and when it came by the hub's clock; both in Unix milliseconds.
type Stamp struct{ T, Arrival int64 }

// Restamp moves what was stamped in [from, to), while the hub's clock was wrong by that much: the readings of all series, what
// became of alerts, notes and pictures. Readings whose time their device gave stay, but for those later than until, which
// cannot be: they are moved to when they came, as suspect. It returns how many readings it moved. One commit holds it all,
// unless there are more than a few hundred thousand.
func (s *Store) Restamp(ctx context.Context, from, to time.Time, by time.Duration, own map[string][]Stamp, until time.Time) (n int, err error) {
	const portion = 200_000
	var names []string
	if err := selectBy(ctx, s, &names, `SELECT name FROM series ORDER BY id`); err != nil {
		return 0, fmt.Errorf("store: restamp: %w", err)
	}
	shift := by.Milliseconds()
	changes := []Change{func(tx *Tx) error {
		for _, table := range []string{"alert_events", "notes", "stills"} {
			if err := tx.exec(`UPDATE `+table+` SET at_ms = at_ms + ? WHERE at_ms >= ? AND at_ms < ?`, shift, from.UnixMilli(), to.UnixMilli()); err != nil {
				return err
			}
		}
		return nil
	}}
	waiting := 0
	commit := func() error {
		list := changes
		changes, waiting = nil, 0
		return s.Bring(ctx, list...)
	}
	for _, name := range names {
		id, _, err := s.idOf(ctx, name)
		if err != nil {
			return n, err
		}
		kept, taken := map[int64]bool{}, map[int64]bool{}
		var put []Reading
		moved := 0
		for _, x := range own[name] {
			if x.T <= until.UnixMilli() {
				kept[x.T], taken[x.T] = true, true
				continue
			}
			for r, err := range s.scan(ctx, id, x.T, x.T+1) {
				if err != nil {
					return n, err
				}
				r.T, r.Quality = x.Arrival+shift, max(r.Quality, reading.Suspect)
				put = append(put, r)
				moved++
			}
			changes = append(changes, DropReadings(name, time.UnixMilli(x.T), time.UnixMilli(x.T+1)))
		}
		for r, err := range s.scan(ctx, id, from.UnixMilli(), to.UnixMilli()) {
			if err != nil {
				return n, err
			}
			if !kept[r.T] {
				r.T += shift
				bumped := false
				for ; taken[r.T]; r.T++ { // nothing takes the place of what a device said
					bumped = true
				}
				if bumped {
					taken[r.T] = true
				}
				moved++
			}
			put = append(put, r)
		}
		if moved == 0 {
			continue
		}
		slices.SortStableFunc(put, func(a, b Reading) int { return int(min(1, max(-1, a.T-b.T))) })
		changes = append(changes, DropReadings(name, from, to), AddReadings(name, put, nil))
		n += moved
		if waiting += len(put); waiting >= portion {
			if err := commit(); err != nil {
				return n, err
			}
		}
	}
	return n, commit()
}
