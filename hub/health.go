package hub

import (
	"context"

	"idleember/core/engine"
)

// lookAtOneself tells the engine what the hub knows of itself, for alerts and formulas: how full the disk is, whether the store
// is damaged, whether the clock is wrong.
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
	h.apply(in)
}
