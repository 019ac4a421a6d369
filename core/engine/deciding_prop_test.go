package engine

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"idleember/core/formula"
	"idleember/core/reading"
	"idleember/core/site"
)

// busy is a site in which much depends on much.
func busy(s *site.Site) {
	on := site.Amount(1)
	s.Automations["h.heater"] = &site.Automation{Demands: []site.Demand{{Kind: HoldAbove, Of: "h.temperature",
		Target: "h.setpoint", Band: 1}, {Kind: HoldAbove, Of: "h.temperature", Target: "5", Band: 1, Floor: true}},
		Interlocks: []site.Interlock{{Name: "gas", Condition: site.Condition{When: "h.gas > 30", Until: "h.gas < 15",
			SettleMS: 20_000}}},
		Limits: site.RunLimits{LongestOnMS: 300_000, RestMS: 60_000, ShortestOnMS: 20_000, ShortestOffMS: 20_000}}
	s.Automations["h.cooler"] = &site.Automation{Demands: whenever("h.temperature > 24 and not h.rain")}
	s.Automations["h.fan"] = &site.Automation{Interlocks: []site.Interlock{{Name: "gas", To: &on,
		Condition: site.Condition{When: "h.gas > 30"}}}}
	s.Automations["h.pump"] = &site.Automation{Demands: []site.Demand{{Kind: Whenever,
		Condition: site.Condition{When: "h.moisture < 30", Until: "h.moisture > 45", AfterMS: 15_000}}},
		Interlocks: []site.Interlock{{Name: "empty", Latch: true, Condition: site.Condition{When: "not h.float"}}}}
	s.Automations["h.duct"] = &site.Automation{Demands: []site.Demand{{Kind: Regulate, Of: "h.temperature",
		Target: "h.setpoint", Gain: 10, IntegralMS: 60_000, Cools: true}}}
	s.Groups["climate"] = &site.Group{ID: "climate", Name: "Climate", PauseMS: 10_000,
		Members: []site.GroupMember{{Control: "h.heater"}, {Control: "h.cooler"}}}
	s.Rules["cool"] = &site.Rule{ID: "cool", Name: "Cool", RestMS: 60_000,
		Stages: []site.Stage{{When: "h.temperature > 30", Actions: []site.Action{{Kind: site.DoMessage, Text: "hot"}}},
			{When: "h.temperature < 20", Actions: []site.Action{{Kind: site.DoControl, ID: "h.up", To: 1, ForMS: 30_000}}}}}
	momentary("gate", site.Pulse{ForMS: 500})(s)
	s.Presets["off"] = site.Preset{ID: "off", Name: "Off", Actions: []site.Action{{Kind: site.DoControl, ID: "h.heater"},
		{Kind: site.DoControl, ID: "h.pump"}}}
	// Two outputs of which nobody decides but people.
	s.Groups["pair"] = &site.Group{ID: "pair", Name: "Pair", Members: []site.GroupMember{{Control: "h.up"},
		{Control: "h.down"}}}
}

// happening draws one thing that can happen to a busy house, or time that passes.
func happening() *rapid.Generator[any] {
	pick := func(list ...string) *rapid.Generator[string] { return rapid.SampledFrom(list) }
	return rapid.Custom(func(t *rapid.T) any {
		switch rapid.IntRange(0, 11).Draw(t, "kind") {
		case 0, 1, 2:
			id := pick("temperature", "gas", "moisture").Draw(t, "signal")
			return Reading{Signal: "h." + id, Value: reading.Number(float64(rapid.IntRange(0, 50).Draw(t, "v")))}
		case 3:
			return Reading{Signal: "h." + pick("rain", "float").Draw(t, "signal"),
				Value: reading.OnOff(rapid.Bool().Draw(t, "v"))}
		case 4, 5:
			id := pick("heater", "cooler", "fan", "pump", "up", "down").Draw(t, "control")
			in := Command{Control: "h." + id, To: site.Amount(rapid.IntRange(0, 1).Draw(t, "to")), Actor: kim}
			if rapid.Bool().Draw(t, "for") {
				in.Until = start.Add(time.Duration(rapid.IntRange(1, 1200).Draw(t, "until")) * time.Second)
			}
			return in
		case 6:
			return ToAuto{Control: "h." + pick("heater", "cooler", "pump", "duct").Draw(t, "control"), Actor: kim}
		case 7:
			return Report{Control: "h." + pick("heater", "cooler", "fan", "pump", "up", "down").Draw(t, "control"), Session: "1",
				Value: site.Amount(rapid.IntRange(0, 1).Draw(t, "is")), By: rapid.SampledFrom([]By{ByNothing, ByHand}).Draw(t,
					"by")}
		case 8:
			return rapid.SampledFrom([]any{Set{Setting: "h.setpoint", To: 18, Actor: kim}, Set{Setting: "h.setpoint", To: 26,
				Until: start.Add(5 * time.Minute), Actor: kim},
				Apply{Preset: "off", Actor: kim}, Reset{Control: "h.pump", Actor: kim}, Command{Control: "h.gate", To: 1,
					Actor: kim}}).Draw(t, "what")
		case 9:
			return "obeys"
		}
		return time.Duration(rapid.IntRange(1, 40).Draw(t, "pass")) * time.Second
	})
}

