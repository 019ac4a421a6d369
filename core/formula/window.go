package formula

import (
	"errors"
	"math"
	"strconv"
	"strings"
	"time"
)

// MaxSpan is the longest span that a function over time may look back.
const MaxSpan = 7 * 24 * time.Hour

// panes is how many portions a window is summed in.
const panes = 60

var errSpan = errors.New(`a span of time is needed, such as "90s", "10m", "24h" or "7d", from 10 s to 7 days`)

// ParseSpan reads "90s", "10m", "24h" or "7d".
func ParseSpan(s string) (time.Duration, error) {
	s = strings.TrimSpace(s)
	var d time.Duration
	var err error
	if days, ok := strings.CutSuffix(s, "d"); ok {
		var n float64
		n, err = strconv.ParseFloat(days, 64)
		d = time.Duration(n * float64(24*time.Hour))
	} else {
		d, err = time.ParseDuration(s)
	}
	if err != nil || d < 10*time.Second || d > MaxSpan {
		return 0, errSpan
	}
	return d, nil
}

// paneOf is the width of a window's panes. They lie on whole multiples of it since 1970, and every sum is taken over
// the same panes in the same order, so that a replay comes to the same bits.
func paneOf(span time.Duration) time.Duration {
	return max(time.Second, (span / panes).Truncate(time.Second))
}

// Window keeps what functions over time need of one id's recent values, in a bounded number of panes. A value holds
// until the next one. Use NewWindow.
type Window struct {
	Span  time.Duration
	width int64 // ms
	ring  []pane
	since int64 // ms; from when on everything is known; 0: nothing is
	last  int64 // ms, of the newest value
	held  float64
	any   bool
}

type pane struct {
	start       int64   // ms; 0: empty
	from        int64   // ms, of its first value
	before      float64 // what held until then
	any         bool    // something did
	first, last float64
	until       int64 // ms, of its last value
	area        float64
	on          int64 // ms that it was not 0
	low, high   float64
	changes     int
}

// NewWindow returns an empty window over span.
func NewWindow(span time.Duration) *Window {
	w := paneOf(span)
	return &Window{Span: span, width: w.Milliseconds(), ring: make([]pane, int(span/w)+2)}
}

// Known says that everything from a time on will have been told: by what the store had, or because nothing was before.
func (w *Window) Known(from time.Time) {
	if ms := from.UnixMilli(); w.since == 0 || ms < w.since {
		w.since = ms
	}
}

// Newest is the time of the newest value, zero where there is none.
func (w *Window) Newest() time.Time {
	if !w.any {
		return time.Time{}
	}
	return time.UnixMilli(w.last)
}

// Add takes a value. It must not be older than the one before: a window with late values is filled anew.
func (w *Window) Add(at time.Time, v float64) {
	ms := at.UnixMilli()
	if w.any && ms < w.last {
		return
	}
	if w.since == 0 {
		w.since = ms
	}
	start := ms - ms%w.width
	p := &w.ring[int(start/w.width)%len(w.ring)]
	if p.start != start {
		*p = pane{start: start, from: ms, before: w.held, any: w.any, first: v, last: v, until: ms, low: v, high: v}
	} else {
		span := ms - p.until
		p.area += p.last * scale * float64(span)
		if p.last != 0 {
			p.on += span
		}
		p.last, p.until = v, ms
		p.low, p.high = min(p.low, v), max(p.high, v)
	}
	if w.any && w.held != v {
		p.changes++
	}
	w.any, w.held, w.last = true, v, ms
}

// scale keeps sums of values near the largest number numbers; a power of two changes no digit.
const scale = 0x1p-40

type sum struct {
	area        float64 // times scale
	span, on    int64
	low, high   float64
	first, last float64
	changes     int
}

// sum goes over the window's panes, oldest first; ok is false where the window is not filled.
func (w *Window) sum(now time.Time) (s sum, ok bool) {
	end := now.UnixMilli()
	begin := end - w.Span.Milliseconds()
	begin -= begin % w.width
	if !w.any || w.since == 0 || w.since > begin+w.width {
		return s, false
	}
	held, at, have := w.held, begin, w.last < begin // nothing came since
	s.first = held
	s.low, s.high = math.Inf(1), math.Inf(-1)
	take := func(v float64, span int64) {
		s.area += v * scale * float64(span)
		s.span += span
		if v != 0 {
			s.on += span
		}
		s.low, s.high = min(s.low, v), max(s.high, v)
	}
	for start := begin; start <= end; start += w.width {
		p := &w.ring[int(start/w.width)%len(w.ring)]
		if p.start != start {
			continue
		}
		if !have {
			s.first, held = p.first, p.before
			if p.any && p.from > begin { // else what was before held for no time
				s.first, have = p.before, true
			}
		}
		if have {
			take(held, p.from-at)
		}
		s.area += p.area
		s.span += p.until - p.from
		s.on += p.on
		s.low, s.high = min(s.low, p.low), max(s.high, p.high)
		s.changes += p.changes
		held, at, have = p.last, p.until, true
	}
	if !have {
		return s, false
	}
	take(held, max(0, end-at))
	s.last = held
	return s, true
}

var windowFunctions = map[string]func(*Window, time.Time) Value{
	"mean": func(w *Window, now time.Time) Value {
		s, ok := w.sum(now)
		switch {
		case !ok:
			return Unknown
		case s.span == 0:
			return Number(s.last)
		}
		return Number(s.area / float64(s.span) / scale)
	},
	"lowest":  func(w *Window, now time.Time) Value { return of(w, now, func(s sum) float64 { return s.low }) },
	"highest": func(w *Window, now time.Time) Value { return of(w, now, func(s sum) float64 { return s.high }) },
	"rise": func(w *Window, now time.Time) Value {
		return of(w, now, func(s sum) float64 { return s.last - s.first })
	},
	"changes": func(w *Window, now time.Time) Value {
		return of(w, now, func(s sum) float64 { return float64(s.changes) })
	},
	"on_time": func(w *Window, now time.Time) Value {
		return of(w, now, func(s sum) float64 { return float64(s.on) / 60_000 })
	},
}

func of(w *Window, now time.Time, f func(sum) float64) Value {
	s, ok := w.sum(now)
	if !ok {
		return Unknown
	}
	return Number(f(s))
}
