package bottle

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"time"

	"idleember/core/calendar"
	"idleember/core/engine"
	"idleember/core/site"
)

func sorted[T any](m map[string]T) []string { return slices.Sorted(maps.Keys(m)) }

// maker makes sites at random from what a configuration allows.
type maker struct {
	rng *rand.Rand
	s   *site.Site
	p   *Plan
}

func (m *maker) chance(of float64) bool { return m.rng.Float64() < of }

func (m *maker) one(ids []string) string { return ids[m.rng.IntN(len(ids))] }

func (m *maker) seconds(list ...int64) int64 { return 1000 * list[m.rng.IntN(len(list))] }

func (p *Plan) makeSite(rng *rand.Rand, controls int) {
	s := (&site.Site{}).Clone()
	s.Hub = site.Hub{Name: "Bottle", Zone: []string{"Europe/Berlin", "America/New_York", "Australia/Sydney",
		"UTC"}[rng.IntN(4)], Latitude: 48, Longitude: 10}
	p.Site = s
	m := &maker{rng, s, p}
	devices := max(2, controls/4)
	for i := range devices {
		id := string(rune('a' + i%26))
		if i >= 26 {
			id += fmt.Sprint(i / 26)
		}
		m.device(id)
	}
	for len(s.Controls) < controls {
		m.control(m.one(sorted(s.Devices)))
	}
	for i := range 3 {
		id := "hub.s" + string(rune('1'+i))
		s.Settings[id] = site.Setting{ID: id, Name: "Setting " + id, Kind: site.SetNumber, Min: 0, Max: 40,
			Default: site.Amount(12 + rng.IntN(16))}
	}
	if m.chance(0.5) {
		id := m.one(sorted(s.Devices)) + ".copy"
		s.Settings[id] = site.Setting{ID: id, Name: "Copy", Kind: site.SetNumber, Min: 0, Max: 40, Default: 20,
			Mirror: "copy"}
	}
	for _, id := range sorted(s.Controls) {
		if a := m.automation(s.Controls[id]); a != nil && a.Validate(s, s.Controls[id]) == nil {
			a.Identify(nil)
			s.Automations[id] = a
		}
	}
	for range 1 + controls/8 {
		m.group()
	}
	for i := range 1 + controls/6 {
		m.rule(fmt.Sprintf("r%d", i))
	}
	for i := range 2 {
		m.preset(fmt.Sprintf("p%d", i))
	}
}

func (m *maker) device(id string) {
	d := site.Device{ID: id, Name: "Board " + id, LeaseMS: 60_000}
	if m.chance(0.15) {
		d.Link.Kind = site.Outside
	}
	if m.chance(0.1) {
		d.LeaseMS = 0
	}
	m.s.Devices[id] = d
	for i := range 1 + m.rng.IntN(3) {
		m.signal(id, fmt.Sprintf("n%d", i), site.Number)
	}
	for i := range m.rng.IntN(3) {
		m.signal(id, fmt.Sprintf("b%d", i), site.OnOff)
	}
}

func (m *maker) signal(device, slug string, kind site.ValueKind) string {
	id := device + "." + slug
	g := site.Signal{ID: id, Device: device, Raw: slug, Name: "Signal " + id, Kind: kind, Reports: site.Periodic,
		Decimals: 1}
	if kind == site.OnOff {
		g.Reports = site.OnChange
	} else {
		m.p.Every[id] = time.Duration(20+m.rng.IntN(50)) * time.Second
		if m.chance(0.6) {
			low, high := -60.0, 120.0
			g.Sense.Lowest, g.Sense.Highest = &low, &high
		}
		if m.chance(0.5) {
			g.IntervalMS = m.p.Every[id].Milliseconds()
		}
	}
	m.s.Signals[id] = g
	return id
}

