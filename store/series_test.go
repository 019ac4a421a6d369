package store

import (
	"maps"
	"math/rand/v2"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"idleember/core/reading"
	"idleember/core/series"
	"idleember/core/site"
)

// The store against a plain map, whatever is put in, dropped, sealed and restarted in between.
func TestSeriesAgainstAPlainMap(t *testing.T) {
	dir := t.TempDir()
	rapid.Check(t, func(rt *rapid.T) {
		s := open(t, dir)
		defer func() { _ = s.Close() }()
		do := func(c Change) { require.NoError(rt, s.Do(t.Context(), c)) }
		do(DropSeries("a.n"))
		plain := map[int64]Reading{}
		rng := rand.New(rand.NewPCG(rapid.Uint64().Draw(rt, "seed"), 1))
		base, span := int64(1_790_000_000_000), rapid.SampledFrom([]int64{1000, 3 * series.Hour, 40 * series.Day}).Draw(rt,
			"span")
		for range rapid.IntRange(1, 12).Draw(rt, "steps") {
			switch what := rapid.SampledFrom([]string{"ahead", "anywhere", "drop", "seal", "seal", "repack", "restart"}).Draw(rt,
				"what"); what {
			case "ahead", "anywhere":
				var list []Reading
				at := base + rng.Int64N(span)
				for range 1 + rng.IntN(3000) {
					if at += 10_000; what == "anywhere" {
						at = base + rng.Int64N(span)
					}
					r := Reading{T: at, Value: reading.Number(float64(rng.IntN(400)) / 10),
						Quality: reading.Quality(max(0, rng.IntN(60)-57))}
					if rng.IntN(20) == 0 {
						raw := float64(rng.IntN(1024))
						r.Raw = &raw
					}
					list = append(list, r)
					plain[at] = r
				}
				do(AddReadings("a.n", list, nil))
			case "drop":
				from := base + rng.Int64N(span)
				to := from + rng.Int64N(span)
				do(DropReadings("a.n", time.UnixMilli(from), time.UnixMilli(to)))
				maps.DeleteFunc(plain, func(at int64, _ Reading) bool { return at >= from && at < to })
			case "seal":
				require.NoError(rt, s.Seal(t.Context()))
			case "repack":
				_, err := s.Repack(t.Context(), "a.n")
				require.NoError(rt, err)
			case "restart":
				require.NoError(rt, s.Close())
				s = open(t, dir)
			}
		}
		var want []Reading
		for _, at := range slices.Sorted(maps.Keys(plain)) {
			want = append(want, plain[at])
		}
		require.Equal(rt, want, all(t, s, "a.n", site.Number, 0, 1<<42, false))
		n, err := s.Count(t.Context(), "a.n")
		require.NoError(rt, err)
		require.EqualValues(rt, len(want), n)
		if len(want) > 0 {
			last, ok, err := s.Last(t.Context(), "a.n", site.Number)
			require.NoError(rt, err)
			require.True(rt, ok)
			require.Equal(rt, want[len(want)-1], last)
			i := rng.IntN(len(want))
			some := all(t, s, "a.n", site.Number, want[i].T, want[i].T+span/3, true)
			require.Equal(rt, want[max(0, i-1)], some[0], "what held at the start")
		}
		hold := rapid.SampledFrom([]time.Duration{0, 30 * time.Second}).Draw(rt, "hold")
		bounds := series.Bounds(base-series.Hour, base+2*span, max(time.Duration(span)*time.Millisecond/30, time.Second),
			time.UTC)
		b := series.Within(bounds, hold)
		for _, r := range want {
			b.Add(series.Point{T: r.T, V: r.Value.Num, Bad: r.Quality == reading.Bad})
		}
		buckets, gaps := b.Finish(base + 3*span)
		got, gapsGot, err := s.Buckets(t.Context(), "a.n", bounds, hold, time.UnixMilli(base+3*span))
		require.NoError(rt, err)
		require.Equal(rt, gaps, gapsGot)
		for i := range buckets {
			if buckets[i].TimeMean != buckets[i].TimeMean {
				require.True(rt, got[i].TimeMean != got[i].TimeMean)
				got[i].TimeMean, buckets[i].TimeMean = 0, 0
			}
		}
		require.Equal(rt, buckets, got, "buckets from cells are those of a full scan")
		require.NoError(rt, s.Check(t.Context(), nil))
	})
}

