package engine

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/core/calendar"
	"idleember/core/control"
	"idleember/core/reading"
	"idleember/core/site"
	"idleember/core/words"
)

// house is a bench with a studio in which much decides by itself. Each test changes what it needs.
type house struct {
	*bench
	t       *testing.T
	doubted bool // what it stamped is of a wrong clock
}

// newHouse has one board with these signals: temperature, humidity, gas, power and moisture, which are numbers, and
// rain, float, day, open and closed, which are on or off. Its controls are switches but for duct, a level.
func newHouse(t *testing.T, change func(*site.Site)) *house {
	s := (&site.Site{}).Clone()
	s.Hub = site.Hub{Zone: "Europe/Berlin", Latitude: 48.2, Longitude: 9.8}
	s.Devices["h"] = site.Device{ID: "h", Name: "House"}
	for _, id := range []string{"temperature", "humidity", "gas", "power", "moisture"} {
		s.Signals["h."+id] = site.Signal{ID: "h." + id, Device: "h", Name: site.Title(id), Kind: site.Number,
			Reports: site.Periodic, IntervalMS: 10_000, Decimals: 1}
	}
	for _, id := range []string{"rain", "float", "day", "open", "closed"} {
		s.Signals["h."+id] = site.Signal{ID: "h." + id, Device: "h", Name: site.Title(id), Kind: site.OnOff,
			Reports: site.OnChange}
	}
	for _, id := range []string{"heater", "fan", "pump", "up", "down", "cooler", "gate"} {
		s.Controls["h."+id] = site.NewControl("h", id, id, site.Title(id))
	}
	duct := site.NewControl("h", "duct", "duct", "Duct")
	duct.Kind, duct.Lowest = site.Level, 20
	s.Controls[duct.ID] = duct
	s.Settings["h.setpoint"] = site.Setting{ID: "h.setpoint", Name: "Setpoint", Kind: site.SetNumber, Max: 40, Default: 22}
	s.Settings["h.hours"] = site.Setting{ID: "h.hours", Name: "Hours", Kind: site.SetNumber, Max: 24, Default: 13}
	if change != nil {
		change(s)
	}
	for id, a := range s.Automations {
		a.Control = id
		require.NoError(t, a.Validate(s, s.Controls[id]), id)
	}
	h := &house{bench: &bench{Engine: New(), now: Now{Wall: start, Trusted: true}, site: s}, t: t}
	h.do(SiteChanged{s})
	h.do(Restored{})
	h.do(Online{Device: "h", Session: "1"})
	return h
}

// edits changes the site of the house while it goes on, or puts it in force again as it is.
func (h *house) edits(change func(*site.Site)) []Effect {
	h.site = h.site.Clone()
	if change != nil {
		change(h.site)
	}
	return h.do(SiteChanged{h.site})
}

func auto(id string, a site.Automation) func(*site.Site) {
	return func(s *site.Site) { s.Automations["h."+id] = &a }
}

func holding(kind site.DemandKind, of string, band float64) site.Automation {
	return site.Automation{Demands: []site.Demand{{Kind: kind, Of: "h." + of, Target: "h.setpoint", Band: band}}}
}

func whenever(when string) []site.Demand {
	return []site.Demand{{Kind: Whenever, Condition: site.Condition{When: when}}}
}

// reads lets a number arrive.
func (h *house) reads(id string, v float64) []Effect {
	return h.do(Reading{Signal: "h." + id, Value: reading.Number(v)})
}

func (h *house) is(id string, on bool) []Effect {
	return h.do(Reading{Signal: "h." + id, Value: reading.OnOff(on)})
}

// lives lets time pass while the board reports some numbers and does what it is told, every 10 s.
func (h *house) lives(d time.Duration, numbers map[string]float64) (all []Effect) {
	for end := h.now.Mono + d; h.now.Mono < end; {
		all = append(all, h.pass(min(10*time.Second, end-h.now.Mono))...)
		for _, id := range sorted(numbers) {
			all = append(all, h.reads(id, numbers[id])...)
		}
		all = append(all, h.obeys()...)
	}
	return all
}

// obeys lets the board say that it does what is wanted.
func (h *house) obeys() (all []Effect) {
	for _, id := range sorted(h.site.Controls) {
		c, _ := h.Control(id)
		cfg := h.site.Controls[id]
		if c.Want != nil && (c.Is == nil || *c.Is != *c.Want) && cfg.What() != site.Mover {
			all = append(all, h.do(Report{Control: id, Session: "1", Value: *c.Want})...)
		}
	}
	return all
}

func (h *house) state(id string) ControlState {
	c, ok := h.Control("h." + id)
	require.True(h.t, ok)
	return c
}

// read puts a fact into words as it is read now.
func (h *house) read(f words.Fact) string { return words.English.Say(f, h.now.Wall) }

func (h *house) all(facts []words.Fact) (out []string) {
	for _, f := range facts {
		out = append(out, h.read(f))
	}
	return out
}

// wanted is what is wanted of a control, -1 for nothing.
func (h *house) wanted(id string) site.Amount {
	if c := h.state(id); c.Want != nil {
		return *c.Want
	}
	return -1
}

func (h *house) byHand(id string, to site.Amount, span time.Duration) []Effect {
	in := Command{Control: "h." + id, To: to, Actor: kim}
	if span > 0 {
		in.Until = h.now.Wall.Add(span)
	}
	return h.do(in)
}

func TestHoldWithADeadBand(t *testing.T) {
	h := newHouse(t, auto("heater", holding(HoldAbove, "temperature", 1)))
	for _, x := range []struct {
		temperature float64
		want        site.Amount
	}{{20, 1}, {21.5, 1}, {22, 0}, {21.5, 0}, {21.1, 0}, {20.9, 1}} {
		h.reads("temperature", x.temperature)
		assert.Equal(t, x.want, h.wanted("heater"), "%g", x.temperature)
	}
	assert.Contains(t, h.read(h.state("heater").Reason), "Temperature 20.9 is below the setpoint 22")
	h.do(Set{Setting: "h.setpoint", To: 18, Actor: kim})
	assert.Equal(t, site.Amount(0), h.wanted("heater"), "a new setpoint takes effect at once")

	h = newHouse(t, auto("fan", holding(HoldBelow, "humidity", 2)))
	for _, x := range []struct {
		humidity float64
		want     site.Amount
	}{{23, 0}, {24.5, 1}, {23, 1}, {22, 0}} {
		h.reads("humidity", x.humidity)
		assert.Equal(t, x.want, h.wanted("fan"), "%g", x.humidity)
	}
}

