package tests

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/client"
	"idleember/core/access"
	"idleember/core/site"
	"idleember/serve"
	"idleember/tests/rig"
)

// told is what came over a webhook, as What: Name, also of what came in one.
func (w *webhook) told() (out []string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, b := range w.bodies {
		var x struct {
			Data struct {
				What, Name string
				Others     []struct{ What, Name string }
			}
		}
		if json.Unmarshal([]byte(b), &x) != nil {
			continue
		}
		out = append(out, x.Data.What+": "+x.Data.Name)
		for _, o := range x.Data.Others {
			out = append(out, o.What+": "+o.Name)
		}
	}
	return out
}

// What is told in one moment, and what has the id of something that was taken away, comes all the same.
func TestNoMessageStandsInForAnother(t *testing.T) {
	t.Parallel()
	r, l, say := hotKiln(t)
	w := newWebhook(t)
	require.NoError(t, saveRoute(r, site.Route{ID: "log", Via: "webhook", To: w.URL, Inside: true}))
	_, err := r.Owner.Rules().Add(t.Context(), site.Rule{ID: "say", Name: "Say",
		Stages: []site.Stage{{When: "kiln.chamber > 500", Actions: []site.Action{
			{Kind: site.DoMessage, ID: "kiln", Text: "one"}, {Kind: site.DoMessage, ID: "kiln", Text: "two"},
			{Kind: site.DoMessage, ID: "kiln", Text: "three"}}}}})
	require.NoError(t, err)
	say("600")
	r.Soon("the alert, and the rule's three", func() bool { return len(w.told()) == 4 })
	assert.ElementsMatch(t, []string{"raised: Too hot", "message: one", "message: two", "message: three"}, w.told())

	var links []string
	for i := range 2 {
		err := r.Owner.Alerts().Remove(t.Context(), "hot")
		require.NoError(t, err)
		require.NoError(t, saveRoute(r, site.Route{ID: "mo", Via: "mail", To: "mo@studio.example", Person: "mo"}))
		say("20")
		saveAlert(r, site.Alert{ID: "hot", Name: "Too hot", Kind: site.AlertAbove, Of: "kiln.chamber", Limit: 100})
		say("150")
		r.Soon("it is told", func() bool { return len(w.told()) == 5+i && len(l.mails()) == 1+i })
		links = append(links, letterLink.FindStringSubmatch(l.mails()[i].text)[1])
	}
	body, _ := json.Marshal(map[string]string{"link": links[0]})
	status, got := rig.JSON(t, http.DefaultClient, "POST", r.URL()+"/api/v1/letters/acknowledge", string(body))
	assert.Equal(t, 400, status, got)
	assert.Equal(t, []string{"hot active"}, alerts(r, r.Owner), "its message was about the one before")
	d, err := r.Owner.ListDeliveriesWithResponse(t.Context(), &client.ListDeliveriesParams{})
	require.NoError(t, err)
	ids := map[string]bool{}
	for _, x := range *d.JSON200 {
		assert.False(t, ids[x.Message], "%s twice", x.Message)
		ids[x.Message] = true
	}
}

