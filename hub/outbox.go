package hub

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/core/alert"
	"idleember/core/site"
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

// weight is how much a notice matters among others: what is over, or somebody has in hand, less than anything new.
func (n Notice) weight() int {
	switch alert.What(n.What) {
	case alert.WasOver, alert.WasAcked:
		return 0
	}
	return map[site.Severity]int{site.Critical: 3, site.Warning: 2}[n.Severity] + 1
}

// Sender carries a notice over a route and tells what the other side answered. What can never be taken is a *NeverError.
type Sender func(ctx context.Context, r site.Route, n Notice) (answer string, err error)

// NeverError says that the other side will never take a message.
type NeverError struct{ Answer string }

func (e *NeverError) Error() string { return e.Answer }

// Sends registers who carries notices over a way. It is called before there is anything to send.
func (h *Hub) Sends(via string, s Sender) {
	h.post.mu.Lock()
	h.post.senders[via] = s
	h.post.mu.Unlock()
	h.post.poke()
}

// post brings what waits in the store to its senders, each route in its own order, so that a route that hangs holds up no other.
type post struct {
	mu      sync.Mutex
	senders map[string]Sender
	newKeys func() (PushKeys, error)

	checkPush func(store.Subscription, bool) error

	busy    map[string]bool // routes
	wake    chan struct{}
	changed atomic.Int64 // how often routes or servers were; what failed before that is tried again at once
}

func newPost() *post {
	return &post{senders: map[string]Sender{}, busy: map[string]bool{}, wake: make(chan struct{}, 1)}
}

func (p *post) poke() {
	select {
	case p.wake <- struct{}{}:
	default:
	}
}

const (
	tryWithin  = 30 * time.Second // one try
	giveUpPost = 72 * time.Hour
	manyWait   = 4 // from so many on they come in one
	keptPosts  = 90 * 24 * time.Hour
)

// waits is how long to wait before the next try.
func waits(tries int) time.Duration {
	steps := []time.Duration{2 * time.Second, 10 * time.Second, 30 * time.Second, 2 * time.Minute, 10 * time.Minute, 30 * time.Minute, time.Hour}
	return steps[min(max(tries-1, 0), len(steps)-1)]
}

// messageID is that of no other message: neither of one of the same moment, nor of what had the same name before.
func messageID() string { return secret(15) }

// tryAgain makes what waits due, because where messages go to was changed. It is called in the loop.
func (h *Hub) tryAgain() {
	h.post.changed.Add(1)
	h.write(store.DeliveriesDue())
	h.later(func(error) { h.post.poke() })
}

// send puts a notice on its way.
func (h *Hub) send(at time.Time, route, about string, n Notice) { h.sendAfter(at, at, route, about, n) }

// sendAfter puts a notice on its way that is held until a time, as over quiet hours. It holds up no other.
func (h *Hub) sendAfter(at, next time.Time, route, about string, n Notice) {
	n.ID = messageID()
	d := store.Delivery{MID: n.ID, Next: next.UnixMilli(), Route: route, Alert: about, At: at.UnixMilli(), State: store.Waiting, Body: raw(n)}
	h.writeState(store.AddDelivery(d))
	h.undelivered.note(d) // also where it waits behind others and is not tried yet
	h.later(func(err error) {
		if err == nil {
			h.post.poke()
		}
	})
}

// deliverPosts works until the context ends.
func (h *Hub) deliverPosts(ctx context.Context) {
	p := h.post
	for {
		next := h.startPosts(ctx)
		var due <-chan time.Time
		if !next.IsZero() {
			due = time.After(max(next.Sub(h.Time()), 50*time.Millisecond))
		}
		select {
		case <-ctx.Done():
			return
		case <-p.wake:
		case <-due:
		}
	}
}

