package tests

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/client"
	"idleember/contract/shown"
	"idleember/core/site"
	"idleember/store"
	"idleember/tests/rig"
)

func save(c *client.Remote, d site.Dashboard, match ...string) (string, error) {
	if len(match) > 0 {
		x, err := c.Dashboards().Put(context.Background(), d.ID, d, match[0])
		return x.Version, err
	}
	x, err := c.Dashboards().Save(context.Background(), d)
	return x.Version, err
}

// studio has a kiln with a signal and a fan, and a shed with a signal.
func studio(t *testing.T) *rig.Rig {
	t.Helper()
	r := rig.New(t)
	for _, id := range []string{"kiln", "shed"} {
		key := r.Device(id)
		r.Pub(id, key, "ember/"+id+"/r", `{"chamber":412.5,"level":40}`)
	}
	r.AddControl("kiln", "fan", client.Source{}, client.Target{})
	r.Soon("readings", func() bool { return len(r.Now().Signals) == 4 })
	return r
}

// A member arranges a page; others see it as far as it is shared, and nobody overwrites another's change.
func TestDashboardsAreSharedAndVersioned(t *testing.T) {
	t.Parallel()
	r := studio(t)
	kim, sam, guest := r.Member("kim", "member"), r.Member("sam", "member"), r.Member("pat", "guest")
	names := func(c *client.Remote) (out []string) {
		x, err := c.Dashboards().List(t.Context())
		require.NoError(t, err)
		for _, d := range x {
			out = append(out, fmt.Sprintf("%s by %s %v", d.Config.Name, d.State.By, d.State.Mine))
		}
		return out
	}
	d := site.Dashboard{Name: "Kiln watch", Tiles: []site.Tile{{ID: "a", Kind: site.TileValue,
		Of: []string{"kiln.chamber"}, W: 3, H: 2}}}
	first, err := save(kim, d)
	require.NoError(t, err)
	assert.Equal(t, []string{"Kiln watch by kim true"}, names(kim))
	assert.Empty(t, names(sam), "it is private")
	assert.Empty(t, names(r.Owner))
	_, err = save(sam, site.Dashboard{ID: "kiln_watch", Name: "Mine", Tiles: d.Tiles})
	assert.ErrorContains(t, err, "already a dashboard with the id kiln_watch")

	d.ID, d.Shared = "kiln_watch", site.Household
	second, err := save(kim, d, first)
	require.NoError(t, err)
	assert.Equal(t, []string{"Kiln watch by kim false"}, names(sam))
	assert.Equal(t, []string{"Kiln watch by kim true"}, names(r.Owner))
	assert.Empty(t, names(guest))
	_, err = save(sam, d)
	assert.ErrorContains(t, err, "may not change the dashboard Kiln watch")
	_, err = save(kim, d, first)
	assert.ErrorContains(t, err, "changed this meanwhile")
	d.Shared = site.Everybody
	_, err = save(r.Owner, d, second)
	require.NoError(t, err)
	assert.Equal(t, []string{"Kiln watch by kim false"}, names(guest))
	_, err = save(guest, site.Dashboard{Name: "Mine"})
	assert.ErrorContains(t, err, "guest")

	r.Restart()
	kim = r.Client()
	r.SignIn(kim, "kim")
	assert.Equal(t, []string{"Kiln watch by kim true"}, names(r.Owner))
	assert.Contains(t, strings.Join(r.Journal("dashboard.kiln_watch"), "\n"), "shared with the household")
	err = r.Owner.Dashboards().Remove(t.Context(), "kiln_watch")
	require.NoError(t, err)
	assert.Empty(t, names(r.Owner))

	tile := func(change func(*site.Tile)) []site.Tile {
		x := site.Tile{ID: "a", Kind: site.TileValue, Of: []string{"kiln.chamber"}, W: 3, H: 2}
		change(&x)
		return []site.Tile{x}
	}
	for say, tiles := range map[string][]site.Tile{
		"the grid has 12 columns":  tile(func(x *site.Tile) { x.X = 10 }),
		"is about something":       tile(func(x *site.Tile) { x.Of = nil }),
		"1 things at most":         tile(func(x *site.Tile) { x.Of = []string{"a", "b"} }),
		"has no picture":           tile(func(x *site.Tile) { x.Kind, x.Of = site.TilePicture, nil }),
		"two tiles a":              append(d.Tiles, d.Tiles...),
		"between a minute and ten": tile(func(x *site.Tile) { x.SpanMS = 5 }),
		"0 to 100 per cent": tile(func(x *site.Tile) {
			x.Pins = []site.Pin{{ID: "p", Kind: site.TileLamp, Of: "kiln.fan", X: 120}}
		}),
		"one of both":                   tile(func(x *site.Tile) { x.Parts = []site.Part{{Element: "pump", Does: "fill"}} }),
		"a range goes up from one":      tile(func(x *site.Tile) { x.Ranges = []site.Range{{From: 2, To: 1, Tone: "warn"}} }),
		"the first is less than the se": tile(func(x *site.Tile) { low, high := 4.0, 3.0; x.Low, x.High = &low, &high }),
	} {
		_, err := save(kim, site.Dashboard{Name: "Bad", Tiles: tiles})
		assert.ErrorContains(t, err, say)
	}
	_, err = save(kim, site.Dashboard{Name: "Bad", Tiles: d.Tiles, Narrow: []string{"b"}})
	assert.ErrorContains(t, err, "names b, which is no tile")
}