func (m *maker) control(device string) {
	n := len(m.s.Controls)
	slug := fmt.Sprintf("c%d", n)
	c := site.NewControl(device, slug, slug, "Control "+device+"."+slug)
	switch x := m.rng.IntN(12); {
	case x < 6:
	case x < 8:
		c.Kind, c.Lowest = site.Level, site.Amount(m.rng.IntN(3)*10)
	case x < 9:
		c.Momentary = &site.Pulse{ForMS: 500 + m.seconds(0, 1, 3), Times: 1 + m.rng.IntN(3), GapMS: m.seconds(1, 5)}
	default:
		m.mover(device, slug)
		return
	}
	c.Dangerous = m.chance(0.15)
	if m.chance(0.2) {
		c.ResumeWithinMS = (time.Duration(m.rng.IntN(40)) * time.Minute).Milliseconds()
	}
	if m.chance(0.2) {
		c.AtDevice = site.Insist
	}
	if m.chance(0.1) {
		c.Answers = false
	}
	m.s.Controls[c.ID] = c
}

// mover makes a door with its outputs and contacts.
func (m *maker) mover(device, slug string) {
	door := site.NewControl(device, slug, slug, "Door "+device+"."+slug)
	door.Kind, door.Safe = site.Mover, site.Amount(m.rng.IntN(2))
	m.s.Controls[door.ID] = door
	t := site.Travel{TravelMS: m.seconds(6, 12, 20)}
	contact := func(name string) string { return m.signal(device, slug+name, site.OnOff) }
	if m.chance(0.25) {
		p := site.NewControl(device, slug+"p", slug+"p", "Button "+slug)
		p.Momentary = &site.Pulse{ForMS: 500}
		m.s.Controls[p.ID] = p
		t.Pulses, t.IsOpen, t.IsClosed = p.ID, contact("open"), contact("shut")
	} else {
		for _, x := range []string{"u", "d"} {
			o := site.NewControl(device, slug+x, slug+x, "Motor "+slug+x)
			m.s.Controls[o.ID] = o
		}
		t.Opens, t.Closes = device+"."+slug+"u", device+"."+slug+"d"
		if m.chance(0.7) {
			t.IsOpen = contact("open")
		}
		if m.chance(0.7) {
			t.IsClosed = contact("shut")
		}
	}
	m.p.Doors[door.ID] = t
}

// automation is what a control may be given; nil: nothing. Long, because it is one throw of the dice after the other.
func (m *maker) automation(c site.Control) *site.Automation {
	a := &site.Automation{Control: c.ID}
	for _, t := range m.p.Doors {
		if slices.Contains([]string{t.Opens, t.Closes, t.Pulses}, c.ID) {
			if m.chance(0.3) && t.Pulses == c.ID {
				a.Interlocks = append(a.Interlocks, m.interlock(c, 0))
				return a
			}
			return nil
		}
	}
	if t, ok := m.p.Doors[c.ID]; ok {
		a.Travel = &t
	}
	for i := range m.rng.IntN(3) {
		a.Interlocks = append(a.Interlocks, m.interlock(c, i))
	}
	if c.Momentary != nil {
		return a
	}
	if m.chance(0.75) {
		for range 1 + m.rng.IntN(2) {
			a.Demands = append(a.Demands, m.demand(c))
		}
		if m.chance(0.3) {
			a.Permits = append(a.Permits, site.Permit{Condition: m.condition(false)})
		}
		if m.chance(0.2) {
			to := c.Full()
			a.Fallback = &to
		}
	}
	if k := c.What(); k == site.Switch || k == site.Level {
		if m.chance(0.25) {
			a.Limits.LongestOnMS = m.seconds(60, 300, 1200)
			a.Limits.RestMS = m.seconds(30, 300)
		}
		if m.chance(0.2) {
			a.Limits.ShortestOnMS = m.seconds(10, 40)
		}
		if m.chance(0.2) {
			a.Limits.ShortestOffMS = m.seconds(10, 60)
			a.Limits.RestartHurts = m.chance(0.2)
		}
		if m.chance(0.1) {
			a.Limits.StartsAnHour = 1 + m.rng.IntN(6)
		}
	}
	if m.chance(0.2) {
		a.Proof = &site.Proof{When: m.formula(true), WithinMS: m.seconds(5, 60, 300), Retries: m.rng.IntN(3),
			SwitchOff: m.chance(0.3)}
	}
	if m.chance(0.15) {
		a.Changes = 1 + m.rng.IntN(12)
	}
	if m.chance(0.15) {
		a.HandMS, a.FollowMS = m.seconds(60, 1800), m.seconds(60, 1800)
	}
	return a
}

