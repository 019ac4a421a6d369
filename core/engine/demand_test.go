package engine

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/core/calendar"
	"idleember/core/control"
	"idleember/core/site"
)

// What demands, permits and proofs come to, and what is left of what is edited away.

func TestADayLengthWithoutItsHoursIsUnknown(t *testing.T) {
	h := newHouse(t, auto("up", site.Automation{Demands: []site.Demand{{Kind: DayLength, Daylight: "h.day",
		Hours: "h.moisture"}}}))
	h.is("day", true)
	h.reads("moisture", 13)
	h.is("day", false)
	h.lives(time.Minute, map[string]float64{"moisture": 13})
	assert.Equal(t, site.Amount(1), h.wanted("up"))
	h.lives(10*time.Minute, nil)
	assert.Zero(t, h.wanted("up"))
	assert.Contains(t, h.read(h.state("up").Reason), "falls back")
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
	assert.Contains(t, h.read(h.Reason(h.now, "h.heater")), "longest time")
}

func TestARegulatorThatNeverStopsComesBackFromItsBound(t *testing.T) {
	h := newHouse(t, auto("duct", site.Automation{Demands: []site.Demand{{Kind: Regulate, Of: "h.temperature",
		Target: "h.setpoint", Gain: 5, IntegralMS: 60_000, Least: 60}}}))
	h.lives(20*time.Minute, map[string]float64{"temperature": 30})
	require.Equal(t, site.Amount(60), h.wanted("duct"))
	h.lives(10*time.Minute, map[string]float64{"temperature": 18})
	assert.Greater(t, h.wanted("duct"), site.Amount(90))
}

func TestAnExerciseAtASunThatDoesNotRiseIsNotAnnounced(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		s.Hub.Latitude = 80
		auto("pump", site.Automation{Demands: []site.Demand{{Kind: Exercise, EveryMS: 7 * 24 * 3600_000, ForMS: 30_000,
			At: &calendar.Moment{Base: calendar.Sunrise}}}})(s)
	})
	from := time.Date(2026, 12, 10, 12, 0, 0, 0, time.UTC)
	assert.Empty(t, h.Next(from, from.AddDate(0, 0, 8)))
	from = time.Date(2026, 3, 10, 12, 0, 0, 0, time.UTC)
	assert.Len(t, h.Next(from, from.AddDate(0, 0, 8)), 1)
}

func TestProtectionDoesNotWaitForOthersToSettle(t *testing.T) {
	h := newHouse(t, auto("heater", site.Automation{Demands: []site.Demand{{Kind: HoldAbove, Of: "h.humidity",
		Target: "50"}, {Kind: HoldAbove, Of: "h.temperature", Target: "5", Floor: true}}}))
	h.reads("humidity", 60)
	h.reads("temperature", 3)
	assert.Equal(t, control.Demanding, h.state("heater").Step)
	assert.Equal(t, site.Amount(1), h.wanted("heater"))
}

func TestAProofThatCameLateIsSaid(t *testing.T) {
	h := newHouse(t, auto("fan", site.Automation{Demands: whenever("h.humidity > 60"),
		Proof: &site.Proof{When: "h.power > 55", WithinMS: 20_000}}))
	h.lives(40*time.Second, map[string]float64{"humidity": 70, "power": 2})
	require.Equal(t, ProofMissing, h.state("fan").Proof)
	h.reads("power", 60)
	assert.Equal(t, ProofSeen, h.state("fan").Proof)
	assert.Equal(t, "its effect came late: h.power > 55", h.read(h.state("fan").Reason))
	edited := *h.site.Automations["h.fan"]
	edited.Proof = nil
	with := h.site
	h.edits(func(s *site.Site) {
		s.Automations["h.fan"] = &edited
	})
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

func TestWhatLooksBackOnAControl(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		s.Automations["h.pump"] = &site.Automation{Demands: whenever(`mean(h.duct.is, "1m") > 50`)}
	})
	for _, x := range slices.Clone(h.seen) {
		if need, ok := x.(NeedHistory); ok {
			h.do(History{ID: need.ID, Span: need.Span, From: h.now.Wall.Add(-2 * need.Span),
				Samples: []Sample{{h.now.Wall.Add(-2 * need.Span), 0}}})
		}
	}
	h.byHand("duct", 30, 0)
	h.lives(2*time.Minute, nil)
	assert.Zero(t, h.wanted("pump"))
	h.byHand("duct", 80, 0)
	h.lives(2*time.Minute, nil)
	assert.Equal(t, site.Amount(1), h.wanted("pump"), h.read(h.state("pump").Reason))
}

func TestTheHighestFloorProtects(t *testing.T) {
	floor := func(when string, to site.Amount) site.Demand {
		return site.Demand{Kind: Whenever, Floor: true, To: &to, Condition: site.Condition{When: when}}
	}
	h := newHouse(t, auto("duct", site.Automation{Demands: []site.Demand{floor("h.temperature < 5", 30),
		floor("h.temperature < 3", 60), floor("h.temperature < 4", 40)}}))
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

func TestARegulatorAtItsBoundHasNothingToRemember(t *testing.T) {
	h := newHouse(t, auto("duct", site.Automation{Demands: []site.Demand{{Kind: Regulate, Of: "h.temperature",
		Target: "h.setpoint", Gain: 12, IntegralMS: 120_000, Cools: true}}}))
	kept := func(out []Effect) (n int) {
		for _, x := range out {
			if k, ok := x.(Keep); ok && k.Kind == keptDemands {
				n++
			}
		}
		return n
	}
	h.lives(5*time.Minute, map[string]float64{"temperature": 40})
	require.Equal(t, site.Amount(100), h.wanted("duct"))
	assert.Zero(t, kept(h.lives(10*time.Minute, map[string]float64{"temperature": 40})), "at its most")
	assert.NotZero(t, kept(h.lives(time.Minute, map[string]float64{"temperature": 24})), "it comes back")
	assert.Less(t, h.wanted("duct"), site.Amount(100))
	h.lives(30*time.Minute, map[string]float64{"temperature": 10})
	assert.Zero(t, h.wanted("duct"))
	assert.Zero(t, kept(h.lives(10*time.Minute, map[string]float64{"temperature": 10})), "and at its least")
}
