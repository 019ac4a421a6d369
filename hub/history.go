package hub

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"idleember/core/access"
	"idleember/core/reading"
	"idleember/core/series"
	"idleember/core/site"
	"idleember/store"
)

// Range asks for the history of one series: a signal, or the is or want of a control.
type Range struct {
	Series   string
	From, To time.Time
	Points   int // at most this many readings or buckets, 1500 where it is 0
}

// History is the answer: either all readings, or buckets of equal width.
type History struct {
	Series, Name, Unit string
	Kind               site.Kind
	Decimals           int
	From, To           time.Time // true bounds; buckets snap to whole steps
	Readings           []store.Reading
	Buckets            []series.Bucket // nil where all readings fit
	Step               time.Duration   // the buckets' width
	Gaps               []series.Span
	Hold               time.Duration // how long a reading holds, 0: until the next one
}

const (
	defaultPoints = 1500
	mostPoints    = 10_000
	longestRange  = 20 * 366 * 24 * time.Hour
)

// History reads what was.
func (h *Hub) History(ctx context.Context, a access.Actor, q Range) (History, error) {
	out := History{Series: q.Series, From: q.From, To: q.To}
	if q.Points == 0 {
		q.Points = defaultPoints
	}
	switch {
	case !q.To.After(q.From):
		return out, &InvalidError{"to", fmt.Sprintf("to (%s) is not after from (%s)", q.To.Format(time.RFC3339), q.From.Format(time.RFC3339))}
	case q.To.Sub(q.From) > longestRange:
		return out, &InvalidError{"from", "the stretch is longer than 20 years; ask for a shorter one"}
	case q.Points < 1 || q.Points > mostPoints:
		return out, &InvalidError{"points", fmt.Sprintf("points is %d; choose between 1 and %d", q.Points, mostPoints)}
	}
	loc := h.Site().Hub.Location()
	if err := h.ask(ctx, func() error { return h.describe(a, &out) }); err != nil {
		return out, err
	}
	step := series.Step(q.To.Sub(q.From), q.Points)
	from := snap(q.From, step, loc)
	to := q.To
	b := series.NewBucketer(from.UnixMilli(), to.UnixMilli(), step.Milliseconds(), out.Hold)
	var last reading.Value
	n := 0
	for r, err := range h.store.Readings(ctx, q.Series, out.Kind, from, to, out.Hold == 0) {
		if err != nil {
			return out, err
		}
		if out.Kind == site.Text && n > 0 && r.Value == last {
			continue // of a text only its changes are told
		}
		n, last = n+1, r.Value
		if len(out.Readings) <= q.Points+1 && (r.T >= q.From.UnixMilli() || out.Hold == 0) {
			out.Readings = append(out.Readings, r)
		}
		b.Add(series.Point{T: r.T, V: r.Value.Num, Bad: r.Quality == reading.Bad})
	}
	now := time.Now()
	out.Buckets, out.Gaps = b.Finish(now.UnixMilli())
	if len(out.Readings) <= q.Points+1 || out.Kind == site.Text {
		out.Buckets = nil
		return out, nil
	}
	out.Readings, out.Step, out.From = nil, step, from
	return out, nil
}

// describe finds out what a series is and whether the actor may see it.
func (h *Hub) describe(a access.Actor, out *History) error {
	if s, ok := h.site.Signals[out.Series]; ok && access.May(a, access.Look, h.signalObject(s)) == nil {
		out.Name, out.Unit, out.Kind, out.Decimals = s.Name, s.Unit, s.Kind, s.Decimals
		if s.Reports == site.Periodic {
			v := h.signalView(s)
			out.Hold = max(3*time.Duration(v.IntervalMS)*time.Millisecond, 3*time.Second)
			if v.IntervalMS == 0 {
				out.Hold = 3 * time.Minute
			}
		}
		return nil
	}
	for _, what := range []string{"is", "want", "mode"} {
		if id, ok := strings.CutSuffix(out.Series, "."+what); ok {
			if c, ok := h.site.Controls[id]; ok && access.May(a, access.Look, h.controlObject(c)) == nil {
				out.Name, out.Kind = c.Name, seriesKind(c)
				switch what {
				case "want":
					out.Name += " (want)"
				case "mode":
					out.Name, out.Kind = c.Name+" (mode)", site.Text
				}
				if out.Kind == site.Number {
					out.Unit = "%"
				}
				return nil
			}
		}
	}
	if g, ok := h.site.Settings[out.Series]; ok && access.May(a, access.Look, h.settingObject(g)) == nil {
		out.Name, out.Unit, out.Kind, out.Decimals = g.Name, g.Unit, settingKind(g), g.Decimals
		return nil
	}
	ids := h.ids(a, true, false)
	for _, id := range h.ids(a, false, true) {
		ids = append(ids, id+".is", id+".want")
	}
	if slices.Contains(h.ids(a, false, true), out.Series) {
		return &NotFoundError{"signal", out.Series, []string{out.Series + ".is", out.Series + ".want"}}
	}
	return &NotFoundError{"signal", out.Series, site.Nearest(out.Series, ids)}
}

// snap moves t back to a whole step of the hub's own clock.
func snap(t time.Time, step time.Duration, loc *time.Location) time.Time {
	_, off := t.In(loc).Zone()
	local := t.UnixMilli() + int64(off)*1000
	return time.UnixMilli(local - mod(local, step.Milliseconds()) - int64(off)*1000)
}

func mod(a, b int64) int64 { return ((a % b) + b) % b }
