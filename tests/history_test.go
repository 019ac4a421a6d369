package tests

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/client"
	"idleember/contract/shown"
	"idleember/core/engine"
	"idleember/core/site"
	"idleember/tests/rig"
)

// bring stores n readings of a series, every ten seconds from a time on.
func bring(r *rig.Rig, series string, from time.Time, n int, value func(i int) float64) client.Imported {
	return bringValues(r, series, from, n, func(i int) any { return value(i) })
}

func bringValues(r *rig.Rig, series string, from time.Time, n int, value func(i int) any) client.Imported {
	var list []client.OneReading
	for i := range n {
		list = append(list, client.OneReading{T: from.Add(time.Duration(i) * 10 * time.Second).UnixMilli(), V: value(i)})
	}
	x, err := r.Owner.ImportReadingsWithResponse(r.T.Context(), client.ReadingsImport{Series: series, Readings: list})
	require.NoError(r.T, err)
	return *x.JSON200
}

func summary(r *rig.Rig, series string, from, to time.Time) client.Summary {
	x, err := r.Owner.GetSummaryWithResponse(r.T.Context(), &client.GetSummaryParams{Series: series, From: &from, To: &to})
	require.NoError(r.T, err)
	return *x.JSON200
}

// Readings are kept as long as one says, then as the sums of their hours; older ones are refused with the reason.
func TestReadingsAreKeptAsLongAsOneSays(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Device("kiln")
	r.Pub("kiln", key, "ember/kiln/r/chamber", "20.5")
	begin := time.Now().Add(-9 * 24 * time.Hour).Truncate(time.Hour)
	bring(r, "kiln.chamber", begin, 8640, func(i int) float64 { return float64(i % 100) })
	const day = 24 * 3600_000
	keep := func(k site.Keep) error {
		_, err := r.Owner.Signals().Patch(t.Context(), "kiln.chamber", rig.Fields{"keep": &k}, "")
		return err
	}
	assert.ErrorContains(t, keep(site.Keep{ReadingsMS: 5}), "keep readings for a day at least")
	assert.ErrorContains(t, keep(site.Keep{SumsMS: 9 * day}), "say how long to keep the readings as well")
	require.NoError(t, keep(site.Keep{ReadingsMS: 3 * day}))
	before := summary(r, "kiln.chamber", begin, begin.Add(24*time.Hour))
	assert.Equal(t, 8640, before.Count)
	tidied, err := r.Owner.TidyStorageWithResponse(t.Context(), client.TidyStorageJSONRequestBody{Series: "kiln.chamber"})
	require.NoError(t, err)
	assert.Greater(t, tidied.JSON200.Removed, int64(8000), "in whole blocks")

	after := summary(r, "kiln.chamber", begin, begin.Add(24*time.Hour))
	assert.Equal(t, []any{before.Count, before.Min.V, before.Max.V}, []any{after.Count, after.Min.V, after.Max.V})
	assert.InDelta(t, *before.Mean, *after.Mean, 1e-9)
	require.NotNil(t, after.SumsBefore)
	assert.WithinDuration(t, begin.Add(23*time.Hour), *after.SumsBefore, time.Hour)
	from, to := begin.Add(90*time.Minute), begin.Add(4*time.Hour)
	h, err := r.Owner.GetHistoryWithResponse(t.Context(), &client.GetHistoryParams{Series: []string{"kiln.chamber"},
		From: &from, To: &to})
	require.NoError(t, err)
	x := (*h.JSON200)[0]
	assert.Equal(t, int64(3600_000), x.StepMs, "there is nothing finer than hours")
	assert.Equal(t, begin.Add(time.Hour).UnixMilli(), x.T[0], "whole ones")
	assert.Equal(t, []int{360, 360, 360}, *x.Count)

	got := bring(r, "kiln.chamber", begin.Add(24*time.Hour), 2, func(int) float64 { return 1 })
	require.Len(t, got.Refused, 2)
	assert.Contains(t, got.Refused[0].Reason, "readings of this signal are kept for 3 days")
	r.Pub("kiln", key, "ember/kiln/r", fmt.Sprintf(`{"chamber":7,"t":%d}`, time.Now().Add(-5*24*time.Hour).UnixMilli()))
	r.Soon("told to the owner", func() bool {
		return strings.Contains(fmt.Sprint(r.Refusals("kiln")), "readings of this signal are kept for 3 days")
	})
	assert.Empty(t, bring(r, "kiln.chamber", time.Now().Add(-24*time.Hour), 5, func(int) float64 { return 1 }).Refused)
	assert.Contains(t, r.Journal("kiln.chamber")[0], "readings_ms")
}

