package hub

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"idleember/core/access"
	"idleember/core/reading"
	"idleember/store"
)

// Page asks for readings one by one.
type Page struct {
	Series   string
	From, To time.Time
	Limit    int  // at most so many, 1000 where it is 0
	Newest   bool // the newest first
}

// ReadingsPage is the answer.
type ReadingsPage struct {
	History  // what the series is
	Readings []store.Reading
	More     bool // there are others, beyond the last
}

const mostReadings = 10_000

// Readings returns the readings of a series one by one.
func (h *Hub) Readings(ctx context.Context, a access.Actor, p Page) (ReadingsPage, error) {
	out := ReadingsPage{History: History{Series: p.Series, From: p.From, To: p.To}}
	if p.Limit == 0 {
		p.Limit = 1000
	}
	if p.Limit < 1 || p.Limit > mostReadings {
		return out, &InvalidError{"limit", fmt.Sprintf("limit is %d; choose between 1 and %d", p.Limit, mostReadings)}
	}
	if err := h.ask(ctx, func() error { return h.describe(a, &out.History) }); err != nil {
		return out, err
	}
	if p.Newest {
		list, err := h.store.Newest(ctx, p.Series, out.Kind, p.From, p.To, p.Limit+1)
		if err != nil {
			return out, err
		}
		out.Readings, out.More = list[:min(len(list), p.Limit)], len(list) > p.Limit
		return out, nil
	}
	for r, err := range h.store.Readings(ctx, p.Series, out.Kind, p.From, p.To, false) {
		if err != nil {
			return out, err
		}
		if len(out.Readings) == p.Limit {
			out.More = true
			break
		}
		out.Readings = append(out.Readings, r)
	}
	return out, nil
}

// Imported says what became of readings that were brought in.
type Imported struct {
	Stored, Replaced int
	Refused          []Refused
}

// Refused is a reading that could not be taken.
type Refused struct {
	At     int // its place in the list
	Reason string
}

// Import stores readings of the past of a series that there is. The same ones again change nothing; others of the same time
// take their place. No live value changes, and nothing is decided by them. A dry run only finds out what would be refused.
func (h *Hub) Import(ctx context.Context, a access.Actor, series string, list []store.Reading, dry bool) (out Imported, err error) {
	what := History{Series: series}
	if err := h.ask(ctx, func() error {
		if err := access.May(a, access.Bring, access.Anything); err != nil {
			return err
		}
		looks := a
		looks.Scopes = nil // a token that brings readings in need not be one that looks
		return h.describe(looks, &what)
	}); err != nil {
		return out, err
	}
	var taken []store.Reading
	ahead := h.Time().Add(5 * time.Minute).UnixMilli()
	for i, r := range list {
		v, err := r.Value.As(what.Kind)
		switch {
		case err != nil:
			out.Refused = append(out.Refused, Refused{i, fmt.Sprintf("%s is %s; expected a value of the kind %s", series, clip(r.Value.String(), 40), what.Kind)})
			continue
		case r.T > ahead:
			out.Refused = append(out.Refused, Refused{i, fmt.Sprintf("its time %s lies in the future", time.UnixMilli(r.T).In(h.Site().Hub.Location()).Format(time.RFC3339))})
			continue
		case r.T < store.Earliest:
			out.Refused = append(out.Refused, Refused{i, "its time is before 1900"})
			continue
		}
		if err := h.Site().Signals[series].Keep.Takes(time.UnixMilli(r.T), h.Time()); err != nil {
			out.Refused = append(out.Refused, Refused{i, err.Error()})
			continue
		}
		r.Value = v
		taken = append(taken, r)
	}
	if len(taken) == 0 || dry {
		out.Stored = len(taken)
		return out, nil
	}
	slices.SortStableFunc(taken, func(a, b store.Reading) int { return int(min(1, max(-1, a.T-b.T))) })
	// What took the place of another is known before the commit is told.
	changes := []store.Change{store.AddReadings(series, taken, func(n int) { out.Replaced += n })}
	if !h.trusted() {
		changes = append(changes, store.AddStamps(series, h.Time(), timesOf(taken)))
	}
	if err := h.store.Bring(ctx, changes...); err != nil {
		return out, &StoreError{err}
	}
	if err := h.ask(ctx, func() error { return h.describe(access.HubActor(), &what) }); err != nil { // it was removed meanwhile
		return out, errors.Join(err, h.dropSeries(ctx, series))
	}
	out.Stored = len(taken)
	h.pastChanged(series)
	return out, nil
}

// DeleteReadings deletes the readings of a series in [from, to), and says how many there were.
func (h *Hub) DeleteReadings(ctx context.Context, a access.Actor, series string, from, to time.Time) (n int, err error) {
	what := History{Series: series}
	if !to.After(from) {
		return 0, &InvalidError{"to", "the end of the stretch is not after its begin"}
	}
	if err := h.ask(ctx, func() error {
		if err := access.May(a, access.Configure, access.Anything); err != nil {
			return err
		}
		return h.describe(a, &what)
	}); err != nil {
		return 0, err
	}
	var last reading.Value
	for r, err := range h.store.Readings(ctx, series, what.Kind, from, to, false) {
		if err != nil {
			return 0, err
		}
		n, last = n+1, r.Value
	}
	if n == 0 {
		return 0, nil
	}
	zone := h.Site().Hub.Location()
	said := fmt.Sprintf("%d readings from %s to %s", n, from.In(zone).Format(time.DateTime), to.In(zone).Format(time.DateTime))
	if n == 1 {
		said = fmt.Sprintf("%s at %s", clip(last.String(), 40), from.In(zone).Format(time.DateTime))
	}
	err = h.do(ctx, func() error {
		h.write(store.DropReadings(series, from, to))
		h.journal(h.Time(), a, "delete readings", series, said, "", "")
		return nil
	})
	h.pastChanged(series)
	return n, err
}

func timesOf(list []store.Reading) (out []int64) {
	for _, r := range list {
		out = append(out, r.T)
	}
	return out
}
