package site

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"idleember/core/words"
)

// Amount is what a control or a setting can be, as a number: a switch 0 or 1; a level 0 to 100 per cent; a choice the
// place of its word, counted from 0; a mover 0 closed, 1 stopped, 2 open; a time of day in minutes since midnight; a
// duration in seconds.
type Amount float64

// UnmarshalJSON also reads true and false, as 1 and 0.
func (a *Amount) UnmarshalJSON(b []byte) error {
	switch string(b) {
	case "true":
		*a = 1
		return nil
	case "false":
		*a = 0
		return nil
	}
	return json.Unmarshal(b, (*float64)(a))
}

// ControlKind says what a control can be told.
type ControlKind string

// The kinds of controls. The empty kind is a switch.
const (
	Switch ControlKind = "switch"
	Level  ControlKind = "level"  // 0 to 100 per cent
	Choice ControlKind = "choice" // one of its options
	Mover  ControlKind = "mover"  // open, stop, close
)

// What a mover can be told.
const (
	Close Amount = 0
	Stop  Amount = 1
	Open  Amount = 2
)

var moverWords = []string{"close", "stop", "open"}

// What returns the control's kind.
func (c *Control) What() ControlKind {
	if c.Kind == "" {
		return Switch
	}
	return c.Kind
}

type plainControl Control

// controlJSON is a control as JSON: its safe value is what it is told, true, 40 or "open".
type controlJSON struct {
	plainControl
	Safe json.RawMessage `json:"safe"`
}

// MarshalJSON writes the safe value as what the control is told.
func (c Control) MarshalJSON() ([]byte, error) {
	out := controlJSON{plainControl: plainControl(c)}
	var err error
	switch words := c.Words(); {
	case words != nil && c.Safe >= 0 && int(c.Safe) < len(words):
		out.Safe, err = json.Marshal(words[int(c.Safe)])
	case c.What() == Switch && (c.Safe == 0 || c.Safe == 1):
		out.Safe, err = json.Marshal(c.Safe == 1)
	default:
		out.Safe, err = json.Marshal(float64(c.Safe))
	}
	if err != nil {
		return nil, err
	}
	return json.Marshal(out)
}

// UnmarshalJSON also reads a safe value that is an amount.
func (c *Control) UnmarshalJSON(b []byte) error { return c.decode(json.NewDecoder(bytes.NewReader(b))) }

// decode fails with a *json.UnmarshalTypeError where the safe value is none of the control's.
func (c *Control) decode(d *json.Decoder) error {
	var in controlJSON
	if err := d.Decode(&in); err != nil {
		return err
	}
	*c = Control(in.plainControl)
	c.Kind = c.What()
	if len(in.Safe) == 0 || string(in.Safe) == "null" {
		return nil
	}
	if in.Safe[0] != '"' {
		return json.Unmarshal(in.Safe, &c.Safe)
	}
	var word string
	err := json.Unmarshal(in.Safe, &word)
	if err == nil {
		if c.Safe, err = c.AmountOf(word); err != nil {
			err = fmt.Errorf("the safe value: %w", err)
		}
	}
	return err
}

// Words are what a choice or a mover can be told, in the order of their amounts.
func (c *Control) Words() []string {
	switch c.What() {
	case Choice:
		return c.Options
	case Mover:
		return moverWords
	}
	return nil
}

// Full is what a demand that names no amount demands: on, 100 %, open, the last option.
func (c *Control) Full() Amount {
	switch c.What() {
	case Switch:
		return 1
	case Level:
		return 100
	}
	return Amount(len(c.Words()) - 1)
}

// Say puts an amount into words: "on", "40 %", "open".
func (c *Control) Say(a Amount) string {
	switch words := c.Words(); {
	case words != nil:
		if i := int(a); i >= 0 && i < len(words) {
			return words[i]
		}
	case c.What() == Switch:
		if a != 0 {
			return "on"
		}
		return "off"
	}
	return strconv.FormatFloat(float64(a), 'f', -1, 64) + " %"
}

// Told is an amount as people read it.
func (c *Control) Told(a Amount) words.Fact {
	switch c.What() {
	case Level:
		return words.Amount(words.Quantity{Num: float64(a), Unit: "%", Decimals: -1})
	case Choice:
		return words.Said(c.Say(a))
	}
	return words.Of(c.Say(a))
}

// Check says in a sentence why a control cannot be told an amount, or returns nil.
func (c *Control) Check(a Amount) error {
	f := float64(a)
	switch words := c.Words(); {
	case words != nil:
		if f != math.Trunc(f) || f < 0 || int(f) >= len(words) {
			return fmt.Errorf("%s is one of %s", c.Name, strings.Join(words, ", "))
		}
	case c.What() == Switch:
		if a != 0 && a != 1 {
			return fmt.Errorf("%s can be on or off", c.Name)
		}
	case !(f >= 0 && f <= 100):
		return fmt.Errorf("%s can be 0 to 100 %%", c.Name)
	case a > 0 && a < c.Lowest:
		return fmt.Errorf("%s does not run below %g %%; choose 0 or at least that", c.Name, float64(c.Lowest))
	}
	return nil
}

// AmountOf reads what a person or a device calls an amount of the control: on, 40, open.
func (c *Control) AmountOf(word string) (Amount, error) {
	word = strings.TrimSpace(strings.TrimSuffix(strings.TrimSpace(word), "%"))
	if words := c.Words(); words != nil {
		i := slices.IndexFunc(words, func(w string) bool { return strings.EqualFold(w, word) })
		if c.What() == Mover && i < 0 {
			i = slices.IndexFunc([]string{"closed", "stopped", "opened"}, func(w string) bool {
				return strings.EqualFold(w, word)
			})
		}
		if i < 0 {
			return 0, fmt.Errorf("%s is one of %s, not %.40q", c.Name, strings.Join(words, ", "), word)
		}
		return Amount(i), nil
	}
	switch strings.ToLower(word) {
	case "on", "true":
		return c.Full(), nil
	case "off", "false":
		return 0, nil
	}
	f, err := strconv.ParseFloat(word, 64)
	if err != nil {
		expected := "a number from 0 to 100"
		if c.What() == Switch {
			expected = "on or off"
		}
		return 0, fmt.Errorf("%.40q is no value of %s; expected %s", word, c.Name, expected)
	}
	return Amount(f), c.Check(Amount(f))
}

// SeriesKind is the kind of the values that a control's history has.
func (c Control) SeriesKind() ValueKind {
	switch c.What() {
	case Switch:
		return OnOff
	case Level:
		return Number
	}
	return Text
}
