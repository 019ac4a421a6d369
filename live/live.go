// Package live tells all who look on of what changes: a ring of events that they share, each reader as far as they may
// see.
package live

import (
	"encoding/json"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/core/reading"
	"idleember/core/words"
)

// Event is one live change, the same for all readers. Its id is the hub's boot and a sequence number.
type Event struct {
	Seq   uint64
	Kind  string // signal, control, device, site, hub
	made  made
	plain any // its data, where it is tailored
	// Signal is that of a routine event.
	Signal *shown.Signal
	Object access.Object // who may look at that is told
	// Tailor makes of its data what an actor may be told, nil where that is nothing; it is asked on any goroutine.
	Tailor func(a access.Actor, data any) any
	// ByRole says that Tailor looks at the actor's role alone.
	ByRole bool
	byRole roles
	// Routine marks a signal that has a new value and is otherwise as it was: of no use to a page that does not show it.
	Routine bool
	// of a routine event: how many there were of its signal with it, and in all.
	nth uint64
	run *run
}

// run counts the routine events of one signal, so that a reader sees without looking on whether four newer ones follow.
type run struct{ n uint64 }

// made is an event's data, written as JSON when the first of a class of readers wants it: mostly nobody looks.
type made struct {
	mu   sync.Mutex
	data any
	at   time.Time
	in   []written

	shortly sync.Once
	short   json.RawMessage
}

// written is an event's data in the words of a class of readers.
type written struct {
	reader words.Reader
	json   json.RawMessage
}

// Data is what is told of it, as JSON. Its sentences are made once for each class of readers.
func (e *Event) Data(r words.Reader) json.RawMessage {
	m := &e.made
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, w := range m.in {
		if w.reader == r || m.data == nil {
			return w.json
		}
	}
	b, _ := json.Marshal(shown.In(m.data, r, m.at)) // plain views
	m.in = append(m.in, written{r, b})
	if !shown.Speaks(m.data) {
		m.data = nil // it is the same for all
	}
	return b
}

// tailored is the event as an actor is told of it; nil: not at all.
func (e *Event) tailored(a access.Actor) *Event {
	if e.Tailor == nil || a.Role == access.Owner {
		return e
	}
	if e.ByRole {
		return e.byRole.of(a.Role, func() *Event { return e.tailoredTo(a) })
	}
	return e.tailoredTo(a)
}

func (e *Event) tailoredTo(a access.Actor) *Event {
	data := e.Tailor(a, e.plain)
	if data == nil {
		return nil
	}
	return &Event{Seq: e.Seq, Kind: e.Kind, Object: e.Object, made: made{data: data, at: e.made.at}}
}

// roles are the forms of an event that is the same for all of a role: each is made once, however many look on.
type roles struct {
	mu   sync.Mutex
	made map[access.Role]*Event
}

func (r *roles) of(role access.Role, make func() *Event) *Event {
	r.mu.Lock()
	defer r.mu.Unlock()
	e, ok := r.made[role]
	if !ok {
		if r.made == nil {
			r.made = map[access.Role]*Event{}
		}
		e = make()
		r.made[role] = e
	}
	return e
}

// NewValue is what is new of a signal with a routine event: nothing but its value, times and quality.
type NewValue struct {
	ID       string         `json:"id"`
	Value    *reading.Value `json:"value,omitempty"`
	RawValue *float64       `json:"raw_value,omitempty"`
	At       *time.Time     `json:"at,omitempty"`
	Heard    *time.Time     `json:"heard,omitempty"` // where it is not At
	Quality  string         `json:"quality"`
	Interval int64          `json:"interval_ms"`
}

// Short is a routine event's NewValue as JSON.
func (e *Event) Short() json.RawMessage {
	e.made.shortly.Do(func() {
		x := e.Signal.State
		v := NewValue{ID: e.Signal.Config.ID, Value: x.Value, RawValue: x.RawValue, At: x.At, Quality: x.Quality,
			Interval: x.IntervalMS}
		if h := x.Heard; h != nil && (v.At == nil || !h.Equal(*v.At)) {
			v.Heard = h
		}
		e.made.short, _ = json.Marshal(v) // a plain view
	})
	return e.made.short
}

const (
	ringSize   = 8192 // events that a resuming reader can catch up with
	keptEvents = 1024 // for which a reader keeps memory
	mostRuns   = 20_000
	keptSites  = 16 // that events are judged by
)

// Feed keeps the last events in a ring that all readers share: a slow reader holds up nobody, it only falls out of the
// ring and starts afresh from a snapshot.
type Feed struct {
	boot  string
	clock func() time.Time // what is told of times is told by it
	mu    sync.Mutex
	ring  [ringSize]*Event
	next  uint64 // the sequence number of the next event, from 1
	runs  map[string]*run
	// Events are judged by the site of their time, so each holds on to it: sites are the events that the last ones began
	// with, and what is before floor is let go.
	sites   []uint64
	floor   uint64
	changed chan struct{}
	readers atomic.Int64
}

// New returns a feed; boot tells the events of this start from those of others.
func New(boot string, clock func() time.Time) *Feed {
	return &Feed{boot: boot, clock: clock, next: 1, runs: map[string]*run{}, changed: make(chan struct{})}
}

// Publish tells whoever may look at an object of something about it.
func (f *Feed) Publish(kind string, data any, obj access.Object) {
	f.Add(&Event{Kind: kind, Object: obj}, data)
}

