// Package packed reads what was packed into bytes and may be damaged: past the end everything is zero, and Broken tells
// of it.
package packed

import (
	"encoding/binary"
	"math"
)

// Reader takes from the front of B.
type Reader struct {
	B      []byte
	Broken bool // it was asked for more than there is, or for what is no number
}

// Take takes n bytes; of what is not there it gives up to eight zeros.
func (r *Reader) Take(n uint64) []byte {
	if n > uint64(len(r.B)) {
		r.B, r.Broken = nil, true
		return make([]byte, min(n, 8))
	}
	out := r.B[:n]
	r.B = r.B[n:]
	return out
}

// Byte takes one byte.
func (r *Reader) Byte() byte { return r.Take(1)[0] }

// Uvarint takes a number of variable length, as encoding/binary has it.
func (r *Reader) Uvarint() uint64 {
	v, n := binary.Uvarint(r.B)
	r.Take(uint64(max(n, 0)))
	r.Broken = r.Broken || n <= 0
	return v
}

// Varint takes one that may be negative.
func (r *Reader) Varint() int64 {
	v, n := binary.Varint(r.B)
	r.Take(uint64(max(n, 0)))
	r.Broken = r.Broken || n <= 0
	return v
}

// Float takes the eight bytes of a number.
func (r *Reader) Float() float64 {
	return math.Float64frombits(binary.LittleEndian.Uint64(r.Take(8)))
}

// Text takes a text that stands behind its length.
func (r *Reader) Text() string { return string(r.Take(r.Uvarint())) }
