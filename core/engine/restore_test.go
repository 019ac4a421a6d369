package engine

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/core/control"
	"idleember/core/reading"
	"idleember/core/site"
)

// What is so after a restart, to the instant.

func TestARestGoesOnWhenItsLimitIsChangedAndOverARestart(t *testing.T) {
	h := newHouse(t, auto("fan", site.Automation{Demands: whenever("h.temperature > 20"),
		Limits: site.RunLimits{LongestOnMS: 60_000, RestMS: 60_000}}))
	warm := map[string]float64{"temperature": 25}
	h.lives(75*time.Second, warm)
	require.Zero(t, h.wanted("fan"), "it rests since 5 s or so")
	h.edits(func(s *site.Site) {
		s.Automations["h.fan"].Limits.LongestOnMS = 600_000
	})
	h.lives(10*time.Second, warm)
	assert.Zero(t, h.wanted("fan"))
	h = h.restarts(time.Second)
	h.comes("2", map[string]reading.Value{"h.temperature": reading.Number(25)}, nil)
	h.lives(30*time.Second, warm)
	assert.Zero(t, h.wanted("fan"))
	h.lives(30*time.Second, warm)
	assert.Equal(t, site.Amount(1), h.wanted("fan"))
}

func TestASettlingInterlockGoesOnOverARestart(t *testing.T) {
	h := newHouse(t, auto("pump", site.Automation{Interlocks: []site.Interlock{{ID: "gas", Name: "gas",
		To: ptr(site.Amount(1)), Condition: site.Condition{When: "h.gas > 30", AfterMS: 20_000, SettleMS: 90_000}}}}))
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

func TestStatesOfEarlierVersions(t *testing.T) {
	full := site.Amount(1)
	h := newHouse(t, func(s *site.Site) {
		door(false)(s)
		s.Automations["h.fan"] = &site.Automation{Demands: whenever("h.temperature > 20")}
		s.Automations["h.cooler"] = &site.Automation{Interlocks: []site.Interlock{{ID: "gas", Name: "gas",
			Condition: site.Condition{When: "h.gas > 30"}}}}
	})
	h.do(Restored{Controls: []ControlState{{ID: "h.cooler", Latched: []string{"gas"},
		Locks: []LockState{{ID: "gas", Is: control.True, Latched: true}}}, {ID: "h.fan", Want: &full}, {ID: "h.heater",
		Want: &full, Mode: Manual}, {ID: "h.pump", Want: &full, WantBy: kim, Held: &full}, {ID: "h.gate",
		Want: ptr(site.Open)}}})
	assert.Equal(t, Auto, h.state("fan").Mode)
	assert.Equal(t, NoMode, h.state("heater").Mode, "it has no automation")
	assert.Equal(t, HowAway, h.state("pump").How)
	assert.Empty(t, h.state("cooler").Latched, "its owner took the latch off")
	require.NotNil(t, h.state("gate").Mover)
	assert.False(t, h.state("gate").Mover.Moving)
}

func TestAnInterlockIsLetGoByWhatItsReleaseNames(t *testing.T) {
	h := newHouse(t, auto("pump", site.Automation{Interlocks: []site.Interlock{{ID: "gas", Name: "gas",
		To: ptr(site.Amount(1)), Condition: site.Condition{When: "h.gas > 30", Until: "h.humidity < 40"}}}}))
	h.reads("humidity", 50)
	h.reads("gas", 40)
	h.reads("gas", 3)
	require.Equal(t, site.Amount(1), h.wanted("pump"))
	h.reads("humidity", 30)
	assert.Zero(t, h.wanted("pump"))
}

func TestWhatEarlierVersionsKeptOfLatchesAndProofs(t *testing.T) {
	h := newHouse(t, auto("pump", site.Automation{Interlocks: []site.Interlock{{ID: "i1", Name: "gas", Latch: true,
		Condition: site.Condition{When: "h.gas > 30", Until: "h.gas < 1", AfterMS: 60_000}}}}))
	h = &house{bench: &bench{Engine: New(), now: h.now, site: h.site}, t: t}
	h.do(SiteChanged{h.site})
	h.do(Restored{Controls: []ControlState{{ID: "h.pump", Latched: []string{"gas"}}, {ID: "h.fan", Proof: ProofMissing}}})
	assert.Equal(t, []LockState{{ID: "i1", Is: control.True, At: h.now.Wall, Latched: true}}, h.state("pump").Locks,
		"by its name")
	assert.Equal(t, NoProof, h.state("fan").Proof, "no proof is asked for any more")
	h.reads("gas", 3)
	assert.Equal(t, control.True, h.state("pump").Locks[0].Is, "its release was not seen")
	h.reads("gas", 0)
	assert.Equal(t, []string{"i1"}, h.state("pump").Latched)
	assert.Equal(t, control.False, h.state("pump").Locks[0].Is)
	h.do(Reset{Control: "h.pump", Actor: kim})
	assert.Empty(t, h.state("pump").Latched)
}

func TestAnInterlockIsNotLetGoByWhatIsInDoubt(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		g := s.Signals["h.humidity"]
		g.Sense = site.Sense{Spike: 10}
		s.Signals[g.ID] = g
		auto("pump", site.Automation{Interlocks: []site.Interlock{{ID: "gas", Name: "gas", To: ptr(site.Amount(1)),
			Condition: site.Condition{When: "h.gas > 30", Until: "h.humidity < 40"}}}})(s)
	})
	h.lives(time.Minute, map[string]float64{"gas": 40, "humidity": 35})
	h.reads("humidity", 90) // a spike
	h.reads("gas", 3)
	assert.Equal(t, site.Amount(1), h.wanted("pump"))
	h.lives(20*time.Second, map[string]float64{"gas": 3, "humidity": 35})
	assert.Zero(t, h.wanted("pump"))
}

