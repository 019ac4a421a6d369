package engine

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/core/calendar"
	"idleember/core/reading"
	"idleember/core/site"
)

// doubts lets the clock lose or win the engine's trust.
func (h *house) doubts(yes bool) []Effect {
	h.now.Trusted = !yes
	return h.do(Tick{})
}

// set is what a clock that was set does: from now on it shows another time.
func (h *house) set(from time.Time, by time.Duration) []Effect {
	h.now.Wall = h.now.Wall.Add(by)
	return h.do(ClockSet{From: from, By: by})
}

func TestSchedulesWaitForAClockThatIsRight(t *testing.T) {
	always := &calendar.Schedule{Windows: []calendar.Window{{Start: calendar.Moment{Base: calendar.Clock},
		ForMS: (24 * time.Hour).Milliseconds()}}}
	for name, demand := range map[string]site.Demand{
		"a schedule": {Kind: Scheduled, Schedule: always},
		"a formula":  {Kind: Whenever, Condition: site.Condition{When: "hour >= 0"}},
	} {
		t.Run(name, func(t *testing.T) {
			h := newHouse(t, auto("heater", site.Automation{Demands: []site.Demand{demand}}))
			h.lives(2*time.Minute, nil)
			require.EqualValues(t, 1, h.wanted("heater"))
			h.doubts(true)
			h.lives(2*time.Minute, nil)
			assert.EqualValues(t, 0, h.wanted("heater"), "it falls back")
			assert.Equal(t, "falls back to off: the time is unknown", h.read(h.state("heater").Reason))
			h.doubts(false)
			h.lives(2*time.Minute, nil)
			assert.EqualValues(t, 1, h.wanted("heater"), "the clock is right")
		})
	}
}

func TestNothingIsForetoldByAClockThatMayBeWrong(t *testing.T) {
	h := newHouse(t, auto("heater", site.Automation{Demands: []site.Demand{{Kind: Scheduled, Schedule: &calendar.Schedule{
		Windows: []calendar.Window{{Start: calendar.Moment{Base: calendar.Clock, Minutes: 12 * 60}, ForMS: 3600_000}}}}}}))
	next := func() []string { w, _ := h.Why(h.now, "h.heater"); return h.all(w.Next) }
	require.Equal(t, []string{"12:00: the schedule of demand 1 goes on."}, next())
	h.doubts(true)
	assert.Empty(t, next())
	h.doubts(false)
	assert.Equal(t, []string{"12:00: the schedule of demand 1 goes on."}, next())
}

func TestWhatWasStampedByAWrongClockMovesAlong(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		auto("heater", site.Automation{Demands: whenever("h.temperature < 20"),
			Limits: site.RunLimits{LongestOnMS: (10 * time.Minute).Milliseconds(), RestMS: (5 * time.Minute).Milliseconds()}})(s)
		auto("fan", holding(HoldBelow, "humidity", 0))(s)
	})
	h.do(Command{Control: "h.fan", To: 1, Actor: kim, Until: h.now.Wall.Add(3 * time.Hour)})
	h.lives(time.Minute, map[string]float64{"temperature": 15})
	wrong := h.now.Wall
	h.do(Command{Control: "h.pump", To: 1, Actor: kim, Until: h.now.Wall.Add(time.Hour)})
	h.lives(5*time.Minute, map[string]float64{"temperature": 15})
	fan, pump := h.state("fan"), h.state("pump")
	require.EqualValues(t, 1, h.wanted("heater"))

	h.set(wrong, 8*time.Hour)
	assert.Equal(t, fan.HandAt, h.state("fan").HandAt, "the clock was right then")
	assert.Equal(t, pump.HandAt.Add(8*time.Hour), h.state("pump").HandAt)
	s, _ := h.Signal("h.temperature")
	assert.Equal(t, h.now.Wall, s.Heard)
	h.lives(time.Minute, map[string]float64{"temperature": 15})
	assert.EqualValues(t, 0, h.wanted("fan"), "its end, set by the right clock, is over")
	assert.EqualValues(t, 1, h.wanted("pump"), "an hour was meant")
	assert.EqualValues(t, 1, h.wanted("heater"), "limits know nothing of clocks")
	h.lives(4*time.Minute, map[string]float64{"temperature": 15})
	assert.EqualValues(t, 0, h.wanted("heater"), "ten minutes are over")
	h.lives(5*time.Minute, map[string]float64{"temperature": 15})
	assert.EqualValues(t, 1, h.wanted("heater"), "and so is the rest")
	h.set(wrong, -3*time.Hour)
	h.lives(42*time.Minute, map[string]float64{"temperature": 15})
	assert.EqualValues(t, 1, h.wanted("pump"))
	h.lives(5*time.Minute, map[string]float64{"temperature": 15})
	assert.EqualValues(t, 0, h.wanted("pump"), "an hour is over, whatever the clock did")
}

