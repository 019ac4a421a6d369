package tests

import (
	"fmt"
	"image"
	"image/jpeg"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/client"
	"idleember/core/engine"
	"idleember/core/site"
	"idleember/store"
	"idleember/tests/rig"
)

// written is everything in a hub's database that holds a word. The journal tells of the past, with the versions that
// belong to its lines, and so does what the engine was given.
func written(t *testing.T, r *rig.Rig, word string) (found []string) {
	db, err := sqlx.Open("sqlite", "file:"+filepath.Join(r.Dir, store.File)+"?mode=ro")
	require.NoError(t, err)
	defer func() { _ = db.Close() }()
	var tables []string
	require.NoError(t, db.Select(&tables, `SELECT name FROM sqlite_schema WHERE type = 'table' AND name NOT LIKE 'sqlite_%' ORDER BY name`))
	for _, table := range tables {
		if slices.Contains([]string{"journal", "versions", "goose_db_version", "log", "blocks", "cells"}, table) {
			continue
		}
		rows, err := db.Queryx(`SELECT * FROM ` + table)
		require.NoError(t, err)
		for rows.Next() {
			values, err := rows.SliceScan()
			require.NoError(t, err)
			for i, v := range values {
				if b, ok := v.([]byte); ok {
					values[i] = string(b)
				}
			}
			if text := fmt.Sprint(values...); strings.Contains(strings.ToLower(text), word) {
				found = append(found, table+": "+text[:min(len(text), 300)])
			}
		}
		require.NoError(t, rows.Err())
	}
	return found
}