func (m *maker) interlock(c site.Control, i int) site.Interlock {
	l := site.Interlock{Name: fmt.Sprintf("lock %d", i), Condition: m.condition(true), Latch: m.chance(0.25)}
	if m.chance(0.3) && c.Momentary == nil {
		to := c.Full()
		l.To = &to
	}
	return l
}

func (m *maker) demand(c site.Control) site.Demand {
	number := m.one(m.of(site.Number))
	switch x := m.rng.IntN(10); {
	case c.What() == site.Level && x < 2:
		return site.Demand{Kind: engine.Curve, Of: number, Points: [][2]float64{{10, 0}, {28, 100}},
			Least: float64(m.rng.IntN(2) * 10)}
	case c.What() == site.Level && x < 4:
		return site.Demand{Kind: engine.Regulate, Of: number, Target: m.target(), Gain: 8, IntegralMS: m.seconds(60, 600),
			Cools: m.chance(0.5)}
	case x < 6:
		kind := engine.HoldAbove
		if m.chance(0.5) {
			kind = engine.HoldBelow
		}
		return site.Demand{Kind: kind, Of: number, Target: m.target(), Band: float64(m.rng.IntN(3)) / 2, Floor: m.chance(0.1)}
	case x < 8:
		return site.Demand{Kind: engine.Scheduled, Schedule: m.schedule()}
	case x == 8 && m.chance(0.5):
		return site.Demand{Kind: engine.Exercise, EveryMS: m.seconds(3*3600, 24*3600), ForMS: m.seconds(10, 60),
			At: &calendar.Moment{Base: calendar.Clock, Minutes: m.rng.IntN(1440)}}
	case x == 8:
		return site.Demand{Kind: engine.DayLength, Daylight: number + " > 18", Hours: "13"}
	}
	return site.Demand{Kind: engine.Whenever, Condition: m.condition(false)}
}

func (m *maker) schedule() *calendar.Schedule {
	moment := func() calendar.Moment {
		switch m.rng.IntN(4) {
		case 0:
			return calendar.Moment{Base: calendar.Sunrise, Minutes: m.rng.IntN(121) - 60}
		case 1:
			return calendar.Moment{Base: calendar.Sunset, Minutes: m.rng.IntN(121) - 60}
		}
		return calendar.Moment{Base: calendar.Clock, Minutes: m.rng.IntN(96) * 15}
	}
	w := calendar.Window{Start: moment()}
	if m.chance(0.5) {
		end := moment()
		w.End = &end
	} else {
		w.ForMS = m.seconds(600, 3600, 11*3600)
	}
	return &calendar.Schedule{Windows: []calendar.Window{w}}
}

func (m *maker) of(kind site.ValueKind) (ids []string) {
	for _, id := range sorted(m.s.Signals) {
		if g := m.s.Signals[id]; g.Kind == kind {
			ids = append(ids, id)
		}
	}
	return ids
}

func (m *maker) target() string {
	if m.chance(0.5) {
		return fmt.Sprint(12 + m.rng.IntN(16))
	}
	return m.one(sorted(m.s.Settings))
}

// condition makes a condition: mostly of one signal, sometimes of two, of settings, or of what other controls are.
func (m *maker) condition(lock bool) site.Condition {
	c := site.Condition{When: m.formula(lock)}
	bits := m.of(site.OnOff)
	if m.chance(0.45) || len(bits) == 0 {
		of, at, band := m.one(m.of(site.Number)), 14+m.rng.IntN(14), 1+m.rng.IntN(4)
		if m.chance(0.5) {
			c.When, c.Until = fmt.Sprintf("%s > %d", of, at), fmt.Sprintf("%s < %d", of, at-band)
		} else {
			c.When, c.Until = fmt.Sprintf("%s < %d", of, at), fmt.Sprintf("%s > %d", of, at+band)
		}
	}
	if m.chance(0.25) {
		c.AfterMS = m.seconds(5, 30)
	}
	if m.chance(0.4) {
		c.SettleMS = m.seconds(20, 60)
	}
	return c
}

