package tests

import (
	"path"
	"strings"
	"sync"
	"testing"
	"time"

	paho "github.com/eclipse/paho.mqtt.golang"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/client"
	"idleember/contract/shown"
	"idleember/tests/rig"
)

// relay is a board with one relay that answers what it is told.
type relay struct {
	paho.Client
	mu   sync.Mutex
	got  []string
	mute bool
}

func newRelay(r *rig.Rig, key string, change ...func(*paho.ClientOptions)) *relay {
	b := &relay{}
	b.Client = r.Paho("kiln", key, "kiln", change...)
	b.Subscribe("ember/kiln/want/#", 1, b.hear).Wait()
	return b
}

func (b *relay) hear(_ paho.Client, m paho.Message) {
	b.mu.Lock()
	defer b.mu.Unlock()
	word := string(m.Payload())
	if m.Retained() {
		word += " retained"
	}
	b.got = append(b.got, word)
	if !b.mute {
		b.Publish("ember/kiln/is/"+path.Base(m.Topic()), 1, false, m.Payload())
	}
}

func (b *relay) heard() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return strings.Join(b.got, ", ")
}

func phase(r *rig.Rig) string { return string(r.Control("kiln.fan").State.Phase) }

func TestSwitchIsConfirmedByTheBoard(t *testing.T) {
	r := rig.New(t)
	key := r.Device("kiln")
	board := newRelay(r, key)
	board.Publish("ember/kiln/is/fan", 1, false, "off").Wait()
	kim := r.Member("kim", client.RoleMember)
	live := watch(t, kim)
	wait := true
	c, err := r.Owner.SwitchControlWithResponse(t.Context(), "kiln.fan", &client.SwitchControlParams{Wait: &wait},
		client.SwitchControlJSONRequestBody{To: true})
	require.NoError(t, err)
	assert.Equal(t, "confirmed", c.JSON200.State.Phase)
	assert.True(t, rig.On(c.JSON200.State.Is))
	live.until("control", `"phase":"pending"`)
	live.until("control", `"is":true`)
	assert.Equal(t, 1, r.Service.Hub.Readers(), "who waited for it does not go on reading")
	assert.Equal(t, []string{"mo switch >on", "kiln add >switch"}, r.Journal("kiln.fan"), "who and what")

	board.Publish("ember/kiln/is/fan", 1, false, "off").Wait() // somebody presses the button
	live.until("control", "switched off at the board")
	c2 := r.Control("kiln.fan")
	assert.False(t, rig.On(c2.State.Want), "followed: a new want where there is no automation")
	assert.Equal(t, "confirmed", string(c2.State.Phase))
	assert.Equal(t, "kiln switch on>off", r.Journal("kiln.fan")[0])

	h, err := r.Owner.GetHistoryWithResponse(t.Context(), &client.GetHistoryParams{Series: []string{"kiln.fan.is",
		"kiln.fan.want"}})
	require.NoError(t, err)
	assert.Equal(t, []any{false, true, false}, *(*h.JSON200)[0].V, "runs are kept as history")
	assert.Equal(t, []any{true, false}, *(*h.JSON200)[1].V)
}

func TestUnconfirmedAndRestart(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Device("kiln")
	board := newRelay(r, key)
	board.Publish("ember/kiln/is/fan", 1, false, "off").Wait()
	second := int64(1000)
	_, err := r.Owner.Controls().Patch(t.Context(), "kiln.fan", rig.Fields{"confirm_after_ms": &second}, "")
	require.NoError(t, err)
	board.mu.Lock()
	board.mute = true
	board.mu.Unlock()
	c := r.Switch("kiln.fan", true)
	assert.Equal(t, "pending", string(c.State.Phase))
	assert.False(t, rig.On(c.State.Is), "optimistic never")
	r.Soon("unconfirmed", func() bool { return phase(r) == "unconfirmed" })
	r.Soon("it is sent again", func() bool { return strings.Count(board.heard(), "on") >= 2 })

	r.Restart()
	assert.True(t, rig.On(r.Control("kiln.fan").State.Want), "the want survives a restart of the hub")
	board = newRelay(r, key)
	r.Soon("confirmed by the board that came back", func() bool { return phase(r) == "confirmed" })
	assert.True(t, strings.HasPrefix(board.heard(), "on"), board.heard())
}