// What is closed to who arranges their own page for a while is neither shown to them nor lost when they save.
func TestWhatIsClosedStaysOnADashboard(t *testing.T) {
	t.Parallel()
	r := studio(t)
	kim := r.Member("kim", "member")
	tile := func(id string, kind site.TileKind, of ...string) site.Tile {
		return site.Tile{ID: id, Kind: kind, Of: of, W: 3, H: 2}
	}
	drawing := tile("drawing", site.TilePicture)
	drawing.Picture = "p"
	drawing.Pins = []site.Pin{{ID: "x", Kind: site.TileLamp, Of: "kiln.fan"}, {ID: "y", Kind: site.TileValue,
		Of: "shed.level"}}
	drawing.Parts = []site.Part{{Element: "flame", Does: "show", Formula: "kiln.chamber > 500"}, {Element: "float",
		Does: "level", Of: "shed.level"}}
	_, err := save(kim, site.Dashboard{Name: "Mine", Narrow: []string{"shed", "kiln"}, Tiles: []site.Tile{
		tile("kiln", site.TileValue, "kiln.chamber"), tile("both", site.TileChart, "kiln.chamber", "shed.level"), tile("shed",
			site.TileValue, "shed.level"), drawing}})
	require.NoError(t, err)
	closed := func(lines ...site.Right) {
		_, err := r.Owner.Rights().Put(t.Context(), site.Rights{Lines: append([]site.Right{}, lines...)}, "")
		require.NoError(t, err)
	}
	mine := func() shown.Dashboard {
		x, err := kim.Dashboards().Get(t.Context(), "mine")
		require.NoError(t, err)
		return x
	}
	closed(site.Right{Who: "members", Of: "kiln", May: site.GuestsNothing})
	seen := mine()
	text, err := json.Marshal(seen.Config)
	require.NoError(t, err)
	assert.NotContains(t, string(text), "kiln")
	assert.Len(t, seen.Config.Tiles, 3)
	seen.Config.Tiles[1].Name = "Shed" // shed
	// the drawing goes, what is new takes a closed id
	seen.Config.Tiles = append(seen.Config.Tiles[:2], tile("kiln", site.TileClock))
	seen.Config.Narrow = []string{"kiln", "shed"}
	_, err = save(kim, seen.Config, seen.Version)
	require.NoError(t, err)
	assert.NotContains(t, fmt.Sprint(mine().Config), "chamber")

	closed()
	var all []string
	for _, x := range mine().Config.Tiles {
		all = append(all, fmt.Sprintf("%s %s %q %v", x.ID, x.Kind, x.Name, x.Of))
	}
	assert.Equal(t, []string{`kiln_2 value "" [kiln.chamber]`, `both chart "" [kiln.chamber shed.level]`,
		`shed value "Shed" [shed.level]`, `kiln clock "" []`}, all)
	assert.Equal(t, []string{"kiln", "kiln_2", "shed"}, mine().Config.Narrow)

	drawing.ID = "again"
	again, err := save(kim, site.Dashboard{Name: "Again", Tiles: []site.Tile{drawing}})
	require.NoError(t, err)
	closed(site.Right{Who: "members", Of: "kiln", May: site.GuestsNothing})
	less, err := kim.Dashboards().Get(t.Context(), "again")
	require.NoError(t, err)
	require.Len(t, less.Config.Tiles[0].Pins, 1)
	less.Config.Tiles[0].Pins[0].X = 40
	_, err = save(kim, less.Config, again)
	require.NoError(t, err)
	closed()
	less, err = kim.Dashboards().Get(t.Context(), "again")
	require.NoError(t, err)
	drawing.Pins[1].X = 40
	assert.Equal(t, []site.Tile{drawing}, less.Config.Tiles)
}