// Making something replaces nothing, whatever it is called; changing needs what is there, as it is.
func TestMakingReplacesNothing(t *testing.T) {
	t.Parallel()
	r, _, _ := hotKiln(t)
	for _, c := range []string{"fan", "lamp", "fan_2", "lamp_2"} {
		r.AddControl("kiln", c, client.Source{}, client.Target{})
	}
	ctx := t.Context()
	token := r.Token(r.Owner)
	for path, form := range map[string]string{
		"alerts":     `{"id":%q,"name":%q,"kind":"above","of":"kiln.chamber","severity":"warning","limit":%d}`,
		"routes":     `{"id":%q,"name":%q,"via":"mail","to":"mo%[3]d@studio.example","least":"info"}`,
		"rules":      `{"id":%q,"name":%q,"stages":[{"when":"kiln.chamber > %d","actions":[{"kind":"message","id":"kiln","text":"hot"}]}]}`,
		"presets":    `{"id":%q,"name":%q,"actions":[{"kind":"control","id":"kiln.fan","to":0,"for_ms":%d000}]}`,
		"groups":     `{"id":%q,"name":%q,"limit":0,"pause_ms":%d000,"members":[{"control":"kiln.fan"},{"control":"kiln.lamp"}]}`,
		"settings":   `{"id":%q,"name":%q,"kind":"number","min":0,"max":99,"default":%d}`,
		"dashboards": `{"id":%q,"name":%q,"tiles":[{"id":"a","kind":"text","text":"%[3]d","x":0,"y":0,"w":2,"h":1}]}`,
	} {
		send := func(id string, n int, match string) (int, string, string) {
			body := fmt.Sprintf(form, id, "Vent", n)
			if n == 2 { // a control is in one group
				body = strings.NewReplacer("kiln.fan", "kiln.fan_2", "kiln.lamp", "kiln.lamp_2").Replace(body)
			}
			method, to := "POST", path
			if match != "" {
				method, to = "PUT", path+"/"+id
			}
			q, _ := http.NewRequestWithContext(ctx, method, r.URL()+"/api/v1/"+to, strings.NewReader(body))
			q.Header.Set("Authorization", "Bearer "+token)
			q.Header.Set("Content-Type", "application/json")
			if match != "" {
				q.Header.Set("If-Match", match)
			}
			resp, err := http.DefaultClient.Do(q)
			require.NoError(t, err)
			defer func() { _ = resp.Body.Close() }()
			var x struct {
				ID, Version, Detail string
				Config              struct{ ID string }
			}
			got, _ := io.ReadAll(resp.Body)
			require.NoError(t, json.Unmarshal(got, &x), "%s", got)
			return resp.StatusCode, cmp.Or(x.Config.ID, x.ID, x.Detail), x.Version
		}
		free, again := "", "vent_2"
		if path == "settings" {
			free, again = "kiln.", "kiln.vent_2"
		}
		status, first, version := send(free, 1, "")
		require.Equal(t, 201, status, "%s: %s", path, first)
		status, second, _ := send(free, 2, "")
		require.Equal(t, 201, status, path)
		assert.Equal(t, again, second, path)
		status, why, _ := send(first, 3, "")
		assert.Equal(t, 409, status, path)
		assert.Contains(t, why, first+" (Vent) is there already")
		status, _, now := send(first, 1, version)
		assert.Equal(t, 200, status, path)
		assert.Equal(t, version, now, "%s: nothing had changed", path)
		status, _, _ = send(first, 4, version)
		assert.Equal(t, 200, status, path)
		status, why, _ = send(first, 5, version)
		assert.Equal(t, 409, status, "%s, somebody changed it", path)
		assert.Contains(t, why, "changed this meanwhile")
		status, _, _ = send("nowhere", 6, version)
		assert.Equal(t, 409, status, "%s, somebody removed it", path)
	}
	_, err := r.Owner.Places().Add(ctx, site.Place{Name: "Attic"})
	require.NoError(t, err)
	b := site.Broker{Name: "Yard", Address: "mqtt://127.0.0.1:1"}
	_, err = r.Owner.Brokers().Add(ctx, b)
	require.NoError(t, err)
	_, err = r.Owner.Brokers().Add(ctx, b)
	assert.ErrorContains(t, err, "the broker yard (Yard) is there already")
	_, err = r.Owner.Places().Add(ctx, site.Place{Name: "attic"})
	assert.ErrorContains(t, err, "is there already")
	p, err := r.Owner.Places().Add(ctx, site.Place{Name: "Attic!"})
	require.NoError(t, err)
	assert.Equal(t, "attic_2", p.Config.ID)
}

