package reading

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"math/big"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/fxamacker/cbor/v2"
)

// record is one SenML record with the labels of RFC 8428, section 4.3; the CBOR labels are those of its section 6.
type record struct {
	BaseName    *string `json:"bn,omitempty" cbor:"-2,keyasint,omitempty"`
	BaseTime    *figure `json:"bt,omitempty" cbor:"-3,keyasint,omitempty"`
	BaseUnit    *string `json:"bu,omitempty" cbor:"-4,keyasint,omitempty"`
	BaseValue   *figure `json:"bv,omitempty" cbor:"-5,keyasint,omitempty"`
	BaseSum     *figure `json:"bs,omitempty" cbor:"-6,keyasint,omitempty"`
	BaseVersion *int    `json:"bver,omitempty" cbor:"-1,keyasint,omitempty"`
	Name        *string `json:"n,omitempty" cbor:"0,keyasint,omitempty"`
	Unit        *string `json:"u,omitempty" cbor:"1,keyasint,omitempty"`
	Value       *figure `json:"v,omitempty" cbor:"2,keyasint,omitempty"`
	Text        *string `json:"vs,omitempty" cbor:"3,keyasint,omitempty"`
	Bool        *bool   `json:"vb,omitempty" cbor:"4,keyasint,omitempty"`
	Sum         *figure `json:"s,omitempty" cbor:"5,keyasint,omitempty"`
	Time        *figure `json:"t,omitempty" cbor:"6,keyasint,omitempty"`
	Update      *figure `json:"ut,omitempty" cbor:"7,keyasint,omitempty"`
	Data        any     `json:"vd,omitempty" cbor:"8,keyasint,omitempty"`

	// Of the hub's own files; everybody else passes over labels that he does not know (RFC 8428, section 4.4).
	Quality string  `json:"q,omitempty" cbor:"-"`
	Raw     *figure `json:"raw,omitempty" cbor:"-"`
}

// figure is a number of a record. What is wrong with it costs its record and no other.
type figure struct {
	num      float64
	decimals int // guessed from how it was written
	err      error
}

func figureOf(text string) figure {
	v, err := number(text)
	return figure{v.Num, Decimals(text), err}
}

// UnmarshalJSON takes a number.
func (f *figure) UnmarshalJSON(b []byte) error {
	*f = figureOf(string(b))
	return nil
}

// UnmarshalCBOR takes an integer, a float, a big integer or a decimal fraction (RFC 8949, section 3.4.4): the numbers
// of RFC 8428, section 6.
func (f *figure) UnmarshalCBOR(b []byte) error {
	var v any
	if err := cborMode.Unmarshal(b, &v); err != nil {
		return err
	}
	switch v := v.(type) {
	case float64:
		*f = figureOf(strconv.FormatFloat(v, 'f', -1, 64))
		if b[0] != doubleFloat { // 23.1 in four bytes is meant to have one digit
			f.decimals = Decimals(strconv.FormatFloat(v, 'f', -1, 32))
		}
	case cbor.Tag:
		part, ok := v.Content.([]any)
		if !ok || v.Number != decimalFraction || len(part) != 2 || !whole(part[0]) || !whole(part[1]) {
			f.err = fmt.Errorf("the CBOR tag %d is not known here, or does not hold what it says; send an integer, a float or "+
				"a decimal fraction", v.Number)
			break
		}
		*f = figureOf(fmt.Sprintf("%de%d", part[1], part[0]))
		if e, ok := part[0].(int64); ok {
			f.decimals = int(min(-e, 6))
		}
	default:
		*f = figureOf(fmt.Sprint(v))
	}
	return nil
}

func whole(part any) bool {
	switch part.(type) {
	case int64, uint64, *big.Int:
		return true
	}
	return false
}

// What a CBOR float of eight bytes begins with, and the tag of a decimal fraction.
const doubleFloat, decimalFraction = 0xfb, 4

// cborArray is the major type of a pack, in the upper three bits of its first byte.
const cborArray = 4

const (
	senmlVersion  = 10
	relativeUntil = 1 << 28 // seconds; smaller times are relative to now (RFC 8428, section 4.5.3)
)

// senmlLabels are all labels of a JSON record; an object with others is none.
var senmlLabels = map[string]bool{"bn": true, "bt": true, "bu": true, "bv": true, "bs": true, "bver": true, "n": true,
	"u": true, "v": true, "vs": true, "vb": true, "s": true, "t": true, "ut": true, "vd": true}

