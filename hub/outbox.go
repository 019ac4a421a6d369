package hub

import (
	"context"
	"slices"
	"time"

	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/core/site"
	"idleember/live"
	"idleember/store"
)

// Notice is what is told to somebody: about an alert, a message of a rule, or a test.
type Notice struct {
	ID       string        `json:"id"` // the same however often it is tried
	What     string        `json:"what"`
	At       time.Time     `json:"at"`
	Alert    string        `json:"alert,omitempty"`
	Name     string        `json:"name"`
	Severity site.Severity `json:"severity"`
	Place    string        `json:"place,omitempty"`
	Value    string        `json:"value,omitempty"`
	Was      string        `json:"was,omitempty"` // when it was raised
	Limit    string        `json:"limit,omitempty"`
	Since    time.Time     `json:"since,omitzero"`
	Do       string        `json:"do,omitempty"`
	Series   string        `json:"series,omitempty"`
	Hub      string        `json:"hub"`
	Zone     string        `json:"zone"`
	Link     string        `json:"link,omitempty"`
	Still    int64         `json:"still,omitempty"` // the number of the picture that was taken for it
	N        int64         `json:"n,omitempty"`     // of which time the alert was raised
	Digest   *shown.Digest `json:"digest,omitempty"`
	By       string        `json:"by,omitempty"`     // who acknowledged it
	Word     string        `json:"word,omitempty"`   // and what they said
	Others   []Notice      `json:"others,omitempty"` // where many wait they come in one, the worst first
}

// Carrier brings what waits in the outbox to people.
type Carrier interface {
	// Poke says that something waits.
	Poke()
	// Changed says that routes or servers were changed: what failed as they were is tried again at once.
	Changed()
	// CryOut tells everybody at once, for when nothing can be kept any more; it returns when they were told, or the hub
	// stops.
	CryOut(text string)
}

type nobodyCarries struct{}

func (nobodyCarries) Poke()         {}
func (nobodyCarries) Changed()      {}
func (nobodyCarries) CryOut(string) {}

// Carries registers who brings what waits to people. What waits until then stays.
func (h *Hub) Carries(c Carrier) {
	h.carriers.Store(&c)
	c.Poke()
}

func (h *Hub) carrier() Carrier {
	if c := h.carriers.Load(); c != nil {
		return *c
	}
	return nobodyCarries{}
}

// PushRoute is the beginning of the name of a person's consoles as a route; their account follows.
const PushRoute = "hub.push."

const keptMessages = 90 * 24 * time.Hour

// MessageID is that of no other message: neither of one of the same moment, nor of what had the same name before.
func MessageID() string { return secret(15) }

// tryAgain makes what waits due, because where messages go to was changed. It is called in the loop.
func (h *Hub) tryAgain() {
	h.write(store.DeliveriesDue())
	h.later(func(error) { h.carrier().Changed() })
}

// send puts a notice on its way.
func (h *Hub) send(at time.Time, route, about string, n Notice) { h.sendAfter(at, at, route, about, n) }

// sendAfter puts a notice on its way that is held until a time, as over quiet hours. It holds up no other.
func (h *Hub) sendAfter(at, next time.Time, route, about string, n Notice) {
	n.ID = MessageID()
	d := store.Delivery{MID: n.ID, Next: next.UnixMilli(), Route: route, Alert: about, At: at.UnixMilli(),
		State: store.Waiting, Body: raw(n)}
	h.writeState(store.AddDelivery(d))
	h.undelivered.note(d) // also where it waits behind others and is not tried yet
	h.later(func(err error) {
		if err == nil {
			h.carrier().Poke()
		}
	})
}

// Tried is told how it stands with messages of one route, after that was written down.
func (h *Hub) Tried(q []store.Delivery) {
	first := q[0]
	h.enqueue(func() {
		for _, d := range q {
			if h.undelivered.note(d) {
				h.publishAlert(d.Alert)
			}
		}
		s := h.site
		h.live.Add(&live.Event{Kind: "delivery", Object: access.Object{Name: "route." + first.Route,
			Guests: site.GuestsNothing}, Tailor: func(a access.Actor, data any) any {
			if !h.glass.As(s, a).Route(first.Route) {
				return nil
			}
			return data
		}}, map[string]string{"route": first.Route, "alert": first.Alert})
	})
}

// undelivered is how it stands with the newest message about an alert over a route that has not arrived: it waits, or
// failed.
type undelivered map[way]string

type way struct{ alert, route string }

// note keeps how a message stands, and reports whether that is another than before.
func (u undelivered) note(d store.Delivery) bool {
	k, state := way{d.Alert, d.Route}, d.State
	if state == store.Sent {
		state = ""
	}
	if u[k] == state {
		return false
	}
	delete(u, k)
	if state != "" && d.Alert != "" {
		u[k] = state
	}
	return true
}

func loadUndelivered(ctx context.Context, st *store.Store) (undelivered, error) {
	list, err := st.Deliveries(ctx, "", 500)
	u := undelivered{}
	for _, d := range slices.Backward(list) { // the newest is the last to count
		u.note(d)
	}
	return u, err
}