func TestAutoAndManual(t *testing.T) {
	h := newHouse(t, auto("heater", holding(HoldAbove, "temperature", 1)))
	h.reads("temperature", 25)
	assert.Equal(t, Auto, h.state("heater").Mode)
	assert.Equal(t, site.Amount(0), h.wanted("heater"))
	h.byHand("heater", 1, 2*time.Hour)
	assert.Equal(t, Manual, h.state("heater").Mode)
	assert.Equal(t, site.Amount(1), h.wanted("heater"))
	assert.Contains(t, h.read(h.state("heater").Reason), "by Kim until 12:00")
	h.lives(119*time.Minute, map[string]float64{"temperature": 25})
	assert.Equal(t, site.Amount(1), h.wanted("heater"))
	h.lives(2*time.Minute, map[string]float64{"temperature": 25})
	assert.Equal(t, Auto, h.state("heater").Mode, "the time by hand is over")
	assert.Equal(t, site.Amount(0), h.wanted("heater"))
	h.byHand("heater", 1, 0)
	h.do(ToAuto{Control: "h.heater", Actor: kim})
	assert.Equal(t, site.Amount(0), h.wanted("heater"), "back to auto the hub takes over at once")
	h.byHand("duct", 10, 0)
	assert.Equal(t, site.Amount(-1), h.wanted("duct"), "below its lowest running level it does not run")
	h.byHand("duct", 45, 0)
	assert.Equal(t, site.Amount(45), h.wanted("duct"))
}

func TestADangerousControlComesBackByItself(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		c := s.Controls["h.heater"]
		c.Dangerous = true
		s.Controls["h.heater"] = c
	})
	h.byHand("heater", 1, 0)
	h.lives(7*time.Hour+59*time.Minute, nil)
	assert.Equal(t, site.Amount(1), h.wanted("heater"))
	h.lives(2*time.Minute, nil)
	assert.Equal(t, site.Amount(0), h.wanted("heater"))
}

func TestDoorByDaylightNotBeforeHalfPastTen(t *testing.T) {
	h := newHouse(t, auto("gate", site.Automation{Demands: []site.Demand{{Kind: Whenever,
		Condition: site.Condition{When: `h.day and now >= at("10:30")`, Until: "not h.day"}}}}))
	h.is("day", false)
	assert.Equal(t, site.Amount(0), h.wanted("gate"))
	h.is("day", true) // 10:00 local time
	assert.Equal(t, site.Amount(0), h.wanted("gate"))
	h.lives(31*time.Minute, nil)
	assert.Equal(t, site.Amount(1), h.wanted("gate"))
	h.byHand("gate", 0, 9*time.Hour)
	h.lives(8*time.Hour, nil)
	assert.Equal(t, site.Amount(0), h.wanted("gate"), "kept shut by one tap")
	h.is("day", false)
	h.lives(2*time.Hour, nil)
	assert.Equal(t, Auto, h.state("gate").Mode)
	assert.Equal(t, site.Amount(0), h.wanted("gate"), "night")
}

func TestDayLength(t *testing.T) {
	h := newHouse(t, auto("up", site.Automation{Demands: []site.Demand{{Kind: DayLength, Daylight: "h.day",
		Hours: "h.hours"}}}))
	h.is("day", false)
	assert.Equal(t, site.Amount(0), h.wanted("up"), "dark, and no daylight yet")
	h.is("day", true) // 10:00
	assert.Equal(t, site.Amount(0), h.wanted("up"))
	h.lives(7*time.Hour, nil)
	h.is("day", false)
	assert.Equal(t, site.Amount(1), h.wanted("up"), "dark, 7 of 13 hours")
	assert.Contains(t, h.read(h.state("up").Reason), "13 h of light counted from 10:00, until 23:00; it is dark")
	h.lives(5*time.Hour+59*time.Minute, nil)
	assert.Equal(t, site.Amount(1), h.wanted("up"))
	h.lives(2*time.Minute, nil)
	assert.Equal(t, site.Amount(0), h.wanted("up"), "13 hours are over")
	h.do(Set{Setting: "h.hours", To: 20, Actor: kim})
	assert.Equal(t, site.Amount(1), h.wanted("up"))
	h.do(Set{Setting: "h.hours", To: 0, Actor: kim})
	assert.Equal(t, site.Amount(0), h.wanted("up"), "off")
}

func TestSchedulesRun(t *testing.T) {
	morning := calendar.Moment{Base: calendar.Clock, Minutes: 11 * 60}
	h := newHouse(t, auto("pump", site.Automation{Demands: []site.Demand{{Kind: Scheduled, Schedule: &calendar.Schedule{
		Windows: []calendar.Window{{Start: morning, ForMS: 240_000, EveryMS: 3600_000, Times: 3}},
		Once:    []calendar.Once{{At: start.Add(20 * time.Minute), ForMS: 60_000}}}}}}))
	var runs []string
	was := site.Amount(0)
	for range 60 * 24 {
		h.lives(time.Minute, nil)
		if now := h.wanted("pump"); now != was {
			was = now
			runs = append(runs, h.now.Wall.In(h.zone).Format("15:04"))
		}
	}
	assert.Equal(t, []string{"10:20", "10:21", "11:00", "11:04", "12:00", "12:04", "13:00", "13:04"}, runs)
	list := h.Next(h.now.Wall, h.now.Wall.Add(24*time.Hour))
	require.Len(t, list, 3)
	assert.Equal(t, "h.pump", list[0].ID)
	assert.Equal(t, 4*time.Minute, list[0].Ends.Sub(list[0].At))
}