// With a device goes all that it owns and all that speaks of it, of whatever kind; the rest stays.
func TestNothingIsLeftOfADevice(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	must := func(_ any, err error) {
		t.Helper()
		require.NoError(t, err)
	}
	lens := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		_ = jpeg.Encode(w, image.NewGray(image.Rect(0, 0, 8, 8)), nil)
	}))
	defer lens.Close()
	key, shed := r.Device("zkiln"), r.Device("shed")
	r.Pub("zkiln", key, "ember/zkiln/r", `{"zheat":900,"zdoor":true}`)
	r.Pub("zkiln", key, "ember/zkiln/r", `{"zheat":{"a":1}}`) // which is refused
	r.Pub("zkiln", key, "ember/zkiln/is/zfan", "off")
	r.Pub("shed", shed, "ember/shed/r/damp", "40")
	r.Pub("shed", shed, "ember/shed/is/pump", "off")
	r.Pub("shed", shed, "ember/shed/is/lamp", "off")
	r.Soon("all", func() bool { return len(r.Now().Controls) == 3 && len(r.Now().Signals) == 3 })
	r.Member("kim", client.RoleMember)
	must(r.Owner.Settings().Add(t.Context(), site.Setting{ID: "zkiln.zgoal", Name: "Zgoal", Kind: site.SetNumber,
		Max: 1200, Step: 1}))
	must(r.Owner.SetSettingWithResponse(t.Context(), "zkiln.zgoal", client.SetSettingJSONRequestBody{Value: 30}))
	must(r.Owner.Automation("zkiln.zfan").Put(t.Context(), site.Automation{Demands: []site.Demand{{Kind: engine.HoldBelow,
		Of: "zkiln.zheat", Target: "zkiln.zgoal", Band: 1}},
		Permits: []site.Permit{{Name: "Zpermit", Condition: site.Condition{When: "mean(zkiln.zheat, \"10m\") > 1"}}},
		Interlocks: []site.Interlock{{Name: "Zlock", Condition: site.Condition{When: "zkiln.zdoor",
			Until: "not zkiln.zdoor"}}}}, ""))
	must(r.Owner.Automation("shed.lamp").Put(t.Context(), site.Automation{Demands: []site.Demand{{Kind: engine.Whenever,
		Condition: site.Condition{When: "shed.damp > 10"}}}}, ""))
	must(r.Owner.Groups().Add(t.Context(), site.Group{ID: "zpair", Name: "Zpair",
		Members: []site.GroupMember{{Control: "shed.pump"}, {Control: "zkiln.zfan"}}}))
	must(r.Owner.Presets().Add(t.Context(), site.Preset{ID: "zonly", Name: "Zonly",
		Actions: []site.Action{{Kind: site.DoControl, ID: "zkiln.zfan", To: 1}}}))
	must(r.Owner.Presets().Add(t.Context(), site.Preset{ID: "night", Name: "Night",
		Actions: []site.Action{{Kind: site.DoSetting, ID: "zkiln.zgoal", To: 20}, {Kind: site.DoControl, ID: "shed.lamp",
			To: 1}}}))
	must(r.Owner.Rules().Add(t.Context(), site.Rule{ID: "wet", Name: "Wet",
		Stages: []site.Stage{{When: "shed.damp > 30", Actions: []site.Action{
			{Kind: site.DoControl, ID: "zkiln.zfan", To: 1}, {Kind: site.DoPreset, ID: "zonly"}, {Kind: site.DoMessage,
				ID: "shed", Text: "wet"}}}}}))
	saveAlert(r, site.Alert{ID: "zhot", Name: "Zhot", Kind: site.AlertAbove, Of: "zkiln.zheat", Limit: 500,
		Severity: site.Critical})
	saveAlert(r, site.Alert{ID: "offline_zkiln", Name: "Zkiln is away", Kind: site.AlertOffline, Of: "zkiln",
		Severity: site.Info})
	require.NoError(t, saveRoute(r, site.Route{ID: "hook", Name: "Hook", Via: "webhook", To: "http://127.0.0.1:9/",
		Inside: true}))
	must(r.Owner.Rights().Put(t.Context(), site.Rights{Lines: []site.Right{{Who: "kim", Of: "zkiln.zfan",
		May: site.GuestsNothing}, {Who: "guests", Of: "shed.lamp", May: site.GuestsSee}}}, ""))
	up, err := r.Owner.AddPictureWithBodyWithResponse(t.Context(), nil, "image/svg+xml",
		strings.NewReader(`<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 40 20"><rect width="4" height="4"/></svg>`))
	require.NoError(t, err)
	must(save(r.Owner, site.Dashboard{ID: "page", Name: "Page", Shared: site.Everybody,
		Tiles: []site.Tile{{ID: "a", Kind: site.TileValue, Of: []string{"zkiln.zheat"}, W: 3, H: 2}, {ID: "b",
			Kind: site.TileControl, Of: []string{"zkiln.zfan"}, W: 3, H: 2},
			{ID: "c", Kind: site.TilePreset, Of: []string{"zonly"}, W: 3, H: 2}, {ID: "d", Kind: site.TileControl,
				Of: []string{"shed.lamp"}, W: 3, H: 2},
			{ID: "e", Kind: site.TilePicture, Picture: up.JSON201.Id, Pins: []site.Pin{{ID: "p", Kind: site.TileValue,
				Of: "zkiln.zheat", X: 1, Y: 1}}, W: 4, H: 4}}}))
	wall, err := r.Owner.AddWallWithResponse(t.Context(), "page", client.AddWallJSONRequestBody{Name: "hall",
		Switches: &[]string{"zkiln.zfan", "shed.lamp", "zonly"}})
	require.NoError(t, err)
	must(r.Owner.AddNoteWithResponse(t.Context(), client.NewNote{Object: "zkiln.zheat", Text: "znote", At: time.Now()}))
	must(r.Owner.Panel().Put(t.Context(), site.Panel{Allow: []string{}, Points: []site.Point{{ID: "zkiln.zheat",
		Register: site.Register{Table: site.Input, Type: "f32"}}, {ID: "shed.damp",
		Register: site.Register{Table: site.Input, Type: "f32", Address: 10}}}}, ""))
	require.NoError(t, messaging(r, site.Messaging{Say: map[string]string{"zkiln": "It is {zkiln.zheat}.",
		"shed": "It is {shed.damp}."}}))
	must(r.Owner.Devices().Patch(t.Context(), "zkiln", rig.Fields{"camera": site.Camera{Address: lens.URL, Account: "hub",
		Inside: true}, "camera_password": ptr("zlens word")}, ""))
	must(r.Owner.TakeStillWithResponse(t.Context(), "zkiln"))
	r.Soon("told", func() bool { return len(written(t, r, "zhot")) > 2 })
	before := len(written(t, r, "zkiln"))
	assert.Greater(t, before, 25)

	err = r.Owner.Signals().Remove(t.Context(), "zkiln.zdoor")
	assert.ErrorContains(t, err, "Zdoor is used by the interlock “Zlock” of Zfan, which relies on it; change that first")
	err = r.Owner.Settings().Remove(t.Context(), "zkiln.zgoal")
	assert.ErrorContains(t, err, "Zgoal is used by the automation of Zfan; change that first")
	err = r.Owner.Presets().Remove(t.Context(), "zonly")
	assert.ErrorContains(t, err, "Zonly is used by the rule Wet; change that first")

	_, err = r.Owner.RemoveDeviceWithResponse(t.Context(), "zkiln",
		&client.RemoveDeviceParams{History: client.RemoveDeviceParamsHistoryDelete})
	require.NoError(t, err)
	for _, word := range []string{"zkiln", "zheat", "zdoor", "zfan", "zgoal", "zlock", "zpair", "zonly", "zhot", "znote",
		"zlens"} {
		assert.Empty(t, written(t, r, word), word)
	}
	s := r.Service.Hub.Site()
	assert.Equal(t, []site.Action{{Kind: site.DoControl, ID: "shed.lamp", To: 1}}, s.Presets["night"].Actions)
	assert.Equal(t, []site.Action{{Kind: site.DoMessage, ID: "shed", Text: "wet"}}, s.Rules["wet"].Stages[0].Actions)
	assert.Len(t, s.Rights.Lines, 1)
	assert.Len(t, s.Panel.Points, 1)
	assert.Equal(t, map[string]string{"shed": "It is {shed.damp}."}, s.Messaging.Say)
	assert.Len(t, s.Dashboards["page"].Tiles, 2)
	walls, err := r.Owner.ListWallsWithResponse(t.Context(), "page")
	require.NoError(t, err)
	assert.Equal(t, []string{"shed.lamp"}, (*walls.JSON200)[0].Switches)

	// With the dashboard go its walls and the picture that nothing else shows.
	assert.NotEmpty(t, written(t, r, up.JSON201.Id))
	require.NoError(t, r.Owner.Dashboards().Remove(t.Context(), "page"))
	assert.Empty(t, written(t, r, up.JSON201.Id))
	assert.Empty(t, written(t, r, wall.JSON201.Wall.ID))

	// What comes back under the same id inherits nothing.
	r.Device("zkiln")
	d := r.Get("zkiln")
	assert.False(t, d.State.Camera)
	assert.Zero(t, d.State.Refused)
	assert.Empty(t, r.Service.Hub.Site().AllAlerts()["zhot"])
}

