package archive

import (
	"context"
	"slices"
	"strconv"
	"strings"
	"time"

	"idleember/core/access"
	"idleember/core/fault"
	"idleember/core/site"
	"idleember/hub"
	"idleember/store"
)

// JournalQuery says which lines of the journal are wanted; what is empty does not count.
type JournalQuery struct {
	Object, Place, Actor, Words string
	From, To                    time.Time
	Before                      int64 // an id of a line
	Limit                       int
}

const mostEntries = 500

// Journal returns lines of the journal, newest first, and where the next page begins; 0: there is none. Presence and
// the sayings of devices are in it too. Of what a member may not see there is no line.
func (ar *Archive) Journal(ctx context.Context, a access.Actor, q JournalQuery) (list []store.Entry, next int64,
	err error) {
	if err := access.May(a, access.Audit, access.Anything); err != nil {
		return nil, 0, err
	}
	f := store.JournalFilter{Actor: q.Actor, Words: site.Clip(q.Words, 200), From: q.From, To: q.To, Before: q.Before,
		Limit: min(max(q.Limit, 1), mostEntries)}
	if q.Object != "" {
		f.Objects = []string{q.Object}
	}
	if q.Place != "" {
		s := ar.house.Site()
		if _, ok := s.Place(q.Place); !ok {
			return nil, 0, fault.NotFound("place", q.Place)
		}
		here := []string{q.Place}
		for id, d := range s.Devices {
			if d.Place == q.Place {
				here = append(here, id)
			}
		}
		if q.Object != "" && !slices.ContainsFunc(here, func(id string) bool {
			return q.Object == id || strings.HasPrefix(q.Object, id+".")
		}) {
			return []store.Entry{}, 0, nil
		}
		if q.Object == "" {
			f.Objects = here
		}
	}
	list, err = ar.store.Journal(ctx, f)
	if len(list) == f.Limit {
		next = list[len(list)-1].ID
	}
	sees := ar.house.Sight(a)
	return slices.DeleteFunc(list, func(e store.Entry) bool { return !sees.Object(e.Object) || !sees.By(e.ActorName) }),
		next, err
}

// Messages returns the newest messages to people, newest first.
func (ar *Archive) Messages(ctx context.Context, a access.Actor, limit int) ([]store.Remark, error) {
	if err := access.May(a, access.Audit, access.Anything); err != nil {
		return nil, err
	}
	list, err := ar.store.Messages(ctx, limit)
	return ar.house.Sight(a).Remarks(list), err
}

// Notes returns the notes about something in [from, to), newest first.
func (ar *Archive) Notes(ctx context.Context, a access.Actor, from, to time.Time, limit int) ([]store.Remark, error) {
	if err := access.May(a, access.Audit, access.Anything); err != nil {
		return nil, err
	}
	list, err := ar.store.Notes(ctx, from, to, limit)
	return ar.house.Sight(a).Remarks(list), err
}

// AddNote keeps a note at a time or about a stretch. Its object is a place, a device, or something of a device.
func (ar *Archive) AddNote(ctx context.Context, a access.Actor, n store.Remark) (store.Remark, error) {
	err := ar.house.Do(ctx, func(t hub.Turn) error {
		if err := access.May(a, access.Tend, access.Anything); err != nil {
			return err
		}
		owner, _ := site.Split(n.Object)
		_, place := ar.house.Site().Place(owner)
		_, device := ar.house.Site().Devices[owner]
		n.Text = strings.TrimSpace(n.Text)
		switch {
		case !place && !device:
			return fault.Invalid("object", "there is no place or device %q; say what the note is about", site.Clip(n.Object, 40))
		case n.Text == "" || len(n.Text) > 500:
			return fault.Invalid("text", "a note has a text of 1 to 500 characters")
		case n.At.UnixMilli() < store.Earliest || n.At.After(ar.house.Time().Add(24*time.Hour)):
			return fault.Invalid("at", "the note's time must be between 1900 and tomorrow")
		case n.Until != nil && !n.Until.After(n.At):
			return fault.Invalid("until", "the note's end is not after its begin")
		}
		n.By = a.Name
		t.Write(store.AddNote(n, func(id int64) { n.ID = id }))
		t.Journal(a, "note", n.Object, "", n.Text, "")
		t.LookAgain()
		return nil
	})
	return n, err
}

// RemoveNote takes a note away: an owner any, others their own.
func (ar *Archive) RemoveNote(ctx context.Context, a access.Actor, id int64) error {
	n, ok, err := ar.store.Note(ctx, id)
	switch {
	case err != nil:
		return err
	case !ok:
		return fault.NotFound("note", strconv.FormatInt(id, 10))
	}
	action := access.Configure
	if n.By == a.Name {
		action = access.Tend
	}
	return ar.house.Do(ctx, func(t hub.Turn) error {
		if err := access.May(a, action, access.Anything); err != nil {
			return err
		}
		t.Write(store.DropNote(id))
		t.Journal(a, "remove note", n.Object, n.Text, "", "")
		t.LookAgain()
		return nil
	})
}

// AlertEvents returns what became of alerts, newest first.
func (ar *Archive) AlertEvents(ctx context.Context, a access.Actor, f store.AlertFilter) ([]store.AlertEvent, error) {
	if err := access.May(a, access.Audit, access.Anything); err != nil {
		return nil, err
	}
	list, err := ar.store.AlertEvents(ctx, f)
	return ar.house.Sight(a).Events(list), err
}
