package archive

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
	"idleember/sight"
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
func (ar *Archive) Summary(ctx context.Context, a access.Actor, q Range) (Summary, error) {
	out := Summary{History: History{Series: q.Series}}
	if err := q.check(); err != nil {
		return out, err
	}
	if err := ar.describe(ctx, a, &out.History); err != nil {
		return out, err
	}
	if err := ar.learnHold(ctx, &out.History, q.To); err != nil {
		return out, err
	}
	if err := ar.whole(ctx, &q); err != nil {
		return out, err
	}
	out.History.From, out.History.To = q.From, q.To
	now := ar.house.Time()
	from, to := q.From.UnixMilli(), q.To.UnixMilli()
	buckets, gaps, err := ar.store.Buckets(ctx, q.Series, []int64{from, to}, out.Hold, now)
	if err != nil {
		return out, err
	}
	finest := 0.0
	out.Buckets, out.History.Gaps = buckets, gaps
	if err := ar.leaveOut(ctx, &out.History); err != nil {
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
	if err := ar.store.Spread(ctx, q.Series, out.Spread, from, to); err != nil {
		return out, err
	}
	out.Spread.Finish(min(now.UnixMilli(), to))
	out.SumsBefore, err = ar.store.Thinned(ctx, q.Series)
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
func (ar *Archive) Marks(ctx context.Context, a access.Actor, names []string) (out []Mark, err error) {
	for _, name := range names {
		if err := ar.describe(ctx, a, &History{Series: name}); err != nil {
			return nil, err
		}
	}
	s := ar.house.Site()
	for _, id := range slices.Sorted(maps.Keys(s.Automations)) {
		c := s.Controls[id]
		if access.May(a, access.Look, sight.OfControl(s, c)) != nil {
			continue
		}
		for _, m := range marksOf(s, c) {
			if slices.Contains(names, m.Series) && !slices.Contains(out, m) && (m.Setting == "" ||
				ar.describe(ctx, a, &History{Series: m.Setting}) == nil) {
				out = append(out, m)
			}
		}
	}
	return out, nil
}

// marksOf are the setpoints and limits that the automation of a control has.
func marksOf(s *site.Site, c site.Control) (out []Mark) {
	auto := s.Automations[c.ID]
	for _, d := range auto.Demands {
		if d.Of != "" && d.Target != "" {
			m := Mark{Series: d.Of, Kind: "setpoint", Control: c.ID, Name: c.Name}
			if n, err := strconv.ParseFloat(d.Target, 64); err == nil {
				m.Value = n
			} else {
				m.Setting = d.Target
			}
			out = append(out, m)
		}
		out = append(out, limitsOf(s, c, "", d.When)...)
	}
	for _, p := range auto.Permits {
		out = append(out, limitsOf(s, c, p.Name, p.When)...)
	}
	for _, l := range auto.Interlocks {
		out = append(out, limitsOf(s, c, l.Name, l.When)...)
	}
	return out
}

// limitsOf is what a condition compares signals with.
func limitsOf(s *site.Site, c site.Control, name, condition string) (out []Mark) {
	f, err := formula.Parse(condition, engine.Names(s))
	if err != nil {
		return nil
	}
	if name = c.Name + ": " + name; name == c.Name+": " {
		name = c.Name
	}
	for _, l := range f.Limits {
		kind := "below"
		if l.Above {
			kind = "above"
		}
		out = append(out, Mark{Series: l.ID, Kind: kind, Control: c.ID, Name: name, Value: l.Value, Setting: l.Other})
	}
	return out
}
