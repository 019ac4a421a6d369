package tests

import (
	"fmt"
	"net"
	"strings"
	"testing"
	"time"

	paho "github.com/eclipse/paho.mqtt.golang"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/client"
	"idleember/core/site"
	"idleember/tests/rig"
)

func TestSignalsAppearByThemselves(t *testing.T) {
	r := rig.New(t)
	key := r.Device("drying_room")
	for _, version := range []string{"311", "5"} {
		out := r.Pub("drying_room", key, "ember/drying_room/r", `{"tempC":21.40,"lid":"shut","vent":true}`, "-V", version)
		assert.Empty(t, out)
		out = r.Pub("drying_room", key, "ember/drying_room/r/Humidity-1", "58.5", "-V", version)
		assert.Empty(t, out)
	}
	s := r.Signal("drying_room.temp_c")
	require.NotNil(t, s)
	assert.Equal(t, site.Number, s.Config.Kind)
	assert.Equal(t, "tempC", s.Config.Raw)
	assert.Equal(t, "Cel", s.Config.Unit)
	assert.Equal(t, 2, s.Config.Decimals)
	assert.True(t, s.Config.New)
	assert.Equal(t, "live", s.State.Fresh)
	assert.Equal(t, "shut", r.Value("drying_room.lid"))
	assert.Equal(t, true, r.Value("drying_room.vent"))
	assert.Equal(t, 58.5, r.Value("drying_room.humidity_1"))
	assert.Equal(t, []string{"drying_room add >signal"}, r.Journal("drying_room.lid"))

	name, unit := "Room", "[degF]"
	_, err := r.Owner.Signals().Patch(t.Context(), "drying_room.temp_c", rig.Fields{"name": &name, "unit": &unit}, "")
	require.NoError(t, err)
	r.Restart()
	s = r.Signal("drying_room.temp_c")
	assert.Equal(t, "Room", s.Config.Name)
	assert.False(t, s.Config.New)
	assert.Equal(t, 21.4, s.State.Value.Num, "last live readings come back")
	assert.Equal(t, "stale", s.State.Fresh)
}

