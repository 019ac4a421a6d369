package hub

import (
	"maps"
	"slices"
	"sync"
	"time"

	"idleember/core/engine"
	"idleember/core/site"
)

// Mailbox is how wants, beats and problems reach a link. It keeps the last want for each control and never blocks who
// puts something in, so that a link that is stuck holds nobody else.
type Mailbox struct {
	Device string

	mu       sync.Mutex
	wants    map[string]Outgoing
	pulses   []Outgoing // never merged
	mirrors  map[string]engine.Mirror
	lease    time.Duration
	problems []Problem
	gone     []string
	ended    bool
	ready    chan struct{}
	now      func() time.Time // the hub's time
}

// Outgoing is one want on its way to a device.
type Outgoing struct {
	Control string // the id of the control
	Raw     string // what the device calls it
	Value   site.Amount
	Pulse   string    // not empty: momentary; it is sent once and kept nowhere
	until   time.Time // a momentary one is dropped after that
	rev     int64
}

// Problem tells a device what could not be taken, and why.
type Problem struct {
	At     time.Time `json:"at"`
	Topic  string    `json:"topic,omitempty"`
	Reason string    `json:"reason"`
}

// Post is what a link finds in its mailbox.
type Post struct {
	Wants    []Outgoing
	Beat     time.Duration // not 0: the hub's sign of life, with the length of the lease
	Problems []Problem
	Mirrors  []engine.Mirror // settings of which the device has a copy
	Gone     []string        // what the device calls the controls of which nothing is wanted any more
	Ended    bool            // the key was replaced, or the device taken away: the sessions must end
}

const problemsKept = 16

// Ready tells that something is in the mailbox.
func (m *Mailbox) Ready() <-chan struct{} { return m.ready }

// Again lets Ready tell once more of what is in the mailbox.
func (m *Mailbox) Again() { m.put(func() {}) }

// Take empties the mailbox.
func (m *Mailbox) Take() Post {
	m.mu.Lock()
	defer m.mu.Unlock()
	p := Post{Beat: m.lease, Problems: m.problems, Gone: m.gone, Ended: m.ended}
	for id, w := range m.wants {
		if w.rev >= 0 {
			p.Wants = append(p.Wants, w)
			w.rev = -w.rev - 1 // taken, but its revision is remembered
			m.wants[id] = w
		}
	}
	slices.SortFunc(p.Wants, func(a, b Outgoing) int {
		if a.Control < b.Control {
			return -1
		}
		return 1
	})
	for _, w := range m.pulses {
		if w.until.IsZero() || m.now().Before(w.until) {
			p.Wants = append(p.Wants, w)
		}
	}
	for _, raw := range slices.Sorted(maps.Keys(m.mirrors)) {
		p.Mirrors = append(p.Mirrors, m.mirrors[raw])
	}
	m.lease, m.problems, m.gone, m.ended, m.pulses, m.mirrors = 0, nil, nil, false, nil, nil
	return p
}

func (m *Mailbox) put(f func()) {
	m.mu.Lock()
	f()
	m.mu.Unlock()
	select {
	case m.ready <- struct{}{}:
	default:
	}
}

const pulsesKept = 64

func (m *Mailbox) want(w engine.Want) {
	m.put(func() {
		have := m.wants[w.Control]
		if known := max(have.rev, -have.rev-1); w.Rev < known {
			return // an older want that waited for the disk longer than a newer one
		}
		have.Control, have.Value, have.rev = w.Control, w.Value, w.Rev
		if have.Raw == "" {
			_, have.Raw = site.Split(w.Control)
		}
		if w.Pulse == "" {
			m.wants[w.Control] = have
			return
		}
		have.Pulse, have.until = w.Pulse, w.Deadline
		if len(m.pulses) < pulsesKept {
			m.pulses = append(m.pulses, have)
		}
	})
}

// mirror tells a device of a setting of which it has a copy.
func (m *Mailbox) mirror(x engine.Mirror) {
	m.put(func() {
		if m.mirrors == nil {
			m.mirrors = map[string]engine.Mirror{}
		}
		m.mirrors[x.Raw] = x
	})
}

// withdraw takes back whatever is wanted of a control.
func (m *Mailbox) withdraw(control, raw string) {
	m.put(func() {
		delete(m.wants, control)
		m.gone = append(m.gone, raw)
	})
}

func (m *Mailbox) beat(lease time.Duration) { m.put(func() { m.lease = lease }) }

func (m *Mailbox) problem(p Problem) {
	m.put(func() {
		if len(m.problems) < problemsKept {
			m.problems = append(m.problems, p)
		}
	})
}

// boxes are the attached mailboxes by device.
type boxes struct {
	mu sync.RWMutex
	of map[string][]*Mailbox
}

func (b *boxes) each(device string, f func(*Mailbox)) {
	b.mu.RLock()
	defer b.mu.RUnlock()
	for _, m := range b.of[device] {
		f(m)
	}
}

func (b *boxes) add(m *Mailbox) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.of == nil {
		b.of = map[string][]*Mailbox{}
	}
	b.of[m.Device] = append(b.of[m.Device], m)
}

func (b *boxes) remove(m *Mailbox) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.of[m.Device] = slices.DeleteFunc(slices.Clone(b.of[m.Device]), func(have *Mailbox) bool { return have == m })
}

// close tells the link that the device's sessions must end.
func (m *Mailbox) close() { m.put(func() { m.ended = true }) }
