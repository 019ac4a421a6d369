// Package pages keeps what people look at besides numbers: the pictures of drawings and places, the stills that cameras
// take, and dashboards that are arranged by themselves.
package pages

import (
	"context"
	"errors"
	"log/slog"
	"sync"
	"time"

	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/core/site"
	"idleember/hub"
	"idleember/sight"
	"idleember/store"
)

// House is whose pages these are: the hub.
type House interface {
	Site() *site.Site
	Time() time.Time
	Trusted() bool // the time is believed
	Sight(a access.Actor) sight.Sight
	Secret(of site.Key, name string) string
	// Do runs f in a turn of its own and waits until what it wrote is on the disk.
	Do(ctx context.Context, f func(hub.Turn) error) error
	// Publish tells whoever looks on and may look at the object.
	Publish(kind string, data any, obj access.Object)
	// Evaluate says what a formula comes to now.
	Evaluate(ctx context.Context, formula string) (shown.Checked, error)
}

// Pages keeps pictures and stills. Use New to get one.
type Pages struct {
	house House
	store *store.Store
	fetch Fetcher
	log   *slog.Logger
	life  context.Context // until Run ends
	end   context.CancelFunc
	tasks sync.WaitGroup

	mu  sync.Mutex
	now map[string]*flight // by device
}

// New returns the pages of a hub and its store. fetch brings pictures from cameras.
func New(h House, st *store.Store, fetch Fetcher, log *slog.Logger) *Pages {
	p := &Pages{house: h, store: st, fetch: fetch, log: log, now: map[string]*flight{}}
	p.life, p.end = context.WithCancel(context.Background())
	return p
}

const (
	tidyFirst = 10 * time.Minute // after the start
	tidyEvery = 6 * time.Hour
)

// Run lets go of what is kept no longer, now and then, until the context ends; then it waits for the pictures that are
// on their way.
func (p *Pages) Run(ctx context.Context) {
	for wait := tidyFirst; ctx.Err() == nil; {
		select {
		case <-ctx.Done():
		case <-time.After(wait):
			if wait = tidyEvery; !p.house.Trusted() {
				wait = tidyFirst
				continue
			}
			if err := errors.Join(p.dropPictures(ctx), p.dropStills(ctx)); err != nil && ctx.Err() == nil {
				p.log.Warn("old pictures could not be let go", "error", err)
			}
		}
	}
	p.end()
	p.tasks.Wait()
}
