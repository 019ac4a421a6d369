package series

import (
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"math"
	"math/bits"
	"slices"

	"idleember/core/site"
)

// MostReadings is how many readings a block can hold.
const MostReadings = 1 << 16

// ErrDamaged says that a block is not what was written.
var ErrDamaged = errors.New("the block is damaged")

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

const (
	blockVersion = 1
	hasQuality   = 1 << 0
	hasRaw       = 1 << 1
	isOnOff      = 1 << 2
	isText       = 1 << 3
)

// Codec encodes and decodes blocks; it holds memory to work in, and is for one goroutine. Its zero value is ready. The
// format is written down in docs/series.md.
type Codec struct {
	ints    []int64
	scratch []byte
	dict    map[string]int64
}

func (c *Codec) work(n int) []int64 {
	if cap(c.ints) < n {
		c.ints = make([]int64, n)
	}
	return c.ints[:n]
}

// Encode appends the block of some readings to dst. It panics where there are none or too many, or times are out of
// order.
func (c *Codec) Encode(dst []byte, cols *Columns) []byte {
	n := cols.Len()
	if n == 0 || n > MostReadings {
		panic(fmt.Sprintf("series: a block of %d readings", n))
	}
	begin := len(dst)
	flags := byte(0)
	for flag, is := range map[byte]bool{hasQuality: cols.Q != nil, hasRaw: cols.Raw != nil,
		isOnOff: cols.Kind == site.OnOff, isText: cols.Kind == site.Text} {
		if is {
			flags |= flag
		}
	}
	dst = append(dst, blockVersion, flags)
	dst = binary.AppendUvarint(dst, uint64(n))
	a := c.work(n)
	dst = c.appendTimes(dst, cols.T, a)
	if cols.Kind == site.Text {
		dst = c.appendTexts(append(dst, asOptions), cols.Text, a)
	} else {
		dst = appendValues(dst, cols.V, a)
	}
	if cols.Q != nil {
		dst = appendLevels(dst, cols.Q)
	}
	if cols.Raw != nil {
		dst = appendRaw(dst, cols.Raw, a)
	}
	return binary.LittleEndian.AppendUint32(dst, crc32.Checksum(dst[begin:], castagnoli))
}

// Decode reads a block into cols, whose memory is used again. The error is ErrDamaged.
func (c *Codec) Decode(cols *Columns, block []byte) error {
	if len(block) < 8 || crc32.Checksum(block[:len(block)-4],
		castagnoli) != binary.LittleEndian.Uint32(block[len(block)-4:]) {
		return ErrDamaged
	}
	r := &reader{b: block[:len(block)-4]}
	version, flags := r.byte(), r.byte()
	n := r.count(MostReadings)
	if version != blockVersion || n == 0 || r.broken {
		return ErrDamaged
	}
	a := c.work(n)
	cols.T = slices.Grow(cols.T[:0], n)[:n]
	cols.Kind, cols.Text, cols.Q, cols.Raw = site.Number, nil, nil, nil
	r.times(cols.T, a)
	switch {
	case flags&isText != 0:
		cols.Kind, cols.V = site.Text, cols.V[:0]
		cols.Text = make([]string, n)
		r.texts(cols.Text, a)
	default:
		if flags&isOnOff != 0 {
			cols.Kind = site.OnOff
		}
		cols.V = slices.Grow(cols.V[:0], n)[:n]
		r.values(cols.V, a)
	}
	if flags&hasQuality != 0 {
		cols.Q = make([]byte, n)
		r.levels(cols.Q)
	}
	if flags&hasRaw != 0 {
		cols.Raw = make([]float64, n)
		r.raw(cols.Raw, a)
	}
	if r.broken || r.at != len(r.b) {
		return ErrDamaged
	}
	return nil
}

// gridBits are the binary places of the step of a time grid.
const gridBits = 8

// Times are either what they are off an even grid, with the grid's steps that were left out listed beside, or
// differences.
const (
	onGrid    = 0
	byDeltas  = 1
	sampleFor = 64 // differences that are looked at for the grid's step
)

func (c *Codec) appendTimes(dst []byte, t []int64, deltas []int64) []byte {
	dst = binary.AppendUvarint(dst, zigzag(t[0]))
	before := t[0]
	for _, at := range t[1:] {
		if at <= before {
			panic("series: times out of order")
		}
		before = at
	}
	begin := len(dst)
	gridded, ok := c.appendGrid(append(dst, onGrid), t)
	if ok && len(gridded)-begin <= 3+len(t)/16 { // nothing is going to be shorter
		return gridded
	}
	for i, until := range t[1:] {
		deltas[i] = until - t[i]
	}
	c.scratch = appendInts(append(c.scratch[:0], byDeltas), deltas[:len(t)-1])
	if ok && len(gridded)-begin <= len(c.scratch) {
		return gridded
	}
	return append(dst[:begin], c.scratch...)
}

