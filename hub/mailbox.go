package hub

import (
	"slices"
	"sync"
	"time"

	"idleember/core/engine"
	"idleember/core/mailbox"
)

// Mailbox is how wants, beats and problems reach a link. It keeps the last want for each control and never blocks who
// puts something in, so that a link that is stuck holds nobody else.
type Mailbox struct {
	Device string

	mu    sync.Mutex
	box   mailbox.Box
	ready chan struct{}
	now   func() time.Time // the hub's time
}

// Ready tells that something is in the mailbox.
func (m *Mailbox) Ready() <-chan struct{} { return m.ready }

// Again lets Ready tell once more of what is in the mailbox.
func (m *Mailbox) Again() { m.put(func(*mailbox.Box) {}) }

// Take empties the mailbox.
func (m *Mailbox) Take() mailbox.Post {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.box.Take(m.now())
}

func (m *Mailbox) put(f func(*mailbox.Box)) {
	m.mu.Lock()
	f(&m.box)
	m.mu.Unlock()
	select {
	case m.ready <- struct{}{}:
	default:
	}
}

func (m *Mailbox) want(w engine.Want) { m.put(func(b *mailbox.Box) { b.Want(w) }) }

func (m *Mailbox) problem(p mailbox.Problem) { m.put(func(b *mailbox.Box) { b.Problem(p) }) }

// close tells the link that the device's sessions must end.
func (m *Mailbox) close() { m.put(func(b *mailbox.Box) { b.End() }) }

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
