package engine

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/core/access"
	"idleember/core/control"
	"idleember/core/reading"
	"idleember/core/site"
	"idleember/core/words"
)

// What comes in another order than one thinks of: each of these once kept something on, or off, that should not have
// been.

func TestARingIsFoundBeforeItIsSaved(t *testing.T) {
	ring := func(change func(*site.Site)) []string {
		h := newHouse(t, change)
		return Ring(h.site, "h.fan")
	}
	when := func(pairs ...string) func(*site.Site) {
		return func(s *site.Site) {
			for i := 0; i < len(pairs); i += 2 {
				s.Automations["h."+pairs[i]] = &site.Automation{Demands: whenever(pairs[i+1])}
			}
		}
	}
	assert.Equal(t, []string{"h.fan"}, ring(when("fan", "not h.fan.want")))
	assert.Equal(t, []string{"h.fan", "h.pump"}, ring(when("fan", "not h.pump.want", "pump", "h.fan.want and h.rain")))
	assert.Empty(t, ring(when("fan", "h.pump.want", "pump", "h.fan.want")), "mutual support comes to rest")
	assert.Empty(t, ring(when("fan", "not h.pump.want", "pump", "not h.fan.want")),
		"and so do two that exclude each other")
	assert.Empty(t, ring(when("fan", "not h.fan.is")), "a report lies between")
	assert.Equal(t, []string{"h.fan"}, ring(func(s *site.Site) {
		s.Rules["r"] = &site.Rule{ID: "r", Name: "R", Stages: []site.Stage{{When: "h.fan.want",
			Actions: []site.Action{{Kind: site.DoControl, ID: "h.fan"}}}}}
	}))
}

func TestWhatGoesRoundIsHeldAndTold(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		s.Automations["h.fan"] = &site.Automation{Demands: whenever("not h.fan.want")}
		alert := &site.Alert{ID: "chatters", Name: "Fan chatters", Kind: site.AlertFormula, Of: "h.fan",
			When: `h.fan.limit == "chatter"`, Severity: site.Warning}
		s.Alerts["chatters"] = alert
	})
	out := h.lives(10*time.Second, nil)
	assert.Less(t, len(wants(h.seen)), 12)
	assert.Equal(t, control.Chatters, h.state("fan").Limit)
	assert.Zero(t, h.wanted("fan"), "at its safe value")
	assert.Contains(t, h.read(h.state("fan").Reason), "chatters")
	state, _, _, _ := h.Alert("chatters")
	assert.True(t, state.Is)
	assert.LessOrEqual(t, len(out), 60)
	first := h.state("fan").Damped.For
	h.lives(3*time.Minute, nil)
	assert.Greater(t, h.state("fan").Damped.For, first, "longer each time")
	h.byHand("fan", 1, 0)
	assert.Equal(t, site.Amount(1), h.wanted("fan"), "a person is not held")
}

func TestTheHubsOwnChangesAreBounded(t *testing.T) {
	h := newHouse(t, auto("fan", site.Automation{Demands: whenever("h.temperature > 20"), Changes: 4}))
	changes := 0
	for i := range 30 {
		h.pass(time.Second)
		changes += len(wants(h.reads("temperature", float64(15+10*(i%2)))))
	}
	assert.Equal(t, 4, changes)
	assert.Contains(t, h.read(h.state("fan").Reason), "chatters; it is held at off for")
}

func TestLongestOnIsABudget(t *testing.T) {
	a := site.Automation{Demands: whenever("h.temperature > 20"), Limits: site.RunLimits{LongestOnMS: 60_000,
		RestMS: 30_000}}
	h := newHouse(t, auto("fan", a))
	run := func(temperature float64, d time.Duration) { h.lives(d, map[string]float64{"temperature": temperature}) }
	h.reads("temperature", 25)
	run(25, 40*time.Second)
	run(15, 20*time.Second) // shorter than the rest
	run(25, 10*time.Second)
	assert.Equal(t, site.Amount(1), h.wanted("fan"))
	run(25, 20*time.Second)
	assert.Zero(t, h.wanted("fan"), "a short off does not start the count anew")
	run(25, 40*time.Second)
	assert.Equal(t, site.Amount(1), h.wanted("fan"), "after the rest")

	h.byHand("fan", 1, 0)
	run(25, 70*time.Second)
	assert.Zero(t, h.wanted("fan"))
	run(25, 5*time.Minute)
	assert.Zero(t, h.wanted("fan"), "by hand it stays off until told anew")
	assert.Contains(t, h.read(h.Reason(h.now, "h.fan")), "switch it anew")
	h.byHand("fan", 1, 0)
	assert.Equal(t, site.Amount(1), h.wanted("fan"))
}

func TestStartsAnHour(t *testing.T) {
	h := newHouse(t, auto("fan", site.Automation{Demands: whenever("h.temperature > 20"),
		Limits: site.RunLimits{StartsAnHour: 2}}))
	for range 4 {
		h.lives(2*time.Minute, map[string]float64{"temperature": 25})
		h.lives(2*time.Minute, map[string]float64{"temperature": 15})
	}
	h.lives(time.Minute, map[string]float64{"temperature": 25})
	assert.Zero(t, h.wanted("fan"))
	assert.Contains(t, h.read(h.state("fan").Reason), "it was started 2 times within an hour")
	h.byHand("fan", 1, 0)
	assert.Equal(t, site.Amount(1), h.wanted("fan"), "a person may, and is told")
	assert.Contains(t, h.read(h.Reason(h.now, "h.fan")), "it was started 3 times within an hour, 2 are allowed")
}

