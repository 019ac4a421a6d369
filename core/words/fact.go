// Package words puts into words what the hub has to say to people. Whoever decides says what is so as a Fact: a code
// and its values. A Reader makes a sentence of it, in the language, units and clock of one class of people. The
// sentences stand in message files, a folder for each language, and nowhere else.
package words

import (
	"bytes"
	"encoding/json"
	"fmt"
	"iter"
	"slices"
	"strings"
	"time"
)

// Fact is something that is so: the code of a message, and the values that stand in it. It is kept as JSON. Its values
// are not changed once it is made.
type Fact struct {
	Code string
	With []Value
}

// Value is one value of a fact: a string (a name, or what people wrote themselves), an int, a Quantity, a
// time.Duration, a time.Time, a Clock, a Fact, a List, a Row or a Run.
type Value struct {
	Name string
	Is   any
}

// Quantity is a number with a unit, as UCUM writes it. Decimals below 0: as many as it has.
type Quantity struct {
	Num      float64
	Unit     string
	Decimals int
	Apart    bool // it is a difference: 5 °C apart are 9 °F apart
}

// Short decimals are as many as a number has, two at most.
const Short = -2

// List are facts that are told one after the other; a Row stands in one part of a sentence; of a Run each begins where
// the one before ends.
type (
	List []Fact
	Row  []Fact
	Run  []Fact
)

// said is the code of a fact that was kept as a sentence.
const said = "said"

// Of makes a fact of a code and pairs of names and values, as slog does.
func Of(code string, pairs ...any) Fact {
	f := Fact{Code: code, With: make([]Value, len(pairs)/2)}
	for i := range f.With {
		f.With[i] = Value{pairs[2*i].(string), pairs[2*i+1]}
	}
	return f
}

// Said is a sentence that is as it is: a person's own, or one that was kept before there were facts.
func Said(text string) Fact {
	if text == "" {
		return Fact{}
	}
	return Of(said, "Text", text)
}

// Amount is a quantity by itself.
func Amount(q Quantity) Fact { return Of("level", "Of", q) }

// All tells several facts in one line.
func All(facts ...Fact) Fact {
	facts = slices.DeleteFunc(facts, Fact.Empty)
	switch len(facts) {
	case 0:
		return Fact{}
	case 1:
		return facts[0]
	}
	return Of("all", "All", List(facts))
}

// Empty reports whether there is nothing to say.
func (f Fact) Empty() bool { return f.Code == "" }

// IsZero leaves an empty fact out of JSON.
func (f Fact) IsZero() bool { return f.Empty() }

// Equal reports whether two facts say the same.
func (f Fact) Equal(g Fact) bool {
	return f.Code == g.Code && slices.EqualFunc(f.With, g.With, func(a, b Value) bool {
		return a.Name == b.Name && same(a.Is, b.Is)
	})
}

func same(a, b any) bool {
	if x, ok := a.(time.Time); ok {
		y, ok := b.(time.Time)
		return ok && x.Equal(y)
	}
	if x, y := within(a), within(b); x != nil || y != nil {
		return fmt.Sprintf("%T", a) == fmt.Sprintf("%T", b) && slices.EqualFunc(x, y, Fact.Equal)
	}
	return a == b
}

// within are the facts of a value that holds some.
func within(v any) []Fact {
	switch x := v.(type) {
	case Fact:
		return []Fact{x}
	case List:
		return x
	case Row:
		return x
	case Run:
		return x
	}
	return nil
}

// Parts are this fact and all that stand in it.
func (f Fact) Parts() iter.Seq[Fact] {
	return func(yield func(Fact) bool) { f.visit(yield) }
}

func (f Fact) visit(yield func(Fact) bool) bool {
	if !yield(f) {
		return false
	}
	for _, v := range f.With {
		for _, g := range within(v.Is) {
			if !g.visit(yield) {
				return false
			}
		}
	}
	return true
}

// Has reports whether another fact is this one, or a part of it.
func (f Fact) Has(g Fact) bool {
	for p := range f.Parts() {
		if p.Equal(g) {
			return true
		}
	}
	return false
}

// Value is the value of a name, nil where it has none.
func (f Fact) Value(name string) any {
	for _, v := range f.With {
		if v.Name == name {
			return v.Is
		}
	}
	return nil
}

// String is the fact in English, with times in their own zones: for logs and tests.
func (f Fact) String() string { return English.Say(f, time.Time{}) }

// factJSON is a fact as it is kept; a value has exactly one field beside its name.
type factJSON struct {
	Code string      `json:"code"`
	With []valueJSON `json:"with,omitempty"`
}