func TestPumpWithPermitsLimitsAndFloat(t *testing.T) {
	h := newHouse(t, auto("pump", site.Automation{
		Demands: []site.Demand{{Kind: Whenever, Condition: site.Condition{When: "h.moisture < 30",
			Until: "h.moisture > 45"}}},
		Permits:    []site.Permit{{Name: "dry weather", Condition: site.Condition{When: "not h.rain"}}},
		Interlocks: []site.Interlock{{Name: "tank empty", Condition: site.Condition{When: "not h.float"}}},
		Limits:     site.RunLimits{LongestOnMS: 120_000, RestMS: 300_000}}))
	h.is("rain", false)
	h.is("float", true)
	h.reads("moisture", 28)
	assert.Equal(t, site.Amount(1), h.wanted("pump"))
	h.lives(130*time.Second, map[string]float64{"moisture": 35})
	assert.Equal(t, site.Amount(0), h.wanted("pump"), "never longer than 2 min at a time")
	assert.Contains(t, h.read(h.state("pump").Reason), "after running for its longest time")
	h.lives(280*time.Second, map[string]float64{"moisture": 35})
	assert.Equal(t, site.Amount(0), h.wanted("pump"), "it rests")
	h.byHand("pump", 1, 0)
	assert.Equal(t, site.Amount(0), h.wanted("pump"), "the rest binds by hand too")
	h.do(ToAuto{Control: "h.pump", Actor: kim})
	h.lives(40*time.Second, map[string]float64{"moisture": 35})
	assert.Equal(t, site.Amount(1), h.wanted("pump"), "it goes on until wet enough")
	out := h.is("float", false)
	assert.Equal(t, []string{"off"}, wants(out), "stopped at once")
	h.byHand("pump", 1, 0)
	assert.Equal(t, site.Amount(0), h.wanted("pump"), "an interlock holds against a person")
	h.do(ToAuto{Control: "h.pump", Actor: kim})
	h.is("float", true)
	assert.Equal(t, site.Amount(1), h.wanted("pump"))
	h.is("rain", true)
	assert.Equal(t, site.Amount(0), h.wanted("pump"))
	assert.Contains(t, h.read(h.state("pump").Reason), "not now: dry weather")
	h.is("rain", false)
	h.reads("moisture", 46)
	assert.Equal(t, site.Amount(0), h.wanted("pump"))
}

func TestExtractorForcedOn(t *testing.T) {
	on := site.Amount(1)
	h := newHouse(t, auto("fan", site.Automation{Interlocks: []site.Interlock{{Name: "gas", To: &on,
		Condition: site.Condition{When: "h.gas > 30", Until: "h.gas < 15", SettleMS: 60_000}}}}))
	h.lives(20*time.Second, map[string]float64{"gas": 5})
	assert.Equal(t, site.Amount(1), h.wanted("fan"), "nobody knew, and it must be known for a while")
	h.lives(60*time.Second, map[string]float64{"gas": 5})
	assert.Equal(t, site.Amount(0), h.wanted("fan"), "nobody wants anything")
	h.byHand("fan", 0, 0)
	h.reads("gas", 31)
	assert.Equal(t, site.Amount(1), h.wanted("fan"))
	assert.Contains(t, h.read(h.state("fan").Reason), "interlock “gas”: h.gas > 30 (Gas 31.0)")
	h.byHand("fan", 0, 0)
	assert.Equal(t, site.Amount(1), h.wanted("fan"), "whatever a person wants")
	h.lives(time.Minute, map[string]float64{"gas": 20})
	assert.Equal(t, site.Amount(1), h.wanted("fan"), "until it is well below")
	h.lives(50*time.Second, map[string]float64{"gas": 14})
	assert.Equal(t, site.Amount(1), h.wanted("fan"), "and stays there")
	h.lives(30*time.Second, map[string]float64{"gas": 14})
	assert.Equal(t, site.Amount(0), h.wanted("fan"))
	h.byHand("fan", 1, 0)
	assert.Equal(t, site.Amount(1), h.wanted("fan"), "otherwise a person can run it at any time")
	h.byHand("fan", 0, 0)
	h.lives(31*time.Second, nil)
	assert.Equal(t, site.Amount(1), h.wanted("fan"), "unknown forces as well")
}

func TestLatchedInterlock(t *testing.T) {
	h := newHouse(t, auto("heater", site.Automation{Interlocks: []site.Interlock{{Name: "too hot", Latch: true,
		Condition: site.Condition{When: "h.temperature > 60"}}}}))
	h.reads("temperature", 20)
	h.byHand("heater", 1, 0)
	h.reads("temperature", 61)
	assert.Equal(t, site.Amount(0), h.wanted("heater"))
	h.reads("temperature", 20)
	assert.Equal(t, site.Amount(0), h.wanted("heater"), "until a person resets it")
	h.do(Reset{Control: "h.heater", Actor: kim})
	assert.Equal(t, site.Amount(1), h.wanted("heater"))
	h.reads("temperature", 61)
	h.do(Reset{Control: "h.heater", Actor: kim})
	assert.Equal(t, site.Amount(0), h.wanted("heater"), "not while its cause is there")
}

func TestSuspectAndBadReadings(t *testing.T) {
	low, high := -20.0, 90.0
	h := newHouse(t, func(s *site.Site) {
		g := s.Signals["h.temperature"]
		g.Sense = site.Sense{Lowest: &low, Highest: &high, Spike: 10}
		s.Signals[g.ID] = g
		s.Automations["h.heater"] = ptr(holding(HoldAbove, "temperature", 1))
		s.Automations["h.fan"] = &site.Automation{Interlocks: []site.Interlock{{Name: "hot", To: ptr(site.Amount(1)),
			Condition: site.Condition{When: "h.temperature > 40"}}}}
	})
	h.lives(time.Minute, map[string]float64{"temperature": 20})
	assert.Equal(t, site.Amount(1), h.wanted("heater"))
	h.reads("temperature", 50) // a spike
	assert.Equal(t, site.Amount(1), h.wanted("heater"), "suspect feeds no demand")
	assert.Equal(t, site.Amount(1), h.wanted("fan"), "but it counts towards an interlock")
	h.lives(20*time.Second, map[string]float64{"temperature": 20})
	assert.Equal(t, site.Amount(1), h.wanted("heater"))
	h.lives(40*time.Second, map[string]float64{"temperature": -127})
	assert.Equal(t, site.Amount(0), h.wanted("heater"), "bad for longer than a signal may be late: the fallback")
	assert.Contains(t, h.read(h.state("heater").Reason),
		"falls back to off: Temperature (its readings are bad) is unknown")
	h.lives(20*time.Second, map[string]float64{"temperature": 20})
	assert.Equal(t, site.Amount(0), h.wanted("heater"), "back, but not for long enough")
	assert.Contains(t, h.read(h.state("heater").Reason), "readings are back")
	h.lives(20*time.Second, map[string]float64{"temperature": 20})
	assert.Equal(t, site.Amount(1), h.wanted("heater"), "normal again after a settling time")
	h.lives(40*time.Second, map[string]float64{"temperature": -127})
	h.reads("temperature", 50)
	h.edits(auto("cooler", site.Automation{Interlocks: []site.Interlock{{ID: "hot", Name: "hot", To: ptr(site.Amount(1)),
		Condition: site.Condition{When: "h.temperature > 40", AfterMS: 60_000}}}}))
	assert.Equal(t, site.Amount(1), h.wanted("cooler"),
		"nobody knows how hot it is, and what seems to be is no reason to wait")
}

