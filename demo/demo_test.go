package demo

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/client"
	"idleember/contract/shown"
	"idleember/serve"
	"idleember/tests/rig"
)

var quiet = slog.New(slog.DiscardHandler)

func TestRoomBehavesLikeARoom(t *testing.T) {
	at := time.Date(2026, 3, 2, 3, 0, 0, 0, time.UTC)
	cold, warm := newRoom(1, at), newRoom(1, at)
	warm.heater = true
	cold.step(at, time.Minute)
	warm.step(at, time.Minute)
	assert.Greater(t, warm.air, cold.air+0.8, "switching the heater warms the room within a minute")
	cold.step(at, 2*time.Hour)
	warm.step(at, 2*time.Hour)
	assert.Less(t, warm.clay, cold.clay, "warm air dries the clay faster")
	assert.Less(t, warm.air, 45.0)
	for range 24 * 21 {
		at = at.Add(time.Hour)
		cold.heater = habit(at, time.UTC)
		cold.step(at, time.Hour)
		temp, humidity, clay := cold.sense()
		require.True(t, temp > 0 && temp < 40 && humidity > 15 && humidity <= 100 && clay > 1 && clay < 25,
			"%s: %g °C, %g %%, %g %%", at, temp, humidity, clay)
	}
	assert.InDelta(t, 2339, saturation(20), 12, "Pa at 20 °C, from steam tables")
}

func dryingBoard(key, addr string) *board {
	w := newWorld(1, time.Now(), time.UTC)
	return newBoard(boardID, key, addr, &w.mu, map[string]*bool{"heater": &w.room.heater}, w.room.measure, quiet)
}

func heater(b *board) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return *b.outputs["heater"]
}

func TestBoardObeysTheLease(t *testing.T) {
	r := rig.New(t)
	id, lease := boardID, int64(3000)
	d, err := r.Owner.AddDevice(t.Context(), rig.Fields{"id": &id, "name": "Drying room", "place": "Drying room",
		"lease_ms": &lease})
	require.NoError(t, err)
	b := dryingBoard(d.Key, r.Service.MQTT)
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan struct{})
	go func() { b.run(ctx); close(ended) }()
	defer func() { cancel(); <-ended }()
	control := func() shown.Control { return r.Control(boardID + ".heater") }
	r.Soon("the heater to appear", func() bool { return len(r.Now().Controls) == 1 })
	r.Switch(boardID+".heater", true)
	r.Soon("confirmed", func() bool { return control().State.Phase == "confirmed" && heater(b) })
	time.Sleep(4 * time.Second)
	assert.True(t, heater(b), "the beats keep it on for longer than one lease")
	b.press("heater")
	r.Soon("the button to be followed", func() bool { return !rig.On(control().State.Want) })
	r.Switch(boardID+".heater", true)
	r.Soon("on again", func() bool { return heater(b) })

	require.NoError(t, r.Service.Close())
	rig.Soon(t, "off by itself when the hub is silent", func() bool { return !heater(b) })
}

func TestRetainedWantWaitsForTheFirstBeat(t *testing.T) {
	b := dryingBoard("", "127.0.0.1:1")
	b.wanted("heater", true, true)
	assert.False(t, heater(b), "a retained on from a hub that may be dead")
	b.beat([]byte("30"))
	assert.True(t, heater(b))
	assert.False(t, b.plug())
	assert.False(t, heater(b), "no power")
}

