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

// scaled returns v as an integer of 10^-k, where that brings back exactly v.
func scaled(v float64, k int) (int64, bool) {
	x := v * powers[k]
	if !(x > -mostScaled && x < mostScaled) {
		return 0, false
	}
	n := int64(math.Floor(x + 0.5))
	return n, math.Float64bits(float64(n)/powers[k]) == math.Float64bits(v)
}

// decimals is the least k with which all values are integers of 10^-k; ints are these.
func decimals(list []float64, ints []int64) (k int, ok bool) {
	for i, v := range list {
		n, fits := scaled(v, k)
		for !fits {
			if k++; k == len(powers) {
				return 0, false
			}
			n, fits = scaled(v, k)
			if !fits {
				continue
			}
			for j := range ints[:i] { // the earlier ones are that much larger integers now
				var still bool
				if ints[j], still = scaled(list[j], k); !still {
					return 0, false
				}
			}
		}
		ints[i] = n
	}
	return k, true
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
	first, g := work[0], int64(0)
	for _, n := range work {
		if d := n - first; g != 1 && d != 0 {
			g = gcd(g, max(d, -d))
		}
	}
	g = max(g, 1)
	for i := range work {
		work[i] -= first
		if g > 1 {
			work[i] /= g
		}
	}
	dst = append(dst, asScaled, byte(k))
	dst = binary.AppendUvarint(dst, uint64(g))
	dst = binary.AppendUvarint(dst, zigzag(first))
	return appendInts(dst, work)
}

func gcd(a, b int64) int64 {
	if a != 0 && b%a == 0 {
		return a
	}
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
