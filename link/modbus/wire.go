// Package modbus is the link over Modbus TCP, both ways: the hub asks and tells devices as a client, and offers chosen
// signals and controls to a panel as a server.
//
// Sources: MODBUS Application Protocol Specification V1.1b3 (2012) and MODBUS Messaging on TCP/IP Implementation Guide
// V1.0b (2006).
package modbus

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"

	"idleember/core/site"
)

// Function codes (V1.1b3, section 6).
const (
	readCoils      byte = 1
	readDiscrete   byte = 2
	readHolding    byte = 3
	readInput      byte = 4
	writeCoil      byte = 5
	writeRegister  byte = 6
	writeCoils     byte = 15
	writeRegisters byte = 16
)

// Most of what one request may ask for (V1.1b3, sections 6.1 to 6.12).
const (
	mostBits       = 2000
	mostWords      = 125
	mostBitsWrite  = 1968
	mostWordsWrite = 123
	maxPDU         = 253
)

// Exception is what a device answers where it cannot do something (V1.1b3, section 7).
type Exception byte

// The exceptions.
const (
	IllegalFunction Exception = 1
	IllegalAddress  Exception = 2
	IllegalValue    Exception = 3
	DeviceFailure   Exception = 4
)

func (e Exception) Error() string {
	switch e {
	case IllegalFunction:
		return "the device does not know this function (exception 1, illegal function)"
	case IllegalAddress:
		return "the device has no such register (exception 2, illegal data address); check table and address"
	case IllegalValue:
		return "the device does not take this value (exception 3, illegal data value)"
	case DeviceFailure:
		return "the device failed (exception 4, server device failure)"
	case 5:
		return "the device needs longer for this (exception 5, acknowledge)"
	case 6:
		return "the device is busy (exception 6, server device busy)"
	case 8:
		return "the device's memory has an error (exception 8, memory parity error)"
	case 10:
		return "the gateway has no way to the device (exception 10, gateway path unavailable)"
	case 11:
		return "the device behind the gateway does not answer (exception 11); check its unit id and wiring"
	}
	return fmt.Sprintf("the device answered with exception %d", byte(e))
}

var errFrame = errors.New("the answer is no Modbus TCP frame")

// writeFrame sends a PDU with its header: transaction, protocol 0, length, unit.
func writeFrame(w io.Writer, transaction uint16, unit byte, pdu []byte) error {
	frame := make([]byte, 7, 7+len(pdu))
	binary.BigEndian.PutUint16(frame, transaction)
	binary.BigEndian.PutUint16(frame[4:], uint16(len(pdu)+1))
	frame[6] = unit
	_, err := w.Write(append(frame, pdu...))
	return err
}

// readFrame takes one frame.
func readFrame(r io.Reader) (transaction uint16, unit byte, pdu []byte, err error) {
	var head [7]byte
	if _, err := io.ReadFull(r, head[:]); err != nil {
		return 0, 0, nil, err
	}
	n := int(binary.BigEndian.Uint16(head[4:]))
	if binary.BigEndian.Uint16(head[2:]) != 0 || n < 2 || n > maxPDU+1 {
		return 0, 0, nil, errFrame
	}
	pdu = make([]byte, n-1)
	if _, err := io.ReadFull(r, pdu); err != nil {
		return 0, 0, nil, err
	}
	return binary.BigEndian.Uint16(head[:]), head[6], pdu, nil
}

// readRequest asks for n bits or words of a table.
func readRequest(t site.Table, address, n int) []byte {
	code := map[site.Table]byte{site.Coil: readCoils, site.Discrete: readDiscrete, site.Holding: readHolding,
		site.Input: readInput}[t]
	return binary.BigEndian.AppendUint16(binary.BigEndian.AppendUint16([]byte{code}, uint16(address)), uint16(n))
}

