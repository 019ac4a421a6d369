package hub

import (
	"time"

	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/core/site"
)

// BrokerState is what the link says of a broker.
type BrokerState struct {
	Connected bool
	Since     time.Time
	Why       string
}

func (h *Hub) brokerState(id string) shown.BrokerState {
	s := h.brokers[id]
	return shown.BrokerState{Password: h.vault.get(site.Key{Kind: "broker", ID: id}, site.Password) != "",
		Connected: s.Connected, Since: instant(s.Since), Why: s.Why}
}

// SetBrokerState tells how the link gets along with a broker.
func (h *Hub) SetBrokerState(id string, s BrokerState) {
	h.enqueue(func() {
		was, known := h.brokers[id]
		if known && was.Connected == s.Connected && was.Why == s.Why {
			return
		}
		h.brokers[id] = s
		if known && was.Connected == s.Connected {
			return
		}
		state := map[bool]string{true: "connected", false: "away"}
		before := ""
		if known {
			before = state[was.Connected]
		}
		h.journal(h.Time(), access.HubActor(), "broker", id, before, state[s.Connected], s.Why)
		h.lookAgain()
	})
}
