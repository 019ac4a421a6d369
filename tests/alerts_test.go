package tests

import (
	"bufio"
	"cmp"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"regexp"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/client"
	"idleember/contract/shown"
	"idleember/core/site"
	"idleember/tests/rig"
)

func saveAlert(r *rig.Rig, a site.Alert) shown.Alert {
	if a.Severity == "" {
		a.Severity = site.Warning
	}
	if a.Name == "" {
		a.Name = a.ID
	}
	x, err := r.Owner.Alerts().Save(r.T.Context(), a)
	require.NoError(r.T, err)
	return x
}

func alerts(r *rig.Rig, c *client.Remote) (out []string) {
	x, err := c.GetNowWithResponse(r.T.Context())
	require.NoError(r.T, err)
	for _, a := range x.JSON200.Alerts {
		out = append(out, a.Config.ID+" "+string(a.State.Phase))
	}
	return out
}

func act(r *rig.Rig, c *client.Remote, action client.ActOnAlertsJSONBodyAction, ids ...string) error {
	word := "I look"
	_, err := c.ActOnAlertsWithResponse(r.T.Context(), client.ActOnAlertsJSONRequestBody{Ids: ids, Action: action,
		Word: &word})
	return err
}

// An alert is made on a signal, comes, is acknowledged, is over, survives restarts, and tells its story.
func TestAnAlertFromMakingToStory(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Device("kiln_shed")
	say := func(v string) { r.Pub("kiln_shed", key, "ember/kiln_shed/r/monoxide", v) }
	say("12")
	r.Soon("a signal", func() bool { return len(r.Now().Signals) == 1 })
	_, err := r.Owner.Alerts().Add(t.Context(), site.Alert{ID: "gas", Name: "Gas", Kind: site.AlertAbove,
		Of: "kiln_shed.monoxid", Severity: site.Critical})
	assert.ErrorContains(t, err, `"kiln_shed.monoxid" is no number signal`)
	_, err = r.Owner.Alerts().Add(t.Context(), site.Alert{ID: "gas", Name: "Gas", Kind: site.AlertFormula,
		When: "kiln_shed.monoxide >", Severity: site.Critical})
	assert.ErrorContains(t, err, "when, “kiln_shed.monoxide >”")
	saveAlert(r, site.Alert{ID: "gas", Name: "Gas in the kiln shed", Kind: site.AlertAbove, Of: "kiln_shed.monoxide",
		Limit: 30, Band: 5, Severity: site.Critical, Text: "Open the door and leave."})
	assert.Empty(t, alerts(r, r.Owner))
	say("31")
	r.Soon("active", func() bool { return fmt.Sprint(alerts(r, r.Owner)) == "[gas active]" })
	say("27")
	require.NoError(t, act(r, r.Owner, "acknowledge", "gas"))
	assert.Equal(t, []string{"gas acknowledged"}, alerts(r, r.Owner), "within the dead band it goes on")
	assert.ErrorContains(t, act(r, r.Owner, "acknowledge", "gas"), "acknowledged already")
	r.Restart()
	assert.Equal(t, []string{"gas acknowledged"}, alerts(r, r.Owner))
	say("20")
	r.Soon("over", func() bool { return len(alerts(r, r.Owner)) == 0 })
	x, err := r.Owner.ListAlertEventsWithResponse(t.Context(), &client.ListAlertEventsParams{})
	require.NoError(t, err)
	var story []string
	for _, e := range *x.JSON200 {
		story = append(story, e.What+" "+e.Value)
	}
	assert.Equal(t, []string{"over 20", "acknowledged 27", "raised 31"}, story)
	assert.Contains(t, strings.Join(r.Journal("alert.gas"), "\n"), "acknowledged")

	// Shelved it stays quiet; a guest sees what is open to guests alone, and a member may not take one out of service.
	require.NoError(t, act(r, r.Owner, "shelve", "gas"))
	say("50")
	time.Sleep(300 * time.Millisecond)
	assert.Equal(t, []string{"gas shelved"}, alerts(r, r.Owner))
	require.NoError(t, act(r, r.Owner, "unshelve", "gas"))
	assert.Equal(t, []string{"gas active"}, alerts(r, r.Owner), "it holds still")
	assert.Empty(t, alerts(r, r.Member("lee", "guest")))
	kim := r.Member("kim", "member")
	assert.Equal(t, []string{"gas active"}, alerts(r, kim))
	assert.Error(t, act(r, kim, "retire", "gas"))
	require.NoError(t, act(r, r.Owner, "retire", "gas"))
	say("10")
	say("60")
	assert.Equal(t, []string{"gas out_of_service"}, alerts(r, r.Owner))
}

