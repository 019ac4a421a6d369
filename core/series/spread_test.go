package series

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"idleember/core/reading"
	"idleember/core/site"
)

func TestASpread(t *testing.T) {
	c := &Columns{}
	for _, p := range []struct {
		t int64
		v float64
		q reading.Quality
	}{{-5000, 20, 0}, {1000, 20.4, 0}, {2000, 20.4, 0}, {3000, 99, reading.Bad}, {4000, 21.9, 0}, {20_000, 19.1, 0}} {
		c.Put(p.t, reading.Number(p.v), p.q, 0)
	}
	s := NewSpread(0, 30_000, 6000, 19.1, 21.9, 3, 0.1)
	s.Add(c, 0, c.Len())
	s.Finish(22_000)
	assert.Equal(t, []Bin{{19, 20, 2000}, {20, 21, 1000 + 3000}, {21, 22, 6000}}, s.Bins,
		"each value counts for as long as it held")
	assert.Equal(t, []int64{20_000, 4000, 1000, 20_000}, []int64{s.MinT, s.MaxT, s.FirstT, s.LastT})
	assert.Equal(t, 1, s.Bad)
	assert.Equal(t, 3, s.Changes)
	s = NewSpread(500, 30_000, 6000, 19.1, 21.9, 3, 0.1)
	s.Add(&Columns{T: []int64{-5000, 2000}, V: []float64{22, 20}}, 0, 2)
	s.Finish(22_000)
	assert.Equal(t, []int64{2000, 500, 2000}, []int64{s.MinT, s.MaxT, s.FirstT}, "what held at the start was there")
	s = NewSpread(1500, 30_000, 6000, 19.1, 21.9, 3, 0.1)
	s.Add(&Columns{T: []int64{-5000, 2000}, V: []float64{22, 20}}, 0, 2)
	assert.Equal(t, []int64{2000, 2000}, []int64{s.MinT, s.MaxT}, "it held no longer")

	for _, x := range []struct {
		min, max, finest float64
		bins             int
		first            Bin
	}{{0.3, 0.3, 0.1, 1, Bin{0.3, 0.4, 0}}, {-1, 1, 1, 3, Bin{-1, 0, 0}}, {-0.25, 0.31, 0.01, 29, Bin{-0.26, -0.24, 0}},
		{0, 1e300, 1, 21, Bin{0, 5e298, 0}}} {
		s := NewSpread(0, 1, 0, x.min, x.max, 30, x.finest)
		if assert.Len(t, s.Bins, x.bins, "%v", x) {
			assert.InEpsilon(t, 1+x.first.To, 1+s.Bins[0].To, 1e-9)
		}
	}
	words := &Columns{Kind: site.Text}
	for i, w := range []string{"dry", "dry", "wet", "dry"} {
		words.Put(int64(i), reading.Text(w), 0, 0)
	}
	s = NewSpread(0, 10, 0, 0, 0, 30, 0)
	s.Add(words, 0, words.Len())
	assert.Equal(t, 2, s.Changes)
}

// Whatever numbers came, there are few bins, side by side, and all that held is in them.
func TestASpreadOfAnyNumbers(t *testing.T) {
	any := rapid.OneOf(rapid.Float64(), rapid.SampledFrom([]float64{0, 1 << 53, 1<<53 + 2, 1.7e18, 1764486000123456789,
		-1e38, 1e38, math.MaxFloat64, -math.MaxFloat64, 5e-324}))
	rapid.Check(t, func(t *rapid.T) {
		a, b := any.Draw(t, "one"), any.Draw(t, "other")
		if rapid.Bool().Draw(t, "near") {
			b = math.Nextafter(a, b)
		}
		low, high := min(a, b), max(a, b)
		s := NewSpread(0, 1000, 0, low, high, 24, rapid.SampledFrom([]float64{0, 0.001, 0.1, 1}).Draw(t, "finest"))
		require.LessOrEqual(t, len(s.Bins), 25)
		for i, x := range s.Bins {
			require.Less(t, x.From, x.To)
			require.True(t, i == 0 || math.Abs(s.Bins[i-1].To-x.From) <= 1e-12*math.Max(math.Abs(low), math.Abs(high)),
				"%v after %v", x, s.Bins[max(0, i-1)])
		}
		s.Add(&Columns{T: []int64{0, 400}, V: []float64{low, high}}, 0, 2)
		s.Finish(1000)
		ms := int64(0)
		for _, x := range s.Bins {
			ms += x.MS
		}
		require.True(t, len(s.Bins) == 0 || ms == 1000, "%v", s.Bins)
	})
}