// What a board may get wrong: told to it, counted, shown with its payload, and nothing else is lost.
func TestRefusals(t *testing.T) {
	r := rig.New(t)
	key := r.Device("kiln")
	other := r.Device("slip_tank")
	r.Pub("kiln", key, "ember/kiln/r/chamber", "400")
	sub := r.Sub("kiln", key, "ember/kiln/problem")
	r.Soon("the subscription", func() bool {
		r.Pub("kiln", key, "ember/kiln/r/chamber", "NaN")
		return sub.String() != ""
	})
	for _, tt := range []struct{ topic, payload, why, code string }{
		{"ember/kiln/r/chamber", "", "the payload is empty", "Payload format invalid"},
		{"ember/kiln/r/chamber", "NaN", "not finite", "Payload format invalid"},
		{"ember/kiln/r/chamber", "1e999", "not finite", "Payload format invalid"},
		{"ember/kiln/r/chamber", "hot", "is not a number", "Payload format invalid"},
		{"ember/kiln/r", `{"chamber":1,`, "breaks off", "Payload format invalid"},
		{"ember/kiln/r", `{"chamber":401,"t":4102444800}`, "ahead of the hub's clock", "Payload format invalid"},
		{"ember/kiln/r/Chamber", "1", "which \"chamber\" already has", "Payload format invalid"},
		{"ember/kiln/r/key", "1", "reserved word", "Payload format invalid"},
		{"ember/kiln/is/chamber", "on", "is a signal, not a control", "Payload format invalid"},
		{"ember/kiln/is/fan", "sideways", "not on or off", "Payload format invalid"},
		{"ember/slip_tank/r/level", "1", "kiln may not speak for slip_tank", "Not authorized"},
		{"ember/kiln/want/fan", "on", "only the hub publishes", "Not authorized"},
		{"other/topic", "1", "not this device's", "Not authorized"},
		{"ember/kiln/x/y", "1", "none of", "Topic name invalid"},
	} {
		name := tt.topic + " " + tt.payload
		before := r.Refusals("kiln")[0].N
		if tt.payload == "" {
			out, _ := r.Mosquitto("mosquitto_pub", "kiln", key, "-q", "1", "-V", "5", "-t", tt.topic, "-n")
			assert.Contains(t, strings.ToLower(out), strings.ToLower(tt.code), name)
		} else {
			out := r.Pub("kiln", key, tt.topic, tt.payload, "-V", "5")
			assert.Contains(t, strings.ToLower(out), strings.ToLower(tt.code), name)
			assert.Contains(t, out, tt.why, "%s: the reason is told", name)
			assert.Empty(t, r.Pub("kiln", key, tt.topic, tt.payload, "-V", "311"),
				"%s: version 3.1.1 knows no reasons; an acknowledged drop", name)
		}
		got := r.Refusals("kiln")[0]
		assert.Greater(t, got.N, before, name)
		assert.Equal(t, tt.topic, got.Topic)
		assert.Equal(t, tt.payload, got.Payload, name)
		assert.Contains(t, got.Reason, tt.why, name)
		r.Soon("told on the problem topic: "+name, func() bool { return strings.Contains(sub.String(), tt.why[:5]) })
	}
	out := r.Pub("kiln", key, "ember/kiln/r", `{"chamber":402,"x":null}`, "-V", "5")
	assert.Empty(t, out, "what could be taken was taken, so the message as a whole counts as delivered")
	assert.Equal(t, 402.0, r.Value("kiln.chamber"))

	refused, err := r.Mosquitto("mosquitto_pub", "kiln", other, "-t", "ember/kiln/r/chamber", "-m", "1")
	assert.Error(t, err, "another device's key")
	assert.Contains(t, refused, "bad user name or password")
	refused, err = r.Mosquitto("mosquitto_pub", "kiln", other, "-V", "5", "-t", "ember/kiln/r/chamber", "-m", "1")
	assert.Error(t, err)
	assert.NotEmpty(t, refused)
	assert.Contains(t, r.Refusals("kiln")[0].Reason, "a wrong key came from 127.0.0.1")
	dev, err := r.Owner.Devices().Get(t.Context(), "kiln")
	require.NoError(t, err)
	assert.Greater(t, dev.State.Refused, int64(20))
	n := dev.State.Refused
	r.Restart()
	dev, err = r.Owner.Devices().Get(t.Context(), "kiln")
	require.NoError(t, err)
	assert.GreaterOrEqual(t, dev.State.Refused, n, "counted on over a restart")
}

func TestOnlyOwnTopicsCanBeHeard(t *testing.T) {
	r := rig.New(t)
	key := r.Device("kiln")
	r.Device("slip_tank")
	for _, filter := range []string{"#", "ember/#", "+/kiln/#", "ember/slip_tank/#", "$SYS/#", "$share/a/ember/kiln/#"} {
		out, _ := r.Mosquitto("mosquitto_sub", "kiln", key, "-t", filter, "-W", "2")
		assert.Contains(t, strings.ToLower(out), "denied", filter)
	}
	assert.Contains(t, r.Refusals("kiln")[0].Reason, "ember/kiln/#")
}

func TestManyNamesFromOneBoardAreBounded(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Device("kiln")
	board := r.Paho("kiln", key, "kiln")
	for i := range 3_000 {
		tok := board.Publish(fmt.Sprintf("ember/kiln/r/s%d", i), 1, false, "1")
		if i%60 == 59 {
			require.True(t, tok.WaitTimeout(30*time.Second))
		}
	}
	r.Soon("the last one", func() bool {
		d, err := r.Owner.Devices().Get(t.Context(), "kiln")
		return err == nil && d.State.Refused >= 3_000-64
	})
	assert.Len(t, r.Now().Signals, 64)
	assert.Len(t, r.Refusals("kiln"), 100, "the last ones are kept, not all")
	assert.Contains(t, r.Refusals("kiln")[0].Reason, "one more than the 64 names")
}

