package engine

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/core/control"
	"idleember/core/site"
)

// What groups exclude, and for how long.

func TestWhatIsOnOtherwiseThanItIsWantedWhenItsBoardReturnsIsTold(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		s.Automations["h.pump"] = &site.Automation{Demands: whenever("h.duct.is < 50")}
		s.Groups["g"] = &site.Group{ID: "g", Name: "G", Limit: 3000, Members: []site.GroupMember{{Control: "h.duct",
			Watts: 1000}, {Control: "h.fan", Watts: 1000}}}
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
	h.pass(10 * time.Second)
	assert.Equal(t, Unconfirmed, h.state("duct").Phase, "it has to answer like any other")
	h.do(Report{Control: "h.duct", Session: "2", Value: 60})
	assert.Equal(t, Confirmed, h.state("duct").Phase)
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

func TestWhatCannotAnswerIsTakenForOffOnceItsBoardIsHeard(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		c := s.Controls["h.heater"]
		c.Answers = false
		s.Controls["h.heater"] = c
		s.Devices["k"] = site.Device{ID: "k", Name: "Other"}
		s.Controls["k.cooler"] = site.NewControl("k", "cooler", "cooler", "Cooler")
		s.Groups["climate"] = &site.Group{ID: "climate", Name: "Climate", Members: []site.GroupMember{{Control: "h.heater"},
			{Control: "k.cooler"}}}
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

func TestWhatWasHeldAsItWasForcedRanksAsBeforeAfterwards(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		s.Automations["h.heater"] = &site.Automation{Changes: 2, Demands: whenever("h.moisture < 30"),
			Interlocks: []site.Interlock{{ID: "i", Name: "i", To: ptr(site.Amount(1)),
				Condition: site.Condition{When: "h.temperature < 5"}}}}
		s.Groups["climate"] = &site.Group{ID: "climate", Name: "Climate", Members: []site.GroupMember{{Control: "h.heater"},
			{Control: "h.cooler"}}}
	})
	h.lives(20*time.Second, map[string]float64{"temperature": 20, "moisture": 50})
	for i := range 8 {
		h.pass(time.Second)
		h.reads("temperature", float64(3+17*(i%2)))
		h.obeys()
	}
	require.True(t, h.state("heater").Damped.Forced)
	h.lives(time.Hour, map[string]float64{"temperature": 20, "moisture": 20})
	require.Equal(t, site.Amount(1), h.wanted("heater"), "it is asked for")
	h.byHand("cooler", 1, 0)
	h.lives(time.Minute, map[string]float64{"temperature": 20, "moisture": 20})
	assert.Zero(t, h.wanted("heater"))
	assert.Equal(t, site.Amount(1), h.wanted("cooler"), "by hand goes before auto")
}

func TestOfTwoThatAreAskedForAlikeTheOneThatRunsGoesOn(t *testing.T) {
	for _, first := range []string{"heater", "cooler"} {
		h := newHouse(t, func(s *site.Site) {
			s.Automations["h.heater"] = &site.Automation{Demands: whenever("h.temperature < 18")}
			s.Automations["h.cooler"] = &site.Automation{Demands: whenever("h.humidity > 60")}
			s.Groups["climate"] = &site.Group{ID: "climate", Name: "Climate", Members: []site.GroupMember{{Control: "h.cooler"},
				{Control: "h.heater"}}}
		})
		now := map[string]float64{"temperature": 20, "humidity": 50}
		h.lives(20*time.Second, now)
		if now["humidity"] = 70; first == "heater" {
			now["humidity"], now["temperature"] = 50, 10
		}
		h.lives(20*time.Second, now)
		require.Equal(t, site.Amount(1), h.wanted(first))
		now["humidity"], now["temperature"] = 70, 10
		h.lives(time.Hour, now)
		assert.Equal(t, site.Amount(1), h.wanted(first))
	}
}

func TestNothingWaitsForAStartThatNeverWas(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		s.Groups["power"] = &site.Group{ID: "power", Name: "Power", Limit: 3000, PauseMS: 60_000,
			Members: []site.GroupMember{{Control: "h.heater", Watts: 1000}, {Control: "h.fan", Watts: 1000}}}
	})
	h.do(Report{Control: "h.heater", Session: "1", Value: 1}) // as it came up
	assert.Equal(t, "as the board came up", h.read(h.state("heater").Reason))
	h.byHand("fan", 1, 0)
	assert.Equal(t, site.Amount(1), h.wanted("fan"))
}