func ptr[T any](v T) *T { return &v }

func TestStaleFallsBack(t *testing.T) {
	on := site.Amount(1)
	a := holding(HoldAbove, "temperature", 1)
	a.Fallback = &on
	h := newHouse(t, auto("heater", a))
	h.lives(20*time.Second, map[string]float64{"temperature": 30})
	assert.Equal(t, site.Amount(0), h.wanted("heater"))
	h.lives(40*time.Second, nil)
	assert.Equal(t, site.Amount(1), h.wanted("heater"), "its own fallback")
	assert.Contains(t, h.read(h.state("heater").Reason), "last heard")
}

// Whether a signal is late is found out also where only now it is said how often it reports.
func TestASignalIsLateByWhatWasEdited(t *testing.T) {
	on := site.Amount(1)
	a := holding(HoldAbove, "temperature", 1)
	a.Fallback = &on
	reports := func(how site.Reports, every time.Duration) func(*site.Site) {
		return func(s *site.Site) {
			g := s.Signals["h.temperature"]
			g.Reports, g.IntervalMS = how, every.Milliseconds()
			s.Signals["h.temperature"] = g
		}
	}
	h := newHouse(t, auto("heater", a))
	h.edits(reports(site.OnChange, 0))
	h.lives(20*time.Second, map[string]float64{"temperature": 30})
	h.lives(20*time.Minute, nil)
	assert.Equal(t, site.Amount(0), h.wanted("heater"), "it tells changes alone, and there was none")
	h.edits(reports(site.Periodic, time.Hour))
	h.lives(10*time.Minute, nil)
	assert.Equal(t, site.Amount(0), h.wanted("heater"))
	h.edits(reports(site.Periodic, 10*time.Second))
	h.lives(time.Second, nil)
	assert.Equal(t, on, h.wanted("heater"), "nothing came for half an hour")
}

func TestProofOfEffect(t *testing.T) {
	h := newHouse(t, auto("fan", site.Automation{Demands: whenever("h.humidity > 60"),
		Proof: &site.Proof{When: "h.power > 55", WithinMS: 20_000, Retries: 1}}))
	h.lives(20*time.Second, map[string]float64{"humidity": 70, "power": 2})
	assert.Equal(t, ProofWaiting, h.state("fan").Proof)
	h.reads("power", 58)
	assert.Equal(t, ProofSeen, h.state("fan").Proof)
	h.lives(20*time.Second, map[string]float64{"humidity": 50, "power": 2})
	assert.Equal(t, NoProof, h.state("fan").Proof)
	out := h.lives(15*time.Second, map[string]float64{"humidity": 70, "power": 2})
	assert.Equal(t, []string{"on"}, wants(out))
	out = h.lives(20*time.Second, map[string]float64{"humidity": 70, "power": 2})
	assert.Equal(t, []string{"on"}, wants(out), "tried again")
	out = h.lives(20*time.Second, map[string]float64{"humidity": 70, "power": 2})
	assert.Equal(t, ProofMissing, h.state("fan").Proof)
	assert.Contains(t, messages(out), "Fan was switched on and has no effect: h.power > 55 did not come within 20 s")
}

func messages(effects []Effect) (out []string) {
	for _, e := range effects {
		if m, ok := e.(Message); ok {
			out = append(out, m.Text.String())
		}
	}
	return out
}

func TestFollowAndInsistWithAutomation(t *testing.T) {
	h := newHouse(t, auto("fan", site.Automation{Demands: whenever("h.humidity > 60"),
		Interlocks: []site.Interlock{{Name: "rain", Condition: site.Condition{When: "h.rain"}}}}))
	h.is("rain", false)
	h.lives(time.Minute, map[string]float64{"humidity": 70})
	h.do(Report{Control: "h.fan", Session: "1", Value: 0, By: ByHand})
	assert.Equal(t, Manual, h.state("fan").Mode)
	assert.Equal(t, site.Amount(0), h.wanted("fan"))
	assert.Equal(t, Confirmed, h.state("fan").Phase)
	h.lives(3*time.Hour+58*time.Minute, map[string]float64{"humidity": 70})
	assert.Equal(t, Manual, h.state("fan").Mode)
	h.lives(2*time.Minute, map[string]float64{"humidity": 70})
	assert.Equal(t, Auto, h.state("fan").Mode, "what was followed ends by itself after 4 h")
	h.is("rain", true)
	h.obeys()
	out := h.do(Report{Control: "h.fan", Session: "1", Value: 1, By: ByHand})
	assert.Equal(t, []string{"off"}, wants(out), "an interlock holds in either case")
	assert.Equal(t, site.Amount(0), h.wanted("fan"))
}

func TestPresetsAndTheFloorThatHolds(t *testing.T) {
	a := holding(HoldAbove, "temperature", 1)
	a.Demands = append(a.Demands, site.Demand{Kind: HoldAbove, Of: "h.temperature", Target: "5", Band: 1, Floor: true})
	h := newHouse(t, func(s *site.Site) {
		s.Automations["h.heater"] = &a
		s.Presets["all_off"] = site.Preset{ID: "all_off", Name: "All off", Actions: []site.Action{{Kind: site.DoControl,
			ID: "h.heater"}, {Kind: site.DoControl, ID: "h.fan"}}}
		s.Presets["holiday"] = site.Preset{ID: "holiday", Name: "Holiday", Actions: []site.Action{{Kind: site.DoSetting,
			ID: "h.setpoint", To: 12}}}
	})
	h.byHand("fan", 1, 0)
	h.lives(time.Minute, map[string]float64{"temperature": 15})
	assert.Equal(t, site.Amount(1), h.wanted("heater"))
	h.do(Apply{Preset: "all_off", Actor: kim})
	assert.Equal(t, site.Amount(0), h.wanted("heater"))
	assert.Equal(t, site.Amount(0), h.wanted("fan"))
	h.lives(time.Minute, map[string]float64{"temperature": 3})
	assert.Equal(t, site.Amount(1), h.wanted("heater"), "frost protection holds even then")
	assert.Contains(t, h.read(h.state("heater").Reason), "protects")
	h.byHand("heater", 0, 0)
	assert.Equal(t, site.Amount(0), h.wanted("heater"), "but not against a person at the switch")
	h.do(ToAuto{Control: "h.heater", Actor: kim})
	h.lives(time.Minute, map[string]float64{"temperature": 15})
	h.do(Apply{Preset: "holiday", Until: h.now.Wall.Add(time.Hour), Actor: kim})
	assert.Equal(t, site.Amount(0), h.wanted("heater"), "holiday mode has a setpoint of its own")
	h.lives(61*time.Minute, map[string]float64{"temperature": 15})
	g, _ := h.Setting("h.setpoint")
	assert.Equal(t, site.Amount(22), g.Value, "until a date")
	assert.Equal(t, site.Amount(1), h.wanted("heater"))
}

