package site

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"idleember/core/calendar"
)

// Condition is true or false, or unknown where its readings are. It becomes true when When is, and false when Until is;
// an empty Until means: when When is false. What lies between the two keeps it as it is: that is its dead band.
type Condition struct {
	When     string `json:"when"`
	Until    string `json:"until,omitempty"`
	AfterMS  int64  `json:"after_ms,omitempty"`  // When must hold for this long
	SettleMS int64  `json:"settle_ms,omitempty"` // Until must hold for this long
}

// DemandKind says what a demand looks at; core/engine has the kinds, a file each.
type DemandKind string

// Demand is a reason in auto to be on, or at a level. Which fields count depends on the kind. Of, Target, Hours and the
// condition are formulas.
type Demand struct {
	Kind DemandKind `json:"kind"`
	Name string     `json:"name,omitempty"`
	To   *Amount    `json:"to,omitempty"` // what it demands; none: on, open, 100 %

	Of     string  `json:"of,omitempty"`     // hold, curve, regulate: the quantity
	Target string  `json:"target,omitempty"` // hold, regulate: the setpoint
	Band   float64 `json:"band,omitempty"`   // hold: on that far from the setpoint, off at the setpoint

	Schedule *calendar.Schedule `json:"schedule,omitempty"`
	Daylight string             `json:"daylight,omitempty"` // day_length: the condition that it is light
	Hours    string             `json:"hours,omitempty"`    // day_length: how many; 0: none today
	Condition

	EveryMS int64            `json:"every_ms,omitempty"` // exercise: where the last run is longer ago
	ForMS   int64            `json:"for_ms,omitempty"`   // exercise: how long
	At      *calendar.Moment `json:"at,omitempty"`       // exercise: when

	Points [][2]float64 `json:"points,omitempty"` // curve: quantity and level, by quantity
	Gain   float64      `json:"gain,omitempty"`   // regulate: per cent for one unit of difference
	// regulate: in what time a lasting difference counts as much again; 0: never
	IntegralMS int64   `json:"integral_ms,omitempty"`
	Cools      bool    `json:"cools,omitempty"` // regulate: more of it makes the quantity smaller
	Least      float64 `json:"least,omitempty"` // curve, regulate: the level is at least this
	Most       float64 `json:"most,omitempty"`  // and at most this; 0: 100

	// Floor protects, as from frost: the demand needs no permit and holds even where a preset switched off.
	Floor bool `json:"floor,omitempty"`
}

// Permit is a condition without which the demands of auto do not count.
type Permit struct {
	Name string `json:"name,omitempty"`
	Condition
}

// Interlock is a condition that forces a value whatever anyone wants.
type Interlock struct {
	ID   string `json:"id,omitempty"` // what its state is kept by; given by the hub
	Name string `json:"name"`
	Condition
	To    *Amount `json:"to,omitempty"`    // none: the safe value
	Latch bool    `json:"latch,omitempty"` // it holds until a person resets it
}

// RunLimits bound how a control runs. Zero means no limit.
type RunLimits struct {
	LongestOnMS int64 `json:"longest_on_ms,omitempty"`
	// after a stop forced by the longest on; 0: as long as that, at most 1 h
	RestMS        int64 `json:"rest_ms,omitempty"`
	ShortestOnMS  int64 `json:"shortest_on_ms,omitempty"`
	ShortestOffMS int64 `json:"shortest_off_ms,omitempty"`
	StartsAnHour  int   `json:"starts_an_hour,omitempty"` // how often auto may switch it on within an hour
	// RestartHurts makes even an interlock wait for the shortest off, as a compressor needs it.
	RestartHurts bool `json:"restart_hurts,omitempty"`
}

// Proof is the effect that a control must show elsewhere after it was switched on.
type Proof struct {
	When     string `json:"when"`
	WithinMS int64  `json:"within_ms"`
	Retries  int    `json:"retries,omitempty"` // how often it is sent once more where there is no effect
	// then it is switched off, until somebody tells it anew; else it goes on
	SwitchOff bool `json:"switch_off,omitempty"`
}

// Pulse makes a switch momentary: on for a time, off, perhaps again.
type Pulse struct {
	ForMS      int64 `json:"for_ms"`
	Times      int   `json:"times,omitempty"` // 0: once
	GapMS      int64 `json:"gap_ms,omitempty"`
	DeadlineMS int64 `json:"deadline_ms,omitempty"` // later than this it is dropped; 0: 5 s
}

// Travel says how a mover moves.
type Travel struct {
	Opens    string `json:"opens,omitempty"`  // the switch that opens it
	Closes   string `json:"closes,omitempty"` // the switch that closes it
	Pulses   string `json:"pulses,omitempty"` // or the momentary switch that does both
	IsOpen   string `json:"is_open,omitempty"`
	IsClosed string `json:"is_closed,omitempty"` // conditions: the end contacts
	TravelMS int64  `json:"travel_ms"`           // from end to end
	PauseMS  int64  `json:"pause_ms,omitempty"`  // before it reverses; 0: 1 s
	// when an interlock ends it goes on to where it should be; else it stays until something new is wanted
	GoOn bool `json:"go_on,omitempty"`
}