func TestLargePayloads(t *testing.T) {
	r := rig.New(t)
	key := r.Device("kiln")
	r.Pub("kiln", key, "ember/kiln/r/chamber", "1")
	big := strings.Repeat("9", 1<<20)
	board := r.Paho("kiln", key, "kiln")
	tok := board.Publish("ember/kiln/r/chamber", 1, false, big)
	require.True(t, tok.WaitTimeout(10*time.Second))
	assert.NoError(t, tok.Error(), "acknowledged once the refusal is recorded, or it would come for ever")
	assert.Contains(t, r.Refusals("kiln")[0].Reason, "at most 65536 are taken")
	assert.Contains(t, r.Refusals("kiln")[0].Topic, "ember/kiln/r/chamber")
	tok = board.Publish("ember/kiln/r/chamber", 1, false, "2")
	require.True(t, tok.WaitTimeout(10*time.Second))
	assert.Equal(t, 2.0, r.Value("kiln.chamber"), "the connection goes on")
}

func TestTwoBoardsWithOneKey(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Device("kiln")
	a, b := r.Paho("kiln", key, "left"), r.Paho("kiln", key, "right")
	a.Publish("ember/kiln/r/chamber", 1, false, "400").Wait()
	b.Publish("ember/kiln/r/chamber", 1, false, "20").Wait()
	why := r.Refusals("kiln")[0].Reason
	assert.Contains(t, why, "two connections at once")
	assert.Contains(t, why, "left at 127.0.0.1")
	assert.Contains(t, why, "give each board a device and key of its own")
	for range 4 {
		r.Paho("kiln", key, "same")
	}
	r.Soon("the takeovers are told", func() bool {
		return strings.Contains(r.Refusals("kiln")[0].Reason, "push each other out")
	})
}

func TestNewKey(t *testing.T) {
	r := rig.New(t)
	key := r.Device("kiln")
	board := r.Paho("kiln", key, "kiln")
	fresh, err := r.Owner.ReplaceKeyWithResponse(t.Context(), "kiln")
	require.NoError(t, err)
	r.Soon("the old board is out", func() bool { return !board.IsConnected() })
	_, err = r.Mosquitto("mosquitto_pub", "kiln", key, "-t", "ember/kiln/r/x", "-m", "1")
	assert.Error(t, err)
	assert.Empty(t, r.Pub("kiln", fresh.JSON201.Key, "ember/kiln/r/x", "1"))
	assert.Contains(t, fresh.JSON201.Connect.Examples[0].Value, fresh.JSON201.Key)
}

// The line that the hub offers for pasting must work when pasted.
func TestConnectionDetailsWork(t *testing.T) {
	r := rig.New(t)
	id := "kiln"
	d, err := r.Owner.AddDevice(t.Context(), rig.Fields{"id": &id, "name": "Kiln", "place": "Kiln shed"})
	require.NoError(t, err)
	c := d.Connect
	words := strings.Fields(c.Examples[0].Value)
	require.Equal(t, "mosquitto_pub", words[0])
	out, err := r.Mosquitto(words[0], id, d.Key, words[9:]...)
	require.NoError(t, err, out)
	assert.Equal(t, 21.4, r.Value("kiln.temperature"))
	require.NotNil(t, c.Remark)
	assert.Contains(t, *c.Remark, "--mqtt :")
	assert.Equal(t, "Kiln shed", r.Now().Places[0].Config.Name)
}