// A place offers a page of all that it has; what suits a signal follows from its kind and unit.
func TestReadyDashboards(t *testing.T) {
	t.Parallel()
	r := studio(t)
	unit := "%"
	_, err := r.Owner.Signals().Patch(t.Context(), "kiln.level", rig.Fields{"unit": &unit}, "")
	require.NoError(t, err)
	ready := func(of string) (out []string) {
		x, err := r.Owner.ReadyDashboardWithResponse(t.Context(), &client.ReadyDashboardParams{Of: of})
		require.NoError(t, err)
		require.NoError(t, x.JSON200.Validate())
		for _, tile := range x.JSON200.Tiles {
			out = append(out, fmt.Sprint(tile.Kind, tile.Of, " at ", tile.X, ",", tile.Y))
		}
		return out
	}
	assert.Equal(t, []string{"gauge[kiln.level] at 0,0"}, ready("kiln.level"))
	assert.Equal(t, []string{"control[kiln.fan] at 0,0"}, ready("kiln.fan"))
	assert.Equal(t, []string{"sparkline[kiln.chamber] at 0,0", "gauge[kiln.level] at 3,0", "control[kiln.fan] at 6,0",
		"strip[kiln.fan] at 0,2", "chart[kiln.chamber kiln.level] at 0,4"}, ready("kiln"))
	_, err = r.Owner.ReadyDashboardWithResponse(t.Context(), &client.ReadyDashboardParams{Of: "attic"})
	assert.ErrorContains(t, err, "attic")
}

// A wall sees what its dashboard shows and switches what was chosen, until its key is revoked.
func TestAWallSeesItsDashboardAlone(t *testing.T) {
	t.Parallel()
	r := studio(t)
	d := site.Dashboard{ID: "door", Name: "By the door", Tiles: []site.Tile{{ID: "a", Kind: site.TileValue,
		Of: []string{"kiln.chamber"}, W: 3, H: 2}, {ID: "b", Kind: site.TileControl, Of: []string{"kiln.fan"}, W: 3, H: 2,
		Y: 2}}}
	_, err := save(r.Owner, d)
	require.NoError(t, err)
	_, err = r.Owner.AddWallWithResponse(t.Context(), "door", client.NewWall{Name: "Door",
		Switches: &[]string{"shed.level"}})
	assert.ErrorContains(t, err, "shed.level is not on the dashboard")
	key := ""
	open := func(switches ...string) (*client.Remote, string) {
		w := client.NewWall{Name: "Door"}
		if len(switches) > 0 {
			w.Switches = &switches
		}
		made, err := r.Owner.AddWallWithResponse(t.Context(), "door", w)
		require.NoError(t, err)
		c := r.Client()
		key = made.JSON201.Key
		got, err := c.OpenWallWithResponse(t.Context(), client.OpenWallJSONRequestBody{Key: &made.JSON201.Key})
		require.NoError(t, err)
		assert.Equal(t, "By the door", got.JSON200.Dashboard.Config.Name)
		return c, made.JSON201.Wall.ID
	}
	looks, id := open()
	snap := r.Snapshot(looks)
	require.Len(t, snap.Signals, 1)
	assert.Equal(t, "kiln.chamber", snap.Signals[0].Config.ID)
	require.Len(t, snap.Controls, 1)
	assert.Empty(t, snap.Devices)
	want := client.SwitchControlJSONRequestBody{To: true}
	_, err = looks.SwitchControlWithResponse(t.Context(), "kiln.fan", nil, want)
	assert.ErrorContains(t, err, "may not switch")
	_, err = looks.GetHistoryWithResponse(t.Context(), &client.GetHistoryParams{Series: []string{"shed.level"}})
	assert.Error(t, err)
	for what, call := range map[string]func() error{
		"journal":    func() error { _, err := looks.ListJournalWithResponse(t.Context(), nil); return err },
		"tokens":     func() error { _, err := looks.ListTokensWithResponse(t.Context()); return err },
		"dashboards": func() error { _, err := save(looks, d); return err },
		"itself":     func() error { _, err := looks.GetSessionWithResponse(t.Context()); return err },
	} {
		assert.Error(t, call(), what)
	}
	switches, _ := open("kiln.fan")
	_, err = switches.SwitchControlWithResponse(t.Context(), "kiln.fan", nil, want)
	require.NoError(t, err)
	r.Soon("the want", func() bool { return rig.On(r.Control("kiln.fan").State.Want) })
	assert.Contains(t, r.Control("kiln.fan").State.WantBy, "the wall Door")

	ended := make(chan error, 1)
	streaming, cancel := context.WithCancel(t.Context())
	defer cancel()
	begun := make(chan struct{}, 1)
	go func() {
		ended <- looks.LiveFrom(streaming, "", func(client.Event) error { begun <- struct{}{}; return nil })
	}()
	<-begun
	_, err = r.Owner.EndWallWithResponse(t.Context(), "door", id)
	require.NoError(t, err)
	<-ended
	_, err = looks.GetNowWithResponse(t.Context())
	assert.ErrorContains(t, err, "sign in first")
	list, err := r.Owner.ListWallsWithResponse(t.Context(), "door")
	require.NoError(t, err)
	assert.Len(t, *list.JSON200, 1)
	r.Restart()
	switches = r.Client()
	_, err = switches.OpenWallWithResponse(t.Context(), client.OpenWallJSONRequestBody{Key: &key})
	require.NoError(t, err)
	assert.Len(t, r.Snapshot(switches).Signals, 1, "the other one goes on over a restart")
	err = r.Owner.Dashboards().Remove(t.Context(), "door")
	require.NoError(t, err)
	_, err = switches.GetNowWithResponse(t.Context())
	assert.Error(t, err)
}

