package tests

import (
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	paho "github.com/eclipse/paho.mqtt.golang"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/client"
	"idleember/contract/shown"
	"idleember/core/site"
	"idleember/tests/rig"
)

// elsewhere is Debian's broker on loopback: one that nobody here wrote.
type elsewhere struct {
	t    *testing.T
	r    *rig.Rig
	addr string
	conf string
	run  *rig.Sub
}

func newElsewhere(t *testing.T, r *rig.Rig) *elsewhere {
	b := &elsewhere{t: t, r: r, addr: rig.FreePort(t), conf: filepath.Join(t.TempDir(), "broker.conf")}
	host, port, _ := strings.Cut(b.addr, ":")
	require.NoError(t, os.WriteFile(b.conf, []byte(fmt.Sprintf("listener %s %s\nallow_anonymous true\n", port, host)),
		0o600))
	b.start()
	return b
}

func (b *elsewhere) start() {
	b.run = b.r.Start("/usr/sbin/mosquitto", "-c", b.conf)
	b.r.Soon("the broker elsewhere", func() bool { _, err := b.tryPub("warm/up", "x"); return err == nil })
}

func (b *elsewhere) tryPub(topic, payload string, more ...string) (string, error) {
	host, port, _ := strings.Cut(b.addr, ":")
	return b.r.Run("mosquitto_pub", append([]string{"-h", host, "-p", port, "-q", "1", "-t", topic, "-m", payload},
		more...)...)
}

func (b *elsewhere) pub(topic, payload string, more ...string) {
	out, err := b.tryPub(topic, payload, more...)
	require.NoError(b.t, err, out)
}

func (b *elsewhere) sub(filter string, more ...string) *rig.Sub {
	host, port, _ := strings.Cut(b.addr, ":")
	return b.r.Start("mosquitto_sub", append([]string{"-h", host, "-p", port, "-v", "-q", "1", "-t", filter}, more...)...)
}

// A bought plug that cannot be reflashed: topics and JSON of its own, and a last will for its presence.
func boughtPlug(r *rig.Rig, link client.Link) string {
	link.Presence = &client.Source{Topic: "bought/plug7/there", On: []string{"Up"}, Off: []string{"Gone"}}
	key := r.Linked("plug", link, func(d rig.Fields) { d["lease_ms"] = 0 })
	r.AddSignal("plug", "power", "number", client.Source{Topic: "bought/plug7/report", Pointer: "/energy/power"})
	r.AddControl("plug", "relay", client.Source{Topic: "bought/plug7/report/relay", Pointer: "/sw", On: []string{"1"},
		Off: []string{"0"}},
		client.Target{Topic: "bought/plug7/do", On: "1", Off: "0", Template: `{"sw":{value}}`})
	return key
}

func TestDeviceWithTopicsOfItsOwn(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := boughtPlug(r, client.Link{Kind: site.MQTT})
	commands := r.Sub("plug", key, "bought/plug7/do", "-q", "1", "-i", "firmware")
	require.Empty(t, r.Pub("plug", key, "bought/plug7/report", `{"energy":{"power":41.5,"total":3}}`))
	assert.Equal(t, 41.5, r.Value("plug.power"))
	r.Switch("plug.relay", true)
	r.Soon("the command in its own words", func() bool {
		return strings.Contains(commands.String(),
			`bought/plug7/do {"sw":1}`)
	})
	require.Empty(t, r.Pub("plug", key, "bought/plug7/report/relay", `{"sw":1}`))
	assert.Equal(t, "confirmed", r.Control("plug.relay").State.Phase)
	gateway := r.Paho("plug", key, "gateway")
	commands.Stop()
	r.Soon("the gateway alone", func() bool { return r.Get("plug").State.Connections == 1 })
	say := func(word string) {
		require.True(t, gateway.Publish("bought/plug7/there", 1, true, word).WaitTimeout(20*time.Second))
	}
	say("Gone")
	r.Soon("gone by its own topic, though its gateway is connected", func() bool { return !r.Online("plug") })
	assert.Contains(t, r.Get("plug").State.Why, "presence topic")
	say("Up")
	r.Soon("there again", func() bool { return r.Online("plug") })
	r.Pub("plug", key, "bought/other/report", `1`)
	assert.Contains(t, r.Refusals("plug")[0].Reason, "neither mapped nor below")
	out, _ := r.Mosquitto("mosquitto_sub", "plug", key, "-t", "ember/kiln/#", "-W", "2")
	assert.Contains(t, out, "denied", "others' topics stay closed to it")

	b := client.Trial{Payload: `{"energy":{"power":7}}`, Topic: ptr("bought/plug7/report"),
		Signals: &map[string]client.Source{
			"plug.power": {Topic: "bought/plug7/report", Pointer: "/energy/watts"}, "plug.draft": {Topic: "bought/+/report",
				Pattern: `power":(\d+)`}}}
	tried, err := r.Owner.TryMessageWithResponse(t.Context(), "plug", b)
	require.NoError(t, err)
	require.Len(t, *tried.JSON200, 1)
	assert.Equal(t, "7", (*tried.JSON200)[0].Value, "a draft is tried before it is saved")
	b.Signals = &map[string]client.Source{"plug.power": {Pattern: `(`}}
	_, err = r.Owner.TryMessageWithResponse(t.Context(), "plug", b)
	assert.ErrorContains(t, err, "the pattern cannot be read")
	assert.Equal(t, 41.5, r.Value("plug.power"), "nothing of it was kept")
}

