// Package reading holds values as they come from devices: parsing, quality and the place of a reading in time.
package reading

import (
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"idleember/core/site"
)

// MaxText is the longest text value in bytes.
const MaxText = 256

// Value is one value of a signal. On/off values are numbers 1 and 0.
type Value struct {
	Kind site.ValueKind
	Num  float64
	Text string
}

// Number returns a number value.
func Number(v float64) Value { return Value{Kind: site.Number, Num: v} }

// Text returns a text value.
func Text(s string) Value { return Value{Kind: site.Text, Text: s} }

// OnOff returns an on/off value.
func OnOff(on bool) Value {
	v := Value{Kind: site.OnOff}
	if on {
		v.Num = 1
	}
	return v
}

// On reports whether an on/off value is on.
func (v Value) On() bool { return v.Num != 0 }

// String formats v in full precision: 21.4, on, "wet".
func (v Value) String() string {
	switch v.Kind {
	case site.OnOff:
		if v.On() {
			return "on"
		}
		return "off"
	case site.Text:
		return v.Text
	default:
		return strconv.FormatFloat(v.Num, 'f', -1, 64)
	}
}

// MarshalJSON writes a number, true or false, or a string.
func (v Value) MarshalJSON() ([]byte, error) {
	switch v.Kind {
	case site.OnOff:
		return json.Marshal(v.On())
	case site.Text:
		return json.Marshal(v.Text)
	default:
		if v.finite() != nil { // as versions took it that did not refuse it: one value must not take all others with it
			return []byte("null"), nil
		}
		return json.Marshal(v.Num)
	}
}

// UnmarshalJSON reads what MarshalJSON writes.
func (v *Value) UnmarshalJSON(b []byte) error {
	got, err := FromJSON(b)
	if err == nil {
		*v = got
	}
	return err
}

// FromJSON takes a JSON number, boolean or string as a value of the kind that it looks like.
func FromJSON(raw json.RawMessage) (Value, error) {
	s := strings.TrimSpace(string(raw))
	switch {
	case s == "true":
		return OnOff(true), nil
	case s == "false":
		return OnOff(false), nil
	case strings.HasPrefix(s, `"`):
		var t string
		if err := json.Unmarshal(raw, &t); err != nil {
			return Value{}, fmt.Errorf("%s is not a JSON string: %w", clip(s), err)
		}
		return text(t)
	case s == "" || s == "null" || s[0] == '{' || s[0] == '[':
		return Value{}, fmt.Errorf("%s is no value; expected a number, true, false or a string", clip(s))
	}
	return number(s)
}

// Parse takes a payload as a value of the kind that it looks like: 21.4 is a number; on, off, true and false are
// on/off; anything else is text. Empty payloads, NaN, infinities and numbers beyond float64 are refused.
func Parse(payload []byte) (Value, error) {
	s := strings.TrimSpace(string(payload))
	if s == "" {
		return Value{}, errors.New("the payload is empty; expected a value such as 21.4, on or wet")
	}
	if b, ok := word(s); ok {
		return OnOff(b), nil
	}
	v, err := number(s)
	if err == nil || errors.Is(err, errNotFinite) {
		return v, err
	}
	return text(s)
}

// As turns v into a value of the wanted kind or says why that cannot be. The number 1 or 0 is a fair on/off value, a
// number a fair text.
func (v Value) As(kind site.ValueKind) (Value, error) {
	if err := v.finite(); err != nil {
		return Value{}, err
	}
	if v.Kind == kind {
		return v, nil
	}
	switch kind {
	case site.OnOff:
		if v.Kind == site.Number && (v.Num == 0 || v.Num == 1) {
			return OnOff(v.Num == 1), nil
		}
		if v.Kind == site.Text {
			if b, ok := word(v.Text); ok {
				return OnOff(b), nil
			}
			if n := strings.TrimSpace(v.Text); n == "1" || n == "0" {
				return OnOff(n == "1"), nil
			}
		}
		return Value{}, fmt.Errorf("%s is not on or off; expected on, off, true, false, 1 or 0", clip(v.String()))
	case site.Text:
		return Text(v.String()), nil
	default:
		if v.Kind == site.OnOff {
			return Number(v.Num), nil
		}
		if n, err := number(strings.TrimSpace(v.Text)); err == nil {
			return n, nil
		}
		return Value{}, fmt.Errorf("%s is not a number; expected one such as 21.4", clip(v.String()))
	}
}

// finite is asked of every value that comes in, whatever the link: NaN and infinities are no measurements, and nothing
// can be reckoned with them or shown.
func (v Value) finite() error {
	if v.Kind != site.Text && (math.IsNaN(v.Num) || math.IsInf(v.Num, 0)) {
		return fmt.Errorf("%v is %w; devices mean by it that there is no value", v.Num, errNotFinite)
	}
	return nil
}

// Decimals guesses how many digits behind the point a payload's number is meant to have, at most 6.
func Decimals(payload string) int {
	s := strings.TrimSpace(payload)
	if strings.ContainsAny(s, "eE") {
		return 2
	}
	_, frac, _ := strings.Cut(s, ".")
	return min(len(frac), 6)
}

var errNotFinite = errors.New("not finite")

func number(s string) (Value, error) {
	f, err := strconv.ParseFloat(s, 64)
	if errors.Is(err, strconv.ErrRange) || err == nil && (math.IsNaN(f) || math.IsInf(f, 0)) {
		return Value{}, fmt.Errorf("%s is %w; expected a number that a 64-bit float can hold", clip(s), errNotFinite)
	}
	if err != nil {
		return Value{}, fmt.Errorf("%s is not a number; expected one such as 21.4", clip(s))
	}
	return Number(f), nil
}

func word(s string) (on, ok bool) {
	switch strings.ToLower(strings.TrimSpace(s)) {
	case "on", "true":
		return true, true
	case "off", "false":
		return false, true
	}
	return false, false
}

func text(s string) (Value, error) {
	if !utf8.ValidString(s) {
		return Value{}, fmt.Errorf("%s is not valid UTF-8 text", clip(s))
	}
	if len(s) > MaxText {
		return Value{}, fmt.Errorf("the text has %d bytes; at most %d are allowed", len(s), MaxText)
	}
	for _, r := range s {
		if unicode.IsControl(r) {
			return Value{}, fmt.Errorf("%s holds control characters; expected plain text", clip(s))
		}
	}
	return Text(s), nil
}

func clip(s string) string {
	if len(s) > 40 {
		s = s[:40] + "…"
	}
	return strconv.Quote(s)
}

// OfControl is an amount of a control as everybody outside sees it: on/off, a number, or a word.
func OfControl(c site.Control, a site.Amount) Value {
	switch c.What() {
	case site.Switch:
		return OnOff(a != 0)
	case site.Level:
		return Number(float64(a))
	}
	return Text(c.Say(a))
}
