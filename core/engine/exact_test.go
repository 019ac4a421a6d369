package engine

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

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

func TestARuleWhoseConditionDidNotHoldWaitsForTheNextTime(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		s.Rules["r"] = &site.Rule{ID: "r", Name: "R", Stages: []site.Stage{{When: "h.temperature > 20", If: "h.gas < 10", Actions: []site.Action{{Kind: site.DoMessage, Text: "warm"}}}}}
	})
	h.reads("gas", 20)
	h.reads("temperature", 10)
	assert.Empty(t, messages(h.reads("temperature", 25)))
	assert.Empty(t, messages(h.reads("gas", 5)), "it is not that which it waits for")
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

func TestWhatARegulatorRemembersIsKeptOnceAMinute(t *testing.T) {
	h := newHouse(t, auto("duct", site.Automation{Demands: []site.Demand{{Kind: site.Regulate, Of: "h.temperature", Target: "h.setpoint", Gain: 20, IntegralMS: 600_000}}}))
	cool := map[string]float64{"temperature": 20}
	h.lives(time.Minute, cool)
	keeps := 0
	for _, x := range h.lives(10*time.Minute, cool) {
		if k, ok := x.(Keep); ok && k.ID == "h.duct" {
			keeps++
		}
	}
	assert.Equal(t, 10, keeps)
	before := h.wanted("duct")
	require.Greater(t, before, site.Amount(10))
	h.lives(50*time.Second, cool)
	twin := h.restarts(0)
	twin.comes("2", map[string]reading.Value{"h.temperature": reading.Number(20)}, map[string]site.Amount{"h.duct": h.wanted("duct")})
	h.lives(40*time.Second, cool)
	twin.lives(40*time.Second, cool)
	assert.InDelta(t, float64(h.wanted("duct")), float64(twin.wanted("duct")), 1, "after a restart it makes up for the rest")
}
