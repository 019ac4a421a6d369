package engine

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"idleember/core/access"
	"idleember/core/alert"
	"idleember/core/control"
	"idleember/core/formula"
	"idleember/core/reading"
	"idleember/core/site"
	"idleember/core/words"
)

// Input is what can happen to an engine.
type Input interface{ input() }

// SiteChanged brings a new configuration.
type SiteChanged struct{ Site *site.Site }

// Restored brings back what the store kept, once, after the first SiteChanged.
type Restored struct {
	Alive      time.Time // when the hub was last known to run
	Doubted    bool      // the clock was wrong in that run, and nobody can say any more by how much
	Signals    []SignalState
	Controls   []ControlState
	Devices    []DeviceState
	Demands    []DemandsState
	Settings   []SettingState
	Rules      []RuleState
	Alerts     []alert.State
	Conditions map[string]CondState // by the key that Keep named
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

// Listening says that a device can hear the lease from now on, in one of its sessions.
type Listening struct{ Device, Session string }

// Offline says that a session of a device ended; Bye that the device said so itself.
type Offline struct {
	Device, Session, Why string
	Bye                  bool
}

// Report says what a control is.
type Report struct {
	Control string
	Session string
	Value   site.Amount
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

// Command is a wish for a control: a value by hand.
type Command struct {
	Control string
	To      site.Amount
	Until   time.Time // then auto again, or the safe value; zero: as its owner chose
	Actor   access.Actor
	How     How
}

// ToAuto gives a control back to the hub.
type ToAuto struct {
	Control string
	Actor   access.Actor
}

// Serve takes a control out of service, or puts it back.
type Serve struct {
	Control string
	Service control.Service
	Actor   access.Actor
}

// Leave begins to take controls away: they go to their safe value, or where an interlock forces one and Stay is set to
// that, and nothing else counts. Withdraw or End ends it.
type Leave struct {
	Controls []string
	Stay     bool
	End      bool // they are not taken away after all
	Actor    access.Actor
}

// Reset lets latched interlocks of a control go, where their condition is over.
type Reset struct {
	Control string
	Actor   access.Actor
}

// Set changes a setting. With an end it goes back to what it was before.
type Set struct {
	Setting string
	To      site.Amount
	Until   time.Time
	Actor   access.Actor
}

// Apply applies a preset. With an end, what it set goes back.
type Apply struct {
	Preset string
	Until  time.Time
	Actor  access.Actor
}

// Mirrored is what a device says of its copy of a setting: its value, the revision that it was based on, and how long
// ago the device changed it, 0 where it did not.
type Mirrored struct {
	Setting string
	Value   site.Amount
	Based   int64
	Age     time.Duration
}

// Sample is a value at a time.
type Sample struct {
	At    time.Time
	Value float64
}

// History brings what the store holds of an id from a time until now, oldest first, as NeedHistory asked.
type History struct {
	ID      string
	Span    time.Duration
	From    time.Time
	Samples []Sample // with the one that held before From first, where there is one
}

// Late says that readings of the past were stored for a signal.
type Late struct{ Signal string }

// Withdraw ends what is wanted of a control, because it or its device is taken away. Nothing is decided of it before
// its device is enabled again or Leave with End says that it stays, as with another board in the place of the old one.
// Doubt says that its safe value was not confirmed: then the device does not hear the hub for a while, so that it falls
// back by itself.
type Withdraw struct {
	Control string
	Doubt   bool
}

// ClockSet says that the hub's clock went on by By, forward or back, since somebody set it.
type ClockSet struct {
	From time.Time // since when, by the clock as it was, its times are off by that
	By   time.Duration
}

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
func (Leave) input()       {}
func (ToAuto) input()      {}
func (Serve) input()       {}
func (Reset) input()       {}
func (Set) input()         {}
func (Apply) input()       {}
func (Mirrored) input()    {}
func (History) input()     {}
func (Late) input()        {}
func (ClockSet) input()    {}
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
	Own     bool // At is what the device's own clock said, not the hub's
}

// Refused says why a reading was not taken.
type Refused struct{ Device, Signal, Reason string }

// SignalChanged says that a signal became live, stale or unknown.
type SignalChanged struct{ State SignalState }

// SignalLearnt says how often a signal reports.
type SignalLearnt struct{ State SignalState }

// ControlChanged carries a control's state, to be kept and shown.
type ControlChanged struct{ State ControlState }

// DeviceChanged carries a device's presence, to be kept and shown.
type DeviceChanged struct{ State DeviceState }

// Want is to be sent to a device.
type Want struct {
	Device, Control string
	Value           site.Amount
	Again           bool  // it was sent before
	Fleeting        bool  // no broker may keep it
	Urgent          bool  // it must not wait for the disk: the safe value, or what an interlock forces
	Rev             int64 // of two wants for a control that arrive out of order, the higher one counts

	// Pulse is the id of a momentary want: it is sent once, kept nowhere, and dropped after its deadline.
	Pulse    string
	Deadline time.Time
}

// Withdrawn says that nothing is wanted of a control any more: a kept message must go.
type Withdrawn struct {
	Device, Control string
	Rev             int64
}

// Keep has the store remember a state that belongs to nothing that is shown: of a condition, of a rule or of the
// demands of a control. What Kept makes of another effect holds the effect itself.
type Keep struct {
	Kind, ID string
	State    any
}

// SettingChanged carries a setting's state, to be kept and shown.
type SettingChanged struct{ State SettingState }

// Mirror is to be sent to a device that has a copy of a setting.
type Mirror struct {
	Device, Setting, Raw string
	Value                site.Amount
	Word                 string // of a choice: the option
	Rev                  int64
}

// Said is what the device is told: a choice's word, else a number.
func (m Mirror) Said() any {
	if m.Word != "" {
		return m.Word
	}
	return float64(m.Value)
}

// mirrorOf tells a device of the value of a setting.
func mirrorOf(cfg site.Setting, s SettingState) Mirror {
	device, _ := site.Split(s.ID)
	m := Mirror{Device: device, Setting: s.ID, Raw: cfg.Mirror, Value: s.Value, Rev: s.Rev}
	if cfg.Kind == site.SetChoice {
		m.Word = cfg.Say(s.Value)
	}
	return m
}

// Mirrors are the settings of which a device has a copy, by id.
func (e *Engine) Mirrors(device string) (out []Mirror) {
	for _, id := range slices.Sorted(maps.Keys(e.settings)) {
		cfg := e.site.Settings[id]
		if owner, _ := site.Split(id); owner == device && cfg.Mirror != "" {
			out = append(out, mirrorOf(cfg, e.settings[id].SettingState))
		}
	}
	return out
}

// NeedHistory asks for the values of an id over a span until now, as a History.
type NeedHistory formula.Need

// Message is to be told to people.
type Message struct {
	Object string
	Text   words.Fact
	Grave  bool
	By     string
}

// Note is a remark to be kept.
type Note struct {
	Object string
	Text   string
	By     access.Actor
}

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
	Reason         words.Fact
}