// A wall tells of what its tile of alerts looks at, and of anything critical that its maker may see, shown on it or
// not.
func TestAWallTellsWhatIsCritical(t *testing.T) {
	t.Parallel()
	r := studio(t)
	saveAlert(r, site.Alert{ID: "gas", Name: "Carbon monoxide", Kind: site.AlertAbove, Of: "kiln.chamber", Limit: 400,
		Severity: site.Critical})
	saveAlert(r, site.Alert{ID: "warm", Name: "Warm", Kind: site.AlertAbove, Of: "kiln.chamber", Limit: 300})
	saveAlert(r, site.Alert{ID: "low", Name: "Low", Kind: site.AlertBelow, Of: "shed.level", Limit: 50})
	r.Soon("all three", func() bool { return len(alerts(r, r.Owner)) == 3 })
	place := func(device string) string {
		d, err := r.Owner.Devices().Get(t.Context(), device)
		require.NoError(t, err)
		return d.Config.Place
	}
	name := "Yard"
	_, err := r.Owner.Devices().Patch(t.Context(), "shed", rig.Fields{"place": &name}, "")
	require.NoError(t, err)
	require.NotEqual(t, place("kiln"), place("shed"))
	look := func(c *client.Remote, of ...string) (ids []string) {
		id := fmt.Sprintf("wall_%d", len(of))
		_, err := save(c, site.Dashboard{ID: id, Name: id, Shared: site.Household,
			Tiles: []site.Tile{{ID: "a", Kind: site.TileAlerts, Of: of, W: 4, H: 2}}})
		require.NoError(t, err)
		w, err := c.AddWallWithResponse(t.Context(), id, client.AddWallJSONRequestBody{Name: "hall"})
		require.NoError(t, err)
		status, now := rig.JSON(t, http.DefaultClient, "GET", r.URL()+"/api/v1/now", "", "Authorization",
			"Bearer "+w.JSON201.Key)
		require.Equal(t, 200, status)
		for _, a := range now["alerts"].([]any) {
			ids = append(ids, a.(map[string]any)["config"].(map[string]any)["id"].(string))
		}
		if len(of) > 0 {
			assert.Contains(t, fmt.Sprint(now["places"]), "Yard", "it says what it looks at")
		}
		return ids
	}
	assert.Equal(t, []string{"gas", "low", "warm"}, look(r.Owner))
	assert.Equal(t, []string{"gas", "low"}, look(r.Owner, place("shed")))
	kim := r.Member("kim", client.RoleMember)
	_, err = r.Owner.Rights().Put(t.Context(), site.Rights{Lines: []site.Right{{Who: "kim", Of: "kiln",
		May: site.GuestsNothing}}}, "")
	require.NoError(t, err)
	err = r.Owner.Dashboards().Remove(t.Context(), "wall_0")
	require.NoError(t, err)
	assert.Equal(t, []string{"low"}, look(kim), "not more than its maker sees")
}

