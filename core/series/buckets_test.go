package series

import (
	"math"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"idleember/core/reading"
)

func TestBuckets(t *testing.T) {
	b := NewBucketer(1000, 4000, 1000, 0)
	for _, p := range []Point{{T: 500, V: 1}, {T: 1500, V: 0}, {T: 1600, V: 5, Bad: true}, {T: 3500, V: 1}, {T: 9000,
		V: 7}} {
		b.Add(p)
	}
	got, gaps := b.Finish(math.MaxInt64)
	assert.Empty(t, gaps)
	require.Len(t, got, 3)
	assert.Equal(t, Bucket{From: 1000, To: 2000, Count: 1, Max: 1, Mean: 0, TimeMean: 0.5, OnMS: 500}, got[0],
		"what held at the start counts, bad readings do not")
	assert.Equal(t, 0, got[1].Count)
	assert.Equal(t, 0.0, got[1].TimeMean)
	assert.Equal(t, int64(500), got[2].OnMS)
}

func TestGapsAreTold(t *testing.T) {
	b := NewBucketer(0, 100_000, 10_000, 5*time.Second)
	for at := int64(0); at < 30_000; at += 2000 {
		b.Add(Point{T: at, V: 1})
	}
	for at := int64(60_000); at < 90_000; at += 2000 {
		b.Add(Point{T: at, V: 3})
	}
	got, gaps := b.Finish(200_000)
	assert.Equal(t, []Span{{28_000, 60_000}, {88_000, 100_000}}, gaps)
	assert.True(t, math.IsNaN(got[4].TimeMean), "nothing held in a gap")
	assert.Equal(t, 3.0, got[6].TimeMean)
	assert.Equal(t, []Span{{28_000, 60_000}}, Gaps([]Point{{T: 0}, {T: 4000}, {T: 28_000}, {T: 60_000}, {T: 61_000}}, 0,
		62_000, 25*time.Second))
}

// The buckets must always say what a plain look at all readings says.
func TestBucketsEqualAPlainScan(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		times := rapid.SliceOfNDistinct(rapid.Int64Range(-5000, 25_000), 0, 60, rapid.ID).Draw(t, "times")
		step := rapid.Int64Range(1, 7000).Draw(t, "step")
		points := make([]Point, len(times))
		for i, at := range sorted(times) {
			points[i] = Point{T: at, V: rapid.Float64Range(-1e6, 1e6).Draw(t, "v")}
		}
		b := NewBucketer(0, 20_000, step, 0)
		for _, p := range points {
			b.Add(p)
		}
		got, _ := b.Finish(math.MaxInt64)
		for _, k := range got {
			n, sum, lo, hi := 0, 0.0, math.Inf(1), math.Inf(-1)
			for i, p := range points {
				if p.T < k.From && (i == len(points)-1 || points[i+1].T > k.From) { // it held at the beginning
					lo, hi = p.V, p.V
				}
				if p.T >= k.From && p.T < k.To {
					n, sum, lo, hi = n+1, sum+p.V, math.Min(lo, p.V), math.Max(hi, p.V)
				}
			}
			require.Equal(t, n, k.Count)
			if n > 0 {
				require.Equal(t, lo, k.Min)
				require.Equal(t, hi, k.Max)
				require.InDelta(t, sum/float64(n), k.Mean, 1e-3)
			}
		}
	})
}

// Sums of numbers near the largest one stay numbers, whichever way they are made.
func TestSumsStayNumbers(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		any := rapid.OneOf(rapid.Float64(), rapid.SampledFrom([]float64{math.MaxFloat64, -math.MaxFloat64, 1e300, 20.5}))
		cols := &Columns{}
		lo, hi := math.Inf(1), math.Inf(-1)
		for i := range rapid.IntRange(1, 200).Draw(t, "n") {
			v := any.Draw(t, "v")
			lo, hi = min(lo, v), max(hi, v)
			cols.Put(int64(i)*60_000, reading.Number(v), 0, 0)
		}
		b := NewBucketer(0, 4*Hour, 4*Hour, 0)
		for _, c := range Cells(cols) {
			require.False(t, math.IsInf(c.Sum, 0) || math.IsInf(c.Area, 0))
			if !c.saturated() {
				require.True(t, b.Fits(&c))
			}
		}
		b.AddRange(cols, 0, cols.Len())
		got, _ := b.Finish(4 * Hour)
		require.InDelta(t, 0, got[0].Mean/math.MaxFloat64, 1)
		require.InDelta(t, 0, got[0].TimeMean/math.MaxFloat64, 1)
		require.Equal(t, []float64{lo, hi}, []float64{got[0].Min, got[0].Max})
		s := NewSpread(0, 4*Hour, 0, lo, hi, 24, 0)
		s.Add(cols, 0, cols.Len())
		s.Finish(4 * Hour)
		require.Equal(t, []float64{lo, hi}, []float64{s.min, s.max})
	})
}

func sorted(v []int64) []int64 {
	for i := range v {
		for j := i; j > 0 && v[j] < v[j-1]; j-- {
			v[j], v[j-1] = v[j-1], v[j]
		}
	}
	return v
}

func TestStep(t *testing.T) {
	for _, tt := range []struct {
		span   time.Duration
		points int
		want   time.Duration
	}{{time.Hour, 1500, 5 * time.Second}, {24 * time.Hour, 1500, time.Minute}, {7 * 24 * time.Hour, 1500,
		10 * time.Minute}, {365 * 24 * time.Hour, 100, 4 * 24 * time.Hour}} {
		assert.Equal(t, tt.want, Step(tt.span, tt.points), tt.span)
	}
}

// Days begin in every zone: where clocks are put on at midnight, and where a day was left out.
func TestDaysOfEveryZone(t *testing.T) {
	names, err := os.ReadFile("../../api/zones.txt")
	require.NoError(t, err)
	const day = 24 * time.Hour
	for _, name := range strings.Fields(string(names)) {
		zone, err := time.LoadLocation(name)
		require.NoError(t, err)
		for _, year := range []int{2011, 2026} {
			from, to := time.Date(year, 7, 1, 12, 0, 0, 0, time.UTC), time.Date(year+1, 7, 1, 12, 0, 0, 0, time.UTC)
			for _, step := range []time.Duration{day, 7 * day} {
				bounds := Bounds(from.UnixMilli(), to.UnixMilli(), step, zone)
				require.InDelta(t, float64(to.Sub(from)/step), float64(len(bounds)), 3, "%s, %s", name, step)
				for i, at := range bounds[1:] {
					was, is := time.UnixMilli(bounds[i]).In(zone), time.UnixMilli(at).In(zone)
					if at <= bounds[i] || i < len(bounds)-3 && (is.YearDay() == was.YearDay() ||
						is.Add(-time.Second).YearDay() == is.YearDay()) {
						t.Fatalf("%s: %s after %s", name, is, was)
					}
				}
			}
		}
	}
	for _, step := range []time.Duration{time.Hour, 6 * time.Hour, 23 * time.Hour} {
		zone, err := time.LoadLocation("America/Havana")
		require.NoError(t, err)
		bounds := Bounds(0, int64(500*step/time.Millisecond), step, zone)
		require.InDelta(t, 501, len(bounds), 3)
		require.True(t, slices.IsSorted(bounds))
	}
}