func TestABoardThatComesBackGetsTheWant(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Device("kiln")
	r.Pub("kiln", key, "ember/kiln/is/fan", "off")
	r.Switch("kiln.fan", true)
	r.Switch("kiln.fan", false)
	r.Switch("kiln.fan", true)
	sub := r.Sub("kiln", key, "ember/kiln/#", "-F", "%t %p %r")
	r.Soon("retained want and beat", func() bool {
		return strings.Contains(sub.String(), "ember/kiln/want/fan on 1") && strings.Contains(sub.String(),
			"ember/kiln/lease 60 0")
	})
	assert.NotContains(t, sub.String(), "off", "only the newest")
	r.Pub("kiln", key, "ember/kiln/is/fan", "off")
	r.Soon("a board that comes up with off is no button: sent again", func() bool {
		return strings.Contains(sub.String(), "want/fan on 0")
	})
	assert.True(t, rig.On(r.Control("kiln.fan").State.Want))
	r.Pub("kiln", key, "ember/kiln/is/fan", `{"v":"off","by":"hand"}`)
	r.Soon("marked as by hand: followed", func() bool { return !rig.On(r.Control("kiln.fan").State.Want) })
}

// A session that the board kept is resumed with the current want, not with those that were missed.
func TestKeptSessionHearsOnlyTheNewestWant(t *testing.T) {
	r := rig.New(t)
	key := r.Device("kiln")
	keep := func(o *paho.ClientOptions) { o.SetCleanSession(false).SetResumeSubs(false) }
	board := newRelay(r, key, keep)
	board.Publish("ember/kiln/is/fan", 1, false, "off").Wait()
	board.Disconnect(50)
	r.Soon("the hub has noticed; what was on its way before comes again, as it must",
		func() bool { return !r.Online("kiln") })
	for _, on := range []bool{true, false, true, false, true} {
		r.Switch("kiln.fan", on)
	}
	got := make(chan string, 20)
	back := r.Paho("kiln", key, "kiln", keep, func(o *paho.ClientOptions) {
		o.SetDefaultPublishHandler(func(_ paho.Client, m paho.Message) {
			if strings.Contains(m.Topic(), "/want/") {
				got <- string(m.Payload())
			}
		})
	})
	for {
		select {
		case word := <-got:
			assert.Equal(t, "on", word)
			continue
		case <-time.After(400 * time.Millisecond):
		}
		break
	}
	back.Publish("ember/kiln/is/fan", 1, false, "on").Wait()
	r.Soon("confirmed", func() bool { return phase(r) == "confirmed" })
}

// A board that answers slowly is tapped on, off and on: its answers to what was tapped before are not taken for a hand
// at the board.
func TestTapsFasterThanAnswers(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Device("kiln")
	board := newRelay(r, key)
	board.Publish("ember/kiln/is/fan", 1, false, "off").Wait()
	board.mu.Lock()
	board.mute = true
	board.mu.Unlock()
	for i := range 3 {
		r.Switch("kiln.fan", i%2 == 0)
		r.Soon("it is told", func() bool { return len(strings.Split(board.heard(), ", ")) > i })
	}
	for _, is := range []string{"on", "off", "on"} {
		board.Publish("ember/kiln/is/fan", 1, false, is).Wait()
	}
	c := r.Control("kiln.fan")
	assert.Equal(t, "confirmed", c.State.Phase)
	assert.True(t, rig.On(c.State.Want))
	assert.Equal(t, "on, off, on", board.heard())
	assert.Equal(t, []string{"mo switch off>on", "mo switch on>off", "mo switch >on", "kiln add >switch"},
		r.Journal("kiln.fan"))
}

func TestDangerousIsNotResumed(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Device("kiln")
	r.Pub("kiln", key, "ember/kiln/is/fan", "off")
	yes := true
	_, err := r.Owner.Controls().Patch(t.Context(), "kiln.fan", rig.Fields{"dangerous": &yes}, "")
	require.NoError(t, err)
	board := newRelay(r, key)
	r.Switch("kiln.fan", true)
	r.Soon("on", func() bool { return phase(r) == "confirmed" })
	board.Disconnect(0)
	r.Soon("the safe value", func() bool {
		c := r.Control("kiln.fan")
		return c.State.Held != nil && !rig.On(c.State.Want)
	})
	assert.Contains(t, r.Control("kiln.fan").State.Reason.String(), "tap to resume")
	board = newRelay(r, key)
	r.Soon("off on return", func() bool { return strings.HasPrefix(board.heard(), "off") })
}

