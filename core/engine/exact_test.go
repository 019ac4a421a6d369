package engine

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/core/calendar"
	"idleember/core/control"
	"idleember/core/reading"
	"idleember/core/site"
)

// Small things that must be exactly so: when a rest is over, what counts as a change, what is told to whom.

func TestARestGoesOnWhenItsLimitIsChangedAndOverARestart(t *testing.T) {
	h := newHouse(t, auto("fan", site.Automation{Demands: whenever("h.temperature > 20"), Limits: site.RunLimits{LongestOnMS: 60_000, RestMS: 60_000}}))
	warm := map[string]float64{"temperature": 25}
	h.lives(75*time.Second, warm)
	require.Zero(t, h.wanted("fan"), "it rests since 5 s or so")
	h.site = h.site.Clone()
	h.site.Automations["h.fan"].Limits.LongestOnMS = 600_000
	h.do(SiteChanged{h.site})
	h.lives(10*time.Second, warm)
	assert.Zero(t, h.wanted("fan"))
	h = h.restarts(time.Second)
	h.comes("2", map[string]reading.Value{"h.temperature": reading.Number(25)}, nil)
	h.lives(30*time.Second, warm)
	assert.Zero(t, h.wanted("fan"))
	h.lives(30*time.Second, warm)
	assert.Equal(t, site.Amount(1), h.wanted("fan"))
}

func TestAPulseHasItsOwnDeadlineAndTheHubPulsesNotTooOften(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		momentary("gate", site.Pulse{ForMS: 100, DeadlineMS: 3000})(s)
		momentary("up", site.Pulse{ForMS: 100})(s)
		s.Rules["ring"] = &site.Rule{ID: "ring", Name: "Ring", Stages: []site.Stage{{When: "h.rain", Actions: []site.Action{{Kind: site.DoPulse, ID: "h.gate"}}}}}
	})
	until := func(out []Effect) time.Duration {
		for _, x := range out {
			if w, ok := x.(Want); ok && w.Value > 0 {
				return w.Deadline.Sub(h.now.Wall)
			}
		}
		return 0
	}
	assert.Equal(t, 3*time.Second, until(h.byHand("gate", 1, 0)))
	assert.Equal(t, site.DefaultDeadline, until(h.byHand("up", 1, 0)))
	h.pass(5 * time.Minute)
	pulses := 0
	for range 20 {
		h.is("rain", false)
		h.pass(time.Second)
		pulses += len(wants(h.is("rain", true)))
		h.pass(time.Second)
	}
	assert.Equal(t, site.DefaultChanges, pulses)
	assert.Equal(t, "the hub itself pulses it too often", h.state("gate").Pulse.Says)
	h.pass(time.Second)
	assert.Equal(t, []string{"on"}, wants(h.byHand("gate", 1, 0)), "a person may")
	for range 10 {
		h.pass(10 * time.Minute)
		h.is("rain", false)
		assert.Equal(t, []string{"on"}, wants(h.is("rain", true)), "however often, if not at once")
	}
}

func TestASettlingInterlockGoesOnOverARestart(t *testing.T) {
	h := newHouse(t, auto("pump", site.Automation{Interlocks: []site.Interlock{{ID: "gas", Name: "gas", To: ptr(site.Amount(1)), Condition: site.Condition{When: "h.gas > 30", AfterMS: 20_000, SettleMS: 90_000}}}}))
	h.lives(time.Minute, map[string]float64{"gas": 40})
	require.Equal(t, site.Amount(1), h.wanted("pump"))
	low := map[string]float64{"gas": 3}
	h.lives(40*time.Second, low)
	h = h.restarts(time.Second)
	h.comes("2", map[string]reading.Value{"h.gas": reading.Number(3)}, nil)
	h.lives(30*time.Second, low)
	assert.Equal(t, site.Amount(1), h.wanted("pump"))
	h.lives(30*time.Second, low)
	assert.Zero(t, h.wanted("pump"))
}

func TestADoorOnItsWayStandsStillAfterARestart(t *testing.T) {
	for _, automatic := range []bool{false, true} {
		h := newHouse(t, func(s *site.Site) {
			door(false)(s)
			s.Automations["h.gate"].Interlocks = nil
			if automatic {
				s.Automations["h.gate"].Demands = whenever("h.temperature > 20")
			}
		})
		h.is("rain", false)
		h.lives(20*time.Second, map[string]float64{"temperature": 15})
		h.byHand("gate", site.Open, 0)
		h.lives(3*time.Second, nil)
		require.Equal(t, [2]site.Amount{1, 0}, h.motors())
		h = h.restarts(time.Second)
		h.comes("2", map[string]reading.Value{"h.rain": reading.OnOff(false), "h.temperature": reading.Number(15)}, map[string]site.Amount{"h.up": 0, "h.down": 0})
		h.lives(20*time.Second, map[string]float64{"temperature": 15})
		assert.Zero(t, h.motors()[0], "nobody saw how far it came")
		assert.Zero(t, h.motors()[1])
		assert.Equal(t, Unconfirmed, h.state("gate").Phase)
		assert.Contains(t, h.state("gate").Reason, "the hub was started anew")
		h.byHand("gate", site.Open, 0)
		h.lives(2*time.Second, nil)
		assert.Equal(t, [2]site.Amount{1, 0}, h.motors(), "somebody wants it anew")
		h.lives(time.Minute, nil)
		h.site = h.site.Clone()
		h.do(SiteChanged{h.site})
		assert.Equal(t, site.Open, h.state("gate").Mover.Goal)
	}
}

func TestADoorThatStayedGoesOnWhenItIsGivenBack(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		door(false)(s)
		s.Automations["h.gate"].Demands = []site.Demand{{Kind: site.Whenever, Condition: site.Condition{When: "h.temperature > 20"}}}
	})
	warm := map[string]float64{"temperature": 25}
	h.is("rain", false)
	h.lives(2*time.Second, warm)
	require.Equal(t, site.Amount(1), h.motors()[0])
	h.is("rain", true)
	h.obeys()
	h.is("rain", false)
	h.lives(3*time.Second, warm)
	require.Equal(t, [2]site.Amount{0, 0}, h.motors(), "it stays where it was stopped")
	h.do(ToAuto{Control: "h.gate", Actor: kim})
	h.obeys()
	assert.Equal(t, site.Amount(1), h.motors()[0])
}

func TestADoorSaysTheNumbersOfNow(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		door(false)(s)
		s.Automations["h.gate"].Demands = whenever("h.temperature > 20")
	})
	h.is("rain", false)
	h.lives(2*time.Second, map[string]float64{"temperature": 25})
	h.reads("temperature", 27)
	assert.Contains(t, h.Reason(h.now, "h.gate"), "Temperature 27")
}

func TestARuleWhoseConditionDidNotHoldWaitsForTheNextTime(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		s.Rules["r"] = &site.Rule{ID: "r", Name: "R", Stages: []site.Stage{{When: "h.temperature > 20", If: "h.gas < 10", Actions: []site.Action{{Kind: site.DoMessage, Text: "warm"}}}}}
	})
	h.reads("gas", 20)
	h.reads("temperature", 10)
	assert.Empty(t, messages(h.reads("temperature", 25)))
	assert.Empty(t, messages(h.reads("gas", 5)), "it is not that which it waits for")
	h.site = h.site.Clone()
	assert.Empty(t, messages(h.do(SiteChanged{h.site})), "nor is an edit")
	assert.Empty(t, messages(h.reads("temperature", 26)))
	h.reads("temperature", 10)
	assert.Equal(t, []string{"warm"}, messages(h.reads("temperature", 25)))
	_, ok := h.Rule("r")
	assert.True(t, ok)
	_, ok = h.Rule("nobody")
	assert.False(t, ok)
}

func TestRingsByWayOfInterlocksAndRules(t *testing.T) {
	lock := func(to *site.Amount, when string) func(*site.Site) {
		return auto("fan", site.Automation{Interlocks: []site.Interlock{{ID: "i", Name: "i", To: to, Condition: site.Condition{When: when}}}})
	}
	rule := func(id string, to site.Amount) func(*site.Site) {
		return func(s *site.Site) {
			door(false)(s)
			s.Rules["r"] = &site.Rule{ID: "r", Name: "R", Stages: []site.Stage{{When: id + ".want > 0", Actions: []site.Action{{Kind: site.DoControl, ID: id, To: to}}}}}
		}
	}
	full := site.Amount(1)
	for name, tt := range map[string]struct {
		change func(*site.Site)
		of     string
		rings  bool
	}{
		"off while it is on":        {lock(nil, "h.fan.want"), "h.fan", true},
		"off while it is off":       {lock(nil, "not h.fan.want"), "h.fan", false},
		"on while it is on":         {lock(&full, "h.fan.want"), "h.fan", false},
		"on while it is off":        {lock(&full, "not h.fan.want"), "h.fan", true},
		"a rule for off":            {rule("h.pump", 0), "h.pump", true},
		"a rule for on":             {rule("h.pump", 1), "h.pump", false},
		"a rule for open of a door": {rule("h.gate", site.Open), "h.gate", true},
	} {
		assert.Equal(t, tt.rings, len(Ring(newHouse(t, tt.change).site, tt.of)) > 0, name)
	}
}

