package engine

import (
	"encoding/json"
	"fmt"
	"time"

	"idleember/core/access"
	"idleember/core/reading"
	"idleember/core/site"
)

// Input is what can happen to an engine.
type Input interface{ input() }

// SiteChanged brings a new configuration.
type SiteChanged struct{ Site *site.Site }

// Restored brings back what the store kept, once, after the first SiteChanged.
type Restored struct {
	Alive    time.Time // when the hub was last known to run
	Signals  []SignalState
	Controls []ControlState
	Devices  []DeviceState
}

// Reading is one raw value of a signal, already of the signal's kind, not yet calibrated.
type Reading struct {
	Signal string
	Stamp  time.Time // the device's time; zero where it sent none
	Newest bool      // no other reading of the same message is stamped later
	Value  reading.Value
}

// Online says that a session of a device began, or, for one that expires, goes on.
type Online struct {
	Device, Session, From string
	Expires               bool // it has no end of its own: it ends when three messages are missing
}

// Listening says that a device can hear the lease from now on.
type Listening struct{ Device string }

// Offline says that a session of a device ended; Bye that the device said so itself.
type Offline struct {
	Device, Session, Why string
	Bye                  bool
}

// Report says what a control is.
type Report struct {
	Control string
	Session string
	On      bool
	By      By
}

// By is the cause that a device gives for a report.
type By string

// The causes that a device can mark a report with.
const (
	ByNothing By = ""      // not said
	ByHand    By = "hand"  // somebody switched at the device
	ByLease   By = "lease" // it fell to its safe value because the beats stopped
)

// Command is a person's wish for a control.
type Command struct {
	Control string
	On      bool
	Actor   access.Actor
}

// Withdraw ends what is wanted of a control, because it or its device is taken away.
type Withdraw struct{ Control string }

// Tick says nothing but the time.
type Tick struct{}

func (SiteChanged) input() {}
func (Restored) input()    {}
func (Reading) input()     {}
func (Online) input()      {}
func (Listening) input()   {}
func (Offline) input()     {}
func (Report) input()      {}
func (Command) input()     {}
func (Withdraw) input()    {}
func (Tick) input()        {}

// Effect is what an engine wants done.
type Effect interface{ effect() }

// Store keeps a reading. Live ones are the signal's value now.
type Store struct {
	Signal  string
	At      time.Time
	Value   reading.Value
	Raw     *float64 // what it was before calibration, where that changed it
	Quality reading.Quality
	Live    bool
}

// Refused says why a reading was not taken.
type Refused struct{ Device, Signal, Reason string }

// SignalChanged says that a signal became live, stale or unknown.
type SignalChanged struct{ State SignalState }

// SignalLearnt says how often a signal reports.
type SignalLearnt struct {
	ID       string
	Interval time.Duration
}

// ControlChanged carries a control's state, to be kept and shown.
type ControlChanged struct{ State ControlState }

// DeviceChanged carries a device's presence, to be kept and shown.
type DeviceChanged struct{ State DeviceState }

// Want is to be sent to a device.
type Want struct {
	Device, Control string
	On              bool
	Again           bool  // it was sent before
	Rev             int64 // of two wants for a control that arrive out of order, the higher one counts
}

// Withdrawn says that nothing is wanted of a control any more: a kept message must go.
type Withdrawn struct{ Device, Control string }

// Beat is the hub's sign of life to a device.
type Beat struct {
	Device string
	Lease  time.Duration
}

// Journal is an entry for the journal.
type Journal struct {
	Actor          access.Actor
	Action, Object string
	Before, After  string
	Reason         string
}

func (Store) effect()          {}
func (Refused) effect()        {}
func (SignalChanged) effect()  {}
func (SignalLearnt) effect()   {}
func (ControlChanged) effect() {}
func (DeviceChanged) effect()  {}
func (Want) effect()           {}
func (Withdrawn) effect()      {}
func (Beat) effect()           {}
func (Journal) effect()        {}

