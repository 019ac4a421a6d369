package hub

import (
	"maps"
	"slices"
	"time"

	"idleember/core/access"
	"idleember/core/alert"
	"idleember/core/engine"
	"idleember/core/site"
	"idleember/live"
	"idleember/sight"
	"idleember/store"
)

// message keeps a message to people in the outbox and tells those who look on.
func (h *Hub) message(at time.Time, m engine.Message) {
	by := m.By
	if by == "" {
		by = "the hub"
	}
	text := h.inWords(m.Text)
	h.writeState(store.AddMessage(at, m.Object, text, m.Grave, by))
	h.journal(at, access.HubActor(), "message", m.Object, "", text, "")
	severity := site.Info
	if m.Grave {
		severity = site.Critical
	}
	for _, id := range slices.Sorted(maps.Keys(h.site.Routes)) {
		r := h.site.Routes[id]
		elsewhere := len(r.Places) > 0 && !slices.Contains(r.Places, h.placeOf(m.Object)) && (!m.Grave || m.Object != "hub")
		if !r.Off && !elsewhere && severity.AtLeast(r.Least) && r.AfterMS == 0 && h.mayHear(id,
			func(v sight.Sight) bool { return v.Object(m.Object) && v.By(by) }) {
			next := at
			if end := alert.QuietUntil(r, at.In(h.site.Hub.Location())); !m.Grave && !end.IsZero() && h.trusted() {
				next = end
			}
			h.sendAfter(at, next, id, "", Notice{What: "message", At: at, Name: text, Severity: severity, Hub: h.site.Hub.Name,
				Zone: h.site.Hub.Zone})
		}
	}
	s := h.site
	h.live.Add(&live.Event{Kind: "message", Object: sight.About(s, m.Object), Tailor: func(a access.Actor, data any) any {
		if a.Role == access.Guest || len(h.glass.As(s, a).Remarks([]store.Remark{data.(store.Remark)})) == 0 {
			return nil
		}
		return data
	}}, store.Remark{At: at, Object: m.Object, Text: text, Grave: m.Grave, By: by})
}

// tellPerson tells somebody of something about their account, whatever they chose to be told of otherwise: by their own
// routes, else by the consoles that take pushes for them. It is called in the loop.
func (h *Hub) tellPerson(account, text string) {
	now := h.Time()
	var routes []string
	for _, id := range slices.Sorted(maps.Keys(h.site.Routes)) {
		if r := h.site.Routes[id]; r.Person == account && !r.Off {
			routes = append(routes, id)
		}
	}
	if len(routes) == 0 && h.site.Messaging.Push {
		routes = []string{PushRoute + account}
	}
	for _, id := range routes {
		h.send(now, id, "", Notice{What: "message", At: now, Name: text + " If that was not you, change your password.",
			Severity: site.Warning, Hub: h.site.Hub.Name, Zone: h.site.Hub.Zone})
	}
}
