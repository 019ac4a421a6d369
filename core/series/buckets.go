// Package series computes over readings in time order: buckets, gaps and runs.
package series

import (
	"math"
	"time"
)

// Point is one reading of a number or on/off signal.
type Point struct {
	T   int64 // Unix milliseconds
	V   float64
	Bad bool // bad readings are passed over by buckets
}

// Bucket sums up the readings in [From, To).
type Bucket struct {
	From, To    int64 // Unix milliseconds
	Count       int
	Min, Max    float64
	First, Last float64
	Mean        float64 // of the readings
	TimeMean    float64 // time-weighted, each reading holding until the next one; NaN where nothing held
	OnMS        int64   // milliseconds at a value other than 0
}

// Span is a stretch of time in Unix milliseconds.
type Span struct{ From, To int64 }

// Bucketer sums readings up into buckets of equal width. Use New to make one.
type Bucketer struct {
	from, to, step, hold int64
	buckets              []Bucket
	weights              []float64
	held                 []int64
	gaps                 []Span
	prev                 Point
	seen                 bool
}

// NewBucketer returns a bucketer for [from, to) in Unix milliseconds with buckets step wide. A reading holds until the
// next one, but no longer than hold (0: for ever); where the next is further away there is a gap.
func NewBucketer(from, to, step int64, hold time.Duration) *Bucketer {
	n := (to - from + step - 1) / step
	return &Bucketer{from: from, to: to, step: step, hold: hold.Milliseconds(),
		buckets: make([]Bucket, n), weights: make([]float64, n), held: make([]int64, n)}
}

// Add takes the next reading; readings come in time order. One before from tells what held at the start.
func (b *Bucketer) Add(p Point) {
	if p.Bad || p.T >= b.to {
		return
	}
	b.spread(p.T)
	b.prev, b.seen = p, true
	if p.T < b.from {
		return
	}
	k := &b.buckets[(p.T-b.from)/b.step]
	if k.Count == 0 {
		k.Min, k.Max, k.First = p.V, p.V, p.V
	}
	k.Count++
	k.Min, k.Max, k.Last = math.Min(k.Min, p.V), math.Max(k.Max, p.V), p.V
	k.Mean += (p.V - k.Mean) / float64(k.Count)
}

// spread lets the previous reading hold until end and notes a gap where it does not reach.
func (b *Bucketer) spread(end int64) {
	if !b.seen {
		if b.hold > 0 && end-b.from > b.hold {
			b.gaps = append(b.gaps, Span{b.from, min(end, b.to)})
		}
		return
	}
	till := min(end, b.to)
	if b.hold > 0 && till > b.prev.T+b.hold {
		if g := (Span{max(b.prev.T, b.from), till}); g.To > g.From {
			b.gaps = append(b.gaps, g)
		}
		till = min(till, b.prev.T+b.hold)
	}
	for t := max(b.prev.T, b.from); t < till; {
		i := (t - b.from) / b.step
		next := min(b.from+(i+1)*b.step, till)
		b.weights[i] += b.prev.V * float64(next-t)
		b.held[i] += next - t
		if b.prev.V != 0 {
			b.buckets[i].OnMS += next - t
		}
		t = next
	}
}

// Finish returns the buckets, those without readings included, and the gaps. now bounds how long the last reading holds.
func (b *Bucketer) Finish(now int64) ([]Bucket, []Span) {
	b.spread(min(b.to, max(now, b.from)))
	for i := range b.buckets {
		k := &b.buckets[i]
		k.From = b.from + int64(i)*b.step
		k.To = min(k.From+b.step, b.to)
		k.TimeMean = math.NaN()
		if b.held[i] > 0 {
			k.TimeMean = b.weights[i] / float64(b.held[i])
		}
	}
	return b.buckets, b.gaps
}

// steps are the bucket widths that people can read.
var steps = []time.Duration{time.Second, 2 * time.Second, 5 * time.Second, 10 * time.Second, 20 * time.Second,
	30 * time.Second, time.Minute, 2 * time.Minute, 5 * time.Minute, 10 * time.Minute, 15 * time.Minute, 30 * time.Minute,
	time.Hour, 2 * time.Hour, 3 * time.Hour, 6 * time.Hour, 12 * time.Hour, 24 * time.Hour}

// Step returns the smallest readable bucket width with which span fits into points buckets.
func Step(span time.Duration, points int) time.Duration {
	for _, s := range steps {
		if span <= s*time.Duration(points) {
			return s
		}
	}
	day := 24 * time.Hour
	n := (span + day*time.Duration(points) - 1) / (day * time.Duration(points))
	return day * n
}

// Gaps returns the stretches between neighbouring points that are further apart than hold (0: none).
func Gaps(points []Point, from, to int64, hold time.Duration) []Span {
	if hold <= 0 {
		return nil
	}
	var gaps []Span
	prev := from
	for _, p := range points {
		if p.T-prev > hold.Milliseconds() {
			gaps = append(gaps, Span{prev, p.T})
		}
		prev = p.T
	}
	if to-prev > hold.Milliseconds() {
		gaps = append(gaps, Span{prev, to})
	}
	return gaps
}
