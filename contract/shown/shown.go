// Package shown holds what people and scripts are told of each kind of part: its configuration, its state and its version. The hub fills
// it in, the contract says the same as JSON, and clients read it.
package shown

import (
	"encoding/json"
	"time"

	"idleember/core/alert"
	"idleember/core/engine"
	"idleember/core/site"
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
	Dashboard = Part[site.Dashboard, DashboardState]
	Setting   = Part[site.Setting, SettingState]
	Preset    = Part[site.Preset, None]
	Rule      = Part[site.Rule, engine.RuleState]
	Group     = Part[site.Group, None]
	Route     = Part[site.Route, None]
)

// Page is a stretch of a list; Next begins the one after it, none: there is none.
type Page[T any] struct {
	Items []T    `json:"items"`
	Next  string `json:"next,omitempty"`
}

// Alert is an alert with where it stands, as everybody sees it who may see what it is about.
type Alert struct {
	ID      string      `json:"id"`
	Version string      `json:"version"`
	Config  site.Alert  `json:"config"`
	BuiltIn bool        `json:"built_in"` // it is there without making, and was not tuned
	Place   string      `json:"place,omitempty"`
	Device  string      `json:"device,omitempty"`
	Phase   alert.Phase `json:"phase"`
	Value   string      `json:"value"`           // what it is about, as it is now
	Limit   string      `json:"limit,omitempty"` // and what that is compared with, in words
	Was     string      `json:"was,omitempty"`
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

// Backups is how backups are made, and those that are there.
type Backups struct {
	Version string       `json:"version"`
	Config  site.Backups `json:"config"`
	Folder  string       `json:"folder"`
	List    []Backup     `json:"list"`             // the newest first
	Failed  string       `json:"failed,omitempty"` // why the last one was not made

	Encrypted bool `json:"encrypted"` // there is a passphrase

	Secret      bool       `json:"secret"`               // a password for the other place is kept
	NotCopied   string     `json:"not_copied,omitempty"` // why the newest is not at the other place
	Drilled     *time.Time `json:"drilled,omitempty"`    // when a restore was last tried and went well
	DrillFailed string     `json:"drill_failed,omitempty"`
}

// DashboardState is how one person finds a dashboard.
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

// Messaging is how messages leave the hub.
type Messaging struct {
	Version  string         `json:"version"`
	Config   site.Messaging `json:"config"`
	Password bool           `json:"password"` // one is kept for the mail server
	Signing  string         `json:"signing"`  // how webhooks are signed, for owners: the key
}

// PushInfo is what an installed console needs in order to take pushes. Key is empty where the owner has not switched them on.
type PushInfo struct {
	On   bool     `json:"on"`
	Key  string   `json:"key"`
	Mine []string `json:"mine"` // where this person's consoles take them: the services' hosts
}

// Rights is who may do what beyond what roles say.
type Rights struct {
	Version string       `json:"version"`
	Lines   []site.Right `json:"lines"`
}

// Still is a picture of what a device sees, at a time.
type Still struct {
	ID     int64     `json:"id"`
	Device string    `json:"device"`
	At     time.Time `json:"at"`
	Alert  string    `json:"alert,omitempty"` // it was taken for; empty: somebody asked
	Size   int       `json:"size"`
}

// Camera is a device's camera.
type Camera struct {
	Config   site.Camera `json:"config"`
	Password bool        `json:"password"` // one is kept
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