// What waits behind another message has not arrived either, though it was never tried.
func TestWhatWaitsBehindAnotherIsNotCalledTold(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Device("kiln")
	r.Pub("kiln", key, "ember/kiln/r/chamber", "20")
	r.Soon("a signal", func() bool { return len(r.Now().Signals) == 1 })
	require.NoError(t, saveRoute(r, site.Route{ID: "hook", Name: "Chat", Via: "webhook", To: "http://" + rig.FreePort(t) +
		"/", Inside: true}))
	saveAlert(r, site.Alert{ID: "hot", Kind: site.AlertAbove, Of: "kiln.chamber", Limit: 100})
	saveAlert(r, site.Alert{ID: "hotter", Kind: site.AlertAbove, Of: "kiln.chamber", Limit: 200})
	r.Pub("kiln", key, "ember/kiln/r/chamber", "140")
	r.Soon("the first was tried", func() bool { return strings.Contains(fmt.Sprint(deliveries(r)), "hook waiting: ") })
	r.Pub("kiln", key, "ember/kiln/r/chamber", "240")
	told := func() (out []string) {
		list, err := r.Owner.Alerts().List(t.Context())
		require.NoError(t, err)
		for _, a := range list {
			for _, x := range a.State.Told {
				out = append(out, a.Config.ID+" "+x.Name+" "+x.State)
			}
		}
		return out
	}
	r.Soon("both wait", func() bool { return fmt.Sprint(told()) == "[hot Chat waiting hotter Chat waiting]" })
	r.Restart()
	assert.Equal(t, []string{"hot Chat waiting", "hotter Chat waiting"}, told())
}

// What is compared with what is told in words with the value, in the decimals and unit of the signal.
func TestTheLimitInWords(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Device("kiln")
	r.Pub("kiln", key, "ember/kiln/r/chamber", "20.5")
	r.Soon("a signal", func() bool { return len(r.Now().Signals) == 1 })
	want := map[string]string{}
	for limit, a := range map[string]site.Alert{
		"above 80.0":                       {Kind: site.AlertAbove, Limit: 80},
		"outside 5.0 to 30.0":              {Kind: site.AlertOutside, Limit: 5, Upper: 30},
		"falls by more than 2.0 in 10 min": {Kind: site.AlertFaster, Limit: 2, Falls: true, SpanMS: 600_000},
		"rises to 60.0 within 2 h":         {Kind: site.AlertTrend, Limit: 60, SpanMS: 7200_000},
		"no reading for 1 h":               {Kind: site.AlertSilent, SpanMS: 3600_000},
		"unchanged for 3 h":                {Kind: site.AlertUnchanged, SpanMS: 3 * 3600_000},
	} {
		a.Of, a.ID, a.Name, a.Severity = "kiln.chamber", string(a.Kind), string(a.Kind), site.Info
		saveAlert(r, a)
		want[a.ID] = limit
	}
	list, err := r.Owner.Alerts().List(t.Context())
	require.NoError(t, err)
	got := map[string]string{}
	for _, a := range list {
		if want[a.Config.ID] != "" {
			got[a.Config.ID] = a.State.Limit.String()
		}
	}
	assert.Equal(t, want, got)
}

