package formula

import (
	"math"

	"idleember/core/site"
)

// Value is what a formula, or a part of it, comes to. The zero value is unknown.
type Value struct {
	Known bool
	Kind  site.ValueKind
	Num   float64 // on/off values are 1 and 0
	Text  string
}

// Unknown is the value that nobody knows: of a signal that is stale, bad, or was never seen.
var Unknown = Value{}

// Number returns a known number; one that is not finite is unknown.
func Number(f float64) Value {
	if math.IsNaN(f) || math.IsInf(f, 0) {
		return Unknown
	}
	return Value{Known: true, Kind: site.Number, Num: f}
}

// Text returns a known text.
func Text(s string) Value { return Value{Known: true, Kind: site.Text, Text: s} }

// Bool returns a known condition.
func Bool(b bool) Value {
	v := Value{Known: true, Kind: site.OnOff}
	if b {
		v.Num = 1
	}
	return v
}

// True reports whether v is known and true.
func (v Value) True() bool { return v.Known && v.Num != 0 }

// False reports whether v is known and false.
func (v Value) False() bool { return v.Known && v.Num == 0 }

// The three-valued connectives are those of S. C. Kleene, Introduction to Metamathematics (1952), section 64: what the
// unknown part cannot change is decided.

func and(a, b Value) Value {
	switch {
	case a.False() || b.False():
		return Bool(false)
	case a.Known && b.Known:
		return Bool(true)
	}
	return Unknown
}

func or(a, b Value) Value {
	switch {
	case a.True() || b.True():
		return Bool(true)
	case a.Known && b.Known:
		return Bool(false)
	}
	return Unknown
}

func not(a Value) Value {
	if !a.Known {
		return Unknown
	}
	return Bool(a.Num == 0)
}