// A stretch in few numbers: extremes with their times, gaps, and for how long it was in which range.
func TestASummaryOfAStretch(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Device("kiln")
	for _, v := range []string{"20.5", "20.6"} {
		r.Pub("kiln", key, "ember/kiln/r", `{"chamber":`+v+`,"lid":"shut"}`)
	}
	interval := int64(10_000)
	_, err := r.Owner.Signals().Patch(t.Context(), "kiln.chamber", rig.Fields{"interval_ms": &interval}, "")
	require.NoError(t, err)
	begin := time.Now().Add(-40 * time.Hour).Truncate(time.Hour)
	bring(r, "kiln.chamber", begin, 720, func(i int) float64 { return 20 + float64(i%10) })
	bring(r, "kiln.chamber", begin.Add(5*time.Hour), 360, func(i int) float64 { return -3.5 })
	x := summary(r, "kiln.chamber", begin, begin.Add(6*time.Hour))
	assert.Equal(t, []any{1080, -3.5, 29.0, 1}, []any{x.Count, x.Min.V, x.Max.V, x.Gaps})
	assert.Equal(t, []int64{begin.Add(5 * time.Hour).UnixMilli(), begin.Add(90 * time.Second).UnixMilli()},
		[]int64{*x.Min.T, *x.Max.T})
	assert.InDelta(t, 3*3600_000, x.GapsMs, 30_000)
	assert.Equal(t, begin.Add(5*time.Hour).UnixMilli(), (*x.LongestGap)[1])
	var all, low int64
	for _, b := range x.Bins {
		if all += b.Ms; b.To <= 0 {
			low += b.Ms
		}
	}
	assert.InDelta(t, 3*3600_000, all, 30_000)
	assert.EqualValues(t, 3600_000, low, "an hour below zero")
	assert.Empty(t, summary(r, "kiln.lid", begin, time.Now()).Bins)
	from, to, points := begin.Add(time.Hour-5*time.Second), begin.Add(2*time.Hour), 2
	h, err := r.Owner.GetHistoryWithResponse(t.Context(), &client.GetHistoryParams{Series: []string{"kiln.chamber"},
		From: &from, To: &to, Points: &points})
	require.NoError(t, err)
	assert.Equal(t, []float64{29, 20}, (*(*h.JSON200)[0].Min), "five seconds without a reading have what held")
	assert.Zero(t, summary(r, "kiln.chamber", begin.Add(-time.Hour), begin).Count)
	_, err = r.Owner.GetSummaryWithResponse(t.Context(), &client.GetSummaryParams{Series: "kiln.chamber", From: &begin,
		To: &begin})
	assert.ErrorContains(t, err, "is not after from")
}

