package reading

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"time"

	"github.com/go-json-experiment/json/jsontext"

	"idleember/core/site"
)

// Named is one value of a message that carries several.
type Named struct {
	Name     string
	FullName string // SenML: with its base name
	Value    Value
	Unit     string    // SenML: as the device says
	Decimals int       // guessed from how the number was written
	At       time.Time // zero: not told
	sum      bool      // SenML: it is the sum of another one
	Quality  Quality   // SenML that the hub wrote: with what it was kept
	Raw      *float64  // the same: before calibration
}

// maxNames is the most values that one message may carry.
const maxNames = 256

// Object takes a JSON object such as {"temperature":21.4,"lid":"shut","t":1795413600000} apart. The key t is the time
// of all of them, in Unix seconds or milliseconds; at is zero where there is none. What is wrong with single values
// comes back in faults and loses nothing else; err means that nothing could be taken.
func Object(payload []byte) (named []Named, at time.Time, faults []error, err error) {
	return object(new(decoder), payload, nil)
}

// object is Object with a decoder to use again; it appends to named. Long, because it is one case for each form that
// boards write.
func object(dec *decoder, payload []byte, named []Named) (_ []Named, at time.Time, faults []error, err error) {
	dec.read(payload)
	if tok, err := dec.ReadToken(); err != nil || tok.Kind() != '{' {
		return nil, at, nil, fmt.Errorf(`%s is no JSON object; expected one such as {"temperature":21.4}`,
			clip(string(payload)))
	}
	before := len(named)
	for dec.PeekKind() != '}' {
		key, err := dec.ReadToken()
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			return nil, at, nil, errors.New("the JSON breaks off: the object is not closed; was the payload cut off?")
		}
		if err != nil {
			return nil, at, nil, fmt.Errorf("the JSON has a mistake at byte %d; see whether commas, colons and quotes are right",
				dec.InputOffset())
		}
		name := key.String()
		value, err := dec.ReadValue()
		if err != nil {
			return nil, at, nil, fmt.Errorf("the JSON breaks off at byte %d; was the payload cut off?", dec.InputOffset())
		}
		raw := json.RawMessage(value)
		if name == "t" {
			if at, err = stampJSON(raw); err != nil {
				return nil, time.Time{}, nil, err
			}
			continue
		}
		if len(named)-before >= maxNames {
			return nil, at, nil, fmt.Errorf("the message carries more than %d values; send several messages", maxNames)
		}
		if name == "is" && raw[0] == '{' { // what the controls are
			var is map[string]json.RawMessage
			if err := json.Unmarshal(raw, &is); err != nil {
				return nil, at, nil, fmt.Errorf("is: %w", err)
			}
			for _, control := range slices.Sorted(maps.Keys(is)) {
				take(&named, &faults, "is."+control, is[control])
			}
			continue
		}
		if name == "has" && raw[0] == '{' { // what its copies of settings are
			var has map[string]json.RawMessage
			if err := json.Unmarshal(raw, &has); err != nil {
				return nil, at, nil, fmt.Errorf("has: %w", err)
			}
			for _, setting := range slices.Sorted(maps.Keys(has)) {
				c, err := CopyJSON(setting, has[setting])
				if err != nil {
					faults = append(faults, err)
					continue
				}
				named = append(named, Named{Name: "has." + setting, Value: Text(c.word())})
			}
			continue
		}
		take(&named, &faults, name, raw)
	}
	_, _ = dec.ReadToken() // the closing brace, which PeekKind saw
	if _, err := dec.ReadToken(); !errors.Is(err, io.EOF) {
		return nil, at, nil, errors.New("something follows the JSON object; send one object a message")
	}
	if len(named) == before && len(faults) == 0 && !at.IsZero() {
		return nil, at, nil, errors.New("t is the time, and nothing else came; give values other names")
	}
	return named, at, faults, nil
}

// decoder reads JSON as boards write it: a name that comes twice, or text that is not valid UTF-8, costs nothing else.
type decoder struct {
	jsontext.Decoder
	payload bytes.Reader
}

func (d *decoder) read(payload []byte) {
	d.payload.Reset(payload)
	d.Reset(&d.payload, jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true))
}

func take(named *[]Named, faults *[]error, name string, raw json.RawMessage) {
	v, err := FromJSON(raw)
	if err != nil {
		*faults = append(*faults, fmt.Errorf("%s: %w", clip(name), err))
		return
	}
	n := Named{Name: name, Value: v}
	if v.Kind == site.Number {
		n.Decimals = Decimals(string(raw))
	} else if on, ok := word(v.Text); ok {
		n.Value = OnOff(on)
	}
	*named = append(*named, n)
}

// Report takes the payload of a report apart: on, off, true, false, a number, a word, or an object that also says why,
// such as {"v":"on","by":"hand"}.
func Report(payload []byte) (v Value, by string, err error) {
	p := bytes.TrimSpace(payload)
	if len(p) == 0 || p[0] != '{' {
		v, err = Parse(payload)
		return v, "", err
	}
	var o struct {
		V  json.RawMessage `json:"v"`
		By string          `json:"by"`
	}
	if err := json.Unmarshal(p, &o); err != nil {
		return v, "", fmt.Errorf(`%s is no report; expected on, off or {"v":"on","by":"hand"}`, clip(string(p)))
	}
	if o.By != "" && o.By != "hand" && o.By != "lease" {
		return v, "", fmt.Errorf(`by is %s; expected "hand" or "lease"`, clip(o.By))
	}
	v, err = FromJSON(o.V)
	if on, ok := word(v.Text); ok && v.Kind == site.Text {
		v = OnOff(on)
	}
	return v, o.By, err
}