func TestAnAnswerThatComesLateKeepsTheOtherOneOff(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		s.Groups["climate"] = &site.Group{ID: "climate", Name: "Climate", Members: []site.GroupMember{{Control: "h.heater"},
			{Control: "h.cooler"}}}
	})
	says := func(value site.Amount) { h.do(Report{Control: "h.heater", Session: "1", Value: value}) }
	says(0)
	h.byHand("heater", 1, 0)
	h.byHand("heater", 0, 0)
	says(0)
	says(1) // to what was wanted first
	h.byHand("cooler", 1, 0)
	h.pass(10 * time.Second)
	assert.Zero(t, h.wanted("cooler"), "it is on, for all that is known")
	says(0)
	h.pass(20 * time.Second)
	assert.Equal(t, site.Amount(1), h.wanted("cooler"))
}

func TestWhatIsOnWhileItIsRepairedKeepsTheOtherOneOff(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		s.Automations["h.cooler"] = &site.Automation{Interlocks: []site.Interlock{{ID: "i", Name: "i",
			To: ptr(site.Amount(1)), Condition: site.Condition{When: "h.gas > 30"}}}}
		s.Groups["climate"] = &site.Group{ID: "climate", Name: "Climate", Members: []site.GroupMember{{Control: "h.heater"},
			{Control: "h.cooler"}}}
	})
	gas := map[string]float64{"gas": 40}
	h.lives(20*time.Second, gas)
	h.do(Serve{Control: "h.heater", Service: control.OutSilent, Actor: kim})
	require.Equal(t, site.Amount(1), h.wanted("cooler"))
	h.do(Report{Control: "h.heater", Session: "1", Value: 1, By: ByHand})
	assert.Equal(t, site.Amount(-1), h.wanted("heater"), "nothing is wanted of it")
	assert.Zero(t, h.wanted("cooler"), "it goes before what an interlock wants")
	assert.Contains(t, h.read(h.state("cooler").Reason), "waits for Heater")
	h.do(Report{Control: "h.heater", Session: "1", Value: 0, By: ByHand})
	h.lives(20*time.Second, gas)
	assert.Equal(t, site.Amount(1), h.wanted("cooler"))
}

func TestAPauseThatIsEditedSwitchesNothingOff(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		s.Groups["climate"] = &site.Group{ID: "climate", Name: "Climate", Members: []site.GroupMember{{Control: "h.heater"},
			{Control: "h.cooler"}}}
	})
	h.byHand("heater", 1, 0)
	h.obeys()
	h.byHand("heater", 0, 0)
	h.obeys()
	h.byHand("cooler", 1, 0)
	h.obeys()
	require.Equal(t, site.Amount(1), h.wanted("cooler"))
	h.edits(func(s *site.Site) {
		climate := *s.Groups["climate"]
		climate.PauseMS = 3600_000
		s.Groups["climate"] = &climate
	})
	assert.Equal(t, site.Amount(1), h.wanted("cooler"), "it runs already")
	h.byHand("cooler", 0, 0)
	h.obeys()
	h.byHand("heater", 1, 0)
	assert.Zero(t, h.wanted("heater"), "from now on it pauses")
}

func TestNoFormulaSeesWhatABoardThatReturnsIsForAnInstant(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		s.Groups["climate"] = &site.Group{ID: "climate", Name: "Climate", Members: []site.GroupMember{{Control: "h.heater"},
			{Control: "h.cooler"}}}
		s.Automations["h.pump"] = &site.Automation{Demands: []site.Demand{{Kind: Whenever,
			Condition: site.Condition{When: "not h.heater.want", SettleMS: 60_000}}}}
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

func TestWhatABoardHasOnStaysWhereNothingExcludesIt(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		s.Groups["climate"] = &site.Group{ID: "climate", Name: "Climate", Members: []site.GroupMember{{Control: "h.heater"},
			{Control: "h.cooler"}}}
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
	assert.Empty(t, wants(h.do(Leave{Controls: []string{"h.heater"}, Actor: kim})),
		"what is off already is not told again")
}