func TestAnInterlockLetsGoOnlyOfWhatWasSeen(t *testing.T) {
	full := site.Amount(1)
	h := newHouse(t, auto("fan", site.Automation{Interlocks: []site.Interlock{{ID: "gas", Name: "gas", To: &full,
		Condition: site.Condition{When: "h.gas > 30", Until: "h.gas < 10"}}}}))
	h.lives(20*time.Second, map[string]float64{"gas": 5})
	require.Zero(t, h.wanted("fan"))
	h.reads("gas", 40)
	h.lives(5*time.Minute, nil) // silent
	h.reads("gas", 20)
	assert.Equal(t, full, h.wanted("fan"), "between its limits nothing is let go of, whatever was between")
	assert.Contains(t, h.read(h.state("fan").Reason), "interlock “gas”")
	assert.Contains(t, h.read(mustWhy(h, "fan").Reason), "holds until h.gas < 10")
	renamed := *h.site.Automations["h.fan"]
	renamed.Interlocks = []site.Interlock{renamed.Interlocks[0]}
	renamed.Interlocks[0].Name = "carbon monoxide"
	h.edits(func(s *site.Site) {
		s.Automations["h.fan"] = &renamed
	})
	assert.Equal(t, full, h.wanted("fan"), "another name changes nothing")
	h.reads("gas", 9)
	assert.Zero(t, h.wanted("fan"))
}

func mustWhy(h *house, id string) Why {
	w, ok := h.Why(h.now, "h."+id)
	require.True(h.t, ok)
	return w
}

func TestALatchNeedsAKnownTrue(t *testing.T) {
	h := newHouse(t, auto("pump", site.Automation{Demands: whenever("h.moisture < 30"),
		Interlocks: []site.Interlock{{ID: "empty", Name: "empty", Latch: true,
			Condition: site.Condition{When: "not h.float"}}}}))
	h.lives(20*time.Second, map[string]float64{"moisture": 10})
	assert.Zero(t, h.wanted("pump"), "unknown holds")
	assert.Empty(t, h.state("pump").Latched)
	h.is("float", true)
	assert.Equal(t, site.Amount(1), h.wanted("pump"))
	h.is("float", false)
	h.is("float", true)
	assert.Equal(t, []string{"empty"}, h.state("pump").Latched)
	h.do(Offline{Device: "h", Session: "1"})
	h.lives(time.Minute, nil)
	h.do(Reset{Control: "h.pump", Actor: kim})
	assert.Zero(t, h.wanted("pump"))
}

func TestWhatIsLockedIsNeverFollowed(t *testing.T) {
	h := newHouse(t, nil)
	h.byHand("fan", 0, 0)
	h.obeys()
	h.do(Serve{Control: "h.fan", Service: control.OutAndSafe, Actor: kim})
	h.do(Report{Control: "h.fan", Session: "1", Value: 1, By: ByHand})
	h.do(Serve{Control: "h.fan", Actor: kim})
	assert.Zero(t, h.wanted("fan"), "not afterwards either")
}

// door makes gate a door with two motors and both contacts.
func door(goOn bool) func(*site.Site) {
	return func(s *site.Site) {
		c := s.Controls["h.gate"]
		c.Kind, c.Safe = site.Mover, site.Stop
		s.Controls["h.gate"] = c
		s.Automations["h.gate"] = &site.Automation{Travel: &site.Travel{Opens: "h.up", Closes: "h.down", IsOpen: "h.open",
			IsClosed: "h.closed", TravelMS: 10_000, GoOn: goOn},
			Interlocks: []site.Interlock{{ID: "eye", Name: "light eye", Condition: site.Condition{When: "h.rain"}}}}
	}
}

func (h *house) motors() [2]site.Amount { return [2]site.Amount{h.wanted("up"), h.wanted("down")} }

func TestADoorThatIsLockedOnItsWayStops(t *testing.T) {
	for name, stop := range map[string]Input{"locked": Serve{Control: "h.gate", Service: control.OutSilent, Actor: kim},
		"taken away":       Leave{Controls: []string{"h.gate"}, Actor: kim},
		"its motor locked": Serve{Control: "h.up", Service: control.OutSilent, Actor: kim}} {
		h := newHouse(t, door(false))
		h.is("rain", false)
		h.byHand("gate", site.Open, 0)
		h.lives(3*time.Second, nil)
		require.Equal(t, [2]site.Amount{1, 0}, h.motors(), name)
		out := h.do(stop)
		assert.Contains(t, wants(out), "off", name)
		h.lives(time.Minute, nil)
		assert.NotEqual(t, site.Amount(1), h.wanted("up"), name)
		assert.Equal(t, Unconfirmed, h.state("gate").Phase, name)
	}
}