// Where many wait they come in one: the worst first, and all of them named, by every way that somebody may read them.
func TestTheWorstComesFirst(t *testing.T) {
	t.Parallel()
	r, l, _ := hotKiln(t)
	w, own := newWebhook(t), newWebhook(t)
	w.status.Store(503)
	own.status.Store(503)
	mail := r.Service.Hub.Site().Messaging
	broken := mail
	broken.Mail.CA = ""
	require.NoError(t, messaging(r, broken))
	require.NoError(t, saveRoute(r, site.Route{ID: "hook", Via: "webhook", To: w.URL, Inside: true, RemindMS: 60_000}))
	require.NoError(t, saveRoute(r, site.Route{ID: "chat", Via: "webhook", To: own.URL, Inside: true,
		Type: "application/json", Body: `{"text":"{subject} [{severity}] {name}: {text}"}`}))
	require.NoError(t, saveRoute(r, site.Route{ID: "mo", Via: "mail", To: "mo@studio.example", Person: "mo"}))
	for i := range 9 {
		saveAlert(r, site.Alert{ID: fmt.Sprintf("a%d", i), Name: fmt.Sprintf("Alert %d", i), Kind: site.AlertBelow,
			Of: "kiln.chamber", Limit: 30, Severity: []site.Severity{site.Info, site.Warning}[i%2]})
	}
	saveAlert(r, site.Alert{ID: "gas", Name: "Gas", Kind: site.AlertBelow, Of: "kiln.chamber", Limit: 30,
		Severity: site.Critical})
	r.Soon("all wait", func() bool {
		d := fmt.Sprint(deliveries(r))
		return strings.Count(d, "hook waiting") == 10 && strings.Count(d, "chat waiting") == 10 && strings.Count(d,
			"mo waiting") == 10
	})
	d, err := r.Owner.GetDigestWithResponse(t.Context(), &client.GetDigestParams{})
	require.NoError(t, err)
	for _, s := range d.JSON200.Sections[:2] {
		assert.Contains(t, s.Lines[0].Text, "Critical: Gas", s.Title)
	}
	w.status.Store(204)
	own.status.Store(204)
	require.NoError(t, messaging(r, mail)) // what waits is tried at once
	r.Soon("all told", func() bool {
		d := fmt.Sprint(deliveries(r))
		return strings.Count(d, "hook sent")+strings.Count(d, "chat sent")+strings.Count(d, "mo sent") == 30
	})
	assert.Equal(t, "raised: Gas", w.told()[len(w.told())-10])
	assert.Equal(t, []string{"Alert 1", "Alert 3", "Alert 5", "Alert 7"}, func() (out []string) {
		for _, x := range w.told()[len(w.told())-9:][:4] {
			out = append(out, strings.TrimPrefix(x, "raised: "))
		}
		return out
	}(), "then the warnings")
	own.mu.Lock()
	chat := own.bodies[len(own.bodies)-1]
	own.mu.Unlock()
	assert.True(t, strings.HasPrefix(chat, `{"text":"Critical: Studio: Gas, 20`), chat)
	assert.Contains(t, chat, "and 9 more [critical] Gas, Alert 1")
	last := l.mails()[len(l.mails())-1]
	assert.True(t, strings.HasPrefix(last.subject, "Critical: Studio: Gas, 20"), last.subject)
	for i := range 9 {
		assert.Contains(t, chat, fmt.Sprintf("Alert %d", i))
		assert.Contains(t, last.text, fmt.Sprintf("Alert %d", i))
	}
}

// Who was told is told that somebody has it in hand, but not who did; a reminder of something critical says so.
func TestTheOthersHearWhoHasItInHand(t *testing.T) {
	t.Parallel()
	r, l, say := hotKiln(t)
	kim := r.Member("kim", client.RoleMember)
	w := newWebhook(t)
	for _, x := range []site.Route{{ID: "mo", Via: "mail", To: "mo@studio.example", Person: "mo"}, {ID: "kim", Via: "mail",
		To: "kim@studio.example", Person: "kim"},
		{ID: "log", Via: "webhook", To: w.URL, Inside: true}, {ID: "later", Via: "mail", To: "later@studio.example",
			AfterMS: 3600_000}} {
		require.NoError(t, saveRoute(r, x))
	}
	say("150")
	r.Soon("all told", func() bool { return len(l.mails()) == 2 && w.count() == 1 })
	require.NoError(t, act(r, kim, "acknowledge", "hot"))
	r.Soon("the others too", func() bool { return len(l.mails()) == 3 && w.count() == 2 })
	assert.Equal(t, "Acknowledged: Studio: Too hot", l.mails()[2].subject)
	assert.Contains(t, l.mails()[2].text, "Acknowledged by kim: I look")
	assert.Equal(t, "acknowledged: Too hot", w.told()[1])
	r.Restart()
	say("151")
	time.Sleep(time.Second)
	var subjects []string
	for _, m := range l.mails() {
		subjects = append(subjects, m.subject)
	}
	assert.Equal(t, 1, strings.Count(fmt.Sprint(subjects), "Acknowledged"), "%v", subjects)
}

