package series

import (
	"encoding/binary"
	"math"
	"math/bits"
)

// powers are the scales by which decimals become integers.
var powers = [...]float64{1, 10, 100, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9}

// mostScaled bounds scaled integers: up to here every integer is a float64.
const mostScaled = 1 << 53

// rounding is added to and taken from numbers to round them, as a double has 52 places after it.
const rounding = 3 << 51

// scaled fills ints with the values as integers of 10^-k, as far as that brings back exactly each, and returns how far.
func scaled(list []float64, ints []int64, k int) int {
	p := powers[k]
	ints = ints[:len(list)]
	for i, v := range list {
		n := v*p + rounding - rounding
		// far below zero the rounding leaves halves
		whole := int64(n)
		if math.Float64bits(float64(whole)/p) != math.Float64bits(v) || !(math.Abs(n) <= mostScaled) { // no number neither
			return i
		}
		ints[i] = whole
	}
	return len(list)
}

// decimals is the least k with which all values are integers of 10^-k; ints are these.
func decimals(list []float64, ints []int64) (k int, ok bool) {
	for done := 0; ; k++ {
		if k == len(powers) {
			return 0, false
		}
		// The one that did not fit is tried first: the others are worth the work only when it fits.
		if done < len(list) && scaled(list[done:done+1], ints[done:], k) == 0 {
			continue
		}
		if done = scaled(list, ints, k); done == len(list) {
			return k, true
		}
	}
}

// How values are written.
const (
	asRuns    = 0 // lengths of stretches of 0 and 1 in turn
	asScaled  = 1 // scaled integers
	asFloats  = 2 // differences of bit patterns
	asOptions = 3 // texts by dictionary
)

func appendValues(dst []byte, list []float64, work []int64) []byte {
	if runs, ok := appendRuns(nil, list); ok {
		return append(append(dst, asRuns), runs...)
	}
	k, ok := decimals(list, work)
	if !ok {
		return appendFloats(append(dst, asFloats), list)
	}
	first := work[0]
	g := divide(work)
	dst = append(dst, asScaled, byte(k))
	dst = binary.AppendUvarint(dst, uint64(g))
	dst = binary.AppendUvarint(dst, zigzag(first))
	return appendInts(dst, work)
}

// divide makes the integers their distance from the first in units of the greatest common divisor of all these, which
// it returns; it is 1 where they are all the same.
func divide(list []int64) int64 {
	first, g := list[0], int64(0)
	by := divisor{rest: -1} // divides 0 alone
	for i := 1; i < len(list) && g != 1; i++ {
		if _, ok := by.into(list[i] - first); !ok {
			g = gcd(g, max(list[i]-first, first-list[i]))
			by = divisorOf(g)
		}
	}
	if g <= 1 {
		for i := range list {
			list[i] -= first
		}
		return 1
	}
	for i, n := range list {
		list[i], _ = by.into(n - first)
	}
	return g
}

// divisor divides what it divides without a rest, by a multiplication: Granlund, Montgomery, "Division by invariant
// integers using multiplication", PLDI 1994, section 9.
type divisor struct {
	inverse, most int64 // of the odd part modulo 2^64; the largest quotient
	shift, rest   int64 // of the even part
}

func divisorOf(g int64) divisor {
	shift := int64(bits.TrailingZeros64(uint64(g)))
	odd := g >> shift
	inverse := odd // right in three places; each step doubles them
	for range 5 {
		inverse *= 2 - odd*inverse
	}
	return divisor{inverse, 2 * mostScaled / g, shift, 1<<shift - 1}
}

func (by *divisor) into(d int64) (q int64, ok bool) {
	q = d >> (by.shift & 63) * by.inverse
	return q, d&by.rest == 0 && uint64(q+by.most) <= uint64(2*by.most)
}

func gcd(a, b int64) int64 {
	for a != 0 {
		a, b = b%a, a
	}
	return b
}

