package tests

import (
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/client"
	"idleember/core/site"
	"idleember/tests/rig"
)

// All kinds of parts speak the same grammar.
func TestTheGrammarOfParts(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	r.Pub("kiln", r.Device("kiln"), "ember/kiln/is/fan", "off")
	checked, doc := rig.Contract(t)
	c := &http.Client{Transport: checked}
	owner := r.Token(r.Owner)
	ask := func(method, path, body string, header ...string) (int, map[string]any) {
		return rig.JSON(t, c, method, r.URL()+"/api/v1"+path, body, append([]string{"Authorization", "Bearer " + owner},
			header...)...)
	}
	preset := func(id, name string) string {
		return fmt.Sprintf(`{"id":%q,"name":%q,"actions":[{"kind":"control","id":"kiln.fan","to":1}]}`, id, name)
	}

	status, made := ask("POST", "/presets", preset("", "Night shift"))
	require.Equal(t, 201, status, "%v", made)
	assert.Equal(t, "night_shift", made["config"].(map[string]any)["id"], "it gets an id of its name")
	assert.Equal(t, map[string]any{"says": []any{"Fan on"}}, made["state"])
	version := made["version"].(string)
	status, again := ask("POST", "/presets", preset("night_shift", "Other"))
	assert.Equal(t, 409, status, "nothing is replaced: %v", again)
	status, _ = ask("PUT", "/presets/night_shift", preset("night_shift", "Other"))
	assert.Equal(t, 409, status, "nor without a version")
	status, p := ask("PUT", "/presets/night_shift", preset("day", "Other"), "If-Match", version)
	assert.Equal(t, 400, status)
	assert.Contains(t, p["detail"], "the id is night_shift in the address and day in the body")
	status, now := ask("PUT", "/presets/night_shift", preset("", "Late shift"), "If-Match", `"`+version+`"`)
	require.Equal(t, 200, status, "%v", now)
	status, _ = ask("PUT", "/presets/night_shift", preset("", "Too late"), "If-Match", version)
	assert.Equal(t, 409, status, "somebody else was faster")
	status, _ = ask("PUT", "/presets/day", preset("", "Day"), "If-Match", "gone")
	assert.Equal(t, 409, status, "it was removed meanwhile")
	status, _ = ask("PUT", "/presets/day", preset("", "Day"), "If-Match", "*")
	assert.Equal(t, 200, status)

	for _, tt := range []struct {
		patch  string
		status int
		says   string
	}{
		{`{"name":"Very late","ask":true}`, 200, ""},
		{`{"ask":null}`, 200, ""},
		{`{"colour":"red"}`, 400, `a preset has no field "colour"`},
		{`{"name":7}`, 400, "name is a number; expected a text"},
		{`{"actions":[{"kind":"control","id":"kiln.fan","to":1e999}]}`, 400,
			"actions.to is 1e999, which is beyond what can be kept"},
		{`{"actions":"all"}`, 400, "actions is a string; expected a list"},
		{`{"id":"x"}`, 400, "an id stays as it is"},
		{`{"actions":[]}`, 400, "1 to 200 actions"},
		{`{"name":""}`, 400, "name is empty"},
		{`[1]`, 400, "expected a value of type object"},
	} {
		status, got := ask("PATCH", "/presets/night_shift", tt.patch, "Content-Type", "application/merge-patch+json")
		assert.Equal(t, tt.status, status, "%s: %v", tt.patch, got)
		assert.Contains(t, fmt.Sprint(got["detail"]), tt.says, tt.patch)
	}
	status, got := ask("GET", "/presets/night_shift", "")
	assert.Equal(t, 200, status)
	assert.Equal(t, map[string]any{"id": "night_shift", "name": "Very late",
		"actions": []any{map[string]any{"kind": "control", "id": "kiln.fan", "to": 1.0}}}, got["config"])
	status, _ = ask("PATCH", "/presets/night_shift", `{"name":"x"}`, "If-Match", version)
	assert.Equal(t, 409, status)
	status, _ = ask("DELETE", "/presets/night_shift", "", "If-Match", version)
	assert.Equal(t, 409, status)
	status, p = ask("GET", "/presets/night_shft", "")
	assert.Equal(t, 404, status)
	assert.Contains(t, p["detail"], "did you mean night_shift?")

	status, page := ask("GET", "/presets?limit=1", "")
	assert.Equal(t, 200, status)
	assert.Equal(t, "day", page["next"])
	status, page = ask("GET", "/presets?limit=1&after=day", "")
	assert.Equal(t, 200, status)
	assert.Len(t, page["items"], 1)
	assert.Nil(t, page["next"])

	kim := r.Member("kim", client.RoleMember)
	_, err := kim.Presets().Add(t.Context(), site.Preset{Name: "Mine", Actions: []site.Action{{Kind: site.DoControl,
		ID: "kiln.fan", To: 1}}})
	assert.ErrorContains(t, err, "may not change this hub")
	assert.ErrorContains(t, kim.Presets().Remove(t.Context(), "day"), "may not change this hub")
	_, err = r.Member("pat", client.RoleGuest).Presets().Get(t.Context(), "day")
	assert.ErrorContains(t, err, "there is no preset called", "a guest may not apply it, so it is not there")
	require.NoError(t, r.Owner.Presets().Remove(t.Context(), "day"))
	list, err := kim.Presets().List(t.Context())
	require.NoError(t, err)
	assert.Len(t, list, 1)

	// What a new hub answers is what the contract says, lists with nothing in them too.
	for path, item := range doc.Paths.Map() {
		if item.Get == nil || strings.ContainsAny(path, "{") || path == "/live" || path == "/log" ||
			item.Get.Extensions["x-right"] == "own" || slices.ContainsFunc(item.Get.Parameters,
			func(p *openapi3.ParameterRef) bool { return p.Value.Required }) {
			continue
		}
		status, got := ask("GET", path, "")
		assert.Equal(t, 200, status, "%s: %v", path, got)
	}

	// The contract says so of each.
	for path, item := range doc.Paths.Map() {
		if item.Get == nil || !strings.Contains(fmt.Sprint(item.Get.Tags), "parts") || item.Post == nil ||
			doc.Paths.Value(path+"/{id}") == nil {
			continue
		}
		one := doc.Paths.Value(path + "/{id}")
		for method, op := range one.Operations() {
			assert.Contains(t, []string{"GET", "PUT", "PATCH", "DELETE"}, method)
			assert.True(t, method == "DELETE" || slices.Contains(op.Tags, "parts"), path)
		}
		assert.Len(t, one.Operations(), 4, path)
		status, _ := ask("GET", path, "")
		assert.Equal(t, 200, status, path)
		status, _ = ask("PATCH", path+"/nothing", "{}")
		assert.Equal(t, 404, status, path)
		gone := path + "/nothing"
		if path == "/devices" {
			gone += "?history=delete"
		}
		status, _ = ask("DELETE", gone, "")
		assert.Equal(t, 404, status, path)
	}
}

