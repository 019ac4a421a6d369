package bottle

import (
	"time"

	"idleember/core/access"
	"idleember/core/engine"
	"idleember/core/site"
)

// takeAway makes all controls of a device safe, waits until it says so or did not, withdraws what is wanted, and goes
// on.
func (h *hub) takeAway(device string, who access.Actor, stay bool, then func()) {
	_, controls := h.site.Of(device)
	if !h.site.Devices[device].Active() {
		return
	}
	h.makeSafe(controls, who, stay, false, then)
}

// makeSafe takes controls away as far as the engine is concerned.
func (h *hub) makeSafe(controls []string, who access.Actor, stay, removed bool, then func()) {
	h.w.oracle.leaves(controls, false)
	h.apply(engine.Leave{Controls: controls, Stay: stay, Actor: who})
	if !h.up {
		return
	}
	h.await(6*time.Second, func() bool { return h.engine.Left(controls) }, func(bool) {
		for _, id := range controls {
			if h.up {
				h.apply(engine.Withdraw{Control: id, Doubt: removed && !h.engine.Left([]string{id})})
			}
		}
		h.w.oracle.leaves(controls, true)
		h.w.oracle.gone(controls)
		if h.up {
			then()
		}
	})
}

func (h *hub) deleteControl(id string, who access.Actor) {
	h.makeSafe([]string{id}, who, false, true, func() {
		if !h.up || h.site.Controls[id].ID == "" {
			return
		}
		h.change(func(s *site.Site) {
			delete(s.Controls, id)
			delete(s.Automations, id)
			for key, g := range s.Groups {
				for i, m := range g.Members {
					if m.Control == id {
						left := *g
						left.Members = append(append([]site.GroupMember{}, g.Members[:i]...), g.Members[i+1:]...)
						if s.Groups[key] = &left; len(left.Members) < 2 {
							delete(s.Groups, key)
						}
						break
					}
				}
			}
		}, [2]string{"control", id})
	})
}
