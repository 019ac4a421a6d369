package due

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Whatever goes in comes out by its time, what is due together in the order in which it came.
func TestWhatIsDueComesInOrder(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var q Queue[int]
		var model [][2]int // time, number
		for range rapid.IntRange(0, 60).Draw(t, "steps") {
			if len(model) > 0 && rapid.Bool().Draw(t, "pop") {
				first := slices.MinFunc(model, func(a, b [2]int) int { return slices.Compare(a[:], b[:]) })
				at, ok := q.Next()
				require.True(t, ok)
				require.Equal(t, time.Duration(first[0]), at)
				at, seq, x := q.Pop()
				require.Equal(t, first, [2]int{int(at), x})
				require.EqualValues(t, first[1], seq)
				model = slices.DeleteFunc(model, func(m [2]int) bool { return m == first })
			} else {
				at := rapid.IntRange(0, 9).Draw(t, "at")
				n := int(q.Push(time.Duration(at), int(q.count)+1))
				model = append(model, [2]int{at, n})
			}
			require.Equal(t, len(model), q.Len())
		}
		_, ok := q.Next()
		require.Equal(t, len(model) > 0, ok)
	})
}