func TestTheLongestOnCountsOverAStartWithAWrongClock(t *testing.T) {
	for _, off := range []time.Duration{-8 * time.Hour, -5 * time.Minute, 0, 8 * time.Hour} {
		h := newHouse(t, auto("fan", site.Automation{Demands: whenever("h.temperature > 20"),
			Limits: site.RunLimits{LongestOnMS: 20 * 60_000, RestMS: 5 * 60_000}}))
		warm := map[string]float64{"temperature": 25}
		h.reads("temperature", 25)
		h.lives(4*time.Minute, warm)
		require.Equal(t, site.Amount(1), h.wanted("fan"))
		began := h.now.Wall.Add(off)
		h = h.restartsAt(Now{Wall: began, Mono: time.Hour})
		h.comes("2", map[string]reading.Value{"h.temperature": reading.Number(25)}, map[string]site.Amount{"h.fan": 1})
		h.lives(8*time.Minute, warm)
		h.now.Trusted = true
		h.set(began, -off)
		h.lives(7*time.Minute, warm)
		assert.Equal(t, site.Amount(1), h.wanted("fan"), off)
		h.lives(90*time.Second, warm)
		assert.Zero(t, h.wanted("fan"), "off by %v: 4, 8 and 8 minutes", off)
		assert.InDelta(t, 20*60, float64(h.state("fan").RanMS)/1000, 45, off)
	}
}

func TestBoardsKeepTheirOwnTimesWhileTheClockIsWrong(t *testing.T) {
	h := newHouse(t, nil)
	h.doubts(true)
	own := h.now.Wall.Add(9 * time.Hour)
	stored := func(in Reading) (out Store) {
		for _, x := range h.do(in) {
			if s, ok := x.(*Store); ok {
				out = *s
			}
		}
		return out
	}
	for i := range 8 {
		out := stored(Reading{Signal: "h.temperature", Stamp: own, Newest: true, Value: reading.Number(20)})
		assert.Equal(t, own, out.At)
		assert.True(t, out.Own)
		assert.Equal(t, i >= 7, out.Live, "%d: live when its clock is known to go on evenly", i)
		h.pass(10 * time.Second)
		own = own.Add(10 * time.Second)
	}
	assert.Equal(t, Store{Signal: "h.humidity", At: h.now.Wall, Value: reading.Number(50), Live: true},
		stored(Reading{Signal: "h.humidity", Newest: true, Value: reading.Number(50)}))
	plain := stored(Reading{Signal: "h.temperature", Newest: true, Value: reading.Number(22)})
	assert.True(t, plain.Live, "one without a time just came")
	stamped := stored(Reading{Signal: "h.temperature", Stamp: own, Newest: true, Value: reading.Number(23)})
	assert.True(t, stamped.Live)
	wrong := stored(Reading{Signal: "h.power", Stamp: own.Add(24 * 365 * time.Hour), Value: reading.Number(1)})
	require.False(t, wrong.Live)
	h.now.Trusted = true
	h.set(h.now.Wall.Add(-time.Hour), 9*time.Hour)
	out := stored(Reading{Signal: "h.temperature", Stamp: own, Newest: true, Value: reading.Number(21)})
	assert.True(t, out.Live, "the board's clock was right all the time: %+v", out)
	out = stored(Reading{Signal: "h.power", Newest: true, Value: reading.Number(2)})
	assert.True(t, out.Live, "a board that was believed wrongly does not hold its signal for ever")
}

func TestAClockThatIsSetBackLosesNoReading(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		auto("fan", site.Automation{Demands: whenever("h.temperature > 20")})(s)
		s.Rules["r"] = &site.Rule{ID: "r", Name: "R", RestMS: 60_000, Stages: []site.Stage{{When: "h.gas > 30",
			Actions: []site.Action{{Kind: site.DoMessage, Text: "gas"}}}}}
	})
	h.lives(time.Minute, map[string]float64{"temperature": 15, "gas": 5})
	require.Equal(t, []string{"gas"}, messages(h.reads("gas", 40)))
	h.set(h.now.Wall.Add(time.Second), -2*time.Hour) // nothing of before is known to be off
	h.lives(20*time.Second, map[string]float64{"temperature": 25, "gas": 5})
	assert.Equal(t, site.Amount(1), h.wanted("fan"), "what comes now is not of the past")
	for _, id := range []string{"temperature", "gas"} {
		s, _ := h.Signal("h." + id)
		assert.WithinDuration(t, h.now.Wall, s.Heard, 20*time.Second)
		assert.Equal(t, Live, s.Fresh)
	}
	h.lives(time.Minute, map[string]float64{"temperature": 25, "gas": 5})
	assert.Equal(t, []string{"gas"}, messages(h.reads("gas", 40)), "a rest is no longer than it is")
	h.set(h.now.Wall.Add(-3*time.Hour), 2*time.Hour)
	h.lives(20*time.Second, map[string]float64{"temperature": 15, "gas": 5})
	assert.Zero(t, h.wanted("fan"))
	s, _ := h.Signal("h.temperature")
	assert.WithinDuration(t, h.now.Wall, s.Heard, 20*time.Second)
}