func TestADoorStaysWhereAnInterlockStoppedIt(t *testing.T) {
	for _, goOn := range []bool{false, true} {
		h := newHouse(t, door(goOn))
		h.is("rain", false)
		h.byHand("gate", site.Close, 0)
		h.lives(2*time.Second, nil)
		h.is("rain", true)
		assert.Equal(t, [2]site.Amount{0, 0}, h.motors())
		h.is("rain", false)
		h.lives(2*time.Second, nil)
		assert.Equal(t, goOn, h.motors()[1] == 1)
		h.byHand("gate", site.Close, 0)
		h.lives(2*time.Second, nil)
		assert.Equal(t, site.Amount(1), h.motors()[1], "somebody wants it anew")
	}
}

func TestAChangeOfTheSiteChangesNothingForADoorOnItsWay(t *testing.T) {
	h := newHouse(t, door(false))
	for _, id := range []string{"rain", "open", "closed"} {
		h.is(id, false)
	}
	h.byHand("gate", site.Open, 0)
	h.lives(10*time.Second, nil)
	for range 3 {
		h.edits(nil)
		h.lives(3*time.Second, nil)
	}
	assert.Equal(t, [2]site.Amount{0, 0}, h.motors(), "it ran for its travel time and no longer")
	assert.Equal(t, Unconfirmed, h.state("gate").Phase)
	h.edits(nil)
	h.lives(3*time.Second, nil)
	assert.Equal(t, [2]site.Amount{0, 0}, h.motors(), "what did not get there is not driven again by an edit")
	h.byHand("gate", site.Open, 0)
	h.lives(3*time.Second, nil)
	assert.Equal(t, site.Amount(1), h.motors()[0], "a tap sends it again")
}

func TestAPulseSequenceEndsWithALockOrAnInterlock(t *testing.T) {
	for name, end := range map[string]func(*house) []Effect{"interlock": func(h *house) []Effect {
		return h.is("rain", true)
	},
		"lock": func(h *house) []Effect { return h.do(Serve{Control: "h.gate", Service: control.OutSilent, Actor: kim}) }} {
		h := newHouse(t, func(s *site.Site) {
			momentary("gate", site.Pulse{ForMS: 1000, Times: 5, GapMS: 1000})(s)
			s.Automations["h.gate"] = &site.Automation{Interlocks: []site.Interlock{{ID: "i", Name: "rain",
				Condition: site.Condition{When: "h.rain"}}}}
		})
		h.is("rain", false)
		h.byHand("gate", 1, 0)
		h.pass(2500 * time.Millisecond)
		last := h.state("gate").Rev
		out := end(h)
		assert.Equal(t, Unconfirmed, h.state("gate").Phase, name)
		assert.Contains(t, h.read(h.state("gate").Reason), "ended: ", name)
		assert.Equal(t, []string{"off"}, wants(out), name)
		for _, x := range out {
			if w, ok := x.(Want); ok {
				assert.Zero(t, w.Value)
				assert.Greater(t, w.Rev, last, "or a mailbox would drop it")
			}
		}
		from := len(h.seen)
		h.pass(20 * time.Second)
		assert.NotContains(t, wants(h.seen[from:]), "on", name)
		assert.False(t, h.state("gate").Pulse.Running, name)
	}
}

func TestTakingAwayAsksWhatShallStay(t *testing.T) {
	full := site.Amount(1)
	for _, stay := range []bool{false, true} {
		h := newHouse(t, auto("fan", site.Automation{Interlocks: []site.Interlock{{ID: "gas", Name: "gas", To: &full,
			Condition: site.Condition{When: "h.gas > 30"}}}}))
		h.reads("gas", 40)
		h.obeys()
		h.do(Leave{Controls: []string{"h.fan"}, Stay: stay, Actor: kim})
		assert.Equal(t, stay, h.wanted("fan") == 1)
		assert.Equal(t, stay, h.Left([]string{"h.fan"}), "off is not confirmed yet")
		h.obeys()
		assert.True(t, h.Left([]string{"h.fan"}))
	}
}

func TestTheHubIsSilentWhereNobodyConfirmed(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		d := s.Devices["h"]
		d.LeaseMS = 60_000
		s.Devices["h"] = d
		c := s.Controls["h.heater"]
		c.Answers = false
		s.Controls["h.heater"] = c
	})
	beats := func(list []Effect) (n int) {
		for _, e := range list {
			if _, ok := e.(Beat); ok {
				n++
			}
		}
		return n
	}
	h.byHand("heater", 1, 0)
	h.pass(20 * time.Minute)
	require.Positive(t, beats(h.pass(time.Minute)))
	assert.Contains(t, h.do(Withdraw{Control: "h.fan", Doubt: true}), Journal{Actor: access.HubActor(), Action: "silent",
		Object: "h",
		Reason: words.Of("want.silence", "Name", "Fan", "Safe", words.Of("off"), "For", 80*time.Second)})
	assert.Zero(t, beats(h.pass(79*time.Second)), "for a lease and a beat")
	out := h.pass(20 * time.Second)
	assert.Positive(t, beats(out))
	assert.Contains(t, wants(out), "on", "what cannot answer fell as well, and is told again")
}

func TestProofCanSwitchOff(t *testing.T) {
	h := newHouse(t, auto("fan", site.Automation{Demands: whenever("h.humidity > 60"),
		Proof: &site.Proof{When: "h.power > 55", WithinMS: 20_000, SwitchOff: true}}))
	h.lives(40*time.Second, map[string]float64{"humidity": 70, "power": 2})
	assert.Zero(t, h.wanted("fan"))
	assert.Equal(t, ProofMissing, h.state("fan").Proof)
	h.lives(time.Minute, map[string]float64{"humidity": 50, "power": 2})
	h.lives(10*time.Second, map[string]float64{"humidity": 70, "power": 2})
	assert.Equal(t, site.Amount(1), h.wanted("fan"), "a new demand tries again")
}