func TestALevelStepsSlowlyButNotForAnInterlock(t *testing.T) {
	h := newHouse(t, auto("duct", site.Automation{
		Demands:    []site.Demand{{Kind: site.Curve, Of: "h.temperature", Points: [][2]float64{{0, 0}, {100, 100}}}},
		Interlocks: []site.Interlock{{ID: "gas", Name: "gas", To: ptr(site.Amount(80)), Condition: site.Condition{When: "h.gas > 30"}}}}))
	h.reads("gas", 3)
	h.reads("temperature", 40)
	require.Equal(t, site.Amount(40), h.wanted("duct"))
	h.reads("temperature", 42)
	require.Equal(t, site.Amount(42), h.wanted("duct"), "the first step waits for nothing")
	h.pass(10 * time.Second)
	h.reads("temperature", 45)
	require.Equal(t, site.Amount(45), h.wanted("duct"))
	h.pass(time.Second)
	h.reads("temperature", 50)
	assert.Equal(t, site.Amount(45), h.wanted("duct"), "5 s lie between two steps")
	h.reads("gas", 40)
	assert.Equal(t, site.Amount(80), h.wanted("duct"), "an interlock waits for nothing")
	h.reads("gas", 3)
	h.pass(10 * time.Second)
	assert.Equal(t, site.Amount(50), h.wanted("duct"))
}

func TestWhatABoardSaidIsStaleOnceItIsAway(t *testing.T) {
	h := newHouse(t, nil)
	h.reads("temperature", 20)
	var stale []string
	for _, x := range append(h.do(Offline{Device: "h", Session: "1"}), h.pass(time.Minute)...) {
		if s, ok := x.(SignalChanged); ok && s.State.Fresh == Stale {
			stale = append(stale, s.State.ID)
		}
	}
	assert.Equal(t, []string{"h.temperature"}, stale)
}

func TestWhatIsTakenBackDoesNotComeBackWithItsBoard(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		c := s.Controls["h.fan"]
		c.Dangerous = true
		s.Controls["h.fan"] = c
	})
	h.byHand("fan", 1, 0)
	h.obeys()
	h.do(Offline{Device: "h", Session: "1"})
	h.pass(30 * time.Second)
	h.do(Withdraw{Control: "h.fan"})
	assert.Equal(t, site.Amount(-1), h.wanted("fan"))
	h.pass(time.Hour)
	assert.Nil(t, h.state("fan").Held, "nothing is given up that is not wanted any more")
	assert.Empty(t, wants(h.do(Online{Device: "h", Session: "2"})))
	assert.Empty(t, wants(h.pass(time.Hour)))
}

func TestWhatIsEditedAwayIsForgotten(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		door(false)(s)
		momentary("pump", site.Pulse{ForMS: 1000, Times: 5, GapMS: 1000})(s)
		s.Automations["h.heater"] = &site.Automation{Interlocks: []site.Interlock{{ID: "gas", Name: "gas", Latch: true, Condition: site.Condition{When: "h.gas > 30"}}}}
		s.Automations["h.fan"] = &site.Automation{Demands: whenever("h.humidity > 60"), Proof: &site.Proof{When: "h.power > 55", WithinMS: 20_000}}
		s.Automations["h.duct"] = &site.Automation{Demands: whenever("h.humidity > 60")}
	})
	h.byHand("duct", 30, 0)
	h.is("rain", false)
	h.lives(40*time.Second, map[string]float64{"gas": 40, "humidity": 70, "power": 2})
	require.Equal(t, []string{"gas"}, h.state("heater").Latched)
	require.Equal(t, ProofMissing, h.state("fan").Proof)
	h.byHand("gate", site.Open, 0)
	h.lives(2*time.Second, nil)
	require.Equal(t, site.Amount(1), h.motors()[0])
	h.byHand("pump", 1, 0)
	require.True(t, h.state("pump").Pulse.Running)

	h.site = h.site.Clone()
	for _, id := range []string{"gate", "heater", "fan", "duct"} {
		delete(h.site.Automations, "h."+id)
	}
	pump := h.site.Controls["h.pump"]
	pump.Momentary = nil
	h.site.Controls["h.pump"] = pump
	delete(h.site.Settings, "h.hours")
	assert.True(t, slices.ContainsFunc(h.do(SiteChanged{h.site}), func(x Effect) bool {
		c, ok := x.(ControlChanged)
		return ok && c.State.ID == "h.duct" && c.State.Mode == NoMode && *c.State.Hand == 30
	}), "what is by hand stays, and has no mode any more")
	assert.Equal(t, [2]site.Amount{0, 0}, h.motors(), "nobody would end it")
	assert.Nil(t, h.state("gate").Mover)
	assert.Empty(t, h.state("heater").Latched)
	assert.Empty(t, h.state("heater").Locks)
	assert.Equal(t, NoProof, h.state("fan").Proof)
	assert.Equal(t, ptr(site.Amount(0)), h.state("fan").Hand, "off, until somebody wants something else")
	assert.False(t, h.state("pump").Pulse.Running)
	assert.Equal(t, "ended: it is no longer momentary", h.state("pump").Pulse.Says)
	_, ok := h.Setting("h.hours")
	assert.False(t, ok)
	assert.Zero(t, h.Started("h.nobody"))
	h.pass(time.Hour)
	assert.Equal(t, NoProof, h.state("fan").Proof)
}

func TestADoorWhoseTravelIsEditedAwayStands(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		door(false)(s)
		s.Automations["h.gate"].Demands = whenever("h.temperature > 20")
	})
	h.is("rain", false)
	h.lives(3*time.Second, map[string]float64{"temperature": 25})
	require.Equal(t, site.Amount(1), h.motors()[0])
	h.site = h.site.Clone()
	gate := *h.site.Automations["h.gate"]
	gate.Travel = nil
	h.site.Automations["h.gate"] = &gate
	h.do(SiteChanged{h.site})
	assert.Equal(t, [2]site.Amount{0, 0}, h.motors())
	assert.Nil(t, h.state("gate").Mover)
}

func TestWhatStaysOffForItsLongestOnIsAutoAgainWhenGivenBack(t *testing.T) {
	h := newHouse(t, auto("fan", site.Automation{Demands: whenever("h.temperature > 20"), Limits: site.RunLimits{LongestOnMS: 60_000, RestMS: 30_000}}))
	warm := map[string]float64{"temperature": 25}
	h.lives(20*time.Second, map[string]float64{"temperature": 10})
	h.byHand("fan", 1, 0)
	h.lives(2*time.Minute, warm)
	require.Equal(t, control.LongestOn, h.state("fan").Spent)
	h.do(ToAuto{Control: "h.fan", Actor: kim})
	assert.Equal(t, control.NoLimit, h.state("fan").Spent)
	h.lives(30*time.Second, warm)
	assert.Equal(t, site.Amount(1), h.wanted("fan"))
}

func TestWhatIsOutOfServiceIsNotPulsed(t *testing.T) {
	h := newHouse(t, momentary("gate", site.Pulse{ForMS: 500}))
	h.do(Serve{Control: "h.gate", Service: control.OutSilent, Actor: kim})
	h.pulse(h.controls["h.gate"], kim)
	assert.Equal(t, "out of service", h.state("gate").Pulse.Says)
	h.do(Serve{Control: "h.gate", Actor: kim})
	h.do(Leave{Controls: []string{"h.gate"}, Actor: kim})
	at := h.state("gate")
	h.do(Leave{Controls: []string{"h.gate"}, Actor: kim})
	assert.Equal(t, at, h.state("gate"), "it is being taken away already")
	h.do(Leave{Controls: []string{"h.gate"}, End: true, Actor: kim})
	assert.Equal(t, []string{"on", "off"}, append(wants(h.byHand("gate", 1, 0)), wants(h.pass(time.Second))...))
}

func TestAPulseSaysHowFarItCame(t *testing.T) {
	for answers, says := range map[bool]string{false: "sent, by Kim", true: "sent; the device did not say that it pulsed, by Kim"} {
		h := newHouse(t, func(s *site.Site) {
			momentary("gate", site.Pulse{ForMS: 500})(s)
			c := s.Controls["h.gate"]
			c.Answers = answers
			s.Controls["h.gate"] = c
		})
		assert.Empty(t, wants(h.byHand("gate", 0, 0)), "there is nothing to be off")
		h.byHand("gate", 1, 0)
		h.pass(time.Second)
		assert.Equal(t, says, h.state("gate").Reason)
		assert.Equal(t, map[bool]Phase{false: Sent, true: Unconfirmed}[answers], h.state("gate").Phase)
	}
}

func TestFormulasSeeModesAndDoorsInWords(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		door(false)(s)
		s.Automations["h.gate"].Interlocks = nil
		s.Automations["h.heater"] = &site.Automation{Demands: whenever("h.temperature < 18")}
		s.Automations["h.fan"] = &site.Automation{Demands: whenever(`h.heater.mode == "manual"`)}
		s.Automations["h.pump"] = &site.Automation{Demands: whenever(`h.gate.want == "open"`)}
		s.Automations["h.duct"] = &site.Automation{Demands: []site.Demand{{Kind: site.Whenever, Condition: site.Condition{When: "h.temperature > 30"}, To: ptr(site.Amount(60))}}}
	})
	h.lives(20*time.Second, map[string]float64{"temperature": 25})
	assert.Zero(t, h.wanted("fan"))
	h.byHand("heater", 0, 0)
	assert.Equal(t, site.Amount(1), h.wanted("fan"))
	h.do(ToAuto{Control: "h.heater", Actor: kim})
	assert.Zero(t, h.wanted("fan"), "and back")
	h.byHand("gate", site.Open, 0)
	assert.Equal(t, site.Amount(1), h.wanted("pump"))
	h.byHand("gate", site.Stop, 0)
	assert.Zero(t, h.wanted("pump"))
	h.reads("temperature", 35)
	assert.Equal(t, site.Amount(60), h.wanted("duct"), "what the demand asks for")
}

