package hub

import (
	"context"
	"errors"
	"time"

	"idleember/core/access"
	"idleember/core/engine"
	"idleember/core/site"
)

// Tidied says what became of a series that was tidied up.
type Tidied struct {
	Removed int64 // readings that were older than they are kept
	Joined  int   // blocks fewer
}

// Tidy lets go of the readings and sums of a series that are older than they are kept, and packs the rest anew. Reading and
// collecting go on meanwhile.
func (h *Hub) Tidy(ctx context.Context, a access.Actor, name string) (Tidied, error) {
	what := History{Series: name}
	if err := h.ask(ctx, func() error {
		if err := access.May(a, access.Configure, access.Anything); err != nil {
			return err
		}
		return h.describe(a, &what)
	}); err != nil {
		return Tidied{}, err
	}
	return h.tidy(ctx, name)
}

func (h *Hub) tidy(ctx context.Context, name string) (out Tidied, err error) {
	readings, sums := h.Site().Signals[name].Keep.Ends(h.Time())
	if !readings.IsZero() || !sums.IsZero() {
		if out.Removed, err = h.store.Thin(ctx, name, readings, sums); err != nil {
			return out, err
		}
	}
	out.Joined, err = h.store.Repack(ctx, name)
	return out, err
}

const (
	tidyFirst  = 10 * time.Minute // after the start, when all boards are back
	tidyEvery  = 6 * time.Hour
	scrubEvery = 7 * 24 * time.Hour
)

// keepTidy tidies up now and then, until the context ends.
func (h *Hub) keepTidy(ctx context.Context) {
	for wait := tidyFirst; ; {
		select {
		case <-ctx.Done():
			return
		case <-time.After(wait):
		}
		if wait = tidyEvery; !h.trusted() {
			wait = tidyFirst
			continue
		}
		if err := h.dropPictures(ctx); err != nil && !errors.Is(err, context.Canceled) {
			h.log.Warn("pictures that nothing shows could not be let go", "error", err)
		}
		if err := h.dropStills(ctx); err != nil && !errors.Is(err, context.Canceled) {
			h.log.Warn("old pictures could not be let go", "error", err)
		}
		if time.Since(h.store.Scrubbed()) > scrubEvery {
			if err := h.store.Scrub(ctx); err != nil && ctx.Err() == nil {
				h.tellDamage(err.Error())
			}
		}
		for id, s := range h.Site().Signals {
			if s.Keep == (site.Keep{}) {
				continue
			}
			if _, err := h.tidy(ctx, id); err != nil && !errors.Is(err, context.Canceled) {
				h.log.Warn("old readings could not be let go", "signal", id, "error", err)
			}
		}
	}
}

// whole widens a stretch to whole hours where readings have gone: of those there are sums of hours alone.
func (h *Hub) whole(ctx context.Context, q *Range) error {
	thinned, err := h.store.Thinned(ctx, q.Series)
	if err != nil || !q.From.Before(thinned) {
		return err
	}
	q.From = q.From.Truncate(time.Hour)
	if q.To.Before(thinned) {
		q.To = q.To.Add(time.Hour - 1).Truncate(time.Hour)
	}
	q.coarse = true
	return nil
}

// pastChanged makes formulas look anew at a signal whose past was changed.
func (h *Hub) pastChanged(name string) {
	h.enqueue(func() {
		if len(h.engine.Windows(name)) > 0 {
			h.apply(engine.Late{Signal: name})
		}
	})
}