func TestRuleWithTwoStagesAndARest(t *testing.T) {
	say := func(text string) []site.Action { return []site.Action{{Kind: site.DoMessage, Text: text}} }
	h := newHouse(t, func(s *site.Site) {
		s.Rules["cool"] = &site.Rule{ID: "cool", Name: "Kiln cools", RestMS: 40 * 60_000, Stages: []site.Stage{
			{When: "h.temperature < 200", Actions: say("cooling, {h.temperature}")},
			{When: "h.temperature < 60", AfterMS: 60_000, Actions: say("safe to open")}}}
		s.Rules["lamp"] = &site.Rule{ID: "lamp", Name: "Dusk", Stages: []site.Stage{{When: "not h.day", If: "h.rain",
			Actions: []site.Action{
				{Kind: site.DoControl, ID: "h.up", To: 1, ForMS: 600_000}, {Kind: site.DoNote, ID: "h.up", Text: "wet dusk"}}}}}
	})
	told := func(d time.Duration, temperature float64) []string {
		return messages(h.lives(d, map[string]float64{"temperature": temperature}))
	}
	assert.Empty(t, told(time.Minute, 100), "what was true already does not count")
	assert.Empty(t, told(time.Minute, 900))
	assert.Equal(t, []string{"cooling, 199.5"}, told(time.Minute, 199.5))
	assert.Empty(t, told(time.Minute, 180))
	assert.Equal(t, []string{"safe to open"}, told(2*time.Minute, 59))
	assert.Empty(t, told(time.Minute, 900))
	assert.Empty(t, told(time.Minute, 150), "it rests")
	assert.Empty(t, told(45*time.Minute, 900))
	assert.Equal(t, []string{"cooling, 150.0"}, told(time.Minute, 150))

	h.is("rain", false)
	h.is("day", true)
	h.is("day", false)
	assert.Equal(t, site.Amount(-1), h.wanted("up"), "only if it rains")
	h.is("rain", true)
	h.is("day", true)
	out := h.is("day", false)
	assert.Equal(t, site.Amount(1), h.wanted("up"))
	assert.Contains(t, out, Note{Object: "h.up", Text: "wet dusk", By: h.state("up").HandBy})
	h.lives(11*time.Minute, nil)
	assert.Equal(t, site.Amount(0), h.wanted("up"))
}

func momentary(id string, p site.Pulse) func(*site.Site) {
	return func(s *site.Site) {
		c := s.Controls["h."+id]
		c.Momentary = &p
		s.Controls[c.ID] = c
	}
}

func TestPulsesByARuleWithinHours(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		momentary("gate", site.Pulse{ForMS: 2000, Times: 2, GapMS: 1000})(s)
		s.Rules["boost"] = &site.Rule{ID: "boost", Name: "Boost", Stages: []site.Stage{{When: "h.humidity > 70",
			If: "hour >= 6 and hour < 22", Actions: []site.Action{{Kind: site.DoPulse, ID: "h.gate"}}}}}
	})
	h.reads("humidity", 50)
	first := h.reads("humidity", 75)
	assert.Equal(t, []string{"on", "off", "on", "off"}, append(wants(first), wants(h.pass(time.Minute))...),
		"twice, for 2 s each")
	assert.Equal(t, site.Amount(-1), h.wanted("gate"), "nothing is wanted for good")
	h.lives(13*time.Hour, map[string]float64{"humidity": 50}) // 23:00
	assert.Empty(t, wants(h.reads("humidity", 75)))
}

func TestAMomentaryWantIsSentOnce(t *testing.T) {
	h := newHouse(t, momentary("gate", site.Pulse{ForMS: 500}))
	assert.Equal(t, []string{"on"}, wants(h.byHand("gate", 1, 0)))
	saved := h.state("gate")
	all := h.pass(time.Hour)
	all = append(all, h.do(Offline{Device: "h", Session: "1"})...)
	all = append(all, h.pass(time.Minute)...)
	all = append(all, h.do(Online{Device: "h", Session: "2"})...)
	assert.Equal(t, []string{"off"}, wants(all), "never again by a missing answer or a reconnect")
	assert.Equal(t, Unconfirmed, h.state("gate").Phase)
	h.do(Offline{Device: "h", Session: "2"})
	h.pass(time.Minute)
	assert.Empty(t, wants(h.byHand("gate", 1, 0)))
	assert.Contains(t, h.read(h.state("gate").Reason), "not delivered")

	again := &house{bench: &bench{Engine: New(), now: Now{Wall: h.now.Wall.Add(time.Minute), Trusted: true}, site: h.site},
		t: t}
	again.do(SiteChanged{h.site})
	out := again.do(Restored{Alive: h.now.Wall, Controls: []ControlState{saved}})
	out = append(out, again.do(Online{Device: "h", Session: "1"})...)
	out = append(out, again.pass(time.Hour)...)
	assert.Equal(t, []string{"off"}, wants(out), "a restart in the middle of a sequence ends it")
}

// Of a pulse that nobody saw end, nobody knows but that it stayed on: when its control goes, off is sent once more.
func TestAPulseThatNobodySawIsEndedWhenItsControlGoes(t *testing.T) {
	h := newHouse(t, momentary("gate", site.Pulse{ForMS: 500}))
	h.byHand("gate", 1, 0)
	h.pass(time.Minute)
	require.Equal(t, Unconfirmed, h.state("gate").Phase)
	assert.Equal(t, []string{"off"}, wants(h.do(Leave{Controls: []string{"h.gate"}, Actor: kim})))
	assert.Empty(t, wants(h.do(Leave{Controls: []string{"h.gate"}, Actor: kim})))
}

// outputs watches two controls and fails where both are on, wanted or reported.
func (h *house) never(a, b string) {
	on := func(c ControlState) bool { return c.Want != nil && *c.Want > 0 || c.Is != nil && *c.Is > 0 }
	require.False(h.t, on(h.state(a)) && on(h.state(b)), "%s and %s are both on", a, b)
}