// Setpoints and limits come from the automation; views belong to who saved them.
func TestMarksAndViews(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	board := newRelay(r, r.Device("kiln"))
	board.Publish("ember/kiln/is/fan", 1, false, "off").Wait()
	key := r.Device("room")
	r.Pub("room", key, "ember/room/r", `{"temperature":20.5,"smoke":3}`)
	saveSetting(r, site.Setting{ID: "room.goal", Kind: site.SetNumber, Min: 5, Max: 40, Default: 21,
		Guests: site.GuestsSee})
	decide(r, "kiln.fan", site.Automation{Demands: []site.Demand{{Kind: engine.HoldAbove, Of: "room.temperature",
		Target: "room.goal", Band: 1}},
		Interlocks: []site.Interlock{{Name: "smoke",
			Condition: site.Condition{When: "room.smoke > 50 or 5 > room.temperature"}}}})
	marks := func(c *client.Remote, series ...string) []client.Mark {
		x, err := c.ListMarksWithResponse(t.Context(), &client.ListMarksParams{Series: series})
		require.NoError(t, err)
		return *x.JSON200
	}
	goal, low, high := "room.goal", 5.0, 50.0
	assert.Equal(t, []client.Mark{{Series: "room.temperature", Kind: "setpoint", Control: "kiln.fan", Name: "Fan",
		Setting: &goal},
		{Series: "room.temperature", Kind: "below", Control: "kiln.fan", Name: "Fan: smoke", Value: &low}}, marks(r.Owner,
		"room.temperature"))
	assert.Equal(t, []client.Mark{{Series: "room.smoke", Kind: "above", Control: "kiln.fan", Name: "Fan: smoke",
		Value: &high}}, marks(r.Owner, "room.smoke"))

	kim, lee := r.Member("kim", "member"), r.Member("lee", "member")
	save := func(c *client.Remote, name, view string, shared bool) shown.View {
		x, err := c.Views().Add(t.Context(), site.View{Name: name, View: view, Shared: shared})
		require.NoError(t, err)
		return x
	}
	names := func(c *client.Remote) (out []string) {
		list, err := c.Views().List(t.Context())
		require.NoError(t, err)
		for _, v := range list {
			out = append(out, v.Config.ID+" "+v.Config.View)
		}
		return out
	}
	first := save(kim, "Nights", "s=room.temperature&span=86400000", false)
	_, err := kim.Views().Patch(t.Context(), first.Config.ID, rig.Fields{"view": "s=room.smoke"}, first.Version)
	require.NoError(t, err)
	assert.Equal(t, "nights_2", save(lee, "Nights", "s=room.smoke", false).Config.ID,
		"what is somebody else's alone is in nobody's way")
	shared := save(kim, "Weeks", "s=room.temperature~room.smoke", true)
	assert.Equal(t, []string{"nights s=room.smoke", "weeks s=room.temperature~room.smoke"}, names(kim))
	assert.Equal(t, []string{"nights_2 s=room.smoke", "weeks s=room.temperature~room.smoke"}, names(lee))
	_, err = kim.Views().Add(t.Context(), site.View{Name: "x", View: "<b>"})
	assert.Error(t, err)
	assert.ErrorContains(t, lee.Views().Remove(t.Context(), "nights"), "there is no view")
	_, err = r.Owner.Views().Put(t.Context(), "nights", site.View{ID: "nights", Name: "Mine", View: "s=room.smoke"}, "*")
	assert.ErrorContains(t, err, "choose another")
	assert.Error(t, lee.Views().Remove(t.Context(), "weeks"))
	err = r.Owner.Views().Remove(t.Context(), shared.Config.ID)
	require.NoError(t, err)
	assert.Equal(t, []string{"nights_2 s=room.smoke"}, names(lee))
}

// What formulas look back on is looked at anew when the past is changed.
func TestFormulasLookAnewAtAChangedPast(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	newRelay(r, r.Device("kiln")).Publish("ember/kiln/is/fan", 1, false, "off").Wait()
	key := r.Device("room")
	r.Pub("room", key, "ember/room/r/damp", "40")
	past := time.Now().Add(-2 * time.Hour).Truncate(time.Second)
	bring(r, "room.damp", past, 3, func(int) float64 { return 40 })
	decide(r, "kiln.fan", site.Automation{Demands: []site.Demand{whenever(`highest(room.damp, "6h") > 80`)}})
	r.Soon("auto and off", func() bool { return !rig.On(r.Control("kiln.fan").State.Want) })
	bring(r, "room.damp", past.Add(time.Hour), 1, func(int) float64 { return 95 })
	r.Soon("on, as it was damp an hour ago", func() bool { return rig.On(r.Control("kiln.fan").State.Want) })
	from := past.Add(time.Hour)
	_, err := r.Owner.DeleteReadingsWithResponse(t.Context(), &client.DeleteReadingsParams{Series: "room.damp", From: from,
		To: from.Add(time.Second)})
	require.NoError(t, err)
	r.Soon("off again", func() bool { return !rig.On(r.Control("kiln.fan").State.Want) })
}

