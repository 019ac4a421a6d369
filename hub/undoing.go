package hub

import (
	"context"
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"time"

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

// versionOf is a record as it was, to be kept with the line of the journal that tells of its change.
func versionOf(object string, before any) *store.Version {
	return &store.Version{Kind: reflect.TypeOf(before).String(), ID: object, Body: raw(before)}
}

// Earlier is a part of the configuration as it was before a change, and after it.
type Earlier struct {
	Entry  int64           `json:"entry"`
	Object string          `json:"object"`
	Before json.RawMessage `json:"before"`
	After  json.RawMessage `json:"after,omitempty"` // none: it was taken away
}

// Earlier returns what was before a line of the journal, for owners.
func (h *Hub) Earlier(ctx context.Context, a access.Actor, entry int64) (Earlier, error) {
	if err := access.May(a, access.Configure, access.Anything); err != nil {
		return Earlier{}, err
	}
	v, err := h.earlier(ctx, a, entry)
	out := Earlier{Entry: entry, Object: v.ID, Before: json.RawMessage(v.Body)}
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
		if now, there := h.boards.get(id); !mayOpen(a, d) || there && !mayOpen(a, now) {
			ok = false
		}
	}
	if err == nil && !ok {
		err = &NotFoundError{What: "earlier version at the line", ID: fmt.Sprint(entry)}
	}
	return v, err
}

// restorers bring a record of a kind back through the same door as an edit, so that it is checked, journalled and told alike.
var restorers = map[string]func(ctx context.Context, h *Hub, a access.Actor, v store.Version) error{
	"site.Signal": back(func(ctx context.Context, h *Hub, a access.Actor, id string, x site.Signal) error {
		_, err := h.ChangeSignal(ctx, a, id, func(s *site.Signal) error { *s = x; return nil })
		return err
	}),
	"site.Control": back(func(ctx context.Context, h *Hub, a access.Actor, id string, x site.Control) error {
		_, err := h.SaveControl(ctx, a, id, func(c *site.Control) error { *c = x; return nil })
		return err
	}),
	"site.Device": back(func(ctx context.Context, h *Hub, a access.Actor, id string, x site.Device) error {
		_, err := h.ChangeDevice(ctx, a, id, func(d *site.Device) error {
			x.State, x.Created = d.State, d.Created // taking away has ways of its own
			*d = x
			return nil
		})
		return err
	}),
	"site.Automation": back(func(ctx context.Context, h *Hub, a access.Actor, id string, x site.Automation) error {
		_, _, err := h.SaveAutomation(ctx, a, id, func(to *site.Automation) error { *to = x; return nil })
		return err
	}),
	"site.Setting": back(func(ctx context.Context, h *Hub, a access.Actor, _ string, x site.Setting) error {
		return h.do(ctx, func() error { return keep(h, a, settingPart, &x, x.Name, anyVersion) })
	}),
	"site.Preset": back(func(ctx context.Context, h *Hub, a access.Actor, _ string, x site.Preset) error {
		return h.do(ctx, func() error { return keep(h, a, presetPart, &x, x.Name, anyVersion) })
	}),
	"site.Rule": back(func(ctx context.Context, h *Hub, a access.Actor, _ string, x site.Rule) error {
		next := &x
		return h.do(ctx, func() error { return keep(h, a, rulePart, &next, x.Name, anyVersion) })
	}),
	"site.Group": back(func(ctx context.Context, h *Hub, a access.Actor, _ string, x site.Group) error {
		next := &x
		return h.do(ctx, func() error { return keep(h, a, groupPart, &next, x.Name, anyVersion) })
	}),
	"site.Alert": back(func(ctx context.Context, h *Hub, a access.Actor, _ string, x site.Alert) error {
		next := &x
		return h.do(ctx, func() error { return keep(h, a, alertPart, &next, x.Name, anyVersion) })
	}),
	"site.Route": back(func(ctx context.Context, h *Hub, a access.Actor, _ string, x site.Route) error {
		return h.do(ctx, func() error { return keep(h, a, routePart, &x, x.Name, anyVersion) })
	}),
	"site.Dashboard": back(func(ctx context.Context, h *Hub, a access.Actor, _ string, x site.Dashboard) error {
		// Of what it shows some may be gone since.
		_, err := h.saveDashboard(ctx, a, x, anyVersion, func(access.Actor, site.Dashboard, site.Dashboard) error { return nil })
		return err
	}),
	"site.Place": back(func(ctx context.Context, h *Hub, a access.Actor, _ string, x site.Place) error {
		if x.Facts == nil {
			x.Facts = []site.Fact{} // none, rather than as they are
		}
		_, err := h.SavePlace(ctx, a, x, &x.Picture)
		return err
	}),
	"site.Model": back(func(ctx context.Context, h *Hub, a access.Actor, _ string, x site.Model) error {
		_, err := h.SaveModel(ctx, a, x, true)
		return err
	}),
	"site.Broker": back(func(ctx context.Context, h *Hub, a access.Actor, _ string, x site.Broker) error {
		_, err := h.SaveBroker(ctx, a, x, nil)
		return err
	}),
	"site.Panel": back(func(ctx context.Context, h *Hub, a access.Actor, _ string, x site.Panel) error {
		return h.SavePanel(ctx, a, x, func(site.Panel) error { return nil })
	}),
	"site.Hub": back(func(ctx context.Context, h *Hub, a access.Actor, _ string, x site.Hub) error {
		_, err := h.ChangeHub(ctx, a, func(v *site.Hub) error { *v = x; return nil })
		return err
	}),
	"site.Messaging": back(func(ctx context.Context, h *Hub, a access.Actor, _ string, x site.Messaging) error {
		_, err := h.SaveMessaging(ctx, a, x, nil, anyVersion)
		return err
	}),
	"site.Backups": back(func(ctx context.Context, h *Hub, a access.Actor, _ string, x site.Backups) error {
		_, err := h.SaveBackups(ctx, a, x, nil, nil, anyVersion)
		return err
	}),
	"hub.rightsOf": back(func(ctx context.Context, h *Hub, a access.Actor, _ string, x rightsOf) error {
		_, err := h.SaveRights(ctx, a, x.Lines, anyVersion)
		return err
	}),
}

func anyVersion(any) error { return nil }

func back[T any](f func(ctx context.Context, h *Hub, a access.Actor, id string, x T) error) func(context.Context, *Hub, access.Actor, store.Version) error {
	return func(ctx context.Context, h *Hub, a access.Actor, v store.Version) error {
		var x T
		if err := json.Unmarshal([]byte(v.Body), &x); err != nil {
			return fmt.Errorf("the version before line %d cannot be read: %w", v.Entry, err)
		}
		return f(ctx, h, a, v.ID, x)
	}
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
	f := restorers[v.Kind]
	if f == nil {
		return &InvalidError{"id", fmt.Sprintf("what line %d was about is not brought back by itself", entry)}
	}
	if err := f(ctx, h, a, v); err != nil {
		return err
	}
	h.enqueue(func() {
		h.journal(h.Time(), a, "bring back", v.ID, "", fmt.Sprintf("as it was before line %d", entry), "")
	})
	return nil
}