// Clients that break the protocol, or say nothing, get nowhere and harm nobody.
func TestRawGarbage(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Device("kiln")
	connect := append([]byte{0x10, byte(10 + 2 + 4 + 2 + 4 + 2 + len(key)), 0, 4, 'M', 'Q', 'T', 'T', 4, 0xc2, 0, 60, 0, 4,
		'b', 'a', 'd', '1', 0, 4, 'k', 'i', 'l', 'n', 0, byte(len(key))}, key...)
	silent, err := net.Dial("tcp", r.Service.MQTT)
	require.NoError(t, err)
	defer func() { _ = silent.Close() }()
	for name, sent := range map[string][]byte{
		"not mqtt":                    []byte("GET / HTTP/1.1\r\n\r\n"),
		"huge length before connect":  {0x10, 0xff, 0xff, 0xff, 0x7f},
		"endless length":              {0x10, 0xff, 0xff, 0xff, 0xff, 0xff},
		"publish first":               {0x30, 3, 0, 1, 'a'},
		"subscribe cut short":         append(connect[:len(connect):len(connect)], 0x82, 5, 0, 1, 0, 9, 'a'),
		"publish with a broken topic": append(connect[:len(connect):len(connect)], 0x30, 2, 0, 200),
		"publish qos 3":               append(connect[:len(connect):len(connect)], 0x36, 3, 0, 1, 'a'),
		"connect twice":               append(connect[:len(connect):len(connect)], connect...),
		"packet type 0":               append(connect[:len(connect):len(connect)], 0x00, 0),
		"wildcard in the name": append(connect[:len(connect):len(connect)], append([]byte{0x30, 20, 0, 16},
			"ember/kiln/r/a+b42"...)...),
		"ping, then garbage":           append(connect[:len(connect):len(connect)], 0xc0, 0, 0xff, 0xff, 0xff),
		"acknowledging what was never": append(connect[:len(connect):len(connect)], 0x40, 2, 0x12, 0x34),
	} {
		c, err := net.Dial("tcp", r.Service.MQTT)
		require.NoError(t, err)
		_, err = c.Write(sent)
		require.NoError(t, err)
		_ = c.SetReadDeadline(time.Now().Add(300 * time.Millisecond))
		_, _ = c.Read(make([]byte, 100))
		require.NoError(t, c.Close())
		assert.Empty(t, r.Pub("kiln", key, "ember/kiln/r/chamber", "7"), "after: %s", name)
	}
	r.Soon("the wildcard is told", func() bool {
		for _, x := range r.Refusals("kiln") {
			if strings.Contains(x.Reason, "wildcard") {
				return true
			}
		}
		return false
	})
	_ = silent.SetReadDeadline(time.Now().Add(15 * time.Second))
	_, err = silent.Read(make([]byte, 1))
	assert.ErrorContains(t, err, "EOF", "who says nothing is shut out after a while")
}

func TestHistory(t *testing.T) {
	r := rig.New(t)
	key := r.Device("kiln")
	now := time.Now().Truncate(time.Second)
	for i := range 20 {
		r2 := now.Add(time.Duration(i-20) * time.Minute)
		if i == 10 {
			continue
		}
		assert.Empty(t, r.Pub("kiln", key, "ember/kiln/r", fmt.Sprintf(`{"chamber":%d.5,"lid":%q,"t":%d}`, 100+i,
			map[bool]string{true: "open", false: "shut"}[i > 5], r2.UnixMilli())))
	}
	ask := func(series string, points int) client.History {
		from, to := now.Add(-time.Hour), now
		x, err := r.Owner.GetHistoryWithResponse(t.Context(), &client.GetHistoryParams{Series: []string{series}, From: &from,
			To: &to, Points: &points})
		require.NoError(t, err)
		return (*x.JSON200)[0]
	}
	x := ask("kiln.chamber", 100)
	require.Len(t, x.T, 19, "a backlog is stored in its place, sorted")
	assert.Equal(t, now.Add(-20*time.Minute).UnixMilli(), x.T[0])
	assert.Equal(t, 100.5, (*x.V)[0])
	x = ask("kiln.chamber", 6)
	assert.Equal(t, int64(600_000), x.StepMs)
	assert.Equal(t, 19, sum(*x.Count))
	x = ask("kiln.lid", 100)
	assert.Equal(t, []any{"shut", "open"}, *x.V, "of a text only the changes")
	_, err := r.Owner.GetHistoryWithResponse(t.Context(), &client.GetHistoryParams{Series: []string{"kiln.chambr"}})
	assert.ErrorContains(t, err, "did you mean kiln.chamber?")
}

func sum(v []int) (n int) {
	for _, x := range v {
		n += x
	}
	return n
}

// messageTo makes a handler of a library's client out of a function of topic and payload.
func messageTo(f func(topic, payload string)) paho.MessageHandler {
	return func(_ paho.Client, m paho.Message) { f(m.Topic(), string(m.Payload())) }
}