func (h *house) happen(x any) []Effect {
	switch x := x.(type) {
	case time.Duration:
		return h.pass(x)
	case Input:
		return h.do(x)
	}
	return h.obeys()
}

// What must hold of every decision, whatever happened.
func TestWhatAlwaysHoldsInAHouse(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		h := newHouse(t, busy)
		sent := map[string]int{}
		for range rapid.IntRange(5, 60).Draw(rt, "steps") {
			for _, e := range h.happen(happening().Draw(rt, "happening")) {
				if w, ok := e.(Want); ok && w.Pulse != "" && w.Value > 0 {
					sent[w.Pulse]++
					require.Equal(rt, 1, sent[w.Pulse], "a momentary want is sent at most once")
				}
			}
			on := func(id string) bool { return h.wanted(id) > 0 }
			for _, pair := range [][2]string{{"heater", "cooler"}, {"up", "down"}} {
				require.False(rt, on(pair[0]) && on(pair[1]), "%v are wanted on together", pair)
				for i, id := range pair {
					if other := h.state(pair[1-i]); on(id) && other.Is != nil && *other.Is > 0 {
						require.False(rt, h.state(id).RunAt.After(other.IsSince), "%s was switched on while %s was", id, pair[1-i])
					}
				}
			}
			if g, _ := h.Signal("h.gas"); g.Fresh != Live || g.Value.Num > 30 {
				require.False(rt, on("heater"), "an interlock holds it off")
				require.True(rt, on("fan"), "an interlock holds it on")
			}
			if g, _ := h.Signal("h.float"); g.Seen && !g.Value.On() {
				require.False(rt, on("pump"))
			}
			if c := h.state("heater"); on("heater") {
				require.LessOrEqual(rt, h.now.Wall.Sub(c.RunAt), 5*time.Minute, "never longer than its longest on")
			}
			if c := h.state("pump"); c.Hand != nil && *c.Hand == 0 {
				require.False(rt, on("pump"), "off by hand wins over auto")
			}
		}
	})
}

// The same inputs give the same effects.
func TestAHouseIsDeterministic(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		a, b := newHouse(t, busy), newHouse(t, busy)
		for range rapid.IntRange(0, 40).Draw(rt, "steps") {
			x := happening().Draw(rt, "happening")
			require.Equal(rt, a.happen(x), b.happen(x))
		}
	})
}

func TestWindowsAreFilledFromTheStore(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		s.Automations["h.fan"] = &site.Automation{Demands: whenever(`mean(h.humidity, "10m") > 60`)}
	})
	require.Contains(t, h.seen, NeedHistory(formula.Need{ID: "h.humidity", Span: 10 * time.Minute}))
	h.reads("humidity", 70)
	require.Equal(t, site.Amount(0), h.wanted("fan"), "what is not yet known starts nothing")
	h.do(History{ID: "h.humidity", Span: 10 * time.Minute, From: start.Add(-11 * time.Minute),
		Samples: []Sample{{start.Add(-12 * time.Minute), 65}}})
	require.Equal(t, site.Amount(1), h.wanted("fan"))
	out := h.do(Reading{Signal: "h.humidity", Stamp: start.Add(-5 * time.Minute), Value: reading.Number(10)})
	require.Contains(t, out, NeedHistory(formula.Need{ID: "h.humidity", Span: 10 * time.Minute}),
		"a late reading has the past summed anew")
	h.do(History{ID: "h.humidity", Span: 10 * time.Minute, From: start.Add(-11 * time.Minute),
		Samples: []Sample{{start.Add(-12 * time.Minute), 65}, {start.Add(-5 * time.Minute), 10}, {start, 70}}})
	require.Equal(t, site.Amount(0), h.wanted("fan"))
}
