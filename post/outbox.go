package post

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"idleember/core/access"
	"idleember/core/alert"
	"idleember/core/fault"
	"idleember/core/site"
	"idleember/hub"
	"idleember/store"
)

const (
	tryWithin  = 30 * time.Second // one try
	giveUpPost = 72 * time.Hour
	manyWait   = 4 // from so many on they come in one
)

// weight is how much a notice matters among others: what is over, or somebody has in hand, less than anything new.
func weight(n hub.Notice) int {
	switch alert.What(n.What) {
	case alert.WasOver, alert.WasAcked:
		return 0
	}
	return map[site.Severity]int{site.Critical: 3, site.Warning: 2}[n.Severity] + 1
}

// waits is how long to wait before the next try.
func waits(tries int) time.Duration {
	steps := []time.Duration{2 * time.Second, 10 * time.Second, 30 * time.Second, 2 * time.Minute, 10 * time.Minute,
		30 * time.Minute, time.Hour}
	return steps[min(max(tries-1, 0), len(steps)-1)]
}

// tryAll works until the context ends.
func (p *Post) tryAll(ctx context.Context) {
	for {
		next := p.startAll(ctx)
		var due <-chan time.Time
		if !next.IsZero() {
			due = time.After(max(next.Sub(p.house.Time()), 50*time.Millisecond))
		}
		select {
		case <-ctx.Done():
			return
		case <-p.wake:
		case <-due:
		}
	}
}

// startAll begins with each route that has something to do, and tells when to look again.
func (p *Post) startAll(ctx context.Context) (next time.Time) {
	now := p.house.Time()
	p.mu.Lock()
	busy := maps.Clone(p.busy) // as it was before the list is read: what is tried meanwhile still stands in it as waiting
	p.mu.Unlock()
	list, err := p.store.WaitingDeliveries(ctx)
	if err != nil {
		if ctx.Err() == nil {
			p.log.Error("messages that wait cannot be read", "error", err)
		}
		return p.house.Time().Add(time.Minute)
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
		p.tasks.Go(func() {
			p.tryRoute(ctx, route, q)
			p.mu.Lock()
			delete(p.busy, route)
			p.mu.Unlock()
			p.Poke()
		})
	}
	return next
}

// tryRoute tries the first message of a route, with those behind it where many wait.
func (p *Post) tryRoute(ctx context.Context, id string, q []store.Delivery) {
	if len(q) < manyWait {
		q = q[:1]
	}
	all := make([]hub.Notice, len(q))
	for i, d := range q {
		if err := json.Unmarshal([]byte(d.Body), &all[i]); err != nil {
			p.tried(ctx, q[i:i+1], "", &NeverError{"the message cannot be read"})
			return
		}
	}
	slices.SortStableFunc(all, func(x, y hub.Notice) int { return weight(y) - weight(x) })
	n := all[0]
	n.Others = all[1:]
	changed := p.changed.Load()
	answer, err := p.carry(ctx, id, n)
	if ctx.Err() != nil {
		return // the hub stops; it is tried again after the next start
	}
	if err != nil && changed != p.changed.Load() { // it failed as things were before
		for i := range q {
			q[i].Tries = -1
		}
	}
	p.tried(ctx, q, answer, err)
	if err != nil && changed != p.changed.Load() { // also where they were changed while that was written down
		if err := p.store.Do(ctx, store.DeliveriesDue()); err != nil && ctx.Err() == nil {
			p.log.Error("what waits is not tried at once", "error", err)
		}
	}
}

// carry gives a notice to the sender of its route.
func (p *Post) carry(ctx context.Context, id string, n hub.Notice) (string, error) {
	s := p.house.Site()
	r, ok := s.Routes[id]
	switch {
	case !ok && id == aliveRoute:
		r = site.Route{ID: id, Name: "sign of life", Via: s.Messaging.Alive.Via, To: s.Messaging.Alive.To, Inside: true}
	case !ok && id == digestRoute:
		r = site.Route{ID: id, Name: "digest", Via: site.ByMail, To: s.Messaging.Digest.To}
	case !ok && strings.HasPrefix(id, hub.PushRoute):
		r = site.Route{ID: id, Name: "pushes", Via: site.ByPush, Person: strings.TrimPrefix(id, hub.PushRoute)}
		if list, err := p.store.Subscriptions(ctx, r.Person); err != nil || len(list) == 0 {
			return "no console takes pushes", err
		}
	case !ok:
		return "", &NeverError{"the route was taken away"}
	}
	send := p.senders[r.Via]
	if send == nil {
		return "", errors.New("nobody carries messages by " + r.Via + " here")
	}
	base := strings.TrimSuffix(s.Messaging.Address, "/")
	if base != "" && n.Digest != nil {
		n.Link = base + fmt.Sprintf("/digest?from=%d&to=%d", n.Digest.From.UnixMilli(), n.Digest.To.UnixMilli())
	}
	if base != "" && n.Alert != "" {
		var err error
		if n.Link, err = p.link(ctx, base, r, n); err != nil {
			return "", err
		}
	}
	n.Still = p.pictures.StillFor(ctx, n)
	ctx, stop := context.WithTimeout(ctx, tryWithin)
	defer stop()
	return send(ctx, r, n)
}