func TestARuleRepeatsWhereThatIsChosen(t *testing.T) {
	for _, repeat := range []bool{false, true} {
		h := newHouse(t, func(s *site.Site) {
			s.Rules["r"] = &site.Rule{ID: "r", Name: "Leave", Repeat: repeat, RestMS: 60_000,
				Stages: []site.Stage{{When: "h.temperature > 20", Actions: []site.Action{{Kind: site.DoMessage, Text: "warm"}}}}}
		})
		h.reads("temperature", 10)
		out := h.lives(5*time.Minute, map[string]float64{"temperature": 25})
		assert.Len(t, messages(out), map[bool]int{false: 1, true: 5}[repeat])
	}
}

func TestAPresetWithAnEndGivesBackWhatWasWanted(t *testing.T) {
	h := newHouse(t, nil)
	h.byHand("fan", 1, 0)
	h.do(Command{Control: "h.fan", To: 0, Until: h.now.Wall.Add(time.Minute), Actor: kim, How: HowPreset})
	require.Zero(t, h.wanted("fan"))
	h.lives(2*time.Minute, nil)
	assert.Equal(t, site.Amount(1), h.wanted("fan"))
}

func TestAFloorThatCannotSeeSaysSo(t *testing.T) {
	h := newHouse(t, auto("heater", site.Automation{Demands: []site.Demand{{Kind: HoldAbove, Of: "h.temperature",
		Target: "5", Floor: true}}}))
	h.lives(20*time.Second, map[string]float64{"temperature": 12})
	h.do(Command{Control: "h.heater", To: 0, Actor: kim, How: HowPreset})
	assert.Empty(t, h.state("heater").Floor)
	h.lives(5*time.Minute, nil)
	assert.Equal(t, floorBlind, h.state("heater").Floor)
	assert.Contains(t, h.read(h.Reason(h.now, "h.heater")), "its protection cannot see: Temperature")
}

func TestASensorThatFailsSlowlyIsMissed(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		g := s.Signals["h.temperature"]
		g.IntervalMS = 0
		s.Signals["h.temperature"] = g
		a := holding(HoldAbove, "temperature", 1)
		s.Automations["h.heater"] = &a
	})
	for range 20 {
		h.lives(10*time.Second, map[string]float64{"temperature": 15})
	}
	require.Equal(t, 10*time.Second, h.Relied("h.temperature"), "fixed")
	for gap := 12 * time.Second; gap < 2*time.Minute; gap = gap * 13 / 10 {
		h.lives(gap, nil)
		h.reads("temperature", 15)
	}
	h.lives(35*time.Second, nil)
	assert.Zero(t, h.wanted("heater"))
	assert.Equal(t, 10*time.Second, h.Relied("h.temperature"), "never stretched")
}

func TestTheFirstAutomationOfALiveSignal(t *testing.T) {
	h := newHouse(t, nil)
	h.lives(10*time.Minute, map[string]float64{"temperature": 15})
	h.pass(8 * time.Second)
	a := holding(HoldAbove, "temperature", 1)
	h.edits(func(s *site.Site) {
		s.Automations["h.heater"] = &a
	})
	h.pass(8 * time.Second)
	assert.Equal(t, control.Demanding, h.state("heater").Step, "it is as live as it was")
}

func TestAnOldCopyIsNoChange(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		g := s.Settings["h.setpoint"]
		g.Mirror = "setpoint"
		s.Settings["h.setpoint"] = g
	})
	h.do(Set{Setting: "h.setpoint", To: 24, Actor: kim})
	h.do(Mirrored{Setting: "h.setpoint", Value: 22, Based: 0})
	s, _ := h.Setting("h.setpoint")
	assert.Equal(t, site.Amount(24), s.Value, "a copy that was not changed")
	h.pass(time.Minute)
	h.do(Mirrored{Setting: "h.setpoint", Value: 19, Based: 0, Age: 10 * time.Second})
	s, _ = h.Setting("h.setpoint")
	assert.Equal(t, site.Amount(19), s.Value, "a newer change at the device")
}

func TestBoardsOfOneBudgetComeBackOneAfterAnother(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		s.Groups["g"] = &site.Group{ID: "g", Name: "Kilns", Limit: 3000, PauseMS: 10_000,
			Members: []site.GroupMember{{Control: "h.heater", Watts: 1000}, {Control: "h.fan", Watts: 1000}}}
	})
	h.byHand("heater", 1, 0)
	h.lives(20*time.Second, nil)
	h.byHand("fan", 1, 0)
	h.lives(20*time.Second, nil)
	for _, w := range h.Wants("h") {
		assert.True(t, w.Fleeting, "no broker keeps what is on in a group")
	}
	h.do(Offline{Device: "h", Session: "1", Why: "power cut"})
	h.lives(time.Minute, nil)
	from := len(h.seen)
	h.do(Online{Device: "h", Session: "2"})
	for _, id := range []string{"heater", "fan"} {
		h.do(Report{Control: "h." + id, Session: "2", Value: 0})
	}
	assert.Equal(t, []string{"on"}, wants(h.seen[from:]), "the second waits")
	h.pass(9 * time.Second)
	assert.Equal(t, []string{"on"}, distinct(wants(h.seen[from:])))
	h.lives(3*time.Second, nil)
	assert.Equal(t, site.Amount(1), h.wanted("fan"))
	h.do(Offline{Device: "h", Session: "2"})
	from = len(h.seen)
	h.do(Online{Device: "h", Session: "3"})
	for _, id := range []string{"heater", "fan"} {
		h.do(Report{Control: "h." + id, Session: "3", Value: 1})
	}
	assert.NotContains(t, wants(h.seen[from:]), "off", "a short loss changes nothing")
}

