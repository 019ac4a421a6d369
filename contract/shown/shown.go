// Package shown holds what people and scripts are told of each kind of part: its configuration, its state and its
// version. The hub fills it in, the contract says the same as JSON, and clients read it.
package shown

import (
	"encoding/json"
	"time"

	"idleember/core/alert"
	"idleember/core/engine"
	"idleember/core/reading"
	"idleember/core/site"
	"idleember/core/words"
)

// Part is a part of the configuration as it is told: C is its configuration, S how it is now.
type Part[C, S any] struct {
	Config  C      `json:"config"`
	State   S      `json:"state"`
	Version string `json:"version"` // of the configuration, for If-Match
}

// None is the state of what has none.
type None struct{}

// What is told of the kinds of parts.
type (
	Place     = Part[site.Place, None]
	Device    = Part[site.Device, DeviceState]
	Signal    = Part[site.Signal, SignalState]
	Control   = Part[site.Control, ControlState]
	Dashboard = Part[site.Dashboard, DashboardState]
	View      = Part[site.View, DashboardState]
	Setting   = Part[site.Setting, SettingState]
	Preset    = Part[site.Preset, AloudState]
	Rule      = Part[site.Rule, RuleState]
	Group     = Part[site.Group, AloudState]
	Route     = Part[site.Route, None]
	Alert     = Part[site.Alert, AlertState]
	Broker    = Part[site.Broker, BrokerState]
	Model     = Part[site.Model, ModelState]
	Panel     = Part[site.Panel, None]
	Messaging = Part[site.Messaging, MessagingState]
	Backups   = Part[site.Backups, BackupsState]
	Rights    = Part[site.Rights, None]
	Hub       = Part[site.Hub, HubState]

	Automation = Part[site.Automation, AutomationState]
)

// AloudState is a part read aloud, a line for each thing that it says.
type AloudState struct {
	Says []words.Text `json:"says"`
}

// RuleState is where a rule stands.
type RuleState struct {
	engine.RuleState
	AloudState
}

// Status is how the hub itself is.
type Status struct {
	Name    string    `json:"name"`
	Zone    string    `json:"zone"`
	Time    time.Time `json:"time"`
	Version string    `json:"version"`
	Boot    string    `json:"boot"`
	Trouble string    `json:"trouble"` // a sentence where the store does not take writes

	ClockDoubt string `json:"clock_doubt"` // a sentence where the computer's clock is not believed
}

// Snapshot is everything that an actor may see, as it is now.
type Snapshot struct {
	Hub      Status    `json:"hub"`
	Places   []Place   `json:"places"`
	Devices  []Device  `json:"devices"`
	Signals  []Signal  `json:"signals"`
	Controls []Control `json:"controls"`
	Settings []Setting `json:"settings"`
	Presets  []Preset  `json:"presets"`
	Alerts   []Alert   `json:"alerts"` // those that are not quiet
	Locked   []string  `json:"locked"` // controls and settings that one sees and may not switch
}

// Page is a stretch of a list; Next begins the one after it, none: there is none.
type Page[T any] struct {
	Items []T    `json:"items"`
	Next  string `json:"next,omitempty"`
}

// AlertState is where an alert stands, as everybody sees it who may see what it is about.
type AlertState struct {
	BuiltIn bool        `json:"built_in"` // it is there without making, and was not tuned
	Place   string      `json:"place,omitempty"`
	Device  string      `json:"device,omitempty"`
	Phase   alert.Phase `json:"phase"`
	Value   words.Text  `json:"value"`          // what it is about, as it is now
	Limit   words.Text  `json:"limit,omitzero"` // and what that is compared with, in words
	Was     words.Text  `json:"was,omitzero"`
	Says    Saying      `json:"says"` // where it stands
	Since   *time.Time  `json:"since,omitempty"`
	Ended   *time.Time  `json:"ended,omitempty"`
	N       int64       `json:"n"`
	Times   int         `json:"times,omitempty"`
	By      string      `json:"by,omitempty"` // who acknowledged, shelved or retired it
	Word    string      `json:"word,omitempty"`
	Until   *time.Time  `json:"until,omitempty"` // shelved until
	Told    []AlertTold `json:"told,omitempty"`
}