// What a rule says keeps to the places and the quiet hours of a route as alerts do; what is grave does not wait.
func TestRulesKeepQuietHours(t *testing.T) {
	t.Parallel()
	now := time.Now
	var ahead atomic.Int64
	r := rig.With(t, func(o *serve.Options) {
		by := time.Duration(ahead.Load())
		o.Now = func() time.Time { return now().Add(by) }
		o.ClockSet = func() bool { return true }
	})
	w := newWebhook(t)
	key := r.Device("kiln")
	r.Pub("kiln", key, "ember/kiln/r/chamber", "20")
	r.Soon("a signal", func() bool { return len(r.Now().Signals) == 1 })
	local := now().In(r.Service.Hub.Site().Hub.Location())
	place := r.Service.Hub.Site().Devices["kiln"].Place
	quiet := site.Route{Via: "webhook", Inside: true, From: local.Add(-time.Hour).Format("15:04"),
		Until: local.Add(2 * time.Hour).Format("15:04")}
	for id, change := range map[string]func(*site.Route){"quiet": func(*site.Route) {},
		"here": func(x *site.Route) { x.From, x.Until, x.Places = "", "", []string{place} },
		"yard": func(x *site.Route) { x.From, x.Until, x.Places = "", "", []string{"yard"} }} {
		x := quiet
		x.ID, x.To = id, w.URL+"/"+id
		change(&x)
		require.NoError(t, saveRoute(r, x))
	}
	_, err := r.Owner.Rules().Add(t.Context(), site.Rule{ID: "say", Name: "Say",
		Stages: []site.Stage{{When: "kiln.chamber > 500", Actions: []site.Action{
			{Kind: site.DoMessage, ID: "kiln", Text: "mild"}, {Kind: site.DoMessage, ID: "kiln", Text: "grave", Grave: true}}}}})
	require.NoError(t, err)
	r.Pub("kiln", key, "ember/kiln/r/chamber", "600")
	came := func() (out []string) {
		w.mu.Lock()
		defer w.mu.Unlock()
		for i, q := range w.got {
			var x struct{ Data struct{ Name string } }
			_ = json.Unmarshal([]byte(w.bodies[i]), &x)
			out = append(out, q.URL.Path+" "+x.Data.Name)
		}
		return out
	}
	r.Soon("what may come now", func() bool { return len(came()) == 3 })
	time.Sleep(time.Second)
	assert.ElementsMatch(t, []string{"/here mild", "/here grave", "/quiet grave"}, came())
	// what waits for a server is tried, what is held is not
	require.NoError(t, saveRoute(r, site.Route{ID: "other", Via: "webhook", To: w.URL, Inside: true}))
	r.Restart()
	time.Sleep(time.Second)
	assert.Len(t, came(), 3)
	ahead.Store(int64(2*time.Hour + time.Minute))
	r.Restart()
	r.Soon("when the quiet hours are over", func() bool { return len(came()) == 4 })
	assert.Equal(t, "/quiet mild", came()[3])
}

