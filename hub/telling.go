package hub

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"idleember/core/access"
	"idleember/core/alert"
	"idleember/core/engine"
	"idleember/core/site"
	"idleember/store"
)

// message keeps a message to people in the outbox and tells those who look on.
func (h *Hub) message(at time.Time, m engine.Message) {
	by := m.By
	if by == "" {
		by = "the hub"
	}
	h.writeState(store.AddMessage(at, m.Object, m.Text, m.Grave, by))
	h.journal(at, access.HubActor(), "message", m.Object, "", m.Text, "")
	severity := site.Info
	if m.Grave {
		severity = site.Critical
	}
	for _, id := range slices.Sorted(maps.Keys(h.site.Routes)) {
		r := h.site.Routes[id]
		elsewhere := len(r.Places) > 0 && !slices.Contains(r.Places, h.placeOf(m.Object)) && (!m.Grave || m.Object != "hub")
		if !r.Off && !elsewhere && severity.AtLeast(r.Least) && r.AfterMS == 0 && h.mayHear(id, func(v sight) bool { return v.object(m.Object) && v.by(by) }) {
			next := at
			if end := alert.QuietUntil(r, at.In(h.site.Hub.Location())); !m.Grave && !end.IsZero() && h.trusted() {
				next = end
			}
			h.sendAfter(at, next, id, "", Notice{What: "message", At: at, Name: m.Text, Severity: severity, Hub: h.site.Hub.Name, Zone: h.site.Hub.Zone})
		}
	}
	s := h.site
	h.live.add(&Event{Kind: "message", obj: aboutObject(s, m.Object), whom: notGuests, tailor: func(a access.Actor, data any) any {
		if len(h.sightOf(s, a).remarks([]store.Remark{data.(store.Remark)})) == 0 {
			return nil
		}
		return data
	}}, store.Remark{At: at, Object: m.Object, Text: m.Text, Grave: m.Grave, By: by})
}

// tellPerson tells somebody of something about their account, whatever they chose to be told of otherwise: by their own routes, else
// by the consoles that take pushes for them. It is called in the loop.
func (h *Hub) tellPerson(account, text string) {
	now := h.Time()
	var routes []string
	for _, id := range slices.Sorted(maps.Keys(h.site.Routes)) {
		if r := h.site.Routes[id]; r.Person == account && !r.Off {
			routes = append(routes, id)
		}
	}
	if len(routes) == 0 && h.site.Messaging.Push {
		routes = []string{pushRoute + account}
	}
	for _, id := range routes {
		h.send(now, id, "", Notice{What: "message", At: now, Name: text + " If that was not you, change your password.", Severity: site.Warning, Hub: h.site.Hub.Name, Zone: h.site.Hub.Zone})
	}
}

// Messages returns the newest messages to people, newest first.
func (h *Hub) Messages(ctx context.Context, a access.Actor, limit int) ([]store.Remark, error) {
	if err := access.May(a, access.Audit, access.Anything); err != nil {
		return nil, err
	}
	list, err := h.store.Messages(ctx, limit)
	return h.sight(a).remarks(list), err
}

// Notes returns the notes about something in [from, to), newest first.
func (h *Hub) Notes(ctx context.Context, a access.Actor, from, to time.Time, limit int) ([]store.Remark, error) {
	if err := access.May(a, access.Audit, access.Anything); err != nil {
		return nil, err
	}
	list, err := h.store.Notes(ctx, from, to, limit)
	return h.sight(a).remarks(list), err
}

// AddNote keeps a note at a time or about a stretch. Its object is a place, a device, or something of a device.
func (h *Hub) AddNote(ctx context.Context, a access.Actor, n store.Remark) (store.Remark, error) {
	err := h.do(ctx, func() error {
		if err := access.May(a, access.Tend, access.Anything); err != nil {
			return err
		}
		owner, _ := site.Split(n.Object)
		_, place := h.site.Place(owner)
		_, device := h.site.Devices[owner]
		n.Text = strings.TrimSpace(n.Text)
		switch {
		case !place && !device:
			return &InvalidError{"object", fmt.Sprintf("there is no place or device %q; say what the note is about", clip(n.Object, 40))}
		case n.Text == "" || len(n.Text) > 500:
			return &InvalidError{"text", "a note has a text of 1 to 500 characters"}
		case n.At.UnixMilli() < store.Earliest || n.At.After(h.Time().Add(24*time.Hour)):
			return &InvalidError{"at", "the note's time must be between 1900 and tomorrow"}
		case n.Until != nil && !n.Until.After(n.At):
			return &InvalidError{"until", "the note's end is not after its begin"}
		}
		n.By = a.Name
		h.write(store.AddNote(n, func(id int64) { n.ID = id }))
		h.journal(h.Time(), a, "note", n.Object, "", n.Text, "")
		h.lookAgain()
		return nil
	})
	return n, err
}

// RemoveNote takes a note away: an owner any, others their own.
func (h *Hub) RemoveNote(ctx context.Context, a access.Actor, id int64) error {
	n, ok, err := h.store.Note(ctx, id)
	switch {
	case err != nil:
		return err
	case !ok:
		return &NotFoundError{"note", strconv.FormatInt(id, 10), nil}
	}
	action := access.Configure
	if n.By == a.Name {
		action = access.Tend
	}
	return h.do(ctx, func() error {
		if err := access.May(a, action, access.Anything); err != nil {
			return err
		}
		h.write(store.DropNote(id))
		h.journal(h.Time(), a, "remove note", n.Object, n.Text, "", "")
		h.lookAgain()
		return nil
	})
}
