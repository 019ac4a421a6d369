package bottle

import (
	"time"

	"idleember/core/access"
	"idleember/core/engine"
	"idleember/core/mailbox"
	"idleember/core/site"
)

type (
	mailboxBox      = mailbox.Box
	mailboxOutgoing = mailbox.Outgoing
)

// takeAway makes all controls of a device safe, waits until it says so or did not, withdraws what is wanted, and goes on.
func (h *hub) takeAway(device string, who access.Actor, then func()) {
	_, controls := h.site.Of(device)
	if !h.site.Devices[device].Active() {
		return
	}
	h.makeSafe(controls, who, then)
}

func (h *hub) makeSafe(controls []string, who access.Actor, then func()) {
	if len(controls) == 0 {
		for range 1 {
			then()
		}
		return
	}
	id, rest := controls[0], controls[1:]
	cfg, ok := h.site.Controls[id]
	next := func(bool) {
		h.makeSafe(rest, who, func() {
			if h.up && ok {
				h.apply(engine.Withdraw{Control: id})
			}
			then()
		})
	}
	s, _ := h.engine.Control(id)
	if !ok || cfg.Momentary != nil || cfg.What() == site.Mover ||
		s.Want == nil && (s.Is == nil || *s.Is == cfg.Safe) || s.Is != nil && *s.Is == cfg.Safe && s.Want != nil && *s.Want == cfg.Safe && s.Phase == engine.Confirmed {
		next(true)
		return
	}
	h.apply(engine.Command{Control: id, To: cfg.Safe, Actor: who})
	if !h.up {
		return
	}
	h.await(cfg.ConfirmAfter+time.Second, func() bool {
		s, _ := h.engine.Control(id)
		return s.Phase != engine.Pending
	}, next)
}

func (h *hub) deleteControl(id string, who access.Actor) {
	h.makeSafe([]string{id}, who, func() {
		if !h.up || h.site.Controls[id].ID == "" {
			return
		}
		h.w.oracle.deletes(id)
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
