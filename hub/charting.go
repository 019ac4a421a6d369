package hub

import (
	"context"
	"maps"
	"math"
	"slices"
	"strconv"
	"time"

	"idleember/core/access"
	"idleember/core/engine"
	"idleember/core/formula"
	"idleember/core/series"
	"idleember/core/site"
	"idleember/store"
)

// Summary is what a series was in a stretch, in few numbers.
type Summary struct {
	History // what the series is, and the stretch
	series.Bucket
	*series.Spread
	Longest    series.Span // of the gaps
	GapsMS     int64
	SumsBefore time.Time // before it there are sums of hours and no readings; zero: there are readings
}

const bins = 24

// Summary sums a stretch of a series up.
func (h *Hub) Summary(ctx context.Context, a access.Actor, q Range) (Summary, error) {
	out := Summary{History: History{Series: q.Series}}
	if err := q.check(); err != nil {
		return out, err
	}
	if err := h.ask(ctx, func() error { return h.describe(a, &out.History) }); err != nil {
		return out, err
	}
	if err := h.learnHold(ctx, &out.History, q.To); err != nil {
		return out, err
	}
	if err := h.whole(ctx, &q); err != nil {
		return out, err
	}
	out.History.From, out.History.To = q.From, q.To
	now := h.Time()
	from, to := q.From.UnixMilli(), q.To.UnixMilli()
	buckets, gaps, err := h.store.Buckets(ctx, q.Series, []int64{from, to}, out.Hold, now)
	if err != nil {
		return out, err
	}
	finest := 0.0
	out.Buckets, out.History.Gaps = buckets, gaps
	if err := h.leaveOut(ctx, &out.History); err != nil {
		return out, err
	}
	gaps = out.History.Gaps
	if out.Bucket = buckets[0]; out.Kind == site.Number {
		finest = math.Pow10(-out.Decimals)
	}
	for _, g := range gaps {
		out.GapsMS += g.To - g.From
		if g.To-g.From > out.Longest.To-out.Longest.From {
			out.Longest = g
		}
	}
	least, most := out.Bucket.Min, out.Bucket.Max
	if out.Count == 0 && math.IsNaN(out.TimeMean) {
		finest, least, most = 0, 0, 0
	}
	out.Spread = series.NewSpread(from, to, out.Hold.Milliseconds(), least, most, bins, finest)
	if err := h.store.Spread(ctx, q.Series, out.Spread, from, to); err != nil {
		return out, err
	}
	out.Spread.Finish(min(now.UnixMilli(), to))
	out.SumsBefore, err = h.store.Thinned(ctx, q.Series)
	return out, err
}

// Mark is a setpoint or limit that automation has for a series.
type Mark struct {
	Series  string
	Kind    string // setpoint, above, below
	Control string
	Name    string
	Value   float64
	Setting string // the setting, or other series, that holds the value; Value does not count then
}

// Marks returns the setpoints and limits that automation has for some series.
func (h *Hub) Marks(ctx context.Context, a access.Actor, names []string) (out []Mark, err error) {
	err = h.ask(ctx, func() error {
		for _, name := range names {
			if err := h.describe(a, &History{Series: name}); err != nil {
				return err
			}
		}
		for _, id := range slices.Sorted(maps.Keys(h.site.Automations)) {
			c := h.site.Controls[id]
			if access.May(a, access.Look, h.controlObject(c)) != nil {
				continue
			}
			add := func(m Mark) {
				if m.Setting != "" && h.describe(a, &History{Series: m.Setting}) != nil || !slices.Contains(names, m.Series) || slices.Contains(out, m) {
					return
				}
				out = append(out, m)
			}
			auto := h.site.Automations[id]
			for _, d := range auto.Demands {
				if d.Of != "" && d.Target != "" {
					m := Mark{Series: d.Of, Kind: "setpoint", Control: id, Name: c.Name}
					if n, err := strconv.ParseFloat(d.Target, 64); err == nil {
						m.Value = n
					} else {
						m.Setting = d.Target
					}
					add(m)
				}
				h.limits(c, "", d.When, add)
			}
			for _, p := range auto.Permits {
				h.limits(c, p.Name, p.When, add)
			}
			for _, l := range auto.Interlocks {
				h.limits(c, l.Name, l.When, add)
			}
		}
		return nil
	})
	return out, err
}

// limits finds what a condition compares signals with.
func (h *Hub) limits(c site.Control, name, condition string, add func(Mark)) {
	f, err := formula.Parse(condition, engine.Names(h.site))
	if err != nil {
		return
	}
	if name = c.Name + ": " + name; name == c.Name+": " {
		name = c.Name
	}
	for _, l := range f.Limits {
		kind := "below"
		if l.Above {
			kind = "above"
		}
		add(Mark{Series: l.ID, Kind: kind, Control: c.ID, Name: name, Value: l.Value, Setting: l.Other})
	}
}

// View is a view of charts that somebody gave a name.
type View struct {
	store.View
	By   string // the person's name
	Mine bool
}

// Views returns one's own views and the shared ones.
func (h *Hub) Views(ctx context.Context, a access.Actor) ([]View, error) {
	if err := access.May(a, access.Audit, access.Anything); err != nil {
		return nil, err
	}
	all, err := h.store.Views(ctx)
	if err != nil {
		return nil, err
	}
	people, err := h.store.Members(ctx)
	out, sees := []View{}, h.sight(a)
	for _, v := range all {
		if !v.Shared && v.Account != a.ID || !sees.view(v.View) {
			continue
		}
		x := View{View: v, By: v.Account, Mine: v.Account == a.ID}
		if i := slices.IndexFunc(people, func(p store.Member) bool { return p.ID == v.Account }); i >= 0 {
			x.By = people[i].Name
		}
		out = append(out, x)
	}
	return out, err
}

// SaveView gives a view a name. One's own view of that name is replaced.
func (h *Hub) SaveView(ctx context.Context, a access.Actor, v store.View) (View, error) {
	v.Account = a.ID
	err := h.do(ctx, func() error {
		if err := access.May(a, access.Tend, access.Anything); err != nil {
			return err
		}
		if err := checkName("name", v.Name); err != nil {
			return err
		}
		h.write(store.SaveView(v, func(id int64) { v.ID = id }))
		return nil
	})
	return View{View: v, By: a.Name, Mine: true}, err
}

// RemoveView takes a view away: an owner any shared one, others their own.
func (h *Hub) RemoveView(ctx context.Context, a access.Actor, id int64) error {
	all, err := h.Views(ctx, a)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(all, func(v View) bool { return v.ID == id })
	if i < 0 {
		return &NotFoundError{"view", strconv.FormatInt(id, 10), nil}
	}
	if !all[i].Mine {
		if err := access.May(a, access.Configure, access.Anything); err != nil {
			return err
		}
	}
	return h.do(ctx, func() error {
		h.write(store.DropView(id))
		return nil
	})
}
