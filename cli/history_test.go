package cli

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
)

// What is drawn goes by time, whenever readings came.
func TestOverTime(t *testing.T) {
	nan := math.NaN()
	for name, x := range map[string]struct {
		t    []int64
		v    []float64
		hold int64
		gaps [][]int64
		want []float64
	}{
		"many at first, one at last": {[]int64{0, 1, 2, 3, 90}, []float64{1, 1, 1, 1, 5}, 0, nil, []float64{1, 1, 1, 1, 1, 1,
			1, 1, 1, 5}},
		"it holds for a time": {[]int64{0, 50}, []float64{1, 2}, 20, nil, []float64{1, 1, nan, nan, nan, 2, 2, nan,
			nan, nan}},
		"a gap": {[]int64{0, 80}, []float64{1, 2}, 0, [][]int64{{20, 80}}, []float64{1, 1, nan, nan, nan,
			nan, nan, nan, 2, 2}},
		"what held before": {[]int64{-30, 55}, []float64{4, 6}, 0, nil, []float64{4, 4, 4, 4, 4, 6, 6, 6, 6, 6}},
		"several in one step": {[]int64{42, 44, 48}, []float64{1, 2, 6}, 5, nil, []float64{nan, nan, nan, nan, 3, nan,
			nan, nan, nan, nan}},
		"none": {nil, nil, 0, nil, []float64{nan, nan, nan, nan, nan, nan, nan, nan, nan, nan}},
	} {
		got := overTime(x.t, x.v, x.hold, x.gaps, 0, 100, 10)
		for i := range got {
			if math.IsNaN(x.want[i]) {
				assert.True(t, math.IsNaN(got[i]), "%s: %v", name, got)
			} else {
				assert.InDelta(t, x.want[i], got[i], 1e-9, "%s: %v", name, got)
			}
		}
	}
	assert.Equal(t, true, valueFrom("ON"))
	assert.Equal(t, false, valueFrom("Off "))
	assert.Equal(t, 40.0, valueFrom("40 %"))
	assert.Equal(t, "Eco", valueFrom("Eco"))
}
