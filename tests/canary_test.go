package tests

import (
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/client"
	"idleember/core/engine"
	"idleember/core/site"
	"idleember/tests/rig"
)

// What is closed to somebody is not told by any operation, nor by the stream: a house in which the names, words and
// numbers of a vault stand nowhere else is looked at by a guest, by a member to whom it is closed, and by a member's
// wall.
func TestNothingClosedIsTold(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	must := func(_ any, err error) {
		t.Helper()
		require.NoError(t, err)
	}
	const number = "7331.25"
	kiln, err := r.Owner.AddDevice(t.Context(), rig.Fields{"id": ptr("zqvault"), "name": "Zqvault", "place": "Zqcellar"})
	require.NoError(t, err)
	shed := r.Device("shed")
	r.Pub("zqvault", kiln.Key, "ember/zqvault/r", `{"zqlevel":`+number+`,"zqword":"zqtext"}`)
	r.Pub("zqvault", kiln.Key, "ember/zqvault/is/zqfan", "off")
	r.Pub("shed", shed, "ember/shed/r/damp", "40")
	r.Pub("shed", shed, "ember/shed/is/lamp", "off")
	r.Pub("shed", shed, "ember/shed/is/pump", "off")
	r.Soon("all", func() bool { return len(r.Now().Controls) == 3 && len(r.Now().Signals) == 3 })
	sam, kim := r.Member("sam", client.RoleMember), r.Member("kim", client.RoleMember)
	r.Member("pat", client.RoleGuest)
	must(r.Owner.Places().Save(t.Context(), site.Place{ID: "zqcellar", Name: "Zqcellar",
		Facts: []site.Fact{{Name: "Zqfact", Text: "zqfacttext"}}}))
	must(r.Owner.Settings().Add(t.Context(), site.Setting{ID: "zqvault.zqtarget", Name: "Zqtarget", Kind: site.SetNumber,
		Max: 9000, Step: 0.01}))
	must(r.Owner.SetSettingWithResponse(t.Context(), "zqvault.zqtarget", client.SetSettingJSONRequestBody{Value: 7331.25}))
	for _, c := range []string{"shed.lamp", "zqvault.zqfan"} { // an opened control that is decided by what is closed
		must(r.Owner.Automation(c).Put(t.Context(), site.Automation{Demands: []site.Demand{{Kind: engine.HoldBelow,
			Of: "zqvault.zqlevel", Target: "zqvault.zqtarget", Band: 0.25}},
			Permits:    []site.Permit{{Name: "Zqpermit", Condition: site.Condition{When: "zqvault.zqlevel > 1"}}},
			Interlocks: []site.Interlock{{Name: "Zqlock", Condition: site.Condition{When: `zqvault.zqword == "zqtext"`}}}}, ""))
	}
	must(r.Owner.Presets().Add(t.Context(), site.Preset{ID: "zqnight", Name: "Zqnight", Role: "guest",
		Actions: []site.Action{{Kind: site.DoControl, ID: "zqvault.zqfan", To: 1}, {Kind: site.DoControl, ID: "shed.lamp",
			To: 1}}}))
	must(r.Owner.Rules().Add(t.Context(), site.Rule{ID: "zqrule", Name: "Zqrule",
		Stages: []site.Stage{{When: "zqvault.zqlevel > 1", Actions: []site.Action{{Kind: site.DoNote, ID: "shed",
			Text: "zqsaid {zqvault.zqlevel}"}, {Kind: site.DoMessage, ID: "zqvault", Text: "zqmessage"}}}}}))
	must(r.Owner.Groups().Add(t.Context(), site.Group{ID: "zqgroup", Name: "Zqgroup",
		Members: []site.GroupMember{{Control: "shed.pump"}, {Control: "zqvault.zqfan"}}}))
	saveAlert(r, site.Alert{ID: "zqhot", Name: "Zqhot", Kind: site.AlertAbove, Of: "zqvault.zqlevel", Limit: 7000,
		Text: "zqdo", Severity: site.Critical})
	saveAlert(r, site.Alert{ID: "damp", Name: "Damp and zqhot", Kind: site.AlertFormula,
		When: "zqvault.zqlevel > 7000 and shed.damp > 1"})
	require.NoError(t, saveRoute(r, site.Route{ID: "zqroute", Name: "Zqroute", Via: "webhook",
		To: "http://127.0.0.1:9/zqhook", Person: "mo", Inside: true}))
	var heard safeBuffer
	hook := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, q *http.Request) {
		_, _ = io.Copy(&heard, q.Body)
	}))
	defer hook.Close()
	saveAlert(r, site.Alert{ID: "wet", Name: "Wet", Kind: site.AlertAbove, Of: "shed.damp", Limit: 40})
	tiles := []site.Tile{{ID: "a", Kind: site.TileValue, Of: []string{"zqvault.zqlevel"}, W: 3, H: 2}, {ID: "b",
		Kind: site.TileControl, Of: []string{"shed.lamp"}, W: 3, H: 2}, {ID: "c", Kind: site.TileText, Name: "Note",
		Text: "shed", W: 3, H: 2}}
	must(save(r.Owner, site.Dashboard{ID: "shared", Name: "Shared", Shared: site.Everybody, Tiles: tiles}))
	must(save(r.Owner, site.Dashboard{ID: "zqown", Name: "Zqown", Tiles: tiles}))
	must(r.Owner.AddNoteWithResponse(t.Context(), client.NewNote{Object: "zqvault.zqlevel", Text: "zqnote",
		At: time.Now()}))
	must(r.Owner.Views().Add(t.Context(), site.View{Name: "Zqview", View: "s=zqvault.zqlevel", Shared: true}))
	must(r.Owner.AddTokenWithResponse(t.Context(), client.AddTokenJSONRequestBody{Name: "zqtoken",
		Scopes: []client.Scope{client.ScopeRead}}))
	must(r.Owner.Rights().Put(t.Context(), site.Rights{Lines: []site.Right{{Who: "members", Of: "zqcellar",
		May: site.GuestsNothing}, {Who: "members", Of: "zqvault", May: site.GuestsNothing},
		{Who: "pat", Of: "shed.lamp", May: site.GuestsSwitch}, {Who: "pat", Of: "shed.pump", May: site.GuestsSee}}}, ""))
	require.NoError(t, saveRoute(r, site.Route{ID: "sams", Name: "Sams", Via: "webhook", To: hook.URL, Person: "sam",
		Inside: true}))
	must(save(kim, site.Dashboard{ID: "kims", Name: "Kims", Tiles: []site.Tile{{ID: "a", Kind: site.TileControl,
		Of: []string{"shed.lamp"}, W: 3, H: 2}, {ID: "b", Kind: site.TileAlerts, W: 3, H: 2}}}))
	wall, err := kim.AddWallWithResponse(t.Context(), "kims", client.AddWallJSONRequestBody{Name: "hall",
		Switches: &[]string{"shed.lamp"}})
	require.NoError(t, err)
	_ = sam

	_, doc := rig.Contract(t)
	ids := []string{"zqvault", "zqvault.zqlevel", "zqvault.zqfan", "zqvault.zqtarget", "shed", "shed.lamp", "shed.pump",
		"shed.damp", "shared", "zqown", "kims", "zqnight", "zqrule", "zqgroup", "zqhot", "damp", "zqroute", "zqcellar", "1",
		"nothing", "zqvaul", "zqlevel", "zqfan"}
	queries := []string{"", "?series=zqvault.zqlevel", "?series=shed.lamp.is", "?series=shed.nothing",
		"?series=zqvaul.zqlevel", "?about=zqvault", "?about=shed", "?about=shed.lamp", "?about=zqcellar", "?about=zqown",
		"?text=zqvault", "?object=zqvault", "?object=shed", "?q=zq", "?place=zqcellar", "?of=zqvault.zqlevel",
		"?alert=zqhot", "?alert=damp", "?id=zqvault", "?from=2026-01-01T00:00:00Z", "?at=shed&id=shed", "?past=true",
		"?all=true"}
	// The whole words: ids made at random have these two letters now and then.
	canary := regexp.MustCompile(`(?i).{0,60}zq(cellar|do|fact|fan|group|hook|hot|late|level|mes|night|note|other|own|route|rule|said|target|text|token|vau|view|word)[a-z]*.{0,60}|.{0,60}\b7331\b.{0,40}`)
	asked := map[string]bool{}
	walk := func(who string, header ...string) {
		for path, item := range doc.Paths.Map() {
			for method, op := range item.Operations() {
				if method != http.MethodGet && !strings.Contains(op.OperationID, "ry") || path == "/live" || strings.HasPrefix(path,
					"/session") || strings.Contains(path, "{stream}") {
					continue
				}
				targets := []string{path}
				if strings.Contains(path, "{") {
					targets = nil
					for _, id := range ids {
						targets = append(targets, regexp.MustCompile(`\{[a-z]+\}`).ReplaceAllString(path, id))
					}
				}
				for _, target := range targets {
					for _, q := range queries {
						text := ask(t, method, r.URL()+"/api/v1"+target+q, header...)
						asked[op.OperationID] = true
						echoed := target + q // what one asked for oneself may stand in the answer
						for _, told := range canary.FindAllString(text, -1) {
							word := strings.ToLower(regexp.MustCompile(`(?i)zq[a-z_.]*|7331[.0-9]*`).FindString(told))
							if !strings.Contains(echoed, word) {
								t.Errorf("%s: %s %s%s tells …%s…", who, method, target, q, told)
							}
						}
					}
				}
			}
		}
	}
	live := map[string]*http.Response{}
	for who, account := range map[string]string{"a guest": "pat", "a member": "sam"} {
		q, err := http.NewRequestWithContext(t.Context(), "GET", r.URL()+"/api/v1/live", nil)
		require.NoError(t, err)
		q.Header.Set("Cookie", signedIn(t, r.URL(), account))
		resp, err := http.DefaultClient.Do(q)
		require.NoError(t, err)
		live[who] = resp
	}
	r.Pub("zqvault", kiln.Key, "ember/zqvault/r", `{"zqlevel":7331.5,"zqword":"zqtext"}`)
	r.Pub("zqvault", kiln.Key, "ember/zqvault/r", `{"zqlevel":1,"zqword":"zqother"}`)
	r.Pub("zqvault", kiln.Key, "ember/zqvault/r", `{"zqlevel":`+number+`,"zqword":"zqtext"}`)
	r.Pub("shed", shed, "ember/shed/r/damp", "41")
	must(r.Owner.SwitchControlWithResponse(t.Context(), "zqvault.zqfan", nil,
		client.SwitchControlJSONRequestBody{To: true}))
	must(r.Owner.SwitchControlWithResponse(t.Context(), "shed.lamp", nil, client.SwitchControlJSONRequestBody{To: true}))
	must(save(r.Owner, site.Dashboard{ID: "zqlate", Name: "Zqlate", Tiles: tiles}))
	walk("a guest", "Cookie", signedIn(t, r.URL(), "pat"))
	walk("a member", "Cookie", signedIn(t, r.URL(), "sam"))
	walk("a wall", "Authorization", "Bearer "+wall.JSON201.Key)
	for who, resp := range live {
		time.AfterFunc(time.Second, func() { _ = resp.Body.Close() })
		text, _ := io.ReadAll(resp.Body)
		for _, told := range canary.FindAllString(string(text), -1) {
			t.Errorf("%s: the stream tells …%s…", who, told)
		}
		assert.Contains(t, string(text), "shed.lamp", "it tells what is open")
	}
	r.Soon("what is open is told", func() bool { return strings.Contains(heard.String(), "Wet") })
	assert.Empty(t, canary.FindAllString(heard.String(), -1), "messages")
	assert.Greater(t, len(asked), 40, fmt.Sprint(asked))
}

func ask(t *testing.T, method, url string, header ...string) string {
	body := ""
	if method != http.MethodGet {
		body = "{}"
	}
	q, err := http.NewRequestWithContext(t.Context(), method, url, strings.NewReader(body))
	require.NoError(t, err)
	q.Header.Set("Content-Type", "application/json")
	for i := 0; i+1 < len(header); i += 2 {
		q.Header.Set(header[i], header[i+1])
	}
	resp, err := http.DefaultClient.Do(q)
	require.NoError(t, err)
	defer func() { _ = resp.Body.Close() }()
	text, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	return string(text)
}