// startPosts begins with each route that has something to do, and tells when to look again.
func (h *Hub) startPosts(ctx context.Context) (next time.Time) {
	p, now := h.post, h.Time()
	p.mu.Lock()
	busy := maps.Clone(p.busy) // as it was before the list is read: what is tried meanwhile still stands in it as waiting
	p.mu.Unlock()
	list, err := h.store.WaitingDeliveries(ctx)
	if err != nil {
		if ctx.Err() == nil {
			h.log.Error("messages that wait cannot be read", "error", err)
		}
		return h.Time().Add(time.Minute)
	}
	again := func(at time.Time) {
		if next.IsZero() || at.Before(next) {
			next = at
		}
	}
	byRoute := map[string][]store.Delivery{}
	for _, d := range list {
		if at := time.UnixMilli(d.Next); d.Tries == 0 && at.After(now) {
			again(at)
			continue
		}
		byRoute[d.Route] = append(byRoute[d.Route], d)
	}
	for _, route := range slices.Sorted(maps.Keys(byRoute)) {
		q := byRoute[route]
		at := time.UnixMilli(q[0].Next) // the first holds up those behind it: they come in order
		if busy[route] {
			continue
		}
		if at.After(now) {
			again(at)
			continue
		}
		p.mu.Lock()
		p.busy[route] = true
		p.mu.Unlock()
		h.tasks.Go(func() {
			h.tryPosts(ctx, route, q)
			p.mu.Lock()
			delete(p.busy, route)
			p.mu.Unlock()
			p.poke()
		})
	}
	return next
}

// tryPosts tries the first message of a route, with those behind it where many wait.
func (h *Hub) tryPosts(ctx context.Context, id string, q []store.Delivery) {
	if len(q) < manyWait {
		q = q[:1]
	}
	all := make([]Notice, len(q))
	for i, d := range q {
		if err := json.Unmarshal([]byte(d.Body), &all[i]); err != nil {
			h.tried(ctx, q[i:i+1], "", &NeverError{"the message cannot be read"})
			return
		}
	}
	slices.SortStableFunc(all, func(x, y Notice) int { return y.weight() - x.weight() })
	n := all[0]
	n.Others = all[1:]
	changed := h.post.changed.Load()
	answer, err := h.carry(ctx, id, n)
	if ctx.Err() != nil {
		return // the hub stops; it is tried again after the next start
	}
	if err != nil && changed != h.post.changed.Load() { // it failed as things were before
		for i := range q {
			q[i].Tries = -1
		}
	}
	h.tried(ctx, q, answer, err)
	if err != nil && changed != h.post.changed.Load() { // also where they were changed while that was written down
		if err := h.store.Do(ctx, store.DeliveriesDue()); err != nil && ctx.Err() == nil {
			h.log.Error("what waits is not tried at once", "error", err)
		}
	}
}

// carry gives a notice to the sender of its route.
func (h *Hub) carry(ctx context.Context, id string, n Notice) (string, error) {
	s := h.Site()
	r, ok := s.Routes[id]
	switch {
	case !ok && id == aliveRoute:
		r = site.Route{ID: id, Name: "sign of life", Via: s.Messaging.Alive.Via, To: s.Messaging.Alive.To, Inside: true}
	case !ok && id == digestRoute:
		r = site.Route{ID: id, Name: "digest", Via: site.ByMail, To: s.Messaging.Digest.To}
	case !ok && strings.HasPrefix(id, pushRoute):
		r = site.Route{ID: id, Name: "pushes", Via: site.ByPush, Person: strings.TrimPrefix(id, pushRoute)}
		if list, err := h.store.Subscriptions(ctx, r.Person); err != nil || len(list) == 0 {
			return "no console takes pushes", err
		}
	case !ok:
		return "", &NeverError{"the route was taken away"}
	}
	h.post.mu.Lock()
	send := h.post.senders[r.Via]
	h.post.mu.Unlock()
	if send == nil {
		return "", errors.New("nobody carries messages by " + r.Via + " here")
	}
	base := strings.TrimSuffix(s.Messaging.Address, "/")
	if base != "" && n.Digest != nil {
		n.Link = base + fmt.Sprintf("/digest?from=%d&to=%d", n.Digest.From.UnixMilli(), n.Digest.To.UnixMilli())
	}
	if base != "" && n.Alert != "" {
		var err error
		if n.Link, err = h.link(ctx, base, r, n); err != nil {
			return "", err
		}
	}
	n.Still = h.stillOf(ctx, n)
	ctx, stop := context.WithTimeout(ctx, tryWithin)
	defer stop()
	return send(ctx, r, n)
}

