package hub

import (
	"context"
	"fmt"
	"strings"
	"time"

	"idleember/core/access"
	"idleember/core/engine"
	"idleember/core/fault"
	"idleember/core/site"
	"idleember/core/words"
	"idleember/live"
)

// lookAtOneself tells the engine what the hub knows of itself, for alerts and formulas: how full the disk is, whether
// the store is damaged, whether the clock is wrong, how many hours old the newest backup is.
func (h *Hub) lookAtOneself() {
	in := engine.Health{Values: map[string]float64{"hub.clock": 0}}
	if !h.now().Trusted {
		in.Values["hub.clock"] = 1
	}
	if used, err := h.store.DiskUsed(); err == nil {
		in.Values["hub.disk_used"] = float64(int(used*10)) / 10
	} else {
		h.log.Warn("the disk cannot be asked", "error", err)
	}
	if n, err := h.store.Damaged(context.Background()); err == nil {
		in.Values["hub.damaged"] = float64(n)
	}
	if since, ok := h.backedUp(); ok {
		in.Values["hub.backup"] = float64(int(h.Time().Sub(since).Hours()*10)) / 10
	}
	h.apply(in)
}

// backedUp is when the newest backup was made; without any, since when there is something to lose.
func (h *Hub) backedUp() (at time.Time, ok bool) {
	if at, ok = h.store.LastBackup(); ok {
		return at, ok
	}
	return h.people.Since()
}

// checkBackups: a backup holds all by which people and boards sign in; where it goes, and who can read it, is for a
// person.
func (h *Hub) checkBackups(a access.Actor, before any, e *edit) error {
	b := e.part.(site.Backups)
	if e.secrets[site.Passphrase] != nil || e.secrets[site.Password] != nil ||
		b.Elsewhere != before.(site.Backups).Elsewhere {
		if err := h.people.InPerson(a); err != nil {
			return err
		}
	}
	if b.Elsewhere.Via == site.ToFolder && h.store.Within(b.Elsewhere.Address) {
		return &fault.InvalidError{Field: "backups", Reason: "the folder " + b.Elsewhere.Address +
			" is in the hub's own; take one on another disk"}
	}
	word := h.vault.get(site.Key{Kind: "backups"}, site.Passphrase)
	if entered := e.secrets[site.Passphrase]; entered != nil {
		word = *entered
	}
	if b.Elsewhere.Away() && word == "" {
		return fault.Invalid("passphrase", "a backup holds password hashes: what leaves the house is encrypted; enter a "+
			"passphrase")
	}
	return nil
}

// TellDamage tells everybody of what a look at all that is kept found damaged.
func (h *Hub) TellDamage(what string) {
	h.log.Error("what is kept is damaged", "what", what)
	first, more, _ := strings.Cut(what, "\n")
	if more != "" {
		first += fmt.Sprintf(", and %d faults more", strings.Count(more, "\n")+1)
	}
	h.Warn("What is kept is damaged: " + first +
		". The newest backup without damage stays; idleember check tells all of it.")
}

// Warn tells everybody who hears of critical alerts something about the hub itself.
func (h *Hub) Warn(text string) {
	h.enqueue(func() { h.message(h.Time(), engine.Message{Object: "hub", Grave: true, Text: words.Said(text)}) })
}

// Tell tells everybody who hears of messages something about the hub itself.
func (h *Hub) Tell(text string) {
	h.enqueue(func() { h.message(h.Time(), engine.Message{Object: "hub", Text: words.Said(text)}) })
}

// Record writes down in the journal what was done beside the loop.
func (h *Hub) Record(a access.Actor, action, object, before, after, reason string) {
	h.enqueue(func() { h.journal(h.Time(), a, action, object, before, after, reason) })
}

// LookAtOneself has the hub look at once at what it else looks at now and then: how old the newest backup is, how full
// the disk.
func (h *Hub) LookAtOneself() { h.enqueue(h.lookAtOneself) }

// Secret is what is kept with a part and must not be shown.
func (h *Hub) Secret(of site.Key, name string) string { return h.vault.get(of, name) }

// Trusted reports whether the time is believed.
func (h *Hub) Trusted() bool { return h.trusted() }

// Publish tells whoever looks on and may look at the object.
func (h *Hub) Publish(kind string, data any, obj access.Object) {
	h.enqueue(func() { h.live.Publish(kind, data, obj) })
}

// OnRaised registers who is told, in the loop, of each alert that is raised; it does not wait there.
func (h *Hub) OnRaised(f func(cfg *site.Alert, n int64, raised time.Time)) { h.onRaised.Store(&f) }

// Tells registers who knows how a part of a kind is now. It is called before anybody asks.
func (h *Hub) Tells(kind string, state func() any) {
	h.states.Store(kind, state)
}

// Seal brings what is recent into blocks, which else happens by itself.
func (h *Hub) Seal(ctx context.Context) error { return h.store.Seal(ctx) }

// PastChanged makes formulas look anew at a signal whose past was changed, and tells who looks on.
func (h *Hub) PastChanged(name string) {
	h.enqueue(func() {
		if len(h.engine.Windows(name)) > 0 {
			h.apply(engine.Late{Signal: name})
		}
		if _, ok := h.site.Signals[name]; ok {
			h.publishSignal(name)
		}
	})
}

// Interval is how often a signal reports, as far as is known; 0: it is not.
func (h *Hub) Interval(ctx context.Context, signal string) (interval time.Duration, err error) {
	err = h.ask(ctx, func() error {
		if g, ok := h.site.Signals[signal]; ok {
			interval = time.Duration(h.signalView(g).State.IntervalMS) * time.Millisecond
		}
		return nil
	})
	return interval, err
}

// Watch reads live events after the one with the given id ("": from now on). actor is asked again for every event, so
// that a stream ends when its right does.
func (h *Hub) Watch(lastID string, actor func() (access.Actor, bool)) *live.Watch {
	return h.live.Watch(lastID, actor)
}

// Readers is how many live streams are open.
func (h *Hub) Readers() int { return h.live.Readers() }
