package site

import (
	"encoding/json"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"
)

// ModelFormat names the format of device model files.
const ModelFormat = "idleember-device-model/1"

// Model describes devices of one make: everything but name, place, key and address. Durations are milliseconds. In the
// automation, ids of the device itself begin with "this.".
type Model struct {
	Format     string         `json:"format"` // ModelFormat
	ID         string         `json:"id"`
	Name       string         `json:"name"`
	About      string         `json:"about,omitempty"` // what it is and how it is wired, for people
	Link       Link           `json:"link"`
	LeaseMS    int64          `json:"lease_ms,omitempty"`
	WakesMS    int64          `json:"wakes_ms,omitempty"`
	NewSignals bool           `json:"new_signals"`
	Limits     *Limits        `json:"limits,omitempty"`
	Signals    []ModelSignal  `json:"signals"`
	Controls   []ModelControl `json:"controls"`

	Settings    []Setting     `json:"settings,omitempty"`    // by the slug after the device's id
	Automations []*Automation `json:"automations,omitempty"` // of its controls, by their slugs
}

// itself stands for the device in the automation of a model.
const itself = "this"

// ModelSignal describes a signal of a device model.
type ModelSignal struct {
	ID          string       `json:"id"` // the slug after the device's id
	Raw         string       `json:"raw,omitempty"`
	Name        string       `json:"name"`
	Kind        ValueKind    `json:"kind"`
	Unit        string       `json:"unit,omitempty"`
	Decimals    int          `json:"decimals,omitempty"`
	Reports     Reports      `json:"reports,omitempty"`
	IntervalMS  int64        `json:"interval_ms,omitempty"`
	Source      *Source      `json:"source,omitempty"`
	Calibration *Calibration `json:"calibration,omitempty"`
	Sense       *Sense       `json:"sense,omitempty"`
}

// ModelControl describes a control of a device model.
type ModelControl struct {
	ID             string   `json:"id"`
	Raw            string   `json:"raw,omitempty"`
	Name           string   `json:"name"`
	ConfirmAfterMS int64    `json:"confirm_after_ms,omitempty"`
	ResumeWithinMS *int64   `json:"resume_within_ms,omitempty"`
	Safe           Amount   `json:"safe,omitempty"`
	Dangerous      bool     `json:"dangerous,omitempty"`
	AtDevice       AtDevice `json:"at_device,omitempty"`
	Answers        bool     `json:"answers"`
	Source         *Source  `json:"source,omitempty"`
	Target         *Target  `json:"target,omitempty"`

	Kind      ControlKind `json:"kind,omitempty"`
	Options   []string    `json:"options,omitempty"`
	Lowest    Amount      `json:"lowest,omitempty"`
	Momentary *Pulse      `json:"momentary,omitempty"`
	Ask       bool        `json:"ask,omitempty"`
}

// ModelOf describes a device of the site as a model. Automation that names anything outside of the device is not part
// of it.
func ModelOf(s *Site, device, id, name string) Model {
	d := s.Devices[device]
	m := Model{Format: ModelFormat, ID: id, Name: name, Link: d.Link, LeaseMS: d.LeaseMS, WakesMS: d.WakesMS,
		NewSignals: d.NewSignals, Signals: []ModelSignal{}, Controls: []ModelControl{}}
	if d.Limits != (Limits{}) {
		m.Limits = &d.Limits
	}
	signals, controls := s.Of(device)
	for _, id := range signals {
		g := s.Signals[id]
		_, slug := Split(id)
		x := ModelSignal{ID: slug, Raw: other(g.Raw, slug), Name: g.Name, Kind: g.Kind, Unit: g.Unit, Decimals: g.Decimals,
			Reports: g.Reports, IntervalMS: g.IntervalMS}
		if g.Source.Set() {
			x.Source = &g.Source
		}
		if g.Calibration.Set() {
			x.Calibration = &g.Calibration
		}
		if g.Sense != (Sense{}) {
			x.Sense = &g.Sense
		}
		m.Signals = append(m.Signals, x)
	}
	for _, id := range controls {
		c := s.Controls[id]
		_, slug := Split(id)
		resume := c.ResumeWithinMS
		x := ModelControl{ID: slug, Raw: other(c.Raw, slug), Name: c.Name, ConfirmAfterMS: c.ConfirmAfterMS,
			ResumeWithinMS: &resume, Safe: c.Safe, Dangerous: c.Dangerous, AtDevice: c.AtDevice, Answers: c.Answers,
			Kind: c.Kind, Options: c.Options, Lowest: c.Lowest, Momentary: c.Momentary, Ask: c.Ask}
		if c.Source.Set() {
			x.Source = &c.Source
		}
		if c.Target.Set() {
			x.Target = &c.Target
		}
		m.Controls = append(m.Controls, x)
		if a := s.Automations[id]; a != nil {
			if own := a.about(device, itself); own != nil {
				m.Automations = append(m.Automations, own)
			}
		}
	}
	for _, id := range slices.Sorted(maps.Keys(s.Settings)) {
		if owner, slug := Split(id); owner == device {
			g := s.Settings[id]
			g.ID = slug
			m.Settings = append(m.Settings, g)
		}
	}
	return m
}

