package upkeep

import (
	"context"
	"time"
)

const (
	scrubFirst = 10 * time.Minute // after the start, when all boards are back, and until the time is believed
	scrubLook  = 6 * time.Hour    // how often it is looked whether it is due
	scrubEvery = 7 * 24 * time.Hour
)

// keepWhole reads all that is kept, once a week, and tells of what is damaged, until the context ends.
func (k *Keeper) keepWhole(ctx context.Context) {
	for wait := scrubFirst; ; {
		select {
		case <-ctx.Done():
			return
		case <-time.After(wait):
		}
		if wait = scrubLook; !k.house.Trusted() {
			wait = scrubFirst
			continue
		}
		if time.Since(k.store.Scrubbed()) <= scrubEvery {
			continue
		}
		if err := k.store.Scrub(ctx); err != nil && ctx.Err() == nil {
			k.house.TellDamage(err.Error())
		}
	}
}
