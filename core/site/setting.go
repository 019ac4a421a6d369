package site

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"
)

// SettingKind says what a setting is.
type SettingKind string

// The kinds of settings.
const (
	SetNumber   SettingKind = "number"
	SetTime     SettingKind = "time"     // of day
	SetDuration SettingKind = "duration" // seconds
	SetOnOff    SettingKind = "onoff"
	SetChoice   SettingKind = "choice"
)

// Setting is an adjustable value kept in the hub. Its id begins with a device, a place, or hub.
type Setting struct {
	ID       string      `json:"id"`
	Name     string      `json:"name"`
	Kind     SettingKind `json:"kind"`
	Unit     string      `json:"unit,omitempty"`
	Decimals int         `json:"decimals,omitempty"`
	Min      float64     `json:"min,omitempty"`
	Max      float64     `json:"max,omitempty"`
	Step     float64     `json:"step,omitempty"`
	Default  Amount      `json:"default"`
	Options  []string    `json:"options,omitempty"`
	Mirror   string      `json:"mirror,omitempty"` // what its device calls it, where the device has a copy
	Guests   Guests      `json:"guests,omitempty"`
}

// Validate says in a sentence what is wrong with the setting, or returns nil.
func (g Setting) Validate(s *Site) error {
	owner, slug := Split(g.ID)
	if err := CheckSlug(slug); err != nil {
		return err
	}
	_, device := s.Devices[owner]
	_, place := s.Place(owner)
	switch {
	case !device && !place && owner != "hub":
		return fmt.Errorf("there is no device or place %s; a setting's id begins with one, or with hub", owner)
	case g.Mirror != "" && !device:
		return fmt.Errorf("only a setting of a device can be mirrored to it")
	case g.Decimals < 0 || g.Decimals > 6:
		return fmt.Errorf("decimals is %d; choose 0 to 6", g.Decimals)
	}
	switch g.Kind {
	case SetNumber:
		if !(g.Min < g.Max) || g.Step < 0 || g.Step > g.Max-g.Min {
			return fmt.Errorf("the range from %g to %g in steps of %g cannot be; tell a smallest and a largest value", g.Min,
				g.Max, g.Step)
		}
	case SetChoice:
		if len(g.Options) < 2 || len(g.Options) > 50 {
			return fmt.Errorf("a choice has 2 to 50 options")
		}
	case SetTime, SetDuration, SetOnOff:
	default:
		return fmt.Errorf("the kind %q is unknown; use number, time, duration, onoff or choice", g.Kind)
	}
	return g.Check(g.Default)
}

// Check says in a sentence why the setting cannot be set to an amount, or returns nil.
func (g Setting) Check(a Amount) error {
	f := float64(a)
	low, high := g.Min, g.Max
	switch g.Kind {
	case SetTime:
		low, high = 0, 24*60-1
	case SetDuration:
		if high == 0 {
			high = 7 * 24 * 3600
		}
	case SetOnOff:
		low, high = 0, 1
	case SetChoice:
		low, high = 0, float64(len(g.Options)-1)
	}
	if whole := g.Kind != SetNumber && g.Kind != SetDuration; !(f >= low && f <= high) || whole && f != math.Trunc(f) {
		return fmt.Errorf("%s can be %s to %s", g.Name, g.Say(Amount(low)), g.Say(Amount(high)))
	}
	return nil
}

// Say puts an amount into words: "24 Cel", "10:30", "2 h", "on".
func (g Setting) Say(a Amount) string {
	switch g.Kind {
	case SetTime:
		return fmt.Sprintf("%02d:%02d", int(a)/60, int(a)%60)
	case SetDuration:
		return time.Duration(float64(a) * float64(time.Second)).String()
	case SetOnOff:
		if a != 0 {
			return "on"
		}
		return "off"
	case SetChoice:
		if i := int(a); i >= 0 && i < len(g.Options) {
			return g.Options[i]
		}
	}
	s := strconv.FormatFloat(float64(a), 'f', -1, 64)
	if g.Unit != "" {
		s += " " + g.Unit
	}
	return s
}