func (m *maker) formula(lock bool) string {
	number, bits := m.one(m.of(site.Number)), m.of(site.OnOff)
	switch x := m.rng.IntN(12); {
	case x < 4 && len(bits) > 0:
		b := m.one(bits)
		if m.chance(0.5) {
			return "not " + b
		}
		return b
	case x < 6:
		return fmt.Sprintf("%s > %d", number, 14+m.rng.IntN(14))
	case x < 8:
		return fmt.Sprintf("%s < %s", number, m.target())
	case x == 9 && !lock && m.chance(0.3):
		return fmt.Sprintf("mean(%s, \"%dm\") > %d", number, 2+m.rng.IntN(20), 14+m.rng.IntN(14))
	case x < 10:
		join := []string{"and", "or"}[m.rng.IntN(2)]
		return fmt.Sprintf("(%s) %s (%s)", m.formula(lock), join, m.formula(lock))
	case x == 10 && !lock:
		return fmt.Sprintf("hour >= %d", m.rng.IntN(24))
	}
	var switches []string
	for _, id := range sorted(m.s.Controls) {
		if c := m.s.Controls[id]; c.What() == site.Switch && c.Momentary == nil {
			switches = append(switches, id)
		}
	}
	if len(switches) == 0 {
		return number + " > 20"
	}
	return []string{"", "not "}[m.rng.IntN(2)] + m.one(switches) + []string{".want", ".is"}[m.rng.IntN(2)]
}

func (m *maker) group() {
	var free []string
	for _, id := range sorted(m.s.Controls) {
		c := m.s.Controls[id]
		taken := slices.ContainsFunc(slices.Collect(maps.Values(m.s.Groups)), func(g *site.Group) bool {
			return slices.ContainsFunc(g.Members, func(x site.GroupMember) bool { return x.Control == id })
		})
		moves := slices.ContainsFunc(slices.Collect(maps.Values(m.p.Doors)),
			func(t site.Travel) bool { return t.Opens == id || t.Closes == id })
		if k := c.What(); (k == site.Switch || k == site.Level) && c.Momentary == nil && !taken && !moves {
			free = append(free, id)
		}
	}
	if len(free) < 2 {
		return
	}
	m.rng.Shuffle(len(free), func(i, j int) { free[i], free[j] = free[j], free[i] })
	g := &site.Group{ID: fmt.Sprintf("g%d", len(m.s.Groups)), Name: "Group", PauseMS: m.seconds(0, 2, 10)}
	for _, id := range free[:min(len(free), 2+m.rng.IntN(3))] {
		g.Members = append(g.Members, site.GroupMember{Control: id})
	}
	if m.chance(0.5) {
		g.Limit = 2000
		for i := range g.Members {
			g.Members[i].Watts = float64(400 + 200*m.rng.IntN(7))
		}
	}
	if g.Validate(m.s) == nil {
		m.s.Groups[g.ID] = g
	}
}

func (m *maker) action() (site.Action, bool) {
	id := m.one(sorted(m.s.Controls))
	c := m.s.Controls[id]
	for _, t := range m.p.Doors {
		if slices.Contains([]string{t.Opens, t.Closes, t.Pulses}, id) {
			return site.Action{}, false
		}
	}
	switch {
	case c.Momentary != nil:
		return site.Action{Kind: site.DoPulse, ID: id}, true
	case m.s.Automations[id].HasAuto() && m.chance(0.3):
		return site.Action{Kind: site.DoAuto, ID: id}, true
	case m.chance(0.2):
		return site.Action{Kind: site.DoSetting, ID: "hub.s1", To: site.Amount(12 + m.rng.IntN(16))}, true
	}
	a := site.Action{Kind: site.DoControl, ID: id, ForMS: m.seconds(0, 60, 900)}
	if m.chance(0.5) {
		a.To = c.Full()
	}
	return a, true
}

func (m *maker) rule(id string) {
	r := &site.Rule{ID: id, Name: "Rule " + id, RestMS: m.seconds(0, 60), Repeat: m.chance(0.2)}
	for range 1 + m.rng.IntN(2) {
		if a, ok := m.action(); ok {
			r.Stages = append(r.Stages, site.Stage{When: m.formula(false), AfterMS: m.seconds(0, 0, 10),
				Actions: []site.Action{a}})
		}
	}
	if r.Validate(m.s) == nil {
		m.s.Rules[id] = r
	}
}

func (m *maker) preset(id string) {
	p := site.Preset{ID: id, Name: "Preset " + id}
	for len(p.Actions) < 3 {
		if a, ok := m.action(); ok {
			p.Actions = append(p.Actions, a)
		}
	}
	m.s.Presets[id] = p
}