// Without making: a device that is away. It is tuned under its own id, and may be switched off.
func TestBuiltInAlerts(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	board := newRelay(r, r.Device("kiln"))
	board.Publish("ember/kiln/is/fan", 1, false, "off").Wait()
	board.Publish("ember/kiln/r/chamber", 1, false, "20").Wait()
	r.Soon("a signal", func() bool { return len(r.Now().Signals) == 1 })
	name := "Chamber"
	_, err := r.Owner.Signals().Patch(t.Context(), "kiln.chamber", rig.Fields{"name": &name}, "")
	require.NoError(t, err)
	all, err := r.Owner.Alerts().List(t.Context())
	require.NoError(t, err)
	ids := map[string]bool{}
	for _, a := range all {
		ids[a.Config.ID] = a.State.BuiltIn
	}
	for _, id := range []string{"offline_kiln", "stale_kiln_chamber", "unconfirmed_kiln_fan", "disk_full", "store_damage",
		"clock_wrong", "backup_old"} {
		assert.True(t, ids[id], id)
	}
	saveAlert(r, site.Alert{ID: "offline_kiln", Name: "Kiln is away", Kind: site.AlertOffline, Of: "kiln"})
	saveAlert(r, site.Alert{ID: "stale_kiln_chamber", Name: "x", Kind: site.AlertStale, Of: "kiln.chamber", Off: true})
	board.Disconnect(0)
	r.Soon("away", func() bool { return fmt.Sprint(alerts(r, r.Owner)) == "[offline_kiln active]" })
	r.Restart()
	assert.Equal(t, []string{"offline_kiln active"}, alerts(r, r.Owner))
	err = r.Owner.Alerts().Remove(t.Context(), "offline_kiln")
	require.NoError(t, err, "it becomes as it was")
	r.Soon("with its five minutes", func() bool { return len(alerts(r, r.Owner)) == 0 })
}

// What is learnt late is told once, as such, and raises nothing.
func TestLearntLate(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Device("kiln")
	r.Pub("kiln", key, "ember/kiln/r/chamber", "20")
	r.Soon("a signal", func() bool { return len(r.Now().Signals) == 1 })
	saveAlert(r, site.Alert{ID: "hot", Name: "Too hot", Kind: site.AlertAbove, Of: "kiln.chamber", Limit: 100})
	past := time.Now().Add(-5 * time.Hour)
	var list []string
	for i := range 40 {
		list = append(list, fmt.Sprintf(`{"chamber":%d,"t":%d}`, 90+i, past.Add(time.Duration(i)*time.Second).UnixMilli()))
	}
	r.Pub("kiln", key, "ember/kiln/r", "["+strings.Join(list[:20], ",")+"]")
	r.Pub("kiln", key, "ember/kiln/r", "["+strings.Join(list[20:], ",")+"]")
	events := func() (out []string) {
		x, err := r.Owner.ListAlertEventsWithResponse(t.Context(), &client.ListAlertEventsParams{})
		require.NoError(t, err)
		for _, e := range *x.JSON200 {
			out = append(out, e.What)
		}
		return out
	}
	r.Soon("told", func() bool { return len(events()) > 0 })
	time.Sleep(200 * time.Millisecond)
	assert.Equal(t, []string{"learnt late"}, events(), "once")
	assert.Contains(t, strings.Join(r.Journal("alert.hot"), "\n"), "learnt late")
	d, err := r.Owner.GetDigestWithResponse(t.Context(), nil)
	require.NoError(t, err)
	assert.Contains(t, fmt.Sprint(d.JSON200.Sections), "Too hot: learnt late, 101 at ")
	assert.Empty(t, alerts(r, r.Owner))
}