// AmountOf reads what a person calls a value of the setting.
func (g Setting) AmountOf(word string) (Amount, error) {
	word = strings.TrimSpace(word)
	var a Amount
	switch g.Kind {
	case SetTime:
		t, err := time.Parse("15:04", word)
		if err != nil {
			return 0, fmt.Errorf("%.20q is no time of day; write one such as 10:30", word)
		}
		a = Amount(t.Hour()*60 + t.Minute())
	case SetDuration:
		d, err := time.ParseDuration(strings.ReplaceAll(word, " ", ""))
		if err != nil {
			return 0, fmt.Errorf("%.20q is no duration; write one such as 90s, 20m or 2h", word)
		}
		a = Amount(d.Seconds())
	case SetChoice:
		i := slices.IndexFunc(g.Options, func(o string) bool { return strings.EqualFold(o, word) })
		if i < 0 {
			return 0, fmt.Errorf("%s is one of %s, not %.40q", g.Name, strings.Join(g.Options, ", "), word)
		}
		a = Amount(i)
	default:
		switch strings.ToLower(word) {
		case "on", "true":
			a = 1
		case "off", "false":
			a = 0
		default:
			f, err := strconv.ParseFloat(strings.TrimSpace(strings.TrimSuffix(word, g.Unit)), 64)
			if err != nil || math.IsNaN(f) {
				return 0, fmt.Errorf("%.20q is no number; write one such as 24.5", word)
			}
			a = Amount(f)
		}
	}
	return a, g.Check(a)
}

// ActionKind says what an action does.
type ActionKind string

// The kinds of actions of presets and rules.
const (
	DoControl ActionKind = "control" // a value by hand
	DoAuto    ActionKind = "auto"
	DoPulse   ActionKind = "pulse"
	DoSetting ActionKind = "setting"
	DoPreset  ActionKind = "preset"
	DoMessage ActionKind = "message"
	DoNote    ActionKind = "note"
)

// Action is one thing that a preset or a rule does. Which fields count depends on the kind.
type Action struct {
	Kind  ActionKind `json:"kind"`
	ID    string     `json:"id,omitempty"` // of the control, setting, preset, or the place or device that a note is about
	To    Amount     `json:"to,omitempty"`
	ForMS int64      `json:"for_ms,omitempty"` // control: then auto again
	Text  string     `json:"text,omitempty"`   // of a message or note; an id in braces stands for its value
	Grave bool       `json:"grave,omitempty"`  // message: a warning
}

func (x Action) validate(s *Site) error {
	switch x.Kind {
	case DoControl, DoAuto, DoPulse:
		c, ok := s.Controls[x.ID]
		switch {
		case !ok:
			return fmt.Errorf("there is no control %s", x.ID)
		case x.Kind == DoPulse && c.Momentary == nil:
			return fmt.Errorf("%s is not momentary, so it cannot be pulsed; switch it on for a time instead", x.ID)
		case x.Kind == DoAuto && !s.Automations[x.ID].HasAuto():
			return fmt.Errorf("%s has no automation to go back to", x.ID)
		case x.ForMS < 0 || x.ForMS > 366*24*3600_000:
			return fmt.Errorf("%s is set for %d ms; choose up to a year", x.ID, x.ForMS)
		case x.Kind == DoControl && c.Momentary != nil:
			return fmt.Errorf("%s is momentary; pulse it", x.ID)
		case x.Kind == DoControl:
			return c.Check(x.To)
		}
		return nil
	case DoSetting:
		g, ok := s.Settings[x.ID]
		if !ok {
			return fmt.Errorf("there is no setting %s", x.ID)
		}
		return g.Check(x.To)
	case DoPreset:
		if _, ok := s.Presets[x.ID]; !ok {
			return fmt.Errorf("there is no preset %s", x.ID)
		}
		return nil
	case DoMessage, DoNote:
		if strings.TrimSpace(x.Text) == "" || len(x.Text) > 500 {
			return fmt.Errorf("the %s needs a text of at most 500 characters", x.Kind)
		}
		return nil
	}
	return fmt.Errorf("the action %q is unknown; use control, auto, pulse, setting, preset, message or note", x.Kind)
}

// Preset is a named set of control and setting values applied together.
type Preset struct {
	ID      string   `json:"id"`
	Name    string   `json:"name"`
	Role    string   `json:"role,omitempty"` // who may apply it at least: owner, member or guest; "": member
	Ask     bool     `json:"ask,omitempty"`  // ask first
	Ends    bool     `json:"ends,omitempty"` // whoever applies it must tell until when, as for holidays
	Actions []Action `json:"actions"`
}