type valueJSON struct {
	Name     string        `json:"name"`
	Text     *string       `json:"text,omitempty"`
	Count    *int          `json:"count,omitempty"`
	Quantity *quantityJSON `json:"quantity,omitempty"`
	MS       *int64        `json:"ms,omitempty"`
	At       *time.Time    `json:"at,omitempty"`
	Fact     *Fact         `json:"fact,omitempty"`
	Clock    Clock         `json:"clock,omitempty"`
	List     List          `json:"list,omitempty"`
	Row      Row           `json:"row,omitempty"`
	Run      Run           `json:"run,omitempty"`
}

type quantityJSON struct {
	Num      float64 `json:"num"`
	Unit     string  `json:"unit,omitempty"`
	Decimals int     `json:"decimals,omitempty"`
	Apart    bool    `json:"apart,omitempty"`
}

// MarshalJSON writes an empty fact as "".
func (f Fact) MarshalJSON() ([]byte, error) {
	if f.Empty() {
		return []byte(`""`), nil
	}
	out := factJSON{Code: f.Code}
	for _, v := range f.With {
		j := valueJSON{Name: v.Name}
		switch x := v.Is.(type) {
		case string:
			j.Text = &x
		case int:
			j.Count = &x
		case Quantity:
			j.Quantity = &quantityJSON{x.Num, x.Unit, x.Decimals, x.Apart}
		case time.Duration:
			ms := x.Milliseconds()
			j.MS = &ms
		case time.Time:
			j.At = &x
		case Fact:
			j.Fact = &x
		case Clock:
			j.Clock = x
		case List:
			j.List = x
		case Row:
			j.Row = x
		case Run:
			j.Run = x
		default:
			return nil, fmt.Errorf("%s of %s is a %T, which no fact holds", v.Name, f.Code, v.Is)
		}
		out.With = append(out.With, j)
	}
	return json.Marshal(out)
}

// UnmarshalJSON also reads a sentence that was kept before there were facts.
func (f *Fact) UnmarshalJSON(b []byte) error {
	*f = Fact{}
	if bytes.HasPrefix(b, []byte(`"`)) {
		var text string
		err := json.Unmarshal(b, &text)
		*f = Said(text)
		return err
	}
	var in factJSON
	if err := json.Unmarshal(b, &in); err != nil {
		return err
	}
	f.Code = in.Code
	for _, j := range in.With {
		v := Value{Name: j.Name}
		switch {
		case j.Text != nil:
			v.Is = *j.Text
		case j.Count != nil:
			v.Is = *j.Count
		case j.Quantity != nil:
			v.Is = Quantity(*j.Quantity)
		case j.MS != nil:
			v.Is = time.Duration(*j.MS) * time.Millisecond
		case j.At != nil:
			v.Is = *j.At
		case j.Fact != nil:
			v.Is = *j.Fact
		case j.Clock != "":
			v.Is = j.Clock
		case j.Row != nil:
			v.Is = j.Row
		case j.Run != nil:
			v.Is = j.Run
		default:
			v.Is = j.List
		}
		f.With = append(f.With, v)
	}
	return nil
}

// Text is a fact as it is told on the wire: a sentence. Who tells it puts it into the words of who reads (In); who
// reads it finds the sentence. What nobody put into words is told in English.
type Text struct {
	Fact
	in string
}

// TextOf is a fact that is to be told.
func TextOf(f Fact) Text { return Text{Fact: f} }

// Texts are facts that are to be told.
func Texts(facts []Fact) []Text {
	out := make([]Text, len(facts))
	for i, f := range facts {
		out[i].Fact = f
	}
	return out
}

// In is the text in a reader's words.
func (t Text) In(r Reader, now time.Time) Text {
	if !t.Empty() {
		t.in = r.Say(t.Fact, now)
	}
	return t
}

// IsZero leaves an empty text out of JSON.
func (t Text) IsZero() bool { return t.Empty() && t.in == "" }

func (t Text) String() string {
	if t.in == "" {
		return t.Fact.String()
	}
	return t.in
}

// MarshalJSON writes the sentence.
func (t Text) MarshalJSON() ([]byte, error) { return json.Marshal(t.String()) }

// UnmarshalJSON reads a sentence.
func (t *Text) UnmarshalJSON(b []byte) error {
	*t = Text{}
	return json.Unmarshal(b, &t.in)
}

// A Clock runs on in a sentence: it stands there as {age} or {left}, and who shows it puts in how long it is now.
type Clock string

// The clocks that run on in sentences.
const (
	Age  Clock = "{age}"  // since something began
	Left Clock = "{left}" // until something ends
)

// Fill puts the times of now in the place of the clocks of a sentence.
func (r Reader) Fill(text string, since, until *time.Time, now time.Time) string {
	if since != nil {
		text = strings.ReplaceAll(text, string(Age), r.Duration(now.Sub(*since)))
	}
	if until != nil {
		text = strings.ReplaceAll(text, string(Left), r.Duration(until.Sub(now)))
	}
	return text
}