// While its board is away nobody knows what a switch is: that time is a gap, and no time on.
func TestWhatASwitchWasWhileItsBoardWasAwayIsUnknown(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	board := newRelay(r, r.Device("kiln"))
	board.Publish("ember/kiln/is/fan", 1, false, "on").Wait()
	begin := time.Now().Add(-9 * time.Hour).Truncate(time.Hour)
	put := func(series string, at time.Time, on bool) {
		x, err := r.Owner.ImportReadingsWithResponse(t.Context(), client.ReadingsImport{Series: series,
			Readings: []client.OneReading{{T: at.UnixMilli(), V: on}}})
		require.NoError(t, err)
		require.Empty(t, x.JSON200.Refused)
	}
	put("kiln.fan.is", begin, true)
	put("kiln", begin.Add(-time.Hour), true)
	put("kiln", begin.Add(90*time.Minute), false)
	put("kiln", begin.Add(150*time.Minute), true)
	gap := [][]int64{{begin.Add(90 * time.Minute).UnixMilli(), begin.Add(150 * time.Minute).UnixMilli()}}
	ask := func(to time.Time, buckets bool) client.History {
		points := 4
		h, err := r.Owner.GetHistoryWithResponse(t.Context(), &client.GetHistoryParams{Series: []string{"kiln.fan.is"},
			From: &begin, To: &to, Points: &points, Buckets: &buckets})
		require.NoError(t, err)
		return (*h.JSON200)[0]
	}
	assert.Equal(t, gap, ask(begin.Add(4*time.Hour), false).Gaps)
	x := ask(begin.Add(4*time.Hour), true)
	assert.Equal(t, []int64{3600_000, 1800_000, 1800_000, 3600_000}, *x.OnMs)
	s := summary(r, "kiln.fan.is", begin, begin.Add(4*time.Hour))
	assert.Equal(t, []int64{3 * 3600_000, 3600_000}, []int64{*s.OnMs, s.GapsMs})

	board.Disconnect(0)
	left := time.Now()
	r.Soon("a gap from when it left", func() bool {
		gaps := ask(time.Now(), false).Gaps
		return len(gaps) == 2 && time.UnixMilli(gaps[1][0]).Sub(left).Abs() < 2*time.Second
	})
	r.Restart()
	assert.Len(t, ask(time.Now(), false).Gaps, 2)
}

// A counter of nanoseconds and a sensor that says ±1e38 for nothing are summed up like any other, and days of a zone
// whose clocks go on at midnight come to an end.
func TestAnyNumberAndAnyZoneIsSummedUp(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Device("kiln")
	r.Pub("kiln", key, "ember/kiln/r", `{"chamber":1764486000123456789,"odd":1e38}`)
	r.Pub("kiln", key, "ember/kiln/r", `{"chamber":1764486000123457045,"odd":-1e38}`)
	now := time.Now()
	for _, id := range []string{"kiln.chamber", "kiln.odd"} {
		r.Soon("readings", func() bool { return summary(r, id, now.Add(-time.Hour), now.Add(time.Minute)).Count == 2 })
		assert.NotEmpty(t, summary(r, id, now.Add(-time.Hour), now.Add(time.Minute)).Bins)
	}
	for _, zone := range []string{"America/Havana", "Atlantic/Azores", "America/Santiago", "Africa/Cairo"} {
		_, err := r.Owner.Hub().Patch(t.Context(), rig.Fields{"zone": &zone}, "")
		require.NoError(t, err)
		from := now.Add(-4 * 365 * 24 * time.Hour)
		buckets, points := true, 1400
		x, err := r.Owner.GetHistoryWithResponse(t.Context(), &client.GetHistoryParams{Series: []string{"kiln.chamber"},
			From: &from, To: &now, Buckets: &buckets, Points: &points})
		require.NoError(t, err, zone)
		assert.NotEmpty(t, x.JSON200)
	}
}

