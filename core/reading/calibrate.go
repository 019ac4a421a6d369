package reading

import (
	"fmt"
	"math"
	"slices"
	"sort"
	"time"

	"idleember/core/site"
)

// Calibrate makes a reading of a raw value. What cannot be represented as a finite number is refused.
func Calibrate(c site.Calibration, raw Value) (Value, error) {
	if err := raw.finite(); err != nil {
		return Value{}, err
	}
	switch {
	case raw.Kind == site.OnOff:
		if c.Invert {
			return OnOff(!raw.On()), nil
		}
		return raw, nil
	case raw.Kind != site.Number || !c.Set():
		return raw, nil
	}
	v := raw.Num
	switch p := c.Points; c.Method {
	case "two_point":
		v = p[0][1] + (v-p[0][0])*(p[1][1]-p[0][1])/(p[1][0]-p[0][0])
	case "gain":
		v = v * p[0][1] / p[0][0]
	case "divider":
		v *= c.Divider.Factor()
	case "table":
		v = interpolate(p, v)
	}
	v += c.Offset
	if c.Min != nil {
		v = max(v, *c.Min)
	}
	if c.Max != nil {
		v = min(v, *c.Max)
	}
	if math.IsNaN(v) || math.IsInf(v, 0) {
		return Value{}, fmt.Errorf("the calibration makes no finite number of %s; check its points", raw)
	}
	return Number(v), nil
}

// interpolate takes v along the straight lines between the points; outside them the first and the last line go on.
func interpolate(p [][2]float64, v float64) float64 {
	i := sort.Search(len(p), func(i int) bool { return p[i][0] >= v })
	i = min(max(i, 1), len(p)-1)
	a, b := p[i-1], p[i]
	return a[1] + (v-a[0])*(b[1]-a[1])/(b[0]-a[0])
}

// Judge decides how far a reading can be trusted. The zero value has no past.
type Judge struct {
	recent []float64
	value  Value
	since  time.Duration // since when the value is unchanged, on a monotonic clock
	seen   bool
}

const neighbours = 4 // readings that a spike is measured against

// Quality judges a live reading and remembers it. A value outside the plausible range is bad. One further from the
// median of its neighbours than the largest honest step is suspect, and so is one that has not changed for too long.
func (j *Judge) Quality(s site.Sense, v Value, mono time.Duration) Quality {
	if !j.seen || j.value != v {
		j.value, j.since, j.seen = v, mono, true
	}
	q := Plausible(s, v)
	if q == Bad {
		return q
	}
	if s.Spike > 0 && v.Kind == site.Number {
		if len(j.recent) == neighbours && math.Abs(v.Num-median(j.recent)) > s.Spike {
			q = Suspect
		}
		if len(j.recent) == neighbours {
			j.recent = j.recent[1:]
		}
		j.recent = append(j.recent, v.Num)
	}
	if s.StuckMS > 0 && mono-j.since >= time.Duration(s.StuckMS)*time.Millisecond {
		q = Suspect
	}
	return q
}

// Plausible is Bad for a value outside the plausible range, else Good.
func Plausible(s site.Sense, v Value) Quality {
	if v.Kind == site.Number && (s.Lowest != nil && v.Num < *s.Lowest || s.Highest != nil && v.Num > *s.Highest) {
		return Bad
	}
	return Good
}

func median(of []float64) float64 {
	sorted := slices.Clone(of)
	slices.Sort(sorted)
	n := len(sorted)
	return (sorted[(n-1)/2] + sorted[n/2]) / 2
}
