package series

import (
	"encoding/binary"
	"hash/crc32"
	"math"

	"idleember/core/reading"
	"idleember/core/site"
)

// Hour is the width of a cell in milliseconds, Day that of a row of cells.
const (
	Hour = 3600_000
	Day  = 24 * Hour
)

// Cell sums up the readings of an hour, bad ones left out, so that wide buckets need not look at each of them.
type Cell struct {
	At            int64 // its beginning, a whole hour in Unix milliseconds
	Count         int
	Min, Max, Sum float64
	FirstT, LastT int64
	First, Last   float64
	Area          float64 // values times milliseconds, from the first to the last
	OnMS          int64   // milliseconds at a value other than 0, from the first to the last
	Gap           int64   // the longest time between two neighbours, in milliseconds

	hugeSum, hugeArea float64 // of values beyond huge, times scale; they do not count in Sum and Area
}

// Sums of values near the largest number are made of small parts of them, so that they stay numbers. A power of two
// changes no digit, and neither that many readings nor that many milliseconds come together.
const scale, huge = 0x1p-40, 1e280

func (c *Cell) add(t int64, v float64) {
	if c.Count == 0 {
		c.Min, c.Max, c.First, c.FirstT = v, v, v, t
	} else {
		d := t - c.LastT
		if c.Last > huge || c.Last < -huge {
			c.hugeArea += c.Last * scale * float64(d)
		} else {
			c.Area += c.Last * float64(d)
		}
		if c.Last != 0 {
			c.OnMS += d
		}
		c.Gap = max(c.Gap, d)
		c.Min, c.Max = min(c.Min, v), max(c.Max, v)
	}
	c.Count++
	if v > huge || v < -huge {
		c.hugeSum += v * scale
	} else {
		c.Sum += v
	}
	c.Last, c.LastT = v, t
}

// settle rounds sums of decimals to the decimals that they would be without the errors of floating point, which also
// makes them short to write.
func (c *Cell) settle() { c.Sum, c.Area = decimal(c.Sum), decimal(c.Area) }

// saturate adds the huge values to what is written of an hour, as far as a number holds them.
func (c *Cell) saturate() {
	join := func(v, part float64) float64 {
		if part == 0 {
			return v
		}
		return math.Max(-math.MaxFloat64, math.Min(math.MaxFloat64, v+part/scale))
	}
	c.Sum, c.Area = join(c.Sum, c.hugeSum), join(c.Area, c.hugeArea)
	c.hugeSum, c.hugeArea = 0, 0
}

// saturated reports whether sums are no more than a bound, because a number does not hold them.
func (c *Cell) saturated() bool {
	return math.Abs(c.Sum) == math.MaxFloat64 || math.Abs(c.Area) == math.MaxFloat64
}

func decimal(v float64) float64 {
	for _, p := range powers[:7] {
		if n := math.Round(v * p); math.Abs(n) < mostScaled/4 && math.Abs(n/p-v) <= 1e-13*math.Abs(v) {
			return n / p
		}
	}
	return v
}

func floorTo(t, width int64) int64 {
	m := t % width
	if m < 0 {
		m += width
	}
	return t - m
}

// fewest is how many readings an hour must have to be worth a cell: fewer are quickly looked at one by one.
const fewest = 16

// Summer makes cells of readings that come in time order, in portions. The zero value is ready.
type Summer struct {
	Cells  []Cell // of the hours that are over
	Fewest int    // readings that make a cell, 16 where it is 0
	cur    Cell
}

// Add takes readings i to j. Texts are passed over.
func (s *Summer) Add(cols *Columns, i, j int) {
	if cols.Kind == site.Text {
		return
	}
	for ; i < j; i++ {
		if cols.Q != nil && cols.Q[i] == byte(reading.Bad) {
			continue
		}
		t := cols.T[i]
		if s.cur.Count == 0 || t >= s.cur.At+Hour {
			s.Flush()
			s.cur.At = floorTo(t, Hour)
		}
		s.cur.add(t, cols.V[i])
	}
}

