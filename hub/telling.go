package hub

import (
	"context"
	"time"

	"idleember/core/access"
	"idleember/core/engine"
	"idleember/core/site"
	"idleember/store"
)

// message keeps a message to people in the outbox and tells those who look on.
func (h *Hub) message(at time.Time, m engine.Message) {
	by := m.By
	if by == "" {
		by = "the hub"
	}
	h.writeState(store.AddMessage(at, m.Object, m.Text, m.Grave, by))
	h.journal(at, access.HubActor(), "message", m.Object, "", m.Text, "")
	h.live.publish("message", store.Remark{At: at, Object: m.Object, Text: m.Text, Grave: m.Grave, By: by}, access.Object{Name: m.Object, Guests: site.GuestsNothing})
}

// Messages returns the newest messages to people, newest first.
func (h *Hub) Messages(ctx context.Context, a access.Actor, limit int) ([]store.Remark, error) {
	if err := access.May(a, access.Audit, access.Anything); err != nil {
		return nil, err
	}
	return h.store.Messages(ctx, limit)
}

// Notes returns the newest notes, newest first.
func (h *Hub) Notes(ctx context.Context, a access.Actor, limit int) ([]store.Remark, error) {
	if err := access.May(a, access.Audit, access.Anything); err != nil {
		return nil, err
	}
	return h.store.Notes(ctx, limit)
}
