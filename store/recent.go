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
}

// run is what is recent of one series: what is being sealed, and what came since.
type run struct {
	sealing, fresh layer
	newest         int64 // the latest time of all that was ever put in; nothing later needs looking for
}

// layer is what is to be done to what lies below: stretches dropped, then readings put in, in time order.
type layer struct {
	drops []series.Span
	list  []Reading
}

func (l *layer) empty() bool { return len(l.drops)+len(l.list) == 0 }

func (l *layer) find(t int64) (int, bool) {
	if n := len(l.list); n == 0 || t > l.list[n-1].T {
		return n, false
	}
	return slices.BinarySearchFunc(l.list, t, func(r Reading, t int64) int {
		switch {
		case r.T < t:
			return -1
		case r.T > t:
			return 1
		}
		return 0
	})
}

// put puts a reading in, in the place of one of the same time. It reports whether that was there.
func (l *layer) put(r Reading) (was Reading, had bool) {
	i, had := l.find(r.T)
	if had {
		was = l.list[i]
		l.list[i] = r
		return was, true
	}
	l.list = slices.Insert(l.list, i, r)
	return was, false
}

func (l *layer) drop(s series.Span) (gone int) {
	from, _ := l.find(s.From)
	to, _ := l.find(s.To)
	if to > from {
		gone = to - from
		l.list = slices.Delete(l.list, from, to)
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
	i, _ := l.find(from)
	j, _ := l.find(to)
	return layer{drops: slices.Clone(l.drops), list: slices.Clone(l.list[i:max(i, j)])}
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
	out.list = slices.DeleteFunc(out.list, func(r Reading) bool { return dropped(top.drops, r.T) })
	out.drops = append(out.drops, top.drops...)
	for _, r := range top.list {
		out.put(r)
	}
	return out
}

// look finds a recent reading. hidden reports that one in a block of that time does not count.
func (x *run) look(t int64) (r Reading, found, hidden bool) {
	for _, l := range []*layer{&x.fresh, &x.sealing} {
		if i, ok := l.find(t); ok {
			return l.list[i], true, true
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
