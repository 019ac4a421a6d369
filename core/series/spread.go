package series

import (
	"math"

	"idleember/core/reading"
	"idleember/core/site"
)

// Bin says for how long a value was in [From, To).
type Bin struct {
	From, To float64
	MS       int64
}

// Spread tells over which values a stretch was spread, and when it was at its ends. Readings come in time order. Use
// NewSpread to make one.
type Spread struct {
	Bins       []Bin
	Bad        int   // bad readings, which do not count otherwise
	Changes    int   // how often the value differed from the one before
	MinT, MaxT int64 // when the lowest and highest value was there first, Unix milliseconds; 0: there is none
	FirstT     int64
	LastT      int64
	min, max   float64
	some       bool // there is a lowest and a highest
	from, to   int64
	hold       int64
	width      float64
	prev       Point
	seen       bool
}

// NewSpread returns a spread over [from, to) in Unix milliseconds with about n bins from min to max, none of them
// narrower than finest, and their bounds at round values. hold is as for a Bucketer, 0 meaning for ever, in
// milliseconds.
func NewSpread(from, to, hold int64, min, max float64, n int, finest float64) *Spread {
	s := &Spread{from: from, to: to, hold: hold}
	s.width = finest
	w := (max - min) / float64(n)
	if w > 0 || finest > 0 { // of bins that are finer than the numbers are some would be empty by themselves
		w = math.Max(w, math.Max(math.Abs(min), math.Abs(max))/(1<<40))
	}
	if w > s.width {
		p := math.Pow(10, math.Floor(math.Log10(w)))
		for _, k := range []float64{1, 2, 5, 10} {
			if s.width = p * k; s.width >= w {
				break
			}
		}
	}
	if s.width <= 0 || math.IsInf(max-min, 0) || math.IsNaN(max-min) {
		return s
	}
	first := math.Floor(min/s.width + 1e-9) // 0.3 / 0.1 is less than 3
	last := math.Floor(max/s.width+1e-9) - first
	for k := range int(math.Min(last, float64(n))) + 1 { // round bounds at both ends make one more than n
		s.Bins = append(s.Bins, Bin{From: decimal((first + float64(k)) * s.width),
			To: decimal((first + float64(k) + 1) * s.width)})
	}
	return s
}

// Add takes readings i to j. Texts count as changes alone.
func (s *Spread) Add(c *Columns, i, j int) {
	for ; i < j; i++ {
		p := Point{T: c.T[i]}
		switch {
		case c.Quality(i) == reading.Bad:
			if p.T >= s.from {
				s.Bad++
			}
			continue
		case c.Kind == site.Text:
			if s.seen && i > 0 && c.Text[i] != c.Text[i-1] {
				s.Changes++
			}
		default:
			p.V = c.V[i]
		}
		s.add(p)
	}
}

func (s *Spread) add(p Point) {
	s.held(p.T)
	if p.T >= s.from {
		s.start(p.T)
		if s.seen && p.V != s.prev.V {
			s.Changes++
		}
		if s.FirstT == 0 {
			s.FirstT = p.T
		}
		s.LastT = p.T
		s.reach(p.V, p.T)
	}
	s.prev, s.seen = p, true
}

func (s *Spread) reach(v float64, t int64) {
	if !s.some || v < s.min {
		s.min, s.MinT = v, t
	}
	if !s.some || v > s.max {
		s.max, s.MaxT = v, t
	}
	s.some = true
}

// start counts what held at the beginning, once something comes at a time after it.
func (s *Spread) start(until int64) {
	if !s.seen || s.prev.T >= s.from || until <= s.from || s.hold > 0 && s.prev.T+s.hold <= s.from {
		return
	}
	s.reach(s.prev.V, s.from)
}

// held counts the last reading until a time.
func (s *Spread) held(until int64) {
	if !s.seen || len(s.Bins) == 0 {
		return
	}
	if s.hold > 0 {
		until = min(until, s.prev.T+s.hold)
	}
	from := max(s.prev.T, s.from)
	if until = min(until, s.to); until <= from {
		return
	}
	k := int(math.Floor((s.prev.V-s.Bins[0].From)/s.width + 1e-9))
	s.Bins[max(0, min(k, len(s.Bins)-1))].MS += until - from
}

// Finish counts the last reading until now, where it still holds.
func (s *Spread) Finish(now int64) {
	s.held(now)
	s.start(now)
}