func distinct(list []string) (out []string) {
	for _, s := range list {
		if len(out) == 0 || out[len(out)-1] != s {
			out = append(out, s)
		}
	}
	return out
}

func TestAReplacedBoardIsDecidedAfresh(t *testing.T) {
	h := newHouse(t, auto("heater", holding(HoldAbove, "temperature", 1)))
	h.lives(20*time.Second, map[string]float64{"temperature": 15})
	h.byHand("heater", 0, 0)
	h.do(Leave{Controls: []string{"h.heater"}, Actor: access.HubActor()})
	h.obeys()
	h.do(Withdraw{Control: "h.heater"})
	h.lives(20*time.Second, map[string]float64{"temperature": 15})
	assert.Equal(t, site.Amount(-1), h.wanted("heater"), "what was taken away is decided of no more")
	h.do(Leave{Controls: []string{"h.heater"}, End: true})
	assert.Equal(t, Auto, h.state("heater").Mode)
	h.do(Offline{Device: "h", Session: "1"})
	h.do(Online{Device: "h", Session: "2"})
	h.lives(20*time.Second, map[string]float64{"temperature": 15})
	assert.Equal(t, site.Amount(1), h.wanted("heater"))
}

func TestTryBeginsWithTheStateThatIs(t *testing.T) {
	lamp := site.Automation{Demands: []site.Demand{{Kind: DayLength, Daylight: "h.day", Hours: "h.hours"}},
		Interlocks: []site.Interlock{{ID: "gas", Name: "gas", Condition: site.Condition{When: "h.gas > 30",
			Until: "h.gas < 10"}}}}
	h := newHouse(t, auto("fan", lamp))
	h.reads("gas", 5)
	h.is("day", true)
	h.lives(time.Hour, map[string]float64{"gas": 5})
	h.is("day", false)
	got, ok := h.Try(h.now, h.site, "h.fan", nil)
	require.True(t, ok)
	assert.Equal(t, "on", got.Want.String())
	assert.Contains(t, h.read(got.Why.Reason), "13 h of light counted from 10:00")
	h.reads("gas", 40)
	h.reads("gas", 20)
	got, _ = h.Try(h.now, h.site, "h.fan", nil)
	assert.Equal(t, "off", got.Want.String(), "an interlock that holds goes on holding")
}

func TestLatchesOfEarlierVersionsAreCarriedOver(t *testing.T) {
	h := newHouse(t, auto("pump", site.Automation{Demands: whenever("h.moisture < 30"), Interlocks: []site.Interlock{
		{ID: "i1", Name: "empty", Latch: true, Condition: site.Condition{When: "not h.float"}}, {ID: "i2", Name: "gas",
			Condition: site.Condition{When: "h.gas > 30", Until: "h.gas < 10"}}}}))
	want := site.Amount(0)
	var state Restored
	require.NoError(t, state.Add("control", "h.pump",
		[]byte(`{"id":"h.pump","want":0,"mode":"auto","step":"interlock","latched":["empty"]}`)))
	require.NoError(t, state.Add("condition", "h.gas > 30|h.gas < 10|0|0|true",
		[]byte(`{"is":2,"at":"2026-03-02T08:00:00Z"}`)))
	state.Controls[0].Want, state.Alive = &want, h.now.Wall
	again := &house{bench: &bench{Engine: New(), now: h.now, site: h.site}, t: t}
	again.do(SiteChanged{h.site})
	again.do(state)
	again.do(Online{Device: "h", Session: "1"})
	again.is("float", true)
	again.lives(20*time.Second, map[string]float64{"moisture": 10, "gas": 20})
	assert.Equal(t, []string{"i1"}, again.state("pump").Latched)
	assert.Equal(t, control.True, again.state("pump").Locks[1].Is, "between its limits it goes on holding")
	again.do(Reset{Control: "h.pump", Actor: kim})
	assert.Zero(t, again.wanted("pump"))
	again.reads("gas", 9)
	assert.Equal(t, site.Amount(1), again.wanted("pump"))
}

func TestWhatWasGivenBackWhileItWasAwayIsNotGivenUp(t *testing.T) {
	h := newHouse(t, auto("fan", site.Automation{Demands: whenever("h.temperature > 20")}))
	h.lives(time.Minute, map[string]float64{"temperature": 25})
	h.byHand("fan", 1, 0)
	h.do(Offline{Device: "h", Session: "1"})
	h.pass(time.Hour)
	h.do(ToAuto{Control: "h.fan", Actor: kim})
	h.pass(25 * time.Hour)
	assert.Equal(t, Auto, h.state("fan").Mode)
	assert.Nil(t, h.state("fan").Held)

	h.do(Online{Device: "h", Session: "2"})
	h.byHand("fan", 1, 0)
	h.do(Offline{Device: "h", Session: "2"})
	h.pass(25 * time.Hour)
	assert.Equal(t, on(true), h.state("fan").Held, "by hand it is, and a tap resumes it")
	assert.Zero(t, h.wanted("fan"))
}