func TestADayLengthWithoutItsHoursIsUnknown(t *testing.T) {
	h := newHouse(t, auto("up", site.Automation{Demands: []site.Demand{{Kind: site.DayLength, Daylight: "h.day", Hours: "h.moisture"}}}))
	h.is("day", true)
	h.reads("moisture", 13)
	h.is("day", false)
	h.lives(time.Minute, map[string]float64{"moisture": 13})
	assert.Equal(t, site.Amount(1), h.wanted("up"))
	h.lives(10*time.Minute, nil)
	assert.Zero(t, h.wanted("up"))
	assert.Contains(t, h.state("up").Reason, "falls back")
}

func TestADoorSomebodyMovedIsNotConfirmed(t *testing.T) {
	h := newHouse(t, door(false))
	for _, id := range []string{"rain", "open", "closed"} {
		h.is(id, false)
	}
	h.byHand("gate", site.Open, 0)
	h.lives(3*time.Second, nil)
	h.is("open", true)
	h.obeys()
	require.Equal(t, Confirmed, h.state("gate").Phase)
	h.do(Serve{Control: "h.up", Service: control.OutSilent, Actor: kim}) // it cannot go there again by itself
	h.is("open", false)
	assert.Equal(t, Unconfirmed, h.state("gate").Phase)
	assert.Equal(t, "Up is out of service", h.state("gate").Reason)
	h.do(Serve{Control: "h.up", Actor: kim})
	h.do(Leave{Controls: []string{"h.down"}, Actor: kim})
	h.obeys()
	assert.Equal(t, "Down is being taken away", h.state("gate").Reason)
}

func TestADoorWhoseMotorsCannotAnswerIsSentAStop(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		door(false)(s)
		for _, id := range []string{"h.up", "h.down"} {
			c := s.Controls[id]
			c.Answers = false
			s.Controls[id] = c
		}
	})
	h.is("rain", false)
	h.byHand("gate", site.Open, 0)
	h.lives(3*time.Second, nil)
	h.byHand("gate", site.Stop, 0)
	h.lives(3*time.Second, nil)
	assert.Equal(t, Sent, h.state("gate").Phase)
}

func TestRingsByWayOfEverythingThatFollowsAtOnce(t *testing.T) {
	for name, tt := range map[string]struct {
		a     site.Automation
		rings bool
	}{
		"a permit that it takes away":     {site.Automation{Demands: whenever("h.rain"), Permits: []site.Permit{{Condition: site.Condition{When: "not h.fan.want"}}}}, true},
		"a permit that it gives":          {site.Automation{Demands: whenever("h.rain"), Permits: []site.Permit{{Condition: site.Condition{When: "h.fan.want"}}}}, false},
		"a demand for off while it is on": {site.Automation{Demands: []site.Demand{{Kind: site.Whenever, Condition: site.Condition{When: "h.fan.want"}, To: ptr(site.Amount(0))}}}, true},
		"its phase":                       {site.Automation{Demands: whenever(`h.fan.phase == "confirmed"`)}, true},
		"kept by what is wanted of it":    {site.Automation{Demands: []site.Demand{{Kind: site.HoldBelow, Of: "h.temperature", Target: "h.fan.want ? 20 : 30"}}}, true},
	} {
		h := newHouse(t, auto("fan", tt.a))
		assert.Equal(t, tt.rings, len(Ring(h.site, "h.fan")) > 0, name)
	}
	h := newHouse(t, func(s *site.Site) {
		s.Rules["off"] = &site.Rule{ID: "off", Name: "Off", Off: true, Stages: []site.Stage{{When: "h.fan.want", Actions: []site.Action{{Kind: site.DoControl, ID: "h.fan"}}}}}
		s.Rules["back"] = &site.Rule{ID: "back", Name: "Back", Stages: []site.Stage{{When: "h.fan.want", Actions: []site.Action{{Kind: site.DoAuto, ID: "h.fan"}}}}}
		s.Rules["set"] = &site.Rule{ID: "set", Name: "Set", Stages: []site.Stage{{When: "h.setpoint > 20", Actions: []site.Action{{Kind: site.DoSetting, ID: "h.setpoint", To: 10}}}}}
	})
	assert.Empty(t, Ring(h.site, "h.fan"), "a rule that is off, and one that only gives back")
	assert.Equal(t, []string{"h.setpoint"}, Ring(h.site, "h.setpoint"))
}

func TestRulesThatAreOffOrShorterAndWhatTheyApply(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		s.Presets["a"] = site.Preset{ID: "a", Name: "A", Actions: []site.Action{{Kind: site.DoControl, ID: "h.fan", To: 1}, {Kind: site.DoPreset, ID: "a"}}}
		s.Rules["off"] = &site.Rule{ID: "off", Name: "Off", Off: true, Stages: []site.Stage{{When: "h.rain", Actions: []site.Action{{Kind: site.DoMessage, Text: "off"}}}}}
		s.Rules["r"] = &site.Rule{ID: "r", Name: "R", Stages: []site.Stage{{When: "h.rain", Actions: []site.Action{{Kind: site.DoPreset, ID: "a"}, {Kind: site.DoMessage, Text: "{h.gas} {h.setpoint} {h.fan} {h.fan.want} {h.heater.mode} {h.nobody}"}}},
			{When: "h.day", Actions: []site.Action{{Kind: site.DoMessage, Text: "day"}}}}}
		s.Automations["h.heater"] = &site.Automation{Demands: whenever("h.temperature < 18")}
		g := s.Signals["h.gas"]
		g.Unit = "ppm"
		s.Signals["h.gas"] = g
	})
	h.is("rain", false)
	h.reads("gas", 7)
	out := h.is("rain", true)
	assert.Equal(t, site.Amount(1), h.wanted("fan"), "by a preset that applies itself, and comes to an end")
	assert.Equal(t, []string{"7.0 ppm 22   auto {h.nobody}"}, messages(out))
	h.site = h.site.Clone()
	short := *h.site.Rules["r"]
	short.Stages = short.Stages[:1]
	h.site.Rules["r"] = &short
	h.do(SiteChanged{h.site})
	h.is("rain", false)
	assert.Len(t, messages(h.is("rain", true)), 1, "a stage that is gone is not waited for")
}

func TestARuleThatMakesItselfActRests(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		s.Rules["r"] = &site.Rule{ID: "r", Name: "R", Repeat: true, Stages: []site.Stage{{When: "h.rain", Actions: []site.Action{{Kind: site.DoNote, ID: "h.fan", Text: "x"}}}}}
	})
	notes := func(out []Effect) (n int) {
		for _, x := range out {
			if _, ok := x.(Note); ok {
				n++
			}
		}
		return n
	}
	h.is("rain", false)
	out := h.is("rain", true)
	assert.Equal(t, turnsAnInput, notes(out))
	assert.Contains(t, out, Message{Object: "rule.r", Grave: true, Text: "The rule R acts on itself; it rests for 1 min. Look at what it does."})
	assert.Zero(t, notes(h.pass(59*time.Second)))
	assert.Equal(t, turnsAnInput, notes(h.pass(2*time.Second)))
}

func TestWhatIsOnOtherwiseThanItIsWantedWhenItsBoardReturnsIsTold(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		s.Automations["h.pump"] = &site.Automation{Demands: whenever("h.duct.is < 50")}
		s.Groups["g"] = &site.Group{ID: "g", Name: "G", Limit: 3000, Members: []site.GroupMember{{Control: "h.duct", Watts: 1000}, {Control: "h.fan", Watts: 1000}}}
	})
	h.byHand("duct", 60, 0)
	h.obeys()
	h.do(Offline{Device: "h", Session: "1"})
	h.pass(2 * time.Minute)
	h.do(Online{Device: "h", Session: "2"})
	out := h.do(Report{Control: "h.duct", Session: "2", Value: 30})
	assert.Equal(t, []string{"on", "on"}, wants(out), "and what looks at it sees what it is")
	assert.Equal(t, site.Amount(1), h.wanted("pump"))
	assert.Equal(t, h.now.Wall, h.state("duct").IsSince)
	assert.Equal(t, Pending, h.state("duct").Phase)
	h.do(Report{Control: "h.duct", Session: "2", Value: 60})
	assert.Equal(t, Confirmed, h.state("duct").Phase)
}

func TestWhatChatteredIsHeldOverARestart(t *testing.T) {
	h := newHouse(t, auto("fan", site.Automation{Demands: whenever("h.temperature > 20"), Changes: 2}))
	for i := range 8 {
		h.pass(time.Second)
		h.reads("temperature", float64(15+10*(i%2)))
	}
	require.Equal(t, control.Chatters, h.state("fan").Limit)
	h = h.restarts(time.Second)
	h.comes("2", map[string]reading.Value{"h.temperature": reading.Number(25)}, map[string]site.Amount{"h.fan": 0})
	warm := map[string]float64{"temperature": 25}
	h.lives(40*time.Second, warm)
	assert.Zero(t, h.wanted("fan"))
	assert.Equal(t, control.Chatters, h.state("fan").Limit)
	h.lives(30*time.Second, warm)
	assert.Equal(t, site.Amount(1), h.wanted("fan"))
}