func ptr[T any](v T) *T { return &v }

func TestBrokerElsewhere(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	b := newElsewhere(t, r)
	saved, err := r.Owner.Brokers().With("password", "secret").Add(t.Context(), site.Broker{Name: "Workshop",
		Address: "mqtt://" + b.addr, User: "hub"})
	require.NoError(t, err)
	assert.True(t, saved.State.Password)
	assert.NotContains(t, fmt.Sprint(saved), "secret")
	b.pub("bought/plug7/there", "Up", "-r")
	b.pub("bought/plug7/report", `{"energy":{"power":99}}`, "-r")
	boughtPlug(r, client.Link{Kind: site.Outside, Broker: "workshop"})
	r.Linked("bench", client.Link{Kind: site.Outside, Broker: "workshop"})
	r.Soon("there by its last will", func() bool { return r.Online("plug") })
	assert.Nil(t, r.Value("plug.power"), "what the broker kept is no reading of now")
	commands := b.sub("bought/plug7/do")
	r.Soon("a reading", func() bool {
		b.pub("bought/plug7/report", `{"energy":{"power":41.5}}`)
		return r.Value("plug.power") == 41.5
	})
	r.Switch("plug.relay", true)
	r.Soon("the command", func() bool { return strings.Contains(commands.String(), `{"sw":1}`) })
	b.pub("bought/plug7/report/relay", `{"sw":1}`)
	r.Soon("confirmed", func() bool { return r.Control("plug.relay").State.Phase == "confirmed" })
	b.pub("ember/bench/r", `{"temperature":20.5,"lamp":1}`)
	b.pub("ember/bench/is/lamp2", "off")
	r.Soon("the hub's own topics work there as well", func() bool { return r.Value("bench.temperature") == 20.5 })
	r.Soon("its switch is there", func() bool {
		return slices.ContainsFunc(r.Now().Controls, func(c shown.Control) bool { return c.Config.ID == "bench.lamp2" })
	})
	wants := b.sub("ember/bench/want/#")
	r.Switch("bench.lamp2", true)
	r.Soon("and so do its wants", func() bool { return strings.Contains(wants.String(), "ember/bench/want/lamp2 on") })
	b.pub("bought/plug7/there", "Gone", "-r")
	r.Soon("gone by its last will", func() bool { return !r.Online("plug") })
	b.pub("bought/plug7/there", "Up", "-r")
	r.Soon("and there again", func() bool { return r.Online("plug") })

	b.run.Stop()
	r.Soon("the broker is away", func() bool { return !r.Online("plug") && !r.Online("bench") })
	assert.Contains(t, r.Get("plug").State.Why, "the broker Workshop is away")
	list, err := r.Owner.Brokers().List(t.Context())
	require.NoError(t, err)
	assert.False(t, list[0].State.Connected)
	assert.NotEmpty(t, list[0].State.Why)
	r.Switch("plug.relay", false)
	b.start()
	b.pub("bought/plug7/there", "Up", "-r")
	again := b.sub("bought/plug7/do")
	r.Soon("it connects again and the want of meanwhile is told", func() bool {
		return r.Online("plug") &&
			strings.Contains(again.String(), `{"sw":0}`)
	})
	assert.Contains(t, strings.Join(r.Journal("workshop"), "\n"), "broker connected>away")
	err = r.Owner.Brokers().Remove(t.Context(), "workshop")
	assert.ErrorContains(t, err, "Workshop is used by the device bench; change that first")
}