// Validate says in a sentence what is wrong with the preset, or returns nil.
func (p Preset) Validate(s *Site) error {
	if len(p.Actions) == 0 || len(p.Actions) > 200 {
		return fmt.Errorf("a preset has 1 to 200 actions")
	}
	if !slices.Contains([]string{"", "owner", "member", "guest"}, p.Role) {
		return fmt.Errorf("the role %q is unknown; use owner, member or guest", p.Role)
	}
	for i, x := range p.Actions {
		if !slices.Contains([]ActionKind{DoControl, DoAuto, DoPulse, DoSetting}, x.Kind) {
			return fmt.Errorf("action %d: a preset can only set controls and settings", i+1)
		}
		if err := x.validate(s); err != nil {
			return fmt.Errorf("action %d: %w", i+1, err)
		}
	}
	return nil
}

// Stage is one step of a rule.
type Stage struct {
	When    string   `json:"when"`
	If      string   `json:"if,omitempty"`       // only if this holds at that moment
	AfterMS int64    `json:"after_ms,omitempty"` // When must hold for this long
	Actions []Action `json:"actions"`

	// Of a later stage: while it is waited for, the rule begins anew when Until holds, and after WithinMS; 0: after two
	// days.
	Until    string `json:"until,omitempty"`
	WithinMS int64  `json:"within_ms,omitempty"`
}

// Rule does some actions once when something becomes true, then rests. With several stages the next one waits for the
// one before, and after the last all begins anew.
type Rule struct {
	ID     string  `json:"id"`
	Name   string  `json:"name"`
	Off    bool    `json:"off,omitempty"`
	Stages []Stage `json:"stages"`
	RestMS int64   `json:"rest_ms,omitempty"` // after the last stage
	Repeat bool    `json:"repeat,omitempty"`  // again after each rest, for as long as the first stage holds
}

// Formulas calls each with every formula of the rule and its place.
func (r *Rule) Formulas(each func(place, text string, quantity bool)) {
	for i, g := range r.Stages {
		each(fmt.Sprintf("stages.%d.when", i), g.When, false)
		if g.If != "" {
			each(fmt.Sprintf("stages.%d.if", i), g.If, false)
		}
		if g.Until != "" {
			each(fmt.Sprintf("stages.%d.until", i), g.Until, false)
		}
	}
}

// Validate says in a sentence what is wrong with the rule, or returns nil. It does not look into formulas.
func (r *Rule) Validate(s *Site) error {
	if len(r.Stages) == 0 || len(r.Stages) > 10 {
		return fmt.Errorf("a rule has 1 to 10 stages")
	}
	if r.RestMS < 0 || r.RestMS > 366*24*3600_000 {
		return fmt.Errorf("the rest is %d ms; choose up to a year", r.RestMS)
	}
	if r.Repeat && r.RestMS < 60_000 {
		return fmt.Errorf("a rule that repeats rests for at least a minute in between")
	}
	for i, g := range r.Stages {
		if err := (Condition{When: g.When, AfterMS: g.AfterMS}).Validate(); err != nil {
			return fmt.Errorf("stage %d: %w", i+1, err)
		}
		if i == 0 && (g.Until != "" || g.WithinMS != 0) {
			return fmt.Errorf("stage 1 falls back to nothing; until and within_ms are of later stages")
		}
		if g.WithinMS < 0 || g.WithinMS > 366*24*3600_000 {
			return fmt.Errorf("stage %d waits for %d ms; choose up to a year", i+1, g.WithinMS)
		}
		if len(g.Actions) == 0 || len(g.Actions) > 50 {
			return fmt.Errorf("stage %d has %d actions; 1 to 50 are possible", i+1, len(g.Actions))
		}
		for j, x := range g.Actions {
			if err := x.validate(s); err != nil {
				return fmt.Errorf("stage %d, action %d: %w", i+1, j+1, err)
			}
		}
	}
	return nil
}

// SeriesKind is the kind of the values that a setting has.
func (g Setting) SeriesKind() ValueKind {
	switch g.Kind {
	case SetOnOff:
		return OnOff
	case SetChoice:
		return Text
	}
	return Number
}
