package store

import (
	"math"
	"slices"
	"sync"

	"idleember/core/series"
)

// recent is what is in the log and not yet in blocks. The writing goroutine alone changes it.
type recent struct {
	mu   sync.RWMutex
	runs map[int64]*run
	n    int // readings

	thinned map[int64]int64 // the time before which a series has sums of hours and no readings
}

// run is what is recent of one series: what is being sealed, and what came since.
type run struct {
	sealing, fresh layer
	newest         int64 // the latest time of all that was ever put in; nothing later needs looking for
}

// layer is what is to be done to what lies below: stretches dropped, then readings put in.
type layer struct {
	drops []series.Span
	cols  series.Columns
}

func (l *layer) empty() bool { return len(l.drops)+l.cols.Len() == 0 }

func (l *layer) put(r *Reading) (had bool) {
	raw := math.NaN()
	if r.Raw != nil {
		raw = *r.Raw
	}
	return l.cols.Put(r.T, r.Value, r.Quality, raw)
}

func (l *layer) drop(s series.Span) (gone int) {
	from, _ := l.cols.Find(s.From)
	to, _ := l.cols.Find(s.To)
	if to > from {
		gone = to - from
		l.cols.Delete(from, to)
	}
	l.drops = append(l.drops, s)
	return gone
}

func dropped(drops []series.Span, t int64) bool {
	for _, d := range drops {
		if t >= d.From && t < d.To {
			return true
		}
	}
	return false
}

// within copies what a layer says of [from, to).
func (l *layer) within(from, to int64) layer {
	i, _ := l.cols.Find(from)
	j, _ := l.cols.Find(to)
	return layer{drops: slices.Clone(l.drops), cols: l.cols.Clone(i, j)}
}

// under puts a layer on top of l.
func (l *layer) under(top *layer) {
	for _, d := range top.drops {
		l.drop(d)
	}
	l.cols = *series.Merge(&l.cols, &top.cols)
}

// view returns what is recent of a series in [from, to) as one layer.
func (r *recent) view(id, from, to int64) layer {
	r.mu.RLock()
	defer r.mu.RUnlock()
	x := r.runs[id]
	if x == nil {
		return layer{}
	}
	top := x.fresh.within(from, to)
	if x.sealing.empty() {
		return top
	}
	out := x.sealing.within(from, to)
	out.under(&top)
	return out
}

// look finds a recent reading. hidden reports that one in a block of that time does not count.
func (x *run) look(t int64) (r Reading, found, hidden bool) {
	for _, l := range []*layer{&x.fresh, &x.sealing} {
		if i, ok := l.cols.Find(t); ok {
			return readingAt(&l.cols, i), true, true
		}
		if dropped(l.drops, t) {
			return r, false, true
		}
	}
	return r, false, false
}

func (r *recent) run(id int64) *run {
	x := r.runs[id]
	if x == nil {
		x = &run{newest: math.MaxInt64}
		r.runs[id] = x
	}
	return x
}