// Flush ends the hour that is under way. Hours with few readings have no cell.
func (s *Summer) Flush() {
	least := s.Fewest
	if least == 0 {
		least = fewest
	}
	if s.cur.Count >= least {
		s.cur.settle()
		s.cur.saturate()
		s.Cells = append(s.Cells, s.cur)
	}
	s.cur = Cell{}
}

// Cells sums up the hours of some readings.
func Cells(cols *Columns) []Cell {
	var s Summer
	s.Add(cols, 0, cols.Len())
	s.Flush()
	return s.Cells
}

// EncodeCells appends the cells of one day, which is told beside, to dst.
func (c *Codec) EncodeCells(dst []byte, day int64, cells []Cell) []byte {
	begin := len(dst)
	mask := uint64(0)
	for i := range cells {
		mask |= 1 << ((cells[i].At - day) / Hour)
	}
	dst = binary.AppendUvarint(append(dst, blockVersion), mask)
	work := c.work(len(cells))
	for _, of := range cellInts {
		for i := range cells {
			work[i] = *of(&cells[i])
		}
		dst = appendInts(dst, work)
	}
	for i := range cells {
		work[i] = int64(cells[i].Count)
	}
	dst = appendInts(dst, work)
	for i := range cells {
		work[i] = cells[i].FirstT - cells[i].At
	}
	dst = appendInts(dst, work)
	for i := range cells {
		work[i] = Hour - (cells[i].LastT - cells[i].At)
	}
	dst = appendInts(dst, work)
	values := make([]float64, len(cells))
	for _, of := range cellFloats {
		for i := range cells {
			values[i] = *of(&cells[i])
		}
		dst = appendValues(dst, values, work)
	}
	return binary.LittleEndian.AppendUint32(dst, crc32.Checksum(dst[begin:], castagnoli))
}

var (
	cellInts   = []func(*Cell) *int64{func(c *Cell) *int64 { return &c.OnMS }, func(c *Cell) *int64 { return &c.Gap }}
	cellFloats = []func(*Cell) *float64{func(c *Cell) *float64 { return &c.Min }, func(c *Cell) *float64 { return &c.Max },
		func(c *Cell) *float64 { return &c.Sum },
		func(c *Cell) *float64 { return &c.First }, func(c *Cell) *float64 { return &c.Last },
		func(c *Cell) *float64 { return &c.Area }}
)

// DecodeCells appends the cells of a day to out. The error is ErrDamaged.
func (c *Codec) DecodeCells(out []Cell, day int64, body []byte) ([]Cell, error) {
	if len(body) < 6 || crc32.Checksum(body[:len(body)-4], castagnoli) != binary.LittleEndian.Uint32(body[len(body)-4:]) {
		return out, ErrDamaged
	}
	r := &reader{b: body[:len(body)-4]}
	version, mask := r.byte(), r.uvarint()
	if version != blockVersion || mask >= 1<<24 || r.broken {
		return out, ErrDamaged
	}
	begin := len(out)
	for h := range int64(24) {
		if mask>>h&1 == 1 {
			out = append(out, Cell{At: day + h*Hour})
		}
	}
	cells := out[begin:]
	work := c.work(len(cells))
	for _, of := range cellInts {
		r.ints(work)
		for i, n := range work {
			*of(&cells[i]) = n
		}
	}
	r.ints(work)
	for i, n := range work {
		cells[i].Count = int(n)
	}
	r.ints(work)
	for i, n := range work {
		cells[i].FirstT = cells[i].At + n
	}
	r.ints(work)
	for i, n := range work {
		cells[i].LastT = cells[i].At + Hour - n
	}
	var values [24]float64
	for _, of := range cellFloats {
		r.values(values[:len(cells)], work)
		for i := range cells {
			*of(&cells[i]) = values[i]
		}
	}
	if r.broken || r.at != len(r.b) {
		return out[:begin], ErrDamaged
	}
	return out, nil
}
