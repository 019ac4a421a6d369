package engine

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/core/reading"
	"idleember/core/site"
	"idleember/core/words"
)

// Rules, and rings by way of them.

func TestARuleWhoseConditionDidNotHoldWaitsForTheNextTime(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		s.Rules["r"] = &site.Rule{ID: "r", Name: "R", RestMS: 60_000, Stages: []site.Stage{{When: "h.temperature > 20",
			If: "h.gas < 10", Actions: []site.Action{{Kind: site.DoMessage, Text: "warm"}}}}}
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
	h.edits(func(s *site.Site) { delete(s.Rules, "r") })
	_, ok = h.Rule("r")
	assert.False(t, ok)
	h.pass(2 * time.Minute) // that its rest is over is of no interest any more
	_, ok = h.Rule("nobody")
	assert.False(t, ok)
}

func TestRingsByWayOfInterlocksAndRules(t *testing.T) {
	lock := func(to *site.Amount, when string) func(*site.Site) {
		return auto("fan", site.Automation{Interlocks: []site.Interlock{{ID: "i", Name: "i", To: to,
			Condition: site.Condition{When: when}}}})
	}
	rule := func(id string, to site.Amount) func(*site.Site) {
		return func(s *site.Site) {
			door(false)(s)
			s.Rules["r"] = &site.Rule{ID: "r", Name: "R", Stages: []site.Stage{{When: id + ".want > 0",
				Actions: []site.Action{{Kind: site.DoControl, ID: id, To: to}}}}}
		}
	}
	off := func(when string) func(*site.Site) {
		return func(s *site.Site) {
			auto("fan", site.Automation{Demands: whenever(when)})(s)
			s.Rules["r"] = &site.Rule{ID: "r", Name: "R", Stages: []site.Stage{{When: "h.fan.want",
				Actions: []site.Action{{Kind: site.DoControl, ID: "h.pump", To: 0}}}}}
		}
	}
	full := site.Amount(1)
	for name, tt := range map[string]struct {
		change func(*site.Site)
		of     string
		rings  bool
	}{
		"off while it is on":                  {lock(nil, "h.fan.want"), "h.fan", true},
		"off while it is off":                 {lock(nil, "not h.fan.want"), "h.fan", false},
		"on while it is on":                   {lock(&full, "h.fan.want"), "h.fan", false},
		"on while it is off":                  {lock(&full, "not h.fan.want"), "h.fan", true},
		"a rule for off":                      {rule("h.pump", 0), "h.pump", true},
		"a rule for on":                       {rule("h.pump", 1), "h.pump", false},
		"a rule for off of what keeps it off": {off("not h.pump.want"), "h.fan", false},
		"a rule for off of what keeps it on":  {off("h.pump.want"), "h.fan", true},
		"a rule for open of a door":           {rule("h.gate", site.Open), "h.gate", true},
	} {
		assert.Equal(t, tt.rings, len(Ring(newHouse(t, tt.change).site, tt.of)) > 0, name)
	}
}

func TestRingsByWayOfEverythingThatFollowsAtOnce(t *testing.T) {
	for name, tt := range map[string]struct {
		a     site.Automation
		rings bool
	}{
		"a permit that it takes away": {site.Automation{Demands: whenever("h.rain"),
			Permits: []site.Permit{{Condition: site.Condition{When: "not h.fan.want"}}}}, true},
		"a permit that it gives": {site.Automation{Demands: whenever("h.rain"),
			Permits: []site.Permit{{Condition: site.Condition{When: "h.fan.want"}}}}, false},
		"a demand for off while it is on": {site.Automation{Demands: []site.Demand{{Kind: Whenever,
			Condition: site.Condition{When: "h.fan.want"}, To: ptr(site.Amount(0))}}}, true},
		"its phase": {site.Automation{Demands: whenever(`h.fan.phase == "confirmed"`)}, true},
		"kept by what is wanted of it": {site.Automation{Demands: []site.Demand{{Kind: HoldBelow, Of: "h.temperature",
			Target: "h.fan.want ? 20 : 30"}}}, true},
	} {
		h := newHouse(t, auto("fan", tt.a))
		assert.Equal(t, tt.rings, len(Ring(h.site, "h.fan")) > 0, name)
	}
	h := newHouse(t, func(s *site.Site) {
		s.Rules["off"] = &site.Rule{ID: "off", Name: "Off", Off: true, Stages: []site.Stage{{When: "h.fan.want",
			Actions: []site.Action{{Kind: site.DoControl, ID: "h.fan"}}}}}
		s.Rules["back"] = &site.Rule{ID: "back", Name: "Back", Stages: []site.Stage{{When: "h.fan.want",
			Actions: []site.Action{{Kind: site.DoAuto, ID: "h.fan"}}}}}
		s.Rules["set"] = &site.Rule{ID: "set", Name: "Set", Stages: []site.Stage{{When: "h.setpoint > 20",
			Actions: []site.Action{{Kind: site.DoSetting, ID: "h.setpoint", To: 10}}}}}
	})
	assert.Empty(t, Ring(h.site, "h.fan"), "a rule that is off, and one that only gives back")
	assert.Equal(t, []string{"h.setpoint"}, Ring(h.site, "h.setpoint"))
}

