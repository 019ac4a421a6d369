package tests

import (
	"fmt"
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

// What is removed with its history leaves nothing behind that something of the same id could inherit: no row of any
// table speaks of it but the journal and what the journal can bring back.
func TestNothingIsInheritedFromWhatWasRemoved(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	const id = "quartzite" // stands nowhere else
	key := r.Device(id)
	other := r.Device("shed")
	r.Pub("shed", other, "ember/shed/r/level", "1")
	r.Pub("shed", other, "ember/shed/is/lamp", "off")
	r.Pub(id, key, "ember/"+id+"/r/chamber", "20")
	r.Pub(id, key, "ember/"+id+"/is/fan", "off")
	r.Soon("both", func() bool { return len(r.Now().Signals) == 2 && len(r.Now().Controls) == 2 })
	sig, fan := id+".chamber", id+".fan"
	must := func(_ any, err error) {
		t.Helper()
		require.NoError(t, err)
	}
	r.Member("pat", client.RoleGuest)
	lines := []site.Right{{Who: "pat", Of: sig, May: site.GuestsSee}, {Who: "pat", Of: fan, May: site.GuestsSwitch},
		{Who: "pat", Of: id, May: site.GuestsSee}, {Who: "pat", Of: "shed", May: site.GuestsSee}}
	must(r.Owner.Rights().Put(t.Context(), site.Rights{Lines: lines}, ""))
	must(r.Owner.Settings().Add(t.Context(), site.Setting{ID: id + ".target", Name: "Target", Kind: site.SetNumber,
		Max: 100, Step: 1}))
	must(r.Owner.SetSettingWithResponse(t.Context(), id+".target", client.SetSettingJSONRequestBody{Value: 30.0}))
	must(r.Owner.Automation(fan).Put(t.Context(), site.Automation{Demands: []site.Demand{{Kind: engine.Whenever,
		Condition: site.Condition{When: sig + " > 100"}}}}, ""))
	saveAlert(r, site.Alert{ID: "hot", Name: "Too hot", Kind: site.AlertAbove, Of: sig, Limit: 10})
	must(save(r.Owner, site.Dashboard{ID: "page", Name: "Page", Shared: site.Everybody,
		Tiles: []site.Tile{{ID: "a", Kind: site.TileValue, Of: []string{sig}, W: 3, H: 2},
			{ID: "b", Kind: site.TileChart, Of: []string{sig, "shed.level"}, W: 3, H: 2}, {ID: "c", Kind: site.TileControl,
				Of: []string{fan}, W: 3, H: 2}}}))
	switches := []string{fan}
	wall, err := r.Owner.AddWallWithResponse(t.Context(), "page", client.AddWallJSONRequestBody{Name: "hall",
		Switches: &switches})
	require.NoError(t, err)
	must(r.Owner.AddNoteWithResponse(t.Context(), client.NewNote{Object: sig, Text: "x", At: time.Now()}))
	word := "a glaze word"
	must(r.Owner.Devices().Patch(t.Context(), id, rig.Fields{"camera": site.Camera{Address: "http://127.0.0.1:9/still.jpg",
		Account: "hub", Inside: true}, "camera_password": &word}, ""))
	must(r.Owner.SwitchControlWithResponse(t.Context(), fan, nil, client.SwitchControlJSONRequestBody{To: true}))

	history := client.RemoveDeviceParamsHistoryDelete
	must(r.Owner.RemoveDeviceWithResponse(t.Context(), id, &client.RemoveDeviceParams{History: history}))
	now, err := r.Owner.Rights().Get(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []site.Right{lines[3]}, now.Config.Lines)
	d, err := r.Owner.Dashboards().Get(t.Context(), "page")
	require.NoError(t, err)
	require.Len(t, d.Config.Tiles, 1)
	assert.Equal(t, []string{"shed.level"}, d.Config.Tiles[0].Of)

	key = r.Device(id) // another one of the same name
	r.Pub(id, key, "ember/"+id+"/is/fan", "off")
	r.Soon("it is there", func() bool { return len(r.Now().Controls) == 2 })
	pat := r.Client()
	r.SignIn(pat, "pat")
	assert.Len(t, r.Snapshot(pat).Controls, 1)
	_, err = pat.SwitchControlWithResponse(t.Context(), fan, nil, client.SwitchControlJSONRequestBody{To: true})
	assert.Error(t, err, "a guest inherits no right")
	hall, err := client.New(r.URL(), wall.JSON201.Key)
	require.NoError(t, err)
	_, err = hall.SwitchControlWithResponse(t.Context(), fan, nil, client.SwitchControlJSONRequestBody{To: true})
	assert.Error(t, err, "nor does a wall")
	must(r.Owner.RemoveDeviceWithResponse(t.Context(), id, &client.RemoveDeviceParams{History: history}))

	require.NoError(t, r.Service.Close())
	db, err := sqlx.Open("sqlite", filepath.Join(r.Dir, store.File))
	require.NoError(t, err)
	var tables []string
	require.NoError(t, db.Select(&tables, `SELECT name FROM sqlite_master WHERE type = 'table'`))
	for _, table := range tables {
		rows, err := db.Queryx(`SELECT * FROM "` + table + `"`)
		require.NoError(t, err)
		for rows.Next() {
			row := map[string]any{}
			require.NoError(t, rows.MapScan(row))
			for name, v := range row {
				if b, ok := v.([]byte); ok {
					v = string(b)
				}
				if !slices.Contains([]string{"journal", "versions", "log", "series"}, table) && strings.Contains(fmt.Sprint(v),
					id) {
					t.Errorf("%s.%s still holds %.200s", table, name, fmt.Sprint(v))
				}
			}
		}
		require.NoError(t, rows.Close())
	}
	require.NoError(t, db.Close())
	r.Reopen()
}
