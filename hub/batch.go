package hub

import (
	"errors"
	"time"

	"idleember/core/access"
	"idleember/core/engine"
	"idleember/store"
)

// urgency says how soon a batch must be written.
type urgency int

const (
	whenever urgency = iota // readings that nobody waits for
	soon                    // somebody waits for an acknowledgement
	atOnce                  // a decision, a command, a state
)

// batch is what the next commit writes, and what is let out after it.
type batch struct {
	urgency  urgency
	began    time.Time
	changes  []store.Change
	bulk     []store.Change // readings: what is refused first where the disk is full
	keep     []store.Change // those of the changes that must not be lost with a failed commit
	recorded []engine.Recorded
	bytes    int // of what was recorded
	after    []done
}

// done is what is done after a commit.
type done struct {
	f    func(error)
	bulk bool // it is about readings
}

// patience is how long the batch may wait for more.
func (h *Hub) patience() time.Duration {
	const most, busy = 4096, 50 * time.Millisecond
	b := &h.batch
	if b.urgency == atOnce || len(b.changes)+len(b.bulk) == 0 || len(b.changes)+len(b.bulk) > most {
		return 0
	}
	if b.began.IsZero() {
		b.began = time.Now()
	}
	wait := h.gather.Others
	if b.urgency == soon {
		if wait = h.gather.Acknowledged; time.Since(h.flushed) < busy { // those who wait send one message after the other
			return 0
		}
	}
	return wait - time.Since(b.began)
}

// flush hands the batch to the store.
func (h *Hub) flush() {
	h.unsavedAgain()
	b := h.batch
	if len(b.changes)+len(b.bulk) == 0 && len(b.after) == 0 {
		return
	}
	h.batch = batch{}
	h.flushed = time.Now()
	if len(b.recorded) > 0 && len(b.changes)+len(b.bulk) > 0 {
		if body, err := engine.Pack(b.recorded); err == nil {
			b.bulk = append(b.bulk, store.AddInputs(b.recorded[0].Now.Wall, body))
		}
	} else {
		// ticks that changed nothing wait for a commit that is due anyway
		h.batch.recorded, h.batch.bytes = b.recorded, b.bytes
	}
	// Also what writes nothing goes through the store's queue, so that answers keep the order of what they answer.
	if !h.full.Load() {
		changes := append(b.changes, b.bulk...)
		h.store.Commit(&store.Batch{Changes: changes, Bulk: len(b.bulk) > 0, Done: func(err error) {
			h.outgoing <- func() {
				for _, d := range b.after {
					d.f(err)
				}
				if len(changes) > 0 {
					h.stored(err, b.keep)
				}
			}
		}})
		return
	}
	// The disk is full: commands, states and the journal go on alone, out of the store's reserve; readings find out
	// whether there is room again.
	some := func(bulk bool, err error) {
		for _, d := range b.after {
			if d.bulk == bulk {
				d.f(err)
			}
		}
	}
	h.store.Commit(&store.Batch{Changes: b.changes, Done: func(err error) {
		h.outgoing <- func() {
			some(false, err)
			if err != nil {
				h.stored(err, b.keep)
			}
		}
	}})
	probe := func(*store.Tx) error { return nil }
	h.store.Commit(&store.Batch{Changes: append(b.bulk, probe), Bulk: true, Done: func(err error) {
		h.outgoing <- func() {
			some(true, err)
			h.stored(err, nil)
		}
	}})
}

// letOut does what had to wait for a commit, so that the committing goroutine is free for the next one.
func (h *Hub) letOut() {
	defer close(h.outEnd)
	for f := range h.outgoing {
		f()
	}
}

const unsavedLimit = 4096

// stored notes how a commit went and tells everybody when that changes.
func (h *Hub) stored(err error, keep []store.Change) {
	t := &h.trouble
	t.Lock()
	was := t.err
	t.err = err
	h.full.Store(store.IsFull(err))
	if err != nil {
		t.unsaved = append(t.unsaved, keep...)
		if n := len(t.unsaved) - unsavedLimit; n > 0 {
			t.unsaved = t.unsaved[n:]
		}
	}
	t.Unlock()
	if errors.Is(err, store.ErrGone) && !errors.Is(was, store.ErrGone) { // also where something else failed before
		h.tasks.Go(func() { h.carrier().CryOut(err.Error()) })
	}
	switch {
	case was == nil && err != nil:
		h.log.Error("the store does not take writes; deciding goes on from memory", "error", err)
		h.live.Publish("hub", h.Status(), access.Anything)
	case was != nil && err == nil:
		h.log.Info("the store takes writes again")
		h.live.Publish("hub", h.Status(), access.Anything)
	}
}

func (h *Hub) inTrouble() bool {
	h.trouble.Lock()
	defer h.trouble.Unlock()
	return h.trouble.err != nil
}

// unsavedAgain adds to a batch that is due anyway what an earlier commit could not write.
func (h *Hub) unsavedAgain() {
	t := &h.trouble
	t.Lock()
	defer t.Unlock()
	if len(h.batch.changes)+len(h.batch.bulk) == 0 {
		return
	}
	// the older first: the newest state counts
	h.batch.keep = append(t.unsaved[:len(t.unsaved):len(t.unsaved)], h.batch.keep...)
	h.batch.changes = append(t.unsaved[:len(t.unsaved):len(t.unsaved)], h.batch.changes...)
	t.unsaved = nil
}

// writeReadings adds readings to the batch: what is refused first where the disk is full.
func (h *Hub) writeReadings(changes ...store.Change) { h.batch.bulk = append(h.batch.bulk, changes...) }

// write adds changes to the batch.
func (h *Hub) write(changes ...store.Change) { h.batch.changes = append(h.batch.changes, changes...) }

// writeState adds changes that are written later where this commit fails.
func (h *Hub) writeState(changes ...store.Change) {
	h.write(changes...)
	h.batch.urgency = atOnce
	h.batch.keep = append(h.batch.keep, changes...)
}

// later adds what is done after the commit.
func (h *Hub) later(f func(error)) {
	h.batch.after = append(h.batch.after, done{f: f})
	h.batch.urgency = atOnce
}
