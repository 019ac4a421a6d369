package engine

import (
	"bytes"
	"compress/flate"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"sync"
	"time"

	"idleember/core/packed"
	"idleember/core/reading"
	"idleember/core/site"
)

// tapeWords is what recorded inputs mostly consist of. It is the preset dictionary of the compression (RFC 1950,
// section 2.2), so that even a single input packs well. Changing it makes earlier tapes unreadable.
const tapeWords = `"},"kind":"engine.SiteChanged","in":{"Site":{"Hub":{"name":"","latitude":,"longitude":,"zone":""},"Places":[{"id":"","name":""` +
	`"kind":"engine.Tick","in":{}},{"now":{"wall":"20"kind":"engine.Command","in":{"Control":"","On":false,"Actor":{"kind":"person","id":"","name":"","role":"owner","from":"127.0.0.1"}}}` +
	`"kind":"engine.Online","in":{"Device":"","Session":"mqtt-","From":""}"kind":"engine.Offline","in":{"Device":"","Session":"mqtt-","Why":""}` +
	`"kind":"engine.Report","in":{"Control":"","Session":"mqtt-","On":true,"By":""}}` +
	`,"mono":,"trusted":true},"kind":"engine.Reading","in":{"Signal":"","Stamp":"0001-01-01T00:00:00Z","Newest":false,"Value":true}},` +
	`{"now":{"wall":"2026-T:00:00.000Z","mono":,"trusted":true},"kind":"engine.Reading","in":{"Signal":".temperature","Stamp":"0001-01-01T00:00:00Z","Newest":true,"Value":}}]`

var packers = sync.Pool{New: func() any {
	w, err := flate.NewWriterDict(io.Discard, flate.BestSpeed, []byte(tapeWords))
	if err != nil {
		panic(err) // cannot be: the level is valid
	}
	return w
}}

// A piece begins with a byte that no DEFLATE stream (RFC 1951) begins with; pieces of earlier versions are JSON,
// compressed likewise.
const tapeMark = 0x07

// How each input is written: what it is, and of a reading what its value is written as.
const (
	tapeJSON = iota
	tapeReading
	tapeTick

	tapeTrusted = 1 << 2
	tapeFine    = 1 << 3 // its time is in nanoseconds, not in milliseconds
	tapeNewest  = 1 << 4
	tapeStamp   = 1 << 5
	tapeForm    = 6 // the two highest bits: a float, a decimal, a switch, a text
)

// Pack makes one small piece of tape of inputs. Each is written by its difference from the one before it; readings name
// their signal once. All of it is compressed with DEFLATE and a preset dictionary.
func Pack(inputs []Recorded) ([]byte, error) {
	w := tapeWriter{signals: map[string]int{}}
	for i := range inputs {
		w.add(&inputs[i])
	}
	var out bytes.Buffer
	out.WriteByte(tapeMark)
	z := packers.Get().(*flate.Writer)
	defer packers.Put(z)
	z.Reset(&out)
	if _, err := z.Write(w.b); err != nil {
		return nil, fmt.Errorf("engine: pack: %w", err)
	}
	if err := z.Close(); err != nil {
		return nil, fmt.Errorf("engine: pack: %w", err)
	}
	return out.Bytes(), nil
}

// Unpack is the inverse of Pack.
func Unpack(piece []byte) ([]Recorded, error) {
	marked := len(piece) > 0 && piece[0] == tapeMark
	if marked {
		piece = piece[1:]
	}
	raw, err := io.ReadAll(flate.NewReaderDict(bytes.NewReader(piece), []byte(tapeWords)))
	if err != nil {
		return nil, fmt.Errorf("engine: unpack: %w", err)
	}
	if marked {
		r := tapeReader{Reader: packed.Reader{B: raw}}
		return r.all()
	}
	var inputs []Recorded
	if err := json.Unmarshal(raw, &inputs); err != nil {
		return nil, fmt.Errorf("engine: unpack: %w", err)
	}
	return inputs, nil
}

type tapeWriter struct {
	b       []byte
	wall    int64 // Unix nanoseconds
	mono    int64
	signals map[string]int
}

func (w *tapeWriter) text(s string) { w.b = append(binary.AppendUvarint(w.b, uint64(len(s))), s...) }

