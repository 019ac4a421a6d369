package reading

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"strings"
	"time"

	"github.com/fxamacker/cbor/v2"
)

// record is one SenML record with the labels of RFC 8428, section 4.3; the CBOR labels are those of its section 6.
type record struct {
	BaseName    *string      `json:"bn,omitempty" cbor:"-2,keyasint,omitempty"`
	BaseTime    *float64     `json:"bt,omitempty" cbor:"-3,keyasint,omitempty"`
	BaseUnit    *string      `json:"bu,omitempty" cbor:"-4,keyasint,omitempty"`
	BaseValue   *float64     `json:"bv,omitempty" cbor:"-5,keyasint,omitempty"`
	BaseSum     *float64     `json:"bs,omitempty" cbor:"-6,keyasint,omitempty"`
	BaseVersion *int         `json:"bver,omitempty" cbor:"-1,keyasint,omitempty"`
	Name        *string      `json:"n,omitempty" cbor:"0,keyasint,omitempty"`
	Unit        *string      `json:"u,omitempty" cbor:"1,keyasint,omitempty"`
	Value       *json.Number `json:"v,omitempty" cbor:"-"`
	CBORValue   *float64     `json:"-" cbor:"2,keyasint,omitempty"`
	Text        *string      `json:"vs,omitempty" cbor:"3,keyasint,omitempty"`
	Bool        *bool        `json:"vb,omitempty" cbor:"4,keyasint,omitempty"`
	Sum         *float64     `json:"s,omitempty" cbor:"5,keyasint,omitempty"`
	Time        *float64     `json:"t,omitempty" cbor:"6,keyasint,omitempty"`
	Update      *float64     `json:"ut,omitempty" cbor:"7,keyasint,omitempty"`
	Data        any          `json:"vd,omitempty" cbor:"8,keyasint,omitempty"`
}

const (
	senmlVersion  = 10
	relativeUntil = 1 << 28 // seconds; smaller times are relative to now (RFC 8428, section 4.5.3)
)

// senmlLabels are all labels of a JSON record; an object with others is none.
var senmlLabels = map[string]bool{"bn": true, "bt": true, "bu": true, "bv": true, "bs": true, "bver": true, "n": true, "u": true, "v": true,
	"vs": true, "vb": true, "s": true, "t": true, "ut": true, "vd": true}

var cborMode = func() cbor.DecMode {
	m, err := cbor.DecOptions{MaxArrayElements: 100_000, MaxMapPairs: 64, MaxNestedLevels: 8}.DecMode()
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
	for i, r := range pack {
		if r.CBORValue != nil {
			n := json.Number(fmt.Sprint(*r.CBORValue))
			pack[i].Value = &n
		}
	}
	return resolve(pack, now)
}

// SenML takes a SenML pack in JSON (RFC 8428) apart into named values with their times. Times below 2^28 are relative to
// now. A name is what follows the base name, or the base name's last part where nothing does. What is wrong with single
// records comes back in faults and loses nothing else.
func SenML(payload []byte, now time.Time) (named []Named, faults []error, err error) {
	var pack []record
	if err := json.Unmarshal(payload, &pack); err != nil {
		return nil, nil, fmt.Errorf("the payload is no SenML pack in JSON: %w", err)
	}
	if bytes.Contains(payload, []byte(`_"`)) {
		var labels []map[string]json.RawMessage
		if err := json.Unmarshal(payload, &labels); err != nil {
			return nil, nil, fmt.Errorf("the payload is no SenML pack in JSON: %w", err)
		}
		for _, r := range labels {
			for label := range r {
				if err := understood(label); err != nil {
					return nil, nil, err
				}
			}
		}
	}
	return resolve(pack, now)
}

// understood refuses a pack with a label that must be understood: what it changes of the others nobody here knows (RFC 8428, section
// 4.4).
func understood(label string) error {
	if strings.HasSuffix(label, "_") {
		return fmt.Errorf("the pack has the label %s, which must be understood, and is not known here; nothing of it was taken", clip(label))
	}
	return nil
}

// resolve carries the base fields through the pack (RFC 8428, section 4.6).
func resolve(pack []record, now time.Time) (named []Named, faults []error, err error) {
	var base struct {
		name, unit        string
		time, value, sums float64
	}
	if len(pack) > maxReadings {
		return nil, nil, fmt.Errorf("the pack holds %d records; send at most %d at a time", len(pack), maxReadings)
	}
	for i, r := range pack {
		carry(&base.name, r.BaseName)
		carry(&base.unit, r.BaseUnit)
		carry(&base.time, r.BaseTime)
		carry(&base.value, r.BaseValue)
		carry(&base.sums, r.BaseSum)
		if r.BaseVersion != nil && *r.BaseVersion > senmlVersion {
			return nil, nil, fmt.Errorf("the pack has the SenML version %d; the hub knows versions up to %d", *r.BaseVersion, senmlVersion)
		}
		var name, unit = "", base.unit
		at := base.time
		carry(&name, r.Name)
		carry(&unit, r.Unit)
		if r.Time != nil {
			at += *r.Time
		}
		n := Named{Name: name, FullName: base.name + name, Unit: unit}
		if n.Name == "" {
			n.Name = lastPart(base.name)
		}
		fail := func(format string, args ...any) {
			faults = append(faults, fmt.Errorf("record %d (%s): %s", i+1, clip(n.FullName), fmt.Sprintf(format, args...)))
		}
		switch {
		case r.Value != nil:
			var v Value
			if v, err = number(r.Value.String()); err != nil {
				fail("%s", err)
				continue
			}
			n.Value = Number(v.Num + base.value)
			n.Decimals = Decimals(r.Value.String())
		case r.Bool != nil:
			n.Value = OnOff(*r.Bool)
		case r.Text != nil:
			if n.Value, err = text(*r.Text); err != nil {
				fail("%s", err)
				continue
			}
		case r.Data != nil:
			fail("binary data (vd) is not kept; send a number, a text or true and false")
			continue
		case r.Sum != nil:
			fail("only a sum (s) came; send the value (v)")
			continue
		default:
			if r.Name != nil || r.Unit != nil || r.Time != nil {
				fail("there is no value; send v, vs or vb")
			}
			continue // only base fields
		}
		if math.IsNaN(n.Value.Num) || math.IsInf(n.Value.Num, 0) {
			fail("the value is not finite")
			continue
		}
		switch {
		case at > 1e11 || at < -1e11:
			fail("the time %g is not in Unix seconds", at)
			continue
		case at >= relativeUntil:
			n.At = unixSeconds(at)
		case at != 0:
			n.At = now.Add(time.Duration(at * float64(time.Second)))
		}
		named = append(named, n)
	}
	return named, faults, nil
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

// JSON takes any JSON payload apart: an object, an array of objects with times of their own (a backlog), or a SenML pack.
func JSON(payload []byte, now time.Time) (named []Named, faults []error, err error) {
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
		return nil, nil, errors.New("the JSON array is empty; expected objects such as {\"temperature\":21.4,\"t\":1795413600}")
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