func TestTheDemoTellsWhatToTryAndStartsTwice(t *testing.T) {
	dir := t.TempDir()
	start := func() string {
		ctx, cancel := context.WithCancel(t.Context())
		defer cancel()
		out := &strings.Builder{}
		seen, w := io.Pipe()
		done := make(chan error, 1)
		go func() {
			o := serve.Options{Data: dir, HTTP: "127.0.0.1:0", MQTT: "127.0.0.1:0", UDP: "127.0.0.1:0", Log: quiet}
			done <- run(ctx, o, strings.NewReader("b\nwhat\n"), w, 3*24*time.Hour, true)
			_ = w.Close()
		}()
		buf := make([]byte, 4096)
		for !strings.Contains(out.String(), "--plot") || !strings.Contains(out.String(), "pulls its plug") {
			n, err := seen.Read(buf)
			out.Write(buf[:n])
			require.NoError(t, err, out.String())
		}
		cancel()
		go func() { _, _ = io.Copy(io.Discard, seen) }()
		require.NoError(t, <-done)
		return out.String()
	}
	first := start()
	for _, word := range []string{"http://127.0.0.1:", "mo ", "owner", "kim ", "member", "visitor ", "guest",
		"history … done", "Somebody pushed the button"} {
		assert.Contains(t, first, word)
	}
	second := start()
	assert.NotContains(t, second, "days of history")
	account := func(s string) string { return s[strings.Index(s, "    mo "):strings.Index(s, "owner")] }
	assert.Equal(t, account(first), account(second), "the accounts stay")

	s, err := serve.Start(t.Context(), serve.Options{Data: dir, HTTP: "127.0.0.1:0", MQTT: "127.0.0.1:0"})
	require.NoError(t, err)
	defer func() { _ = s.Close() }()
	h, err := client.New("http://"+s.HTTP, "")
	require.NoError(t, err)
	words := strings.Fields(account(first))
	_, err = h.SignInWithResponse(t.Context(), client.SignInJSONRequestBody{Account: "mo", Password: words[1]})
	require.NoError(t, err)
	from := time.Now().Add(-4 * 24 * time.Hour)
	x, err := h.GetHistoryWithResponse(t.Context(), &client.GetHistoryParams{Series: []string{boardID + ".temperature",
		boardID + ".heater.is"}, From: &from})
	require.NoError(t, err)
	n := 0
	for _, c := range *(*x.JSON200)[0].Count {
		n += c
	}
	assert.Greater(t, n, 25_000, "the past is there, but for the time unplugged")
	assert.NotEmpty(t, (*x.JSON200)[0].Gaps)
	assert.Greater(t, len((*x.JSON200)[1].T), 5)
}

