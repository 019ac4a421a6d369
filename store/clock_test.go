package store

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/core/reading"
	"idleember/core/site"
)

func TestRestamp(t *testing.T) {
	s := open(t, t.TempDir())
	defer func() { _ = s.Close() }()
	at := func(ms int64) time.Time { return time.UnixMilli(ms) }
	put := func(name string, ts ...int64) {
		var list []Reading
		for _, ms := range ts {
			list = append(list, Reading{T: ms, Value: reading.Number(float64(ms))})
		}
		require.NoError(t, s.Do(t.Context(), AddReadings(name, list, nil)))
	}
	values := func(name string) (out [][2]int64) {
		for _, r := range all(t, s, name, site.Number, 0, 1<<40, false) {
			out = append(out, [2]int64{r.T, int64(r.Value.Num)})
		}
		return out
	}
	put("kiln.chamber", 1000, 2000, 2001, 2002, 2500, 3000)
	put("kiln.chamber", 2100)              // its board said so, and stays
	put("kiln.chamber", 2502)              // and this one, where a moved one would go
	put("kiln.chamber", 9_000_000)         // a board's clock that was further off than ours
	put("kiln.door", 500, 9_500)           // nothing came of it then
	put("kiln.cone", manyTimes(40_000)...) // sealed in part
	require.NoError(t, s.Seal(t.Context()))
	doubt := Doubt{Boot: "one", Up: time.Minute, Wall: at(2000).UTC(), Shows: at(7).UTC()}
	require.NoError(t, s.Do(t.Context(), SaveDoubt(doubt), AddStamps("kiln.chamber", at(2400), []int64{2100, 2502}),
		AddStamps("kiln.chamber", at(2800), []int64{9_000_000})))
	kept, err := s.Doubt(t.Context())
	require.NoError(t, err)
	assert.Equal(t, &doubt, kept)
	// One more reading is on its way to the disk, and that is slow.
	s.Commit(&Batch{Changes: []Change{func(*Tx) error { time.Sleep(200 * time.Millisecond); return nil },
		AddReading("kiln.lid", Reading{T: 2200, Value: reading.Number(2200)}, nil)}, Done: func(error) {}})
	n, err := s.Restamp(t.Context(), at(2000), at(4000), 500*time.Millisecond, at(5000))
	require.NoError(t, err)
	assert.Equal(t, [][2]int64{{2700, 2200}}, values("kiln.lid"))
	kept, err = s.Doubt(t.Context())
	require.NoError(t, err)
	assert.Nil(t, kept)
	assert.Equal(t, [][2]int64{{1000, 1000}, {2100, 2100}, {2500, 2000}, {2501, 2001}, {2502, 2502}, {2503, 2002}, {3000,
		2500}, {3300, 9_000_000}, {3500, 3000}}, values("kiln.chamber"))
	for _, r := range all(t, s, "kiln.chamber", site.Number, 0, 1<<40, false) {
		assert.Equal(t, r.T == 3300, r.Quality == reading.Suspect, "%d", r.T)
	}
	assert.Equal(t, [][2]int64{{500, 500}, {9500, 9500}}, values("kiln.door"))
	cone := values("kiln.cone")
	require.Len(t, cone, 40_000)
	for i, x := range cone {
		want := x[1]
		if x[1] >= 2000 && x[1] < 4000 {
			want += 500
		}
		if x[0] != want {
			t.Fatalf("reading %d of %d is at %d", i, x[1], x[0])
		}
	}
	assert.Equal(t, 6-1+1+200+1, n)
}

// manyTimes are n times, 10 ms apart but for a pause in which what is moved finds room.
func manyTimes(n int) (out []int64) {
	for i := range int64(n) {
		if ms := i * 10; ms < 4000 {
			out = append(out, ms)
		} else {
			out = append(out, ms+500)
		}
	}
	return out
}

// What was written last counts, also where the hub was killed before it said that it is alive.
func TestTheLastTimeIsThatOfTheLastReading(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	at := time.Now().Add(time.Hour).Truncate(time.Millisecond)
	require.NoError(t, s.Do(t.Context(), SaveAlive(at.Add(-50*time.Second)), AddInputs(at, []byte("x")), AddReading("a.n",
		Reading{T: at.UnixMilli() + 900, Value: reading.Number(1)}, nil),
		AddReading("a.own", Reading{T: at.UnixMilli() + 86_400_000, Value: reading.Number(1)}, nil)))
	require.NoError(t, s.Close())
	s = open(t, dir)
	defer func() { require.NoError(t, s.Close()) }()
	last, err := s.LastTime(t.Context())
	require.NoError(t, err)
	assert.Equal(t, at.UnixMilli()+900, last.UnixMilli(), "what a board stamped itself tells no time")
}
