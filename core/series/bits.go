package series

import (
	"encoding/binary"
	"math/bits"
)

// group is how many integers are packed with one width.
const group = 128

// How a group is packed.
const (
	plainGroup = 0 // base, then what each is above it
	deltaGroup = 1 // first, least difference, then what each difference is above that
)

func zigzag(n int64) uint64   { return uint64(n<<1) ^ uint64(n>>63) }
func unzigzag(u uint64) int64 { return int64(u>>1) ^ -int64(u&1) }

// varintLen is how many bytes the zigzag varint of n takes.
func varintLen(n int64) int { return (bits.Len64(zigzag(n)|1) + 6) / 7 }

// appendInts packs integers in groups by frame of reference, each group plain or as differences, whichever is shorter
// (Goldstein, Ramakrishnan, Shaft, "Compressing Relations and Indexes", ICDE 1998; Lemire, Boytsov, "Decoding billions
// of integers per second through vectorization", Software: Practice and Experience 45, 2015). How many there are is
// known elsewhere.
func appendInts(dst []byte, list []int64) []byte {
	for len(list) > 0 {
		n := min(group, len(list))
		dst = appendGroup(dst, list[:n])
		list = list[n:]
	}
	return dst
}

func appendGroup(dst []byte, g []int64) []byte {
	same := 1
	for same < len(g) && g[same] == g[0] {
		same++
	}
	if same == len(g) {
		return binary.AppendUvarint(append(dst, plainGroup), zigzag(g[0]))
	}
	low, high := g[0], g[0]
	lowDelta, highDelta := g[1]-g[0], g[1]-g[0]
	prev := g[0]
	for _, v := range g[1:] {
		low, high = min(low, v), max(high, v)
		d := v - prev
		lowDelta, highDelta = min(lowDelta, d), max(highDelta, d)
		prev = v
	}
	width, deltaWidth := bits.Len64(uint64(high-low)), bits.Len64(uint64(highDelta-lowDelta))
	plain := varintLen(low) + (width*len(g)+7)/8
	delta := varintLen(g[0]) + varintLen(lowDelta) + (deltaWidth*(len(g)-1)+7)/8
	if delta >= plain {
		dst = append(dst, byte(width)<<1|plainGroup)
		dst = binary.AppendUvarint(dst, zigzag(low))
		return pack(dst, g, low, width)
	}
	dst = append(dst, byte(deltaWidth)<<1|deltaGroup)
	dst = binary.AppendUvarint(dst, zigzag(g[0]))
	dst = binary.AppendUvarint(dst, zigzag(lowDelta))
	var deltas [group]int64
	for i, v := range g[1:] {
		deltas[i&(group-1)] = v - g[i]
	}
	return pack(dst, deltas[:len(g)-1], lowDelta, deltaWidth)
}

// pack appends the lowest width bits of what each is above base, the first in the lowest bits of the first byte.
func pack(dst []byte, list []int64, base int64, width int) []byte {
	if width == 0 {
		return dst
	}
	var acc uint64
	have := 0
	for _, n := range list {
		v := uint64(n - base)
		acc |= v << (have & 63)
		if have += width; have >= 64 {
			dst = binary.LittleEndian.AppendUint64(dst, acc)
			have -= 64
			acc = v >> (width - have) // all of it is written where that is the whole width: a shift by 64 gives 0
		}
	}
	for ; have > 0; have -= 8 {
		dst = append(dst, byte(acc))
		acc >>= 8
	}
	return dst
}

// ints unpacks as many integers as out holds.
func (r *reader) ints(out []int64) {
	for len(out) > 0 && !r.broken {
		n := min(group, len(out))
		r.group(out[:n])
		out = out[n:]
	}
}

func (r *reader) group(out []int64) {
	head := r.byte()
	width := int(head >> 1)
	if width > 64 {
		r.broken = true
		return
	}
	if head&1 == plainGroup {
		r.unpack(out, width, unzigzag(r.uvarint()))
		return
	}
	first, least := unzigzag(r.uvarint()), unzigzag(r.uvarint())
	out[0] = first
	r.unpack(out[1:], width, least)
	for i := 1; i < len(out); i++ {
		out[i] += out[i-1]
	}
}

// unpack reads integers of width bits and adds base to each.
func (r *reader) unpack(out []int64, width int, base int64) {
	size := (width*len(out) + 7) / 8
	if size > len(r.b)-r.at {
		r.broken = true
		return
	}
	src := r.b[r.at:] // what comes after is loaded too, and masked away
	r.at += size
	if width == 0 {
		for i := range out {
			out[i] = base
		}
		return
	}
	i := 0
	if width <= 56 {
		mask := uint64(1)<<width - 1
		bit := 0
		fits := out[:min(len(out), max(0, (len(src)-8)*8/width))]
		for ; i < len(fits); i++ {
			fits[i] = base + int64(binary.LittleEndian.Uint64(src[bit>>3:])>>(bit&7)&mask)
			bit += width
		}
	}
	for ; i < len(out); i++ { // the last ones, and very wide ones, byte by byte
		out[i] = base + int64(bitsAt(src, i*width, width))
	}
}

func bitsAt(src []byte, at, width int) (v uint64) {
	for got := 0; got < width; {
		b, off := src[(at+got)>>3], (at+got)&7
		n := min(8-off, width-got)
		v |= uint64(b>>off) & (1<<n - 1) << got
		got += n
	}
	return v
}

// reader reads a block. What is not there sets broken, and zeros come back.
type reader struct {
	b      []byte
	at     int
	broken bool
}

func (r *reader) byte() byte {
	if r.at >= len(r.b) {
		r.broken = true
		return 0
	}
	r.at++
	return r.b[r.at-1]
}

func (r *reader) uvarint() uint64 {
	v, n := binary.Uvarint(r.b[min(r.at, len(r.b)):])
	if n <= 0 {
		r.broken = true
		return 0
	}
	r.at += n
	return v
}

// count reads a number that cannot be larger than most.
func (r *reader) count(most int) int {
	v := r.uvarint()
	if v > uint64(most) {
		r.broken = true
		return 0
	}
	return int(v)
}

func (r *reader) bytes(n int) []byte {
	if n > len(r.b)-r.at {
		r.broken = true
		return make([]byte, n)
	}
	r.at += n
	return r.b[r.at-n : r.at]
}