// An SVG comes back as a drawing and nothing else, in a box of its own; its formulas are worked out by the hub.
func TestPicturesAreSafe(t *testing.T) {
	t.Parallel()
	r := studio(t)
	svg := `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 40 20" onload="alert(1)"><script>alert(2)</script><rect id="pump" width="4" height="4"/></svg>`
	up, err := r.Owner.AddPictureWithBodyWithResponse(t.Context(), nil, "image/svg+xml", strings.NewReader(svg))
	require.NoError(t, err)
	assert.ElementsMatch(t, []string{"script", "onload"}, up.JSON201.LeftOut)
	got, err := r.Owner.GetPicture(t.Context(), up.JSON201.Id)
	require.NoError(t, err)
	defer func() { _ = got.Body.Close() }()
	assert.Equal(t, "image/svg+xml", got.Header.Get("Content-Type"))
	assert.Contains(t, got.Header.Get("Content-Security-Policy"), "sandbox")
	_, err = r.Owner.AddPictureWithBodyWithResponse(t.Context(), nil, "image/png", strings.NewReader("none"))
	assert.ErrorContains(t, err, "neither PNG nor JPEG nor SVG")
	stranger, err := http.Get(r.URL() + "/api/v1/pictures/" + up.JSON201.Id)
	require.NoError(t, err)
	_ = stranger.Body.Close()
	assert.Equal(t, http.StatusUnauthorized, stranger.StatusCode)

	circuit := func(of, formula string) error {
		tiles := []site.Tile{{ID: "a", Kind: site.TilePicture, Picture: up.JSON201.Id, W: 6, H: 4,
			Parts: []site.Part{{Element: "pump", Does: "fill", Formula: "kiln.chamber > 400", End: "#c2480f"}, {Element: "pump",
				Does: "opacity", Formula: formula}}}}
		_, err := save(r.Owner, site.Dashboard{ID: "circuit", Name: "Circuit", Shared: site.Everybody, Tiles: append(tiles,
			site.Tile{ID: "b", Kind: site.TileValue, Of: []string{of}, W: 2, H: 2})})
		return err
	}
	require.ErrorContains(t, circuit("shed.level", "kiln.nothing"), "there is no kiln.nothing")
	require.ErrorContains(t, circuit("shed.levl", "shed.level / 100"), `the tile b names "shed.levl", which is not there`)
	require.NoError(t, circuit("shed.level", "shed.level / 100"))
	_, err = r.Owner.RemoveDeviceWithResponse(t.Context(), "shed",
		&client.RemoveDeviceParams{History: client.RemoveDeviceParamsHistoryKeep})
	require.NoError(t, err)
	require.NoError(t, circuit("shed.level", "shed.level / 100"), "what was there and is gone stands in nobody's way")
	now, err := r.Member("lee", "guest").FormulasNowWithResponse(t.Context(), "circuit")
	require.NoError(t, err)
	assert.Equal(t, "unknown", (*now.JSON200)[0].Value, "a formula tells nobody what they may not see")
}

// A drawing that was taken by an earlier version is made safe before it is shown again.
func TestADrawingOfBeforeIsMadeSafe(t *testing.T) {
	t.Parallel()
	r := studio(t)
	require.NoError(t, r.Service.Close())
	s, err := store.Open(t.Context(), r.Dir, store.Options{})
	require.NoError(t, err)
	for id, body := range map[string]string{"over": `<style>:host{position:fixed;inset:0}</style><rect/>`,
		"bomb": `<g id="a"><use href="#a"/></g>`} {
		require.NoError(t, s.Do(t.Context(), store.SavePicture(store.Picture{ID: id, Type: "image/svg+xml",
			Created: time.Now().UnixMilli(),
			Body:    []byte(`<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 4 4">` + body + `</svg>`)})))
	}
	require.NoError(t, s.Close())
	r.Reopen()
	for range 2 {
		got, err := r.Owner.GetPictureWithResponse(t.Context(), "over")
		require.NoError(t, err)
		assert.Equal(t, `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 4 4"><rect></rect></svg>`, string(got.Body))
	}
	_, err = r.Owner.GetPictureWithResponse(t.Context(), "bomb")
	assert.ErrorContains(t, err, "copy of itself")
}
