package store

import (
	"bufio"
	"context"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"slices"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"idleember/core/reading"
	"idleember/core/series"
	"idleember/core/site"
	"idleember/tests"
)

// step is the n-th thing that the process under test does to a series: all of it follows from n.
func step(n int) (put []Reading, drop *series.Span, seal bool) {
	rng := rand.New(rand.NewPCG(uint64(n), 11))
	base := int64(1_790_000_000_000)
	switch kind := rng.IntN(10); {
	case kind < 2:
		return nil, nil, true
	case kind == 2:
		from := base + rng.Int64N(int64(n+1)*2_000_000)
		return nil, &series.Span{From: from, To: from + rng.Int64N(3*series.Hour)}, false
	}
	at := base + int64(n)*2_000_000
	if rng.IntN(4) == 0 { // late
		at = base + rng.Int64N(int64(n+1)*2_000_000)
	}
	for range 1 + rng.IntN(900) {
		at += 1000 + rng.Int64N(3000)
		put = append(put, Reading{T: at, Value: reading.Number(float64(rng.IntN(900)) / 10)})
	}
	return put, nil, false
}

func change(s *Store, n int) error {
	put, drop, seal := step(n)
	ctx := context.Background()
	switch {
	case seal:
		return s.Seal(ctx)
	case drop != nil:
		return s.Do(ctx, DropReadings("a.n", time.UnixMilli(drop.From), time.UnixMilli(drop.To)))
	}
	return s.Do(ctx, AddReadings("a.n", put, nil))
}

// TestChild is the process under test: it goes on from where it is told to, and tells when a step is done.
func TestChild(t *testing.T) {
	dir := os.Getenv("IDLEEMBER_CHILD")
	if dir == "" {
		t.Skip("it is run by TestKilledWhileSealing")
	}
	n, err := strconv.Atoi(os.Getenv("IDLEEMBER_FROM"))
	require.NoError(t, err)
	s := open(t, dir)
	for ; ; n++ {
		require.NoError(t, change(s, n))
		fmt.Printf("done %d\n", n)
	}
}

// A process is killed at random moments while it writes, seals and deletes. What was done is there, nothing else is,
// and all sums are right.
func TestKilledWhileSealing(t *testing.T) {
	dir := t.TempDir()
	plain := map[int64]Reading{}
	apply := func(n int) {
		put, drop, _ := step(n)
		for _, r := range put {
			plain[r.T] = r
		}
		if drop != nil {
			maps.DeleteFunc(plain, func(at int64, _ Reading) bool { return at >= drop.From && at < drop.To })
		}
	}
	rng := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 1))
	n := 0
	for range tests.Count(t, 10, 400) {
		cmd := exec.Command(os.Args[0], "-test.run", "^TestChild$")
		cmd.Env = append(os.Environ(), "IDLEEMBER_CHILD="+dir, "IDLEEMBER_FROM="+strconv.Itoa(n))
		out, err := cmd.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, cmd.Start())
		lines := bufio.NewScanner(out)
		require.True(t, lines.Scan(), "it began")
		time.AfterFunc(time.Duration(rng.IntN(200_000))*time.Microsecond, func() { _ = cmd.Process.Kill() })
		for ok := true; ok; ok = lines.Scan() {
			var at int
			if k, _ := fmt.Sscanf(lines.Text(), "done %d", &at); k == 1 {
				for ; n <= at; n++ {
					apply(n)
				}
			}
		}
		_ = cmd.Wait()

		s := open(t, dir)
		require.NoError(t, s.Check(t.Context(), nil))
		got := all(t, s, "a.n", site.Number, 0, 1<<42, false)
		same := func() bool {
			if len(got) != len(plain) {
				return false
			}
			for i, at := range slices.Sorted(maps.Keys(plain)) {
				if got[i] != plain[at] {
					return false
				}
			}
			return true
		}
		if !same() { // the step that was under way may be done, but not by half
			apply(n)
			n++
			require.True(t, same(), "after %d steps", n)
		}
		require.NoError(t, s.Seal(t.Context()))
		require.NoError(t, s.Check(t.Context(), nil))
		require.NoError(t, s.Close())
	}
	t.Logf("%d steps", n)
}