// Readers and writers go on while readings are sealed, and nobody misses anything.
func TestReadingWhileSealing(t *testing.T) {
	s := open(t, t.TempDir())
	defer func() { _ = s.Close() }()
	quit := make(chan struct{})
	var wg sync.WaitGroup
	wg.Add(2)
	n := 0
	go func() {
		defer wg.Done()
		for {
			select {
			case <-quit:
				return
			default:
			}
			var list []Reading
			for range 500 {
				list = append(list, Reading{T: int64(n) * 1000, Value: reading.Number(float64(n))})
				n++
			}
			assert.NoError(t, s.Do(t.Context(), AddReadings("a.n", list, nil)))
		}
	}()
	go func() {
		defer wg.Done()
		for range 25 {
			assert.NoError(t, s.Seal(t.Context()))
		}
		close(quit)
	}()
	seen := 0
	for done := false; !done; {
		select {
		case <-quit:
			done = true
		default:
		}
		list := all(t, s, "a.n", site.Number, 0, 1<<40, false)
		require.GreaterOrEqual(t, len(list), seen)
		seen = len(list)
		for i, r := range list {
			require.Equal(t, int64(i)*1000, r.T)
		}
	}
	wg.Wait()
	assert.Len(t, all(t, s, "a.n", site.Number, 0, 1<<40, false), n)
}

func TestKindsInOneSeries(t *testing.T) {
	s := open(t, t.TempDir())
	defer func() { _ = s.Close() }()
	require.NoError(t, s.Do(t.Context(), AddReadings("a.t", []Reading{{T: 1000, Value: reading.Text("wet")},
		{T: 2000, Value: reading.Text("dry"), Quality: reading.Suspect}}, nil),
		AddReading("a.o", Reading{T: 1000, Value: reading.OnOff(true)}, nil)))
	for range 2 {
		assert.Equal(t, []Reading{{T: 1000, Value: reading.Text("wet")}, {T: 2000, Value: reading.Text("dry"),
			Quality: reading.Suspect}}, all(t, s, "a.t", site.Text, 0, 5000, false))
		assert.Equal(t, reading.OnOff(true), all(t, s, "a.o", site.OnOff, 0, 5000, false)[0].Value)
		assert.Equal(t, reading.Number(1), all(t, s, "a.o", site.Number, 0, 5000, false)[0].Value,
			"asked for as what its signal is now")
		require.NoError(t, s.Seal(t.Context()))
	}
	require.NoError(t, s.Do(t.Context(), AddReading("a.t", Reading{T: 3000, Value: reading.Number(7)}, nil)))
	require.NoError(t, s.Seal(t.Context()))
	assert.Equal(t, reading.Text("7"), all(t, s, "a.t", site.Text, 2500, 5000, false)[0].Value)
}

// A block that is not what was written is told, with where it is; everything else can still be read.
func TestCheckFindsDamage(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	for _, name := range []string{"a.n", "b.n"} {
		var list []Reading
		for i := range 5000 {
			list = append(list, Reading{T: int64(i) * 10_000, Value: reading.Number(float64(i%70) / 10)})
		}
		require.NoError(t, s.Do(t.Context(), AddReadings(name, list, nil)))
	}
	require.NoError(t, s.Seal(t.Context()))
	require.NoError(t, s.Check(t.Context(), nil))
	_, err := s.tx.conn.ExecContext(t.Context(),
		`UPDATE blocks SET body = CAST(replace(hex(body), '0', '1') AS BLOB) WHERE key < ?`, blockKey(2, epoch))
	require.NoError(t, err)
	seen := 0
	assert.ErrorContains(t, s.Check(t.Context(), func(done, of int) { seen = max(seen, done) }),
		"a.n: the block from 1970-01-01T00:00:00Z")
	assert.Positive(t, seen)
	assert.Len(t, all(t, s, "b.n", site.Number, 0, 1<<40, false), 5000)
	_, err = s.tx.conn.ExecContext(t.Context(), `DELETE FROM blocks WHERE key < ?`, blockKey(2, epoch))
	require.NoError(t, err)
	assert.ErrorContains(t, s.Check(t.Context(), nil), "sums")
	require.NoError(t, s.Close())
}
