// Package site holds the configuration of one hub: its places, devices, signals and controls.
//
// A Site is a value: the hub replaces it as a whole and hands it to the engine, so that no reader ever sees half a
// change.
package site

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"idleember/core/fault"
)

// ValueKind says what values a signal has.
type ValueKind string

// The kinds of signals.
const (
	Number ValueKind = "number"
	OnOff  ValueKind = "onoff"
	Text   ValueKind = "text"
)

// Reports says when a device reports a signal.
type Reports string

// Periodic signals go stale when they are late by three intervals; OnChange signals hold their last value for as long
// as their device is online.
const (
	Periodic Reports = "periodic"
	OnChange Reports = "change"
)

// Guests says what a guest may do with a signal or control.
type Guests string

// What the owner can open to guests.
const (
	GuestsNothing Guests = "none"
	GuestsSee     Guests = "see"
	GuestsSwitch  Guests = "switch"
)

// AtDevice says what the hub does when a device was switched by hand at the device.
type AtDevice string

// Follow takes the change at the device over; Insist sends the hub's want again.
const (
	Follow AtDevice = "follow"
	Insist AtDevice = "insist"
)

// Hub is what the owner tells about the hub itself.
type Hub struct {
	Name      string  `json:"name"`
	Latitude  float64 `json:"latitude"`  // degrees, north positive
	Longitude float64 `json:"longitude"` // degrees, east positive
	Zone      string  `json:"zone"`      // IANA name

	JournalDays int `json:"journal_days,omitempty"` // how long the journal is kept; 0: for ever
	// after which a browser that was not used is signed out; 0: DefaultIdleDays
	IdleDays int `json:"idle_days,omitempty"`
}

// DefaultIdleDays is after how long a browser that was not used is signed out. A phone in the hall is not picked up
// each day.
const DefaultIdleDays = 30

// Idle is after how long a browser that was not used is signed out.
func (h Hub) Idle() time.Duration {
	days := h.IdleDays
	if days == 0 {
		days = DefaultIdleDays
	}
	return time.Duration(days) * 24 * time.Hour
}

// Location returns the hub's time zone, UTC where none is set.
func (h Hub) Location() *time.Location {
	loc, err := time.LoadLocation(h.Zone)
	if err != nil {
		return time.UTC
	}
	return loc
}

// Device is one board or bought thing that speaks to the hub.
type Device struct {
	ID         string    `json:"id"`
	Name       string    `json:"name"`
	Place      string    `json:"place"`
	LeaseMS    int64     `json:"lease_ms"`    // how long it may keep a want without the hub's beat; 0: it has no lease
	NewSignals bool      `json:"new_signals"` // unknown signals are created at their first reading
	Created    time.Time `json:"created"`
	Link       Link      `json:"link"`
	WakesMS    int64     `json:"wakes_ms,omitempty"` // it sleeps and wakes this often; 0: it is always awake
	Limits     Limits    `json:"limits"`             // of what it may send
	State      State     `json:"state,omitempty"`
	Model      string    `json:"model,omitempty"` // the device model that it was made from, if any
	Camera     Camera    `json:"camera,omitzero"`
}

// State says whether a device takes part.
type State string

// A Disabled device is neither heard nor told anything; of a Removed one only the history is left.
const (
	Active   State = ""
	Disabled State = "disabled"
	Removed  State = "removed"
)

// Lease is how long the device may keep a want without the hub's beat; 0: it has no lease.
func (d Device) Lease() time.Duration { return Millis(d.LeaseMS) }

// Wakes is how often the device wakes from its sleep; 0: it is always awake.
func (d Device) Wakes() time.Duration { return Millis(d.WakesMS) }

// Interval is how often the signal reports, where that was told; 0: it is learnt.
func (s Signal) Interval() time.Duration { return Millis(s.IntervalMS) }

// ConfirmAfter is the time after which a want that was not confirmed is unconfirmed.
func (c *Control) ConfirmAfter() time.Duration {
	if c.ConfirmAfterMS <= 0 {
		return DefaultConfirm
	}
	return Millis(c.ConfirmAfterMS)
}

// Active reports whether the device takes part.
func (d Device) Active() bool { return d.State == Active }

