package site

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"idleember/core/words"
)

// alertKinds are the kinds of alerts, in files of their own.
var alertKinds = []alertKind{above{}, below{}, outside{}, faster{}, trend{}, silent{}, unchanged{}, event{}, stale{},
	offline{}, unconfirmed{}, noEffect{}, service{}, formulaAlert{}}

// alertKind is what alerts of a kind are.
type alertKind interface {
	name() AlertKind
	// validate says in a sentence what is wrong with one, but for its formulas.
	validate(a *Alert, of alertThing) error
	// condition is when it holds.
	condition(a *Alert) Condition
	// tells is what its messages tell of.
	tells() Telling
}

// A kind may also know more.
type (
	// earlyKind has a limit, and may tell before it is reached.
	earlyKind interface {
		at(a *Alert, limit float64) Condition
	}
	// boundedKind can be judged by one reading after the other.
	boundedKind interface{ bounds(a *Alert) (Bounds, bool) }
	// limitedKind says what it compares with.
	limitedKind interface {
		limit(a *Alert, num func(float64) words.Quantity) words.Fact
	}
	// absentKind is about somebody who may just not have come back after the hub's own start. elsewhere says that where
	// its device is away that device's own alert tells it.
	absentKind interface{ elsewhere() bool }
)

// Telling is what the messages of an alert tell of.
type Telling int

// What messages tell of.
const (
	TellsValue    Telling = iota // the value
	TellsPresence                // whether a device is there
	TellsReading                 // the last reading, and when that was
	TellsWant                    // what is wanted and what is
	TellsHours                   // for how long it ran
	TellsFormula                 // all that its formula names
)

func (a *Alert) kind() alertKind {
	for _, k := range alertKinds {
		if k.name() == a.Kind {
			return k
		}
	}
	return nil
}

func alertKindNames() (names []string) {
	for _, k := range alertKinds {
		names = append(names, string(k.name()))
	}
	return names
}

// Tells is what the alert's messages tell of.
func (a *Alert) Tells() Telling {
	if k := a.kind(); k != nil {
		return k.tells()
	}
	return TellsValue
}

// Absence reports whether the alert is about somebody who may just not have come back after the hub's own start, and
// whether it is told elsewhere where its device is away.
func (a *Alert) Absence() (about, elsewhere bool) {
	k, about := a.kind().(absentKind)
	return about, about && k.elsewhere()
}

// LimitFact says what the alert is compared with; num gives a number its unit; nothing where its name says it
// all.
func (a *Alert) LimitFact(num func(float64) words.Quantity) words.Fact {
	if k, ok := a.kind().(limitedKind); ok {
		return k.limit(a, num)
	}
	return words.Fact{}
}

// Bounds are those within which a reading is as it should be: it is not below Low or above High; once it was, not below
// LowEnd or above HighEnd. Or something must come within Silent.
type Bounds struct {
	Low, LowEnd, High, HighEnd float64
	Silent                     time.Duration
}

var unbounded = Bounds{Low: -math.MaxFloat64, LowEnd: -math.MaxFloat64, High: math.MaxFloat64, HighEnd: math.MaxFloat64}

// Bounds are the alert's; false where readings alone cannot tell.
func (a *Alert) Bounds() (Bounds, bool) {
	if k, ok := a.kind().(boundedKind); ok {
		return k.bounds(a)
	}
	return Bounds{}, false
}

// Holds tells for a reading whether it is what the alert is about, without delays and dead band; nil where a single
// reading cannot tell.
func (a *Alert) Holds() func(v float64) bool {
	b, ok := a.Bounds()
	if _, early := a.kind().(limitedKind); !ok || b.Silent > 0 || !early {
		return nil
	}
	return func(v float64) bool { return v < b.Low || v > b.High }
}

// alertThing is what an alert is about.
type alertThing struct {
	id                      string
	signal, control, device bool
	kind                    ValueKind // of a signal
	quantity                bool      // it has a number
}

func (s *Site) alertThing(id string) alertThing {
	g, signal := s.Signals[id]
	_, device := s.Devices[id]
	_, control := s.Controls[id]
	_, setting := s.Settings[id]
	return alertThing{id: id, signal: signal, control: control, device: device, kind: g.Kind, quantity: signal &&
		g.Kind == Number || setting || strings.HasPrefix(id, "hub.")}
}

// needs says that an alert is about something that it is not.
func needs(ok bool, a *Alert, what string) error {
	if ok {
		return nil
	}
	return fmt.Errorf("%q is no %s of this hub; an alert of the kind %s is about one", a.Of, what, a.Kind)
}

// lasts says what is wrong with an alert's time.
func lasts(a *Alert, most time.Duration) error {
	if span := Millis(a.SpanMS); span < 10*time.Second || span > most {
		return fmt.Errorf("the time is %s; choose 10 s to %d days", span, most/(24*time.Hour))
	}
	return nil
}

// inFormula is a number as a formula reads it.
func inFormula(f float64) string {
	s := strconv.FormatFloat(f, 'f', -1, 64)
	if f < 0 {
		return "(" + s + ")"
	}
	return s
}

// spanInFormula is a time as a function of a formula reads it.
func spanInFormula(d time.Duration) string {
	return strconv.Quote(strconv.Itoa(int(d/time.Second)) + "s")
}