// The past tells how often an alert would have come.
func TestAnAlertIsTriedOnThePast(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Device("room")
	r.Pub("room", key, "ember/room/r/damp", "40")
	begin := time.Now().Add(-50 * time.Hour).Truncate(time.Hour)
	bring(r, "room.damp", begin, 10_000, func(i int) float64 { return 50 + 20*float64(i%1000)/1000 })
	try := func(a site.Alert) client.AlertTrial {
		a.ID, a.Name, a.Severity = "damp", "Damp", site.Warning
		a.Of = cmp.Or(a.Of, "room.damp")
		to := begin.Add(100_000 * time.Second)
		x, err := r.Owner.TryAlertWithResponse(t.Context(), client.TryAlertJSONRequestBody{Alert: a, From: &begin, To: &to})
		require.NoError(t, err)
		return *x.JSON200
	}
	x := try(site.Alert{Kind: site.AlertAbove, Limit: 65})
	assert.Equal(t, []int{10, 10_000}, []int{x.Count, x.Readings})
	assert.InDelta(t, 10*2490_000, x.ActiveMs, 20_000)
	assert.Equal(t, 69.98, x.Occurrences[0].Worst)
	assert.Zero(t, try(site.Alert{Kind: site.AlertAbove, Limit: 65, AfterMS: 3600_000}).Count)
	for kind, says := range map[site.AlertKind]string{site.AlertTrend: "can be tried on the past",
		"abov": "is unknown; use one of above, below"} {
		_, err := r.Owner.TryAlertWithResponse(t.Context(), client.TryAlertJSONRequestBody{Alert: site.Alert{ID: "x",
			Name: "x", Kind: kind, Of: "room.damp", Severity: site.Info, SpanMS: 3600_000}})
		assert.ErrorContains(t, err, says)
	}

	// Silence, and what is told when it happens.
	r.Pub("room", key, "ember/room/r/beat", "1")
	bring(r, "room.beat", begin, 1000, func(int) float64 { return 1 })
	bring(r, "room.beat", begin.Add(20_000*time.Second), 1000, func(int) float64 { return 1 })
	begun := begin
	x = try(site.Alert{Of: "room.beat", Kind: site.AlertSilent, SpanMS: 600_000})
	require.Equal(t, 2, x.Count, "between the two stretches, and after the second")
	assert.InDelta(t, begun.Add(10_590*time.Second).UnixMilli(), x.Occurrences[0].From, 11_000)
	assert.Equal(t, begun.Add(20_000*time.Second).UnixMilli(), x.Occurrences[0].To)
	assert.Zero(t, try(site.Alert{Of: "room.beat", Kind: site.AlertSilent, SpanMS: 90_000_000}).Count)
	r.Pub("room", key, "ember/room/r/door", "off")
	bringValues(r, "room.door", begin, 600, func(i int) any { return i%100 == 7 })
	x = try(site.Alert{Of: "room.door", Kind: site.AlertEvent})
	assert.Equal(t, 6, x.Count)
	assert.Equal(t, begun.Add(70*time.Second).UnixMilli(), x.Occurrences[0].From)
}

// webhook is another side that takes, refuses or is away as told.
type webhook struct {
	*httptest.Server
	mu     sync.Mutex
	got    []*http.Request
	bodies []string
	status atomic.Int32
}

func newWebhook(t *testing.T) *webhook {
	w := &webhook{}
	w.status.Store(204)
	w.Server = httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, q *http.Request) {
		b, _ := io.ReadAll(q.Body)
		w.mu.Lock()
		w.got, w.bodies = append(w.got, q), append(w.bodies, string(b))
		w.mu.Unlock()
		if w.status.Load() >= 300 {
			rw.Header().Set("Location", "http://127.0.0.1:1/")
			http.Error(rw, "not now", int(w.status.Load()))
		}
	}))
	t.Cleanup(w.Close)
	return w
}

func (w *webhook) count() int {
	w.mu.Lock()
	defer w.mu.Unlock()
	return len(w.got)
}

func saveRoute(r *rig.Rig, x site.Route) error {
	if x.Name == "" {
		x.Name = x.ID
	}
	if x.Least == "" {
		x.Least = site.Info
	}
	_, err := r.Owner.Routes().Save(r.T.Context(), x)
	return err
}

func deliveries(r *rig.Rig) (out []string) {
	x, err := r.Owner.ListDeliveriesWithResponse(r.T.Context(), &client.ListDeliveriesParams{})
	require.NoError(r.T, err)
	for _, d := range *x.JSON200 {
		out = append(out, d.Route+" "+string(d.State)+": "+d.Answer)
	}
	return out
}

