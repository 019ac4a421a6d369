package hub

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"idleember/core/access"
	"idleember/core/reading"
	"idleember/core/site"
)

// Message is one message of a device, either way, and what became of it.
type Message struct {
	Seq     uint64
	At      time.Time
	Out     bool // from the hub to the device
	Link    string
	Topic   string // or path, register, line
	Payload []byte // its beginning
	Bytes   int    // its whole length
	Result  string // what became of it
	Refused bool
}

const (
	messagesKept = 300 // a device
	payloadKept  = 1024
	arrivalsKept = 65
	together     = 250 * time.Millisecond // messages closer than this are one to the rhythm
)

// meter is what the hub knows of the messages of one device. Links and the hub's loop write it, so it has a lock.
type meter struct {
	mu       sync.Mutex
	ring     []Message
	next     uint64
	waiting  chan struct{} // closed when there is more
	count    int64
	arrivals []time.Time // of the last messages
	limiter  *rate.Limiter
	slowed   time.Time // when it was last told to be slower
}

// meters are the meters of all devices.
type meters struct {
	mu sync.RWMutex
	of map[string]*meter
}

func (m *meters) get(device string) *meter {
	m.mu.RLock()
	x := m.of[device]
	m.mu.RUnlock()
	if x != nil {
		return x
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.of == nil {
		m.of = map[string]*meter{}
	}
	if m.of[device] == nil {
		m.of[device] = &meter{next: 1}
	}
	return m.of[device]
}

func (m *meters) drop(device string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	delete(m.of, device)
}

// add keeps a message.
func (m *meter) add(x Message) {
	x.Bytes = len(x.Payload)
	x.Payload = append([]byte(nil), x.Payload[:min(len(x.Payload), payloadKept)]...)
	m.mu.Lock()
	defer m.mu.Unlock()
	x.Seq = m.next
	m.next++
	if len(m.ring) < messagesKept {
		m.ring = append(m.ring, x)
	} else {
		m.ring[x.Seq%messagesKept] = x
	}
	if !x.Out {
		m.count++
		if len(m.arrivals) == arrivalsKept {
			m.arrivals = append(m.arrivals[:0], m.arrivals[1:]...)
		}
		m.arrivals = append(m.arrivals, x.At)
	}
	if m.waiting != nil {
		close(m.waiting)
		m.waiting = nil
	}
}

// after returns the messages after a sequence number, oldest first, and what tells that there are more.
func (m *meter) after(seq uint64) ([]Message, <-chan struct{}) {
	m.mu.Lock()
	defer m.mu.Unlock()
	var out []Message
	for _, x := range m.ring {
		if x.Seq > seq {
			out = append(out, x)
		}
	}
	slices.SortFunc(out, func(a, b Message) int { return int(int64(a.Seq) - int64(b.Seq)) })
	if m.waiting == nil {
		m.waiting = make(chan struct{})
	}
	return out, m.waiting
}

// Pulse is how a device's messages come.
type Pulse struct {
	Count     int64         // since the hub started
	PerMinute float64       // lately
	Every     time.Duration // the median gap, 0 while unknown
	Jitter    time.Duration // the median distance from it
}

func (m *meter) pulse(now time.Time) Pulse {
	m.mu.Lock()
	defer m.mu.Unlock()
	p := Pulse{Count: m.count}
	n := len(m.arrivals)
	if n < 2 {
		return p
	}
	var gaps []time.Duration
	last := m.arrivals[0]
	for _, at := range m.arrivals[1:] {
		if gap := at.Sub(last); gap >= together {
			gaps, last = append(gaps, gap), at
		}
	}
	recent := 0
	for _, at := range m.arrivals {
		if now.Sub(at) <= time.Minute {
			recent++
		}
	}
	p.PerMinute = float64(recent)
	if span := now.Sub(m.arrivals[0]); recent == n && span > 0 && span < time.Minute && n == arrivalsKept {
		p.PerMinute = float64(n) / span.Minutes()
	}
	if len(gaps) < 3 {
		return p
	}
	p.Every = middle(gaps)
	for i, g := range gaps {
		gaps[i] = (g - p.Every).Abs()
	}
	p.Jitter = middle(gaps)
	return p
}

func middle(of []time.Duration) time.Duration {
	sorted := slices.Clone(of)
	slices.Sort(sorted)
	return sorted[len(sorted)/2]
}

// Sent notes what a link told a device.
func (h *Hub) Sent(device, link, topic string, payload []byte, result string) {
	h.meters.get(device).add(Message{At: h.Time(), Out: true, Link: link, Topic: topic, Payload: payload, Result: result})
}

// Noted notes what came from a device and needs no answer of the hub.
func (h *Hub) Noted(device, link, topic string, payload []byte, result string) {
	h.meters.get(device).add(Message{At: h.Time(), Link: link, Topic: topic, Payload: payload, Result: result})
}

// Failed notes that a device could not be asked or told.
func (h *Hub) Failed(device, link, topic, why string) {
	h.meters.get(device).add(Message{At: h.Time(), Out: true, Link: link, Topic: topic, Result: why, Refused: true})
}

// Pace is how long a link must wait before it takes the next message of a device, 0 where it may go on. The device and its
// owner are told, at most once a minute.
func (h *Hub) Pace(device string) time.Duration {
	return h.reserve(device, "they are taken more slowly", false)
}

// Allow is 0 where a link may take a message of a device now, else how long the device should wait; the message is then
// to be refused. The owner is told, at most once a minute.
func (h *Hub) Allow(device string) time.Duration {
	return h.reserve(device, "the rest is refused", true)
}

func (h *Hub) reserve(device, consequence string, giveBack bool) time.Duration {
	m := h.meters.get(device)
	limit := h.Site().Devices[device].Limits.Filled().PerSecond
	m.mu.Lock()
	if m.limiter == nil {
		m.limiter = rate.NewLimiter(rate.Limit(limit), 10*limit)
	}
	if m.limiter.Limit() != rate.Limit(limit) {
		m.limiter.SetLimit(rate.Limit(limit))
		m.limiter.SetBurst(10 * limit)
	}
	now := h.Time()
	r := m.limiter.ReserveN(now, 1)
	wait := r.DelayFrom(now)
	if giveBack && wait > 0 {
		r.CancelAt(now)
	}
	tell := wait > 0 && now.Sub(m.slowed) > time.Minute
	if tell {
		m.slowed = now
	}
	m.mu.Unlock()
	if tell {
		h.enqueue(func() {
			h.refuse(Delivery{Session: Session{Device: device}, Topic: "rate"}, fmt.Sprintf("more than %d messages a second came; %s. Send less often, or raise the limit on the device's page", limit, consequence))
		})
	}
	return wait
}

// Traffic returns what a device and the hub told each other after a sequence number, oldest first. With wait it waits for
// something new until the context ends.
func (h *Hub) Traffic(ctx context.Context, a access.Actor, device string, after uint64, wait bool) ([]Message, error) {
	if err := h.ask(ctx, func() error { _, err := h.device(a, access.Configure, device); return err }); err != nil {
		return nil, err
	}
	for {
		list, more := h.meters.get(device).after(after)
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
	o.stored = append(o.stored, name+" "+clip(text, 40))
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
