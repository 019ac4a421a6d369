package hub

import (
	"time"

	"idleember/core/mailbox"
	"idleember/core/site"
	"idleember/store"
)

// refuse counts and keeps what could not be taken, and tells the device.
func (h *Hub) refuse(d Arrival, why string) {
	const kept = 200
	t := h.speakerOf(d.Session.Device)
	t.refused++
	t.last = why
	payload := d.Payload
	if len(payload) > kept {
		payload = payload[:kept]
	}
	now := h.Time()
	h.write(store.AddRefusal(store.Refusal{Device: d.Session.Device, N: t.refused, At: now.UnixMilli(),
		Link:  d.Session.Link,
		Topic: site.Clip(d.Topic, 200), Payload: append([]byte{}, payload...), Bytes: len(d.Payload), Reason: why}))
	p := mailbox.Problem{At: now.UTC().Truncate(time.Millisecond), Topic: site.Clip(d.Topic, 200), Reason: why}
	h.boxes.each(d.Session.Device, func(b *Mailbox) { b.problem(p) })
	if t.refused < 10 || t.refused%100 == 0 { // a board that is wrong a thousand times a second must not drown the console
		h.publishDevice(d.Session.Device)
	}
}
