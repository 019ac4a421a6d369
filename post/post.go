// Package post brings to people what they are to be told: it tries, again and again, what waits in the outbox, by mail,
// by webhook, over a broker elsewhere, by push to their consoles; it writes digests, and reads the links that messages
// carry.
package post

import (
	"context"
	"encoding/json"
	"log/slog"
	"sync"
	"sync/atomic"
	"time"

	"idleember/archive"
	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/core/series"
	"idleember/core/site"
	"idleember/hub"
	"idleember/sight"
	"idleember/store"
)

// House is whose messages these are: the hub.
type House interface {
	Site() *site.Site
	Time() time.Time
	Trusted() bool // the time is believed
	Sight(a access.Actor) sight.Sight
	Secret(of site.Key, name string) string
	// that the hub makes for itself the first time it is asked for
	OwnSecret(ctx context.Context, name string) (string, error)
	// Tried is told how it stands with messages of one route, after that was written down.
	Tried(q []store.Delivery)

	// AlertFor is an alert, and when it was raised last, for whoever a message about it came to.
	AlertFor(ctx context.Context, a access.Actor, id string) (v shown.Alert, raised time.Time, err error)
	ActiveAlerts(ctx context.Context, a access.Actor) ([]shown.Alert, error)
	ActOnAlerts(ctx context.Context, a access.Actor, do hub.AlertAction) ([]shown.Alert, error)
	// Reader is who reads what a route carries of an alert.
	Reader(route, alert, from string) (access.Actor, error)
}

// Past is what was.
type Past interface {
	Away(ctx context.Context, device string, from, to time.Time) ([]series.Span, error)
	History(ctx context.Context, a access.Actor, q archive.Range) (archive.History, error)
}

// Pictures are those that cameras took.
type Pictures interface {
	// StillFor is the number of the picture that was taken for what a notice tells, waiting for it a little; 0 where there
	// is none.
	StillFor(ctx context.Context, n hub.Notice) int64
	StillBody(ctx context.Context, a access.Actor, id int64) ([]byte, shown.Still, error)
}

// NeverError says that the other side will never take a message.
type NeverError struct{ Answer string }

func (e *NeverError) Error() string { return e.Answer }

// sender carries a notice over a route and tells what the other side answered. What can never be taken is a
// *NeverError.
type sender func(ctx context.Context, r site.Route, n hub.Notice) (answer string, err error)

// Post brings what waits in the store to its senders, each route in its own order, so that a route that hangs holds up
// no other. Use New to get one; nothing is sent before Run.
type Post struct {
	house    House
	store    *store.Store
	past     Past
	pictures Pictures
	log      *slog.Logger
	senders  map[string]sender // by the way of a route

	mu      sync.Mutex
	busy    map[string]bool // routes
	wake    chan struct{}
	changed atomic.Int64 // how often routes or servers were; what failed before that is tried again at once
	tasks   sync.WaitGroup
	life    context.Context // until Run ends
	end     context.CancelFunc
	making  sync.Mutex // of keys for push services
}

// New returns the post of a hub and its store.
func New(h House, st *store.Store, past Past, pictures Pictures, log *slog.Logger) *Post {
	p := &Post{house: h, store: st, past: past, pictures: pictures, log: log, busy: map[string]bool{},
		wake: make(chan struct{}, 1)}
	p.life, p.end = context.WithCancel(context.Background())
	p.senders = map[string]sender{site.ByMail: mailer{p}.send, site.ByWebhook: webhook{p}.send,
		site.ByMQTT: broker{p}.send, site.ByPush: push{p}.send}
	return p
}

// Run tries what waits, sends the sign of life, and digests when they are due, until the context ends.
func (p *Post) Run(ctx context.Context) {
	defer p.end()
	p.tasks.Go(func() { p.tryAll(ctx) })
	p.tasks.Go(func() { p.beat(ctx) })
	<-ctx.Done()
	p.tasks.Wait()
}

// own is whose the secrets are that the hub makes for itself.
var own = site.Key{Kind: "hub"}

func raw(v any) string {
	b, _ := json.Marshal(v) // plain fields
	return string(b)
}

// Poke says that something waits.
func (p *Post) Poke() {
	select {
	case p.wake <- struct{}{}:
	default:
	}
}

// Changed says that routes or servers were changed: what failed as they were is tried again at once.
func (p *Post) Changed() {
	p.changed.Add(1)
	p.Poke()
}

const digestEvery = 20 * time.Second // how often it is looked whether one is due

// beat sends the sign of life as often as is said, and the digest when it is due, until the context ends. A beat that
// cannot go is not made up for: the next one says the same.
func (p *Post) beat(ctx context.Context) {
	var last, looked time.Time
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		if now := time.Now(); now.Sub(looked) >= digestEvery && p.house.Trusted() {
			looked = now
			if err := p.tellDigest(ctx, p.house.Time()); err != nil && ctx.Err() == nil {
				p.log.Warn("the digest did not go out", "error", err)
			}
		}
		s := p.house.Site()
		a := s.Messaging.Alive
		if a.Via == "" || time.Since(last) < site.Millis(a.EveryMS) {
			continue
		}
		last = time.Now()
		if _, err := p.carry(ctx, aliveRoute, hub.Notice{ID: hub.MessageID(), What: "alive", At: p.house.Time(),
			Name: s.Hub.Name + " is alive", Severity: site.Info, Hub: s.Hub.Name, Zone: s.Hub.Zone}); err != nil &&
			ctx.Err() == nil {
			p.log.Warn("the sign of life did not go out", "error", err)
		}
	}
}