func (*Store) effect()         {}
func (Keep) effect()           {}
func (SettingChanged) effect() {}
func (Mirror) effect()         {}
func (NeedHistory) effect()    {}
func (Message) effect()        {}
func (Note) effect()           {}
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
	Interval time.Duration   `json:"interval"`        // learnt, 0 while unknown
	Fixed    time.Duration   `json:"fixed,omitempty"` // what automation relies on, 0 while unknown
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
	Assumed     Phase = "assumed"     // a mover that no contact showed to be there
)

// ControlState is what the hub wants of a control and what the device says that it is.
type ControlState struct {
	ID      string       `json:"id"`
	Want    *site.Amount `json:"want"`
	WantBy  access.Actor `json:"want_by"`
	WantAt  time.Time    `json:"want_at"`
	Is      *site.Amount `json:"is"`
	IsAt    time.Time    `json:"is_at"`    // when it was last reported
	IsSince time.Time    `json:"is_since"` // when it last changed
	Phase   Phase        `json:"phase"`
	Tries   int          `json:"tries"`
	Held    *site.Amount `json:"held"` // what was given up after an absence; a tap resumes it
	Reason  words.Fact   `json:"reason"`
	Rev     int64        `json:"rev"` // counts commands, so that a waiting caller knows whether its own was overtaken

	Mode      Mode         `json:"mode,omitempty"`
	Hand      *site.Amount `json:"hand,omitempty"` // the value by hand
	HandBy    access.Actor `json:"hand_by,omitzero"`
	HandAt    time.Time    `json:"hand_at,omitzero"`
	HandUntil time.Time    `json:"hand_until,omitzero"` // zero: without an end
	How       How          `json:"how,omitempty"`

	Step       control.Step    `json:"step,omitempty"` // what decided
	Service    control.Service `json:"service,omitempty"`
	ServiceBy  access.Actor    `json:"service_by,omitzero"`
	ServiceAt  time.Time       `json:"service_at,omitzero"`
	Locks      []LockState     `json:"locks,omitempty"`       // its interlocks
	Latched    []string        `json:"latched,omitempty"`     // the ids of those that a person must reset
	MayRun     bool            `json:"may_run,omitempty"`     // its output may be on, for all that the hub knows
	RunAt      time.Time       `json:"run_at,omitzero"`       // when it was last switched on
	StopAt     time.Time       `json:"stop_at,omitzero"`      // and off
	RanMS      int64           `json:"ran_ms,omitempty"`      // for how long it ran in all, but for the run it is in
	ServicedMS int64           `json:"serviced_ms,omitempty"` // and of that before its last service
	// for how long it ran since it last was off for a whole rest, but for the run it is in
	UsedMS     int64         `json:"used_ms,omitempty"`
	RestUntil  time.Time     `json:"rest_until,omitzero"`
	Starts     []time.Time   `json:"starts,omitempty"` // when it was last switched on, where that is limited
	Spent      control.Limit `json:"spent,omitempty"`  // why it stays off until somebody tells it anew
	Limit      control.Limit `json:"limit,omitempty"`  // what keeps it from being what is asked for
	Floor      string        `json:"floor,omitempty"`  // "blind": it is to protect, and its sensor is unknown
	Damped     *Damping      `json:"damped,omitempty"` // it chattered
	Before     *site.Amount  `json:"before,omitempty"` // what was wanted before a preset with an end
	Mover      *MoverState   `json:"mover,omitempty"`
	Proof      Proved        `json:"proof,omitempty"`
	ProofTries int           `json:"proof_tries,omitempty"`
	Pulse      PulseState    `json:"pulse,omitzero"`
	Demands    []DemandState `json:"demands,omitempty"`   // where versions before kept what its demands remember
	Knew       bool          `json:"knew,omitempty"`      // auto once knew all that it needs
	Lost       bool          `json:"lost,omitempty"`      // and then did not
	SettledAt  time.Time     `json:"settled_at,omitzero"` // auto counts on its readings from then on
}