func TestALatchThatWasResetStaysFreeOverARestart(t *testing.T) {
	h := newHouse(t, auto("pump", site.Automation{Interlocks: []site.Interlock{{ID: "gas", Name: "gas", Latch: true,
		Condition: site.Condition{When: "h.gas > 30"}}}}))
	h.lives(time.Minute, map[string]float64{"gas": 40})
	h.lives(time.Minute, map[string]float64{"gas": 3})
	require.Equal(t, []string{"gas"}, h.state("pump").Latched)
	h.do(Reset{Control: "h.pump", Actor: kim})
	assert.Empty(t, h.state("pump").Latched)
	h = h.restarts(time.Second)
	assert.Empty(t, h.state("pump").Latched)
	assert.False(t, h.state("pump").Locks[0].Latched)
}

func TestInterlocksOfEarlierVersionsHoldAsTheirConditionsDid(t *testing.T) {
	for was, holds := range map[control.Tri]bool{control.True: true, control.False: false} {
		gas := site.Condition{When: "h.gas > 30", Until: "h.gas < 10"}
		h := newHouse(t, auto("pump", site.Automation{Interlocks: []site.Interlock{{ID: "gas", Name: "gas",
			To: ptr(site.Amount(1)), Condition: gas}}}))
		h.do(Restored{Controls: []ControlState{{ID: "h.pump"}}, Conditions: map[string]CondState{condKey(gas,
			true): {Is: was}}})
		assert.Equal(t, holds, len(h.state("pump").Locks) == 1 && h.state("pump").Locks[0].Is == control.True,
			"and that is kept")
		h.reads("gas", 20)
		assert.Equal(t, holds, h.wanted("pump") == 1, was)
	}
}

func TestWhatADemandRemembersIsCarriedOverFromEarlierVersions(t *testing.T) {
	lit := auto("up", site.Automation{Demands: []site.Demand{{Kind: DayLength, Daylight: "h.day", Hours: "h.hours"}}})
	h := newHouse(t, lit)
	remembers := []DemandState{{Key: h.controls["h.up"].demands[0].Key, First: h.now.Wall.Add(-7 * time.Hour)}}
	h.do(Restored{Controls: []ControlState{{ID: "h.up", Mode: Auto, Demands: remembers}}})
	h.do(Command{Control: "h.up", Actor: kim})
	h.do(ToAuto{Control: "h.up", Actor: kim}) // its state is kept without
	h = h.restarts(time.Second)
	h.comes("2", map[string]reading.Value{"h.day": reading.OnOff(false)}, nil)
	assert.Equal(t, site.Amount(1), h.wanted("up"))
	assert.Contains(t, h.read(h.state("up").Reason), "counted from 03:00")
	h = newHouse(t, lit)
	h.do(Restored{Controls: []ControlState{{ID: "h.up", Mode: Auto, Demands: remembers}},
		Demands: []DemandsState{{Control: "h.up"}}})
	h.is("day", false)
	assert.Zero(t, h.wanted("up"), "the new place counts")
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
		if accept == 0 {
			float, _ := h.Signal("h.float")
			temperature, _ := h.Signal("h.temperature")
			assert.Equal(t, []Freshness{Unknown, Stale}, []Freshness{float.Fresh, temperature.Fresh})
		}
		h.pass(time.Second)
		assert.Equal(t, known, h.points["h.float"].value.Known, accept)
		for age, fresh := range map[time.Duration]bool{30*time.Second - 1: true, 30 * time.Second: false} {
			again := newHouse(t, auto("fan", site.Automation{Demands: whenever("h.temperature > 20")}))
			again.reads("temperature", 25)
			again = again.restarts(age)
			assert.Equal(t, fresh, again.points["h.temperature"].value.Known, "after %v", age)
		}
		away := newHouse(t, func(s *site.Site) {
			*s = *h.site
		})
		away.is("float", true)
		away.pass(time.Second)
		away = away.restarts(time.Minute / 2)
		assert.Equal(t, accept > 0, away.points["h.float"].value.Known)
		away.pass(6 * time.Minute)
		assert.False(t, away.points["h.float"].value.Known, "its board did not come back")
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
			d.LeaseMS = 60_000
			s.Devices["h"] = d
			auto("fan", site.Automation{Demands: whenever("h.temperature > 20"), Limits: site.RunLimits{LongestOnMS: 3600_000,
				RestMS: tt.rest.Milliseconds()}})(s)
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
	h := newHouse(t, auto("fan", site.Automation{Demands: whenever("h.temperature > 20"),
		Limits: site.RunLimits{StartsAnHour: 2}}))
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

func TestTheGraceWaitsForWhatIsHeld(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		g := s.Signals["h.temperature"]
		g.IntervalMS = 40_000
		s.Signals["h.temperature"] = g
		a := holding(HoldAbove, "temperature", 1)
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
		h := newHouse(t, auto("heater", holding(HoldAbove, "temperature", 1)))
		h.reads("temperature", 15)
		h = h.restarts(away)
		assert.Equal(t, known, h.points["h.temperature"].value.Known, away)
	}
}