// appendRuns writes zeros and ones as lengths of runs, where that is what the values are.
func appendRuns(dst []byte, list []float64) ([]byte, bool) {
	if b := math.Float64bits(list[0]); b != 0 && list[0] != 1 {
		return nil, false
	}
	dst = append(dst, byte(list[0]))
	length, is := uint64(0), list[0]
	for _, v := range list {
		switch {
		case math.Float64bits(v) == math.Float64bits(is):
			length++
		case math.Float64bits(v) == 0 || v == 1:
			dst = binary.AppendUvarint(dst, length)
			length, is = 1, v
		default:
			return nil, false
		}
	}
	return binary.AppendUvarint(dst, length), true
}

func (r *reader) values(out []float64, work []int64) {
	switch r.byte() {
	case asRuns:
		is := float64(r.byte() & 1)
		for len(out) > 0 && !r.broken {
			n := r.count(len(out))
			if n == 0 {
				r.broken = true
			}
			for i := range out[:n] {
				out[i] = is
			}
			out, is = out[n:], 1-is
		}
	case asScaled:
		k := int(r.byte())
		g, first := int64(r.uvarint()), unzigzag(r.uvarint())
		r.ints(work)
		if k >= len(powers) || r.broken {
			r.broken = true
			return
		}
		p := powers[k]
		if k == 0 {
			for i, m := range work {
				out[i] = float64(first + g*m)
			}
			return
		}
		for i, m := range work {
			out[i] = float64(first+g*m) / p
		}
	case asFloats:
		r.floats(out)
	default:
		r.broken = true
	}
}

// appendFloats writes each value as the difference of its bits to the one before: Pelkonen et al., "Gorilla: a fast,
// scalable, in-memory time series database", VLDB 2015, section 4.1.2.
func appendFloats(dst []byte, list []float64) []byte {
	w := bitWriter{b: dst}
	prev := math.Float64bits(list[0])
	w.put(prev, 64)
	lead, length := 0, 0
	for _, v := range list[1:] {
		x := math.Float64bits(v) ^ prev
		prev ^= x
		if x == 0 {
			w.put(0, 1)
			continue
		}
		l := min(bits.LeadingZeros64(x), 31)
		t := bits.TrailingZeros64(x)
		if length > 0 && l >= lead && t >= 64-lead-length {
			w.put(0b01, 2)
			w.put(x>>(64-lead-length), length)
			continue
		}
		lead, length = l, 64-l-t
		w.put(0b11, 2)
		w.put(uint64(lead), 5)
		w.put(uint64(length-1), 6)
		w.put(x>>t, length)
	}
	return w.end()
}

func (r *reader) floats(out []float64) {
	b := bitReader{r: r}
	prev := b.get(64)
	lead, length := 0, 0
	for i := range out {
		if i > 0 && b.get(1) == 1 {
			if b.get(1) == 1 {
				lead, length = int(b.get(5)), int(b.get(6))+1
			}
			if lead+length > 64 || length == 0 || r.broken {
				r.broken = true
				return
			}
			prev ^= b.get(length) << (64 - lead - length)
		}
		out[i] = math.Float64frombits(prev)
	}
	r.at += (b.bit + 7) / 8
	r.broken = r.broken || r.at > len(r.b)
}

// bitWriter appends bits, the lowest first.
type bitWriter struct {
	b    []byte
	acc  uint64
	have int
}

func (w *bitWriter) put(v uint64, n int) {
	for n > 0 {
		take := min(n, 64-w.have)
		w.acc |= v << w.have
		if take < 64 {
			v >>= take
		}
		w.have, n = w.have+take, n-take
		if w.have == 64 {
			w.b = binary.LittleEndian.AppendUint64(w.b, w.acc)
			w.acc, w.have = 0, 0
		}
	}
}

func (w *bitWriter) end() []byte {
	for ; w.have > 0; w.have -= 8 {
		w.b = append(w.b, byte(w.acc))
		w.acc >>= 8
	}
	return w.b
}

// bitReader reads bits from where its reader stands.
type bitReader struct {
	r   *reader
	bit int
}

func (b *bitReader) get(n int) uint64 {
	if b.r.at*8+b.bit+n > len(b.r.b)*8 {
		b.r.broken = true
		return 0
	}
	v := bitsAt(b.r.b[b.r.at:], b.bit, n)
	b.bit += n
	return v
}