// Validate says in a sentence what is wrong with a device, or returns nil.
func (d Device) Validate() error {
	switch {
	case d.LeaseMS < 0 || d.LeaseMS > 3600_000 || d.LeaseMS > 0 && d.LeaseMS < 3000:
		return fmt.Errorf("the lease is %s; choose between 3 s and 1 h, or 0 for none", d.Lease())
	case d.WakesMS < 0 || d.WakesMS > 7*24*3600_000 || d.WakesMS > 0 && d.WakesMS < 10_000:
		return fmt.Errorf("it wakes every %s; choose between 10 s and a week, or 0 for always awake", d.Wakes())
	}
	if err := d.Limits.Validate(); err != nil {
		return err
	}
	if err := d.Camera.Validate(); err != nil {
		return err
	}
	return d.Link.Validate()
}

// Signal is one measured quantity of a device.
type Signal struct {
	ID         string    `json:"id"` // device.slug
	Device     string    `json:"device"`
	Raw        string    `json:"raw"` // what the board calls it
	Name       string    `json:"name"`
	Kind       ValueKind `json:"kind"`
	Unit       string    `json:"unit"`
	Decimals   int       `json:"decimals"`
	Reports    Reports   `json:"reports"`
	IntervalMS int64     `json:"interval_ms,omitempty"` // how often it reports; 0: learnt
	// reports on change: for how long a kept value counts after a start of the hub; 0: not at all
	AcceptMS int64  `json:"accept_ms,omitempty"`
	New      bool   `json:"new"` // created by a reading, not yet looked at by the owner
	Guests   Guests `json:"guests"`

	Source      Source      `json:"source"`
	Calibration Calibration `json:"calibration"`
	Sense       Sense       `json:"sense"`
	Keep        Keep        `json:"keep"`
}

// Validate says in a sentence what is wrong with a signal's mapping and calibration, or returns nil.
func (s Signal) Validate() error {
	if err := s.Source.Validate(); err != nil {
		return err
	}
	if err := s.Calibration.Validate(s.Kind); err != nil {
		return err
	}
	if err := s.Keep.Validate(); err != nil {
		return err
	}
	if s.AcceptMS < 0 || s.AcceptMS > 31*24*3600_000 {
		return fmt.Errorf("accept_ms is %d; a kept value counts for at most 31 days after a start", s.AcceptMS)
	}
	return s.Sense.Validate(s.Kind)
}

// Keep says for how long readings are kept, and after that the sums of their hours. Zero is for ever.
type Keep struct {
	ReadingsMS int64 `json:"readings_ms,omitempty"`
	SumsMS     int64 `json:"sums_ms,omitempty"`
}

// Validate says in a sentence what is wrong, or returns nil.
func (k Keep) Validate() error {
	const day, most = 24 * 3600_000, 100 * 366 * 24 * 3600_000
	switch {
	case k.ReadingsMS != 0 && (k.ReadingsMS < day || k.ReadingsMS > most):
		return fmt.Errorf("readings_ms is %d; keep readings for a day at least, or for ever with 0", k.ReadingsMS)
	case k.SumsMS != 0 && k.ReadingsMS == 0:
		return fmt.Errorf("sums of hours are kept as long as the readings, which are kept for ever; say how long to keep " +
			"the readings as well")
	case k.SumsMS != 0 && (k.SumsMS < k.ReadingsMS || k.SumsMS > most):
		return fmt.Errorf("sums_ms is %d; the sums of hours are kept at least as long as the readings, or for ever with 0",
			k.SumsMS)
	}
	return nil
}

// Ends returns the times before which readings and sums are not kept; zero: they are kept for ever.
func (k Keep) Ends(now time.Time) (readings, sums time.Time) {
	if k.ReadingsMS > 0 {
		readings = now.Add(-time.Duration(k.ReadingsMS) * time.Millisecond)
	}
	if k.SumsMS > 0 {
		sums = now.Add(-time.Duration(k.SumsMS) * time.Millisecond)
	}
	return readings, sums
}

