package site

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
)

// AlertKind says what an alert looks at.
type AlertKind string

// Severity says how much an alert matters.
type Severity string

// The severities, from least to most.
const (
	Info     Severity = "info"
	Warning  Severity = "warning"
	Critical Severity = "critical"
)

var severities = []Severity{Info, Warning, Critical}

// AtLeast reports whether s matters as much as t.
func (s Severity) AtLeast(t Severity) bool {
	return slices.Index(severities, s) >= slices.Index(severities, t)
}

// Alert is a condition on readings, devices or controls that people must know of. Which fields count depends on the
// kind.
type Alert struct {
	ID       string    `json:"id"`
	Name     string    `json:"name"`
	Kind     AlertKind `json:"kind"`
	Of       string    `json:"of,omitempty"` // the signal, device or control
	Severity Severity  `json:"severity"`
	Text     string    `json:"text,omitempty"` // what to do

	Limit float64 `json:"limit,omitempty"`
	Upper float64 `json:"upper,omitempty"` // outside: the upper end of the band; Limit is the lower
	Band  float64 `json:"band,omitempty"`  // dead band: how far back it must be before the alert ends
	Falls bool    `json:"falls,omitempty"` // faster, trend: it is about falling
	// faster: in what time; silent, unchanged: for how long; trend: within what time
	SpanMS int64  `json:"span_ms,omitempty"`
	Word   string `json:"word,omitempty"`  // event: the text that counts
	When   string `json:"when,omitempty"`  // formula
	Until  string `json:"until,omitempty"` // formula: when it ends; empty: when When is false

	AfterMS  int64  `json:"after_ms,omitempty"`  // it must hold for this long
	SettleMS int64  `json:"settle_ms,omitempty"` // and be over for this long
	RestMS   int64  `json:"rest_ms,omitempty"`   // after it ended it does not come again for this long
	Days     []int  `json:"days,omitempty"`      // 1 for Monday to 7 for Sunday; empty: every day
	From     string `json:"from,omitempty"`      // only at this time of day, as in 22:00
	To       string `json:"to,omitempty"`
	Latch    bool   `json:"latch,omitempty"` // it stays until somebody clears it
	Early    string `json:"early,omitempty"` // a limit before the limit, told once: "getting there"
	Off      bool   `json:"off,omitempty"`   // it is not looked at
}

// Validate says in a sentence what is wrong with the alert, or returns nil. It does not look into formulas.
func (a *Alert) Validate(s *Site) error {
	switch {
	case !slices.Contains(severities, a.Severity):
		return fmt.Errorf("the severity %q is unknown; use info, warning or critical", a.Severity)
	case len(a.Text) > 500:
		return fmt.Errorf("what to do has %d characters; use up to 500", len(a.Text))
	case a.AfterMS < 0 || a.SettleMS < 0 || a.RestMS < 0 || Millis(max(a.AfterMS, a.SettleMS, a.RestMS)) > 7*24*time.Hour:
		return fmt.Errorf("delays and rests are 0 to 7 days")
	case a.Band < 0:
		return fmt.Errorf("the dead band is %g; choose 0 or more", a.Band)
	}
	if err := a.validateWindow(); err != nil {
		return err
	}
	k := a.kind()
	if k == nil {
		return fmt.Errorf("the kind %q is unknown; use one of %s", a.Kind, strings.Join(alertKindNames(), ", "))
	}
	if a.Early != "" {
		_, early := k.(earlyKind)
		if _, err := strconv.ParseFloat(a.Early, 64); err != nil || !early {
			return fmt.Errorf("the earlier limit must be a number, of an alert that is above or below a limit")
		}
	}
	return k.validate(a, s.alertThing(a.Of))
}

