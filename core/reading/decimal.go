package reading

import "math"

var powers = [8]float64{1, 10, 100, 1e3, 1e4, 1e5, 1e6, 1e7}

// Decimal finds a short decimal n / 10^k, with k up to 7, that is exactly v.
func Decimal(v float64) (k int, n int64, ok bool) {
	if !(v > -1e9 && v < 1e9) {
		return 0, 0, false
	}
	for k, p := range powers {
		n := int64(math.Floor(v*p + 0.5))
		if math.Float64bits(float64(n)/p) == math.Float64bits(v) {
			return k, n, true
		}
	}
	return 0, 0, false
}

// FromDecimal is the inverse of Decimal; of a k that it never gives it is NaN.
func FromDecimal(k int, n int64) float64 {
	if k < 0 || k >= len(powers) {
		return math.NaN()
	}
	return float64(n) / powers[k]
}