// AlertTold is a route that carried an alert: to whom, and how.
type AlertTold struct {
	Route string    `json:"route"`
	Name  string    `json:"name,omitempty"` // of the route; empty where it is gone
	Who   string    `json:"who,omitempty"`  // the person's name
	Via   string    `json:"via,omitempty"`
	At    time.Time `json:"at"`
	Count int       `json:"count"`
	State string    `json:"state,omitempty"` // empty: the newest message arrived; waiting; failed: it was given up
}

// BackupsState is what there is of backups.
type BackupsState struct {
	Folder      string     `json:"folder"`
	List        []Backup   `json:"list"`                 // the newest first
	Failed      string     `json:"failed,omitempty"`     // why the last one was not made
	Passphrase  bool       `json:"passphrase"`           // there is one: they are encrypted
	Password    bool       `json:"password"`             // one for the other place is kept
	NotCopied   string     `json:"not_copied,omitempty"` // why the newest is not at the other place
	Drilled     *time.Time `json:"drilled,omitempty"`    // when a restore was last tried and went well
	DrillFailed string     `json:"drill_failed,omitempty"`
}

// HubState is what a hub is reached by, and which one it is.
type HubState struct {
	Version  string    `json:"version"` // of the program
	Time     time.Time `json:"time"`
	HTTP     string    `json:"http"`            // where it listens for the console and the interface
	HTTPS    string    `json:"https,omitempty"` // the same with TLS
	MQTT     string    `json:"mqtt"`            // where its broker listens
	MQTTS    string    `json:"mqtts,omitempty"`
	UDP      string    `json:"udp,omitempty"`
	Open     bool      `json:"open"` // it listens to the house, not only to itself
	MQTTOpen bool      `json:"mqtt_open"`
	IdleDays int       `json:"idle_days"` // after which a browser that was not used is signed out, told or by default
	Zones    []string  `json:"zones"`
}

// BrokerState is how the hub gets along with a broker elsewhere.
type BrokerState struct {
	Password  bool       `json:"password"` // one is kept
	Connected bool       `json:"connected"`
	Since     *time.Time `json:"since,omitempty"`
	Why       string     `json:"why"` // why it is away
}

// ModelState is what becomes of a device model.
type ModelState struct {
	Shipped bool     `json:"shipped"`
	Devices int      `json:"devices"`            // of it
	LeftOut []string `json:"left_out,omitempty"` // when a device is kept as a model: what could not be part of it
}

// AutomationState is what an owner should look at of what the hub decides.
type AutomationState struct {
	Remarks []string     `json:"remarks"`
	Says    []words.Text `json:"says"` // the automation, read aloud
}

// SignalState is what a signal is now.
type SignalState struct {
	Place      string         `json:"place"`
	Fresh      string         `json:"fresh"` // live, stale, unknown
	Value      *reading.Value `json:"value,omitempty"`
	RawValue   *float64       `json:"raw_value,omitempty"` // before calibration, where that changed it
	At         *time.Time     `json:"at,omitempty"`        // the reading's time
	Heard      *time.Time     `json:"heard,omitempty"`     // its arrival
	Quality    string         `json:"quality"`             // good, suspect, bad
	IntervalMS int64          `json:"interval_ms"`         // how often it reports, told or learnt; 0: not yet known
	ProposeMS  int64          `json:"propose_ms,omitempty"`
	Needs      []Need         `json:"needs,omitempty"`
}

// ControlState is what is wanted of a control and what it is.
type ControlState struct {
	Place     string         `json:"place"`
	HasLease  bool           `json:"has_lease"`
	Online    bool           `json:"online"`          // its device is
	Words     []string       `json:"words,omitempty"` // what a choice or a mover can be told
	Want      *reading.Value `json:"want,omitempty"`
	WantBy    string         `json:"want_by,omitempty"`
	WantAt    *time.Time     `json:"want_at,omitempty"`
	Is        *reading.Value `json:"is,omitempty"`
	IsAt      *time.Time     `json:"is_at,omitempty"`
	IsSince   *time.Time     `json:"is_since,omitempty"`
	Phase     string         `json:"phase"`
	Held      *reading.Value `json:"held,omitempty"`
	Reason    words.Text     `json:"reason"`
	Says      Saying         `json:"says"` // its state in a few words
	Tone      engine.Tone    `json:"tone"`
	Needs     []Need         `json:"needs,omitempty"`
	Rev       int64          `json:"rev"`
	Mode      string         `json:"mode,omitempty"` // auto or manual, where there is automation
	HandUntil *time.Time     `json:"hand_until,omitempty"`
	Step      string         `json:"step,omitempty"`
	Service   string         `json:"service,omitempty"`
	Latched   []string       `json:"latched,omitempty"`
	Limit     string         `json:"limit,omitempty"`
	Proof     string         `json:"proof,omitempty"`
	Settings  []string       `json:"settings,omitempty"` // that its demands aim at
	MovedBy   string         `json:"moved_by,omitempty"` // the mover whose output it is
}

