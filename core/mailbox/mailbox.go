// Package mailbox knows what is on its way to one device: the last want for each control, momentary wants that are
// never merged, copies of settings, the beat and problems. It is pure and not safe for use by several goroutines; the
// hub puts a lock and a bell around it.
package mailbox

import (
	"cmp"
	"maps"
	"slices"
	"time"

	"idleember/core/engine"
	"idleember/core/site"
)

// What a box holds at most.
const (
	pulsesKept   = 64
	problemsKept = 16
)

// Outgoing is one want on its way to a device.
type Outgoing struct {
	Control  string // the id of the control
	Raw      string // what the device calls it
	Value    site.Amount
	Pulse    string // not empty: momentary; it is sent once and kept nowhere
	Fleeting bool   // it must not be kept by a broker: the device is told anew when it is back
	until    time.Time
	rev      int64 // below 0: taken, and what its revision was
}

// Problem tells a device what could not be taken, and why.
type Problem struct {
	At     time.Time `json:"at"`
	Topic  string    `json:"topic,omitempty"`
	Reason string    `json:"reason"`
}

// Post is what a link finds in a box.
type Post struct {
	Wants    []Outgoing
	Beat     time.Duration // not 0: the hub's sign of life, with the length of the lease
	Problems []Problem
	Mirrors  []engine.Mirror // settings of which the device has a copy
	Gone     []string        // what the device calls the controls of which nothing is wanted any more
	Ended    bool            // the key was replaced, or the device taken away: the sessions must end
}

// Box is the mailbox of one device. The zero value is empty.
type Box struct {
	fresh    bool // some of them were not taken yet
	wants    map[string]Outgoing
	pulses   []Outgoing
	mirrors  map[string]engine.Mirror
	lease    time.Duration
	problems []Problem
	gone     []string
	ended    bool
}

// Name says what a device calls a control.
func (b *Box) Name(control, raw string) {
	have := b.wants[control]
	have.Control, have.Raw = control, raw
	if have.rev == 0 {
		have.rev = -1
	}
	b.put(have)
}

func (b *Box) put(w Outgoing) {
	if b.wants == nil {
		b.wants = map[string]Outgoing{}
	}
	b.wants[w.Control] = w
	b.fresh = b.fresh || w.rev >= 0
}

// Want takes a want. An older one that waited for the disk longer than a newer one is dropped. What is wanted of a
// momentary control is sent once, in order, and no later than its deadline.
func (b *Box) Want(w engine.Want) {
	have := b.wants[w.Control]
	if w.Rev < max(have.rev, -have.rev-1) {
		return
	}
	have.Control, have.Value, have.Fleeting, have.rev = w.Control, w.Value, w.Fleeting, w.Rev
	if have.Raw == "" {
		_, have.Raw = site.Split(w.Control)
	}
	if w.Pulse == "" {
		b.put(have)
		return
	}
	have.Pulse, have.until = w.Pulse, w.Deadline
	if len(b.pulses) < pulsesKept {
		b.pulses = append(b.pulses, have)
	}
}

// Withdraw takes back whatever is wanted of a control, unless something newer is.
func (b *Box) Withdraw(control, raw string, rev int64) {
	if have := b.wants[control]; max(have.rev, -have.rev-1) > rev {
		return
	}
	delete(b.wants, control)
	b.pulses = slices.DeleteFunc(b.pulses, func(w Outgoing) bool { return w.Control == control && w.Value > 0 })
	b.gone = append(b.gone, raw)
}

// Mirror tells a device of a setting of which it has a copy.
func (b *Box) Mirror(x engine.Mirror) {
	if b.mirrors == nil {
		b.mirrors = map[string]engine.Mirror{}
	}
	b.mirrors[x.Raw] = x
}

// Beat is the hub's sign of life.
func (b *Box) Beat(lease time.Duration) { b.lease = lease }

// Problem tells the device of what could not be taken.
func (b *Box) Problem(p Problem) {
	if len(b.problems) < problemsKept {
		b.problems = append(b.problems, p)
	}
}

// End says that the device's sessions must end.
func (b *Box) End() { b.ended = true }

// Take empties the box. Of wants that were taken it remembers the revision.
func (b *Box) Take(now time.Time) Post {
	p := Post{Beat: b.lease, Problems: b.problems, Gone: b.gone, Ended: b.ended}
	if b.fresh {
		for id, w := range b.wants {
			if w.rev >= 0 {
				p.Wants = append(p.Wants, w)
				w.rev = -w.rev - 1
				b.wants[id] = w
			}
		}
		b.fresh = false
	}
	slices.SortFunc(p.Wants, func(a, b Outgoing) int { return cmp.Compare(a.Control, b.Control) })
	for _, w := range b.pulses {
		if w.until.IsZero() || now.Before(w.until) {
			p.Wants = append(p.Wants, w)
		}
	}
	if len(b.mirrors) > 0 {
		for _, raw := range slices.Sorted(maps.Keys(b.mirrors)) {
			p.Mirrors = append(p.Mirrors, b.mirrors[raw])
		}
	}
	b.lease, b.problems, b.gone, b.ended, b.pulses, b.mirrors = 0, nil, nil, false, nil, nil
	return p
}