// Takes says in a sentence that a reading is older than readings are kept, or returns nil.
func (k Keep) Takes(at, now time.Time) error {
	if before, _ := k.Ends(now); at.Before(before) {
		return fmt.Errorf("it is of %s; readings of this signal are kept for %d days", at.UTC().Format(time.RFC3339),
			k.ReadingsMS/(24*3600_000))
	}
	return nil
}

// Control is something a device can be told.
type Control struct {
	ID             string   `json:"id"` // device.slug
	Device         string   `json:"device"`
	Raw            string   `json:"raw"`
	Name           string   `json:"name"`
	ConfirmAfterMS int64    `json:"confirm_after_ms"` // a want not confirmed by then is unconfirmed
	ResumeWithinMS int64    `json:"resume_within_ms"` // an absence longer than this ends in the safe value
	Safe           Amount   `json:"safe"`             // the safe value
	Dangerous      bool     `json:"dangerous"`        // ask before switching on; never resumed by itself
	AtDevice       AtDevice `json:"at_device"`
	Answers        bool     `json:"answers"` // it reports is
	Guests         Guests   `json:"guests"`

	Source Source `json:"source"` // where its is is found
	Target Target `json:"target"` // how a want is sent

	Kind      ControlKind `json:"kind,omitempty"`
	Options   []string    `json:"options,omitempty"`   // of a choice
	Lowest    Amount      `json:"lowest,omitempty"`    // of a level: below this it does not run
	Momentary *Pulse      `json:"momentary,omitempty"` // of a switch: it only pulses
	Ask       bool        `json:"ask,omitempty"`       // ask before taking it out of auto
}

// Defaults of a new control and of a new device.
const (
	DefaultConfirm = 5 * time.Second
	DefaultResume  = 24 * time.Hour
	DefaultLease   = time.Minute
)

// NewControl returns a switch with the defaults.
func NewControl(device, slug, raw, name string) Control {
	return Control{ID: device + "." + slug, Device: device, Raw: raw, Name: name,
		ConfirmAfterMS: DefaultConfirm.Milliseconds(),
		ResumeWithinMS: DefaultResume.Milliseconds(), Kind: Switch, AtDevice: Follow, Answers: true, Guests: GuestsNothing}
}

// Resume is how long an absence may last after which the last want is sent again.
func (c *Control) Resume() time.Duration {
	if c.Dangerous {
		return 0
	}
	return Millis(c.ResumeWithinMS)
}

// Validate says in a sentence what is wrong with a control, or returns nil. Long, because it is one list of checks,
// each with its sentence.
func (c *Control) Validate() error {
	switch {
	case c.ConfirmAfterMS < 1000 || c.ConfirmAfterMS > 600_000:
		return fmt.Errorf("confirm_after of %s is %s; choose between 1 s and 10 min", c.ID, c.ConfirmAfter())
	case c.ResumeWithinMS < 0 || c.ResumeWithinMS > 365*24*3600_000:
		return fmt.Errorf("resume_within of %s is %s; choose between 0 and a year", c.ID, Millis(c.ResumeWithinMS))
	case !slices.Contains([]ControlKind{Switch, Level, Choice, Mover}, c.What()):
		return fmt.Errorf("the kind %q is unknown; use switch, level, choice or mover", c.Kind)
	case c.What() == Choice && (len(c.Options) < 2 || len(c.Options) > 50):
		return fmt.Errorf("the choice %s needs 2 to 50 options", c.ID)
	case c.Lowest < 0 || c.Lowest > 100 || c.Lowest > 0 && c.What() != Level:
		return fmt.Errorf("the lowest running level is %g; choose 0 to 100, for a level", float64(c.Lowest))
	}
	if p := c.Momentary; p != nil {
		switch {
		case c.What() != Switch || c.Safe != 0:
			return fmt.Errorf("only a switch whose safe value is off can be momentary")
		case p.ForMS < 100 || p.ForMS > 60_000 || p.Times < 0 || p.Times > 10 || p.GapMS < 0 || p.GapMS > 60_000:
			return fmt.Errorf("a pulse lasts 0.1 s to 60 s, up to 10 times with up to 60 s between")
		case p.Times > 1 && p.GapMS < 100:
			return fmt.Errorf("a pulse that is repeated needs a gap of at least 0.1 s")
		case p.DeadlineMS < 0 || p.DeadlineMS > 60_000:
			return fmt.Errorf("the deadline of a pulse is %d ms; choose up to 60 s", p.DeadlineMS)
		}
	}
	if err := c.Check(c.Safe); err != nil {
		return fmt.Errorf("the safe value: %w", err)
	}
	if err := c.Source.Validate(); err != nil {
		return err
	}
	return c.Target.Validate()
}