// Add tells of an event with its data.
func (f *Feed) Add(e *Event, data any) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if shown.Speaks(data) {
		e.made.at = f.clock()
	}
	if e.Seq, e.made.data = f.next, data; e.Tailor != nil {
		e.plain = data
	}
	if e.Routine {
		r := f.runs[e.Object.Name]
		if r == nil {
			if len(f.runs) > mostRuns { // of signals that are long gone
				clear(f.runs)
			}
			r = &run{}
			f.runs[e.Object.Name] = r
		}
		r.n++
		e.run, e.nth = r, r.n
	}
	f.ring[f.next%ringSize] = e
	f.next++
	close(f.changed)
	f.changed = make(chan struct{})
}

// NewSite says that the events that follow are judged by another site. Those of long ago go with theirs.
func (f *Feed) NewSite() {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.sites = append(f.sites, f.next); len(f.sites) <= keptSites {
		return
	}
	from := f.floor
	if f.next > ringSize {
		from = max(from, f.next-ringSize)
	}
	f.sites = f.sites[1:]
	f.floor = f.sites[0]
	for seq := from; seq < f.floor; seq++ {
		f.ring[seq%ringSize] = nil
	}
}

// Watch is one reader of live events.
type Watch struct {
	feed  *Feed
	actor func() (access.Actor, bool)
	next  uint64
	fresh bool // it must be given a snapshot first

	// of the last call of Next: with many readers a slice for each of them in each moment would be most of what the hub
	// throws away
	events []*Event

	mu   sync.Mutex
	only map[string]bool // whose new values it wants; nil: of everything
	late []string        // ids that it began to want, whose state it has not been told yet
	poke chan struct{}
}

// Watch starts reading after the event with the given id ("": now). actor is asked again for every event, so that a
// stream ends when its right does.
func (f *Feed) Watch(lastID string, actor func() (access.Actor, bool)) *Watch {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.readers.Add(1)
	w := &Watch{feed: f, actor: actor, next: f.next, fresh: true, poke: make(chan struct{}, 1)}
	boot, seq, ok := strings.Cut(lastID, "-")
	if n, err := strconv.ParseUint(seq, 10, 64); ok && err == nil && boot == f.boot && n < f.next && n+ringSize > f.next {
		w.next, w.fresh = n+1, false
	}
	return w
}

// Close says that the reader has left.
func (w *Watch) Close() { w.feed.readers.Add(-1) }

// Only narrows what a reader is told: of signals that are not named it hears when their state changes, not each new
// value. What is named anew is told as it is now (Late). Without a list it hears everything again.
func (w *Watch) Only(ids []string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	before := w.only
	w.only = nil
	if ids != nil {
		w.only = map[string]bool{}
	}
	for _, id := range ids {
		w.only[id] = true
	}
	if before != nil {
		for id := range w.only {
			if !before[id] {
				w.late = append(w.late, id)
			}
		}
		if ids == nil {
			w.late, w.fresh = nil, true
		}
	}
	select {
	case w.poke <- struct{}{}:
	default:
	}
}

// Poked is told when the reader's wishes changed, and Next has something to say.
func (w *Watch) Poked() <-chan struct{} { return w.poke }

// Late returns the signals that the reader began to want since it was last asked.
func (w *Watch) Late() []string {
	w.mu.Lock()
	defer w.mu.Unlock()
	late := w.late
	w.late = nil
	return late
}

// ID makes the id of an event.
func (w *Watch) ID(seq uint64) string { return w.feed.boot + "-" + strconv.FormatUint(seq, 10) }

// Next returns the events since the last call that the reader may see; they are valid until the next one. reset says
// that it must take a snapshot first; ok is false when the reader's right has ended. changed is closed when there is
// more.
func (w *Watch) Next() (events []*Event, last uint64, reset, ok bool, changed <-chan struct{}) {
	return w.take(false)
}

// NextFew is Next without all but the newest values of each signal, where many came at once.
func (w *Watch) NextFew() (events []*Event, last uint64, reset, ok bool, changed <-chan struct{}) {
	return w.take(true)
}

func (w *Watch) take(few bool) (events []*Event, last uint64, reset, ok bool, changed <-chan struct{}) {
	actor, ok := w.actor()
	if !ok {
		return nil, 0, false, false, nil
	}
	events, last, reset, changed = w.collect(actor, few)
	return events, last, reset, true, changed
}

// newest is how many new values of one signal a reader of values is told at once: nobody sees more in a moment.
const newest = 4

// Readers is how many live streams are open.
func (f *Feed) Readers() int { return int(f.readers.Load()) }

func (w *Watch) collect(actor access.Actor, few bool) (events []*Event, last uint64, reset bool,
	changed <-chan struct{}) {
	w.mu.Lock()
	defer w.mu.Unlock()
	events, last, reset, changed = w.gather(actor, few)
	k := 0
	for _, e := range events { // while nobody waits for the feed
		if e = e.tailored(actor); e != nil {
			events[k], k = e, k+1
		}
	}
	return events[:k], last, reset, changed
}

func (w *Watch) gather(actor access.Actor, few bool) (events []*Event, last uint64, reset bool,
	changed <-chan struct{}) {
	f := w.feed
	f.mu.Lock()
	defer f.mu.Unlock()
	changed = f.changed
	clear(w.events) // it may be the last that holds them
	if w.events = w.events[:0]; cap(w.events) > keptEvents {
		w.events = nil
	}
	if w.fresh || w.next+ringSize <= f.next || w.next < f.floor {
		w.fresh, w.next = false, f.next
		return nil, f.next - 1, true, changed
	}
	for ; w.next < f.next; w.next++ {
		e := f.ring[w.next%ringSize]
		if few && e.Routine && e.run.n-e.nth >= newest {
			continue
		}
		if e.Routine && w.only != nil && !w.only[e.Object.Name] {
			continue
		}
		if access.May(actor, access.Look, e.Object) == nil {
			w.events = append(w.events, e)
		}
	}
	return w.events, f.next - 1, false, changed
}
