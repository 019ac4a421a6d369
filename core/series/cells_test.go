package series

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"idleember/core/site"
)

// Cells must give the very same buckets and gaps, to the last bit, as all readings one by one.
func TestCellsGiveTheSameBuckets(t *testing.T) {
	zone, err := time.LoadLocation("Europe/Vienna")
	require.NoError(t, err)
	rapid.Check(t, func(t *rapid.T) {
		cols := anyColumns(t)
		if cols.Kind == site.Text {
			return
		}
		first, last := cols.T[0], cols.T[cols.Len()-1]
		from := first + rapid.Int64Range(-3*Hour, 3*Hour).Draw(t, "from")
		to := max(from+1, last+rapid.Int64Range(-3*Hour, 3*Hour).Draw(t, "to"))
		step := max(time.Duration(to-from)*time.Millisecond/50, rapid.SampledFrom([]time.Duration{20 * time.Minute, time.Hour,
			7 * time.Hour, 48 * time.Hour}).Draw(t, "step")).Truncate(time.Second)
		hold := rapid.SampledFrom([]time.Duration{0, 30 * time.Second, 2 * time.Hour}).Draw(t, "hold")
		bounds := Bounds(from, to, step, zone)
		all, some := Within(bounds, hold), Within(bounds, hold)
		byHour := map[int64]Cell{}
		for _, c := range Cells(cols) {
			byHour[c.At] = c
		}
		for i := 0; i < cols.Len(); {
			hour := floorTo(cols.T[i], Hour)
			c, ok := byHour[hour]
			took := ok && some.Fits(&c)
			if took {
				some.AddCell(&c)
			}
			for ; i < cols.Len() && floorTo(cols.T[i], Hour) == hour; i++ {
				p := Point{T: cols.T[i], V: cols.V[i], Bad: cols.Q != nil && cols.Q[i] == 2}
				all.Add(p)
				if !took {
					some.Add(p)
				}
			}
		}
		want, gaps := all.Finish(last + Hour)
		got, gapsGot := some.Finish(last + Hour)
		require.Equal(t, gaps, gapsGot)
		require.Equal(t, len(want), len(got))
		for i := range want {
			w, g := want[i], got[i]
			require.Equal(t, [2]uint64{math.Float64bits(w.Mean), math.Float64bits(w.TimeMean)},
				[2]uint64{math.Float64bits(g.Mean), math.Float64bits(g.TimeMean)})
			w.Mean, g.Mean, w.TimeMean, g.TimeMean = 0, 0, 0, 0
			require.Equal(t, w, g)
		}
	})
}

func TestCellsComeBackBitForBit(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		cells := Cells(anyColumns(t))
		var codec Codec
		for len(cells) > 0 {
			day := floorTo(cells[0].At, Day)
			n := 0
			for n < len(cells) && cells[n].At < day+Day {
				n++
			}
			got, err := codec.DecodeCells(nil, day, codec.EncodeCells(nil, day, cells[:n]))
			require.NoError(t, err)
			for i := range got {
				for _, of := range cellFloats { // NaN, which sums of the largest numbers come to, equals nothing
					require.Equal(t, math.Float64bits(*of(&cells[i])), math.Float64bits(*of(&got[i])))
					*of(&cells[i]), *of(&got[i]) = 0, 0
				}
			}
			require.Equal(t, cells[:n], got)
			cells = cells[n:]
		}
	})
}

func TestSizeOfCells(t *testing.T) {
	var codec Codec
	for _, what := range sorts {
		cols := regular(8640, what, 0)
		cells := Cells(cols)
		day := floorTo(cells[12].At, Day)
		var of []Cell
		for _, c := range cells {
			if c.At >= day && c.At < day+Day {
				of = append(of, c)
			}
		}
		body := codec.EncodeCells(nil, day, of)
		t.Logf("%s: %d hours in %d bytes", what, len(of), len(body))
		assert.Less(t, len(body), 25*len(of)+50)
	}
	_, err := codec.DecodeCells(nil, 0, []byte("nothing like it"))
	assert.ErrorIs(t, err, ErrDamaged)
}

// Days are those of the zone, also where one has 23 or 25 hours; both ends stay as asked for.
func TestBoundsOfDays(t *testing.T) {
	zone, err := time.LoadLocation("Europe/Vienna")
	require.NoError(t, err)
	at := func(s string) int64 {
		v, err := time.ParseInLocation("2006-01-02 15:04", s, zone)
		require.NoError(t, err)
		return v.UnixMilli()
	}
	for _, x := range []struct {
		from, to string
		hours    []float64
	}{{"2026-03-28 13:00", "2026-03-31 05:00", []float64{11, 23, 24, 5}}, {"2026-10-24 00:00", "2026-10-27 00:00",
		[]float64{24, 25, 24}}} {
		bounds := Bounds(at(x.from), at(x.to), 24*time.Hour, zone)
		var hours []float64
		for i := range bounds[1:] {
			hours = append(hours, float64(bounds[i+1]-bounds[i])/Hour)
		}
		assert.Equal(t, x.hours, hours)
	}
	b := Bounds(at("2026-06-01 10:20"), at("2026-06-01 12:40"), time.Hour, zone)
	assert.Equal(t, []int64{at("2026-06-01 10:20"), at("2026-06-01 11:00"), at("2026-06-01 12:00"),
		at("2026-06-01 12:40")}, b)
	assert.Equal(t, 9*time.Hour, Step(365*24*time.Hour, 1000), "whole hours")
	assert.Equal(t, 4*24*time.Hour, Step(365*24*time.Hour, 100), "whole days")
	assert.Equal(t, 10*time.Second, Step(time.Hour, 400))
}