// With somebody of the household goes what is theirs alone; what they shared stays.
func TestNothingIsLeftOfAMember(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	must := func(_ any, err error) {
		t.Helper()
		require.NoError(t, err)
	}
	r.Pub("kiln", r.Device("kiln"), "ember/kiln/r/chamber", "20")
	kim := r.Member("zkim", client.RoleMember)
	must(save(kim, site.Dashboard{ID: "own", Name: "Own", Tiles: []site.Tile{{ID: "a", Kind: site.TileClock, W: 2,
		H: 2}}}))
	must(save(kim, site.Dashboard{ID: "ours", Name: "Ours", Shared: site.Household,
		Tiles: []site.Tile{{ID: "a", Kind: site.TileClock, W: 2, H: 2}}}))
	must(kim.AddWallWithResponse(t.Context(), "ours", client.AddWallJSONRequestBody{Name: "hall"}))
	must(kim.AddTokenWithResponse(t.Context(), client.AddTokenJSONRequestBody{Name: "script",
		Scopes: []client.Scope{client.ScopeRead}}))
	must(kim.SavePreferencesWithResponse(t.Context(), client.Preferences{Theme: "dark"}))
	for name, shared := range map[string]bool{"Mine": false, "All": true} {
		must(kim.Views().Add(t.Context(), site.View{Name: name, View: "s=kiln.chamber", Shared: shared}))
	}
	must(r.Owner.AddInviteWithResponse(t.Context(), client.NewInvite{Account: ptr("zkim")}))
	require.NoError(t, saveRoute(r, site.Route{ID: "phone", Name: "Phone", Via: "push", Person: "zkim"}))
	must(r.Owner.Rights().Put(t.Context(), site.Rights{Lines: []site.Right{{Who: "zkim", Of: "kiln",
		May: site.GuestsNothing}}}, ""))
	must(r.Owner.RemoveMemberWithResponse(t.Context(), "zkim"))
	left := written(t, r, "zkim")
	assert.Len(t, left, 2, "%s", strings.Join(left, "\n"))
	s := r.Service.Hub.Site()
	assert.Len(t, s.Dashboards, 1)
	assert.Equal(t, "Ours", s.Dashboards["ours"].Name)
	assert.Empty(t, s.Routes)
	assert.Empty(t, s.Rights.Lines)
}

// A place goes when nothing is in it any more, with its settings, its picture and what was told of it alone.
func TestNothingIsLeftOfAPlace(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	place, err := r.Owner.Places().Add(t.Context(), site.Place{Name: "Zattic"})
	require.NoError(t, err)
	assert.Equal(t, "zattic", place.Config.ID)
	_, err = r.Owner.AddDevice(t.Context(), rig.Fields{"id": ptr("kiln"), "name": "Kiln", "place": "zattic"})
	require.NoError(t, err)
	_, err = r.Owner.Settings().Add(t.Context(), site.Setting{ID: "zattic.goal", Name: "Goal", Kind: site.SetNumber,
		Max: 10})
	require.NoError(t, err)
	_, err = r.Owner.SetSettingWithResponse(t.Context(), "zattic.goal", client.SetSettingJSONRequestBody{Value: 7})
	require.NoError(t, err)
	require.NoError(t, saveRoute(r, site.Route{ID: "there", Via: "webhook", To: "http://127.0.0.1:9/", Inside: true,
		Places: []string{"zattic"}}))
	assert.ErrorContains(t, r.Owner.Places().Remove(t.Context(), "zattic"),
		"Zattic is used by the device Kiln; change that first")
	_, err = r.Owner.Devices().Patch(t.Context(), "kiln", rig.Fields{"place": ptr("Shed")}, "")
	require.NoError(t, err)
	require.NoError(t, r.Owner.Places().Remove(t.Context(), "zattic"))
	assert.Empty(t, written(t, r, "zattic"))
	assert.Empty(t, r.Service.Hub.Site().Routes, "without its place a route would be of all")
	r.Restart()
	assert.Len(t, r.Now().Places, 1)
}
