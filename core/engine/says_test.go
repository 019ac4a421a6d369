package engine

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/core/calendar"
	"idleember/core/site"
	"idleember/core/words"
)

func says(s Saying, at time.Time) string {
	var since, until *time.Time
	if !s.Since.IsZero() {
		since = &s.Since
	}
	if !s.Until.IsZero() {
		until = &s.Until
	}
	return words.English.Fill(words.English.Say(s.Fact, at), since, until, at)
}

func TestTheStateOfAControlIsSaidInAFewWords(t *testing.T) {
	on, off := site.Amount(1), site.Amount(0)
	for want, set := range map[string]func(x *controlled){
		"on on for 24 min": func(x *controlled) { x.Is = &on },
		"off off":          func(x *controlled) { x.Is = &off },
		"wait waiting for the board": func(x *controlled) {
			x.Is, x.Phase = &off, Pending
		},
		"warn not confirmed":                    func(x *controlled) { x.Is, x.Phase = &off, Unconfirmed },
		"on on sent, this board cannot confirm": func(x *controlled) { x.Want, x.Phase = &on, Sent },
		"warn on, no effect":                    func(x *controlled) { x.Is, x.Want, x.Proof = &on, &on, ProofMissing },
		"off not yet reported":                  func(*controlled) {},
		"warn out of service":                   func(x *controlled) { x.Service = "safe" },
		"on on, by hand":                        func(x *controlled) { x.Is, x.Mode = &on, Manual },
	} {
		h := newHouse(t, nil)
		x := h.controls["h.fan"]
		x.ControlState = ControlState{ID: x.ID, Phase: Confirmed, IsSince: h.now.Wall.Add(-24 * time.Minute)}
		set(x)
		s, tone := h.Says("h.fan")
		assert.Equal(t, want, string(tone)+" "+says(s, h.now.Wall))
	}
	h := newHouse(t, nil)
	h.byHand("fan", 1, time.Hour)
	h.obeys()
	h.pass(20 * time.Minute)
	s, _ := h.Says("h.fan")
	assert.Equal(t, "on for 20 min", says(s, h.now.Wall), "without automation nothing is by hand")
	require.Empty(t, h.ControlNeeds(h.now, "h.fan"))
	h.do(Offline{Device: "h", Session: "1", Why: "gone"})
	h.pass(5 * time.Minute)
	p, warn := h.Presence("h")
	assert.True(t, warn)
	assert.Equal(t, "offline for 5 min", says(p, h.now.Wall))
	needs := h.DeviceNeeds("h")
	require.Len(t, needs, 1)
	assert.Equal(t, "House: away for 5 min; what is shown of it is old", h.read(needs[0].What)+": "+says(needs[0].Saying,
		h.now.Wall))
	assert.Equal(t, time.Minute, needs[0].From.Sub(needs[0].Since), "a board that restarts is away for a moment")
}

func TestAutomationIsReadAloud(t *testing.T) {
	h := newHouse(t, nil)
	six, to := 6*60, site.Amount(1)
	a := &site.Automation{Control: "h.heater", Demands: []site.Demand{
		{Kind: HoldAbove, Of: "h.temperature", Target: "h.setpoint", Band: 0.5, Floor: true},
		{Kind: Scheduled, Schedule: &calendar.Schedule{Except: []string{"2026-12-24"}, Windows: []calendar.Window{
			{Days: []int{1, 7}, Start: calendar.Moment{Base: calendar.Sunrise, Minutes: -20, NotBefore: &six}, ForMS: 3600_000,
				Times: 2, EveryMS: 7200_000}}}},
		{Kind: Whenever, To: &to, Condition: site.Condition{When: "h.gas > 30", AfterMS: 60_000}}, {Kind: "of tomorrow"}},
		Permits: []site.Permit{{Name: "dry", Condition: site.Condition{When: "h.humidity < 60"}}},
		Interlocks: []site.Interlock{{Name: "gas", Latch: true, Condition: site.Condition{When: "h.gas > 50",
			Until: "h.gas < 10"}}},
		Limits: site.RunLimits{LongestOnMS: 7200_000, ShortestOnMS: 60_000}}
	assert.Equal(t, []string{
		"On while Temperature is below setpoint by more than 0.5 (protects, whatever a preset says)",
		"or from 20 min before sunrise, not before 06:00 for 1 h, 2 times every 2 h on Mon, Sun, but not on 2026-12-24",
		"or on when h.gas > 30 for 1 min", "or in a way that this version does not know (of tomorrow)",
		"but only if dry (h.humidity < 60)",
		"forced to its safe value by “gas” when h.gas > 50, until h.gas < 10, until somebody resets it",
		"never longer than 2 h, then a rest of 1 h", "on for at least 1 min"}, h.all(Aloud(h.site, a)))
	r := &site.Rule{RestMS: 60_000, Stages: []site.Stage{{When: "h.gas > 30", Actions: []site.Action{
		{Kind: site.DoControl, ID: "h.fan", To: 1, ForMS: 600_000}, {Kind: site.DoMessage, Text: "gas"}}},
		{When: "h.gas < 10", If: "h.day", Actions: []site.Action{{Kind: site.DoAuto, ID: "h.fan"}}}}}
	assert.Equal(t, []string{"When h.gas > 30: Fan on for 10 min, say “gas”",
		"Then when h.gas < 10, if h.day: Fan to auto; starts over after 2 days", "then rest for 1 min"},
		h.all(RuleAloud(h.site, r)))
	assert.Equal(t, "Together up to 3000 W: Fan 60 W, Heater", h.read(GroupAloud(h.site, &site.Group{Limit: 3000,
		Members: []site.GroupMember{{Control: "h.fan", Watts: 60}, {Control: "h.heater"}}})))
}
