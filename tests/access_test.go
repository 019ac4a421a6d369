package tests

import (
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/http/cookiejar"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/client"
	"idleember/core/site"
	"idleember/tests/rig"
)

func TestFirstStart(t *testing.T) {
	r := rig.Bare(t)
	state, err := r.Owner.GetSetupWithResponse(t.Context())
	require.NoError(t, err)
	assert.True(t, state.JSON200.Needed)
	assert.Contains(t, state.JSON200.Zones, "Europe/Vienna")
	code := r.Service.People.SetupCode()
	good := client.Setup{Code: code, Name: "Rowan Lane studio", Latitude: 48.2, Longitude: 16.4, Zone: "Europe/Vienna",
		Account: "mo", Password: rig.Password}
	for field, bad := range map[string]func(*client.Setup){
		"wrong code": func(s *client.Setup) { s.Code = "abcd-efgh-ijkl" },
		"password":   func(s *client.Setup) { s.Password = "short" },
		"zone":       func(s *client.Setup) { s.Zone = "Middle/Earth" },
		"latitude":   func(s *client.Setup) { s.Latitude = 200 },
		"account":    func(s *client.Setup) { s.Account = "Mo the potter" },
		"name":       func(s *client.Setup) { s.Name = " " },
	} {
		b := good
		bad(&b)
		_, err := r.Owner.SetUpWithResponse(t.Context(), b)
		var p *client.ProblemError
		require.ErrorAs(t, err, &p, field)
		if field != "wrong code" {
			require.NotNil(t, p.Field, field)
			assert.Equal(t, field, *p.Field)
		} else {
			assert.Equal(t, 403, p.Status)
		}
	}
	_, err = r.Client().GetNowWithResponse(t.Context())
	assert.ErrorContains(t, err, "sign in first", "nothing is to be seen before")
	me, err := r.Owner.SetUpWithResponse(t.Context(), good)
	require.NoError(t, err)
	assert.Equal(t, client.RoleOwner, me.JSON201.Role)
	_, err = r.Client().SetUpWithResponse(t.Context(), good)
	assert.ErrorContains(t, err, "has its owner already", "the code is void")
	hub, err := r.Owner.Hub().Get(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "Rowan Lane studio", hub.Config.Name)
	assert.False(t, hub.State.Open)
	r.Restart()
	assert.Empty(t, r.Service.People.SetupCode())
}

func TestSessions(t *testing.T) {
	r := rig.New(t)
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	browser := &http.Client{Jar: jar}
	req, err := http.NewRequestWithContext(t.Context(), "POST", r.URL()+"/api/v1/session",
		strings.NewReader(fmt.Sprintf(`{"account":"mo","password":%q}`, rig.Password)))
	require.NoError(t, err)
	req.Header.Set("Content-Type", "application/json")
	resp, err := browser.Do(req)
	require.NoError(t, err)
	require.NoError(t, resp.Body.Close())
	require.Len(t, resp.Cookies(), 1)
	c := resp.Cookies()[0]
	assert.True(t, c.HttpOnly)
	assert.Equal(t, http.SameSiteStrictMode, c.SameSite)
	assert.Contains(t, resp.Header.Get("Content-Security-Policy"), "default-src 'self'")

	get := func() int { s, _ := rig.JSON(t, browser, "GET", r.URL()+"/api/v1/now", ""); return s }
	assert.Equal(t, 200, get())
	status, p := rig.JSON(t, browser, "POST", r.URL()+"/api/v1/places", `{"name":"Attic"}`, "Sec-Fetch-Site", "cross-site")
	assert.Equal(t, 403, status, "another site's page cannot use the session")
	assert.Contains(t, p["detail"], "another site")
	status, _ = rig.JSON(t, browser, "DELETE", r.URL()+"/api/v1/session", "")
	assert.Equal(t, 204, status)
	for _, cookie := range []string{c.Value, "", "session_forged"} {
		status, p = rig.JSON(t, http.DefaultClient, "GET", r.URL()+"/api/v1/now", "", "Cookie", "ember_session="+cookie)
		assert.Equal(t, 401, status, "the cookie is void after sign-out")
		assert.Contains(t, p["detail"], "sign in first")
	}
}