func TestStatesOfEarlierVersions(t *testing.T) {
	full := site.Amount(1)
	h := newHouse(t, func(s *site.Site) {
		door(false)(s)
		s.Automations["h.fan"] = &site.Automation{Demands: whenever("h.temperature > 20")}
		s.Automations["h.cooler"] = &site.Automation{Interlocks: []site.Interlock{{ID: "gas", Name: "gas", Condition: site.Condition{When: "h.gas > 30"}}}}
	})
	h.do(Restored{Controls: []ControlState{{ID: "h.cooler", Locks: []LockState{{ID: "gas", Is: control.True, Latched: true}}}, {ID: "h.fan", Want: &full}, {ID: "h.heater", Want: &full, Mode: Manual}, {ID: "h.pump", Want: &full, WantBy: kim, Held: &full}, {ID: "h.gate", Want: ptr(site.Open)}}})
	assert.Equal(t, Auto, h.state("fan").Mode)
	assert.Equal(t, NoMode, h.state("heater").Mode, "it has no automation")
	assert.Equal(t, HowAway, h.state("pump").How)
	assert.Empty(t, h.state("cooler").Latched, "its owner took the latch off")
	require.NotNil(t, h.state("gate").Mover)
	assert.False(t, h.state("gate").Mover.Moving)
}

func TestWhatCannotAnswerIsToldAgainNowAndThen(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		c := s.Controls["h.fan"]
		c.Answers = false
		s.Controls["h.fan"] = c
	})
	require.Equal(t, []string{"on"}, wants(h.byHand("fan", 1, 0)))
	rev := h.state("fan").Rev
	told := wants(h.pass(time.Hour))
	assert.InDelta(t, 17, len(told), 3, "soon, then every 5 min")
	assert.Equal(t, []string{"on"}, distinct(told))
	assert.Equal(t, rev, h.state("fan").Rev, "it is the same want")
	assert.Equal(t, Sent, h.state("fan").Phase)
	h.do(Offline{Device: "h", Session: "1"})
	assert.Empty(t, wants(h.pass(20*time.Minute)), "nobody is there")
}

func TestWhatIsOnThoughNobodyWantsItKeepsToItsLongestOn(t *testing.T) {
	a := site.Automation{Limits: site.RunLimits{LongestOnMS: 60_000, RestMS: 60_000}}
	h := newHouse(t, auto("heater", a))
	h.do(Report{Control: "h.heater", Session: "1", Value: 1})
	assert.Equal(t, HowDevice, h.state("heater").How, "as its board came up")
	h.lives(70*time.Second, nil)
	assert.Zero(t, h.wanted("heater"))

	h = newHouse(t, auto("heater", a))
	h.do(Serve{Control: "h.heater", Service: control.OutSilent, Actor: kim})
	h.do(Report{Control: "h.heater", Session: "1", Value: 1})
	h.lives(5*time.Minute, nil)
	assert.Equal(t, site.Amount(-1), h.wanted("heater"), "out of service it is told nothing")
	h.do(Serve{Control: "h.heater", Actor: kim})
	h.lives(70*time.Second, nil)
	assert.Zero(t, h.wanted("heater"))
	assert.Contains(t, h.Reason(h.now, "h.heater"), "longest time")
}

func TestARegulatorThatNeverStopsComesBackFromItsBound(t *testing.T) {
	h := newHouse(t, auto("duct", site.Automation{Demands: []site.Demand{{Kind: site.Regulate, Of: "h.temperature", Target: "h.setpoint", Gain: 5, IntegralMS: 60_000, Least: 60}}}))
	h.lives(20*time.Minute, map[string]float64{"temperature": 30})
	require.Equal(t, site.Amount(60), h.wanted("duct"))
	h.lives(10*time.Minute, map[string]float64{"temperature": 18})
	assert.Greater(t, h.wanted("duct"), site.Amount(90))
}

func TestADoorWaitsUntilItsOtherMotorIsOff(t *testing.T) {
	h := newHouse(t, door(false))
	for _, id := range []string{"rain", "open", "closed"} {
		h.is(id, false)
	}
	h.byHand("gate", site.Open, 0)
	h.lives(3*time.Second, nil)
	require.Equal(t, [2]site.Amount{1, 0}, h.motors())
	h.byHand("gate", site.Close, 0)
	h.pass(5 * time.Second)
	assert.Equal(t, [2]site.Amount{0, 0}, h.motors(), "nobody said that it is off")
	assert.Equal(t, Pending, h.state("gate").Phase)
	h.obeys()
	assert.Equal(t, [2]site.Amount{0, 1}, h.motors())
}

func TestWhatIsInsistedOnWhileLockedIsSentAtOnce(t *testing.T) {
	h := newHouse(t, auto("fan", site.Automation{Demands: whenever("h.temperature > 20"), Changes: 1}))
	h.lives(20*time.Second, map[string]float64{"temperature": 10})
	h.do(Serve{Control: "h.fan", Service: control.OutAndSafe, Actor: kim})
	h.obeys()
	for range 5 { // however often it is pressed: locked at its safe value it is told off each time
		h.pass(time.Second)
		assert.Equal(t, []string{"off"}, wants(h.do(Report{Control: "h.fan", Session: "1", Value: 1, By: ByHand})))
		h.do(Report{Control: "h.fan", Session: "1", Value: 0})
	}
	h.do(Serve{Control: "h.fan", Actor: kim})
	h.do(Leave{Controls: []string{"h.fan"}, Actor: kim})
	h.do(Report{Control: "h.fan", Session: "1", Value: 0})
	for range 5 {
		h.pass(time.Second)
		assert.Equal(t, []string{"off"}, wants(h.do(Report{Control: "h.fan", Session: "1", Value: 1, By: ByHand})))
		h.do(Report{Control: "h.fan", Session: "1", Value: 0})
	}
}

func TestAPulseWithoutEffectIsTriedAsOftenAsItsOwnerSays(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		momentary("gate", site.Pulse{ForMS: 500})(s)
		s.Automations["h.gate"] = &site.Automation{Proof: &site.Proof{When: "h.power > 50", WithinMS: 20_000, Retries: 2}}
	})
	h.reads("power", 3)
	out := h.byHand("gate", 1, 0)
	out = append(out, h.lives(5*time.Minute, map[string]float64{"power": 3})...)
	assert.Equal(t, []string{"on", "off", "on", "off", "on", "off"}, wants(out))
	assert.Equal(t, ProofMissing, h.state("gate").Proof)
	tries := 0
	for _, x := range out {
		if j, ok := x.(Journal); ok && j.Action == "retry" {
			tries++
			assert.Contains(t, j.Reason, "try "+string(rune('1'+tries))+" of 3")
		}
	}
	assert.Equal(t, 2, tries)
}

func TestWhatCannotAnswerIsTakenForOffOnceItsBoardIsHeard(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		c := s.Controls["h.heater"]
		c.Answers = false
		s.Controls["h.heater"] = c
		s.Devices["k"] = site.Device{ID: "k", Name: "Other"}
		s.Controls["k.cooler"] = site.NewControl("k", "cooler", "cooler", "Cooler")
		s.Groups["climate"] = &site.Group{ID: "climate", Name: "Climate", Members: []site.GroupMember{{Control: "h.heater"}, {Control: "k.cooler"}}}
	})
	h.do(Online{Device: "k", Session: "1"})
	h.do(Report{Control: "k.cooler", Session: "1", Value: 0})
	cooler := func() site.Amount { c, _ := h.Control("k.cooler"); return *c.Want }
	h.reads("temperature", 20)
	h.byHand("heater", 1, 0)
	h.pass(20 * time.Second)
	h.byHand("heater", 0, 0)
	h.do(Command{Control: "k.cooler", To: 1, Actor: kim})
	require.Zero(t, cooler())
	h.pass(15 * time.Second)
	assert.Zero(t, cooler(), "nothing was heard since")
	h.reads("temperature", 20)
	h.pass(6 * time.Second)
	assert.Equal(t, site.Amount(1), cooler())

	h.do(Command{Control: "k.cooler", To: 0, Actor: kim})
	h.do(Report{Control: "k.cooler", Session: "1", Value: 0})
	h.byHand("heater", 1, 0)
	h.pass(20 * time.Second)
	h.byHand("heater", 0, 0)
	h.do(Offline{Device: "h", Session: "1"})
	h.do(Command{Control: "k.cooler", To: 1, Actor: kim})
	h.pass(10 * time.Minute)
	assert.Zero(t, cooler(), "nobody told it")
	h.do(Online{Device: "h", Session: "2"})
	h.reads("temperature", 20)
	h.pass(20 * time.Second)
	assert.Equal(t, site.Amount(1), cooler())
}

