package store

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/core/reading"
)

// What was recorded goes by its age, and where it is too much by its size; over a start too.
func TestRecordedInputsAreBounded(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := open(t, dir)
	defer func() { _ = s.Close() }()
	at := time.UnixMilli(1_790_000_000_000)
	for i := range 100 {
		when := at.Add(time.Duration(i) * time.Minute)
		require.NoError(t, s.Do(t.Context(), AddInputs(when, make([]byte, 1000)), AddReading("a.n",
			Reading{T: when.UnixMilli(), Value: reading.Number(float64(i))}, nil)))
	}
	again := 0
	recorded := func() int {
		list, err := s.Inputs(t.Context(), time.Time{})
		require.NoError(t, err)
		return len(list)
	}
	prune := func(before time.Time, most int64) {
		require.NoError(t, s.Do(t.Context(), PruneTape(before, most, func() { again++ })))
	}
	prune(at.Add(50*time.Minute), 1<<30)
	assert.Equal(t, 100, recorded(), "nothing of it is in blocks yet")
	require.NoError(t, s.Seal(t.Context()))
	full := s.TapeBytes()
	assert.InDelta(t, 102_000, full, 3000)
	prune(at, full)
	assert.Equal(t, 100, recorded())
	prune(at.Add(40*time.Minute), full)
	assert.Equal(t, 60, recorded())
	assert.InDelta(t, full*60/100, s.TapeBytes(), 100)

	require.NoError(t, s.Close())
	s = open(t, dir)
	require.Eventually(t, func() bool { return s.TapeBytes() > 0 }, 5*time.Second, time.Millisecond)
	assert.InDelta(t, full*60/100, s.TapeBytes(), 100)
	prune(at, 10_500)
	assert.Equal(t, 10, recorded(), "the newest stay")
	assert.Zero(t, again)
	var many []Change
	for range pruneAtOnce + 10 { // as many commits as a flood makes in half a minute
		many = append(many, func(w *Tx) error {
			w.seq++
			return w.exec(`INSERT INTO log (seq, at_ms, readings, inputs) VALUES (?, ?, NULL, x'00')`, w.seq, at.UnixMilli())
		})
	}
	require.NoError(t, s.Do(t.Context(), many...))
	require.NoError(t, s.Do(t.Context(), AddReading("a.n", Reading{T: at.Add(time.Hour * 99).UnixMilli(),
		Value: reading.Number(1)}, nil)))
	require.NoError(t, s.Seal(t.Context()))
	prune(at.Add(time.Hour*90), 1<<30)
	assert.Equal(t, 1, again, "there is more to let go")
	prune(at.Add(time.Hour*90), 1<<30)
	assert.Equal(t, 1, again)
	assert.Zero(t, recorded())
	assert.Len(t, all(t, s, "a.n", "number", 0, 1<<42, false), 101)
}