func TestBlindWithTwoOutputs(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		c := site.NewControl("h", "blind", "blind", "Blind")
		c.Kind, c.Safe = site.Mover, site.Stop
		s.Controls[c.ID] = c
		s.Automations[c.ID] = &site.Automation{Travel: &site.Travel{Opens: "h.up", Closes: "h.down", IsOpen: "h.open",
			IsClosed: "h.closed", TravelMS: 20_000, PauseMS: 2000}}
	})
	h.is("open", false)
	h.is("closed", true)
	assert.Equal(t, site.Close, *h.state("blind").Is, "its contacts tell where it is, though nobody wanted anything")
	h.obeys()
	h.byHand("blind", site.Open, 0)
	h.obeys()
	assert.Equal(t, site.Amount(1), h.wanted("up"))
	assert.Equal(t, Pending, h.state("blind").Phase)
	h.is("closed", false)
	assert.Equal(t, site.Stop, *h.state("blind").Is, "between its ends")
	h.lives(18*time.Second, nil)
	h.is("open", true)
	h.obeys()
	assert.Equal(t, site.Amount(0), h.wanted("up"), "the end contact stops it")
	assert.Equal(t, Confirmed, h.state("blind").Phase)
	h.byHand("blind", site.Close, 0)
	h.obeys()
	h.pass(3 * time.Second)
	h.obeys()
	h.is("open", false)
	h.lives(5*time.Second, nil)
	assert.Equal(t, site.Amount(1), h.wanted("down"))
	h.byHand("blind", site.Open, 0)
	h.never("up", "down")
	assert.Equal(t, site.Amount(0), h.wanted("down"))
	assert.Equal(t, site.Amount(0), h.wanted("up"), "it pauses before it reverses")
	h.obeys()
	assert.Equal(t, site.Amount(0), h.wanted("up"), "even when it is known to be off")
	h.pass(2100 * time.Millisecond)
	h.never("up", "down")
	assert.Equal(t, site.Amount(1), h.wanted("up"))
	out := h.lives(31*time.Second, nil)
	assert.Equal(t, site.Amount(0), h.wanted("up"))
	assert.Equal(t, Unconfirmed, h.state("blind").Phase, "no end contact in time")
	assert.NotEmpty(t, messages(out))
	assert.Empty(t, wants(h.lives(time.Hour, nil)), "and nothing moves by itself after that")
	h.byHand("up", 1, 0)
	assert.Equal(t, site.Amount(0), h.wanted("up"), "its outputs are its own")
}

func TestGateByOneMomentaryOutput(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		momentary("gate", site.Pulse{ForMS: 500})(s)
		c := site.NewControl("h", "door", "door", "Door")
		c.Kind, c.Safe = site.Mover, site.Stop
		s.Controls[c.ID] = c
		s.Automations[c.ID] = &site.Automation{Travel: &site.Travel{Pulses: "h.gate", IsClosed: "h.closed", IsOpen: "h.open",
			TravelMS: 15_000}}
	})
	h.is("closed", true)
	h.is("open", false)
	out := h.byHand("door", site.Open, 0)
	out = append(out, h.pass(10*time.Second)...)
	assert.Equal(t, []string{"on", "off"}, wants(out))
	h.is("closed", false)
	h.is("open", true)
	assert.Equal(t, Confirmed, h.state("door").Phase)
	assert.Empty(t, wants(h.pass(time.Hour)), "one pulse, and no more")
	out = h.byHand("door", site.Close, 0)
	out = append(out, h.pass(time.Hour)...)
	assert.Equal(t, []string{"on", "off"}, wants(out), "not pulsed again for want of an end contact")
	assert.Equal(t, Unconfirmed, h.state("door").Phase)
}

func TestExclusiveControls(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		s.Automations["h.heater"] = &site.Automation{Demands: whenever("h.temperature < 18")}
		s.Automations["h.cooler"] = &site.Automation{Demands: whenever("h.temperature > 17")}
		s.Groups["climate"] = &site.Group{ID: "climate", Name: "Climate", PauseMS: 30_000,
			Members: []site.GroupMember{{Control: "h.heater"}, {Control: "h.cooler"}}}
		require.NoError(t, s.Groups["climate"].Validate(s))
	})
	h.reads("temperature", 17.5) // both want to be on: the first comes first
	assert.Equal(t, site.Amount(1), h.wanted("heater"))
	assert.Equal(t, site.Amount(0), h.wanted("cooler"))
	assert.Contains(t, h.read(h.state("cooler").Reason), "waits for Heater")
	h.obeys()
	h.reads("temperature", 25)
	h.never("heater", "cooler")
	assert.Equal(t, site.Amount(0), h.wanted("cooler"), "not before the heater is confirmed off")
	h.obeys()
	h.lives(25*time.Second, map[string]float64{"temperature": 25})
	assert.Equal(t, site.Amount(0), h.wanted("cooler"), "and a pause is over")
	h.lives(10*time.Second, map[string]float64{"temperature": 25})
	assert.Equal(t, site.Amount(1), h.wanted("cooler"))
	h.byHand("heater", 1, 0) // a person comes before auto
	h.never("heater", "cooler")
	assert.Equal(t, site.Amount(0), h.wanted("cooler"))
	h.obeys()
	h.lives(31*time.Second, map[string]float64{"temperature": 25})
	assert.Equal(t, site.Amount(1), h.wanted("heater"))
}

func TestPowerBudgetAfterAnOutage(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		for _, id := range []string{"heater", "fan", "pump"} {
			s.Automations["h."+id] = &site.Automation{Demands: whenever("h.temperature < 18")}
		}
		s.Groups["budget"] = &site.Group{ID: "budget", Name: "Budget", Limit: 3500, PauseMS: 5000,
			Members: []site.GroupMember{
				{Control: "h.heater", Watts: 1500}, {Control: "h.fan", Watts: 1500}, {Control: "h.pump", Watts: 1500}}}
	})
	on := func() (n int) {
		for _, id := range []string{"heater", "fan", "pump"} {
			if h.wanted(id) == 1 {
				n++
			}
		}
		return n
	}
	h.reads("temperature", 10)
	assert.Equal(t, 1, on(), "one after another")
	h.edits(nil)
	assert.Equal(t, 1, on(), "and an edit hurries nobody")
	h.lives(4*time.Second, nil)
	assert.Equal(t, 1, on())
	h.lives(2*time.Second, nil)
	assert.Equal(t, 2, on())
	h.lives(20*time.Second, map[string]float64{"temperature": 10})
	assert.Equal(t, 2, on(), "a third would be too much")
	assert.Equal(t, site.Amount(0), h.wanted("pump"), "the last in order is shed")
	h.byHand("pump", 1, 0)
	assert.Equal(t, site.Amount(0), h.wanted("fan"), "a person comes first, and the last of the others gives way")
	h.lives(20*time.Second, map[string]float64{"temperature": 10})
	assert.Equal(t, site.Amount(1), h.wanted("pump"))
	assert.Equal(t, 2, on())
}