// An alert of a formula is tried on the past of all that it names.
func TestAFormulaIsTriedOnThePast(t *testing.T) {
	t.Parallel()
	r := studio(t)
	from := time.Now().Add(-2 * time.Hour).Truncate(time.Minute)
	bring(r, "kiln.chamber", from, 60, func(i int) float64 {
		return map[bool]float64{true: 500, false: 20}[i >= 20 && i < 40]
	})
	bring(r, "shed.level", from, 60, func(i int) float64 { return map[bool]float64{true: 5, false: 90}[i >= 30] })
	to := from.Add(70 * time.Minute)
	try := func(c *client.Remote, when string) (*client.AlertTrial, error) {
		x, err := c.TryAlertWithResponse(t.Context(), client.TryAlertJSONRequestBody{Alert: site.Alert{ID: "x", Name: "X",
			Kind: site.AlertFormula, Severity: site.Warning, When: when}, From: &from, To: &to})
		if err != nil {
			return nil, err
		}
		return x.JSON200, nil
	}
	got, err := try(r.Owner, "kiln.chamber > 100 and shed.level < 10")
	require.NoError(t, err)
	require.Len(t, got.Occurrences, 1)
	assert.Equal(t, 1, got.Count)
	assert.Equal(t, 120, got.Readings)
	_, err = try(r.Owner, "kiln.chamber >")
	assert.Error(t, err)
	_, err = try(r.Owner, `kiln.chamber.state == "stale"`)
	assert.ErrorContains(t, err, "no history is kept")
	ctx, stop := context.WithTimeout(t.Context(), 30*time.Millisecond)
	defer stop()
	_, err = r.Service.Archive.TryAlert(ctx, access.HubActor(), site.Alert{ID: "x", Name: "X", Kind: site.AlertFormula,
		Severity: site.Warning, When: "kiln.chamber > 100 and hour >= 0"}, from.AddDate(-20, 0, 0), to)
	assert.ErrorIs(t, err, context.DeadlineExceeded, "twenty years in which nothing came")
	kim := r.Member("kim", client.RoleMember)
	_, err = r.Owner.Rights().Put(t.Context(), site.Rights{Lines: []site.Right{{Who: "kim", Of: "kiln",
		May: site.GuestsNothing}}}, "")
	require.NoError(t, err)
	_, err = try(kim, "kiln.chamber > 100 and shed.level < 10")
	assert.Error(t, err)
}

// SenML: names of other bases are kept apart, and units are turned into the signal's or refused (RFC 8428, RFC 8798).
func TestNothingOfSenMLIsMixedUp(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Device("shed")
	push := func(body string) (int, map[string]any) {
		q, _ := http.NewRequestWithContext(t.Context(), "POST", r.URL()+"/push/shed", strings.NewReader(body))
		q.Header.Set("Authorization", "Bearer "+key)
		q.Header.Set("Content-Type", "application/senml+json")
		resp, err := http.DefaultClient.Do(q)
		require.NoError(t, err)
		defer func() { _ = resp.Body.Close() }()
		var out map[string]any
		_ = json.NewDecoder(resp.Body).Decode(&out)
		return resp.StatusCode, out
	}
	status, got := push(`[{"bn":"urn:dev:a:","n":"temp","u":"Cel","v":21.5},{"n":"hum","u":"%RH","v":50},{"bn":"urn:dev:b:","n":"temp","u":"Cel","v":4},{"n":"hum","u":"%RH","v":80}]`)
	require.Less(t, status, 300, got)
	r.Soon("four signals", func() bool { return len(r.Now().Signals) == 4 })
	assert.Equal(t, 21.5, r.Value("shed.temp"))
	assert.Equal(t, 4.0, r.Value("shed.urn_dev_b_temp"))
	assert.Equal(t, "%", r.Signal("shed.hum").Config.Unit)
	long := strings.Repeat("x", 3000)
	status, got = push(`[{"bn":"` + long + `:","n":"temp","u":"Cel","v":1}]`)
	assert.NotEqual(t, 1.0, r.Value("shed.temp"), "%d %v", status, got)
	status, got = push(`[{"bn":"urn:dev:b:","n":"temp","u":"K","v":280.15},{"bn":"urn:dev:a:","n":"temp","u":"V","v":3}]`)
	assert.Contains(t, fmt.Sprint(got), "came in \"V\", and the signal is in \"Cel\"", status)
	r.Soon("kelvins", func() bool { return r.Value("shed.urn_dev_b_temp") == 7.0 })
	assert.Equal(t, 21.5, r.Value("shed.temp"), "volts are no temperature")
	r.Restart()
	status, got = push(`[{"bn":"urn:dev:b:","n":"temp","u":"Cel","v":9}]`)
	require.Less(t, status, 300, got)
	r.Soon("after a restart too", func() bool { return r.Value("shed.urn_dev_b_temp") == 9.0 })
	assert.Len(t, r.Now().Signals, 4)
}

