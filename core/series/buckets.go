// Package series keeps readings small and sums them up: blocks of readings, cells of an hour, buckets of any width,
// gaps.
package series

import (
	"math"
	"slices"
	"time"

	"idleember/core/calendar"
	"idleember/core/reading"
	"idleember/core/site"
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
	Min, Max    float64 // of what it was: of the readings, and of what held at the beginning
	First, Last float64
	Mean        float64 // of the readings
	TimeMean    float64 // time-weighted, each reading holding until the next one; NaN where nothing held
	OnMS        int64   // milliseconds at a value other than 0
}

// Span is a stretch of time in Unix milliseconds.
type Span struct{ From, To int64 }

// Bucketer sums readings up into buckets. Use NewBucketer or Within to make one.
//
// Sums are made hour by hour, so that a cell gives the very same as the readings that it sums up.
type Bucketer struct {
	bounds  []int64 // one more than buckets
	hold    int64
	buckets []Bucket
	weights []float64
	held    []int64
	sums    []float64 // these and the weights are times scale
	some    []bool    // there is a lowest and a highest
	gaps    []Span
	prev    Point
	seen    bool
	hour    Cell  // not yet in a bucket
	end     int64 // of the hour, or of its bucket
	i       int   // the bucket that was used last
}

// NewBucketer returns a bucketer for [from, to) in Unix milliseconds with buckets step wide. A reading holds until the
// next one, but no longer than hold (0: for ever); where the next is further away there is a gap.
func NewBucketer(from, to, step int64, hold time.Duration) *Bucketer {
	var bounds []int64
	for t := from; t < to; t += step {
		bounds = append(bounds, t)
	}
	return Within(append(bounds, to), hold)
}

// Within is NewBucketer with buckets between bounds, as of days that are not all equally long.
func Within(bounds []int64, hold time.Duration) *Bucketer {
	n := len(bounds) - 1
	return &Bucketer{bounds: bounds, hold: hold.Milliseconds(), end: math.MinInt64,
		buckets: make([]Bucket, n), weights: make([]float64, n), held: make([]int64, n), sums: make([]float64, n),
		some: make([]bool, n)}
}

func (b *Bucketer) from() int64 { return b.bounds[0] }
func (b *Bucketer) to() int64   { return b.bounds[len(b.bounds)-1] }

// at is the bucket that a time within the bounds is in; times mostly come in order.
func (b *Bucketer) at(t int64) int {
	if t < b.bounds[b.i] {
		b.i = 0
	}
	for step := 1; t >= b.bounds[b.i+1]; { // ever larger steps ahead, then back to single ones
		if next := b.i + step; next < len(b.buckets) && t >= b.bounds[next] {
			b.i, step = next, 2*step
		} else if step > 1 {
			step = 1
		} else {
			b.i++
		}
	}
	return b.i
}

// Add takes the next reading; readings come in time order. One before from tells what held at the start.
func (b *Bucketer) Add(p Point) {
	if p.Bad || p.T >= b.to() {
		return
	}
	if p.T < b.from() {
		b.spread(p.T)
		b.prev, b.seen = p, true
		return
	}
	if p.T >= b.end || b.hold > 0 && p.T-b.hour.LastT > b.hold {
		b.flush()
		b.spread(p.T)
		b.hour = Cell{At: floorTo(p.T, Hour)}
		b.end = min(b.hour.At+Hour, b.bounds[b.at(p.T)+1])
	}
	b.hour.add(p.T, p.V)
}

// AddRange takes readings i to j of columns, as Add does one by one. Texts are passed over.
func (b *Bucketer) AddRange(c *Columns, i, j int) {
	if c.Kind == site.Text {
		return
	}
	for ; i < j; i++ {
		if t := c.T[i]; t < b.end && (b.hold == 0 || t-b.hour.LastT <= b.hold) && c.Q == nil { // the same hour goes on
			b.hour.add(t, c.V[i])
		} else {
			b.Add(Point{T: t, V: c.V[i], Bad: c.Quality(i) == reading.Bad})
		}
	}
}

// Fits reports whether a whole hour can be taken at once: it must lie within one bucket and have no gap.
func (b *Bucketer) Fits(c *Cell) bool {
	return c.At >= b.from() && c.At+Hour <= b.to() && (b.hold == 0 || c.Gap <= b.hold) && !(c.Gap > 0 && c.saturated()) &&
		c.At+Hour <= b.bounds[b.at(c.At)+1]
}

// AddCell takes a whole hour that fits, in the place of its readings.
func (b *Bucketer) AddCell(c *Cell) {
	b.flush()
	b.spread(c.FirstT)
	b.hour = *c
	b.put()
}

// flush puts the hour into its bucket.
func (b *Bucketer) flush() {
	if b.hour.Count > 0 {
		b.hour.settle()
		b.put()
	}
}

// put adds the hour, whose sums are settled, to its bucket. Settled twice they would not always be the same.
func (b *Bucketer) put() {
	c := &b.hour
	i := b.at(c.FirstT)
	k := &b.buckets[i]
	if k.Count == 0 {
		k.First = c.First
	}
	k.Count += c.Count
	b.reach(i, c.Min, c.Max)
	k.Last = c.Last
	k.OnMS += c.OnMS
	b.sums[i] += c.Sum*scale + c.hugeSum
	b.weights[i] += c.Area*scale + c.hugeArea
	b.held[i] += c.LastT - c.FirstT
	b.prev, b.seen = Point{T: c.LastT, V: c.Last}, true
	*c, b.end = Cell{}, math.MinInt64
}

// reach takes the bounds of a bucket so far that it was between two values in it.
func (b *Bucketer) reach(i int, low, high float64) {
	k := &b.buckets[i]
	if !b.some[i] {
		k.Min, k.Max, b.some[i] = low, high, true
	}
	k.Min, k.Max = min(k.Min, low), max(k.Max, high)
}