var cborMode = func() cbor.DecMode {
	m, err := cbor.DecOptions{MaxArrayElements: 100_000, MaxMapPairs: 64, MaxNestedLevels: 8,
		BigIntDec: cbor.BigIntDecodePointer}.DecMode()
	if err != nil {
		panic(err) // cannot be: the options are constant
	}
	return m
}()

// SenMLCBOR takes a SenML pack in CBOR apart; see SenML.
func SenMLCBOR(payload []byte, now time.Time) ([]Named, []error, error) {
	var pack []record
	if err := cborMode.Unmarshal(payload, &pack); err != nil {
		return nil, nil, fmt.Errorf("the payload is no SenML pack in CBOR: %w", err)
	}
	if bytes.IndexByte(payload, '_') >= 0 {
		var labels []map[any]cbor.RawMessage
		if err := cborMode.Unmarshal(payload, &labels); err != nil {
			return nil, nil, fmt.Errorf("the payload is no SenML pack in CBOR: %w", err)
		}
		for _, r := range labels {
			for label := range r {
				if err := understood(fmt.Sprint(label)); err != nil {
					return nil, nil, err
				}
			}
		}
	}
	return resolve(pack, now)
}

// SenML takes a SenML pack in JSON (RFC 8428) apart into named values with their times. Times below 2^28 are relative
// to now. A name is what follows the base name, or the base name's last part where nothing does. What is wrong with
// single records comes back in faults and loses nothing else.
func SenML(payload []byte, now time.Time) (named []Named, faults []error, err error) {
	var pack []record
	if err := json.Unmarshal(payload, &pack); err != nil {
		return nil, nil, fmt.Errorf("the payload is no SenML pack in JSON: %w", err)
	}
	if bytes.Contains(payload, []byte(`_"`)) {
		var labels []json.RawMessage
		if err := json.Unmarshal(payload, &labels); err != nil {
			return nil, nil, fmt.Errorf("the payload is no SenML pack in JSON: %w", err)
		}
		for _, r := range labels {
			if err := allUnderstood(r); err != nil {
				return nil, nil, err
			}
		}
	}
	return resolve(pack, now)
}

// SenMLFile reads a pack in JSON of any length, and hands on each record's values with its number from 1. It ends at
// the first error of the pack or of take.
func SenMLFile(r io.Reader, now time.Time, take func(record int, named []Named, faults []error) error) error {
	dec := json.NewDecoder(r)
	if begin, err := dec.Token(); err != nil || begin != json.Delim('[') {
		return errors.New("the file is no SenML pack in JSON; one begins with [")
	}
	var base base
	for i := 1; dec.More(); i++ {
		var raw json.RawMessage
		if err := dec.Decode(&raw); err != nil {
			return fmt.Errorf("record %d: the JSON breaks off or has a mistake (%w)", i, err)
		}
		var x record
		if err := json.Unmarshal(raw, &x); err != nil {
			if err := take(i, nil, []error{fmt.Errorf("%s is no SenML record: %w", clip(string(raw)), err)}); err != nil {
				return err
			}
			continue
		}
		if bytes.Contains(raw, []byte(`_"`)) {
			if err := allUnderstood(raw); err != nil {
				return fmt.Errorf("record %d: %w", i, err)
			}
		}
		if err := base.take(x); err != nil {
			return fmt.Errorf("record %d: %w, which all records that follow start from", i, err)
		}
		named, faults := base.resolve(x, now)
		if err := take(i, named, faults); err != nil {
			return err
		}
	}
	if _, err := dec.Token(); err != nil {
		return errors.New("the pack is not closed with ]; was the file cut off?")
	}
	return nil
}

func allUnderstood(r json.RawMessage) error {
	var labels map[string]json.RawMessage
	if err := json.Unmarshal(r, &labels); err != nil {
		return err
	}
	for label := range labels {
		if err := understood(label); err != nil {
			return err
		}
	}
	return nil
}

// understood refuses a pack with a label that must be understood: what it changes of the others nobody here knows (RFC
// 8428, section 4.4).
func understood(label string) error {
	if strings.HasSuffix(label, "_") {
		return fmt.Errorf("the pack has the label %s, which must be understood, and is not known here; nothing of it was "+
			"taken", clip(label))
	}
	return nil
}