func TestALatchThatIsResetWhileItsBoardIsDisabledStaysFree(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		auto("fan", site.Automation{Interlocks: []site.Interlock{{ID: "hot", Name: "hot", Latch: true, Condition: site.Condition{When: "k.heat > 30"}}}})(s)
		s.Devices["k"] = site.Device{ID: "k", Name: "Other"}
		s.Signals["k.heat"] = site.Signal{ID: "k.heat", Device: "k", Name: "Heat", Kind: site.Number, Reports: site.Periodic, Interval: 10 * time.Second}
	})
	heat := func(v float64) { h.do(Reading{Signal: "k.heat", Value: reading.Number(v)}) }
	h.do(Online{Device: "k", Session: "1"})
	heat(40)
	require.Equal(t, []string{"hot"}, h.state("fan").Latched)
	board := h.site.Devices["h"]
	board.State = site.Disabled
	h.site = h.site.Clone()
	h.site.Devices["h"] = board
	h.do(SiteChanged{h.site})
	heat(10)
	h.pass(time.Minute)
	heat(10)
	h.do(Reset{Control: "h.fan", Actor: kim})
	require.Empty(t, h.state("fan").Latched)
	h = h.restarts(time.Second)
	assert.Empty(t, h.state("fan").Latched, "a person's word is kept")
}

func TestWhatReportsOnChangeIsUnknownAfterARestartUnlessItsOwnerAcceptsIt(t *testing.T) {
	for accept, known := range map[int64]bool{0: false, 60_000: false, 600_000: true} {
		h := newHouse(t, func(s *site.Site) {
			g := s.Signals["h.float"]
			g.AcceptMS = accept
			s.Signals["h.float"] = g
			s.Automations["h.pump"] = &site.Automation{Demands: whenever("h.float")}
			s.Automations["h.fan"] = &site.Automation{Demands: whenever("h.temperature > 20")}
		})
		h.is("float", true)
		h.lives(time.Minute, map[string]float64{"temperature": 25})
		h = h.restarts(2 * time.Minute)
		h.pass(time.Second)
		assert.Equal(t, known, h.points["h.float"].value.Known, accept)
		later := h.restarts(0)
		later.comes("2", nil, map[string]site.Amount{"h.pump": 1})
		later.lives(6*time.Minute, nil)
		assert.Zero(t, later.wanted("pump"), "what nobody said again asks for nothing")
		assert.False(t, h.points["h.temperature"].value.Known, "it missed more than three of its intervals")
		h.lives(time.Minute, map[string]float64{"temperature": 25})
		h = h.restarts(5 * time.Second)
		h.pass(time.Second)
		assert.True(t, h.points["h.temperature"].value.Known)
	}
}

func TestADangerousControlIsNotWantedOfABoardThatIsAway(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		c := s.Controls["h.heater"]
		c.Dangerous = true
		s.Controls["h.heater"] = c
	})
	h.do(Offline{Device: "h", Session: "1"})
	h.pass(time.Minute)
	out := h.byHand("heater", 1, 0)
	assert.NotContains(t, wants(out), "on")
	assert.Zero(t, h.wanted("heater"))
	assert.Equal(t, ptr(site.Amount(1)), h.state("heater").Held)
}

func TestAMotorThatIsLockedIsToldOnce(t *testing.T) {
	h := newHouse(t, door(false))
	h.is("rain", false)
	h.byHand("gate", site.Open, 0)
	h.lives(2*time.Second, nil)
	told := 0
	for _, x := range h.do(Serve{Control: "h.up", Service: control.OutSilent, Actor: kim}) {
		if w, ok := x.(Want); ok {
			told++
			assert.Zero(t, w.Value)
			assert.False(t, w.Again)
		}
	}
	assert.Equal(t, 1, told)
}

func TestADoorThatGetsOtherMotorsLetsGoOfTheOldOnes(t *testing.T) {
	h := newHouse(t, door(false))
	h.is("rain", false)
	h.byHand("gate", site.Open, 0)
	h.lives(2*time.Second, nil)
	require.Equal(t, site.Amount(1), h.wanted("up"))
	opens := func(id string) {
		h.site = h.site.Clone()
		gate := *h.site.Automations["h.gate"]
		travel := *gate.Travel
		travel.Opens, gate.Travel = id, &travel
		h.site.Automations["h.gate"] = &gate
		h.do(SiteChanged{h.site})
		h.obeys()
	}
	opens("h.pump")
	assert.Zero(t, h.wanted("up"))
	assert.NotEqual(t, site.Amount(1), h.wanted("pump"), "nobody wanted it of that one")
	opens("h.up")
	assert.Zero(t, h.wanted("up"))
	h.byHand("gate", site.Open, 0)
	h.lives(2*time.Second, nil)
	assert.Equal(t, site.Amount(1), h.wanted("up"))
}

func TestADoorWithOneButtonThatGotThereDoesNotMove(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		momentary("up", site.Pulse{ForMS: 500})(s)
		door(false)(s)
		s.Automations["h.gate"].Travel = &site.Travel{Pulses: "h.up", IsClosed: "h.closed", IsOpen: "h.open", TravelMS: 15_000}
	})
	for _, id := range []string{"rain", "open", "closed"} {
		h.is(id, false)
	}
	out := h.do(Command{Control: "h.gate", To: site.Open, Actor: kim, Until: h.now.Wall.Add(time.Hour)})
	assert.True(t, slices.ContainsFunc(out, func(x Effect) bool {
		j, ok := x.(Journal)
		return ok && j.Action == "switch" && j.Reason == "until 11:00"
	}), "%v", out)
	require.True(t, h.state("gate").Mover.Moving)
	h.pass(5 * time.Second)
	h.is("open", true)
	require.False(t, h.state("gate").Mover.Moving)
	h.is("rain", true)
	assert.False(t, h.state("gate").Mover.Moving)
}

func TestWhatPeopleWantEndsWhatAPresetWouldGiveBack(t *testing.T) {
	h := newHouse(t, nil)
	preset := func(to site.Amount) {
		h.do(Command{Control: "h.fan", To: to, Until: h.now.Wall.Add(time.Minute), Actor: kim, How: HowPreset})
	}
	h.byHand("fan", 0, 0)
	preset(1)
	h.byHand("fan", 1, 0)
	preset(0)
	h.lives(2*time.Minute, nil)
	assert.Equal(t, site.Amount(1), h.wanted("fan"), "what was wanted last")
}

func TestAnExerciseAtASunThatDoesNotRiseIsNotAnnounced(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		s.Hub.Latitude = 80
		auto("pump", site.Automation{Demands: []site.Demand{{Kind: site.Exercise, EveryMS: 7 * 24 * 3600_000, ForMS: 30_000, At: &calendar.Moment{Base: calendar.Sunrise}}}})(s)
	})
	from := time.Date(2026, 12, 10, 12, 0, 0, 0, time.UTC)
	assert.Empty(t, h.Next(from, from.AddDate(0, 0, 8)))
	from = time.Date(2026, 3, 10, 12, 0, 0, 0, time.UTC)
	assert.Len(t, h.Next(from, from.AddDate(0, 0, 8)), 1)
}

func TestWhatIsForcedAndChattersIsNotOnAgainAtOnceInItsGroup(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		forced := func(changes int, when string) *site.Automation {
			return &site.Automation{Changes: changes, Interlocks: []site.Interlock{{ID: "i", Name: "i", To: ptr(site.Amount(1)), Condition: site.Condition{When: when}}}}
		}
		s.Automations["h.heater"], s.Automations["h.cooler"] = forced(2, "h.temperature < 5"), forced(60, "h.gas > 30")
		s.Groups["climate"] = &site.Group{ID: "climate", Name: "Climate", Members: []site.GroupMember{{Control: "h.cooler"}, {Control: "h.heater"}}}
	})
	h.lives(20*time.Second, map[string]float64{"temperature": 3, "gas": 3})
	require.Equal(t, site.Amount(1), h.wanted("heater"))
	gas := func(v float64) {
		h.pass(time.Second)
		h.reads("gas", v)
		h.reads("temperature", 3)
		h.obeys()
		h.obeys()
	}
	for range 5 {
		gas(40)
		gas(3)
	}
	require.NotNil(t, h.state("heater").Damped)
	h.lives(11*time.Second, map[string]float64{"temperature": 3, "gas": 3})
	require.Equal(t, site.Amount(1), h.wanted("heater"), "it is forced all the same")
	gas(40)
	require.Zero(t, h.wanted("heater"), "the other one goes first")
	gas(3)
	assert.Zero(t, h.wanted("heater"))
	h.pass(7 * time.Second)
	assert.Zero(t, h.wanted("heater"))
	h.pass(4 * time.Second)
	assert.Equal(t, site.Amount(1), h.wanted("heater"))
}

