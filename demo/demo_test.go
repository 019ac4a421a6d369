package demo

import (
	"context"
	"io"
	"log/slog"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/client"
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
		require.True(t, temp > 0 && temp < 40 && humidity > 15 && humidity <= 100 && clay > 1 && clay < 25, "%s: %g °C, %g %%, %g %%", at, temp, humidity, clay)
	}
	assert.InDelta(t, 2339, saturation(20), 12, "Pa at 20 °C, from steam tables")
}

func heater(b *board) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.room.heater
}

func TestBoardObeysTheLease(t *testing.T) {
	r := rig.New(t)
	id, lease := boardID, int64(3000)
	d, err := r.Owner.AddDeviceWithResponse(t.Context(), client.NewDevice{Id: &id, Name: "Drying room", Place: "Drying room", LeaseMs: &lease})
	require.NoError(t, err)
	b := newBoard(id, d.JSON201.Key, r.Service.MQTT, newRoom(1, time.Now()), quiet)
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan struct{})
	go func() { b.run(ctx); close(ended) }()
	defer func() { cancel(); <-ended }()
	control := func() client.Control { return r.Control(boardID + ".heater") }
	r.Soon("the heater to appear", func() bool { return len(r.Now().Controls) == 1 })
	r.Switch(boardID+".heater", true)
	r.Soon("confirmed", func() bool { return control().Phase == "confirmed" && heater(b) })
	time.Sleep(4 * time.Second)
	assert.True(t, heater(b), "the beats keep it on for longer than one lease")
	b.press()
	r.Soon("the button to be followed", func() bool { return !*control().Want })
	r.Switch(boardID+".heater", true)
	r.Soon("on again", func() bool { return heater(b) })

	require.NoError(t, r.Service.Close())
	rig.Soon(t, "off by itself when the hub is silent", func() bool { return !heater(b) })
}

func TestRetainedWantWaitsForTheFirstBeat(t *testing.T) {
	b := newBoard("x", "", "127.0.0.1:1", newRoom(1, time.Now()), quiet)
	b.wanted(true, true)
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
			o := serve.Options{Data: dir, HTTP: "127.0.0.1:0", MQTT: "127.0.0.1:0", Log: quiet}
			done <- run(ctx, o, strings.NewReader("b\nwhat\n"), w, 3*24*time.Hour)
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
	for _, word := range []string{"http://127.0.0.1:", "mo ", "owner", "kim ", "member", "visitor ", "guest", "history … done", "Somebody pushed the button"} {
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
	x, err := h.GetHistoryWithResponse(t.Context(), &client.GetHistoryParams{Series: []string{boardID + ".temperature", boardID + ".heater.is"}, From: &from})
	require.NoError(t, err)
	n := 0
	for _, c := range *(*x.JSON200)[0].Count {
		n += c
	}
	assert.Greater(t, n, 25_000, "the past is there, but for the time unplugged")
	assert.NotEmpty(t, (*x.JSON200)[0].Gaps)
	assert.Greater(t, len((*x.JSON200)[1].T), 5)
}
