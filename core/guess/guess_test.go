package guess

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

var start = time.Date(2026, 3, 2, 9, 0, 0, 0, time.UTC)

func TestWaitsGrowAndARightTryEndsThem(t *testing.T) {
	var b Book
	now := start
	for range free {
		assert.Zero(t, b.Try(now, "a"))
	}
	for _, wait := range []time.Duration{2, 4, 8, 16} {
		assert.Equal(t, wait*time.Second, b.Try(now, "a"))
		assert.Equal(t, wait*time.Second, b.Try(now, "x", "a"), "nothing is booked meanwhile")
		now = now.Add(wait * time.Second)
		assert.Zero(t, b.Try(now, "a"))
	}
	for range 30 {
		now = now.Add(longest)
		assert.Zero(t, b.Try(now, "a"))
	}
	assert.Equal(t, longest, b.Try(now, "a"))
	b.Right("a")
	assert.Zero(t, b.Try(now, "a"))
	assert.NotContains(t, b.of, "x")
}

func TestWhatWasNotJudgedDoesNotCount(t *testing.T) {
	var b Book
	for range 20 {
		assert.Zero(t, b.Try(start, "a"))
		b.Undo("a", "nobody")
	}
	assert.Empty(t, b.of)
}

func TestTheBookHasABound(t *testing.T) {
	var b Book
	for i := range most + 100 {
		b.Try(start.Add(time.Duration(i)), fmt.Sprint(i))
	}
	assert.LessOrEqual(t, len(b.of), most)
	assert.NotContains(t, b.of, "0", "the oldest goes")
	b.Try(start.Add(2*time.Hour), "later")
	assert.Len(t, b.of, 1)
}

// However many try at once, and whoever they are: of one key no more are let through than one after another would be.
func TestNoKeyIsTriedMoreOftenThanItMay(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var b Book
		now, let := start, map[string][]time.Time{}
		for range rapid.IntRange(1, 200).Draw(t, "tries") {
			now = now.Add(time.Duration(rapid.IntRange(0, 3000).Draw(t, "ms")) * time.Millisecond)
			keys := rapid.SliceOfNDistinct(rapid.SampledFrom([]string{"a", "b", "c"}), 1, 3, rapid.ID[string]).Draw(t, "keys")
			if b.Try(now, keys...) == 0 {
				for _, k := range keys {
					let[k] = append(let[k], now)
				}
			}
		}
		for _, list := range let {
			for i := free; i < len(list); i++ {
				assert.GreaterOrEqual(t, list[i].Sub(list[i-1]), min(longest, first<<min(i-free, 12)))
			}
		}
	})
}