func (a *Alert) validateWindow() error {
	for _, d := range a.Days {
		if d < 1 || d > 7 {
			return fmt.Errorf("day %d is none; 1 is Monday, 7 is Sunday", d)
		}
	}
	if (a.From == "") != (a.To == "") {
		return fmt.Errorf("a time of day has a beginning and an end; tell both, or none")
	}
	for _, t := range []string{a.From, a.To} {
		if t == "" {
			continue
		}
		if _, err := time.Parse("15:04", t); err != nil {
			return fmt.Errorf("%q is no time of day; write it as 22:00", t)
		}
	}
	if a.From != "" && a.From == a.To {
		return fmt.Errorf("the time of day ends when it begins; leave both out for the whole day")
	}
	return nil
}

// Condition is the alert as a condition; early is that of the earlier limit, nil where there is none.
func (a *Alert) Condition() (c Condition, early *Condition) {
	k := a.kind()
	if k == nil {
		return c, nil
	}
	if a.Early != "" {
		limit, _ := strconv.ParseFloat(a.Early, 64)
		if k, ok := k.(earlyKind); ok {
			early = a.within(k.at(a, limit))
		}
	}
	return *a.within(k.condition(a)), early
}

// within limits a condition to the alert's days and time of day, and gives it its delays.
func (a *Alert) within(c Condition) *Condition {
	c.AfterMS, c.SettleMS = a.AfterMS, a.SettleMS
	if c.Until == c.When || a.Band == 0 && a.Kind != AlertFormula { // without a dead band it ends when it is no longer so
		c.Until = ""
	}
	var only []string
	if len(a.Days) > 0 {
		var days []string
		for _, d := range a.Days {
			days = append(days, "weekday == "+strconv.Itoa(d))
		}
		only = append(only, "("+strings.Join(days, " or ")+")")
	}
	if a.From != "" {
		word := " and "
		if a.From > a.To { // over midnight
			word = " or "
		}
		only = append(only, "(now >= at("+strconv.Quote(a.From)+")"+word+"now < at("+strconv.Quote(a.To)+"))")
	}
	if len(only) == 0 {
		return &c
	}
	window := strings.Join(only, " and ")
	if c.Until != "" {
		c.Until = "(" + c.Until + ") or not (" + window + ")"
	}
	c.When = "(" + c.When + ") and " + window
	return &c
}

// Formulas returns every formula of the alert, each with its place.
func (a *Alert) Formulas(each func(place, text string, quantity bool)) {
	c, early := a.Condition()
	each("when", c.When, false)
	if c.Until != "" {
		each("until", c.Until, false)
	}
	if early != nil {
		each("early", early.When, false)
	}
}

// How a message reaches somebody.
const (
	ByMail    = "mail"
	ByWebhook = "webhook"
	ByMQTT    = "mqtt"
	ByPush    = "push"
)

// Route says how somebody is told of alerts, and of which.
type Route struct {
	ID       string   `json:"id"`
	Name     string   `json:"name"`
	Person   string   `json:"person,omitempty"` // the account it is for; empty: nobody in particular
	Via      string   `json:"via"`              // mail, webhook, mqtt, push
	To       string   `json:"to,omitempty"`     // the mail address, the URL, the topic
	Least    Severity `json:"least"`            // alerts of at least this severity
	Places   []string `json:"places,omitempty"` // only of these places; empty: of all
	From     string   `json:"from,omitempty"`   // quiet hours begin; only critical ones come then
	Until    string   `json:"until,omitempty"`  // and end
	AfterMS  int64    `json:"after_ms,omitempty"`
	RemindMS int64    `json:"remind_ms,omitempty"` // again as long as nobody acknowledged; 0: never
	Ends     bool     `json:"ends,omitempty"`      // tell also that it is over
	Body     string   `json:"body,omitempty"`      // webhook: a body of one's own, with {fields}; empty: CloudEvents JSON
	Type     string   `json:"type,omitempty"`      // webhook: the content type of that body
	Inside   bool     `json:"inside,omitempty"`    // webhook: it may go to addresses in the house
	Broker   string   `json:"broker,omitempty"`    // mqtt: the broker elsewhere that it goes to
	Off      bool     `json:"off,omitempty"`
}

