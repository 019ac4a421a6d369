package archive

import (
	"context"
	"iter"
	"time"

	"idleember/core/access"
	"idleember/core/alert"
	"idleember/core/engine"
	"idleember/core/fault"
	"idleember/core/reading"
	"idleember/core/series"
	"idleember/core/site"
	"idleember/store"
)

// tryStep is how much of the past goes by before it is looked whether anybody still waits for it.
const tryStep = 24 * time.Hour

// tryFormula runs an alert of formulas over what was recorded of all that they name. Long, because it is one decision
// in its order, and each case names the next.
func (ar *Archive) tryFormula(ctx context.Context, a access.Actor, x site.Alert, from, to time.Time) (out AlertTrial,
	err error) {
	s, sees := ar.house.Site(), ar.house.Sight(a)
	if err := x.Validate(s); err != nil {
		return out, fault.AsInvalid("alert", err)
	}
	if err := engine.CheckFormulas(s, x.Formulas); err != nil {
		return out, err
	}
	if !sees.Formulas(x.When, x.Until) {
		return out, fault.Invalid("when", "it names something that is not there, or not open to you")
	}
	past, err := engine.NewPast(s, x, from)
	if err != nil {
		return out, fault.Invalid("when", "%v", err)
	}
	end := to
	if now := ar.house.Time(); end.After(now) {
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
		if err := ar.describe(ctx, a, &what); err != nil {
			return out, err
		}
		t := &source{id: id, hold: what.Hold}
		t.pull, t.stop = iter.Pull2(ar.store.Readings(ctx, what.Series, what.Kind, past.Begin(), end, true))
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

// AlertTrial is how an alert would have been in a stretch.
type AlertTrial struct {
	From, To    time.Time
	Occurrences []alert.Occurrence
	Readings    int
}

// TryAlert runs an alert over what its signal, or what its formulas name, was.
func (ar *Archive) TryAlert(ctx context.Context, a access.Actor, x site.Alert, from, to time.Time) (out AlertTrial,
	err error) {
	if x.Kind == site.AlertFormula {
		return ar.tryFormula(ctx, a, x, from, to)
	}
	q := Range{Series: x.Of, From: from, To: to}
	if err := q.check(); err != nil {
		return out, err
	}
	what := History{Series: x.Of}
	if err := ar.describe(ctx, a, &what); err != nil {
		return out, err
	}
	if err := x.Validate(ar.house.Site()); err != nil { // after it is known that there is something to be seen
		return out, fault.AsInvalid("alert", err)
	}
	t := alert.NewTrial(&x, what.Hold, ar.house.Site().Hub.Location())
	if t == nil {
		return out, fault.Invalid("kind", "only alerts about a limit, a band, an event, silence or a formula can be tried "+
			"on the past")
	}
	out.From, out.To = from, to
	if err := ar.store.Columns(ctx, x.Of, from.UnixMilli(), to.UnixMilli(), func(c *series.Columns, i, j int) {
		t.Add(c, i, j)
		out.Readings += j - i
	}); err != nil {
		return out, err
	}
	out.Occurrences = t.Finish(min(to.UnixMilli(), ar.house.Time().UnixMilli()))
	return out, nil
}