// LeftOut are the controls of a device whose automation a model of it cannot hold.
func (m Model) LeftOut(s *Site, device string) (controls []string) {
	_, all := s.Of(device)
	for _, id := range all {
		_, slug := Split(id)
		if s.Automations[id] != nil && !slices.ContainsFunc(m.Automations,
			func(a *Automation) bool { return a.Control == slug }) {
			controls = append(controls, id)
		}
	}
	return controls
}

// about is a copy of the automation with the ids of one device turned into those of another; nil where it names
// anything else that is not the hub's own. The one that is called itself has its control by the slug alone.
func (a *Automation) about(from, to string) *Automation {
	b, err := json.Marshal(a)
	if err != nil {
		return nil
	}
	next, alone := &Automation{}, true
	if json.Unmarshal(b, next) != nil {
		return nil
	}
	if from == itself {
		next.Control = itself + "." + next.Control
	}
	next.names(func(text *string) {
		*text = named.ReplaceAllStringFunc(*text, func(id string) string {
			owner, rest, dotted := strings.Cut(id, ".")
			switch {
			case id[0] == '"' || id[0] == '\'' || id[0] == '`' || !dotted:
				return id
			case owner == from:
				return to + "." + rest
			}
			alone = false
			return id
		})
	})
	if !alone {
		return nil
	}
	if to == itself {
		_, next.Control = Split(next.Control)
	}
	return next
}

// named are the texts and the ids in a formula.
var named = regexp.MustCompile("\"(?:[^\"\\\\]|\\\\.)*\"|'(?:[^'\\\\]|\\\\.)*'|`[^`]*`|[a-z_][a-z0-9_.]*")

// names goes through everything that names something: formulas and ids.
func (a *Automation) names(each func(text *string)) {
	cond := func(c *Condition) {
		each(&c.When)
		each(&c.Until)
	}
	each(&a.Control)
	for i := range a.Demands {
		d := &a.Demands[i]
		cond(&d.Condition)
		for _, text := range []*string{&d.Of, &d.Target, &d.Daylight, &d.Hours} {
			each(text)
		}
	}
	for i := range a.Permits {
		cond(&a.Permits[i].Condition)
	}
	for i := range a.Interlocks {
		cond(&a.Interlocks[i].Condition)
	}
	if a.Proof != nil {
		each(&a.Proof.When)
	}
	if t := a.Travel; t != nil {
		for _, text := range []*string{&t.Opens, &t.Closes, &t.Pulses, &t.IsOpen, &t.IsClosed} {
			each(text)
		}
	}
}

// Parts are what a device is made of.
type Parts struct {
	Signals     []Signal
	Controls    []Control
	Settings    []Setting
	Automations []*Automation
}

// AddTo puts the parts into a site that has their device.
func (p Parts) AddTo(s *Site) {
	for _, g := range p.Signals {
		s.Signals[g.ID] = g
	}
	for _, c := range p.Controls {
		s.Controls[c.ID] = c
	}
	for _, g := range p.Settings {
		s.Settings[g.ID] = g
	}
	for _, a := range p.Automations {
		s.Automations[a.Control] = a
	}
}

func other(raw, slug string) string {
	if raw == slug {
		return ""
	}
	return raw
}

// Apply makes of a device one of this model and returns what it is made of. The link's address stays the device's own
// where it has one.
func (m Model) Apply(d *Device) (p Parts) {
	link := m.Link
	if d.Link.Address != "" {
		link.Address = d.Link.Address
	}
	if d.Link.Broker != "" {
		link.Broker = d.Link.Broker
	}
	d.Link, d.LeaseMS, d.WakesMS, d.NewSignals, d.Model = link, m.LeaseMS, m.WakesMS, m.NewSignals, m.ID
	if m.Limits != nil {
		d.Limits = *m.Limits
	}
	for _, x := range m.Signals {
		g := Signal{ID: d.ID + "." + x.ID, Device: d.ID, Raw: first(x.Raw, x.ID), Name: x.Name, Kind: x.Kind, Unit: x.Unit,
			Decimals: x.Decimals, Reports: x.Reports, IntervalMS: x.IntervalMS, Guests: GuestsNothing}
		if g.Reports == "" {
			g.Reports = Periodic
			if g.Kind != Number {
				g.Reports = OnChange
			}
		}
		set(&g.Source, x.Source)
		set(&g.Calibration, x.Calibration)
		set(&g.Sense, x.Sense)
		p.Signals = append(p.Signals, g)
	}
	for _, x := range m.Controls {
		c := NewControl(d.ID, x.ID, first(x.Raw, x.ID), x.Name)
		c.Safe, c.Dangerous, c.Answers = x.Safe, x.Dangerous, x.Answers
		c.Kind, c.Options, c.Lowest, c.Momentary, c.Ask = x.Kind, x.Options, x.Lowest, x.Momentary, x.Ask
		if x.ConfirmAfterMS > 0 {
			c.ConfirmAfterMS = x.ConfirmAfterMS
		}
		if x.ResumeWithinMS != nil {
			c.ResumeWithinMS = *x.ResumeWithinMS
		}
		if x.AtDevice != "" {
			c.AtDevice = x.AtDevice
		}
		set(&c.Source, x.Source)
		set(&c.Target, x.Target)
		p.Controls = append(p.Controls, c)
	}
	for _, g := range m.Settings {
		g.ID = d.ID + "." + g.ID
		p.Settings = append(p.Settings, g)
	}
	for _, a := range m.Automations {
		if a == nil { // Validate says so
			continue
		}
		if a = a.about(itself, d.ID); a != nil {
			a.Identify(nil)
			p.Automations = append(p.Automations, a)
		}
	}
	return p
}