// Recorded is an input with its time, as the store keeps it.
type Recorded struct {
	Now  Now             `json:"now"`
	Kind string          `json:"kind"`
	In   json.RawMessage `json:"in"`

	reading *Reading // in place of In: of these there are many
}

// Record packs an input for the store.
func Record(now Now, in Input) (Recorded, error) {
	if x, ok := in.(Reading); ok {
		return Recorded{Now: now, Kind: "engine.Reading", reading: &x}, nil
	}
	b, err := json.Marshal(in)
	return Recorded{Now: now, Kind: strings.TrimPrefix(fmt.Sprintf("%T", in), "*"), In: b}, err
}

// Bytes is about how much it takes in memory.
func (r *Recorded) Bytes() int {
	if x := r.reading; x != nil {
		return 64 + len(x.Value.Text)
	}
	return len(r.In)
}

func (r *Recorded) asJSON() *Recorded {
	b, err := json.Marshal(r.reading)
	if err != nil { // what enters is finite
		b = nil
	}
	return &Recorded{Now: r.Now, Kind: r.Kind, In: b}
}

// unpackers make inputs of what Record packed, by kind.
var unpackers = map[string]func(json.RawMessage) (Input, error){
	"engine.SiteChanged": unpack[SiteChanged], "engine.Restored": unpack[Restored], "engine.Reading": unpack[Reading],
	"engine.Online": unpack[Online], "engine.Listening": unpack[Listening], "engine.Offline": unpack[Offline],
	"engine.Report": unpack[Report], "engine.Command": unpack[Command], "engine.ToAuto": unpack[ToAuto],
	"engine.Serve": unpack[Serve], "engine.Leave": unpack[Leave],
	"engine.Reset": unpack[Reset], "engine.Set": unpack[Set], "engine.Apply": unpack[Apply],
	"engine.Mirrored":    unpack[Mirrored],
	"engine.AlertAction": unpack[AlertAction], "engine.Learnt": unpack[Learnt], "engine.Serviced": unpack[Serviced],
	"engine.Health":  unpack[Health],
	"engine.History": unpack[History], "engine.Late": unpack[Late], "engine.Withdraw": unpack[Withdraw],
	"engine.ClockSet": unpack[ClockSet], "engine.Tick": unpack[Tick],
}

func unpack[T Input](b json.RawMessage) (Input, error) {
	var in T
	err := json.Unmarshal(b, &in)
	return in, err
}

// Input unpacks what Record packed.
func (r Recorded) Input() (Input, error) {
	if r.reading != nil {
		return *r.reading, nil
	}
	if f := unpackers[r.Kind]; f != nil {
		return f(r.In)
	}
	return nil, fmt.Errorf("no input is called %q", r.Kind)
}
