// Package traffic keeps what each device and the hub told each other lately, how often messages come, and how many may.
package traffic

import (
	"slices"
	"sync"
	"time"

	"golang.org/x/time/rate"
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

// Meter is what the hub knows of the messages of one device. Links and the hub's loop write it, so it has a lock.
type Meter struct {
	mu       sync.Mutex
	ring     []Message
	next     uint64
	waiting  chan struct{} // closed when there is more
	count    int64
	arrivals []time.Time // of the last messages
	limiter  *rate.Limiter
	slowed   time.Time // when it was last told to be slower
}

// Meters are the meters of all devices.
type Meters struct {
	mu sync.RWMutex
	of map[string]*Meter
}

// Of is the meter of a device.
func (m *Meters) Of(device string) *Meter {
	m.mu.RLock()
	x := m.of[device]
	m.mu.RUnlock()
	if x != nil {
		return x
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.of == nil {
		m.of = map[string]*Meter{}
	}
	if m.of[device] == nil {
		m.of[device] = &Meter{next: 1}
	}
	return m.of[device]
}

// Drop forgets a device.
func (m *Meters) Drop(device string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	delete(m.of, device)
}

// Add keeps a message.
func (m *Meter) Add(x Message) {
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

// After returns the messages after a sequence number, oldest first, and what tells that there are more.
func (m *Meter) After(seq uint64) ([]Message, <-chan struct{}) {
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

// Pulse is how the messages came lately.
func (m *Meter) Pulse(now time.Time) Pulse {
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

// Reserve is how long to wait before the next message may be taken where so many a second may come, and whether that is
// to be told: once a minute at most. With giveBack a message that would have to wait does not count.
func (m *Meter) Reserve(now time.Time, limit int, giveBack bool) (wait time.Duration, tell bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.limiter == nil {
		m.limiter = rate.NewLimiter(rate.Limit(limit), 10*limit)
	}
	if m.limiter.Limit() != rate.Limit(limit) {
		m.limiter.SetLimit(rate.Limit(limit))
		m.limiter.SetBurst(10 * limit)
	}
	r := m.limiter.ReserveN(now, 1)
	wait = r.DelayFrom(now)
	if giveBack && wait > 0 {
		r.CancelAt(now)
	}
	if tell = wait > 0 && now.Sub(m.slowed) > time.Minute; tell {
		m.slowed = now
	}
	return wait, tell
}