// DeviceState is a device's presence, and what came of it.
type DeviceState struct {
	Online      bool       `json:"online"`
	Asleep      bool       `json:"asleep"` // online by its schedule, and not connected now
	Since       *time.Time `json:"since,omitempty"`
	LastHeard   *time.Time `json:"last_heard,omitempty"`
	From        string     `json:"from,omitempty"` // the address of its newest session
	Why         string     `json:"why,omitempty"`  // why it is offline
	Refused     int64      `json:"refused"`        // messages and values that could not be taken
	LastReason  string     `json:"last_reason,omitempty"`
	Clock       string     `json:"clock,omitempty"` // what is wrong with it
	Camera      bool       `json:"camera"`          // it has one
	Password    bool       `json:"camera_password"` // one is kept for it
	Connections int        `json:"connections"`
	Replaced    int64      `json:"replaced"` // readings that took the place of differing ones of the same time
	Messages    int64      `json:"messages"` // since the hub started
	PerMinute   float64    `json:"per_minute"`
	EveryMS     int64      `json:"every_ms"`  // the median gap between messages; 0: not yet known
	JitterMS    int64      `json:"jitter_ms"` // the median distance from it

	Limits site.Limits `json:"limits"` // of what it may send, told or by default
	Says   Saying      `json:"says"`   // whether it is there
	Warn   bool        `json:"warn,omitempty"`
	Needs  []Need      `json:"needs,omitempty"`
}

// DashboardState is how one person finds a dashboard, or a view.
type DashboardState struct {
	By   string `json:"by"`   // the name of who made it
	Mine bool   `json:"mine"` // whoever asks may change it
}

// FormulaNow is what a formula comes to now.
type FormulaNow struct {
	Formula string `json:"formula"`
	Value   string `json:"value"` // as in a Checked; unknown where it is
	Reason  string `json:"reason,omitempty"`
}

// Wall is a screen that shows one dashboard to whoever stands before it.
type Wall struct {
	ID        string   `json:"id"`
	Name      string   `json:"name"`
	Dashboard string   `json:"dashboard"`
	Switches  []string `json:"switches,omitempty"` // controls, settings and presets that it may switch
	DimFrom   string   `json:"dim_from,omitempty"` // a time of day, as 22:00; none: never
	DimUntil  string   `json:"dim_until,omitempty"`
	CreatedMS int64    `json:"created_ms,omitempty"`
}

// Digest is what happened in a stretch, in words.
type Digest struct {
	From     time.Time       `json:"from"`
	To       time.Time       `json:"to"`
	Hub      string          `json:"hub"`
	Zone     string          `json:"zone"`
	Sections []DigestSection `json:"sections"`
}

// DigestSection is about one thing, the most important line first.
type DigestSection struct {
	Title string       `json:"title"`
	Lines []DigestLine `json:"lines"`
}

// DigestLine is a sentence.
type DigestLine struct {
	Text   string `json:"text"`
	Series string `json:"series,omitempty"` // what a chart of it shows
	Grave  bool   `json:"-"`                // it is about something critical
}

// Checked is what the hub thinks of a formula.
type Checked struct {
	OK     bool           `json:"ok"`
	Kind   site.ValueKind `json:"kind,omitempty"`
	Unit   string         `json:"unit,omitempty"`
	Value  string         `json:"value,omitempty"` // what it comes to now
	Reason string         `json:"reason,omitempty"`
	From   int            `json:"from"` // what is wrong, in characters
	To     int            `json:"to"`
}

// FormulaWord is something that a formula can name.
type FormulaWord struct {
	Text string `json:"text"`
	Kind string `json:"kind"` // signal, control, setting, function, word
	Says string `json:"says"`
	Unit string `json:"unit,omitempty"`
}

