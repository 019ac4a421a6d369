package archive

import (
	"context"
	"slices"
	"strings"
	"time"

	"idleember/core/access"
	"idleember/core/fault"
	"idleember/core/reading"
	"idleember/core/series"
	"idleember/core/site"
	"idleember/sight"
	"idleember/store"
)

// Range asks for the history of one series: a signal, or the is or want of a control.
type Range struct {
	Series   string
	From, To time.Time
	Points   int  // at most this many readings or buckets, 1500 where it is 0
	Buckets  bool // even where all readings fit

	coarse bool // there are sums of hours alone
}

func (q *Range) check() error {
	switch {
	case !q.To.After(q.From):
		return fault.Invalid("to", "to (%s) is not after from (%s)", q.To.Format(time.RFC3339), q.From.Format(time.RFC3339))
	case q.To.Sub(q.From) > longestRange:
		return fault.Invalid("from", "the stretch is longer than 20 years; ask for a shorter one")
	}
	return nil
}

// History is the answer: either all readings, or buckets of equal width.
type History struct {
	Series, Name, Unit string
	Kind               site.ValueKind
	Decimals           int
	From, To           time.Time // true bounds; buckets snap to whole steps
	Readings           []store.Reading
	Buckets            []series.Bucket // nil where all readings fit
	Step               time.Duration   // the buckets' width
	Gaps               []series.Span
	Hold               time.Duration // how long a reading holds, 0: until the next one
	More               bool          // a text changed more often than is told here

	device  string // whose series it is
	unheard bool   // how often it reports is not known
}

const (
	defaultPoints = 1500
	mostPoints    = 10_000
	longestRange  = 20 * 366 * 24 * time.Hour
)

// History reads what was.
func (ar *Archive) History(ctx context.Context, a access.Actor, q Range) (History, error) {
	out := History{Series: q.Series, From: q.From, To: q.To}
	if q.Points == 0 {
		q.Points = defaultPoints
	}
	if err := q.check(); err != nil {
		return out, err
	}
	if q.Points < 1 || q.Points > mostPoints {
		return out, fault.Invalid("points", "points is %d; choose between 1 and %d", q.Points, mostPoints)
	}
	loc := ar.house.Site().Hub.Location()
	if err := ar.describe(ctx, a, &out); err != nil {
		return out, err
	}
	if err := ar.learnHold(ctx, &out, q.To); err != nil {
		return out, err
	}
	if err := ar.whole(ctx, &q); err != nil {
		return out, err
	}
	out.From, out.To = q.From, q.To
	if !q.coarse && !q.Buckets || out.Kind == site.Text {
		if done, err := ar.singly(ctx, &out, q); err != nil {
			return out, err
		} else if done {
			return out, ar.leaveOut(ctx, &out)
		}
	}
	out.Step = series.Step(q.To.Sub(q.From), q.Points)
	if q.coarse {
		out.Step = max(out.Step, time.Hour)
	}
	bounds := series.Bounds(q.From.UnixMilli(), q.To.UnixMilli(), out.Step, loc)
	var err error
	if out.Buckets, out.Gaps, err = ar.store.Buckets(ctx, q.Series, bounds, out.Hold, ar.house.Time()); err == nil {
		err = ar.leaveOut(ctx, &out)
	}
	// A gap within a bucket cannot be seen, and of a board that once spoke less often there would be as many as readings.
	out.Gaps = slices.DeleteFunc(out.Gaps, func(g series.Span) bool { return g.To-g.From < out.Step.Milliseconds() })
	return out, err
}

// singly reads one reading after the other. It reports true where that is the answer: where they are few, and of a
// text, of which only changes are told.
func (ar *Archive) singly(ctx context.Context, out *History, q Range) (bool, error) {
	most := q.Points + 1
	var points []series.Point
	for r, err := range ar.store.Readings(ctx, q.Series, out.Kind, q.From, q.To, out.Hold == 0) {
		if err != nil {
			return false, err
		}
		if n := len(out.Readings); out.Kind == site.Text {
			if n > 0 && out.Readings[n-1].Value == r.Value {
				continue
			}
			if out.More = n == mostPoints; out.More {
				break
			}
		} else if n >= most {
			out.Readings = nil
			return false, nil
		}
		out.Readings = append(out.Readings, r)
		if r.Quality != reading.Bad {
			points = append(points, series.Point{T: r.T})
		}
	}
	out.Gaps = series.Gaps(points, q.From.UnixMilli(), min(q.To.UnixMilli(), ar.house.Time().UnixMilli()), out.Hold)
	return true, nil
}

const (
	leastHold   = 3 * time.Minute // of a series of which nobody knows how often it reports
	holdSamples = 65
)

// learnHold finds out from a series' past how long its readings hold where nothing was heard of it since the start, as
// of one that was brought in from a file.
func (ar *Archive) learnHold(ctx context.Context, out *History, to time.Time) error {
	if !out.unheard {
		return nil
	}
	list, err := ar.store.Newest(ctx, out.Series, out.Kind, time.UnixMilli(store.Earliest), to, holdSamples)
	if err != nil || len(list) < 4 {
		return err
	}
	var apart []int64
	for i := range list[1:] {
		apart = append(apart, list[i].T-list[i+1].T)
	}
	slices.Sort(apart)
	out.Hold = max(leastHold, 3*time.Duration(apart[len(apart)/2])*time.Millisecond)
	return nil
}

// describe finds out what a series is and whether the actor may see it.
func (ar *Archive) describe(ctx context.Context, a access.Actor, out *History) error {
	now := ar.house.Site()
	if s, ok := now.Signals[out.Series]; ok && access.May(a, access.Look, sight.OfSignal(now, s)) == nil {
		out.Name, out.Unit, out.Kind, out.Decimals, out.device = s.Name, s.Unit, s.Kind, s.Decimals, s.Device
		if s.Reports == site.Periodic {
			interval, err := ar.house.Interval(ctx, out.Series)
			if err != nil {
				return err
			}
			out.Hold = max(3*interval, 3*time.Second)
			if interval == 0 {
				out.Hold, out.unheard = leastHold, true
			}
		}
		return nil
	}
	for _, what := range []string{"is", "want", "mode"} {
		if id, ok := strings.CutSuffix(out.Series, "."+what); ok {
			if c, ok := now.Controls[id]; ok && access.May(a, access.Look, sight.OfControl(now, c)) == nil {
				out.Name, out.Kind = c.Name, c.SeriesKind()
				switch what {
				case "is":
					out.device = c.Device
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
	if d, ok := now.Devices[out.Series]; ok && access.May(a, access.Look, sight.OfDevice(now, d)) == nil {
		out.Name, out.Kind = d.Name+" (online)", site.OnOff
		return nil
	}
	if g, ok := now.Settings[out.Series]; ok && access.May(a, access.Look, sight.OfSetting(now, g)) == nil {
		out.Name, out.Unit, out.Kind, out.Decimals = g.Name, g.Unit, g.SeriesKind(), g.Decimals
		return nil
	}
	sees := ar.house.Sight(a)
	ids, controls := sees.IDs(true, false), sees.IDs(false, true)
	if slices.Contains(controls, out.Series) {
		return fault.NotFound("signal", out.Series, out.Series+".is", out.Series+".want")
	}
	for _, id := range controls {
		ids = append(ids, id+".is", id+".want")
	}
	return fault.NotFound("signal", out.Series, site.Nearest(out.Series, ids)...)
}