// Automation is what the hub decides of a control by itself.
type Automation struct {
	Control    string      `json:"control"`
	Demands    []Demand    `json:"demands,omitempty"`
	Permits    []Permit    `json:"permits,omitempty"`
	Interlocks []Interlock `json:"interlocks,omitempty"`
	Limits     RunLimits   `json:"limits,omitzero"`
	Proof      *Proof      `json:"proof,omitempty"`
	Travel     *Travel     `json:"travel,omitempty"`
	Idle       Amount      `json:"idle,omitempty"`      // in auto without a demand
	Fallback   *Amount     `json:"fallback,omitempty"`  // where auto's readings are unknown; none: the safe value
	SettleMS   int64       `json:"settle_ms,omitempty"` // how long they must be back; 0: 30 s
	// how long by hand lasts by default; 0: 8 h where dangerous, else without end
	HandMS   int64 `json:"hand_ms,omitempty"`
	FollowMS int64 `json:"follow_ms,omitempty"` // how long what was switched at the device lasts; 0: 4 h
	Changes  int   `json:"changes,omitempty"`   // how often the hub itself may change it within a minute; 0: 6
}

// Defaults of automation.
const (
	DefaultSettle        = 30 * time.Second
	DefaultFollow        = 4 * time.Hour
	DefaultHandDangerous = 8 * time.Hour
	DefaultDeadline      = 5 * time.Second
	DefaultPause         = time.Second
	DefaultChanges       = 6
	longestRest          = time.Hour
)

// Rest is how long a control rests after its longest on.
func (l RunLimits) Rest() time.Duration {
	if l.RestMS > 0 {
		return Millis(l.RestMS)
	}
	return min(Millis(l.LongestOnMS), longestRest)
}

// MostChanges is how often the hub itself may change the control within a minute.
func (a *Automation) MostChanges() int {
	if a == nil || a.Changes == 0 {
		return DefaultChanges
	}
	return a.Changes
}

// Identify gives ids to interlocks that have none: those that an earlier one of the same name had, else new ones.
func (a *Automation) Identify(before *Automation) {
	taken := map[string]bool{}
	for _, l := range a.Interlocks {
		taken[l.ID] = true
	}
	if before != nil {
		for _, l := range before.Interlocks {
			for i := range a.Interlocks {
				if x := &a.Interlocks[i]; x.ID == "" && x.Name == l.Name && !taken[l.ID] {
					x.ID, taken[l.ID] = l.ID, true
				}
			}
		}
	}
	for i := range a.Interlocks {
		x := &a.Interlocks[i]
		for n := i + 1; x.ID == ""; n++ {
			if id := fmt.Sprintf("i%d", n); !taken[id] && (before == nil || !before.hadInterlock(id)) {
				x.ID, taken[id] = id, true
			}
		}
	}
}

func (a *Automation) hadInterlock(id string) bool {
	return slices.ContainsFunc(a.Interlocks, func(l Interlock) bool { return l.ID == id })
}

// HasFloor reports whether a demand protects.
func (a *Automation) HasFloor() bool {
	return a != nil && slices.ContainsFunc(a.Demands, func(d Demand) bool { return d.Floor })
}

// HasAuto reports whether there is anything to do in auto.
func (a *Automation) HasAuto() bool { return a != nil && len(a.Demands) > 0 }

// Settle is how long readings must be back before auto counts on them.
func (a *Automation) Settle() time.Duration {
	if a.SettleMS == 0 {
		return DefaultSettle
	}
	return Millis(a.SettleMS)
}

// Millis is a duration of n milliseconds.
func Millis(n int64) time.Duration { return time.Duration(n) * time.Millisecond }

// Formulas returns every formula of the automation, each with its place, as in "interlocks.0.when".
func (a *Automation) Formulas(each func(place, text string, quantity bool)) {
	cond := func(place string, c Condition) {
		each(place+".when", c.When, false)
		if c.Until != "" {
			each(place+".until", c.Until, false)
		}
	}
	for i, d := range a.Demands {
		at := fmt.Sprintf("demands.%d", i)
		for _, f := range []struct {
			name, text string
			quantity   bool
		}{{"of", d.Of, true}, {"target", d.Target, true}, {"daylight", d.Daylight, false}, {"hours", d.Hours, true}, {"when",
			d.When, false}, {"until", d.Until, false}} {
			if f.text != "" {
				each(at+"."+f.name, f.text, f.quantity)
			}
		}
	}
	for i, p := range a.Permits {
		cond(fmt.Sprintf("permits.%d", i), p.Condition)
	}
	for i, l := range a.Interlocks {
		cond(fmt.Sprintf("interlocks.%d", i), l.Condition)
	}
	if a.Proof != nil {
		each("proof.when", a.Proof.When, false)
	}
	if t := a.Travel; t != nil {
		if t.IsOpen != "" {
			each("travel.is_open", t.IsOpen, false)
		}
		if t.IsClosed != "" {
			each("travel.is_closed", t.IsClosed, false)
		}
	}
}