// Freshness says how far a signal's value is of today.
type Freshness string

// A signal is Unknown until its first reading.
const (
	Unknown Freshness = "unknown"
	Live    Freshness = "live"
	Stale   Freshness = "stale"
)

// SignalState is a signal's value now.
type SignalState struct {
	ID       string          `json:"id"`
	Seen     bool            `json:"seen"`
	At       time.Time       `json:"at"`    // the reading's time
	Heard    time.Time       `json:"heard"` // its arrival
	Value    reading.Value   `json:"value"`
	Raw      *float64        `json:"raw,omitempty"` // before calibration, where that changed it
	Quality  reading.Quality `json:"quality"`
	Fresh    Freshness       `json:"fresh"`
	Interval time.Duration   `json:"interval"` // learnt, 0 while unknown
}

// DeviceState is a device's presence.
type DeviceState struct {
	ID        string    `json:"id"`
	Online    bool      `json:"online"`
	Since     time.Time `json:"since"` // online or offline since
	LastHeard time.Time `json:"last_heard"`
	From      string    `json:"from"`             // the address of its newest session
	Why       string    `json:"why"`              // why it is offline
	Asleep    bool      `json:"asleep,omitempty"` // online by its schedule, and not connected now
}

// Phase is how far a want has come.
type Phase string

// The phases of a want.
const (
	Idle        Phase = ""            // nothing was ever wanted
	Pending     Phase = "pending"     // sent, not yet answered
	Confirmed   Phase = "confirmed"   // the device says so
	Unconfirmed Phase = "unconfirmed" // the confirm time is over
	Sent        Phase = "sent"        // the device cannot answer
)

// ControlState is what the hub wants of a control and what the device says that it is.
type ControlState struct {
	ID      string       `json:"id"`
	Want    *bool        `json:"want"`
	WantBy  access.Actor `json:"want_by"`
	WantAt  time.Time    `json:"want_at"`
	Is      *bool        `json:"is"`
	IsAt    time.Time    `json:"is_at"`    // when it was last reported
	IsSince time.Time    `json:"is_since"` // when it last changed
	Phase   Phase        `json:"phase"`
	Tries   int          `json:"tries"`
	Held    *bool        `json:"held"` // what was given up after an absence; a tap resumes it
	Reason  string       `json:"reason"`
	Rev     int64        `json:"rev"` // counts commands, so that a waiting caller knows whether its own was overtaken
}

// Recorded is an input with its time, as the store keeps it.
type Recorded struct {
	Now  Now             `json:"now"`
	Kind string          `json:"kind"`
	In   json.RawMessage `json:"in"`
}

// Record packs an input for the store.
func Record(now Now, in Input) (Recorded, error) {
	b, err := json.Marshal(in)
	return Recorded{now, fmt.Sprintf("%T", in), b}, err
}

// Input unpacks what Record packed.
func (r Recorded) Input() (Input, error) {
	var err error
	unpack := func(p any) { err = json.Unmarshal(r.In, p) }
	switch r.Kind {
	case "engine.SiteChanged":
		var in SiteChanged
		unpack(&in)
		return in, err
	case "engine.Restored":
		var in Restored
		unpack(&in)
		return in, err
	case "engine.Reading":
		var in Reading
		unpack(&in)
		return in, err
	case "engine.Online":
		var in Online
		unpack(&in)
		return in, err
	case "engine.Listening":
		var in Listening
		unpack(&in)
		return in, err
	case "engine.Offline":
		var in Offline
		unpack(&in)
		return in, err
	case "engine.Report":
		var in Report
		unpack(&in)
		return in, err
	case "engine.Command":
		var in Command
		unpack(&in)
		return in, err
	case "engine.Withdraw":
		var in Withdraw
		unpack(&in)
		return in, err
	case "engine.Tick":
		return Tick{}, nil
	}
	return nil, fmt.Errorf("no input is called %q", r.Kind)
}
