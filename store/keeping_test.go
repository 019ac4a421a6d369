package store

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/core/reading"
	"idleember/core/series"
	"idleember/core/site"
)

const started = int64(1_790_000_000_000) // not a whole hour

// Thirty days: a reading a minute in the first half of each day, three an hour in the second.
func thirtyDays(t *testing.T, s *Store) (list []Reading) {
	rng := rand.New(rand.NewPCG(5, 5))
	for at := started; at < started+30*series.Day; {
		list = append(list, Reading{T: at, Value: reading.Number(float64(rng.IntN(500)) / 10)})
		if at += 60_000; (at-started)%series.Day > series.Day/2 {
			at += 19 * 60_000
		}
	}
	require.NoError(t, s.Do(t.Context(), AddReadings("a.n", list, nil)))
	return list
}

func hours(t *testing.T, s *Store, from, to int64) []series.Bucket {
	bounds := series.Bounds(floor(from, series.Hour), floor(to, series.Hour), time.Hour, time.UTC)
	list, _, err := s.Buckets(t.Context(), "a.n", bounds, 3*time.Minute, time.UnixMilli(to))
	require.NoError(t, err)
	return list
}

func TestThinningKeepsTheSumsOfHours(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	defer func() { _ = s.Close() }()
	list := thirtyDays(t, s)
	before := hours(t, s, started, started+30*series.Day)
	limit := started + 20*series.Day
	gone, err := s.Thin(t.Context(), "a.n", time.UnixMilli(limit), time.Time{})
	require.NoError(t, err)
	again, err := s.Thin(t.Context(), "a.n", time.UnixMilli(limit), time.Time{})
	require.NoError(t, err)
	require.Zero(t, again)

	left := all(t, s, "a.n", site.Number, 0, 1<<42, false)
	require.EqualValues(t, len(list), gone+int64(len(left)))
	require.Equal(t, list[gone:], left, "the newest readings stay, bit for bit")
	require.Greater(t, gone, int64(len(list)/2))
	require.Less(t, list[gone-1].T, limit)
	for range 2 { // also after a restart
		for i, b := range hours(t, s, started, started+30*series.Day) {
			want := before[i]
			assert.Equal(t, []any{want.From, want.Count, want.Min, want.Max, want.First, want.Last}, []any{b.From, b.Count,
				b.Min, b.Max, b.First, b.Last})
			assert.InDelta(t, want.Mean, b.Mean, 1e-9)
		}
		require.NoError(t, s.Check(t.Context(), nil))
		require.NoError(t, s.Close())
		s = open(t, dir)
	}
	thinned, err := s.Thinned(t.Context(), "a.n")
	require.NoError(t, err)
	require.Equal(t, floor(list[gone-1].T, series.Hour)+series.Hour, thinned.UnixMilli())

	// Of hours that have sums alone a stretch can be deleted as well, and sums go in their turn.
	day := floor(started, series.Day)
	require.NoError(t, s.Do(t.Context(), DropReadings("a.n", time.UnixMilli(day+2*series.Day+1),
		time.UnixMilli(day+5*series.Day+3*series.Hour))))
	require.NoError(t, s.Seal(t.Context()))
	for _, b := range hours(t, s, started, started+20*series.Day) {
		assert.NotEqual(t, b.From > day+2*series.Day && b.From < day+5*series.Day+3*series.Hour, b.Count > 0, b.From)
	}
	_, err = s.Thin(t.Context(), "a.n", time.UnixMilli(limit), time.UnixMilli(day+10*series.Day))
	require.NoError(t, err)
	for _, b := range hours(t, s, started, started+20*series.Day) {
		assert.Equal(t, b.From >= day+10*series.Day, b.Count > 0)
	}
	require.NoError(t, s.Check(t.Context(), nil))
}