// A route over a broker elsewhere: its acknowledgement is the answer, and what it could not carry waits.
func TestARouteOverABrokerElsewhere(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Device("kiln")
	r.Pub("kiln", key, "ember/kiln/r/chamber", "20")
	b := newElsewhere(t, r)
	assert.ErrorContains(t, saveRoute(r, site.Route{ID: "wall", Via: "mqtt", To: "studio/alerts", Broker: "workshop"}),
		`no broker "workshop"`)
	_, err := r.Owner.Brokers().Add(t.Context(), site.Broker{Name: "Workshop", Address: "mqtt://" + b.addr})
	require.NoError(t, err)
	assert.ErrorContains(t, saveRoute(r, site.Route{ID: "wall", Via: "mqtt", To: "ember/kiln/want/fan",
		Broker: "workshop"}), "belong to boards")
	require.NoError(t, saveRoute(r, site.Route{ID: "wall", Via: "mqtt", To: "studio/alerts", Broker: "workshop"}))
	saveAlert(r, site.Alert{ID: "hot", Name: "Too hot", Kind: site.AlertAbove, Of: "kiln.chamber", Limit: 100})
	b.run.Stop()
	r.Pub("kiln", key, "ember/kiln/r/chamber", "140")
	r.Soon("it waits", func() bool {
		return strings.Contains(fmt.Sprint(deliveries(r)), "wall waiting: no connection to the broker Workshop")
	})
	b.start()
	heard := b.sub("studio/alerts")
	r.Soon("carried", func() bool {
		return strings.Contains(heard.String(), `"name":"Too hot"`) && strings.Contains(fmt.Sprint(deliveries(r)),
			"wall sent: acknowledged by Workshop")
	})
}

// Two hubs in one group share the readings of a broker; each of them hears of controls.
func TestHubsShareABroker(t *testing.T) {
	t.Parallel()
	first, second := rig.New(t), rig.New(t)
	b := newElsewhere(t, first)
	for _, r := range []*rig.Rig{first, second} {
		_, err := r.Owner.Brokers().Add(t.Context(), site.Broker{Name: "Workshop", Address: "mqtt://" + b.addr,
			Share: "studio"})
		require.NoError(t, err)
		r.Linked("bench", client.Link{Kind: site.Outside, Broker: "workshop"})
		r.AddSignal("bench", "n", "number", client.Source{})
		r.Soon("connected", func() bool {
			list, err := r.Owner.Brokers().List(t.Context())
			return err == nil && list[0].State.Connected
		})
	}
	for i := range 40 {
		b.pub("ember/bench/r/n", fmt.Sprint(i))
		b.pub("ember/bench/is/lamp", "off")
	}
	defer func() {
		if t.Failed() {
			for _, r := range []*rig.Rig{first, second} {
				t.Log(strings.Join(r.Traffic("bench"), "\n"), r.Refusals("bench"))
			}
		}
	}()
	first.Soon("each reading reached one of them", func() bool {
		return len(first.History("bench.n"))+len(second.History("bench.n")) >= 40
	})
	assert.Greater(t, len(first.History("bench.n")), 5)
	assert.Greater(t, len(second.History("bench.n")), 5)
	assert.NotNil(t, first.Control("bench.lamp").State.Is)
	assert.NotNil(t, second.Control("bench.lamp").State.Is)
}