// A day's reading from a file is no gap, neither where nothing else is known of the signal nor where it reports every
// few seconds now. Numbers near the largest one have a mean. What held at the start is the lowest or the highest. A
// text that changes too often says so.
func TestFiguresOfWhatWasBroughtIn(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	r.Device("shed")
	for name, kind := range map[string]client.Kind{"rain": "number", "label": "text", "level": "number"} {
		r.AddSignal("shed", name, kind, client.Source{})
	}
	begin := time.Now().Add(-100 * 24 * time.Hour).Truncate(24 * time.Hour)
	put := func(series string, n int, step time.Duration, value func(i int) any) {
		var list []client.OneReading
		for i := range n {
			if series == "shed.rain" && i >= 50 && i < 60 { // ten days are missing
				continue
			}
			list = append(list, client.OneReading{T: begin.Add(time.Duration(i) * step).UnixMilli(), V: value(i)})
		}
		x, err := r.Owner.ImportReadingsWithResponse(t.Context(), client.ReadingsImport{Series: series, Readings: list})
		require.NoError(t, err)
		require.Empty(t, x.JSON200.Refused)
	}
	get := func(series string, from, to time.Time, points int) client.History {
		h, err := r.Owner.GetHistoryWithResponse(t.Context(), &client.GetHistoryParams{Series: []string{series}, From: &from,
			To: &to, Points: &points})
		require.NoError(t, err)
		return (*h.JSON200)[0]
	}
	put("shed.rain", 100, 24*time.Hour, func(i int) any { return float64(i) })
	missing := [][]int64{{begin.Add(49 * 24 * time.Hour).UnixMilli(), begin.Add(60 * 24 * time.Hour).UnixMilli()}}
	assert.Equal(t, missing, get("shed.rain", begin, begin.Add(99*24*time.Hour), 1500).Gaps)
	_, err := r.Owner.Signals().Patch(t.Context(), "shed.rain", rig.Fields{"interval_ms": ptr(int64(10_000))}, "")
	require.NoError(t, err)
	assert.Equal(t, missing, get("shed.rain", begin, begin.Add(99*24*time.Hour), 1500).Gaps,
		"it reports every ten seconds now")
	assert.Equal(t, missing, get("shed.rain", begin, begin.Add(99*24*time.Hour), 60).Gaps, "in buckets")
	s := summary(r, "shed.rain", begin, begin.Add(99*24*time.Hour))
	assert.Equal(t, []int{1, 89}, []int{s.Gaps, s.Count})

	put("shed.level", 4000, time.Minute, func(i int) any { return []float64{1.7e308, 1.6e308, 1.7e308, 1.5e308}[i%4] })
	_, err = r.Owner.Signals().Patch(t.Context(), "shed.level", rig.Fields{"reports": ptr("change")}, "")
	require.NoError(t, err)
	h := get("shed.level", begin, begin.Add(60*time.Hour), 30)
	assert.InEpsilon(t, 1.625e308, (*h.Mean)[3], 1e-9)
	s = summary(r, "shed.level", begin.Add(time.Hour+30*time.Second), begin.Add(time.Hour+150*time.Second))
	assert.Equal(t, []float64{1.6e308, 1.7e308}, []float64{s.Min.V, s.Max.V})
	assert.Equal(t, begin.Add(time.Hour+30*time.Second).UnixMilli(), *s.Max.T, "it held at the start")
	s = summary(r, "shed.level", begin.Add(70*24*time.Hour), begin.Add(71*24*time.Hour))
	assert.Equal(t, []any{0, 1.5e308, 1.5e308}, []any{s.Count, s.Min.V, s.Max.V}, "it held all the time")

	put("shed.label", 10_002, time.Minute, func(i int) any { return fmt.Sprint(i) })
	h = get("shed.label", begin, begin.Add(80*24*time.Hour), 1500)
	assert.Len(t, *h.V, 10_000)
	assert.True(t, *h.More)
	assert.Nil(t, get("shed.label", begin, begin.Add(9999*time.Minute+time.Second), 1500).More)
}