// Every device of the studio is there, over its own protocol, its outputs move the model, and the hub decides.
func TestTheWholeStudioSpeaks(t *testing.T) {
	dir := t.TempDir()
	st, w, err := build(t.Context(), dir, serve.Options{Log: quiet}, io.Discard, 5*24*time.Hour)
	require.NoError(t, err)
	r := rig.In(t, dir)
	p, err := newPeers(w, nil)
	require.NoError(t, err)
	defer p.close()
	require.NoError(t, p.introduce(t.Context(), r.Service.Hub))
	st.MQTT, st.UDP = r.Service.MQTT, r.Service.UDP
	ctx, cancel := context.WithCancel(t.Context())
	e := power(ctx, w, st, quiet)
	defer func() { cancel(); e.ended.Wait() }()
	_, err = r.Owner.SignInWithResponse(t.Context(), client.SignInJSONRequestBody{Account: "mo",
		Password: st.Accounts[0].Password})
	require.NoError(t, err)
	number := func(id string) float64 { v, _ := r.Value(id).(float64); return v }
	live := func(id string) bool { s := r.Signal(id); return s != nil && s.State.Fresh == "live" }
	for _, id := range []string{"shed_battery.battery", "glaze_scale.weight", "weather.outdoors", "weather.sky",
		"shelf_fan.speed", "slip_tank.level", "kiln.chamber"} {
		r.Soon(id, func() bool { return live(id) })
	}
	assert.InDelta(t, 12.7, number("shed_battery.battery"), 1.5, "volts out of raw counts")
	assert.NotNil(t, r.Signal("shed_battery.battery").State.RawValue)
	r.Switch("shelf_fan.fan", true)
	r.Soon("the fan turns and draws power", func() bool {
		return r.Control("shelf_fan.fan").State.Phase == "confirmed" && number("shelf_fan.power") > 55
	})
	r.Switch("glaze_scale.lamp", true)
	r.Soon("the scale's lamp", func() bool { return r.Control("glaze_scale.lamp").State.Phase == "confirmed" })
	before := number("slip_tank.level")
	r.Switch("slip_tank.reclaim_pump", true)
	r.Soon("the tank fills", func() bool { return number("slip_tank.level") > before })
	from := time.Now().Add(-5 * 24 * time.Hour)
	x, err := r.Owner.GetHistoryWithResponse(t.Context(), &client.GetHistoryParams{Series: []string{"kiln.chamber"},
		From: &from})
	require.NoError(t, err)
	assert.Greater(t, len((*x.JSON200)[0].T), 200, "and has a past")

	kiln := r.Control("kiln.elements")
	assert.False(t, rig.On(kiln.State.Want), "left on three days ago: safe now")
	assert.Contains(t, kiln.State.Reason.String(), "was on by hand when it went away")
	r.Soon("the regulator turns the booth's fan", func() bool {
		return strings.Contains(r.Control("spray_booth.fan").State.Reason.String(), "is kept at 0.5 m/s with") &&
			number("spray_booth.air_speed") > 0.1
	})
	assert.False(t, rig.On(r.Control("glaze_store.heater").State.Is) && rig.On(r.Control("glaze_store.cooler").State.Is),
		"exclusive")
	set := func(id string, to float64) {
		_, err := r.Owner.SetSettingWithResponse(t.Context(), id, client.SetSettingJSONRequestBody{Value: to})
		require.NoError(t, err)
	}
	set("glaze_store.warm", 20)
	set("glaze_store.cool", 10)
	r.Soon("one of them runs, the other waits for it", func() bool {
		return rig.On(r.Control("glaze_store.heater").State.Is) &&
			strings.Contains(r.Control("glaze_store.cooler").State.Reason.String(), "Store heater")
	})
	until := time.Now().Add(9 * 24 * time.Hour) // it may just have run
	next, err := r.Owner.GetNextWithResponse(t.Context(), &client.GetNextParams{Until: &until})
	require.NoError(t, err)
	assert.Contains(t, fmt.Sprint(*next.JSON200), "slip_tank.rinse_valve", "the weekly exercise")

	e.hands(strings.NewReader("h\n"), io.Discard)
	if hour := time.Now().In(w.loc).Hour(); hour >= 6 && hour < 22 {
		r.Soon("damp: two presses of its button start the dehumidifier", func() bool {
			w.mu.Lock()
			defer w.mu.Unlock()
			return w.room.dry > 0
		})
	}
}

func TestTheRestOfTheWorld(t *testing.T) {
	at := time.Date(2026, 3, 2, 9, 0, 0, 0, time.UTC)
	hot, cold := newWorld(1, at, time.UTC), newWorld(1, at, time.UTC)
	hot.elements = true
	for range 6 * 60 {
		at = at.Add(time.Minute)
		hot.step(at, time.Minute)
		cold.step(at, time.Minute)
	}
	assert.Greater(t, hot.chamber, 1100.0)
	assert.LessOrEqual(t, hot.chamber, 1270.0)
	assert.Less(t, cold.chamber, 340.0)
	assert.Greater(t, hot.monoxide, 100.0)
	hot.blower = true
	hot.step(at, 10*time.Minute)
	assert.Less(t, hot.monoxide, 100.0, "the extractor clears the shed")
	assert.Less(t, cold.level, 64.0, "the studio uses slip")
	noon, night := time.Date(2026, 6, 21, 12, 0, 0, 0, time.UTC), time.Date(2026, 6, 21, 0, 30, 0, 0, time.UTC)
	assert.Greater(t, cold.sun(noon), 0.9)
	assert.Less(t, cold.sun(night), 0.0)
}

func TestTheHubOfThreeDaysAgoExercisesNoValve(t *testing.T) {
	loc, err := time.LoadLocation(zone)
	require.NoError(t, err)
	for hour := range 24 * 366 {
		now := time.Date(2026, 1, 1, hour, 30, 0, 0, time.UTC)
		then := now.Add(-away(now, loc)).In(loc)
		require.NotEqual(t, exercised, then.Hour(), "set up at %s", now)
	}
}
