// Package archive is how the past is looked at and changed: series over time and in sums, one reading after the other,
// the journal, notes; readings that are brought in, deleted, calibrated anew; alerts that are tried on what was.
package archive

import (
	"context"
	"log/slog"
	"time"

	"idleember/core/access"
	"idleember/core/site"
	"idleember/hub"
	"idleember/sight"
	"idleember/store"
)

// House is whose past this is: the hub.
type House interface {
	Site() *site.Site
	Time() time.Time
	Trusted() bool // the time is believed
	Sight(a access.Actor) sight.Sight
	// Interval is how often a signal reports, as far as is known; 0: it is not.
	Interval(ctx context.Context, signal string) (time.Duration, error)
	// Do runs f in a turn of its own and waits until what it wrote is on the disk.
	Do(ctx context.Context, f func(hub.Turn) error) error
	// PastChanged makes formulas look anew at a signal whose past was changed, and tells who looks on.
	PastChanged(signal string)
}

// Archive is the past of a hub. Use New to get one.
type Archive struct {
	house House
	store *store.Store
	log   *slog.Logger
}

// New returns the archive of a hub and its store.
func New(h House, st *store.Store, log *slog.Logger) *Archive { return &Archive{h, st, log} }