// LinkedAlert is what a link in a message leads to.
type LinkedAlert struct {
	Alert   Alert     `json:"alert"`
	Name    string    `json:"name"`  // of the hub
	Place   string    `json:"place"` // its name
	Zone    string    `json:"zone"`
	Past    bool      `json:"past"` // the time that the message told of is over; what stands here is of a later one
	Expires time.Time `json:"expires"`
}

// MessagingState is what there is for messages to leave the hub by.
type MessagingState struct {
	Password bool   `json:"password"` // one is kept for the mail server
	Signing  string `json:"signing"`  // how webhooks are signed: the key
}

// PushInfo is what an installed console needs in order to take pushes. Key is empty where the owner has not switched
// them on.
type PushInfo struct {
	On   bool     `json:"on"`
	Key  string   `json:"key"`
	Mine []string `json:"mine"` // where this person's consoles take them: the services' hosts
}

// Still is a picture of what a device sees, at a time.
type Still struct {
	ID     int64     `json:"id"`
	Device string    `json:"device"`
	At     time.Time `json:"at"`
	Alert  string    `json:"alert,omitempty"` // it was taken for; empty: somebody asked
	Size   int       `json:"size"`
}

// Earlier is a part of the configuration as it was before a change, and after it.
type Earlier struct {
	Entry  int64           `json:"entry"`
	Object string          `json:"object"`
	Before json.RawMessage `json:"before"`
	After  json.RawMessage `json:"after,omitempty"` // none: it was taken away
}

// SettingState is a setting's value now.
type SettingState struct {
	Place  string       `json:"place,omitempty"`
	Value  site.Amount  `json:"value"`
	Text   string       `json:"text"`
	Rev    int64        `json:"rev"`
	At     *time.Time   `json:"at,omitempty"`
	By     string       `json:"by,omitempty"`
	Until  *time.Time   `json:"until,omitempty"`
	Before *site.Amount `json:"before,omitempty"`
	Copy   *site.Amount `json:"copy,omitempty"`   // what the device that has a copy of it says
	Locked string       `json:"locked,omitempty"` // why it cannot be changed now
}

// Backup is a copy of all that the hub keeps.
type Backup struct {
	Name    string    `json:"name"`
	At      time.Time `json:"at"`
	Bytes   int64     `json:"bytes"`
	Damaged string    `json:"damaged,omitempty"` // what of the database was damaged when it was made; empty: nothing
	Of      string    `json:"of,omitempty"`      // of which other hub it is; empty: of this one
}

// Storage is what the hub keeps, and what it wrote to the disk.
type Storage struct {
	DatabaseBytes int64 `json:"database_bytes"`
	RecordedBytes int64 `json:"recorded_bytes"` // what the hub was given, for finding out why
	RecordedMost  int64 `json:"recorded_most"`  // with more, the oldest of it goes
	// as the system counts since Since; nil where it does not tell
	WrittenBytes *int64       `json:"written_bytes,omitempty"`
	Since        time.Time    `json:"since"`
	Series       []KeptSeries `json:"series"`
}

// KeptSeries is how much is kept of one series.
type KeptSeries struct {
	Series string    `json:"series"`
	Name   string    `json:"name"`
	Count  int64     `json:"count"` // readings
	Bytes  int64     `json:"bytes"` // of their blocks
	From   time.Time `json:"from"`
	To     time.Time `json:"to"`
}

// Remark is a note, or a message to people.
type Remark struct {
	ID     int64      `json:"id"`
	At     time.Time  `json:"at"`
	Object string     `json:"object"`
	Text   string     `json:"text"`
	Grave  bool       `json:"grave"`
	By     string     `json:"by"`
	Until  *time.Time `json:"until,omitempty"` // a note about a stretch
}

// AlertEvent is what became of an alert at a time.
type AlertEvent struct {
	ID       int64         `json:"id"`
	At       time.Time     `json:"at"`
	Alert    string        `json:"alert"`
	Name     string        `json:"name"`
	Place    string        `json:"place"`
	Severity site.Severity `json:"severity"`
	N        int64         `json:"n"`    // of which time it was raised
	What     string        `json:"what"` // raised, over, acknowledged and so on
	Value    string        `json:"value"`
	By       string        `json:"by"`
	Word     string        `json:"word"`
}

// AnyPart is a part of any kind.
type AnyPart = Part[any, any]