// Validate says in a sentence what is wrong with the route, or returns nil. Long, because it is one list of checks,
// each with its sentence.
func (r Route) Validate() error {
	switch {
	case !slices.Contains([]string{ByMail, ByWebhook, ByMQTT, ByPush}, r.Via):
		return fmt.Errorf("the way %q is unknown; use mail, webhook, mqtt or push", r.Via)
	case !slices.Contains(severities, r.Least):
		return fmt.Errorf("the severity %q is unknown; use info, warning or critical", r.Least)
	case r.Via != ByPush && strings.TrimSpace(r.To) == "":
		return fmt.Errorf("tell where it goes: a mail address, a URL or a topic")
	case r.Via == ByMail && (strings.Count(r.To, "@") != 1 || strings.ContainsAny(r.To, " \r\n,;<>")):
		return fmt.Errorf("%q is no mail address", r.To)
	case r.Via == ByWebhook && !strings.HasPrefix(r.To, "http://") && !strings.HasPrefix(r.To, "https://"):
		return fmt.Errorf("%q is no address; it begins with https:// or http://", r.To)
	case r.Via == ByMQTT && (strings.ContainsAny(r.To, "+#\x00") || strings.HasPrefix(r.To, "$") || len(r.To) > 200):
		return fmt.Errorf("%q is no topic to publish on; + and # do not belong there", r.To)
	case r.Via == ByMQTT && strings.HasPrefix(r.To, "ember/"):
		return fmt.Errorf("topics below ember/ belong to boards; choose another, such as studio/alerts")
	case r.Via == ByMQTT && r.Broker == "":
		return fmt.Errorf("tell to which broker; on the hub's own one scripts read ember/hub/alert/+ without a route")
	case r.Via == ByPush && r.Person == "":
		return fmt.Errorf("a push goes to the installed consoles of a person; tell whose")
	case r.AfterMS < 0 || r.RemindMS < 0 || r.RemindMS > 0 && r.RemindMS < 60_000:
		return fmt.Errorf("a reminder comes after a minute at the earliest")
	case len(r.Body) > 4000:
		return fmt.Errorf("the body has %d characters; use up to 4000", len(r.Body))
	}
	for _, field := range bodyField.FindAllStringSubmatch(r.Body, -1) {
		if !slices.Contains(BodyFields, field[1]) {
			return fmt.Errorf("the body names {%s}, which nothing fills in; there are {%s}", field[1], strings.Join(BodyFields,
				"}, {"))
		}
	}
	return (&Alert{From: r.From, To: r.Until}).validateWindow()
}

// BodyFields are what is filled into a body of one's own.
var BodyFields = []string{"subject", "text", "name", "value", "place", "severity", "what", "since", "link", "do", "id",
	"hub"}

// bodyField is a word in braces; braces of JSON have something else behind them.
var bodyField = regexp.MustCompile(`\{([A-Za-z_][A-Za-z0-9_.]*)\}`)

// excluded reports whether a control must not be on together with others.
func (s *Site) excluded(control string) bool {
	for _, g := range s.Groups {
		if g.Exclusive() && slices.ContainsFunc(g.Members, func(m GroupMember) bool { return m.Control == control }) {
			return true
		}
	}
	return false
}

