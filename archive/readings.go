package archive

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"idleember/core/access"
	"idleember/core/fault"
	"idleember/core/reading"
	"idleember/core/site"
	"idleember/hub"
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
func (ar *Archive) Readings(ctx context.Context, a access.Actor, p Page) (ReadingsPage, error) {
	out := ReadingsPage{History: History{Series: p.Series, From: p.From, To: p.To}}
	if p.Limit == 0 {
		p.Limit = 1000
	}
	if p.Limit < 1 || p.Limit > mostReadings {
		return out, fault.Invalid("limit", "limit is %d; choose between 1 and %d", p.Limit, mostReadings)
	}
	if err := ar.describe(ctx, a, &out.History); err != nil {
		return out, err
	}
	if p.Newest {
		list, err := ar.store.Newest(ctx, p.Series, out.Kind, p.From, p.To, p.Limit+1)
		if err != nil {
			return out, err
		}
		out.Readings, out.More = list[:min(len(list), p.Limit)], len(list) > p.Limit
		return out, nil
	}
	for r, err := range ar.store.Readings(ctx, p.Series, out.Kind, p.From, p.To, false) {
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

// Import stores readings of the past of a series that there is. The same ones again change nothing; others of the same
// time take their place. No live value changes, and nothing is decided by them. A dry run only finds out what would be
// refused.
func (ar *Archive) Import(ctx context.Context, a access.Actor, series string, list []store.Reading,
	dry bool) (out Imported, err error) {
	what := History{Series: series}
	if err := access.May(a, access.Bring, access.Anything); err != nil {
		return out, err
	}
	looks := a
	looks.Scopes = nil // a token that brings readings in need not be one that looks
	if err := ar.describe(ctx, looks, &what); err != nil {
		return out, err
	}
	var taken []store.Reading
	ahead := ar.house.Time().Add(5 * time.Minute).UnixMilli()
	for i, r := range list {
		v, err := r.Value.As(what.Kind)
		switch {
		case err != nil:
			out.Refused = append(out.Refused, Refused{i, fmt.Sprintf("%s is %s; expected a value of the kind %s", series,
				site.Clip(r.Value.String(), 40), what.Kind)})
			continue
		case r.T > ahead:
			out.Refused = append(out.Refused, Refused{i, fmt.Sprintf("its time %s lies in the future",
				time.UnixMilli(r.T).In(ar.house.Site().Hub.Location()).Format(time.RFC3339))})
			continue
		case r.T < store.Earliest:
			out.Refused = append(out.Refused, Refused{i, "its time is before 1900"})
			continue
		}
		if err := ar.house.Site().Signals[series].Keep.Takes(time.UnixMilli(r.T), ar.house.Time()); err != nil {
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
	if !ar.house.Trusted() {
		changes = append(changes, store.AddStamps(series, ar.house.Time(), store.Times(taken)))
	}
	if err := ar.store.Bring(ctx, changes...); err != nil {
		return out, store.Unsaved(err)
	}
	if err := ar.describe(ctx, access.HubActor(), &what); err != nil { // it was removed meanwhile
		return out, errors.Join(err, ar.store.Do(ctx, store.DropSeries(series)))
	}
	out.Stored = len(taken)
	ar.house.PastChanged(series)
	return out, nil
}

// DeleteReadings deletes the readings of a series in [from, to), and says how many there were.
func (ar *Archive) DeleteReadings(ctx context.Context, a access.Actor, series string, from, to time.Time) (n int,
	err error) {
	what := History{Series: series}
	if !to.After(from) {
		return 0, fault.Invalid("to", "the end of the stretch is not after its begin")
	}
	if err := access.May(a, access.Configure, access.Anything); err != nil {
		return 0, err
	}
	if err := ar.describe(ctx, a, &what); err != nil {
		return 0, err
	}
	var last reading.Value
	for r, err := range ar.store.Readings(ctx, series, what.Kind, from, to, false) {
		if err != nil {
			return 0, err
		}
		n, last = n+1, r.Value
	}
	if n == 0 {
		return 0, nil
	}
	zone := ar.house.Site().Hub.Location()
	said := fmt.Sprintf("%d readings from %s to %s", n, from.In(zone).Format(time.DateTime),
		to.In(zone).Format(time.DateTime))
	if n == 1 {
		said = fmt.Sprintf("%s at %s", site.Clip(last.String(), 40), from.In(zone).Format(time.DateTime))
	}
	err = ar.house.Do(ctx, func(t hub.Turn) error {
		t.Write(store.DropReadings(series, from, to))
		t.Journal(a, "delete readings", series, said, "", "")
		return nil
	})
	ar.house.PastChanged(series)
	return n, err
}

// Backfill stores readings of the past, as a board's history or an import brings them. They are late by definition:
// no live value changes.
func (ar *Archive) Backfill(ctx context.Context, a access.Actor, series string, readings []store.Reading) error {
	if err := access.May(a, access.Configure, access.Anything); err != nil {
		return err
	}
	const chunk = 5000
	for len(readings) > 0 {
		n := min(chunk, len(readings))
		if err := ar.store.Bring(ctx, store.AddReadings(series, readings[:n], nil)); err != nil {
			return store.Unsaved(err)
		}
		readings = readings[n:]
	}
	return nil
}
