package hub

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/core/site"
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

// Journal returns lines of the journal, newest first, and where the next page begins; 0: there is none. Presence and the sayings of
// devices are in it too. Of what a member may not see there is no line.
func (h *Hub) Journal(ctx context.Context, a access.Actor, q JournalQuery) (list []store.Entry, next int64, err error) {
	if err := access.May(a, access.Audit, access.Anything); err != nil {
		return nil, 0, err
	}
	f := store.JournalFilter{Actor: q.Actor, Words: clip(q.Words, 200), From: q.From, To: q.To, Before: q.Before, Limit: min(max(q.Limit, 1), mostEntries)}
	if q.Object != "" {
		f.Objects = []string{q.Object}
	}
	if q.Place != "" {
		s := h.Site()
		if _, ok := s.Place(q.Place); !ok {
			return nil, 0, &NotFoundError{What: "place", ID: q.Place}
		}
		here := []string{q.Place}
		for id, d := range s.Devices {
			if d.Place == q.Place {
				here = append(here, id)
			}
		}
		if q.Object != "" && !slices.ContainsFunc(here, func(id string) bool { return q.Object == id || strings.HasPrefix(q.Object, id+".") }) {
			return []store.Entry{}, 0, nil
		}
		if q.Object == "" {
			f.Objects = here
		}
	}
	list, err = h.store.Journal(ctx, f)
	if len(list) == f.Limit {
		next = list[len(list)-1].ID
	}
	sees := h.sight(a)
	return slices.DeleteFunc(list, func(e store.Entry) bool { return !sees.object(e.Object) || !sees.by(e.ActorName) }), next, err
}

// seenOf is what of a list an actor may see, by what each is about.
func seenOf[T any](s *site.Site, a access.Actor, list []T, about func(T) string) []T {
	return slices.DeleteFunc(list, func(x T) bool { return access.May(a, access.Look, aboutObject(s, about(x))) != nil })
}

// aboutObject is what a line of the journal or a note is about: a thing, or something of it.
func aboutObject(s *site.Site, object string) access.Object {
	for id := object; id != ""; {
		if o := objectOf(s, id); o.Device != "" || o.Place != "" {
			return o
		}
		if _, ok := s.Place(id); ok {
			return access.Object{Place: id}
		}
		i := strings.LastIndexAny(id, ". ")
		id = id[:max(i, 0)]
	}
	return access.Object{}
}

// Told writes down a change that somebody made to what is not of the site.
func (h *Hub) Told(a access.Actor, object, before, after string) {
	h.enqueue(func() { h.journal(h.Time(), a, "change", object, before, after, "") })
}

// Earlier returns what was before a line of the journal, for owners.
func (h *Hub) Earlier(ctx context.Context, a access.Actor, entry int64) (shown.Earlier, error) {
	if err := access.May(a, access.Configure, access.Anything); err != nil {
		return shown.Earlier{}, err
	}
	v, err := h.earlier(ctx, a, entry)
	out := shown.Earlier{Entry: entry, Object: v.ID, Before: json.RawMessage(v.Body)}
	if v.After != "" {
		out.After = json.RawMessage(v.After)
	}
	return out, err
}

func (h *Hub) earlier(ctx context.Context, a access.Actor, entry int64) (store.Version, error) {
	v, ok, err := h.store.Version(ctx, entry)
	if id, is := strings.CutPrefix(v.ID, "dashboard."); ok && is { // what a member keeps to themselves is not the owner's either
		var d site.Dashboard
		if err := json.Unmarshal([]byte(v.Body), &d); err != nil {
			return v, fmt.Errorf("the version before line %d cannot be read: %w", entry, err)
		}
		if now, there := h.board(id); !mayOpen(a, d) || there && !mayOpen(a, now) {
			ok = false
		}
	}
	if err == nil && !ok {
		err = &NotFoundError{What: "earlier version at the line", ID: fmt.Sprint(entry)}
	}
	return v, err
}

// Restore brings back what was before a line of the journal. It is an edit like any other: it is checked against what is there now,
// stands in the journal, and can be taken back.
func (h *Hub) Restore(ctx context.Context, a access.Actor, entry int64) error {
	if err := access.May(a, access.Configure, access.Anything); err != nil {
		return err
	}
	v, err := h.earlier(ctx, a, entry)
	if err != nil {
		return err
	}
	k := site.KindOf(v.Kind)
	if k == nil {
		return &InvalidError{"id", fmt.Sprintf("what line %d was about is not brought back by itself", entry)}
	}
	part, err := k.Parse([]byte(v.Body))
	if err != nil {
		return fmt.Errorf("the version before line %d cannot be read: %w", entry, err)
	}
	return h.do(ctx, func() error {
		now := k.Get(h.site, site.KeyOf(part).ID)
		if d, ok := part.(site.Device); ok {
			if now == nil {
				return &InvalidError{"id", d.Name + " was deleted with its history and its key; add it anew"}
			}
			d.State = now.(site.Device).State // taking away has ways of its own
			part = d
		}
		if now == nil && (k.Name == "signal" || k.Name == "control") {
			return &InvalidError{"id", k.Named(part) + " was deleted with its history; add it anew"}
		}
		if _, err := h.keep(a, edit{part: part, again: true}); err != nil {
			return err
		}
		h.journal(h.Time(), a, "bring back", v.ID, "", fmt.Sprintf("as it was before line %d", entry), "")
		return nil
	})
}