func TestARunEndsWithTheLeaseOfABoardWhoseHubWasAway(t *testing.T) {
	for name, tt := range map[string]struct {
		away, rest time.Duration
		ran, used  time.Duration
	}{
		"at once":                {30 * time.Second, time.Minute, 0, 0},
		"longer than a rest":     {time.Hour, time.Minute, 11 * time.Minute, 0},
		"shorter than its rest":  {5 * time.Minute, time.Hour, 11 * time.Minute, 11 * time.Minute},
		"as long as its rest":    {11 * time.Minute, 10 * time.Minute, 11 * time.Minute, 0},
		"just short of its rest": {11*time.Minute - time.Second, 10 * time.Minute, 11 * time.Minute, 11 * time.Minute},
	} {
		h := newHouse(t, func(s *site.Site) {
			d := s.Devices["h"]
			d.Lease = time.Minute
			s.Devices["h"] = d
			auto("fan", site.Automation{Demands: whenever("h.temperature > 20"), Limits: site.RunLimits{LongestOnMS: 3600_000, RestMS: tt.rest.Milliseconds()}})(s)
		})
		h.reads("temperature", 25)
		h.lives(10*time.Minute, map[string]float64{"temperature": 25})
		require.Equal(t, site.Amount(1), h.wanted("fan"))
		begun := h.state("fan").RunAt
		ran := h.now.Wall.Sub(begun) + time.Minute
		stopped := h.now.Wall.Add(time.Minute)
		h = h.restarts(tt.away)
		s := h.state("fan")
		if tt.ran == 0 {
			assert.Zero(t, s.RanMS, name)
			assert.Equal(t, begun.UTC(), s.RunAt.UTC(), name)
			continue
		}
		assert.Equal(t, ran.Milliseconds(), s.RanMS, name)
		assert.Equal(t, stopped.UTC(), s.StopAt.UTC(), name)
		if tt.used == 0 {
			assert.Zero(t, s.UsedMS, name)
		} else {
			assert.Equal(t, ran.Milliseconds(), s.UsedMS, name)
		}
	}
}

func TestStartsAreCountedOverARestart(t *testing.T) {
	h := newHouse(t, auto("fan", site.Automation{Demands: whenever("h.temperature > 20"), Limits: site.RunLimits{StartsAnHour: 2}}))
	for range 2 {
		h.lives(2*time.Minute, map[string]float64{"temperature": 25})
		h.lives(2*time.Minute, map[string]float64{"temperature": 15})
	}
	h = h.restarts(time.Second)
	h.comes("2", map[string]reading.Value{"h.temperature": reading.Number(25)}, map[string]site.Amount{"h.fan": 0})
	warm := map[string]float64{"temperature": 25}
	h.lives(2*time.Minute, warm)
	assert.Zero(t, h.wanted("fan"))
	assert.Equal(t, control.Starts, h.state("fan").Limit)
	assert.Equal(t, 2, h.Started("h.fan"))
	h.lives(55*time.Minute, warm)
	assert.Equal(t, site.Amount(1), h.wanted("fan"))
}

func TestWhatIsByHandLastsAsItsOwnerSays(t *testing.T) {
	h := newHouse(t, auto("fan", site.Automation{Demands: whenever("h.temperature > 20"), FollowMS: 60_000, HandMS: 120_000}))
	cold := map[string]float64{"temperature": 10}
	h.lives(time.Minute, cold)
	h.do(Report{Control: "h.fan", Session: "1", Value: 1, By: ByHand})
	assert.Equal(t, h.now.Wall.Add(time.Minute), h.state("fan").HandUntil, "at the board")
	h.lives(70*time.Second, cold)
	assert.Zero(t, h.wanted("fan"))
	h.byHand("fan", 1, 0)
	assert.Equal(t, h.now.Wall.Add(2*time.Minute), h.state("fan").HandUntil)
	h.lives(130*time.Second, cold)
	assert.Zero(t, h.wanted("fan"))
	h.byHand("fan", 1, 0)
	h.obeys()
	h.do(ToAuto{Control: "h.nobody", Actor: kim})
	h.do(Serve{Control: "h.nobody", Service: control.OutSilent, Actor: kim})
	h.do(Reset{Control: "h.nobody", Actor: kim})
	h.do(Withdraw{Control: "h.nobody"})
	assert.Equal(t, site.Amount(1), h.wanted("fan"))
}

func TestADoorWithOneContactIsWhereItSays(t *testing.T) {
	for contact, at := range map[string][2]site.Amount{"closed": {site.Close, site.Open}, "open": {site.Open, site.Close}} {
		h := newHouse(t, func(s *site.Site) {
			door(false)(s)
			travel := s.Automations["h.gate"].Travel
			if contact == "closed" {
				travel.IsOpen = ""
			} else {
				travel.IsClosed = ""
			}
		})
		h.is("rain", false)
		h.is(contact, true)
		assert.Equal(t, at[0], *h.state("gate").Is)
		h.byHand("gate", at[1], 0)
		h.lives(2*time.Second, nil)
		h.is(contact, false)
		assert.Equal(t, site.Stop, *h.state("gate").Is, "on its way")
		h.lives(20*time.Second, nil)
		assert.Equal(t, at[1], *h.state("gate").Is, "the other end is not that one")
		assert.Equal(t, Assumed, h.state("gate").Phase)
		h.byHand("gate", at[0], 0)
		h.lives(4*time.Second, nil)
		h.is(contact, true)
		h.obeys()
		assert.Equal(t, Confirmed, h.state("gate").Phase)
	}
}

func TestAMotorThatDoesNotAnswerLeavesItsDoorInDoubt(t *testing.T) {
	for _, to := range []site.Amount{site.Open, site.Close} {
		h := newHouse(t, func(s *site.Site) {
			door(false)(s)
			s.Automations["h.gate"].Travel.IsOpen, s.Automations["h.gate"].Travel.IsClosed = "", ""
		})
		h.is("rain", false)
		h.byHand("gate", to, 0)
		out := h.pass(30 * time.Second)
		assert.Equal(t, Unconfirmed, h.state("gate").Phase)
		assert.Contains(t, h.state("gate").Reason, "its motor did not answer")
		assert.Len(t, messages(out), 1)
	}
}

func TestADoorThatIsSentToAndFroIsHeld(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		door(false)(s)
		s.Automations["h.gate"].Demands = whenever("h.temperature > 20")
		s.Automations["h.gate"].Changes = 3
	})
	h.is("rain", false)
	for i := range 12 {
		h.pass(3 * time.Second)
		h.reads("temperature", float64(15+10*(i%2)))
		h.obeys()
	}
	assert.Equal(t, control.Chatters, h.state("gate").Limit)
	assert.Equal(t, site.Stop, h.wanted("gate"))
}

func TestAPulseThatItsBoardSawIsConfirmed(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		momentary("gate", site.Pulse{ForMS: 1000})(s)
		s.Rules["r"] = &site.Rule{ID: "r", Name: "R", Stages: []site.Stage{{When: "h.rain", Actions: []site.Action{{Kind: site.DoAuto, ID: "h.fan"}}}}}
		s.Automations["h.fan"] = &site.Automation{Demands: whenever("h.temperature > 20")}
	})
	h.byHand("gate", 1, 0)
	h.do(Report{Control: "h.gate", Session: "1", Value: 1})
	h.pass(2 * time.Second)
	h.do(Report{Control: "h.gate", Session: "1", Value: 0})
	assert.Equal(t, Confirmed, h.state("gate").Phase)
	assert.Equal(t, "pulsed, by Kim", h.state("gate").Reason)
	h.do(Report{Control: "h.gate", Session: "1", Value: 1})
	assert.False(t, h.state("gate").Pulse.Running, "one that nobody sent is none")

	h.is("rain", false)
	h.byHand("fan", 1, 0)
	h.is("rain", true)
	assert.Equal(t, Auto, h.state("fan").Mode)
}

func TestProtectionDoesNotWaitForOthersToSettle(t *testing.T) {
	h := newHouse(t, auto("heater", site.Automation{Demands: []site.Demand{{Kind: site.HoldAbove, Of: "h.humidity", Target: "50"}, {Kind: site.HoldAbove, Of: "h.temperature", Target: "5", Floor: true}}}))
	h.reads("humidity", 60)
	h.reads("temperature", 3)
	assert.Equal(t, control.Demanding, h.state("heater").Step)
	assert.Equal(t, site.Amount(1), h.wanted("heater"))
}

func TestWhatIsLockedAndOnIsNotLeftBehind(t *testing.T) {
	h := newHouse(t, nil)
	h.do(Report{Control: "h.fan", Session: "1", Value: 1})
	h.do(Serve{Control: "h.fan", Service: control.OutSilent, Actor: kim})
	h.do(Leave{Controls: []string{"h.fan"}, Actor: kim})
	assert.False(t, h.Left([]string{"h.fan"}), "out of service it is told nothing, and it is on")
	h.do(Report{Control: "h.fan", Session: "1", Value: 0})
	assert.True(t, h.Left([]string{"h.fan", "h.nobody"}))
}

func TestAPauseThatIsEditedSwitchesNothingOff(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		s.Groups["climate"] = &site.Group{ID: "climate", Name: "Climate", Members: []site.GroupMember{{Control: "h.heater"}, {Control: "h.cooler"}}}
	})
	h.byHand("heater", 1, 0)
	h.obeys()
	h.byHand("heater", 0, 0)
	h.obeys()
	h.byHand("cooler", 1, 0)
	h.obeys()
	require.Equal(t, site.Amount(1), h.wanted("cooler"))
	h.site = h.site.Clone()
	climate := *h.site.Groups["climate"]
	climate.PauseMS = 3600_000
	h.site.Groups["climate"] = &climate
	h.do(SiteChanged{h.site})
	assert.Equal(t, site.Amount(1), h.wanted("cooler"), "it runs already")
	h.byHand("cooler", 0, 0)
	h.obeys()
	h.byHand("heater", 1, 0)
	assert.Zero(t, h.wanted("heater"), "from now on it pauses")
}