// A webhook gets a CloudEvent, signed; what is down is tried again under the same id; addresses in the house need
// consent.
func TestWebhooks(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Device("kiln")
	r.Pub("kiln", key, "ember/kiln/r/chamber", "20")
	r.Soon("a signal", func() bool { return len(r.Now().Signals) == 1 })
	w := newWebhook(t)
	assert.ErrorContains(t, saveRoute(r, site.Route{ID: "hook", Via: "webhook", To: "ftp://x"}), "begins with https://")
	require.NoError(t, saveRoute(r, site.Route{ID: "hook", Via: "webhook", To: w.URL + "/in", Ends: true}))
	test := func() (bool, string) {
		x, err := r.Owner.TestRouteWithResponse(t.Context(), "hook")
		require.NoError(t, err)
		return x.JSON200.Sent, x.JSON200.Answer
	}
	sent, answer := test()
	assert.False(t, sent)
	assert.Contains(t, answer, "127.0.0.1 is an address in the house")
	require.NoError(t, saveRoute(r, site.Route{ID: "hook", Via: "webhook", To: w.URL + "/in", Ends: true, Inside: true}))
	w.status.Store(302)
	sent, answer = test()
	assert.False(t, sent)
	assert.Contains(t, answer, "it points elsewhere")
	w.status.Store(204)
	sent, answer = test()
	assert.True(t, sent)
	assert.Contains(t, answer, "200 OK")

	// RFC 9421 as the other side checks it.
	w.mu.Lock()
	q, body := w.got[len(w.got)-1], w.bodies[len(w.bodies)-1]
	w.mu.Unlock()
	m, err := r.Owner.Messaging().Get(t.Context())
	require.NoError(t, err)
	sum := sha256.Sum256([]byte(body))
	digest := "sha-256=:" + base64.StdEncoding.EncodeToString(sum[:]) + ":"
	assert.Equal(t, digest, q.Header.Get("Content-Digest"))
	params := strings.TrimPrefix(q.Header.Get("Signature-Input"), "ember=")
	mac := hmac.New(sha256.New, []byte(m.State.Signing))
	_, _ = fmt.Fprintf(mac, "\"@method\": POST\n\"@target-uri\": %s/in\n\"content-digest\": %s\n\"@signature-params\": %s",
		w.URL, digest, params)
	assert.Equal(t, "ember=:"+base64.StdEncoding.EncodeToString(mac.Sum(nil))+":", q.Header.Get("Signature"))

	before := w.count()
	w.status.Store(503)
	saveAlert(r, site.Alert{ID: "hot", Name: "Too hot", Kind: site.AlertAbove, Of: "kiln.chamber", Limit: 100,
		Text: "Open the vent."})
	r.Pub("kiln", key, "ember/kiln/r/chamber", "140")
	r.Soon("tried", func() bool { return w.count() > before })
	r.Soon("it waits", func() bool { return strings.Contains(fmt.Sprint(deliveries(r)), "hook waiting: 503") })
	w.status.Store(204)
	r.Soon("tried again", func() bool { return strings.Contains(fmt.Sprint(deliveries(r)), "hook sent: 200") })
	w.mu.Lock()
	first, last := w.bodies[before], w.bodies[len(w.bodies)-1]
	kind := w.got[before].Header.Get("Content-Type")
	w.mu.Unlock()
	assert.Equal(t, first, last, "the same message")
	assert.Contains(t, kind, "application/cloudevents+json")
	var e map[string]any
	require.NoError(t, json.Unmarshal([]byte(last), &e))
	assert.Equal(t, []any{"1.0", "idleember.raised", "hot"}, []any{e["specversion"], e["type"], e["subject"]})
	assert.NotEmpty(t, e["id"])
	data := e["data"].(map[string]any)
	assert.Equal(t, []any{"Too hot", "140", "above 100", "Open the vent."}, []any{data["name"], data["value"],
		data["limit"], data["do"]})
	r.Pub("kiln", key, "ember/kiln/r/chamber", "20")
	r.Soon("over too", func() bool {
		w.mu.Lock()
		defer w.mu.Unlock()
		return strings.Contains(w.bodies[len(w.bodies)-1], "idleember.over")
	})

	// A body of the owner's own; what is never taken is given up and shows.
	w.status.Store(410)
	require.NoError(t, saveRoute(r, site.Route{ID: "hook", Via: "webhook", To: w.URL, Inside: true,
		Body: `{"words":"{subject}"}`}))
	saveAlert(r, site.Alert{ID: "hot", Name: `Too "hot"`, Kind: site.AlertAbove, Of: "kiln.chamber", Limit: 100})
	r.Pub("kiln", key, "ember/kiln/r/chamber", "150")
	r.Soon("given up", func() bool { return strings.Contains(fmt.Sprint(deliveries(r)), "hook failed: 410") })
	w.mu.Lock()
	assert.Contains(t, w.bodies[len(w.bodies)-1], `{"words":"`)
	assert.Contains(t, w.bodies[len(w.bodies)-1], `Too \"hot\", 150`)
	w.mu.Unlock()
}