// Every operation of the contract is tried as everybody, so that a new one cannot be forgotten. What a guest is
// answered tells nothing of what was not opened.
func TestEveryOperationAsksForItsRight(t *testing.T) {
	r := rig.New(t)
	key := r.Device("kiln")
	r.Pub("kiln", key, "ember/kiln/r/chamber", "412")
	r.Pub("kiln", key, "ember/kiln/is/fan", "off")
	cookies := map[string]string{}
	for role, account := range map[string]string{"member": "kim", "guest": "visitor"} {
		r.Member(account, client.Role(role))
		cookies[role] = signedIn(t, r.URL(), account)
	}
	may := map[string]map[string]bool{
		"look": {"member": true, "guest": true}, "self": {"member": true, "guest": true}, "own": {"member": true,
			"guest": true}, "switch": {"member": true, "guest": true},
		"audit": {"member": true}, "tend": {"member": true}, "bring": {}, "configure": {}, "household": {},
	}
	checked, doc := rig.Contract(t)
	c := &http.Client{Transport: checked}
	n := 0
	for path, item := range doc.Paths.Map() {
		for method, op := range item.Operations() {
			right, _ := op.Extensions["x-right"].(string)
			require.NotEmpty(t, right, "%s %s names no right", method, path)
			require.Contains(t, append(slices.Collect(maps.Keys(may)), "none"), right, "%s %s", method, path)
			if right == "none" || path == "/live" || op.OperationID == "signOut" || op.OperationID == "signOutEverywhere" {
				continue
			}
			n++
			url := r.URL() + "/api/v1" + strings.NewReplacer("{id}", "kiln", "{account}", "mo").Replace(path)
			if strings.HasSuffix(path, "/history") {
				url += "?series=kiln.chamber"
			}
			body := ""
			if op.RequestBody != nil {
				body = `{}`
			}
			status, _ := rig.JSON(t, c, method, url, body)
			assert.Equal(t, 401, status, "%s %s without signing in", method, path)
			for role, cookie := range cookies {
				status, got := rig.JSON(t, c, method, url, body, "Cookie", cookie)
				assert.Equal(t, may[right][role], status != 403, "%s %s as %s answered %d", method, path, role, status)
				if role == "guest" && status < 300 {
					assert.NotContains(t, strings.ToLower(fmt.Sprint(got)), "kiln", "%s %s told a guest", method, path)
				}
			}
		}
	}
	assert.Greater(t, n, 100)
}

// signedIn signs in as a browser does and returns the cookie.
func signedIn(t *testing.T, url, account string) string {
	return signedInAs(t, url, account, rig.Password, "")
}

func signedInAs(t *testing.T, url, account, password, cookie string) string {
	q, err := http.NewRequestWithContext(t.Context(), "POST", url+"/api/v1/session",
		strings.NewReader(fmt.Sprintf(`{"account":%q,"password":%q}`, account, password)))
	require.NoError(t, err)
	q.Header.Set("Content-Type", "application/json")
	q.Header.Set("Cookie", cookie)
	resp, err := http.DefaultClient.Do(q)
	require.NoError(t, err)
	defer func() { _ = resp.Body.Close() }()
	require.Equal(t, 201, resp.StatusCode)
	return resp.Cookies()[0].Name + "=" + resp.Cookies()[0].Value
}

func TestGuestsSeeOnlyWhatWasOpened(t *testing.T) {
	r := rig.New(t)
	key := r.Device("kiln")
	r.Pub("kiln", key, "ember/kiln/r", `{"chamber":412,"power":3.1}`)
	r.Pub("kiln", key, "ember/kiln/is/fan", "off")
	r.Pub("kiln", key, "ember/kiln/is/lamp", "off")
	r.Device("slip_tank")
	guest := r.Member("visitor", client.RoleGuest)
	see := func() (out []string) {
		s, err := guest.GetNowWithResponse(t.Context())
		require.NoError(t, err)
		for _, d := range s.JSON200.Devices {
			out = append(out, d.Config.ID)
		}
		for _, x := range s.JSON200.Signals {
			out = append(out, x.Config.ID)
		}
		for _, x := range s.JSON200.Controls {
			out = append(out, x.Config.ID)
		}
		return out
	}
	assert.Empty(t, see())
	open, sw := site.Guests("see"), site.Guests("switch")
	_, err := r.Owner.Signals().Patch(t.Context(), "kiln.chamber", rig.Fields{"guests": &open}, "")
	require.NoError(t, err)
	_, err = r.Owner.Controls().Patch(t.Context(), "kiln.lamp", rig.Fields{"guests": &sw}, "")
	require.NoError(t, err)
	assert.Equal(t, []string{"kiln", "kiln.chamber", "kiln.lamp"}, see())

	_, err = guest.GetHistoryWithResponse(t.Context(), &client.GetHistoryParams{Series: []string{"kiln.power"}})
	assert.ErrorContains(t, err, "no signal called", "what one may not see does not exist")
	_, err = guest.SwitchControlWithResponse(t.Context(), "kiln.fan", nil, client.SwitchControlJSONRequestBody{To: true})
	assert.ErrorContains(t, err, "no control called")
	_, err = guest.SwitchControlWithResponse(t.Context(), "kiln.lamp", nil, client.SwitchControlJSONRequestBody{To: true})
	assert.NoError(t, err)

	events := watch(t, guest)
	r.Pub("kiln", key, "ember/kiln/r", `{"power":2.0,"chamber":411}`)
	events.until("signal", `"id":"kiln.chamber"`)
	assert.NotContains(t, events.String(), "kiln.power", "the live stream is filtered too")
	assert.NotContains(t, events.String(), "slip_tank")
}

