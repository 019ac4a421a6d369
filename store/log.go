package store

import (
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"math"

	"idleember/core/packed"
	"idleember/core/reading"
	"idleember/core/series"
	"idleember/core/site"
)

// op is one change of a series: a stretch is dropped, then readings are put in.
type op struct {
	series   int64
	put      []Reading
	drop     *series.Span
	replaced func(int)
}

// How a reading is written in the log: the tag's lowest two bits say as what, then the quality, whether a raw value
// follows, and for decimals how many.
const (
	logFloat = iota
	logDecimal
	logSwitch
	logText

	logQuality  = 2
	logRaw      = 1 << 4
	logDecimals = 5
)

const (
	logPut  = 1
	logDrop = 2
	// first in a row, far from the others: what follows is the CRC-32C (RFC 3720) of its number and of the changes
	logSum  = 0x5a
	sumSize = 5
)

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

func sumOfRow(seq int64, changes []byte) uint32 {
	return crc32.Update(crc32.Checksum(binary.LittleEndian.AppendUint64(nil, uint64(seq)), castagnoli), castagnoli,
		changes)
}

// sealRow puts the sum into a row that begins with room for it.
func sealRow(seq int64, row []byte) {
	row[0] = logSum
	binary.LittleEndian.PutUint32(row[1:], sumOfRow(seq, row[sumSize:]))
}

// openRow returns the changes of a row. Rows of earlier versions have no sum.
func openRow(seq int64, row []byte) ([]byte, error) {
	if len(row) == 0 || row[0] != logSum {
		return row, nil
	}
	if len(row) < sumSize || binary.LittleEndian.Uint32(row[1:]) != sumOfRow(seq, row[sumSize:]) {
		return nil, errLog
	}
	return row[sumSize:], nil
}

// appendOp writes a change as the log keeps it.
func appendOp(dst []byte, o op) []byte {
	if o.drop != nil {
		dst = binary.AppendUvarint(append(dst, logDrop), uint64(o.series))
		dst = binary.AppendVarint(dst, o.drop.From)
		dst = binary.AppendVarint(dst, o.drop.To)
	}
	if len(o.put) == 0 {
		return dst
	}
	dst = binary.AppendUvarint(append(dst, logPut), uint64(o.series))
	dst = binary.AppendUvarint(dst, uint64(len(o.put)))
	prev := int64(0)
	for i := range o.put {
		r := &o.put[i]
		dst = appendReading(dst, r, prev)
		prev = r.T
	}
	return dst
}

func appendReading(dst []byte, r *Reading, prev int64) []byte {
	tag := byte(r.Quality) << logQuality
	if r.Raw != nil {
		tag |= logRaw
	}
	at := len(dst)
	dst = binary.AppendVarint(append(dst, 0), r.T-prev)
	switch v := r.Value; {
	case v.Kind == site.Text:
		tag |= logText
		dst = append(binary.AppendUvarint(dst, uint64(len(v.Text))), v.Text...)
	case v.Kind == site.OnOff && math.Float64bits(v.Num) == 0 || v.Kind == site.OnOff && v.Num == 1:
		tag |= logSwitch | byte(v.Num)<<logDecimals
	default:
		if k, n, ok := reading.Decimal(v.Num); ok {
			tag |= logDecimal | byte(k)<<logDecimals
			dst = binary.AppendVarint(dst, n)
			break
		}
		tag |= logFloat
		if v.Kind == site.OnOff {
			tag |= 1 << logDecimals
		}
		dst = binary.LittleEndian.AppendUint64(dst, math.Float64bits(v.Num))
	}
	dst[at] = tag
	if r.Raw != nil {
		dst = binary.LittleEndian.AppendUint64(dst, math.Float64bits(*r.Raw))
	}
	return dst
}

var errLog = errors.New("a row of the log is damaged")

// eachOp reads a row of the log.
func eachOp(b []byte, each func(op)) error {
	r := logReader{packed.Reader{B: b}}
	for len(r.B) > 0 && !r.Broken {
		what, o := r.Byte(), op{}
		o.series = int64(r.Uvarint())
		switch what {
		case logDrop:
			o.drop = &series.Span{From: r.Varint(), To: r.Varint()}
		case logPut:
			n := r.Uvarint()
			if n > uint64(len(b)) {
				return errLog
			}
			prev := int64(0)
			for range n {
				x := r.reading(prev)
				prev = x.T
				o.put = append(o.put, x)
			}
		default:
			return fmt.Errorf("%w: a change of the kind %d", errLog, what)
		}
		if !r.Broken {
			each(o)
		}
	}
	if r.Broken {
		return errLog
	}
	return nil
}

type logReader struct{ packed.Reader }

func (r *logReader) reading(prev int64) (out Reading) {
	tag := r.Byte()
	out.T = prev + r.Varint()
	out.Quality = reading.Quality(tag >> logQuality & 3)
	k := tag >> logDecimals
	switch tag & 3 {
	case logText:
		out.Value = reading.Text(r.Text())
	case logSwitch:
		out.Value = reading.OnOff(k == 1)
	case logDecimal:
		out.Value = reading.Number(reading.FromDecimal(int(k), r.Varint()))
	default:
		out.Value = reading.Number(r.Float())
		if k == 1 {
			out.Value.Kind = site.OnOff
		}
	}
	if tag&logRaw != 0 {
		raw := r.Float()
		out.Raw = &raw
	}
	return out
}