func TestRulesThatAreOffOrShorterAndWhatTheyApply(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		s.Presets["a"] = site.Preset{ID: "a", Name: "A", Actions: []site.Action{{Kind: site.DoControl, ID: "h.fan", To: 1},
			{Kind: site.DoPreset, ID: "a"}}}
		s.Rules["off"] = &site.Rule{ID: "off", Name: "Off", Off: true, Stages: []site.Stage{{When: "h.rain",
			Actions: []site.Action{{Kind: site.DoMessage, Text: "off"}}}}}
		s.Rules["r"] = &site.Rule{ID: "r", Name: "R", Stages: []site.Stage{{When: "h.rain",
			Actions: []site.Action{{Kind: site.DoPreset, ID: "a"}, {Kind: site.DoMessage,
				Text: "{h.gas} {h.setpoint} {h.fan} {h.fan.want} {h.heater.mode} {h.nobody}"}}},
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
	h.edits(func(s *site.Site) {
		short := *s.Rules["r"]
		short.Stages = short.Stages[:1]
		s.Rules["r"] = &short
	})
	h.is("rain", false)
	assert.Len(t, messages(h.is("rain", true)), 1, "a stage that is gone is not waited for")
}

func TestARuleThatMakesItselfActRests(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		s.Rules["r"] = &site.Rule{ID: "r", Name: "R", Repeat: true, Stages: []site.Stage{{When: "h.rain",
			Actions: []site.Action{{Kind: site.DoNote, ID: "h.fan", Text: "x"}}}}}
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
	assert.Contains(t, out, Message{Object: "rule.r", Grave: true,
		Text: words.Of("rule.turns_message", "Name", "R", "For", firstDamping)})
	assert.Zero(t, notes(h.pass(59*time.Second)))
	assert.Equal(t, turnsAnInput, notes(h.pass(2*time.Second)))
	h = h.restarts(time.Second)
	h.comes("2", map[string]reading.Value{"h.rain": reading.OnOff(true)}, nil)
	h.pass(50 * time.Second)
	assert.Zero(t, notes(h.seen), "and over a restart")
}

func TestAStageFallsBack(t *testing.T) {
	say := func(text string) []site.Action { return []site.Action{{Kind: site.DoMessage, Text: text}} }
	stages := func(change func(*site.Stage)) func(*site.Site) {
		return func(s *site.Site) {
			second := site.Stage{When: "h.temperature < 15", Actions: say("cool again")}
			change(&second)
			s.Rules["r"] = &site.Rule{ID: "r", Name: "R", Stages: []site.Stage{{When: "h.temperature > 20",
				Actions: say("warm")}, second}}
		}
	}
	begin := func(change func(*site.Stage)) *house {
		h := newHouse(t, stages(change))
		h.reads("rain", 0)
		h.reads("temperature", 18)
		require.Equal(t, []string{"warm"}, messages(h.reads("temperature", 25)))
		return h
	}
	stage := func(h *house) int { r, _ := h.Rule("r"); return r.Stage }

	h := begin(func(g *site.Stage) { g.Until = "h.rain" })
	h.reads("rain", 1)
	assert.Equal(t, 0, stage(h), "by its own condition")
	assert.Empty(t, messages(h.reads("temperature", 10)))
	assert.Equal(t, []string{"warm"}, messages(h.reads("temperature", 25)), "and begins anew")

	h = begin(func(g *site.Stage) { g.WithinMS = 60_000 })
	h.pass(59 * time.Second)
	assert.Equal(t, 1, stage(h))
	h.pass(2 * time.Second)
	assert.Equal(t, 0, stage(h), "after a time")
	assert.Empty(t, messages(h.reads("temperature", 10)))

	h = begin(func(*site.Stage) {})
	h.pass(longestStage - time.Hour)
	assert.Equal(t, 1, stage(h))
	h.pass(2 * time.Hour)
	assert.Equal(t, 0, stage(h), "none is kept for ever")

	h = begin(func(*site.Stage) {})
	h.edits(func(s *site.Site) {
		r := *s.Rules["r"]
		r.Stages = append([]site.Stage{{When: "h.gas > 5", Actions: say("gas")}}, r.Stages...)
		s.Rules["r"] = &r
	})
	assert.Equal(t, 0, stage(h), "a stage of another rule is none of this one")

	h = begin(func(*site.Stage) {})
	r, _ := h.Rule("r")
	for _, n := range []int{r.Stage, 7, -1} { // as an edit and a restart may leave it
		r.Stage = n
		again := newHouse(t, stages(func(*site.Stage) {}))
		again.edits(func(s *site.Site) {
			r := *s.Rules["r"]
			r.Stages = r.Stages[:1]
			s.Rules["r"] = &r
		})
		again.do(Restored{Alive: start, Rules: []RuleState{r}})
		assert.Equal(t, 0, stage(again))
	}
}