// cryOut tells everybody who has a route, without keeping it: for when nothing can be kept any more. What does not arrive is tried
// again for as long as the hub runs; the log and the console say it too.
func (h *Hub) cryOut(text string) {
	s, now := h.Site(), h.Time()
	var tasks sync.WaitGroup
	for id, r := range s.Routes {
		if r.Off {
			continue
		}
		tasks.Go(func() {
			n := Notice{ID: messageID(), What: "message", At: now, Name: text, Severity: site.Critical, Hub: s.Hub.Name, Zone: s.Hub.Zone}
			for tries := 1; ; tries++ {
				_, err := h.carry(h.life, id, n)
				var never *NeverError
				if err == nil || h.life.Err() != nil {
					return
				}
				h.log.Error("nobody could be told", "route", id, "error", err)
				if errors.As(err, &never) {
					return
				}
				select {
				case <-time.After(waits(tries)):
				case <-h.life.Done():
					return
				}
			}
		})
	}
	tasks.Wait()
}

const (
	aliveRoute  = "hub.alive"
	digestRoute = "hub.digest"
	pushRoute   = "hub.push." // and an account
)

// tried keeps how a try went.
func (h *Hub) tried(ctx context.Context, q []store.Delivery, answer string, err error) {
	now := h.Time()
	var changes []store.Change
	for i, d := range q {
		d.Tries++
		var never *NeverError
		switch {
		case err == nil:
			d.State, d.Done, d.Answer = store.Sent, now.UnixMilli(), clip(answer, 300)
		case errors.As(err, &never), now.Sub(time.UnixMilli(d.At)) > giveUpPost:
			d.State, d.Done, d.Answer = store.Failed, now.UnixMilli(), clip(err.Error(), 300)
		default:
			d.State, d.Answer, d.Next = store.Waiting, clip(err.Error(), 300), now.UnixMilli()
			if d.Tries > 0 {
				d.Next = now.Add(waits(d.Tries)).UnixMilli()
			}
		}
		q[i] = d
		changes = append(changes, store.DeliveryTried(d))
		if d.State == store.Failed || d.State == store.Sent && d.Tries > 1 || d.Tries == 1 && d.State == store.Waiting {
			h.log.Info("a message", "route", d.Route, "message", d.MID, "state", d.State, "tries", d.Tries, "answer", d.Answer)
		}
	}
	if err := h.store.Do(ctx, changes...); err != nil && ctx.Err() == nil {
		h.log.Error("how a message went cannot be kept", "error", err)
	}
	first := q[0]
	h.enqueue(func() {
		for _, d := range q {
			if h.undelivered.note(d) {
				h.publishAlert(d.Alert)
			}
		}
		s := h.site
		h.live.add(&Event{Kind: "delivery", obj: access.Object{Name: "route." + first.Route, Guests: site.GuestsNothing}, tailor: func(a access.Actor, data any) any {
			if !h.sightOf(s, a).route(first.Route) {
				return nil
			}
			return data
		}}, map[string]string{"route": first.Route, "alert": first.Alert})
	})
}

// undelivered is how it stands with the newest message about an alert over a route that has not arrived: it waits, or failed.
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

// TestRoute sends a test over a route now and tells the exact answer of the other side.
func (h *Hub) TestRoute(ctx context.Context, a access.Actor, id string) (answer string, err error) {
	if err := access.May(a, access.Configure, access.Anything); err != nil {
		return "", err
	}
	s := h.Site()
	if _, ok := s.Routes[id]; !ok {
		return "", &NotFoundError{"route", id, site.Nearest(id, slices.Sorted(maps.Keys(s.Routes)))}
	}
	now := h.Time()
	return h.carry(ctx, id, Notice{ID: fmt.Sprintf("test.%s.%d", id, now.UnixMilli()), What: "test", At: now, Name: "A test, sent by " + a.Name, Severity: site.Info,
		Value: "all is well", Hub: s.Hub.Name, Zone: s.Hub.Zone})
}

// Deliveries returns the newest messages to people; of one alert where that is not empty.
func (h *Hub) Deliveries(ctx context.Context, a access.Actor, about string, limit int) ([]store.Delivery, error) {
	if err := access.May(a, access.Audit, access.Anything); err != nil {
		return nil, err
	}
	list, err := h.store.Deliveries(ctx, about, limit)
	sees := h.sight(a)
	return slices.DeleteFunc(list, func(d store.Delivery) bool {
		x := sees.s.AllAlerts()[d.Alert]
		return !sees.route(d.Route) || d.Alert != "" && !sees.whole && (x == nil || !sees.alert(x))
	}), err
}

// Ours reports whether an error is of the hub itself, not what the other side of a route answered.
func Ours(err error) bool {
	var gone *NotFoundError
	var denied *access.Denied
	return errors.As(err, &gone) || errors.As(err, &denied)
}