func TestExerciseOnceAWeek(t *testing.T) {
	at := calendar.Moment{Base: calendar.Clock, Minutes: 12 * 60}
	h := newHouse(t, auto("pump", site.Automation{Demands: []site.Demand{{Kind: Exercise, EveryMS: 7 * 24 * 3600_000,
		ForMS: 30_000, At: &at}}}))
	var runs []string
	for i := range 60 * 24 * 16 {
		if next := h.Next(h.now.Wall, h.now.Wall.AddDate(0, 0, 8)); i == 60*24*3 {
			require.Len(t, next, 1)
			assert.Equal(t, "09 12:00 exercised", next[0].At.In(h.zone).Format("02 15:04 ")+next[0].What.String())
		}
		if w := wants(h.pass(time.Minute)); len(w) > 0 && w[0] == "on" {
			runs = append(runs, h.now.Wall.In(h.zone).Format("02 15:04"))
		}
		h.obeys()
	}
	assert.Equal(t, []string{"02 12:00", "09 12:00", "16 12:00"}, runs)
	weekly := auto("pump", site.Automation{Demands: []site.Demand{{Kind: Exercise, EveryMS: 7 * 24 * 3600_000,
		ForMS: 30_000, At: &at}}})
	h = newHouse(t, weekly)
	h.pass(28*24*time.Hour + time.Hour + 10*time.Second)
	assert.Equal(t, site.Amount(1), h.wanted("pump"), "the week in which clocks are put on has an hour less")
	h = newHouse(t, auto("pump", site.Automation{Demands: []site.Demand{{Kind: Exercise, EveryMS: 3600_000, ForMS: 30_000,
		At: &at}}}))
	assert.Equal(t, []string{"off", "on", "off"}, wants(h.lives(20*time.Hour, nil)),
		"once a day at its time, however often it is asked for")
	h = newHouse(t, nil)
	h.pass(4*time.Hour + 30*time.Minute)
	h.edits(weekly)
	next := h.Next(h.now.Wall, h.now.Wall.AddDate(0, 0, 3))
	require.Len(t, next, 1)
	assert.Equal(t, "03 12:00", next[0].At.In(h.zone).Format("02 15:04"), "it is too late today")
	h.pass(21*time.Hour + 30*time.Minute + 10*time.Second)
	require.Equal(t, site.Amount(1), h.wanted("pump"))
	h.obeys()
	h = h.restarts(time.Second)
	h.comes("2", nil, map[string]site.Amount{"h.pump": 1})
	h.pass(15 * time.Second)
	assert.Equal(t, site.Amount(1), h.wanted("pump"), "it runs for its half minute over a restart")
	h.pass(5 * time.Second)
	assert.Zero(t, h.wanted("pump"))
}

func TestCurveAndRegulator(t *testing.T) {
	h := newHouse(t, auto("duct", site.Automation{Demands: []site.Demand{{Kind: Curve, Of: "h.temperature",
		Points: [][2]float64{{20, 0}, {30, 50}, {40, 100}}}}}))
	for _, x := range []struct {
		temperature float64
		want        site.Amount
	}{{10, 0}, {22, 0}, {24, 0}, {24.6, 23}, {24, 20}, {23.9, 0}, {24.1, 0}, {30, 50}, {35, 75}, {60, 100}} {
		h.pass(levelStep)
		h.reads("temperature", x.temperature)
		assert.Equal(t, x.want, h.wanted("duct"), "%g", x.temperature)
	}
	h.reads("temperature", 35)
	assert.Equal(t, site.Amount(100), h.wanted("duct"), "a running level takes its time between two steps")
	h.pass(levelStep)
	assert.Equal(t, site.Amount(75), h.wanted("duct"))
	// A room that a fan cools: the regulator brings it to its setpoint and keeps it there.
	h = newHouse(t, auto("duct", site.Automation{Demands: []site.Demand{{Kind: Regulate, Of: "h.temperature",
		Target: "h.setpoint", Gain: 12, IntegralMS: 120_000, Cools: true}}}))
	room := 30.0
	for range 2000 {
		h.lives(10*time.Second, map[string]float64{"temperature": room})
		room += (32-room)*0.02 - float64(max(0, h.wanted("duct")))*0.004
	}
	assert.InDelta(t, 22, room, 0.4)
	assert.InDelta(t, 50, float64(h.wanted("duct")), 4)
	h.do(Set{Setting: "h.setpoint", To: 40, Actor: kim})
	h.lives(10*time.Minute, map[string]float64{"temperature": room})
	assert.Equal(t, site.Amount(0), h.wanted("duct"))
	h.do(Set{Setting: "h.setpoint", To: 21, Actor: kim})
	h.lives(3*time.Minute, map[string]float64{"temperature": room})
	assert.GreaterOrEqual(t, h.wanted("duct"), site.Amount(20), "the integral did not wind up while it could do nothing")
}

func TestMirroredSettings(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		g := s.Settings["h.setpoint"]
		g.Mirror = "sp"
		s.Settings[g.ID] = g
	})
	value := func() site.Amount { g, _ := h.Setting("h.setpoint"); return g.Value }
	out := h.do(Set{Setting: "h.setpoint", To: 25, Actor: kim})
	assert.Contains(t, out, Mirror{Device: "h", Setting: "h.setpoint", Raw: "sp", Value: 25, Rev: 1})
	h.do(Mirrored{Setting: "h.setpoint", Value: 25, Based: 1})
	h.do(Mirrored{Setting: "h.setpoint", Value: 18, Based: 1, Age: 5 * time.Second})
	assert.Equal(t, site.Amount(18), value(), "changed at the device")
	h.pass(time.Hour)
	h.do(Set{Setting: "h.setpoint", To: 20, Actor: kim})
	h.pass(time.Minute)
	out = h.do(Mirrored{Setting: "h.setpoint", Value: 15, Based: 2, Age: 30 * time.Minute})
	assert.Equal(t, site.Amount(20), value(), "both changed: the newer change wins")
	assert.NotEmpty(t, messages(out), "and it is told")
	out = h.do(Mirrored{Setting: "h.setpoint", Value: 16, Based: 2, Age: 10 * time.Second})
	assert.Equal(t, site.Amount(16), value())
	assert.NotEmpty(t, messages(out))
	out = h.do(Mirrored{Setting: "h.setpoint", Value: 99, Based: 4, Age: time.Second})
	assert.Equal(t, site.Amount(16), value(), "what the setting cannot be is put right at the device")
	assert.Contains(t, out, Mirror{Device: "h", Setting: "h.setpoint", Raw: "sp", Value: 16, Rev: 4})
}