// A password is written with the part that it belongs to, and read nowhere: not in an answer, not in the journal, not
// in a version.
func TestSecretsAreWrittenAndNeverRead(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	r.Device("kiln")
	token := r.Token(r.Owner)
	ask := func(method, path, body string) (int, map[string]any) {
		return rig.JSON(t, http.DefaultClient, method, r.URL()+"/api/v1"+path, body, "Authorization", "Bearer "+token)
	}
	for path, body := range map[string]string{
		"/brokers/yard": `{"id":"yard","name":"Yard","address":"mqtt://127.0.0.1:1","user":"hub","password":"zsecret"}`,
		"/messaging":    `{"mail":{"host":"mail.example","port":25,"security":"none","account":"hub","from":"hub@studio.example"},"password":"zsecret"}`,
	} {
		status, got := ask("PUT", path, body)
		require.Equal(t, 200, status, got)
		assert.Equal(t, true, got["state"].(map[string]any)["password"], path)
		_, again := ask("GET", path, "")
		assert.NotContains(t, fmt.Sprint(got, again), "zsecret")
		status, got = ask("PATCH", path, `{"password":7}`)
		assert.Equal(t, 400, status, "%s: %v", path, got)
		status, got = ask("PATCH", path, `{"password":null}`)
		require.Equal(t, 200, status, got)
		assert.Equal(t, false, got["state"].(map[string]any)["password"], "%s: it is forgotten", path)
	}
	status, got := ask("PATCH", "/devices/kiln",
		`{"camera":{"address":"http://127.0.0.1:9/x.jpg","account":"hub","inside":true},"camera_password":"zsecret"}`)
	require.Equal(t, 200, status, got)
	assert.Equal(t, true, got["state"].(map[string]any)["camera_password"])
	status, got = ask("PATCH", "/devices/kiln", `{"camera":{"address":"http://127.0.0.2:9/x.jpg"}}`)
	assert.Equal(t, 400, status, "it is for the host that it was entered for: %v", got)
	status, _ = ask("PATCH", "/devices/kiln", `{"key":"zsecret"}`)
	assert.Equal(t, 400, status, "a key is made by the hub")
	assert.Equal(t, []string{"mo (token a script) change >with a camera password"}, slices.DeleteFunc(r.Journal("kiln"),
		func(l string) bool { return !strings.Contains(l, "password") }))
	kim := r.Member("kim", client.RoleMember)
	d, err := kim.Devices().Get(t.Context(), "kiln")
	require.NoError(t, err)
	assert.Empty(t, d.Config.Camera, "where it comes from is its owner's business")
	assert.True(t, d.State.Camera)
	for _, line := range written(t, r, "zsecret") {
		assert.Contains(t, line, "secrets", "it stands where secrets are, and nowhere else")
	}
}