// Validate says in a sentence what is wrong with the automation of a control, or returns nil. It looks neither into
// formulas nor at demands (engine.CheckAutomation). Long, because it is one list of checks, each with its sentence.
func (a *Automation) Validate(s *Site, c Control) error {
	for i, l := range a.Interlocks {
		if strings.TrimSpace(l.Name) == "" {
			return fmt.Errorf("interlock %d has no name; say what it protects, as in “gas”", i+1)
		}
		if err := l.Validate(); err != nil {
			return fmt.Errorf("interlock %q: %w", l.Name, err)
		}
		if l.To != nil {
			if err := c.Check(*l.To); err != nil {
				return fmt.Errorf("interlock %q: %w", l.Name, err)
			}
		}
	}
	for i, p := range a.Permits {
		if err := p.Validate(); err != nil {
			return fmt.Errorf("permit %d: %w", i+1, err)
		}
	}
	for _, v := range []*Amount{&a.Idle, a.Fallback} {
		if v != nil {
			if err := c.Check(*v); err != nil {
				return err
			}
		}
	}
	if c.Momentary != nil && (len(a.Demands) > 0 || a.Limits != (RunLimits{})) {
		return fmt.Errorf("%s is momentary: it only pulses; rules and movers make it do so", c.Name)
	}
	if err := a.Limits.validate(c); err != nil {
		return err
	}
	if p := a.Proof; p != nil && (p.WithinMS < 1000 || p.WithinMS > 24*3600_000 || p.Retries < 0 || p.Retries > 10) {
		return fmt.Errorf("the proof must come within 1 s to 24 h, with at most 10 retries")
	}
	if a.Changes < 0 || a.Changes > 60 {
		return fmt.Errorf("the hub may change it %d times a minute; choose 1 to 60", a.Changes)
	}
	seen := map[string]bool{}
	for _, l := range a.Interlocks {
		if l.ID != "" && (seen[l.ID] || CheckSlug(l.ID) != nil) {
			return fmt.Errorf("the interlock %q has the id %q, which is no id or stands there twice; leave it out", l.Name, l.ID)
		}
		seen[l.ID] = true
	}
	for what, n := range map[string]int64{"settling": a.SettleMS, "by hand": a.HandMS, "following": a.FollowMS} {
		if n < 0 || n > 366*24*3600_000 {
			return fmt.Errorf("the time for %s is %d ms; choose up to a year", what, n)
		}
	}
	if a.Travel != nil || c.What() == Mover {
		return a.Travel.validate(s, c)
	}
	return nil
}

// Validate says in a sentence what is wrong with the condition, but for its formulas.
func (c Condition) Validate() error {
	if strings.TrimSpace(c.When) == "" {
		return fmt.Errorf("the condition is missing; write a formula such as kiln_shed.co > 30")
	}
	for _, n := range []int64{c.AfterMS, c.SettleMS} {
		if n < 0 || n > 7*24*3600_000 {
			return fmt.Errorf("a delay is %d ms; choose up to 7 days", n)
		}
	}
	return nil
}

func (l RunLimits) validate(c Control) error {
	if l == (RunLimits{}) {
		return nil
	}
	if k := c.What(); k != Switch && k != Level {
		return fmt.Errorf("run limits are for switches and levels")
	}
	for _, n := range []int64{l.LongestOnMS, l.RestMS, l.ShortestOnMS, l.ShortestOffMS} {
		if n < 0 || n > 7*24*3600_000 {
			return fmt.Errorf("a run limit is %d ms; choose up to 7 days, or 0 for none", n)
		}
	}
	switch {
	case l.LongestOnMS > 0 && c.Safe != 0:
		return fmt.Errorf("a longest on needs a safe value that is off")
	case l.LongestOnMS > 0 && l.ShortestOnMS > l.LongestOnMS:
		return fmt.Errorf("the shortest on is longer than the longest on")
	case l.RestMS > 0 && l.LongestOnMS == 0:
		return fmt.Errorf("a rest comes after a longest on; tell that as well")
	case l.StartsAnHour < 0 || l.StartsAnHour > 60:
		return fmt.Errorf("%d starts an hour; choose 1 to 60, or 0 for no limit", l.StartsAnHour)
	}
	return nil
}