func TestTheContractIsServedWithReadableDocs(t *testing.T) {
	r := rig.New(t)
	for path, word := range map[string]string{"/api/openapi.yaml": "openapi: 3.0",
		"/api/docs": "PUT /api/v1/controls/{id}/want", "/api/docs.css": "--paper", "/healthz": "ok"} {
		resp, err := http.Get(r.URL() + path)
		require.NoError(t, err)
		body, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		require.NoError(t, resp.Body.Close())
		assert.Equal(t, 200, resp.StatusCode, path)
		assert.Contains(t, string(body), word, path)
		assert.Equal(t, "nosniff", resp.Header.Get("X-Content-Type-Options"), path)
	}
	for _, path := range []string{"/assets/none.js", "/api/none"} {
		status, _ := rig.JSON(t, http.DefaultClient, "GET", r.URL()+path, "")
		assert.Equal(t, 404, status, path)
	}
}

func TestEditsNeedTheNewestVersion(t *testing.T) {
	r := rig.New(t)
	hub, err := r.Owner.Hub().Get(t.Context())
	require.NoError(t, err)
	etag, a, b := hub.Version, "Studio A", "Studio B"
	_, err = r.Owner.Hub().Patch(t.Context(), rig.Fields{"name": a}, etag)
	require.NoError(t, err)
	id := "kiln"
	r.Device(id)
	dev, err := r.Owner.Devices().Get(t.Context(), id)
	require.NoError(t, err)
	first := dev.Version
	for i, name := range []string{"Kiln A", "Kiln B"} {
		_, err = r.Owner.Devices().Patch(t.Context(), id, rig.Fields{"name": name}, first)
		assert.Equal(t, i == 0, err == nil, "the second edit was made from an older version: %v", err)
	}
	_, err = r.Owner.Hub().Patch(t.Context(), rig.Fields{"name": b}, etag)
	assert.ErrorContains(t, err, "somebody changed this meanwhile")
	assert.Equal(t, a, r.Now().Hub.Name)
	assert.Equal(t, []string{"mo change name Rowan Lane studio>name Studio A", "mo set up >Rowan Lane studio"},
		r.Journal("hub"))
}

func TestWrongBodiesAreExplained(t *testing.T) {
	r := rig.New(t)
	made, err := r.Owner.AddTokenWithResponse(t.Context(), client.AddTokenJSONRequestBody{Name: "x",
		Scopes: rig.AllScopes})
	require.NoError(t, err)
	r.Device("kiln")
	checked, _ := rig.Contract(t)
	c := &http.Client{Transport: checked}
	for _, tt := range []struct {
		method, path, body string
		status             int
		field, detail      string
	}{
		{"PUT", "/controls/kiln.fan/want", `{"to":[1]}`, 400, "to", "to"},
		{"PUT", "/controls/kiln.fan/want", `{}`, 400, "to", `"to" is missing`},
		{"PUT", "/controls/kiln.fan/want", `{"to":true}`, 404, "", `no control called "kiln.fan"`},
		{"PUT", "/controls/kiln.fan/want", `{"to":true`, 400, "", "body cannot be read"},
		{"POST", "/devices", `{"name":"Kiln","place":7}`, 400, "place", "expected a value of type string"},
		{"POST", "/devices", `{"name":"Kiln","place":"Shed"}`, 409, "", "the device kiln (Kiln) is there already"},
		{"POST", "/devices", `{"name":"!!!","place":"Shed"}`, 400, "name", "no letter or digit"},
		{"POST", "/devices", `{"name":"x","place":"Shed","colour":"red"}`, 400, "", "colour"},
		{"POST", "/devices", `{"name":"` + strings.Repeat("x", 70_000) + `","place":"Shed"}`, 413, "", "too large"},
		{"PATCH", "/devices/kilm", `{"name":"x"}`, 404, "", "did you mean kiln?"},
		{"GET", "/history?series=kiln.x&points=0", "", 400, "points", "points"},
		{"GET", "/history", "", 400, "series", "series"},
		{"GET", "/nothing", "", 404, "", "no such operation"},
		{"DELETE", "/now", "", 405, "", "DELETE is not possible here; use GET"},
		{"GET", "/now?place=kiln", "", 400, "place", "there is no parameter \"place\" here"},
		{"GET", "/readings?serie=kiln.t", "", 400, "serie", "there is series, "},
	} {
		status, p := rig.JSON(t, c, tt.method, r.URL()+"/api/v1"+tt.path, tt.body, "Authorization",
			"Bearer "+made.JSON201.Token)
		name := tt.method + " " + tt.path + " " + tt.body[:min(len(tt.body), 40)]
		assert.Equal(t, tt.status, status, name)
		if tt.field != "" {
			assert.Equal(t, tt.field, p["field"], name)
		}
		assert.Contains(t, strings.ToLower(fmt.Sprint(p["detail"])), strings.ToLower(tt.detail), name)
	}
}