// Site is the whole configuration. The zero value is an empty site.
type Site struct {
	Hub      Hub
	Places   []Place
	Devices  map[string]Device
	Signals  map[string]Signal
	Controls map[string]Control
	Brokers  map[string]Broker
	Panel    Panel

	Automations map[string]*Automation // by control
	Groups      map[string]*Group
	Settings    map[string]Setting
	Presets     map[string]Preset
	Rules       map[string]*Rule
	Alerts      map[string]*Alert
	Routes      map[string]Route
	Messaging   Messaging
	Backups     Backups
	Rights      Rights

	// What decides nothing is not recorded with what the engine is given.
	Dashboards map[string]Dashboard `json:"-"`
	Views      map[string]View      `json:"-"`
	Models     map[string]Model     `json:"-"`
}

// Clone returns a copy of s. What the maps hold must not be changed, only replaced.
func (s *Site) Clone() *Site {
	c := *s
	c.Places, c.Devices, c.Signals, c.Controls, c.Brokers = slices.Clone(s.Places), copied(s.Devices), copied(s.Signals),
		copied(s.Controls), copied(s.Brokers)
	c.Automations, c.Groups, c.Settings, c.Presets, c.Rules = copied(s.Automations), copied(s.Groups), copied(s.Settings),
		copied(s.Presets), copied(s.Rules)
	c.Alerts, c.Routes, c.Dashboards, c.Models, c.Views = copied(s.Alerts), copied(s.Routes), copied(s.Dashboards),
		copied(s.Models), copied(s.Views)
	return &c
}

func copied[T any](m map[string]T) map[string]T {
	if m == nil {
		return map[string]T{}
	}
	return maps.Clone(m)
}

// Of returns the ids of a device's signals and controls, in order.
func (s *Site) Of(device string) (signals, controls []string) {
	for id, g := range s.Signals {
		if g.Device == device {
			signals = append(signals, id)
		}
	}
	for id, c := range s.Controls {
		if c.Device == device {
			controls = append(controls, id)
		}
	}
	slices.Sort(signals)
	slices.Sort(controls)
	return signals, controls
}

// Place returns the place with an id.
func (s *Site) Place(id string) (Place, bool) {
	i := slices.IndexFunc(s.Places, func(p Place) bool { return p.ID == id })
	if i < 0 {
		return Place{}, false
	}
	return s.Places[i], true
}

// Split cuts a full id into device and the rest: "drying_room.heater.is" gives "drying_room", "heater.is".
func Split(id string) (device, rest string) {
	device, rest, _ = strings.Cut(id, ".")
	return device, rest
}

// Check says what is wrong with the settings of a hub.
func (v Hub) Check() error {
	if err := CheckName("name", v.Name); err != nil {
		return err
	}
	if v.Latitude < -90 || v.Latitude > 90 || v.Longitude < -180 || v.Longitude > 180 {
		return fault.Invalid("latitude", "%g, %g is no place on the map; latitude goes from -90 to 90, longitude from -180 "+
			"to 180", v.Latitude, v.Longitude)
	}
	if v.JournalDays < 0 || v.JournalDays > 0 && v.JournalDays < 30 {
		return fault.Invalid("journal_days", "the journal is kept for at least 30 days, or for ever (0)")
	}
	if v.IdleDays < 0 || v.IdleDays > 365 {
		return fault.Invalid("idle_days", "a browser that is not used is signed out after 1 to 365 days")
	}
	if _, err := time.LoadLocation(v.Zone); err != nil || v.Zone == "" || v.Zone == "Local" {
		return fault.Invalid("zone", "%q is no time zone; use a name such as Europe/Vienna", Clip(v.Zone, 60))
	}
	return nil
}