// CryOut tells everybody who has a route, without keeping it: for when nothing can be kept any more. What does not
// arrive is tried again for as long as the hub runs; the log and the console say it too.
func (p *Post) CryOut(text string) {
	s, now := p.house.Site(), p.house.Time()
	var tasks sync.WaitGroup
	for id, r := range s.Routes {
		if r.Off {
			continue
		}
		tasks.Go(func() {
			n := hub.Notice{ID: hub.MessageID(), What: "message", At: now, Name: text, Severity: site.Critical, Hub: s.Hub.Name,
				Zone: s.Hub.Zone}
			for tries := 1; ; tries++ {
				_, err := p.carry(p.life, id, n)
				var never *NeverError
				if err == nil || p.life.Err() != nil {
					return
				}
				p.log.Error("nobody could be told", "route", id, "error", err)
				if errors.As(err, &never) {
					return
				}
				select {
				case <-time.After(waits(tries)):
				case <-p.life.Done():
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
)

// tried keeps how a try went.
func (p *Post) tried(ctx context.Context, q []store.Delivery, answer string, err error) {
	now := p.house.Time()
	var changes []store.Change
	for i, d := range q {
		d.Tries++
		var never *NeverError
		switch {
		case err == nil:
			d.State, d.Done, d.Answer = store.Sent, now.UnixMilli(), site.Clip(answer, 300)
		case errors.As(err, &never), now.Sub(time.UnixMilli(d.At)) > giveUpPost:
			d.State, d.Done, d.Answer = store.Failed, now.UnixMilli(), site.Clip(err.Error(), 300)
		default:
			d.State, d.Answer, d.Next = store.Waiting, site.Clip(err.Error(), 300), now.UnixMilli()
			if d.Tries > 0 {
				d.Next = now.Add(waits(d.Tries)).UnixMilli()
			}
		}
		q[i] = d
		changes = append(changes, store.DeliveryTried(d))
		if d.State == store.Failed || d.State == store.Sent && d.Tries > 1 || d.Tries == 1 && d.State == store.Waiting {
			p.log.Info("a message", "route", d.Route, "message", d.MID, "state", d.State, "tries", d.Tries, "answer", d.Answer)
		}
	}
	if err := p.store.Do(ctx, changes...); err != nil && ctx.Err() == nil {
		p.log.Error("how a message went cannot be kept", "error", err)
	}
	p.house.Tried(q)
}

// TestRoute sends a test over a route now and tells the exact answer of the other side.
func (p *Post) TestRoute(ctx context.Context, a access.Actor, id string) (answer string, err error) {
	if err := access.May(a, access.Configure, access.Anything); err != nil {
		return "", err
	}
	s := p.house.Site()
	if _, ok := s.Routes[id]; !ok {
		return "", fault.NotFound("route", id, site.Nearest(id, slices.Sorted(maps.Keys(s.Routes)))...)
	}
	now := p.house.Time()
	return p.carry(ctx, id, hub.Notice{ID: fmt.Sprintf("test.%s.%d", id, now.UnixMilli()), What: "test", At: now,
		Name: "A test, sent by " + a.Name, Severity: site.Info, Value: "all is well", Hub: s.Hub.Name, Zone: s.Hub.Zone})
}

// Deliveries returns the newest messages to people; of one alert where that is not empty.
func (p *Post) Deliveries(ctx context.Context, a access.Actor, about string, limit int) ([]store.Delivery, error) {
	if err := access.May(a, access.Audit, access.Anything); err != nil {
		return nil, err
	}
	list, err := p.store.Deliveries(ctx, about, limit)
	sees := p.house.Sight(a)
	return slices.DeleteFunc(list, func(d store.Delivery) bool {
		x := sees.Site.AllAlerts()[d.Alert]
		return !sees.Route(d.Route) || d.Alert != "" && !sees.Whole && (x == nil || !sees.Alert(x))
	}), err
}

// Ours reports whether an error is of the hub itself, not what the other side of a route answered.
func Ours(err error) bool {
	var gone *fault.NotFoundError
	var denied *access.Denied
	return errors.As(err, &gone) || errors.As(err, &denied)
}
