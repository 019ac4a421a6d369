package series

import (
	"math"
	"slices"
	"strconv"

	"idleember/core/reading"
	"idleember/core/site"
)

// Columns are readings of one series in time order, column by column. The zero value holds none.
type Columns struct {
	Kind site.ValueKind
	T    []int64   // Unix milliseconds, each later than the one before
	V    []float64 // numbers, 0 and 1; nil for texts
	Text []string  // nil but for texts
	Q    []byte    // quality; nil: all are good
	Raw  []float64 // before calibration, NaN where there is none; nil: nowhere
}

// Len is how many readings there are.
func (c *Columns) Len() int { return len(c.T) }

// Find returns where a time is, or would be, and whether it is there.
func (c *Columns) Find(t int64) (int, bool) {
	if n := len(c.T); n == 0 || t > c.T[n-1] {
		return n, false
	}
	return slices.BinarySearch(c.T, t)
}

// Slice returns readings i to j; the memory is shared.
func (c *Columns) Slice(i, j int) *Columns {
	out := &Columns{Kind: c.Kind, T: c.T[i:j]}
	if c.Kind == site.Text {
		out.Text = c.Text[i:j]
	} else {
		out.V = c.V[i:j]
	}
	if c.Q != nil && slices.ContainsFunc(c.Q[i:j], func(q byte) bool { return q != 0 }) {
		out.Q = c.Q[i:j]
	}
	if c.Raw != nil && slices.ContainsFunc(c.Raw[i:j], func(v float64) bool { return v == v }) {
		out.Raw = c.Raw[i:j]
	}
	return out
}

// become makes the kinds of two columns one: a text and anything else are texts, a number and on/off are numbers.
func (c *Columns) become(kind site.ValueKind) {
	switch {
	case len(c.T) == 0:
		c.Kind = kind
	case c.Kind == kind || c.Kind == site.Text:
	case kind == site.Text:
		for _, v := range c.V {
			c.Text = append(c.Text, strconv.FormatFloat(v, 'g', -1, 64))
		}
		c.Kind, c.V = site.Text, nil
	default:
		c.Kind = site.Number
	}
}

// Append appends readings i to j of others, which must be later.
func (c *Columns) Append(src *Columns, i, j int) {
	if i == j {
		return
	}
	c.become(src.Kind)
	before := len(c.T)
	c.T = append(c.T, src.T[i:j]...)
	switch {
	case c.Kind != site.Text:
		c.V = append(c.V, src.V[i:j]...)
	case src.Kind == site.Text:
		c.Text = append(c.Text, src.Text[i:j]...)
	default:
		for _, v := range src.V[i:j] {
			c.Text = append(c.Text, strconv.FormatFloat(v, 'g', -1, 64))
		}
	}
	if src.Q != nil || c.Q != nil {
		c.Q = padded(c.Q, before, 0)
		if src.Q != nil {
			c.Q = append(c.Q, src.Q[i:j]...)
		} else {
			c.Q = padded(c.Q, len(c.T), 0)
		}
	}
	if src.Raw != nil || c.Raw != nil {
		c.Raw = padded(c.Raw, before, math.NaN())
		if src.Raw != nil {
			c.Raw = append(c.Raw, src.Raw[i:j]...)
		} else {
			c.Raw = padded(c.Raw, len(c.T), math.NaN())
		}
	}
}

func padded[T any](list []T, n int, with T) []T {
	list = slices.Grow(list, n-len(list))
	for len(list) < n {
		list = append(list, with)
	}
	return list
}

// Put puts one reading in, in the place of one of the same time. raw is NaN where there is none. It reports whether a
// reading was there.
func (c *Columns) Put(t int64, v reading.Value, q reading.Quality, raw float64) (had bool) {
	c.become(v.Kind)
	i, had := c.Find(t)
	if had {
		c.T[i] = t
	} else {
		c.T = slices.Insert(c.T, i, t)
	}
	if c.Kind == site.Text {
		c.Text = set(c.Text, i, had, v.String())
	} else {
		c.V = set(c.V, i, had, v.Num)
	}
	n := len(c.T)
	if !had {
		n--
	}
	if q != reading.Good || c.Q != nil {
		c.Q = set(padded(c.Q, n, 0), i, had, byte(q))
	}
	if raw == raw || c.Raw != nil {
		c.Raw = set(padded(c.Raw, n, math.NaN()), i, had, raw)
	}
	return had
}

func set[T any](list []T, i int, had bool, v T) []T {
	if had {
		list[i] = v
		return list
	}
	return slices.Insert(list, i, v)
}

// Delete takes readings i to j away.
func (c *Columns) Delete(i, j int) {
	c.T = slices.Delete(c.T, i, j)
	if c.V != nil {
		c.V = slices.Delete(c.V, i, j)
	}
	if c.Text != nil {
		c.Text = slices.Delete(c.Text, i, j)
	}
	if c.Q != nil {
		c.Q = slices.Delete(c.Q, i, j)
	}
	if c.Raw != nil {
		c.Raw = slices.Delete(c.Raw, i, j)
	}
}

// Clone returns a copy of readings i to j.
func (c *Columns) Clone(i, j int) (out Columns) {
	out.Append(c, i, max(i, j))
	return out
}

// Merge returns the readings of both; where both have one of the same time, that of top.
func Merge(old, top *Columns) *Columns {
	out := &Columns{}
	i, j := 0, 0
	for i < old.Len() && j < top.Len() {
		if from := i; old.T[i] < top.T[j] {
			i, _ = old.Find(top.T[j])
			out.Append(old, from, i)
			continue
		}
		from := j
		if old.T[i] == top.T[j] {
			i++
		}
		if j++; i < old.Len() && j < top.Len() && top.T[j] < old.T[i] {
			j, _ = top.Find(old.T[i])
		}
		out.Append(top, from, j)
	}
	out.Append(old, i, old.Len())
	out.Append(top, j, top.Len())
	return out
}

// Value is the value of reading i.
func (c *Columns) Value(i int) reading.Value {
	if c.Kind == site.Text {
		return reading.Text(c.Text[i])
	}
	return reading.Value{Kind: c.Kind, Num: c.V[i]}
}

// Quality is the quality of reading i.
func (c *Columns) Quality(i int) reading.Quality {
	if c.Q == nil {
		return reading.Good
	}
	return reading.Quality(c.Q[i])
}

// Number is the number of reading i, NaN for texts.
func (c *Columns) Number(i int) float64 {
	if c.Kind == site.Text {
		return math.NaN()
	}
	return c.V[i]
}