func TestAnInterlockThatFluttersHoldsForAMinuteMore(t *testing.T) {
	full := site.Amount(1)
	h := newHouse(t, auto("fan", site.Automation{Changes: 3, Interlocks: []site.Interlock{{ID: "gas", Name: "gas",
		To: &full, Condition: site.Condition{When: "h.gas > 30"}}}}))
	changes := 0
	for range 20 {
		h.pass(2 * time.Second)
		changes += len(wants(h.reads("gas", 40)))
		require.Equal(t, full, h.wanted("fan"), "what protects is never held up")
		h.pass(2 * time.Second)
		changes += len(wants(h.reads("gas", 20)))
	}
	assert.LessOrEqual(t, changes, 8)
	assert.Equal(t, full, h.wanted("fan"), "it holds on for a while")
	h.lives(50*time.Second, map[string]float64{"gas": 20})
	assert.Equal(t, full, h.wanted("fan"))
	h.lives(30*time.Second, map[string]float64{"gas": 20})
	assert.Zero(t, h.wanted("fan"), "and not for as long as it is damped")
	assert.Equal(t, control.Chatters, h.state("fan").Limit)
}

func TestALatchThatItsOwnerTookOffStaysOffAfterARestart(t *testing.T) {
	lock := site.Interlock{ID: "gas", Name: "gas", Latch: true, Condition: site.Condition{When: "h.gas > 30"}}
	h := newHouse(t, auto("fan", site.Automation{Demands: whenever("h.temperature > 20"),
		Interlocks: []site.Interlock{lock}}))
	h.lives(20*time.Second, map[string]float64{"temperature": 25, "gas": 40})
	h.reads("gas", 10)
	require.Equal(t, []string{"gas"}, h.state("fan").Latched)
	next := h.site.Clone()
	a := *next.Automations["h.fan"]
	a.Interlocks = []site.Interlock{lock}
	a.Interlocks[0].Latch = false
	next.Automations["h.fan"] = &a
	kept := h.state("fan")
	for _, x := range h.do(SiteChanged{next}) {
		if c, ok := x.(ControlChanged); ok && c.State.ID == "h.fan" {
			kept = c.State
		}
	}
	assert.Empty(t, kept.Latched)
	assert.False(t, kept.Locks[0].Latched, "and that is kept")
	assert.Equal(t, on(true), kept.Want)
}

func TestAnotherIntervalIsProposedAndNeverTakenByItself(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		g := s.Signals["h.temperature"]
		g.IntervalMS = 0
		s.Signals["h.temperature"] = g
		s.Automations["h.fan"] = &site.Automation{Demands: whenever("h.temperature > 20")}
	})
	every := func(gap time.Duration, n int) {
		for range n {
			h.pass(gap)
			h.reads("temperature", 25)
		}
	}
	every(20*time.Second, 12)
	require.Equal(t, 20*time.Second, h.Relied("h.temperature"))
	every(30*time.Second, 12)
	assert.Zero(t, h.Proposed("h.temperature"))
	every(50*time.Second, 12)
	assert.Equal(t, 50*time.Second, h.Proposed("h.temperature"))
	assert.Equal(t, 20*time.Second, h.Relied("h.temperature"))
	every(8*time.Second, 12)
	assert.Equal(t, 8*time.Second, h.Proposed("h.temperature"))
	every(20*time.Second, 12)
	assert.Zero(t, h.Proposed("h.temperature"))
}

func TestTwoThatAreForcedOnAndExcludeEachOther(t *testing.T) {
	full := site.Amount(1)
	forced := func(when string) *site.Automation {
		return &site.Automation{Interlocks: []site.Interlock{{ID: "i", Name: "frost", To: &full,
			Condition: site.Condition{When: when}}}}
	}
	h := newHouse(t, func(s *site.Site) {
		s.Automations["h.heater"], s.Automations["h.cooler"] = forced("h.temperature < 5"), forced("h.gas > 30")
		s.Groups["climate"] = &site.Group{ID: "climate", Name: "Climate", Members: []site.GroupMember{{Control: "h.heater"},
			{Control: "h.cooler"}}}
	})
	h.lives(20*time.Second, map[string]float64{"temperature": 20, "gas": 40})
	require.Equal(t, full, h.wanted("cooler"))
	h.lives(20*time.Second, map[string]float64{"temperature": 3, "gas": 40})
	assert.Equal(t, full, h.wanted("heater"), "the owner's order wins")
	assert.Zero(t, h.wanted("cooler"))
	assert.Contains(t, h.read(h.state("cooler").Reason), "Heater goes first: both are forced on")
	alert, _, _, ok := h.Alert("overruled_h_cooler")
	require.True(t, ok)
	assert.True(t, alert.Is)
	h.reads("temperature", 20)
	assert.Zero(t, h.wanted("cooler"), "the heater has not said yet that it is off")
	assert.Contains(t, h.read(h.state("cooler").Reason), "waits for Heater")
	h.obeys()
	assert.Equal(t, full, h.wanted("cooler"), "now it has")
	h.lives(20*time.Second, map[string]float64{"temperature": 20, "gas": 40})
	assert.Equal(t, full, h.wanted("cooler"))
	alert, _, _, _ = h.Alert("overruled_h_cooler")
	assert.False(t, alert.Is)
}