// readAnswer takes the answer to a readRequest apart into words; a bit is the word 0 or 1.
func readAnswer(request, pdu []byte) ([]uint16, error) {
	if err := checkAnswer(request, pdu); err != nil {
		return nil, err
	}
	n := int(binary.BigEndian.Uint16(request[3:]))
	bits := request[0] == readCoils || request[0] == readDiscrete
	want := 2 * n
	if bits {
		want = (n + 7) / 8
	}
	if len(pdu) != 2+want || int(pdu[1]) != want {
		return nil, fmt.Errorf("the device answered with %d bytes instead of %d", len(pdu)-2, want)
	}
	out := make([]uint16, n)
	for i := range out {
		if bits {
			out[i] = uint16(pdu[2+i/8] >> (i % 8) & 1)
		} else {
			out[i] = binary.BigEndian.Uint16(pdu[2+2*i:])
		}
	}
	return out, nil
}

func checkAnswer(request, pdu []byte) error {
	switch {
	case len(pdu) == 2 && pdu[0] == request[0]|0x80:
		return Exception(pdu[1])
	case len(pdu) < 2 || pdu[0] != request[0]:
		return errFrame
	}
	return nil
}

// writeRequest writes neighbouring bits or words: one with the single function, several with the multiple one.
func writeRequest(t site.Table, address int, words []uint16) []byte {
	head := func(code byte) []byte { return binary.BigEndian.AppendUint16([]byte{code}, uint16(address)) }
	switch {
	case t == site.Coil && len(words) == 1:
		return binary.BigEndian.AppendUint16(head(writeCoil), words[0]*0xff00)
	case t == site.Coil:
		pdu := binary.BigEndian.AppendUint16(head(writeCoils), uint16(len(words)))
		packed := make([]byte, (len(words)+7)/8)
		for i, w := range words {
			packed[i/8] |= byte(w&1) << (i % 8)
		}
		return append(append(pdu, byte(len(packed))), packed...)
	case len(words) == 1:
		return binary.BigEndian.AppendUint16(head(writeRegister), words[0])
	}
	pdu := binary.BigEndian.AppendUint16(head(writeRegisters), uint16(len(words)))
	pdu = append(pdu, byte(2*len(words)))
	for _, w := range words {
		pdu = binary.BigEndian.AppendUint16(pdu, w)
	}
	return pdu
}

// decode makes a number of a register's words.
func decode(r site.Register, words []uint16) float64 {
	if r.Bit() {
		return float64(words[0])
	}
	scale := r.Scale
	if scale == 0 {
		scale = 1
	}
	if r.Words() == 1 {
		if r.Type == "s16" {
			return scaled(float64(int16(words[0])), scale)
		}
		return scaled(float64(words[0]), scale)
	}
	high, low := words[0], words[1]
	if r.Swap {
		high, low = low, high
	}
	bits := uint32(high)<<16 | uint32(low)
	switch r.Type {
	case "s32":
		return scaled(float64(int32(bits)), scale)
	case "f32":
		return float64(math.Float32frombits(bits)) * scale
	}
	return scaled(float64(bits), scale)
}

// scaled multiplies a whole number so that 217 times 0.1 gives 21.7 and not 21.700000000000003.
func scaled(n, scale float64) float64 {
	if inverse := 1 / scale; scale < 1 && inverse == math.Round(inverse) {
		return n / inverse
	}
	return n * scale
}

// encode makes words of a number, the inverse of decode. What does not fit is refused.
func encode(r site.Register, v float64) ([]uint16, error) {
	if r.Bit() {
		if v != 0 {
			return []uint16{1}, nil
		}
		return []uint16{0}, nil
	}
	scale := r.Scale
	if scale == 0 {
		scale = 1
	}
	v /= scale
	if r.Type == "f32" {
		return pair(r, math.Float32bits(float32(v))), nil
	}
	n := math.Round(v)
	lo, hi := 0.0, 65535.0
	switch r.Type {
	case "s16":
		lo, hi = -32768, 32767
	case "u32":
		hi = math.MaxUint32
	case "s32":
		lo, hi = math.MinInt32, math.MaxInt32
	}
	if math.IsNaN(n) || n < lo || n > hi {
		return nil, fmt.Errorf("%g does not fit into a register of type %s", v, r.Type)
	}
	if r.Words() == 2 {
		return pair(r, uint32(int64(n))), nil
	}
	return []uint16{uint16(int64(n))}, nil
}

func pair(r site.Register, bits uint32) []uint16 {
	if r.Swap {
		return []uint16{uint16(bits), uint16(bits >> 16)}
	}
	return []uint16{uint16(bits >> 16), uint16(bits)}
}