func TestOutOfService(t *testing.T) {
	h := newHouse(t, auto("heater", holding(HoldAbove, "temperature", 1)))
	h.reads("temperature", 10)
	h.obeys()
	out := h.do(Serve{Control: "h.heater", Service: control.OutSilent, Actor: kim})
	assert.Contains(t, out, Withdrawn{Device: "h", Control: "h.heater", Rev: h.state("heater").Rev},
		"the retained want is cleared")
	out = h.do(Report{Control: "h.heater", Session: "1", Value: 0, By: ByHand})
	out = append(out, h.lives(time.Hour, map[string]float64{"temperature": 10})...)
	assert.Empty(t, wants(out), "it is told nothing")
	assert.Equal(t, site.Amount(0), *h.state("heater").Is, "reports are recorded")
	h.do(Serve{Control: "h.heater", Actor: kim})
	assert.Equal(t, site.Amount(1), h.wanted("heater"))
	out = h.do(Serve{Control: "h.heater", Service: control.OutAndSafe, Actor: kim})
	assert.Equal(t, []string{"off"}, wants(out))
}

func TestWhySaysWhatItWouldBeOtherwiseAndWhatIsNext(t *testing.T) {
	a := holding(HoldAbove, "temperature", 1)
	a.Limits.ShortestOnMS = 600_000
	h := newHouse(t, auto("heater", a))
	h.reads("temperature", 10)
	h.lives(time.Minute, map[string]float64{"temperature": 10})
	h.reads("temperature", 30)
	w, ok := h.Why(h.now, "h.heater")
	require.True(t, ok)
	assert.Contains(t, h.read(w.Reason), "stays on for 9 min more: shortest on")
	assert.Contains(t, h.all(w.Next), "Stays on at least 9 min more: shortest on.")
	h.byHand("heater", 0, time.Hour)
	w, _ = h.Why(h.now, "h.heater")
	assert.Contains(t, h.read(w.Else), "In auto it would be")
	assert.Contains(t, h.read(w.Next[0]), "auto")
	assert.Contains(t, h.read(w.Lines[1]), "Demand 1 asks for nothing: Temperature 30 is above the setpoint 22")
}

func TestTryChangesNothing(t *testing.T) {
	h := newHouse(t, nil)
	h.reads("temperature", 30)
	draft := h.site.Clone()
	a := holding(HoldAbove, "temperature", 1)
	a.Demands = append(a.Demands, site.Demand{Kind: Whenever,
		Condition: site.Condition{When: `mean(h.humidity, "10m") > 60`, AfterMS: 60_000}})
	a.Control = "h.heater"
	draft.Automations["h.heater"] = &a
	got, ok := h.Try(h.now, draft, "h.heater", nil)
	require.True(t, ok)
	assert.Equal(t, "off", got.Want.String(), "the humidity is unknown")
	assert.Equal(t, "30.0", got.Uses["h.temperature"].String())
	got, _ = h.Try(h.now, draft, "h.heater", map[string]reading.Value{"h.temperature": reading.Number(15)})
	assert.Equal(t, "on", got.Want.String())
	assert.Contains(t, h.read(got.Why.Reason), "Temperature 15 is below the setpoint 22")
	got, _ = h.Try(h.now, draft, "h.heater", map[string]reading.Value{"h.humidity": reading.Number(70)})
	assert.Equal(t, "on", got.Want.String(), "delays are left out, and the past is taken to have been the same")
	assert.Equal(t, site.Amount(-1), h.wanted("heater"))
}

func TestAReadingThatChangesNothingAllocatesNothing(t *testing.T) {
	h := newHouse(t, busy)
	h.reads("temperature", 20)
	h.reads("temperature", 20)
	in := &Reading{Signal: "h.temperature", Value: reading.Number(20)}
	assert.Zero(t, testing.AllocsPerRun(100, func() { h.Apply(h.now, in) }))
}

// After a start, what was live when the hub went away counts for as long as it would have; then everybody had time to
// come back.
func TestAfterAStart(t *testing.T) {
	before := newHouse(t, func(s *site.Site) {
		s.Automations["h.heater"] = ptr(holding(HoldAbove, "temperature", 1))
		s.Automations["h.fan"] = &site.Automation{Interlocks: []site.Interlock{{Name: "gas", To: ptr(site.Amount(1)),
			Condition: site.Condition{When: "h.gas > 30"}}}}
	})
	before.lives(time.Minute, map[string]float64{"temperature": 15, "gas": 3})
	restart := func(away time.Duration) *house {
		var signals []SignalState
		for _, id := range []string{"h.temperature", "h.gas"} {
			s, _ := before.Signal(id)
			signals = append(signals, s)
		}
		h := &house{bench: &bench{Engine: New(), now: Now{Wall: before.now.Wall.Add(away), Trusted: true}, site: before.site},
			t: t}
		h.do(SiteChanged{before.site})
		out := h.do(Restored{Alive: before.now.Wall, Signals: signals, Controls: []ControlState{before.state("heater"),
			before.state("fan")}})
		assert.NotEmpty(t, wants(out), "the links are told what is wanted, after everything came back")
		return h
	}
	h := restart(5 * time.Second)
	assert.Equal(t, site.Amount(1), h.wanted("heater"))
	assert.Equal(t, site.Amount(0), h.wanted("fan"))
	h = restart(40 * time.Second) // longer than a signal may be late
	assert.Equal(t, site.Amount(1), h.wanted("heater"), "a demand leaves things as they are for a grace")
	assert.Contains(t, h.read(h.state("heater").Reason), "the hub has just started")
	assert.Equal(t, site.Amount(1), h.wanted("fan"), "an interlock judges at once")
	h.pass(61 * time.Second)
	assert.Equal(t, site.Amount(0), h.wanted("heater"), "then the fallback")
}