// resolve carries the base fields through the pack (RFC 8428, section 4.6). A sum becomes a value of its own: of power,
// it is energy.
func resolve(pack []record, now time.Time) (named []Named, faults []error, err error) {
	if len(pack) > maxReadings {
		return nil, nil, fmt.Errorf("the pack holds %d records; send at most %d at a time", len(pack), maxReadings)
	}
	var base base
	own := map[string]bool{} // full names that the pack itself gives
	for i, r := range pack {
		if err := base.take(r); err != nil {
			return nil, nil, fmt.Errorf("record %d: %w, which all records that follow start from; nothing of the pack was taken",
				i+1, err)
		}
		values, wrong := base.resolve(r, now)
		if r.Value != nil || r.Bool != nil || r.Text != nil {
			own[base.full(r)] = true
		}
		named = append(named, values...)
		for _, f := range wrong {
			faults = append(faults, fmt.Errorf("record %d (%s): %w", i+1, clip(base.full(r)), f))
		}
	}
	named = slices.DeleteFunc(named, func(n Named) bool {
		if n.sum && own[n.FullName] {
			faults = append(faults, fmt.Errorf("the sum (s) of %s is not taken: the pack has a value called %s",
				clip(strings.TrimSuffix(n.FullName, sumName)), clip(n.FullName)))
		}
		return n.sum && own[n.FullName]
	})
	return named, faults, nil
}

// full is the whole name of a record.
func (b *base) full(r record) string {
	if r.Name == nil {
		return b.name
	}
	return b.name + *r.Name
}

// base is what the records of a pack start from, as it stands after the last one.
type base struct {
	name, unit       string
	time, value, sum float64
}

func (b *base) take(r record) error {
	if r.BaseVersion != nil && *r.BaseVersion > senmlVersion {
		return fmt.Errorf("the pack has the SenML version %d, and the hub knows versions up to %d", *r.BaseVersion,
			senmlVersion)
	}
	carry(&b.name, r.BaseName)
	carry(&b.unit, r.BaseUnit)
	for _, x := range []struct {
		of    string
		field *float64
		f     *figure
	}{{"bt", &b.time, r.BaseTime}, {"bv", &b.value, r.BaseValue}, {"bs", &b.sum, r.BaseSum}} {
		if x.f == nil {
			continue
		}
		if *x.field = x.f.num; x.f.err != nil {
			return fmt.Errorf("%s: %w", x.of, x.f.err)
		}
	}
	return nil
}

// resolve gives the value and the sum of a record. Long, because it follows the RFC's rules one by one.
func (b *base) resolve(r record, now time.Time) (named []Named, faults []error) {
	if r.Value == nil && r.Bool == nil && r.Text == nil && r.Data == nil && r.Sum == nil {
		if r.Name != nil || r.Unit != nil || r.Time != nil {
			faults = append(faults, errors.New("there is no value; send v, vs or vb"))
		}
		return nil, faults // only base fields
	}
	n := Named{FullName: b.full(r), Unit: b.unit}
	carry(&n.Name, r.Name)
	carry(&n.Unit, r.Unit)
	if n.Name == "" {
		n.Name = lastPart(b.name)
	}
	if n.Name == "" {
		return nil, []error{errors.New("there is no name; send n or bn")}
	}
	n.Quality = qualities[r.Quality]
	if r.Raw != nil && r.Raw.err == nil {
		n.Raw = &r.Raw.num
	}
	var err error
	if n.At, err = b.at(r.Time, now); err != nil {
		return nil, []error{err}
	}
	of := n
	switch {
	case r.Value != nil:
		of.Value, of.Decimals, err = Number(r.Value.num), r.Value.decimals, r.Value.err
		if b.value != 0 { // −0 stays what it is
			of.Value.Num += b.value
		}
	case r.Bool != nil:
		of.Value = OnOff(*r.Bool)
	case r.Text != nil:
		of.Value, err = text(*r.Text)
	case r.Data != nil:
		err = errors.New("binary data (vd) is not kept; send a number, a text or true and false")
	}
	if err == nil {
		err = of.Value.finite()
	}
	if err != nil {
		faults = append(faults, err)
	} else if of.Value != (Value{}) {
		named = append(named, of)
	}
	if r.Sum != nil {
		of = n
		of.sum = true
		of.Name, of.FullName, of.Unit = n.Name+sumName, n.FullName+sumName, timesSeconds(n.Unit)
		of.Value, of.Decimals = Number(r.Sum.num+b.sum), r.Sum.decimals
		if err := cmp.Or(r.Sum.err, of.Value.finite()); err != nil {
			faults = append(faults, fmt.Errorf("the sum (s): %w", err))
		} else {
			named = append(named, of)
		}
	}
	return named, faults
}