// A mail server that fails, hangs and recovers: one mail for each, in order, also over a restart of the hub.
func TestMailArrives(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Device("kiln")
	r.Pub("kiln", key, "ember/kiln/r/chamber", "20")
	r.Soon("a signal", func() bool { return len(r.Now().Signals) == 1 })
	post := newPostOffice(t)
	word := "a word"
	conf := site.Messaging{Address: "http://studio.local:8480", Mail: site.Mail{Host: "127.0.0.1", Port: post.port(),
		Security: "none", From: "hub@studio.example"}}
	_, err := r.Owner.Messaging().Put(t.Context(), site.Messaging{Mail: site.Mail{Host: "x", Port: 0}}, "")
	assert.ErrorContains(t, err, "port 0 is none")
	_, err = r.Owner.Messaging().With("password", word).Put(t.Context(), conf, "")
	require.NoError(t, err)
	require.NoError(t, saveRoute(r, site.Route{ID: "mo", Via: "mail", To: "mo@studio.example", Person: "mo", Ends: true}))
	saveAlert(r, site.Alert{ID: "hot", Name: "Too hot", Kind: site.AlertAbove, Of: "kiln.chamber", Limit: 100,
		Severity: site.Critical, Text: "Open the vent."})
	post.refuse.Store(true)
	r.Pub("kiln", key, "ember/kiln/r/chamber", "140")
	r.Soon("it waits", func() bool { return strings.Contains(fmt.Sprint(deliveries(r)), "mo waiting: ") })
	told := func() string {
		list, err := r.Owner.Alerts().List(t.Context())
		require.NoError(t, err)
		for _, a := range list {
			for _, x := range a.State.Told {
				return a.State.Limit.String() + ": " + x.Who + " by " + x.Via + " " + x.State
			}
		}
		return ""
	}
	r.Soon("that is told beside the alert", func() bool { return told() == "above 100: mo by mail waiting" })
	r.Restart()
	assert.Equal(t, "above 100: mo by mail waiting", told(), "also after a restart")
	post.refuse.Store(false)
	r.Soon("it arrived", func() bool { return told() == "above 100: mo by mail " })
	r.Pub("kiln", key, "ember/kiln/r/chamber", "20")
	r.Soon("both, and that somebody signed in", func() bool { return len(post.mails()) == 3 })
	mails := post.mails()
	assert.True(t, strings.Contains(mails[2], "Subject: Over: Studio: Too hot"))
	for _, part := range []string{"Subject: Critical: Studio: Too hot, 140", "To: <mo@studio.example>", "Open the vent.",
		"above 100", "text/html", "image/png", "@studio.example>"} {
		assert.True(t, strings.Contains(mails[0], part), part)
	}
	r.Soon("both are noted as sent", func() bool { return !strings.Contains(fmt.Sprint(deliveries(r)), "waiting") })
}

// postOffice is a mail server that speaks as much of RFC 5321 as it needs.
type postOffice struct {
	net.Listener
	refuse atomic.Bool
	mu     sync.Mutex
	got    []string
}

func newPostOffice(t *testing.T) *postOffice {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	p := &postOffice{Listener: l}
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go p.serve(c)
		}
	}()
	return p
}

func (p *postOffice) port() int { return p.Addr().(*net.TCPAddr).Port }

func (p *postOffice) mails() []string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return append([]string{}, p.got...)
}

var command = regexp.MustCompile(`^(?i)(EHLO|HELO|MAIL|RCPT|DATA|QUIT|RSET|NOOP)`)