func first(a, b string) string {
	if a != "" {
		return a
	}
	return b
}

func set[T any](field *T, v *T) {
	if v != nil {
		*field = *v
	}
}

// Validate says in a sentence what is wrong with a model, or returns nil. It tries the model on a device. Long,
// because it is one list of checks, each with its sentence.
func (m Model) Validate() error {
	if m.Format != ModelFormat {
		return fmt.Errorf("the file has the format %.40q; a device model has %q", m.Format, ModelFormat)
	}
	if err := CheckSlug(m.ID); err != nil {
		return err
	}
	if m.Name == "" || utf8.RuneCountInString(m.Name) > 80 || len(m.About) > 2000 {
		return fmt.Errorf("the model's name is empty or longer than 80 characters, or what it says about itself is longer " +
			"than 2000")
	}
	d := Device{ID: "try", Name: "Try", Link: Link{Broker: "try"}}
	if m.Link.Address == "" && (m.Link.Kind == Modbus || m.Link.Kind == Lines) {
		d.Link.Address = "127.0.0.1:1" // each device has its own
	}
	if m.Link.Address == "" && m.Link.Kind == Poll {
		d.Link.Address = "http://127.0.0.1/"
	}
	p := m.Apply(&d)
	if err := d.Validate(); err != nil {
		return err
	}
	if n := len(p.Signals) + len(p.Controls); n > d.Limits.Filled().MaxNames {
		return fmt.Errorf("the model has %d signals and controls; a device may have %d", n, d.Limits.Filled().MaxNames)
	}
	if len(p.Settings) > 200 {
		return fmt.Errorf("the model has %d settings; at most 200 are allowed", len(p.Settings))
	}
	taken := map[string]bool{}
	check := func(id, name string, err error) error {
		_, slug := Split(id)
		switch {
		case err != nil:
			return fmt.Errorf("%s: %w", slug, err)
		case taken[slug]:
			return fmt.Errorf("the id %q is there twice", slug)
		case name == "" || utf8.RuneCountInString(name) > 80:
			return fmt.Errorf("%s: the name is empty or longer than 80 characters", slug)
		}
		taken[slug] = true
		return CheckSlug(slug)
	}
	for _, g := range p.Signals {
		err := g.Validate()
		if err == nil && g.Kind != Number && g.Kind != OnOff && g.Kind != Text {
			err = fmt.Errorf("the kind %q is unknown; use number, onoff or text", g.Kind)
		}
		if err := check(g.ID, g.Name, err); err != nil {
			return err
		}
	}
	for _, c := range p.Controls {
		if err := check(c.ID, c.Name, c.Validate()); err != nil {
			return err
		}
	}
	s := m.Tried()
	for _, g := range p.Settings {
		if err := check(g.ID, g.Name, g.Validate(s)); err != nil {
			return err
		}
	}
	for i, a := range m.Automations {
		if a == nil || slices.ContainsFunc(m.Automations[:i], func(b *Automation) bool { return b.Control == a.Control }) {
			return fmt.Errorf("automation %d is empty, or there is another one of its control before it", i+1)
		}
		switch c, ok := s.Controls[d.ID+"."+a.Control]; {
		case !ok:
			return fmt.Errorf("automation %d is of %q, which is no control of the model", i+1, a.Control)
		case s.Automations[c.ID] == nil:
			return fmt.Errorf("the automation of %s names something that does not begin with “%s.”; a model knows nothing else",
				a.Control, itself)
		default:
			if err := s.Automations[c.ID].Validate(s, c); err != nil {
				return fmt.Errorf("the automation of %s: %w", a.Control, err)
			}
		}
	}
	return nil
}

// Tried is a site with nothing but one device of the model.
func (m Model) Tried() *Site {
	s := (&Site{}).Clone()
	d := Device{ID: "try", Name: "Try"}
	p := m.Apply(&d)
	s.Devices[d.ID] = d
	p.AddTo(s)
	return s
}