// SenML in CBOR over MQTT, as a peer that is not ours writes it, with decimal fractions and a sum.
func TestSenMLInCBOROverMQTT(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Device("shed")
	out, err := r.Run("/usr/bin/python3", "peers/senml_cbor.py", r.Service.MQTT, "shed", key)
	require.NoError(t, err, out)
	require.Equal(t, "published", strings.TrimSpace(out))
	r.Soon("five signals", func() bool { return len(r.Now().Signals) == 5 })
	for id, want := range map[string]any{"shed.level": 1.25, "shed.power": 40.0, "shed.power_sum": 7200.5,
		"shed.lid": true, "shed.label": "bin three"} {
		assert.Equal(t, want, r.Value(id), id)
	}
	assert.Equal(t, "J", r.Signal("shed.power_sum").Config.Unit)
}

// A clock that was never set, or that counts from 2000, is said in the reply, in the traffic and on the device's page.
// Times as texts are times, numbers as texts numbers where the signal is one.
func TestOddTimesAreSaid(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Linked("shed", client.Link{Kind: site.HTTP})
	say := func(body string) (string, string) {
		return push(r, "shed", "-u", "shed:"+key, "-H", "Content-Type: application/json", "-d", body)
	}
	r.AddSignal("shed", "temperature", "number", client.Source{})
	status, body := say(`{"temperature":"21.4","label":"7"}`)
	require.Equal(t, "200", status, body)
	assert.Equal(t, []any{21.4, "7"}, []any{r.Value("shed.temperature"), r.Value("shed.label")})
	_, body = say(`{"t":"21.4"}`)
	assert.Contains(t, body, "t is the time, and nothing else came")
	past := time.Now().Add(-time.Hour).UTC().Truncate(time.Second)
	status, body = say(`[{"t":"` + past.Format(time.RFC3339) + `","temperature":"19.5"},{"t":"` +
		past.Add(time.Minute).Format("2006-01-02 15:04:05+00:00") + `","temperature":19}]`)
	require.Equal(t, "200", status, body)
	got := r.History("shed.temperature")
	assert.Equal(t, []any{19.5, 19.0}, []any{got[past.UnixMilli()], got[past.Add(time.Minute).UnixMilli()]})
	assert.NotContains(t, body, "remarks")
	assert.Empty(t, r.Get("shed").State.Clock)

	_, body = say(`{"t":12,"temperature":20}`)
	assert.Contains(t, body, `"remarks":["its time is 1970-01-01T00:00:12Z: the board's clock was never set`)
	assert.Contains(t, r.Get("shed").State.Clock, "was never set")
	_, body = push(r, "shed", "-u", "shed:"+key, "-H", "Accept: text/plain", "-H", "Content-Type: application/json", "-d",
		fmt.Sprintf(`[{"t":%d,"temperature":20},{"t":%d,"temperature":21}]`, time.Now().Unix()-946684800,
			time.Now().Unix()-946684790))
	assert.Contains(t, body, "remark=its time is ")
	assert.Contains(t, body, "the board counts from 2000; add 946684800 seconds, or leave the time out (and so 1 more)")
	assert.Contains(t, strings.Join(r.Traffic("shed"), "\n"), "counts from 2000")
	assert.Contains(t, r.Get("shed").State.Clock, "counts from 2000")
	_, body = say(`{"t":"2026-03-02 09:00:00","temperature":20}`)
	assert.Contains(t, body, "has no zone")
}
