package hub

import (
	"context"
	"fmt"
	"time"

	"idleember/core/engine"
	"idleember/core/mailbox"
	"idleember/core/site"
)

// Session is a device's connection through a link.
type Session struct {
	Device string
	ID     string // unique for the life of the hub
	Link   string // mqtt, http, udp and so on
	Client string // what the device calls itself
	From   string // its address
	// Expires marks a session without an end of its own: it ends when three messages are missing.
	Expires bool
}

// RefuseKey notes that somebody came with a device's id and a wrong key.
func (h *Hub) RefuseKey(s Session) {
	h.enqueue(func() {
		if _, ok := h.site.Devices[s.Device]; ok {
			h.refuse(Arrival{Session: s, Topic: "connect"}, "a wrong key came from "+s.From+" (client id "+site.Clip(s.Client,
				60)+"); check the key on the board, or give the device a new one")
		}
	})
}

// Attach gives a link a mailbox for a device, with all current wants in it.
func (h *Hub) Attach(ctx context.Context, device string) (*Mailbox, error) {
	m := &Mailbox{Device: device, now: h.Time, ready: make(chan struct{}, 1)}
	err := h.ask(ctx, func() error {
		for id, c := range h.site.Controls {
			if c.Device != device {
				continue
			}
			m.box.Name(id, c.Raw)
		}
		for _, w := range h.engine.Wants(device) {
			m.box.Want(w)
		}
		for _, x := range h.engine.Mirrors(device) {
			m.box.Mirror(x)
		}
		h.boxes.add(m)
		m.Again()
		return nil
	})
	return m, err
}

// Detach takes a mailbox back.
func (h *Hub) Detach(m *Mailbox) { h.boxes.remove(m) }

// Online says that a session began; Offline that it ended.
func (h *Hub) Online(s Session) {
	h.enqueue(func() {
		t := h.speakerOf(s.Device)
		t.sessions[s.ID] = fmt.Sprintf("%s at %s", s.Client, s.From)
		h.apply(engine.Online{Device: s.Device, Session: s.ID, From: s.From, Expires: s.Expires})
	})
}

// Listening says that a device can hear the lease from now on.
func (h *Hub) Listening(s Session) {
	h.enqueue(func() { h.apply(engine.Listening{Device: s.Device, Session: s.ID}) })
}

// Offline says that a session ended, and why; bye that the device said so itself.
func (h *Hub) Offline(s Session, why string, bye bool) {
	h.enqueue(func() {
		t := h.speakerOf(s.Device)
		delete(t.sessions, s.ID)
		for name, by := range t.publisher {
			if by == s.ID {
				delete(t.publisher, name)
			}
		}
		h.apply(engine.Offline{Device: s.Device, Session: s.ID, Why: why, Bye: bye})
	})
}

// TakenOver says that a session was pushed out by a new one with the same client id.
func (h *Hub) TakenOver(s Session) {
	h.enqueue(func() {
		t, now := h.speakerOf(s.Device), h.Time()
		recent := append(t.taken[s.Client], now)
		for len(recent) > 0 && now.Sub(recent[0]) > time.Minute {
			recent = recent[1:]
		}
		t.taken = map[string][]time.Time{s.Client: recent}
		if len(recent) >= 3 {
			h.clash(s, "takeover", "two boards push each other out with the client id "+site.Clip(s.Client,
				60)+"; give each board a device and key of its own")
		}
	})
}

// Heard says that a device without connections gave a sign of life.
func (h *Hub) Heard(s Session) { h.enqueue(func() { h.hear(s) }) }

// hear tells the engine of a session without an end of its own, at most once a second.
func (h *Hub) hear(s Session) {
	if !s.Expires {
		return
	}
	t, now := h.speakerOf(s.Device), h.Time()
	if now.Sub(t.heard) < time.Second && t.sessions[s.ID] != "" {
		return
	}
	t.heard, t.sessions[s.ID] = now, "a message from "+s.From
	h.apply(engine.Online{Device: s.Device, Session: s.ID, From: s.From, Expires: true})
}

// comesFrom notes through which session a signal comes and tells where two boards share one key.
func (h *Hub) comesFrom(s Session, device, id, raw string) {
	t := h.speakerOf(device)
	by, ok := t.publisher[raw]
	if ok && by == s.ID {
		return
	}
	if ok && t.sessions[by] != "" {
		h.clash(s, "clash", fmt.Sprintf("%s comes from two connections at once, %s and %s; give each board a device and "+
			"key of its own",
			id, t.sessions[by], t.sessions[s.ID]))
	}
	t.publisher[raw] = s.ID
}

// clash tells about two boards that use one key, at most once a minute.
func (h *Hub) clash(s Session, kind, why string) {
	t := h.speakerOf(s.Device)
	if h.Time().Sub(t.told[kind]) < time.Minute {
		return
	}
	t.told[kind] = h.Time()
	h.refuse(Arrival{Session: s, Topic: "connect"}, why)
}

// Wants returns what is wanted of a device's controls now, and its lease.
func (h *Hub) Wants(ctx context.Context, device string) (wants []mailbox.Outgoing, mirrors []engine.Mirror,
	lease time.Duration, err error) {
	err = h.ask(ctx, func() error {
		mirrors = h.engine.Mirrors(device)
		lease = h.site.Devices[device].Lease()
		for _, w := range h.engine.Wants(device) {
			wants = append(wants, mailbox.Outgoing{Control: w.Control, Raw: h.site.Controls[w.Control].Raw, Value: w.Value})
		}
		return nil
	})
	return wants, mirrors, lease, err
}