func (p *postOffice) serve(c net.Conn) {
	defer func() { _ = c.Close() }()
	say := func(s string) { _, _ = fmt.Fprintf(c, "%s\r\n", s) }
	if p.refuse.Load() {
		say("421 4.3.2 closed for now")
		return
	}
	say("220 studio.example")
	in := bufio.NewReader(c)
	for {
		line, err := in.ReadString('\n')
		if err != nil {
			return
		}
		switch strings.ToUpper(command.FindString(line)) {
		case "EHLO", "HELO":
			say("250 studio.example")
		case "DATA":
			say("354 go on")
			var b strings.Builder
			for {
				line, err := in.ReadString('\n')
				if err != nil {
					return
				}
				if line == ".\r\n" {
					break
				}
				b.WriteString(line)
			}
			p.mu.Lock()
			p.got = append(p.got, b.String())
			p.mu.Unlock()
			say("250 2.0.0 kept")
		case "QUIT":
			say("221 bye")
			return
		default:
			say("250 ok")
		}
	}
}

// Many that wait for a route come in one.
func TestAFloodIsOneMessage(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Device("kiln")
	var names []string
	for i := range 30 {
		names = append(names, fmt.Sprintf(`"s%d":1`, i))
	}
	r.Pub("kiln", key, "ember/kiln/r", "{"+strings.Join(names, ",")+"}")
	r.Soon("signals", func() bool { return len(r.Now().Signals) == 30 })
	w := newWebhook(t)
	require.NoError(t, saveRoute(r, site.Route{ID: "hook", Via: "webhook", To: w.URL, Inside: true}))
	for i := range 30 {
		saveAlert(r, site.Alert{ID: fmt.Sprintf("a%d", i), Kind: site.AlertAbove, Of: fmt.Sprintf("kiln.s%d", i), Limit: 5})
	}
	r.Pub("kiln", key, "ember/kiln/r", strings.ReplaceAll("{"+strings.Join(names, ",")+"}", ":1", ":9"))
	r.Soon("all told", func() bool { return strings.Count(fmt.Sprint(deliveries(r)), "hook sent") == 30 })
	assert.LessOrEqual(t, w.count(), 5)
	w.mu.Lock()
	assert.Contains(t, strings.Join(w.bodies, ""), `"others":[`)
	w.mu.Unlock()
}

// One sentence for a voice, with what somebody may see.
func TestSay(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	board := newRelay(r, r.Device("kiln"))
	board.Publish("ember/kiln/is/fan", 1, false, "off").Wait()
	board.Publish("ember/kiln/r/chamber", 1, false, "412").Wait()
	r.Soon("a signal", func() bool { return len(r.Now().Signals) == 1 })
	name, unit := "Chamber", "Cel"
	_, err := r.Owner.Signals().Patch(t.Context(), "kiln.chamber", rig.Fields{"name": &name, "unit": &unit}, "")
	require.NoError(t, err)
	begin := time.Now().Add(-65 * time.Minute)
	bring(r, "kiln.chamber", begin, 380, func(i int) float64 { return 450 - float64(i)/10 })
	say := func(c *client.Remote, about string) (string, error) {
		x, err := c.SayWithResponse(t.Context(), &client.SayParams{About: about})
		if err != nil {
			return "", err
		}
		return x.JSON200.Sentence, nil
	}
	got, err := say(r.Owner, "kiln")
	require.NoError(t, err)
	assert.Regexp(t, `^Kiln: chamber 412 °C, falling 3\d °C an hour; fan off; no alerts\.$`, got)
	saveAlert(r, site.Alert{ID: "hot", Name: "Too hot", Kind: site.AlertAbove, Of: "kiln.chamber", Limit: 400})
	board.Publish("ember/kiln/r/chamber", 1, false, "413").Wait()
	r.Soon("active", func() bool { return len(alerts(r, r.Owner)) == 1 })
	got, err = say(r.Owner, "Studio")
	require.NoError(t, err)
	assert.Contains(t, got, "Studio: chamber 413 °C")
	assert.Contains(t, got, "alert: Too hot.")
	require.NoError(t, act(r, r.Owner, "acknowledge", "hot"))
	got, err = say(r.Owner, "Studio")
	require.NoError(t, err)
	assert.Contains(t, got, "alert: Too hot (acknowledged).", "it is hot all the same")
	_, err = say(r.Owner, "klin")
	assert.ErrorContains(t, err, "did you mean kiln?")
	_, err = say(r.Member("lee", "guest"), "kiln")
	assert.ErrorContains(t, err, "there is no device", "a guest hears what was opened")
}
