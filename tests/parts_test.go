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
		return rig.JSON(t, c, method, r.URL()+"/api/v1"+path, body, append([]string{"Authorization", "Bearer " + owner}, header...)...)
	}
	preset := func(id, name string) string {
		return fmt.Sprintf(`{"id":%q,"name":%q,"actions":[{"kind":"control","id":"kiln.fan","to":1}]}`, id, name)
	}

	status, made := ask("POST", "/presets", preset("", "Night shift"))
	require.Equal(t, 201, status, "%v", made)
	assert.Equal(t, "night_shift", made["config"].(map[string]any)["id"], "it gets an id of its name")
	assert.Equal(t, map[string]any{}, made["state"])
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
		{`{"actions":[{"kind":"control","id":"kiln.fan","to":1e999}]}`, 400, "actions.to is 1e999, which is beyond what can be kept"},
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
	assert.Equal(t, map[string]any{"id": "night_shift", "name": "Very late", "actions": []any{map[string]any{"kind": "control", "id": "kiln.fan", "to": 1.0}}}, got["config"])
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
	_, err := kim.Presets().Add(t.Context(), site.Preset{Name: "Mine", Actions: []site.Action{{Kind: site.DoControl, ID: "kiln.fan", To: 1}}})
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
		if item.Get == nil || strings.ContainsAny(path, "{") || path == "/live" || path == "/log" || item.Get.Extensions["x-right"] == "own" || slices.ContainsFunc(item.Get.Parameters, func(p *openapi3.ParameterRef) bool { return p.Value.Required }) {
			continue
		}
		status, got := ask("GET", path, "")
		assert.Equal(t, 200, status, "%s: %v", path, got)
	}

	// The contract says so of each.
	for path, item := range doc.Paths.Map() {
		if item.Get == nil || !strings.Contains(fmt.Sprint(item.Get.Tags), "parts") || strings.HasSuffix(path, "}") {
			continue
		}
		one := doc.Paths.Value(path + "/{id}")
		require.NotNil(t, one, path)
		assert.NotNil(t, item.Post, path)
		for method, op := range one.Operations() {
			assert.Contains(t, []string{"GET", "PUT", "PATCH", "DELETE"}, method)
			assert.Contains(t, op.Tags, "parts", path)
		}
		assert.Len(t, one.Operations(), 4, path)
		status, _ := ask("GET", path, "")
		assert.Equal(t, 200, status, path)
		status, _ = ask("PATCH", path+"/nothing", "{}")
		assert.Equal(t, 404, status, path)
		status, _ = ask("DELETE", path+"/nothing", "")
		assert.Equal(t, 404, status, path)
	}
}
