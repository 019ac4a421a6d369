package hub

import (
	"context"
	"time"

	"idleember/core/engine"
)

// lookAtOneself tells the engine what the hub knows of itself, for alerts and formulas: how full the disk is, whether the store
// is damaged, whether the clock is wrong, how many hours old the newest backup is.
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
	h.people.mu.Lock()
	defer h.people.mu.Unlock()
	for _, m := range h.people.members {
		if made := time.UnixMilli(m.Created); !ok || made.Before(at) {
			at, ok = made, true
		}
	}
	return at, ok
}