func TestRepackingJoinsShortBlocks(t *testing.T) {
	s := open(t, t.TempDir())
	defer func() { _ = s.Close() }()
	list := thirtyDays(t, s)
	require.NoError(t, s.Seal(t.Context()))
	// a hole every three hours, each sealed
	for at := started + series.Hour; at < started+30*series.Day; at += 3 * series.Hour {
		require.NoError(t, s.Do(t.Context(), DropReadings("a.n", time.UnixMilli(at), time.UnixMilli(at+60_000))))
		require.NoError(t, s.Seal(t.Context()))
	}
	blocks := func() (n int) {
		require.NoError(t, s.read.Get(&n, `SELECT count(*) FROM blocks`))
		return n
	}
	was, before := blocks(), all(t, s, "a.n", site.Number, 0, 1<<42, false)
	fewer, err := s.Repack(t.Context(), "a.n")
	require.NoError(t, err)
	require.Less(t, len(before), len(list))
	require.Equal(t, before, all(t, s, "a.n", site.Number, 0, 1<<42, false))
	require.Equal(t, was-fewer, blocks())
	require.Less(t, blocks(), was/3, "of %d blocks", was)
	require.NoError(t, s.Check(t.Context(), nil))
}

func TestADamagedBlockHoldsNothingElseUp(t *testing.T) {
	s := open(t, t.TempDir())
	defer func() { _ = s.Close() }()
	list := thirtyDays(t, s)
	require.NoError(t, s.Seal(t.Context()))
	var key, count int64
	require.NoError(t, s.read.QueryRow(`SELECT key, count FROM blocks ORDER BY key LIMIT 1 OFFSET 1`).Scan(&key, &count))
	require.NoError(t, s.Do(t.Context(), func(tx *Tx) error {
		return tx.exec(`UPDATE blocks SET body = zeroblob(length(body)) WHERE key = ?`, key)
	}))
	require.ErrorContains(t, s.Check(t.Context(), nil), "a.n")
	require.Len(t, all(t, s, "a.n", site.Number, 0, 1<<42, false), len(list)-int(count), "the rest can be read")
	damaged, err := s.Damaged(t.Context())
	require.NoError(t, err)
	require.EqualValues(t, 1, damaged, "and an alert can tell")
	used, err := s.DiskUsed()
	require.NoError(t, err)
	require.True(t, used > 0 && used <= 100)

	late := Reading{T: timeOf(key) + 1, Value: reading.Number(7)}
	require.NoError(t, s.Do(t.Context(), AddReadings("a.n", []Reading{late}, nil), AddReadings("b.n", []Reading{late},
		nil)))
	require.NoError(t, s.Seal(t.Context()))
	require.Equal(t, []Reading{late}, all(t, s, "a.n", site.Number, late.T, late.T+1, false))
	var aside int
	require.NoError(t, s.read.Get(&aside, `SELECT count FROM damaged WHERE key = ?`, key))
	require.EqualValues(t, count, aside, "set aside, not thrown away")
	require.NoError(t, s.Check(t.Context(), nil))
}

// Short blocks that are joined while somebody reads are read all the same, each reading once.
func TestBlocksAreJoinedUnderAReader(t *testing.T) {
	for _, share := range []int{0, 5, 2} { // of the readings, as a divisor: after none, a fifth, a half
		s := open(t, t.TempDir())
		thirtyDays(t, s)
		require.NoError(t, s.Seal(t.Context()))
		// a hole every three hours, each sealed
		for at := started + series.Hour; at < started+30*series.Day; at += 3 * series.Hour {
			require.NoError(t, s.Do(t.Context(), DropReadings("a.n", time.UnixMilli(at), time.UnixMilli(at+60_000))))
			require.NoError(t, s.Seal(t.Context()))
		}
		want := all(t, s, "a.n", site.Number, 0, 1<<42, false)
		var got []Reading
		for r, err := range s.Readings(t.Context(), "a.n", site.Number, time.UnixMilli(0), time.UnixMilli(1<<42), false) {
			require.NoError(t, err)
			if len(got) == len(want)/max(share, 1)%len(want) {
				fewer, err := s.Repack(t.Context(), "a.n")
				require.NoError(t, err)
				require.Greater(t, fewer, blocksAtOnce)
			}
			got = append(got, r)
		}
		require.Equal(t, len(want), len(got))
		require.Equal(t, want, got)
		require.NoError(t, s.Close())
	}
}