func TestALampCountsItsDayAnew(t *testing.T) {
	h := newHouse(t, auto("up", site.Automation{Demands: []site.Demand{{Kind: DayLength, Daylight: "h.day",
		Hours: "h.hours"}}}))
	h.is("day", true) // 10:00
	h.lives(7*time.Hour, nil)
	h.is("day", false)
	h.lives(7*time.Hour, nil)
	require.Zero(t, h.wanted("up"), "midnight")
	h.lives(8*time.Hour, nil)
	h.is("day", true) // 08:00
	h.is("day", false)
	assert.Equal(t, site.Amount(1), h.wanted("up"), "13 hours are counted from this day's light")
	assert.Contains(t, h.read(h.state("up").Reason), "counted from 08:00, until 21:00")
	h = h.restarts(time.Minute)
	h.comes("2", map[string]reading.Value{"h.day": reading.OnOff(false)}, nil)
	assert.Equal(t, site.Amount(1), h.wanted("up"), "and that is known after a restart")
	assert.Contains(t, h.read(h.state("up").Reason), "counted from 08:00")
}

func TestWhatHadNoEffectIsTriedWhenItIsAskedForAnew(t *testing.T) {
	h := newHouse(t, auto("fan", site.Automation{Demands: whenever("h.humidity > 60"),
		Proof: &site.Proof{When: "h.power > 55", WithinMS: 20_000, SwitchOff: true}}))
	h.lives(40*time.Second, map[string]float64{"humidity": 70, "power": 2})
	require.Equal(t, control.NoEffect, h.state("fan").Spent)
	h.lives(10*time.Second, map[string]float64{"humidity": 50, "power": 2})
	assert.Equal(t, control.NoLimit, h.state("fan").Spent)
	h = h.restarts(time.Second)
	assert.Equal(t, control.NoLimit, h.state("fan").Spent, "that is kept")
}

func TestOneInputTurnsAControlAFewTimes(t *testing.T) {
	for safe, most := range map[site.Amount]int{0: turnsAnInput, 1: turnsAnInput + 1} {
		h := newHouse(t, func(s *site.Site) {
			c := s.Controls["h.fan"]
			c.Safe = safe
			s.Controls["h.fan"] = c
			auto("fan", site.Automation{Demands: whenever("h.rain and not h.fan.want"), Changes: 60})(s)
		})
		h.is("rain", false)
		h.pass(time.Minute)
		out := h.is("rain", true)
		changes := 0
		for _, x := range out {
			if j, ok := x.(Journal); ok && j.Action == "switch" {
				changes++
			}
		}
		assert.Equal(t, most, changes, "however many changes a minute its owner allows; then it is safe")
		assert.Equal(t, safe, h.wanted("fan"))
		assert.Len(t, wants(out), 1, "and the board hears of the last one alone")
		assert.Equal(t, control.Chatters, h.state("fan").Limit)
	}
}

func TestARingByWayOfACurve(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		s.Automations["h.duct"] = &site.Automation{Demands: []site.Demand{{Kind: Curve, Of: "h.duct.want + 1",
			Points: [][2]float64{{0, 0}, {100, 100}}}}}
		s.Automations["h.fan"] = &site.Automation{Demands: []site.Demand{{Kind: DayLength, Daylight: "h.pump.want",
			Hours: "3"}}}
		s.Automations["h.pump"] = &site.Automation{Demands: whenever("h.fan.want")}
	})
	assert.Equal(t, []string{"h.duct"}, Ring(h.site, "h.duct"))
	assert.Equal(t, []string{"h.fan", "h.pump"}, Ring(h.site, "h.fan"))
}

func TestADoorWithoutAnOutputDoesNotMove(t *testing.T) {
	for missing, left := range map[string]string{"down": "up", "up": "down"} {
		h := newHouse(t, door(false))
		h.is("rain", false)
		h.edits(func(s *site.Site) {
			delete(s.Controls, "h."+missing)
		})
		h.byHand("gate", site.Open, 0)
		h.lives(3*time.Second, nil)
		assert.Zero(t, h.wanted(left), "it could not be closed any more, or not opened")
		assert.Equal(t, Unconfirmed, h.state("gate").Phase)
		assert.Equal(t, "an output is missing", h.read(h.state("gate").Reason))
	}
}

func TestADoorThatGotThereAfterAllIsWell(t *testing.T) {
	h := newHouse(t, door(false))
	for _, id := range []string{"rain", "open", "closed"} {
		h.is(id, false)
	}
	h.byHand("gate", site.Open, 0)
	h.lives(20*time.Second, nil)
	require.True(t, h.state("gate").Mover.Failed)
	require.Contains(t, h.read(h.state("gate").Reason), "did not get to open")
	h.is("open", true)
	assert.Equal(t, Confirmed, h.state("gate").Phase)
	assert.False(t, h.state("gate").Mover.Failed)
	assert.Equal(t, "set to open by Kim", h.read(h.state("gate").Reason))
}