func TestWhoOnlySaysSomethingInASessionOfItsOwnStartsNothingAnew(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		door(false)(s)
		s.Groups["climate"] = &site.Group{ID: "climate", Name: "Climate", Members: []site.GroupMember{{Control: "h.heater"}, {Control: "h.cooler"}}}
	})
	h.do(Listening{Device: "h", Session: "1"})
	h.is("rain", false)
	h.byHand("heater", 1, 0)
	h.byHand("gate", site.Open, 0)
	h.obeys()
	require.Equal(t, Confirmed, h.state("heater").Phase)
	require.Equal(t, site.Amount(1), h.wanted("up"))
	for i := range 3 { // as a script does that publishes with the device's key
		session := string(rune('a' + i))
		h.do(Online{Device: "h", Session: session})
		h.reads("temperature", 20)
		h.do(Offline{Device: "h", Session: session, Bye: true})
		assert.Empty(t, wants(h.pass(time.Second)))
		assert.Equal(t, Confirmed, h.state("heater").Phase)
		assert.Equal(t, site.Amount(1), h.wanted("up"))
	}
	h.do(Online{Device: "h", Session: "2"}) // the board itself, by another name, while its old session is not known to be dead
	h.do(Listening{Device: "h", Session: "2"})
	assert.Equal(t, Pending, h.state("heater").Phase)
	assert.Empty(t, wants(h.do(Report{Control: "h.heater", Session: "2", Value: 1})))
	assert.Equal(t, Confirmed, h.state("heater").Phase)
	h.do(Listening{Device: "h", Session: "2"})
	assert.Equal(t, Confirmed, h.state("heater").Phase, "once for each session")
}

func TestDampingDoublesUpToAnHourAndIsForgotten(t *testing.T) {
	h := newHouse(t, auto("fan", site.Automation{Demands: whenever("h.temperature > 20"), Changes: 2}))
	chatter := func() time.Duration {
		for i := range 6 {
			h.pass(time.Second)
			h.reads("temperature", float64(25-10*(i%2)))
		}
		s := h.state("fan")
		require.NotNil(t, s.Damped)
		require.Equal(t, control.Chatters, s.Limit)
		return s.Damped.For
	}
	calm := func(d time.Duration) { h.lives(d, map[string]float64{"temperature": 15}) }
	for _, span := range []time.Duration{1, 2, 4, 8, 16, 32, 60, 60} {
		assert.Equal(t, span*time.Minute, chatter())
		calm(h.state("fan").Damped.Until.Sub(h.now.Wall) + time.Minute)
	}
	calm(58 * time.Minute)
	assert.Equal(t, time.Hour, chatter(), "it is not an hour since")
	calm(h.state("fan").Damped.Until.Sub(h.now.Wall) + time.Hour)
	assert.Equal(t, time.Minute, chatter(), "what was an hour ago counts no more")
}

func TestChangesAreCountedForAMinute(t *testing.T) {
	h := newHouse(t, auto("fan", site.Automation{Demands: whenever("h.temperature > 20"), Changes: 2}))
	flip := func(i int) { h.reads("temperature", float64(15+10*(i%2))) }
	h.lives(2*time.Minute, map[string]float64{"temperature": 15})
	flip(1)
	h.pass(29 * time.Second)
	flip(0)
	h.pass(29 * time.Second)
	h.reads("temperature", 15)
	h.pass(2 * time.Second)
	flip(1) // 60 s after the first
	assert.Equal(t, site.Amount(1), h.wanted("fan"))
	h.pass(28*time.Second - time.Millisecond)
	flip(0)
	assert.Equal(t, control.Chatters, h.state("fan").Limit, "a third within a minute")
}

func TestTwoInterlocksThatFightAreDecidedByTheSafeOne(t *testing.T) {
	h := newHouse(t, auto("fan", site.Automation{Changes: 2, Demands: whenever("h.moisture > 90"), Interlocks: []site.Interlock{
		{ID: "wet", Name: "wet", Condition: site.Condition{When: "h.humidity > 90"}},
		{ID: "gas", Name: "gas", To: ptr(site.Amount(1)), Condition: site.Condition{When: "h.gas > 30"}}}}))
	say := func(gas, humidity float64) {
		h.reads("moisture", 10)
		h.reads("gas", gas)
		h.reads("humidity", humidity)
		h.obeys()
	}
	say(5, 50)
	h.pass(time.Minute)
	for i := range 8 {
		say(float64(5+40*(i%2)), 50)
		h.pass(time.Second)
	}
	require.NotNil(t, h.state("fan").Damped)
	say(40, 50)
	require.Equal(t, site.Amount(1), h.wanted("fan"), "held as it was forced")
	say(40, 95)
	assert.Zero(t, h.wanted("fan"), "the safe one counts at once")
	say(40, 50)
	assert.Zero(t, h.wanted("fan"))
	h.pass(9 * time.Second)
	say(40, 50)
	assert.Zero(t, h.wanted("fan"), "the other one not before 10 s")
	h.pass(2 * time.Second)
	assert.Equal(t, site.Amount(1), h.wanted("fan"))
	say(5, 50)
	h.pass(20 * time.Second)
	say(5, 50)
	assert.Equal(t, site.Amount(1), h.wanted("fan"), "what was forced stays for a while")
	for range 5 {
		h.pass(10 * time.Second)
		say(5, 50)
	}
	assert.Zero(t, h.wanted("fan"), "and no longer than a minute")
}

func TestWhatIsGivenUpSaysSo(t *testing.T) {
	h := newHouse(t, nil)
	h.byHand("fan", 1, 0)
	h.obeys()
	h.do(Offline{Device: "h", Session: "1"})
	out := h.pass(site.DefaultResume - 31*time.Second)
	assert.Equal(t, site.Amount(1), h.wanted("fan"))
	out = append(out, h.pass(time.Minute)...)
	assert.Zero(t, h.wanted("fan"))
	assert.Equal(t, HowAway, h.state("fan").How)
	said := map[string]int{}
	for _, x := range out {
		if j, ok := x.(Journal); ok {
			said[j.Action+" "+j.Reason]++
		}
	}
	assert.Equal(t, 1, said["switch away for longer than 24 h; the safe value holds until somebody resumes"])
	assert.Equal(t, 1, said["offline "])
	h.do(Online{Device: "h", Session: "2"})
	h.do(Report{Control: "h.fan", Session: "2", Value: 0})
	assert.Equal(t, Confirmed, h.state("fan").Phase)
}

func TestAProofThatCameLateIsSaid(t *testing.T) {
	h := newHouse(t, auto("fan", site.Automation{Demands: whenever("h.humidity > 60"), Proof: &site.Proof{When: "h.power > 55", WithinMS: 20_000}}))
	h.lives(40*time.Second, map[string]float64{"humidity": 70, "power": 2})
	require.Equal(t, ProofMissing, h.state("fan").Proof)
	h.reads("power", 60)
	assert.Equal(t, ProofSeen, h.state("fan").Proof)
	assert.Equal(t, "its effect came late: h.power > 55", h.state("fan").Reason)
	edited := *h.site.Automations["h.fan"]
	edited.Proof = nil
	with := h.site
	h.site = h.site.Clone()
	h.site.Automations["h.fan"] = &edited
	h.do(SiteChanged{h.site})
	assert.Equal(t, NoProof, h.state("fan").Proof, "none is asked for any more")
	h.site = with
	h.do(SiteChanged{h.site})
	h.lives(40*time.Second, map[string]float64{"humidity": 50, "power": 2})
	h.lives(40*time.Second, map[string]float64{"humidity": 70, "power": 60})
	require.Equal(t, ProofSeen, h.state("fan").Proof)
	assert.Zero(t, h.state("fan").ProofTries)
	h.lives(time.Minute, map[string]float64{"humidity": 70, "power": 2})
	assert.Equal(t, ProofSeen, h.state("fan").Proof, "once is enough for a run")
	h.lives(20*time.Second, map[string]float64{"humidity": 50, "power": 2})
	assert.Equal(t, NoProof, h.state("fan").Proof)
}

func TestTheSameByHandTwiceIsOneEntry(t *testing.T) {
	h := newHouse(t, auto("fan", site.Automation{Demands: whenever("h.temperature > 20")}))
	entries := func(out []Effect) (n int) {
		for _, x := range out {
			if j, ok := x.(Journal); ok && j.Object == "h.fan" {
				n++
			}
		}
		return n
	}
	h.lives(20*time.Second, map[string]float64{"temperature": 10})
	assert.Equal(t, 1, entries(h.byHand("fan", 1, 0)))
	h.obeys()
	assert.Zero(t, entries(h.byHand("fan", 1, 0)), "it is so already")
	assert.Equal(t, 1, entries(h.byHand("fan", 1, time.Hour)), "but for another time it is news")
	assert.Equal(t, h.now.Wall.Add(time.Hour), h.state("fan").HandUntil)
	assert.Contains(t, h.state("fan").Reason, "until 11:00")
	assert.Equal(t, []string{"on"}, wants(h.do(Report{Control: "h.fan", Session: "1", Value: 0, By: ByLease})), "what fell is sent again")
	assert.Empty(t, wants(h.byHand("fan", 1, time.Hour)), "it is on its way")
	h.pass(10 * time.Second)
	assert.NotEmpty(t, wants(h.byHand("fan", 1, time.Hour)), "where nobody confirmed it, a tap sends it")
	out := h.do(ToAuto{Control: "h.fan", Actor: kim})
	assert.Equal(t, 2, entries(out), "given back, and switched off")
	assert.Zero(t, entries(h.do(ToAuto{Control: "h.fan", Actor: kim})))
	h.do(Command{Control: "h.fan", To: 7, Actor: kim})
	assert.Equal(t, Auto, h.state("fan").Mode, "what it cannot be is not noted")
	h.do(Command{Control: "h.nobody", To: 1, Actor: kim})
}