func (w *tapeWriter) add(x *Recorded) {
	head, form := byte(tapeJSON), valueForm(x.reading)
	switch {
	case x.reading != nil && form >= 0:
		head = tapeReading | byte(form)<<tapeForm
		if x.reading.Newest {
			head |= tapeNewest
		}
		if !x.reading.Stamp.IsZero() {
			head |= tapeStamp
		}
	case x.reading != nil:
		x = x.asJSON()
	case x.Kind == "engine.Tick":
		head = tapeTick
	}
	if x.Now.Trusted {
		head |= tapeTrusted
	}
	wall, unit := x.Now.Wall.UnixNano(), int64(time.Millisecond)
	if (wall-w.wall)%unit != 0 {
		head, unit = head|tapeFine, 1
	}
	w.b = append(w.b, head)
	w.b = binary.AppendVarint(w.b, (wall-w.wall)/unit)
	w.b = binary.AppendVarint(w.b, int64(x.Now.Mono)-w.mono-(wall-w.wall))
	w.wall, w.mono = wall, int64(x.Now.Mono)
	switch head & 3 {
	case tapeJSON:
		w.text(x.Kind)
		w.text(string(x.In))
	case tapeReading:
		w.reading(x.reading, form)
	}
}

func (w *tapeWriter) reading(x *Reading, form int) {
	n, known := w.signals[x.Signal]
	if !known {
		n = len(w.signals)
		w.signals[x.Signal] = n
	}
	if w.b = binary.AppendUvarint(w.b, uint64(n)); !known {
		w.text(x.Signal)
	}
	if !x.Stamp.IsZero() {
		w.b = binary.AppendVarint(w.b, x.Stamp.UnixNano()-w.wall)
	}
	switch form {
	case formFloat:
		w.b = binary.LittleEndian.AppendUint64(w.b, math.Float64bits(x.Value.Num))
	case formDecimal:
		k, d, _ := reading.Decimal(x.Value.Num)
		w.b = binary.AppendVarint(append(w.b, byte(k)), d)
	case formSwitch:
		w.b = append(w.b, byte(x.Value.Num))
	case formText:
		w.text(x.Value.Text)
	}
}

const (
	formFloat = iota
	formDecimal
	formSwitch
	formText
)

// valueForm is how a reading's value is written; negative: not in short.
func valueForm(x *Reading) int {
	if x == nil {
		return -1
	}
	switch v := x.Value; {
	case v.Kind == site.Text && v.Num == 0:
		return formText
	case v.Kind == site.OnOff && v.Text == "" && (math.Float64bits(v.Num) == 0 || v.Num == 1):
		return formSwitch
	case v.Kind == site.Number && v.Text == "":
		if _, _, ok := reading.Decimal(v.Num); ok {
			return formDecimal
		}
		return formFloat
	}
	return -1
}

var errTape = errors.New("engine: a piece of tape is damaged")

type tapeReader struct {
	packed.Reader
	signals []string
}

func (r *tapeReader) all() (out []Recorded, err error) {
	var wall, mono int64
	for len(r.B) > 0 && !r.Broken {
		head, unit := r.Byte(), int64(time.Millisecond)
		if head&tapeFine != 0 {
			unit = 1
		}
		step := r.Varint() * unit
		wall += step
		mono += step + r.Varint()
		x := Recorded{Now: Now{Wall: time.Unix(0, wall).UTC(), Mono: time.Duration(mono), Trusted: head&tapeTrusted != 0}}
		switch head & 3 {
		case tapeJSON:
			x.Kind = r.Text()
			x.In = json.RawMessage(r.Text())
		case tapeReading:
			x.Kind, x.reading = "engine.Reading", r.reading(head, wall)
		case tapeTick:
			x.Kind, x.In = "engine.Tick", json.RawMessage("{}")
		default:
			return nil, errTape
		}
		out = append(out, x)
	}
	if r.Broken {
		return nil, errTape
	}
	return out, nil
}

func (r *tapeReader) reading(head byte, wall int64) *Reading {
	x := &Reading{Newest: head&tapeNewest != 0}
	n := r.Uvarint()
	if n == uint64(len(r.signals)) {
		r.signals = append(r.signals, r.Text())
	}
	if n >= uint64(len(r.signals)) {
		r.Broken = true
		return x
	}
	x.Signal = r.signals[n]
	if head&tapeStamp != 0 {
		x.Stamp = time.Unix(0, wall+r.Varint()).UTC()
	}
	switch head >> tapeForm {
	case formFloat:
		x.Value = reading.Number(r.Float())
	case formDecimal:
		k := r.Byte()
		x.Value = reading.Number(reading.FromDecimal(int(k), r.Varint()))
	case formSwitch:
		x.Value = reading.OnOff(r.Byte() == 1)
	case formText:
		x.Value = reading.Text(r.Text())
	}
	return x
}