func TestWhatIsOfflineIsNotToldAgain(t *testing.T) {
	h := newHouse(t, nil)
	h.do(Offline{Device: "h", Session: "1"})
	h.pass(time.Minute)
	h.byHand("fan", 1, 0)
	out := h.pass(10 * time.Minute)
	assert.Empty(t, wants(out), "coming online sends it")
	assert.Equal(t, Unconfirmed, h.state("fan").Phase)
	assert.Equal(t, []string{"on"}, wants(h.do(Online{Device: "h", Session: "2"})))
}

func TestRulesSayWhatIs(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		s.Automations["h.fan"] = &site.Automation{Demands: whenever("h.rain")}
		s.Rules["r"] = &site.Rule{ID: "r", Name: "Tell", Stages: []site.Stage{{When: "h.temperature > 20",
			Actions: []site.Action{{Kind: site.DoMessage,
				Text: "{h.temperature}, {h.setpoint}, fan {h.fan.want} and {h.fan}, {h.fan.mode}, {h.gas}, {h.nothing}"}}}}}
	})
	h.is("rain", true)
	h.do(Report{Control: "h.fan", Session: "1", Value: 0})
	h.reads("temperature", 15)
	assert.Equal(t, []string{"25.0, 22, fan on and off, auto, unknown, {h.nothing}"}, messages(h.reads("temperature", 25)))
}

func TestARegulatorWaitsWithoutWindingUp(t *testing.T) {
	h := newHouse(t, auto("duct", site.Automation{Demands: []site.Demand{{Kind: Regulate, Of: "h.temperature",
		Target: "18", Gain: 10, IntegralMS: 600_000, Cools: true}},
		Interlocks: []site.Interlock{{ID: "rain", Name: "rain", Condition: site.Condition{When: "h.rain"}}}}))
	h.is("rain", false)
	h.lives(30*time.Second, map[string]float64{"temperature": 21})
	before := h.wanted("duct")
	require.InDelta(t, 31, float64(before), 2)
	h.is("rain", true)
	h.lives(5*time.Minute, map[string]float64{"temperature": 0})
	require.Zero(t, h.wanted("duct"))
	h.is("rain", false)
	h.lives(10*time.Second, map[string]float64{"temperature": 21})
	assert.LessOrEqual(t, h.wanted("duct"), before+3, "the cold meanwhile counts for nothing")
}

func TestWhatFightsBackIsSaidAndTriedAgain(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		c := s.Controls["h.fan"]
		c.AtDevice = site.Insist
		s.Controls["h.fan"] = c
	})
	h.byHand("fan", 0, 0)
	h.obeys()
	sent := 0
	for range 300 { // a hand at the board, or a relay that is stuck
		h.pass(200 * time.Millisecond)
		sent += len(wants(h.do(Report{Control: "h.fan", Session: "1", Value: 0})))
		sent += len(wants(h.do(Report{Control: "h.fan", Session: "1", Value: 1})))
		c := h.state("fan")
		require.False(t, c.Phase == Confirmed && *c.Is != *c.Want, "what it does not say is not confirmed")
	}
	assert.LessOrEqual(t, sent, 20)
	assert.Contains(t, h.read(h.Reason(h.now, "h.fan")), "House does not confirm off, it says on")
	assert.NotEmpty(t, wants(h.pass(20*time.Second)), "it is told again")
}

func TestTheShortestOnNeverOutlastsTheLongestOn(t *testing.T) {
	h := newHouse(t, auto("fan", site.Automation{Demands: whenever("h.rain"), Limits: site.RunLimits{LongestOnMS: 60_000,
		RestMS: 30_000, ShortestOnMS: 40_000, ShortestOffMS: 10_000}}))
	h.is("rain", false)
	h.pass(time.Minute)
	h.is("rain", true)
	h.is("rain", false)
	h.lives(39*time.Second, nil)
	require.Equal(t, site.Amount(1), h.wanted("fan"))
	h.lives(12*time.Second, nil)
	require.Zero(t, h.wanted("fan"))
	h.is("rain", true)
	h.is("rain", false)
	require.Equal(t, site.Amount(1), h.wanted("fan"))
	h.pass(19 * time.Second)
	assert.Equal(t, site.Amount(1), h.wanted("fan"))
	h.pass(2 * time.Second)
	assert.Zero(t, h.wanted("fan"), "20 s were left of its longest on")
}

func TestWhatStayedOffForALimitThatIsGoneIsDecidedAgain(t *testing.T) {
	h := newHouse(t, auto("fan", site.Automation{Demands: whenever("h.rain"),
		Limits: site.RunLimits{LongestOnMS: 60_000}}))
	h.is("rain", true)
	h.byHand("fan", 1, 0)
	h.lives(2*time.Minute, nil)
	require.Equal(t, control.LongestOn, h.state("fan").Spent)
	h.edits(func(s *site.Site) {
		s.Automations["h.fan"] = &site.Automation{Control: "h.fan", Demands: whenever("h.rain")}
	})
	assert.Equal(t, control.NoLimit, h.state("fan").Spent)
	assert.Equal(t, site.Amount(1), h.wanted("fan"))
}