var qualities = map[string]Quality{"suspect": Suspect, "bad": Bad}

// sumName is what follows the name of a quantity where its sum over time is a signal of its own.
const sumName = "_sum"

// at is the time of a record: zero where it has none, and one below 2^28 relative to now (RFC 8428, section 4.5.3).
func (b *base) at(t *figure, now time.Time) (time.Time, error) {
	at := b.time
	if t != nil {
		if t.err != nil {
			return time.Time{}, fmt.Errorf("the time t: %w", t.err)
		}
		at += t.num
	}
	switch {
	case at > 1e11 || at < -1e11:
		return time.Time{}, fmt.Errorf("the time %g is not in Unix seconds", at)
	case at >= relativeUntil:
		return unixSeconds(at), nil
	case at <= -1e9:
		return time.Time{}, fmt.Errorf("the time %g would be %s ago; times below 2^28 seconds are relative to now (RFC "+
			"8428, section 4.5.3)", at, Long(time.Duration(-at)*time.Second))
	case at != 0:
		return now.Add(time.Duration(at * float64(time.Second))), nil
	}
	return time.Time{}, nil
}

func carry[T any](field *T, v *T) {
	if v != nil {
		*field = *v
	}
}

func lastPart(name string) string {
	name = strings.TrimRight(name, ":/")
	if i := strings.LastIndexAny(name, ":/"); i >= 0 {
		return name[i+1:]
	}
	return name
}

func unixSeconds(s float64) time.Time { return time.UnixMilli(int64(math.Round(s * 1000))) }

// Message takes a message without a media type apart: a JSON object, an array of objects with times of their own (a
// backlog), or a SenML pack in JSON or in CBOR, whose first byte no JSON has.
func Message(payload []byte, now time.Time) (named []Named, faults []error, err error) {
	if len(payload) > 0 && payload[0]>>5 == cborArray {
		return SenMLCBOR(payload, now)
	}
	p := bytes.TrimSpace(payload)
	if len(p) == 0 || p[0] != '[' {
		named, at, faults, err := Object(payload)
		for i := range named {
			named[i].At = at
		}
		return named, faults, err
	}
	list, err := elements(p)
	if err != nil {
		return nil, nil, errors.New("the JSON array is not closed or holds a mistake; was the payload cut off?")
	}
	if isSenML(list) {
		return SenML(p, now)
	}
	dec := new(decoder)
	named = make([]Named, 0, len(list))
	for i, raw := range list {
		before := len(named)
		some, at, wrong, err := object(dec, raw, named)
		if err != nil {
			faults = append(faults, fmt.Errorf("entry %d: %w", i+1, err))
			continue
		}
		for _, f := range wrong {
			faults = append(faults, fmt.Errorf("entry %d: %w", i+1, f))
		}
		named = some
		for j := range named[before:] {
			named[before+j].At = at
		}
		if len(named) > maxReadings {
			return nil, nil, fmt.Errorf("the message carries more than %d values; send several messages", maxReadings)
		}
	}
	if len(named) == 0 && len(faults) == 0 {
		return nil, nil, errors.New("the JSON array is empty; expected objects such as " +
			"{\"temperature\":21.4,\"t\":1795413600}")
	}
	return named, faults, nil
}

// elements are those of a JSON array; they share the memory of the payload.
func elements(array []byte) (list []json.RawMessage, err error) {
	var dec decoder
	dec.read(array)
	if _, err := dec.ReadToken(); err != nil {
		return nil, err
	}
	for dec.PeekKind() != ']' {
		value, err := dec.ReadValue()
		if err != nil {
			return nil, err
		}
		end := int(dec.InputOffset())
		list = append(list, json.RawMessage(array[end-len(value):end]))
	}
	if _, err := dec.ReadToken(); err != nil {
		return nil, err
	}
	if _, err := dec.ReadToken(); !errors.Is(err, io.EOF) {
		return nil, errors.New("something follows the array")
	}
	return list, nil
}

func isSenML(list []json.RawMessage) bool {
	named := false
	for _, raw := range list {
		var r map[string]json.RawMessage
		if json.Unmarshal(raw, &r) != nil {
			return false
		}
		for label := range r {
			if !senmlLabels[label] {
				return false
			}
		}
		named = named || r["n"] != nil || r["bn"] != nil
	}
	return named
}