func TestPresence(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Device("kiln")
	board := newRelay(r, key)
	board.Publish("ember/kiln/r/chamber", 1, false, "400").Wait()
	device := func() shown.Device {
		d, err := r.Owner.Devices().Get(t.Context(), "kiln")
		require.NoError(t, err)
		return d
	}
	assert.True(t, device().State.Online)
	assert.Equal(t, "127.0.0.1", device().State.From)
	live := watch(t, r.Owner)
	board.Disconnect(100)
	live.until("device", `"online":false`)
	live.until("signal", `"fresh":"stale"`)
	assert.Equal(t, "the board said good-bye", device().State.Why)
	r.Soon("the journal has it", func() bool { return r.Journal("kiln")[0] == "kiln offline online>offline" })
}

// Ten takeovers of a session by the same client id: the newest always hears.
func TestTakeoverLeavesNobodyDeaf(t *testing.T) {
	r := rig.New(t)
	key := r.Device("kiln")
	r.Pub("kiln", key, "ember/kiln/is/fan", "off")
	for i := range Count(t, 25, 10_000) {
		board := newRelay(r, key)
		on := i%2 == 0
		r.Switch("kiln.fan", on)
		word := map[bool]string{true: "on", false: "off"}[on]
		if !assert.Eventually(t, func() bool {
			return strings.HasSuffix(strings.TrimSuffix(board.heard(), " retained"), word)
		}, 10*time.Second, time.Millisecond, "takeover %d: deaf", i) {
			return
		}
	}
}

func TestAStalledReaderHoldsNobodyUp(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key, other := r.Device("kiln"), r.Device("slip_tank")
	stalled := r.Paho("kiln", key, "stalled", func(o *paho.ClientOptions) { o.SetOrderMatters(true) })
	block := make(chan struct{})
	defer close(block)
	stalled.Subscribe("ember/kiln/#", 1, func(paho.Client, paho.Message) { <-block }).Wait()
	a, b := r.Paho("kiln", key, "writer"), r.Paho("slip_tank", other, "writer")
	payload := strings.Repeat("x", 250)
	for i := range 3000 {
		tok := a.Publish("ember/kiln/r/word", 1, false, payload)
		if i%50 == 0 {
			require.True(t, tok.WaitTimeout(20*time.Second), "message %d", i) // a slow disk is no stall
		}
	}
	tok := b.Publish("ember/slip_tank/r/level", 1, false, "37")
	require.True(t, tok.WaitTimeout(20*time.Second))
	assert.Equal(t, 37.0, r.Value("slip_tank.level"))
}

func TestExactlyOnceIsStoredOnce(t *testing.T) {
	r := rig.New(t)
	key := r.Device("kiln")
	board := r.Paho("kiln", key, "kiln")
	for i := range 50 {
		tok := board.Publish("ember/kiln/is/fan", 2, false, map[bool]string{true: "on", false: "off"}[i%2 == 1])
		require.True(t, tok.WaitTimeout(20*time.Second))
	}
	r.Soon("all came", func() bool { c := r.Control("kiln.fan"); return rig.On(c.State.Is) })
}

func TestManyClientsLeaveAndTheHubStops(t *testing.T) {
	r := rig.New(t)
	n := Count(t, 40, 1000)
	for i := range n {
		id := "board" + strings.Repeat("x", i%3) + string(rune('a'+i%26)) + string(rune('a'+i/26%26)) +
			string(rune('a'+i/676))
		key := r.Device(id)
		c := r.Paho(id, key, id)
		c.Subscribe("ember/"+id+"/#", 1, nil).Wait()
	}
	begin := time.Now()
	require.NoError(t, r.Service.Close())
	assert.Less(t, time.Since(begin), 20*time.Second, "nobody is waited for for ever")
	r.Restart()
}