func TestTLSAndWebSocket(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Device("kiln")
	resp, err := http.Get(r.URL() + "/ca.pem")
	require.NoError(t, err)
	pem, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	_ = resp.Body.Close()
	ca := filepath.Join(t.TempDir(), "ca.pem")
	require.NoError(t, os.WriteFile(ca, pem, 0o600))
	host, port, _ := strings.Cut(r.Service.MQTTS, ":")
	pub := func(args ...string) (string, error) {
		return r.Run("mosquitto_pub", append([]string{"-h", host, "-p", port, "-u", "kiln", "-P", key, "-q", "1", "-t",
			"ember/kiln/r/chamber"}, args...)...)
	}
	for i, version := range []string{"mqttv311", "mqttv5"} {
		out, err := pub("--cafile", ca, "-V", version, "-m", fmt.Sprint(100+i))
		require.NoError(t, err, out)
		assert.Equal(t, float64(100+i), r.Value("kiln.chamber"))
	}
	_, err = pub("-m", "1")
	assert.Error(t, err, "plain MQTT is not understood there")
	_, err = pub("--capath", "/etc/ssl/certs", "-m", "1")
	assert.Error(t, err, "nobody else vouches for it")
	pool := x509.NewCertPool()
	require.True(t, pool.AppendCertsFromPEM(pem))
	conn, err := tls.Dial("tcp", r.Service.MQTTS, &tls.Config{RootCAs: pool, ServerName: "localhost"})
	require.NoError(t, err, "it is valid for localhost")
	_ = conn.Close()
	dir := r.Dir
	r.Restart()
	again, err := os.ReadFile(filepath.Join(dir, "tls", "ca.pem"))
	require.NoError(t, err)
	assert.Equal(t, string(pem), string(again), "the authority stays, so boards need it once")
	info, err := os.Stat(filepath.Join(dir, "tls", "ca.key"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())

	web := r.Connect("kiln", key, "browser", func(o *paho.ClientOptions) {
		o.Servers = nil
		o.AddBroker("ws://" + r.Service.HTTP + "/mqtt")
	})
	defer web.Disconnect(100)
	tok := web.Publish("ember/kiln/r/chamber", 1, false, "321")
	require.True(t, tok.WaitTimeout(20*time.Second))
	assert.Equal(t, 321.0, r.Value("kiln.chamber"))
	status, _ := rig.JSON(t, http.DefaultClient, "GET", r.URL()+"/mqtt", "")
	assert.Equal(t, 426, status)
}

// Scripts speak with a token: they see what their member may see, from every device whatever its link, and ask.
func TestScriptsAsk(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Device("kiln")
	board := r.Paho("kiln", key, "kiln")
	require.True(t, board.Publish("ember/kiln/r/chamber", 1, false, "500").WaitTimeout(20*time.Second))
	require.True(t, board.Publish("ember/kiln/is/fan", 1, false, "off").WaitTimeout(20*time.Second))
	pushKey := r.Linked("shed", client.Link{Kind: site.HTTP})
	push(r, "shed", "-u", "shed:"+pushKey, "-H", "Content-Type: application/json", "-d", `{"Temp-1":7.5}`)
	owner := r.Token(r.Owner)
	guest := r.Token(r.Member("lee", client.RoleGuest))

	see := r.Sub("token", owner, "ember/+/+/#")
	r.Soon("what is there", func() bool {
		s := see.String()
		return strings.Contains(s, "ember/kiln/r/chamber 500") && strings.Contains(s, "ember/kiln/is/fan off") &&
			strings.Contains(s, "ember/shed/r/temp_1 7.5")
	})
	push(r, "shed", "-u", "shed:"+pushKey, "-H", "Content-Type: application/json", "-d", `{"Temp-1":8.5}`)
	r.Soon("what changes", func() bool { return strings.Contains(see.String(), "ember/shed/r/temp_1 8.5") })
	saveAlert(r, site.Alert{ID: "hot", Name: "Too hot", Kind: site.AlertAbove, Of: "kiln.chamber", Limit: 400})
	r.Soon("alerts too", func() bool {
		return strings.Contains(see.String(), `ember/hub/alert/hot {"id":"hot"`) && strings.Contains(see.String(),
			`"phase":"active"`)
	})
	require.Empty(t, r.Pub("token", owner, "ember/kiln/ask/fan", "on"))
	assert.True(t, rig.On(r.Control("kiln.fan").State.Want))
	r.Soon("the want", func() bool { return strings.Contains(see.String(), "ember/kiln/want/fan on") })
	assert.Contains(t, strings.Join(r.Journal("kiln.fan"), "\n"), "switch >on")

	for _, tt := range []struct{ token, topic, payload, why string }{
		{owner, "ember/kiln/ask/fan", "perhaps", "not on or off"},
		{owner, "ember/kiln/ask/fun", "on", "did you mean"},
		{owner, "ember/kiln/r/chamber", "1", "on ember/<device>/ask/<control> only"},
		{guest, "ember/kiln/ask/fan", "off", "there is no control"},
	} {
		out := r.Pub("token", tt.token, tt.topic, tt.payload, "-V", "mqttv5", "-d")
		assert.Contains(t, out, "failed", tt.topic)
	}
	out := r.Pub("token", owner, "ember/kiln/ask/fan", "off", "-r", "-V", "mqttv5", "-d")
	assert.Contains(t, out, "failed", "a retained ask is refused")
	assert.True(t, rig.On(r.Control("kiln.fan").State.Want))
	quiet := r.Sub("token", guest, "#")
	time.Sleep(500 * time.Millisecond)
	assert.Empty(t, quiet.String(), "a guest sees only what was opened")
	out = r.Pub("token", "no token", "ember/kiln/ask/fan", "off")
	assert.Contains(t, strings.ToLower(out), "refused")

	asker := r.Paho("token", owner, "asker")
	told := make(chan string, 1)
	require.True(t, asker.Subscribe("ember/kiln/problem", 1, func(_ paho.Client, m paho.Message) {
		told <- string(m.Payload())
	}).WaitTimeout(20*time.Second))
	require.True(t, asker.Publish("ember/kiln/ask/fun", 1, false, "on").WaitTimeout(20*time.Second))
	select {
	case why := <-told:
		assert.Contains(t, why, "did you mean", "clients without reason codes are told by a problem")
	case <-time.After(5 * time.Second):
		t.Error("no problem was told")
	}
	tokens, err := r.Owner.ListTokensWithResponse(t.Context())
	require.NoError(t, err)
	_, err = r.Owner.EndTokenWithResponse(t.Context(), (*tokens.JSON200)[0].Id)
	require.NoError(t, err)
	r.Soon("an ended token ends its connection", func() bool { return !asker.IsConnected() })
}