// AllAlerts are those that were made, and those that are there without making: for each device that it is away, for
// each periodic signal that somebody named that it is stale, for each control that it is not confirmed or has no
// effect, and some of the hub itself. One that was made takes the place of a built-in one of the same id, which so is
// tuned or switched off. Long, because it is one list of the alerts that are there without making.
func (s *Site) AllAlerts() map[string]*Alert {
	all := make(map[string]*Alert, len(s.Alerts)+len(s.Devices)+len(s.Signals)+len(s.Controls))
	add := func(a Alert) { all[a.ID] = &a }
	minute := time.Minute.Milliseconds()
	for id, d := range s.Devices {
		if d.Active() {
			add(Alert{ID: "offline_" + id, Name: d.Name + " is away", Kind: AlertOffline, Of: id, Severity: Warning,
				AfterMS: 5 * minute, Text: "Look whether it has power and reaches the network."})
		}
	}
	for id, g := range s.Signals {
		// what nobody has looked at yet is nobody's loss
		if d := s.Devices[g.Device]; g.Reports == Periodic && d.Active() && !g.New {
			add(Alert{ID: slugged("stale_", id), Name: g.Name + " is missing", Kind: AlertStale, Of: id, Severity: Warning,
				AfterMS: 5 * minute, Text: "The board is there, but this reading does not come any more."})
		}
	}
	for id, c := range s.Controls {
		if !s.Devices[c.Device].Active() || c.Momentary != nil {
			continue
		}
		add(Alert{ID: slugged("unconfirmed_", id), Name: c.Name + " does not answer", Kind: AlertUnconfirmed, Of: id,
			Severity: Warning, AfterMS: minute, Text: "The board does not say that it switched. Look at the thing itself."})
		a := s.Automations[id]
		if a != nil && (len(a.Demands) > 0 || len(a.Interlocks) > 0) {
			add(Alert{ID: slugged("chatters_", id), Name: c.Name + " chatters", Kind: AlertFormula, Of: id, When: id +
				`.limit == "chatter"`, Severity: Warning,
				Text: "It changed too often within a minute and is held for a while. Look at what makes it change."})
		}
		if a != nil && s.excluded(id) && slices.ContainsFunc(a.Interlocks, func(l Interlock) bool {
			return l.To != nil && *l.To > 0
		}) {
			add(Alert{ID: slugged("overruled_", id), Name: c.Name + " is forced on and must stay off", Kind: AlertFormula,
				Of: id, When: id + `.limit == "overruled"`, Severity: Critical,
				Text: "An interlock forces on what it excludes as well, and that comes first. Look at both."})
		}
		if a.HasFloor() {
			add(Alert{ID: slugged("blind_", id), Name: c.Name + " cannot protect", Kind: AlertFormula, Of: id, When: id +
				`.floor == "blind"`, AfterMS: minute, Severity: Critical,
				Text: "Its lower limit must hold, as against frost, and the reading that it needs is missing."})
		}
		if a != nil && a.Proof != nil {
			add(Alert{ID: slugged("no_effect_", id), Name: c.Name + " has no effect", Kind: AlertNoEffect, Of: id,
				Severity: Critical, Text: "It was switched on, and what it should do does not show."})
		}
	}
	add(Alert{ID: "disk_full", Name: "The hub's disk is nearly full", Kind: AlertFormula, When: "hub.disk_used > 90",
		Until: "hub.disk_used < 88", Severity: Critical, Text: "Make room on the disk, or keep readings for less time."})
	add(Alert{ID: "store_damage", Name: "The store is damaged", Kind: AlertFormula, When: "hub.damaged > 0",
		Severity: Critical, Text: "Run idleember check, and bring back a backup if what is missing matters."})
	add(Alert{ID: "clock_wrong", Name: "The hub's clock is wrong", Kind: AlertFormula, When: "hub.clock > 0",
		Severity: Critical, AfterMS: minute, Text: "Set the clock of the hub's computer; until then times cannot be " +
			"trusted."})
	add(Alert{ID: "backup_old", Name: "The last backup is old", Kind: AlertFormula, When: "hub.backup > 192",
		Severity: Info, Text: "Make a backup, or let the hub make one by itself."})
	for id, a := range s.Alerts {
		all[id] = a
	}
	return all
}

// slugged makes the id of a built-in alert about something of a device.
func slugged(prefix, id string) string { return prefix + strings.ReplaceAll(id, ".", "_") }
