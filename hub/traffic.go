package hub

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"idleember/core/access"
	"idleember/core/reading"
	"idleember/core/site"
	"idleember/traffic"
)

// Sent notes what a link told a device.
func (h *Hub) Sent(device, link, topic string, payload []byte, result string) {
	h.meters.Of(device).Add(traffic.Message{At: h.Time(), Out: true, Link: link, Topic: topic, Payload: payload,
		Result: result})
}

// Noted notes what came from a device and needs no answer of the hub.
func (h *Hub) Noted(device, link, topic string, payload []byte, result string) {
	h.meters.Of(device).Add(traffic.Message{At: h.Time(), Link: link, Topic: topic, Payload: payload, Result: result})
}

// Failed notes that a device could not be asked or told.
func (h *Hub) Failed(device, link, topic, why string) {
	h.meters.Of(device).Add(traffic.Message{At: h.Time(), Out: true, Link: link, Topic: topic, Result: why, Refused: true})
}

// Pace is how long a link must wait before it takes the next message of a device, 0 where it may go on. The device and
// its owner are told, at most once a minute.
func (h *Hub) Pace(device string) time.Duration {
	return h.reserve(device, "they are taken more slowly", false)
}

// Allow is 0 where a link may take a message of a device now, else how long the device should wait; the message is then
// to be refused. The owner is told, at most once a minute.
func (h *Hub) Allow(device string) time.Duration {
	return h.reserve(device, "the rest is refused", true)
}

func (h *Hub) reserve(device, consequence string, giveBack bool) time.Duration {
	limit := h.Site().Devices[device].Limits.Filled().PerSecond
	wait, tell := h.meters.Of(device).Reserve(h.Time(), limit, giveBack)
	if tell {
		h.enqueue(func() {
			h.refuse(Arrival{Session: Session{Device: device}, Topic: "rate"},
				fmt.Sprintf("more than %d messages a second came; %s. Send less often, or raise the limit on the device's page",
					limit, consequence))
		})
	}
	return wait
}

// Traffic returns what a device and the hub told each other after a sequence number, oldest first. With wait it waits
// for something new until the context ends.
func (h *Hub) Traffic(ctx context.Context, a access.Actor, device string, after uint64, wait bool) ([]traffic.Message,
	error) {
	if err := h.ask(ctx, func() error { _, err := h.device(a, access.Configure, device); return err }); err != nil {
		return nil, err
	}
	for {
		list, more := h.meters.Of(device).After(after)
		if len(list) > 0 || !wait {
			return list, nil
		}
		select {
		case <-more:
		case <-ctx.Done():
			return nil, nil
		case <-h.quit:
			return nil, nil
		}
	}
}

// outcome says in words what became of a message.
type outcome struct {
	stored  []string // "temperature 21.4"
	more    int      // readings beyond those
	late    int
	refused []string
	odd     int // readings whose time looks wrong
	oddTime string
}

// remarks are what the device is told of what was taken.
func (o *outcome) remarks() []string {
	switch o.odd {
	case 0:
		return nil
	case 1:
		return []string{o.oddTime}
	}
	return []string{fmt.Sprintf("%s (and so %d more)", o.oddTime, o.odd-1)}
}

const (
	outcomeNames = 4
	nothing      = "nothing in it"
)

func (o *outcome) took(id string, v reading.Value, decimals int) {
	if len(o.stored) == outcomeNames {
		o.more++
		return
	}
	_, name := site.Split(id)
	text := v.String()
	if v.Kind == site.Number && len(text) > 12 {
		text = strconv.FormatFloat(v.Num, 'f', decimals, 64)
	}
	o.stored = append(o.stored, name+" "+site.Clip(text, 40))
}

func (o *outcome) String() string {
	var parts []string
	if len(o.stored) > 0 {
		s := "stored " + strings.Join(o.stored, ", ")
		if o.more > 0 {
			s += fmt.Sprintf(" and %d more", o.more)
		}
		parts = append(parts, s)
	}
	if o.late > 0 {
		parts = append(parts, fmt.Sprintf("%d stored in the past", o.late))
	}
	if len(o.refused) > 0 {
		s := "refused: " + o.refused[0]
		if n := len(o.refused) - 1; n > 0 {
			s += fmt.Sprintf(" (and %d more)", n)
		}
		parts = append(parts, s)
	}
	parts = append(parts, o.remarks()...)
	if len(parts) == 0 {
		return nothing
	}
	return strings.Join(parts, "; ")
}
