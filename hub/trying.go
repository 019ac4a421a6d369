package hub

import (
	"context"
	"iter"
	"time"

	"idleember/core/access"
	"idleember/core/engine"
	"idleember/core/reading"
	"idleember/core/site"
	"idleember/store"
)

// tryStep is how much of the past goes by before it is looked whether anybody still waits for it.
const tryStep = 24 * time.Hour

// tryFormula runs an alert of formulas over what was recorded of all that they name.
func (h *Hub) tryFormula(ctx context.Context, a access.Actor, x site.Alert, from, to time.Time) (out AlertTrial, err error) {
	s, sees := h.Site(), h.sight(a)
	if err := x.Validate(s); err != nil {
		return out, invalid("alert", err)
	}
	if err := formulasOf(s, x.Formulas); err != nil {
		return out, err
	}
	if !sees.formulas(x.When, x.Until) {
		return out, &InvalidError{"when", "it names something that is not there, or not open to you"}
	}
	past, err := engine.NewPast(s, x, from)
	if err != nil {
		return out, &InvalidError{"when", err.Error()}
	}
	end := to
	if now := h.Time(); end.After(now) {
		end = now
	}
	q := Range{From: past.Begin(), To: end}
	if err := q.check(); err != nil {
		return out, err
	}
	var all []*source
	defer func() {
		for _, t := range all {
			t.stop()
		}
	}()
	for _, id := range past.IDs() {
		what := History{Series: engine.Series(s, id)}
		if err := h.ask(ctx, func() error { return h.describe(a, &what) }); err != nil {
			return out, err
		}
		t := &source{id: id, hold: what.Hold}
		t.pull, t.stop = iter.Pull2(h.store.Readings(ctx, what.Series, what.Kind, past.Begin(), end, true))
		all = append(all, t)
		if err := t.next(); err != nil {
			return out, err
		}
	}
	passed := past.Begin()
	pass := func(until time.Time) error {
		for ; until.Sub(passed) > tryStep; passed = passed.Add(tryStep) {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			past.Pass(passed)
		}
		return nil
	}
	for n := 0; ; n++ {
		if n%1024 == 0 && ctx.Err() != nil {
			return out, ctx.Err()
		}
		var first *source
		for _, t := range all {
			if !t.at.IsZero() && (first == nil || t.at.Before(first.at)) {
				first = t
			}
		}
		if first == nil {
			break
		}
		at := first.at
		if at.Before(past.Begin()) { // what held when it begins
			at = past.Begin()
		}
		if err := pass(at); err != nil {
			return out, err
		}
		if first.gap || first.now.Quality == reading.Good {
			past.Set(at, first.id, first.now.Value, !first.gap)
		}
		if !first.gap {
			out.Readings++
		}
		if err := first.next(); err != nil {
			return out, err
		}
	}
	if err := pass(end); err != nil {
		return out, err
	}
	out.From, out.To, out.Occurrences = from, to, past.Finish(end)
	return out, nil
}

// source is what one series says next: a reading, or the gap behind one that nothing follows in time.
type source struct {
	id   string
	hold time.Duration // 0: until the next one
	pull func() (store.Reading, error, bool)
	stop func()

	at   time.Time // zero: no more
	now  store.Reading
	gap  bool
	then *store.Reading
}

func (t *source) next() error {
	var r store.Reading
	ok := true
	if t.then != nil {
		r, t.then = *t.then, nil
	} else {
		var err error
		if r, err, ok = t.pull(); err != nil {
			return err
		}
	}
	held := t.at.Add(t.hold)
	if t.hold > 0 && !t.at.IsZero() && !t.gap && (!ok || time.UnixMilli(r.T).After(held)) {
		if ok {
			t.then = &r
		} else {
			t.pull = func() (store.Reading, error, bool) { return store.Reading{}, nil, false }
		}
		t.at, t.gap = held, true
		return nil
	}
	if t.gap = false; !ok {
		t.at = time.Time{}
		return nil
	}
	t.at, t.now = time.UnixMilli(r.T), r
	return nil
}