func TestALevelStartsAboveWhereItStops(t *testing.T) {
	h := newHouse(t, auto("duct", site.Automation{Demands: []site.Demand{{Kind: site.Curve, Of: "h.temperature", Points: [][2]float64{{0, 0}, {100, 100}}, Least: 0, Most: 60}}}))
	at := func(temperature float64) site.Amount {
		h.pass(6 * time.Second)
		h.reads("temperature", temperature)
		return h.wanted("duct")
	}
	assert.Zero(t, at(21), "its lowest level is 20, and it starts a little above")
	assert.Equal(t, site.Amount(30), at(30))
	assert.Equal(t, site.Amount(21), at(21))
	assert.Equal(t, site.Amount(21), at(20.6), "less than one per cent is not worth telling")
	assert.Equal(t, site.Amount(20), at(20))
	assert.Zero(t, at(19.9))
	assert.Zero(t, at(21))
	assert.Equal(t, site.Amount(60), at(80), "at most")
}

func TestASessionThatSaysGoodByeStaysForThreeOfItsMessages(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		for _, id := range []string{"temperature", "humidity", "gas", "power", "moisture"} {
			g := s.Signals["h."+id]
			g.Interval = time.Minute
			s.Signals["h."+id] = g
		}
	})
	online := func() bool { d, _ := h.Device("h"); return d.Online }
	h.do(Offline{Device: "h", Session: "1", Bye: true})
	h.pass(3*time.Minute - time.Second)
	assert.True(t, online())
	h.pass(2 * time.Second)
	assert.False(t, online())
	h.do(Online{Device: "h", Session: "2"})
	h.do(Offline{Device: "h", Session: "2"})
	h.pass(linger - time.Second)
	assert.True(t, online(), "one that broke off stays for a little, as a short gap is none")
	h.pass(2 * time.Second)
	assert.False(t, online())
	h.do(Offline{Device: "h", Session: "2"})
	h.do(Offline{Device: "nobody", Session: "2"})
	h.do(Online{Device: "nobody", Session: "2"})
	h.do(Listening{Device: "h", Session: "3"})
}

func TestAnotherLeaseIsToldAtOnce(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		d := s.Devices["h"]
		d.Lease = time.Minute
		s.Devices["h"] = d
	})
	leases := func(out []Effect) (list []time.Duration) {
		for _, x := range out {
			if b, ok := x.(Beat); ok {
				list = append(list, b.Lease)
			}
		}
		return list
	}
	assert.Equal(t, []time.Duration{time.Minute, time.Minute, time.Minute}, leases(h.pass(time.Minute)), "every third of it")
	d := h.site.Devices["h"]
	d.Lease = 30 * time.Second
	h.site = h.site.Clone()
	h.site.Devices["h"] = d
	out := append(h.do(SiteChanged{h.site}), h.pass(time.Millisecond)...)
	assert.Equal(t, []time.Duration{30 * time.Second}, leases(out))
	assert.Len(t, leases(h.pass(30*time.Second)), 3)
	h.do(Offline{Device: "h", Session: "1"})
	h.pass(time.Minute)
	assert.Empty(t, leases(h.pass(time.Minute)), "nobody hears it")
}

func TestTheGraceWaitsForWhatIsHeld(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		g := s.Signals["h.temperature"]
		g.Interval = 40 * time.Second
		s.Signals["h.temperature"] = g
		a := holding(site.HoldAbove, "temperature", 1)
		s.Automations["h.heater"] = &a
	})
	h.lives(time.Minute, map[string]float64{"temperature": 15})
	require.Equal(t, site.Amount(1), h.wanted("heater"))
	h = h.restarts(time.Hour)
	h.do(Online{Device: "h", Session: "2"})
	h.lives(2*time.Minute-time.Second, nil)
	assert.Equal(t, site.Amount(1), h.wanted("heater"), "three of its intervals")
	h.lives(2*time.Second, nil)
	assert.Zero(t, h.wanted("heater"))
}

func TestALastReadingCountsAfterARestartUntilItIsStale(t *testing.T) {
	for away, known := range map[time.Duration]bool{30*time.Second - time.Millisecond: true, 30 * time.Second: false} {
		h := newHouse(t, auto("heater", holding(site.HoldAbove, "temperature", 1)))
		h.reads("temperature", 15)
		h = h.restarts(away)
		assert.Equal(t, known, h.points["h.temperature"].value.Known, away)
	}
}

func TestNoFormulaSeesWhatABoardThatReturnsIsForAnInstant(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		s.Groups["climate"] = &site.Group{ID: "climate", Name: "Climate", Members: []site.GroupMember{{Control: "h.heater"}, {Control: "h.cooler"}}}
		s.Automations["h.pump"] = &site.Automation{Demands: []site.Demand{{Kind: site.Whenever, Condition: site.Condition{When: "not h.heater.want", SettleMS: 60_000}}}}
	})
	h.byHand("heater", 1, 0)
	h.obeys()
	h.lives(2*time.Minute, nil)
	require.Zero(t, h.wanted("pump"))
	h.do(Offline{Device: "h", Session: "1"})
	h.do(Online{Device: "h", Session: "2"})
	out := h.do(Report{Control: "h.heater", Session: "2", Value: 0})
	assert.Equal(t, []string{"on"}, wants(out), "it waits for its turn, and that is now")
	assert.Equal(t, site.Amount(1), h.wanted("heater"))
	assert.Zero(t, h.wanted("pump"))
	h.byHand("heater", 0, 0)
	assert.Equal(t, site.Amount(1), h.wanted("pump"), "what stays is seen")
}

func TestTheButtonOfADoorThatIsLockedSaysThatItWasCut(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		momentary("up", site.Pulse{ForMS: 5000})(s)
		door(false)(s)
		s.Automations["h.gate"].Travel = &site.Travel{Pulses: "h.up", IsClosed: "h.closed", TravelMS: 15_000}
	})
	h.is("rain", false)
	h.byHand("gate", site.Open, 0)
	require.True(t, h.state("up").Pulse.Running)
	out := h.do(Serve{Control: "h.gate", Service: control.OutSilent, Actor: kim})
	assert.True(t, slices.ContainsFunc(out, func(x Effect) bool {
		c, ok := x.(ControlChanged)
		return ok && c.State.ID == "h.up" && !c.State.Pulse.Running
	}))
}

func TestWhatLooksBackOnAControl(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		s.Automations["h.pump"] = &site.Automation{Demands: whenever(`mean(h.duct.is, "1m") > 50`)}
	})
	for _, x := range slices.Clone(h.seen) {
		if need, ok := x.(NeedHistory); ok {
			h.do(History{ID: need.ID, Span: need.Span, From: h.now.Wall.Add(-2 * need.Span), Samples: []Sample{{h.now.Wall.Add(-2 * need.Span), 0}}})
		}
	}
	h.byHand("duct", 30, 0)
	h.lives(2*time.Minute, nil)
	assert.Zero(t, h.wanted("pump"))
	h.byHand("duct", 80, 0)
	h.lives(2*time.Minute, nil)
	assert.Equal(t, site.Amount(1), h.wanted("pump"), h.state("pump").Reason)
}

func TestWhatABoardHasOnStaysWhereNothingExcludesIt(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		s.Groups["climate"] = &site.Group{ID: "climate", Name: "Climate", Members: []site.GroupMember{{Control: "h.heater"}, {Control: "h.cooler"}}}
	})
	h.byHand("cooler", 0, 0)
	h.obeys()
	h.do(Report{Control: "h.heater", Session: "1", Value: 1})
	h.do(Report{Control: "h.cooler", Session: "1", Value: 0})
	assert.Equal(t, site.Amount(-1), h.wanted("heater"), "nobody wants anything of it, and the other one is off")
	h.byHand("cooler", 1, 0)
	assert.Zero(t, h.wanted("heater"), "now it is in the way")
	h.obeys()
	assert.Equal(t, site.Amount(1), h.wanted("cooler"))
	assert.Empty(t, wants(h.do(Leave{Controls: []string{"h.heater"}, Actor: kim})), "what is off already is not told again")
}

func TestTheHighestFloorProtects(t *testing.T) {
	floor := func(when string, to site.Amount) site.Demand {
		return site.Demand{Kind: site.Whenever, Floor: true, To: &to, Condition: site.Condition{When: when}}
	}
	h := newHouse(t, auto("duct", site.Automation{Demands: []site.Demand{floor("h.temperature < 5", 30), floor("h.temperature < 3", 60), floor("h.temperature < 4", 40)}}))
	h.lives(time.Minute, map[string]float64{"temperature": 10})
	h.do(Command{Control: "h.duct", To: 0, Actor: kim, How: HowPreset})
	for temperature, level := range map[float64]site.Amount{4.5: 30, 3.5: 40, 2: 60} {
		h.reads("temperature", temperature)
		assert.Equal(t, level, h.wanted("duct"), temperature)
		h.reads("temperature", 10)
		assert.Zero(t, h.wanted("duct"))
		h.pass(20 * time.Second)
	}
}
