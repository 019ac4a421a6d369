package archive

import (
	"context"
	"time"

	"idleember/core/access"
	"idleember/core/site"
)

// Tidied says what became of a series that was tidied up.
type Tidied struct {
	Removed int64 // readings that were older than they are kept
	Joined  int   // blocks fewer
}

// Tidy lets go of the readings and sums of a series that are older than they are kept, and packs the rest anew. Reading
// and collecting go on meanwhile.
func (ar *Archive) Tidy(ctx context.Context, a access.Actor, name string) (Tidied, error) {
	what := History{Series: name}
	if err := access.May(a, access.Configure, access.Anything); err != nil {
		return Tidied{}, err
	}
	if err := ar.describe(ctx, a, &what); err != nil {
		return Tidied{}, err
	}
	return ar.tidy(ctx, name)
}

func (ar *Archive) tidy(ctx context.Context, name string) (out Tidied, err error) {
	readings, sums := ar.house.Site().Signals[name].Keep.Ends(ar.house.Time())
	if !readings.IsZero() || !sums.IsZero() {
		if out.Removed, err = ar.store.Thin(ctx, name, readings, sums); err != nil {
			return out, err
		}
	}
	out.Joined, err = ar.store.Repack(ctx, name)
	return out, err
}

const (
	tidyFirst = 10 * time.Minute // after the start, when all boards are back
	tidyEvery = 6 * time.Hour
)

// Run lets go of old readings now and then, until the context ends.
func (ar *Archive) Run(ctx context.Context) {
	for wait := tidyFirst; ; {
		select {
		case <-ctx.Done():
			return
		case <-time.After(wait):
		}
		if wait = tidyEvery; !ar.house.Trusted() {
			wait = tidyFirst
			continue
		}
		for id, s := range ar.house.Site().Signals {
			if s.Keep == (site.Keep{}) {
				continue
			}
			if _, err := ar.tidy(ctx, id); err != nil && ctx.Err() == nil {
				ar.log.Warn("old readings could not be let go", "signal", id, "error", err)
			}
		}
	}
}

// whole widens a stretch to whole hours where readings have gone: of those there are sums of hours alone.
func (ar *Archive) whole(ctx context.Context, q *Range) error {
	thinned, err := ar.store.Thinned(ctx, q.Series)
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
