package store

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"idleember/core/reading"
)

// longestCommit is how much later than its first input what is written in one commit may have come.
const longestCommit = 6 * time.Second

// LastTime is the newest time at which something was written down: by the journal, with readings, or that the hub was
// running.
func (s *Store) LastTime(ctx context.Context) (last time.Time, err error) {
	if last, err = s.alive(ctx); err != nil {
		return last, err
	}
	var journal []int64
	if err := selectBy(ctx, s, &journal, `SELECT at_ms FROM journal ORDER BY id DESC LIMIT 1`); err != nil {
		return last, fmt.Errorf("store: last time: %w", err)
	}
	var rows []struct {
		Seq      int64
		At       int64 `db:"at_ms"`
		Readings []byte
	}
	if err := selectBy(ctx, s, &rows, `SELECT seq, at_ms, readings FROM log WHERE inputs IS NOT NULL ORDER BY seq DESC LIMIT 1`); err != nil {
		return last, fmt.Errorf("store: last time: %w", err)
	}
	times := journal
	for _, row := range rows {
		times = append(times, row.At)
		if changes, err := openRow(row.Seq, row.Readings); err == nil {
			_ = eachOp(changes, func(o op) { // what is damaged tells no time
				for _, r := range o.put {
					if r.T > row.At && r.T <= row.At+longestCommit.Milliseconds() { // else a board's own
						times = append(times, r.T)
					}
				}
			})
		}
	}
	for _, ms := range times {
		if at := time.UnixMilli(ms); at.After(last) {
			last = at
		}
	}
	return last, nil
}

// Doubt is a stretch in which the hub's clock is not believed, as it is kept over a restart.
type Doubt struct {
	Boot  string        `json:"boot"` // which start of the computer it belongs to
	Up    time.Duration `json:"up"`   // how long that ran when the doubt began
	Wall  time.Time     `json:"wall"` // the hub's time then
	Ahead bool          `json:"ahead"`
	Shows time.Time     `json:"shows"` // what the clock showed
}

// SaveDoubt keeps that a stretch of doubt began.
func SaveDoubt(d Doubt) Change {
	return func(tx *Tx) error {
		b, err := json.Marshal(d)
		if err == nil {
			err = EndDoubt(tx)
		}
		if err != nil {
			return err
		}
		return tx.exec(`INSERT OR REPLACE INTO hub (key, value) VALUES ('clock', ?)`, string(b))
	}
}

// EndDoubt is the change that forgets a stretch of doubt and what belonged to it.
func EndDoubt(tx *Tx) error {
	if err := tx.exec(`DELETE FROM own_stamps`); err != nil {
		return err
	}
	return tx.exec(`DELETE FROM hub WHERE key = 'clock'`)
}

// Doubt reads the stretch of doubt that was kept, nil where there is none.
func (s *Store) Doubt(ctx context.Context) (*Doubt, error) {
	text, err := s.hubValue(ctx, "clock")
	if err != nil || text == "" {
		return nil, err
	}
	var d Doubt
	if err := json.Unmarshal([]byte(text), &d); err != nil {
		return nil, fmt.Errorf("store: clock: %w", err)
	}
	return &d, nil
}

// AddStamps keeps, until the doubt ends, that a device gave the times of readings that arrived at arrival.
func AddStamps(name string, arrival time.Time, at []int64) Change {
	return func(tx *Tx) error {
		b, err := json.Marshal(at)
		if err != nil {
			return err
		}
		return tx.exec(`INSERT INTO own_stamps (series, arrival_ms, at) VALUES (?, ?, ?)`, name, arrival.UnixMilli(),
			string(b))
	}
}

// stamp is a reading's time that its device gave, and when it came by the hub's clock; both in Unix milliseconds.
type stamp struct{ at, arrival int64 }

func (s *Store) stamps(ctx context.Context) (map[string][]stamp, error) {
	var rows []struct {
		Series  string
		Arrival int64 `db:"arrival_ms"`
		At      string
	}
	if err := selectBy(ctx, s, &rows, `SELECT series, arrival_ms, at FROM own_stamps ORDER BY rowid`); err != nil {
		return nil, err
	}
	out := map[string][]stamp{}
	for _, r := range rows {
		var list []int64
		if err := json.Unmarshal([]byte(r.At), &list); err != nil {
			return nil, err
		}
		for _, at := range list {
			out[r.Series] = append(out[r.Series], stamp{at, r.Arrival})
		}
	}
	return out, nil
}

// Restamp moves what was stamped in [from, to), while the hub's clock was wrong by that much, and ends the doubt: the
// readings of all series, what became of alerts, notes and pictures. Readings whose time their device gave stay, but
// for those later than until, which cannot be: they are moved to when they came, as suspect. It returns how many
// readings it moved. One commit holds it all, unless there are more than a few hundred thousand.
func (s *Store) Restamp(ctx context.Context, from, to time.Time, by time.Duration, until time.Time) (n int, err error) {
	if err := s.Do(ctx); err != nil { // what is on its way to the disk must be there to be moved
		return 0, fmt.Errorf("store: restamp: %w", err)
	}
	own, err := s.stamps(ctx)
	if err != nil {
		return 0, fmt.Errorf("store: restamp: %w", err)
	}
	const portion = 200_000
	var names []string
	if err := selectBy(ctx, s, &names, `SELECT name FROM series ORDER BY id`); err != nil {
		return 0, fmt.Errorf("store: restamp: %w", err)
	}
	shift := by.Milliseconds()
	changes := []Change{EndDoubt, func(tx *Tx) error {
		for _, table := range []string{"alert_events", "notes", "stills"} {
			if err := tx.exec(`UPDATE `+table+` SET at_ms = at_ms + ? WHERE at_ms >= ? AND at_ms < ?`, shift, from.UnixMilli(),
				to.UnixMilli()); err != nil {
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
			if x.at <= until.UnixMilli() {
				kept[x.at], taken[x.at] = true, true
				continue
			}
			for r, err := range s.scan(ctx, id, x.at, x.at+1) {
				if err != nil {
					return n, err
				}
				r.T, r.Quality = x.arrival+shift, max(r.Quality, reading.Suspect)
				put = append(put, r)
				moved++
			}
			changes = append(changes, DropReadings(name, time.UnixMilli(x.at), time.UnixMilli(x.at+1)))
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