// Long, because it is one list of checks, each with its sentence.
func (t *Travel) validate(s *Site, c Control) error {
	switch {
	case c.What() != Mover:
		return fmt.Errorf("%s is no mover; travel is for doors, blinds and valves", c.Name)
	case t == nil:
		return fmt.Errorf("tell which outputs move %s, and for how long", c.Name)
	case t.TravelMS < 500 || t.TravelMS > 3600_000:
		return fmt.Errorf("the travel time is %d ms; choose 0.5 s to 1 h", t.TravelMS)
	case t.PauseMS < 0 || t.PauseMS > 60_000:
		return fmt.Errorf("the pause before reversing is %d ms; choose up to 60 s", t.PauseMS)
	case t.Pulses != "" && (t.Opens != "" || t.Closes != ""):
		return fmt.Errorf("name either the outputs that open and close, or the one that pulses")
	case t.Pulses != "" && t.IsOpen == "" && t.IsClosed == "":
		return fmt.Errorf("a mover with one momentary output needs an end contact; nobody could know else where it is")
	case t.Pulses == "" && (t.Opens == "" || t.Closes == "" || t.Opens == t.Closes):
		return fmt.Errorf("name two different switches, the one that opens and the one that closes")
	}
	for _, id := range []string{t.Opens, t.Closes, t.Pulses} {
		if id == "" {
			continue
		}
		out, ok := s.Controls[id]
		switch {
		case !ok:
			return fmt.Errorf("there is no control %s", id)
		case out.What() != Switch || out.Safe != 0:
			return fmt.Errorf("%s must be a switch whose safe value is off", id)
		case (out.Momentary != nil) != (id == t.Pulses):
			return fmt.Errorf("%s must be momentary only where it alone moves %s", id, c.Name)
		case s.Automations[id].HasAuto():
			return fmt.Errorf("%s has automation of its own; only the mover may drive it", id)
		}
		for other, a := range s.Automations {
			if o := a.Travel; other != c.ID && o != nil && slices.Contains([]string{o.Opens, o.Closes, o.Pulses}, id) {
				return fmt.Errorf("%s already moves %s", id, other)
			}
		}
	}
	return nil
}

// Group holds controls that share something: only one of them may be on, or together they may draw so much power.
type Group struct {
	ID      string        `json:"id"`
	Name    string        `json:"name"`
	Limit   float64       `json:"limit"`              // watts; 0: only one of them may be on
	PauseMS int64         `json:"pause_ms,omitempty"` // after one went off, or, with a limit, after one went on
	Members []GroupMember `json:"members"`            // the first come first
}

// GroupMember is a control in a group.
type GroupMember struct {
	Control string  `json:"control"`
	Watts   float64 `json:"watts,omitempty"`
}

// Exclusive reports whether only one member may be on.
func (g *Group) Exclusive() bool { return g.Limit == 0 }

// Validate says in a sentence what is wrong with the group, or returns nil.
func (g *Group) Validate(s *Site) error {
	switch {
	case len(g.Members) < 2 || len(g.Members) > 50:
		return fmt.Errorf("a group has 2 to 50 controls")
	case g.Limit < 0 || g.PauseMS < 0 || g.PauseMS > 3600_000:
		return fmt.Errorf("the limit is at least 0 W and the pause at most 1 h")
	}
	seen := map[string]bool{}
	for _, m := range g.Members {
		c, ok := s.Controls[m.Control]
		switch {
		case !ok:
			return fmt.Errorf("there is no control %s", m.Control)
		case seen[m.Control]:
			return fmt.Errorf("%s is in the group twice", m.Control)
		case c.Momentary != nil || c.What() != Switch && c.What() != Level || c.Safe != 0:
			return fmt.Errorf("%s cannot be in a group; only switches and levels whose safe value is off can", m.Control)
		case !g.Exclusive() && (m.Watts <= 0 || m.Watts > g.Limit):
			return fmt.Errorf("%s draws %g W; tell a power between 0 and the limit of %g W", m.Control, m.Watts, g.Limit)
		}
		seen[m.Control] = true
		for id, other := range s.Groups {
			if id != g.ID && other.Exclusive() == g.Exclusive() && slices.ContainsFunc(other.Members,
				func(o GroupMember) bool { return o.Control == m.Control }) {
				return fmt.Errorf("%s is already in %s", m.Control, other.Name)
			}
		}
	}
	return nil
}

// AimedAt returns the settings that the demands of a control aim at.
func (s *Site) AimedAt(control string) (settings []string) {
	a := s.Automations[control]
	if a == nil {
		return nil
	}
	for _, d := range a.Demands {
		for _, text := range []string{d.Target, d.Hours} {
			text = strings.TrimSpace(text)
			if _, ok := s.Settings[text]; ok && !slices.Contains(settings, text) {
				settings = append(settings, text)
			}
		}
	}
	return settings
}
