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
)

// How often the hub itself may change what it decided, and what holds a control that chatters.

func TestALevelStepsSlowlyButNotForAnInterlock(t *testing.T) {
	h := newHouse(t, auto("duct", site.Automation{
		Demands: []site.Demand{{Kind: Curve, Of: "h.temperature", Points: [][2]float64{{0, 0}, {100, 100}}}},
		Interlocks: []site.Interlock{{ID: "gas", Name: "gas", To: ptr(site.Amount(80)),
			Condition: site.Condition{When: "h.gas > 30"}}}}))
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

func TestWhatIsForcedAndChattersIsNotOnAgainAtOnceInItsGroup(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		forced := func(changes int, when string) *site.Automation {
			return &site.Automation{Changes: changes, Interlocks: []site.Interlock{{ID: "i", Name: "i", To: ptr(site.Amount(1)),
				Condition: site.Condition{When: when}}}}
		}
		s.Automations["h.heater"], s.Automations["h.cooler"] = forced(2, "h.temperature < 5"), forced(60, "h.gas > 30")
		s.Groups["climate"] = &site.Group{ID: "climate", Name: "Climate", Members: []site.GroupMember{{Control: "h.cooler"},
			{Control: "h.heater"}}}
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

func TestAPersonMovesADoorAsOftenAsTheyLike(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		door(false)(s)
		s.Automations["h.gate"].Interlocks, s.Automations["h.gate"].Changes = nil, 1
	})
	for _, to := range []site.Amount{site.Open, site.Stop, site.Close, site.Stop, site.Open, site.Close} {
		h.byHand("gate", to, 0)
		assert.Equal(t, to, h.wanted("gate"))
		assert.Nil(t, h.state("gate").Damped)
	}
}

func TestADoorThatIsDrivenToAndFroByDemandsIsHeld(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		door(false)(s)
		gate := s.Automations["h.gate"]
		gate.Interlocks, gate.Changes = nil, 2
		gate.Demands = []site.Demand{{Kind: Whenever, Condition: site.Condition{When: "h.temperature > 20"},
			To: ptr(site.Open)}, {Kind: Whenever, Condition: site.Condition{When: "h.temperature < 20"}, To: ptr(site.Close)}}
	})
	for i := range 6 {
		h.pass(time.Second)
		h.reads("temperature", float64(15+10*(i%2)))
	}
	require.NotNil(t, h.state("gate").Damped)
	assert.Equal(t, site.Stop, h.wanted("gate"))
}

func TestADoorThatIsHeldAndWasStoppedStaysUntilSomethingNewIsWanted(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		door(false)(s)
		gate := s.Automations["h.gate"]
		gate.Changes, gate.Travel.IsOpen, gate.Travel.IsClosed, gate.Interlocks[0].To = 2, "", "", ptr(site.Close)
		gate.Demands = []site.Demand{{Kind: Whenever, Condition: site.Condition{When: "h.temperature > 20"},
			To: ptr(site.Open)}, {Kind: Whenever, Condition: site.Condition{When: "h.temperature < 20"}, To: ptr(site.Close)}}
	})
	h.is("rain", false)
	for i := range 6 {
		h.pass(time.Second)
		h.reads("temperature", float64(15+10*(i%2)))
	}
	require.NotNil(t, h.state("gate").Damped)
	warm := map[string]float64{"temperature": 25}
	h.is("rain", true)
	h.lives(20*time.Second, warm)
	require.Equal(t, site.Close, h.wanted("gate"))
	h.is("rain", false)
	h.lives(3*time.Minute, warm)
	assert.Equal(t, site.Close, h.wanted("gate"), "it stays, also when it is held no more")
	assert.Equal(t, control.Stays, h.state("gate").Limit)
	h.lives(time.Minute, map[string]float64{"temperature": 15})
	h.lives(time.Minute, warm)
	assert.Equal(t, site.Open, h.wanted("gate"))
}

func TestWhatChatteredIsFreeOnceAPersonWantsIt(t *testing.T) {
	h := newHouse(t, auto("fan", site.Automation{Demands: whenever("h.temperature > 20"), Changes: 2}))
	for i := range 8 {
		h.pass(time.Second)
		h.reads("temperature", float64(15+10*(i%2)))
	}
	require.Equal(t, control.Chatters, h.state("fan").Limit)
	require.Zero(t, h.wanted("fan"))
	h.do(ToAuto{Control: "h.fan", Actor: access.HubActor()})
	assert.Zero(t, h.wanted("fan"), "not because a rule does")
	assert.NotNil(t, h.state("fan").Damped)
	h.do(ToAuto{Control: "h.fan", Actor: kim})
	assert.Equal(t, site.Amount(1), h.wanted("fan"))
	assert.Nil(t, h.state("fan").Damped)
}

func TestTwoInterlocksThatFightAreDecidedByTheSafeOne(t *testing.T) {
	h := newHouse(t, auto("fan", site.Automation{Changes: 2, Demands: whenever("h.moisture > 90"),
		Interlocks: []site.Interlock{
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
	h.pass(6 * time.Second)
	say(40, 95)
	h.pass(6 * time.Second)
	say(40, 50)
	assert.Zero(t, h.wanted("fan"), "in between it was decided as before")
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

func TestTheJournalTellsThatALevelRunsNotEachOfItsSteps(t *testing.T) {
	h := newHouse(t, auto("duct", site.Automation{Demands: []site.Demand{{Kind: Curve, Of: "h.temperature",
		Points: [][2]float64{{0, 0}, {100, 100}}}},
		Interlocks: []site.Interlock{{ID: "gas", Name: "gas", To: ptr(site.Amount(80)),
			Condition: site.Condition{When: "h.gas > 30"}}}}))
	var told []string
	at := func(temperature, gas float64) {
		h.pass(6 * time.Second)
		for _, x := range append(h.reads("gas", gas), h.reads("temperature", temperature)...) {
			if j, ok := x.(Journal); ok && j.Action == "switch" {
				told = append(told, j.Before+" → "+j.After)
			}
		}
	}
	at(10, 3)
	told = nil
	for _, temperature := range []float64{40, 45, 50, 55} {
		at(temperature, 3)
	}
	at(55, 40)
	at(60, 3)
	at(65, 3)
	at(10, 3)
	assert.Equal(t, []string{"0 % → 40 %", "55 % → 80 %", "80 % → 55 %", "65 % → 0 %"}, told)
}

func TestACurveGoesOnLevelBeyondItsEnds(t *testing.T) {
	h := newHouse(t, auto("duct", site.Automation{Demands: []site.Demand{{Kind: Curve, Of: "h.temperature",
		Points: [][2]float64{{20, 30}, {30, 40}, {40, 90}}}}}))
	for _, at := range [][2]float64{{10, 30}, {20, 30}, {25, 35}, {30, 40}, {35, 65}, {40, 90}, {50, 90}} {
		h.pass(10 * time.Second)
		h.reads("temperature", at[0])
		assert.EqualValues(t, at[1], h.wanted("duct"), "at %g", at[0])
	}
}

func TestALevelStartsAboveWhereItStops(t *testing.T) {
	h := newHouse(t, auto("duct", site.Automation{Demands: []site.Demand{{Kind: Curve, Of: "h.temperature",
		Points: [][2]float64{{0, 0}, {100, 100}}, Least: 0, Most: 60}}}))
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