// appendGrid writes how far each time is off t0 + i*step, after the steps that were left out. The step is fitted to
// all.
func (c *Codec) appendGrid(dst []byte, t []int64) ([]byte, bool) {
	if len(t) < 3 {
		return nil, false
	}
	var sample [sampleFor]int64
	deltas := len(t) - 1
	n := min(deltas, sampleFor)
	for i := range n {
		at := i * deltas / n
		sample[i] = t[at+1] - t[at]
	}
	slices.Sort(sample[:n])
	step := float64(sample[n/2])
	span := t[len(t)-1] - t[0]
	steps := math.Floor(float64(span)/step + 0.5)
	if steps < 1 || steps > 1e9 {
		return nil, false
	}
	fine := int64(math.Floor(float64(span)*(1<<gridBits)/steps + 0.5)) // in 1/256 ms
	if bits.Len64(uint64(fine))+bits.Len64(uint64(steps)) > 62 {
		return nil, false
	}
	inverse := (1 << gridBits) / float64(fine)
	var skips []byte
	skipped, last := 0, 0
	scaled := int64(0) // how far the next step is from t0, in 1/256 ms
	packed := c.scratch[:0]
	var off [group]int64
	for from := 0; from < len(t); from += group {
		part := t[from:min(from+group, len(t))]
		for j := 0; j < len(part); j++ {
			n := offSteps(part[j:], off[j:], t[0], scaled, fine)
			scaled += int64(n) * fine
			if j += n; j == len(part) {
				break
			}
			next := int64(float64(part[j]-t[0])*inverse + 0.5)
			if extra := next - scaled/fine; extra != 0 {
				skips = binary.AppendUvarint(skips, uint64(from+j-last))
				skips = binary.AppendUvarint(skips, zigzag(extra))
				skipped, last = skipped+1, from+j
				if skipped > len(t)/8 {
					return nil, false
				}
				scaled = next * fine
			}
			off[j] = part[j] - t[0] - scaled>>gridBits
			scaled += fine
		}
		packed = appendGroup(packed, off[:len(part)])
	}
	c.scratch = packed
	dst = binary.AppendUvarint(dst, uint64(fine))
	dst = binary.AppendUvarint(dst, uint64(skipped))
	dst = append(dst, skips...)
	return append(dst, packed...), true
}

// offSteps fills off with how far times are off steps, until one is nearer to another step, and returns how many it
// filled.
func offSteps(t, off []int64, t0, scaled, fine int64) int {
	half := fine >> (gridBits + 1)
	off = off[:len(t)]
	for i, at := range t {
		off[i] = at - t0 - scaled>>gridBits
		if uint64(off[i]+half) > uint64(2*half) {
			return i
		}
		scaled += fine
	}
	return len(t)
}

func (r *reader) times(out []int64, work []int64) {
	t0 := unzigzag(r.uvarint())
	switch r.byte() {
	case onGrid:
		fine := int64(r.uvarint())
		skipped := r.count(len(out))
		list := *r
		for range 2 * skipped {
			r.uvarint()
		}
		r.ints(out)
		r.broken = r.broken || !onto(out, t0, fine, &list, skipped)
	case byDeltas:
		out[0] = t0
		r.ints(work[:len(out)-1])
		for i, d := range work[:len(out)-1] {
			out[i+1] = out[i] + d
		}
	default:
		r.broken = true
	}
}

// onto adds the grid to what times are off it. It reports whether the steps that were left out make sense.
func onto(out []int64, t0, fine int64, skips *reader, skipped int) bool {
	g, from, last := int64(0), 0, 0
	for s := range skipped + 1 {
		until, extra := len(out), int64(0)
		if s < skipped {
			last += skips.count(len(out))
			until, extra = last, unzigzag(skips.uvarint())
		}
		if until < from || until > len(out) || skips.broken {
			return false
		}
		scaled := g * fine
		for i := range out[from:until] {
			out[from+i] += t0 + scaled>>gridBits
			scaled += fine
		}
		g += int64(until-from) + extra
		from = until
	}
	return true
}

func (c *Codec) appendTexts(dst []byte, list []string, work []int64) []byte {
	if c.dict == nil {
		c.dict = map[string]int64{}
	}
	clear(c.dict)
	var words []string
	for i, s := range list {
		k, ok := c.dict[s]
		if !ok {
			k = int64(len(words))
			c.dict[s], words = k, append(words, s)
		}
		work[i] = k
	}
	dst = binary.AppendUvarint(dst, uint64(len(words)))
	for _, s := range words {
		dst = append(binary.AppendUvarint(dst, uint64(len(s))), s...)
	}
	return appendInts(dst, work[:len(list)])
}

func (r *reader) texts(out []string, work []int64) {
	if r.byte() != asOptions {
		r.broken = true
		return
	}
	words := make([]string, r.count(len(out)))
	for i := range words {
		words[i] = string(r.bytes(r.count(len(r.b))))
	}
	r.ints(work)
	for i, k := range work {
		if k < 0 || k >= int64(len(words)) {
			r.broken = true
			return
		}
		out[i] = words[k]
	}
}

// appendLevels writes small numbers as runs.
func appendLevels(dst []byte, list []byte) []byte {
	for i := 0; i < len(list); {
		j := i
		for j < len(list) && list[j] == list[i] {
			j++
		}
		dst = binary.AppendUvarint(append(dst, list[i]), uint64(j-i))
		i = j
	}
	return dst
}

func (r *reader) levels(out []byte) {
	for len(out) > 0 && !r.broken {
		q := r.byte()
		n := r.count(len(out))
		if n == 0 {
			r.broken = true
		}
		for i := range out[:n] {
			out[i] = q
		}
		out = out[n:]
	}
}

// appendRaw writes raw numbers: which readings have one, then those.
func appendRaw(dst []byte, list []float64, work []int64) []byte {
	has, only := make([]byte, len(list)), make([]float64, 0, len(list))
	for i, v := range list {
		if v == v {
			has[i], only = 1, append(only, v)
		}
	}
	dst = appendLevels(dst, has)
	if len(only) == 0 {
		return dst
	}
	return appendValues(dst, only, work[:len(only)])
}

func (r *reader) raw(out []float64, work []int64) {
	has := make([]byte, len(out))
	r.levels(has)
	n := 0
	for _, h := range has {
		n += int(h & 1)
	}
	only := make([]float64, n)
	if n > 0 {
		r.values(only, work[:n])
	}
	for i, h := range has {
		out[i] = math.NaN()
		if h&1 == 1 {
			out[i], only = only[0], only[1:]
		}
	}
}