// spread lets the previous reading hold until end and notes a gap where it does not reach.
func (b *Bucketer) spread(end int64) {
	if !b.seen {
		if b.hold > 0 && end-b.from() > b.hold {
			b.gaps = append(b.gaps, Span{b.from(), min(end, b.to())})
		}
		return
	}
	till := min(end, b.to())
	if b.hold > 0 && till > b.prev.T+b.hold {
		if g := (Span{max(b.prev.T, b.from()), till}); g.To > g.From {
			b.gaps = append(b.gaps, g)
		}
		till = min(till, b.prev.T+b.hold)
	}
	for t := max(b.prev.T, b.from()); t < till; {
		i := b.at(t)
		next := min(b.bounds[i+1], till)
		b.reach(i, b.prev.V, b.prev.V)
		b.weights[i] += b.prev.V * scale * float64(next-t)
		b.held[i] += next - t
		if b.prev.V != 0 {
			b.buckets[i].OnMS += next - t
		}
		t = next
	}
}

// Finish returns the buckets, those without readings included, and the gaps. now bounds how long the last reading
// holds.
func (b *Bucketer) Finish(now int64) ([]Bucket, []Span) {
	b.flush()
	b.spread(min(b.to(), max(now, b.from())))
	for i := range b.buckets {
		k := &b.buckets[i]
		k.From, k.To = b.bounds[i], b.bounds[i+1]
		k.TimeMean = math.NaN()
		if b.held[i] > 0 {
			k.TimeMean = b.weights[i] / float64(b.held[i]) / scale
		}
		if k.Count > 0 {
			k.Mean = b.sums[i] / float64(k.Count) / scale
		}
	}
	return b.buckets, unseldom(b.gaps)
}

// What a series must be that reports seldom: so many readings in succession stand alone, and most of their distances
// are alike.
const (
	seldomRun   = 5
	seldomAlike = 1.5 // times more or less than their median
	seldomGap   = 3   // more than so many medians are a gap there too
)

// unseldom leaves out of gaps those between readings that come evenly and seldom, as of each day, where others of the
// same series came every few seconds: what is no longer than three of them is none.
func unseldom(gaps []Span) []Span {
	var out []Span
	for i := 0; i < len(gaps); {
		j := i + 1
		for j < len(gaps) && gaps[j].From == gaps[j-1].To {
			j++
		}
		run := gaps[i:j]
		i = j
		if len(run) < seldomRun {
			out = append(out, run...)
			continue
		}
		lengths := make([]int64, len(run))
		for k, g := range run {
			lengths[k] = g.To - g.From
		}
		slices.Sort(lengths)
		middle, alike := float64(lengths[len(run)/2]), 0
		for _, ms := range lengths {
			if l := float64(ms); l < middle*seldomAlike && l > middle/seldomAlike {
				alike++
			}
		}
		for _, g := range run {
			if alike*4 < len(run)*3 || float64(g.To-g.From) > seldomGap*middle {
				out = append(out, g)
			}
		}
	}
	return out
}

// steps are the bucket widths below an hour that people can read.
var steps = []time.Duration{time.Second, 2 * time.Second, 5 * time.Second, 10 * time.Second, 20 * time.Second,
	30 * time.Second, time.Minute, 2 * time.Minute, 5 * time.Minute, 10 * time.Minute, 15 * time.Minute, 30 * time.Minute,
	time.Hour}

// Step returns the smallest readable bucket width with which span fits into points buckets: from an hour on whole
// hours, from a day on whole days.
func Step(span time.Duration, points int) time.Duration {
	for _, s := range steps {
		if span <= s*time.Duration(points) {
			return s
		}
	}
	whole := func(unit time.Duration) time.Duration {
		n := time.Duration(points)
		return (span + unit*n - 1) / (unit * n) * unit
	}
	if hours := whole(time.Hour); hours < 24*time.Hour {
		return hours
	}
	return whole(24 * time.Hour)
}

// Bounds returns the bounds of buckets of a width over [from, to) in Unix milliseconds. Inner bounds are whole steps of
// the zone's own clock: those of days are its midnights, also where a day has 23 or 25 hours. Both ends stay as they
// are.
func Bounds(from, to int64, step time.Duration, zone *time.Location) []int64 {
	out := []int64{from}
	day := step / (24 * time.Hour)
	for t := next(time.UnixMilli(from).In(zone), step, int(day)); t.UnixMilli() < to; t = next(t, step, int(day)) {
		out = append(out, t.UnixMilli())
	}
	return append(out, to)
}

// next is the first whole step of the zone's clock after t.
func next(t time.Time, step time.Duration, days int) time.Time {
	if days > 0 {
		y, m, d := t.Date()
		number := int(floorTo(time.Date(y, m, d, 0, 0, 0, 0, time.UTC).Unix(), 86400) / 86400)
		for ahead := days - mod(number, days); ; ahead += days {
			// Where clocks are put on at midnight the day begins later, and a day that a zone left out begins with the one
			// after.
			if midnight := calendar.Instant(y, m, d+ahead, 0, t.Location()); midnight.After(t) {
				return midnight
			}
		}
	}
	_, off := t.Zone()
	local := t.UnixMilli() + int64(off)*1000
	return time.UnixMilli(floorTo(local, step.Milliseconds()) + step.Milliseconds() - int64(off)*1000).In(t.Location())
}

func mod(a, b int) int { return (a%b + b) % b }

// Gaps returns the stretches between neighbouring points that are further apart than hold (0: none), and no seldom ones
// (see unseldom).
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
	return unseldom(gaps)
}
