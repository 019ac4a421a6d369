package engine

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/core/reading"
	"idleember/core/site"
)

// An alert of a formula over the past comes when it would have come live: with delays, what it looks back on, and the
// time of day.
func TestAnAlertOverThePast(t *testing.T) {
	s := newHouse(t, func(*site.Site) {}).site
	type step struct {
		minute int
		id     string
		v      float64
		gap    bool
	}
	run := func(a site.Alert, steps ...step) (spans [][2]int) {
		a.ID, a.Name, a.Kind, a.Severity = "x", "X", site.AlertFormula, site.Warning
		p, err := NewPast(s, a, start)
		require.NoError(t, err)
		for _, x := range steps {
			p.Set(start.Add(time.Duration(x.minute)*time.Minute), x.id, reading.Number(x.v), !x.gap)
		}
		for _, o := range p.Finish(start.Add(2 * time.Hour)) {
			spans = append(spans, [2]int{int(time.UnixMilli(o.From).Sub(start).Minutes()),
				int(time.UnixMilli(o.To).Sub(start).Minutes())})
		}
		return spans
	}
	warm := []step{{0, "h.gas", 1, false}, {1, "h.temperature", 18, false}, {10, "h.temperature", 25, false}, {20,
		"h.temperature", 18, false}, {30, "h.temperature", 26, false}}
	assert.Equal(t, [][2]int{{10, 20}, {30, 120}}, run(site.Alert{When: "h.temperature > 20 and h.gas < 5"}, warm...))
	assert.Empty(t, run(site.Alert{When: "h.temperature > 20 and h.gas > 5"}, warm...))
	assert.Equal(t, [][2]int{{35, 120}}, run(site.Alert{When: "h.temperature > 25", AfterMS: 5 * 60_000}, warm...))
	assert.Equal(t, [][2]int{{10, 120}}, run(site.Alert{When: "h.temperature > 20", Until: "h.temperature < 10"}, warm...))
	assert.Equal(t, [][2]int{{10, 15}, {30, 120}}, run(site.Alert{When: "h.temperature > 20 and h.gas < 5"},
		append(append([]step{}, warm[:3]...), step{15, "h.temperature", 15, false}, step{18, "h.gas", 0, true}, step{25,
			"h.gas", 1, false}, warm[4])...))
	var each []step
	for minute := -30; minute < 60; minute++ {
		each = append(each, step{minute, "h.temperature", map[bool]float64{true: 10, false: 30}[minute < 0], false})
	}
	got := run(site.Alert{When: "mean(h.temperature, \"10m\") > 20"}, each...)
	require.Len(t, got, 1)
	assert.InDelta(t, 5, got[0][0], 1, "half of what it looks back on")
	assert.Equal(t, [][2]int{{0, 120}}, run(site.Alert{When: "h.temperature > 20"}, step{-5, "h.temperature", 30, false}),
		"what it was when the stretch begins counts")

	_, err := NewPast(s, site.Alert{ID: "x", Kind: site.AlertFormula, When: "h.temperature.state == \"stale\""}, start)
	assert.ErrorContains(t, err, "of h.temperature.state no history is kept")
	for id, want := range map[string]string{"h.temperature": "h.temperature", "h.fan": "h.fan.is",
		"h.fan.want": "h.fan.want", "h.fan.mode": "h.fan.mode", "h.online": "h", "h.setpoint": "h.setpoint",
		"h.fan.phase": "", "hub.disk_used": "", "nobody": ""} {
		assert.Equal(t, want, Series(s, id), id)
	}
}