// Whoever adds a part need tell little; what cannot be changed afterwards is refused in words.
func TestNewPartsAreCompleted(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	ctx := t.Context()
	r.Device("kiln")
	s, err := r.Owner.Signals().Make(ctx, rig.Fields{"device": "kiln", "raw": "tempC", "kind": "number"})
	require.NoError(t, err)
	assert.Equal(t, site.Signal{ID: "kiln.temp_c", Device: "kiln", Raw: "tempC", Name: "TempC", Kind: site.Number,
		Unit: "Cel", Reports: site.Periodic, Guests: site.GuestsNothing}, s.Config)
	s, err = r.Owner.Signals().Make(ctx, rig.Fields{"id": "kiln.door", "name": "The door", "kind": "onoff", "unit": ""})
	require.NoError(t, err)
	assert.Equal(t, []any{"The door", site.OnChange}, []any{s.Config.Raw, s.Config.Reports})
	c, err := r.Owner.Controls().Make(ctx, rig.Fields{"device": "kiln", "name": "Vent", "kind": "mover"})
	require.NoError(t, err)
	want := site.NewControl("kiln", "vent", "vent", "Vent")
	want.Kind, want.Safe = site.Mover, site.Stop
	assert.Equal(t, want, c.Config)
	assert.Equal(t, []string{"close", "stop", "open"}, c.State.Words)
	for what, f := range map[string]func() error{
		"there is no device": func() error {
			_, err := r.Owner.Signals().Make(ctx, rig.Fields{"device": "shed", "raw": "x", "kind": "text"})
			return err
		},
		"calls something \"tempC\"": func() error {
			_, err := r.Owner.Signals().Make(ctx, rig.Fields{"id": "kiln.other", "raw": "tempC", "kind": "text"})
			return err
		},
		"begins with kiln.": func() error {
			_, err := r.Owner.Controls().Make(ctx, rig.Fields{"id": "shed.x", "device": "kiln", "name": "x"})
			return err
		},
		"stays number": func() error {
			_, err := r.Owner.Signals().Patch(ctx, "kiln.temp_c", rig.Fields{"kind": "text"}, "")
			return err
		},
		"add another signal": func() error {
			_, err := r.Owner.Signals().Patch(ctx, "kiln.temp_c", rig.Fields{"raw": "t"}, "")
			return err
		},
		"one of close, stop, open": func() error {
			_, err := r.Owner.Controls().Patch(ctx, "kiln.vent", rig.Fields{"safe": "half"}, "")
			return err
		},
		"/devices/kiln/state": func() error {
			_, err := r.Owner.Devices().Patch(ctx, "kiln", rig.Fields{"state": "disabled"}, "")
			return err
		},
		"has no field \"lease\"": func() error {
			_, err := r.Owner.Devices().Patch(ctx, "kiln", rig.Fields{"lease": 5}, "")
			return err
		},
		"an id stays as it is": func() error {
			_, err := r.Owner.Devices().Patch(ctx, "kiln", rig.Fields{"id": "oven"}, "")
			return err
		},
		"is part of the hub and stays": func() error { return r.Owner.Alerts().Remove(ctx, "offline_kiln") },
		"user name of scripts": func() error {
			_, err := r.Owner.Devices().Put(ctx, "token", site.Device{ID: "token", Name: "T", Place: "Studio",
				Link: site.Link{Kind: site.HTTP}}, "")
			return err
		},
	} {
		assert.ErrorContains(t, f(), what)
	}
	_, err = r.Owner.Controls().Make(ctx, rig.Fields{"device": "kiln", "name": "Fan"})
	require.NoError(t, err)
	token := r.Token(r.Owner)
	for _, x := range [][3]any{{"PUT /controls/kiln.fan/automation",
		`{"interlocks":[{"name":"hot","when":"kiln.temp_c > 90"}]}`, 200},
		{"DELETE /controls/kiln.fan/automation", "", 204}, {"DELETE /controls/kiln.fan/automation", "", 204},
		{"DELETE /controls/kiln.nothing/automation", "", 404},
		{"PUT /alerts/events", `{"name":"Events","kind":"above","of":"kiln.temp_c","limit":9,"severity":"info"}`, 200},
		{"GET /alerts/events", "", 200}} {
		method, path, _ := strings.Cut(x[0].(string), " ")
		status, got := rig.JSON(t, http.DefaultClient, method, r.URL()+"/api/v1"+path, x[1].(string), "Authorization",
			"Bearer "+token)
		assert.Equal(t, x[2], status, "%s: %v", x[0], got)
	}
	_, err = r.Owner.Controls().Patch(ctx, "kiln.vent", rig.Fields{"safe": "close"}, "")
	require.NoError(t, err)
	d, err := r.Owner.Devices().Patch(ctx, "kiln", rig.Fields{"lease_ms": nil, "link": rig.Fields{"kind": "http"}}, "")
	require.NoError(t, err)
	assert.Zero(t, d.Config.LeaseMS, "null: as it usually is, and over HTTP there is none")
}
