package hub

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/core/engine"
	"idleember/core/formula"
	"idleember/core/picture"
	"idleember/core/site"
	"idleember/store"
)

// board is a dashboard, as it is now.
func (h *Hub) board(id string) (site.Dashboard, bool) {
	d, ok := h.Site().Dashboards[id]
	return d, ok
}

// mayOpen reports whether an actor may look at a dashboard.
func mayOpen(a access.Actor, d site.Dashboard) bool {
	switch {
	case a.Kind == access.Wall:
		return a.ID == d.ID
	case d.By == a.ID || a.Kind == access.TheHub:
		return true
	case a.Role == access.Guest:
		return d.Shared == site.Everybody
	}
	return d.Shared != site.Private
}

// mayArrange reports whether an actor may change a dashboard: who made it, and an owner where it is shared.
func mayArrange(a access.Actor, d site.Dashboard) bool {
	return access.May(a, access.Tend, access.Anything) == nil && (d.By == a.ID || d.Shared != site.Private && a.Role == access.Owner)
}

func (h *Hub) dashboardView(a access.Actor, d site.Dashboard) shown.Dashboard {
	v := shown.Dashboard{Version: Version(d), Config: h.sight(a).dashboard(d), State: shown.DashboardState{By: d.By, Mine: mayArrange(a, d)}}
	h.people.mu.RLock()
	defer h.people.mu.RUnlock()
	if m, ok := h.people.members[d.By]; ok {
		v.State.By = m.Name
	}
	return v
}

// Dashboard returns one that the actor may open.
func (h *Hub) Dashboard(_ context.Context, a access.Actor, id string) (shown.Dashboard, error) {
	d, ok := h.board(id)
	if !ok || !mayOpen(a, d) {
		return shown.Dashboard{}, &NotFoundError{What: "dashboard", ID: id}
	}
	return h.dashboardView(a, d), nil
}

// checkDashboard puts back what whoever saves it does not see of it.
func (h *Hub) checkDashboard(a access.Actor, before any, e *edit) error {
	d := e.part.(site.Dashboard)
	had, ok := before.(site.Dashboard)
	if ok {
		d = d.WithHidden(had, h.sightOf(h.site, a).dashboard(had))
		d.By = had.By
	} else {
		d.By = a.ID
	}
	if d.Tiles == nil {
		d.Tiles = []site.Tile{}
	}
	e.part = d
	if err := d.Validate(); err != nil { // with what others have on it
		return &InvalidError{"dashboard", err.Error()}
	}
	if e.again { // of what it shows some may be gone since
		return nil
	}
	return h.names(a, d, had)
}

// names says what of a dashboard that was not there before names nothing.
func (h *Hub) names(a access.Actor, d, before site.Dashboard) error {
	had, sees := before.About(), h.sightOf(h.site, a)
	for _, t := range d.Tiles {
		one := site.Dashboard{Tiles: []site.Tile{t}}
		for _, id := range one.About() {
			if !slices.Contains(had, id) && (!isThere(h.site, id) || h.site.Presets[id].ID == "" && !sees.sees(id)) {
				return &InvalidError{"tiles", fmt.Sprintf("the tile %s names %q, which is not there, or not open to you", t.ID, clip(id, 60))}
			}
		}
		for _, text := range one.Formulas() {
			if slices.Contains(before.Formulas(), text) {
				continue
			}
			if _, err := formula.Parse(text, engine.Names(h.site)); err != nil {
				return &InvalidError{"tiles", fmt.Sprintf("the tile %s: %s", t.ID, err)}
			}
			if !sees.formulas(text) {
				return &InvalidError{"tiles", fmt.Sprintf("the tile %s: %q names what is not there, or not open to you", t.ID, clip(text, 60))}
			}
		}
	}
	return nil
}

func boardText(part any) string {
	d := part.(site.Dashboard)
	return fmt.Sprintf("%s, %d tiles, shared with %s", d.Name, len(d.Tiles), map[site.Sharing]string{site.Private: "nobody", site.Household: "the household", site.Everybody: "everybody"}[d.Shared])
}

// freeID makes an id of a name that is not taken.
func freeID(name string, taken func(id string) bool) (string, error) {
	id, err := site.Slug(name)
	if err != nil {
		return "", err
	}
	for n, base := 2, id[:min(len(id), 36)]; ; n++ {
		if !taken(id) {
			return id, nil
		}
		id = fmt.Sprintf("%s_%d", base, n)
	}
}

// boardChanged tells whoever has the dashboard open.
func (h *Hub) boardChanged(id string) {
	h.later(func(err error) {
		if err == nil {
			h.live.add(&Event{Kind: "dashboard", obj: access.Anything, tailor: func(a access.Actor, data any) any {
				if d, ok := h.board(id); ok && !mayOpen(a, d) {
					return nil
				}
				return data
			}}, map[string]string{"id": id})
		}
	})
}

// ReadyDashboard arranges tiles for everything of a place or device, or for one signal, control, setting or preset.
func (h *Hub) ReadyDashboard(_ context.Context, a access.Actor, id string) (site.Dashboard, error) {
	if err := access.May(a, access.Audit, access.Anything); err != nil {
		return site.Dashboard{}, err
	}
	name, tiles := h.Site().Ready(id)
	if len(tiles) == 0 {
		return site.Dashboard{}, &NotFoundError{What: "place, device, signal, control, setting or preset with something to show", ID: id}
	}
	return site.Dashboard{Name: name, By: a.ID, Tiles: tiles}, nil
}

// FormulasNow returns what the formulas of a dashboard come to now. One that names what the actor may not see is unknown to them.
func (h *Hub) FormulasNow(ctx context.Context, a access.Actor, id string) ([]shown.FormulaNow, error) {
	d, ok := h.board(id)
	if !ok || !mayOpen(a, d) {
		return nil, &NotFoundError{What: "dashboard", ID: id}
	}
	out := []shown.FormulaNow{}
	for _, text := range d.Formulas() {
		got, err := h.checkFormula(ctx, text)
		if err != nil {
			return nil, err
		}
		switch {
		case !got.OK:
			got.Value = "unknown"
		case !h.sight(a).formulas(text):
			got.Value, got.Reason = "unknown", "it names what you may not see"
		}
		out = append(out, shown.FormulaNow{Formula: text, Value: got.Value, Reason: got.Reason})
	}
	return out, nil
}

// AddPicture keeps a picture after making it safe; what was left out of it is told.
func (h *Hub) AddPicture(ctx context.Context, a access.Actor, name string, body []byte) (id string, p picture.Picture, err error) {
	if err := access.May(a, access.Tend, access.Anything); err != nil {
		return "", p, err
	}
	if p, err = picture.Clean(body); err != nil {
		return "", p, &InvalidError{"picture", err.Error()}
	}
	id = secret(12)
	return id, p, h.do(ctx, func() error {
		h.write(store.SavePicture(store.Picture{ID: id, Account: a.ID, Name: name, Type: p.Type, Created: h.Time().UnixMilli(), Body: p.Body, Rules: picture.Rules}))
		h.journal(h.Time(), a, "add", "picture."+id, "", name, "")
		return nil
	})
}

// Picture returns a picture. Its id cannot be guessed and stands only in what shows it; whoever knows it may look.
func (h *Hub) Picture(ctx context.Context, a access.Actor, id string) (store.Picture, error) {
	if err := access.May(a, access.Look, access.Anything); err != nil {
		return store.Picture{}, err
	}
	p, ok, err := h.store.Picture(ctx, id)
	if err == nil && !ok {
		err = &NotFoundError{What: "picture", ID: id}
	}
	if err != nil || p.Rules >= picture.Rules {
		return p, err
	}
	again, err := picture.Clean(p.Body)
	if err != nil {
		return p, &InvalidError{"picture", "this picture came before the hub knew better: " + err.Error()}
	}
	p.Body, p.Rules = again.Body, picture.Rules
	return p, h.do(ctx, func() error {
		h.write(store.SavePicture(p))
		return nil
	})
}

// dropPictures forgets pictures that nothing shows, a day after they came.
func (h *Hub) dropPictures(ctx context.Context) error {
	ids, err := h.store.PicturesBefore(ctx, h.Time().Add(-24*time.Hour).UnixMilli())
	if err != nil || len(ids) == 0 {
		return err
	}
	return h.do(ctx, func() error {
		shown := h.site.Pictures()
		for _, id := range ids {
			if !shown[id] {
				h.write(store.DropPicture(id))
			}
		}
		return nil
	})
}

func wallOf(x store.Pass) (w shown.Wall) {
	_ = json.Unmarshal([]byte(x.Wall), &w) // we wrote it
	w.ID, w.Name, w.CreatedMS = x.ID, x.Name, x.Created
	return w
}

// actor is what stands before a wall: it sees what the dashboard shows and switches what was chosen, as far as its maker may. Its id
// is the dashboard.
func (h *Hub) wallActor(w shown.Wall, maker access.Actor, from string) access.Actor {
	a := access.Actor{Kind: access.Wall, ID: w.Dashboard, Name: "the wall " + w.Name, Role: access.Guest, From: from, Switches: w.Switches, Maker: &maker}
	if d, ok := h.board(w.Dashboard); ok {
		a.Sees = d.About()
		for _, t := range d.Tiles {
			if t.Kind == site.TileStill {
				a.Sees = append(a.Sees, stillsOf(t.Of[0]))
			}
		}
	}
	s := h.Site()
	for _, id := range slices.Clone(a.Sees) {
		aimed := s.AimedAt(id)
		a.Sees = append(a.Sees, aimed...)
		if slices.Contains(w.Switches, id) {
			a.Switches = append(a.Switches[:len(a.Switches):len(a.Switches)], aimed...)
		}
	}
	a.Sees = slices.DeleteFunc(a.Sees, func(id string) bool { return access.May(maker, access.Look, objectOf(s, id)) != nil })
	not := unswitchable(s, maker, a.Switches)
	a.Switches = slices.DeleteFunc(slices.Clone(a.Switches), func(id string) bool { return slices.Contains(not, id) })
	return a
}

// AddWall makes the key of a wall, which is told once.
func (h *Hub) AddWall(ctx context.Context, a access.Actor, w shown.Wall) (string, shown.Wall, error) {
	d, ok := h.board(w.Dashboard)
	switch {
	case !ok || !mayOpen(a, d):
		return "", w, &NotFoundError{What: "dashboard", ID: w.Dashboard}
	case !mayArrange(a, d):
		return "", w, &access.Denied{Actor: a, Action: access.Configure, Object: access.Object{Name: "the dashboard " + d.Name}}
	}
	if err := access.May(a, access.Own, access.Anything); err != nil { // the key of a wall is one more way in
		return "", w, err
	}
	if err := checkName("name", w.Name); err != nil {
		return "", w, err
	}
	for _, at := range []string{w.DimFrom, w.DimUntil} {
		if _, err := time.Parse("15:04", at); at != "" && err != nil {
			return "", w, &InvalidError{"dim_from", fmt.Sprintf("%q is no time of day; write it as 22:00", at)}
		}
	}
	if (w.DimFrom == "") != (w.DimUntil == "") {
		return "", w, &InvalidError{"dim_until", "tell both from when and until when it dims, or neither"}
	}
	about := d.About()
	for _, id := range w.Switches {
		if !slices.Contains(about, id) {
			return "", w, &InvalidError{"switches", id + " is not on the dashboard; a wall can only switch what it shows"}
		}
	}
	if not := unswitchable(h.Site(), a, w.Switches); len(not) > 0 {
		return "", w, &access.Denied{Actor: a, Action: access.Switch, Object: access.Object{Name: strings.Join(not, ", ")}}
	}
	if site := h.Site(); a.Role != access.Owner {
		for _, id := range w.Switches {
			if site.Controls[id].Dangerous {
				return "", w, &InvalidError{"switches", site.Controls[id].Name + " is marked as dangerous; only an owner may put it on a wall"}
			}
		}
	}
	body, err := json.Marshal(shown.Wall{Dashboard: w.Dashboard, Switches: w.Switches, DimFrom: w.DimFrom, DimUntil: w.DimUntil})
	if err != nil {
		return "", w, err
	}
	key, x, err := h.pass(ctx, a, store.Pass{Kind: "wall", Name: w.Name, Wall: string(body)}, 0)
	return key, wallOf(x), err
}

// Walls returns the walls of a dashboard.
func (h *Hub) Walls(ctx context.Context, a access.Actor, dashboard string) ([]shown.Wall, error) {
	d, err := h.Dashboard(ctx, a, dashboard)
	if err != nil {
		return nil, err
	}
	out := []shown.Wall{}
	if !d.State.Mine {
		return out, nil
	}
	h.people.mu.RLock()
	defer h.people.mu.RUnlock()
	for _, x := range h.people.passes {
		if x.Kind == "wall" {
			if w := wallOf(x); w.Dashboard == dashboard {
				out = append(out, w)
			}
		}
	}
	slices.SortFunc(out, func(x, y shown.Wall) int { return int(x.CreatedMS - y.CreatedMS) })
	return out, nil
}

// EndWall revokes the key of a wall; what shows it goes dark at once.
func (h *Hub) EndWall(ctx context.Context, a access.Actor, dashboard, id string) error {
	d, err := h.Dashboard(ctx, a, dashboard)
	if err != nil {
		return err
	}
	if !d.State.Mine {
		return &access.Denied{Actor: a, Action: access.Configure, Object: access.Object{Name: "the dashboard " + d.Config.Name}}
	}
	return h.do(ctx, func() error {
		if h.endWalls(func(w shown.Wall) bool { return w.Dashboard == dashboard && w.ID == id }) == 0 {
			return &NotFoundError{What: "wall", ID: id}
		}
		h.journal(h.Time(), a, "end wall", "dashboard."+dashboard, id, "", "")
		h.lookAgain()
		return nil
	})
}

// endWalls ends the keys of some walls and reports how many.
func (h *Hub) endWalls(which func(shown.Wall) bool) (n int) {
	h.people.mu.Lock()
	defer h.people.mu.Unlock()
	for sum, x := range h.people.passes {
		if x.Kind == "wall" && which(wallOf(x)) {
			h.endPass(sum, x)
			n++
		}
	}
	return n
}

// wallsLeft ends the walls of dashboards that are gone, and takes from the others what they may switch that is.
func (h *Hub) wallsLeft() {
	h.endWalls(func(w shown.Wall) bool { return h.site.Dashboards[w.Dashboard].ID == "" })
	h.people.mu.Lock()
	defer h.people.mu.Unlock()
	for sum, x := range h.people.passes {
		if x.Kind != "wall" {
			continue
		}
		w := wallOf(x)
		left := slices.DeleteFunc(slices.Clone(w.Switches), func(id string) bool { return !h.site.Has(id) && h.site.Presets[id].ID == "" })
		if len(left) < len(w.Switches) {
			x.Wall = raw(shown.Wall{Dashboard: w.Dashboard, Switches: left, DimFrom: w.DimFrom, DimUntil: w.DimUntil})
			h.people.passes[sum] = x
			h.write(store.SavePass(x))
		}
	}
}

// WallOf returns the wall whose key it is, with its dashboard.
func (h *Hub) WallOf(ctx context.Context, key, from string) (shown.Wall, shown.Dashboard, error) {
	a, x, err := h.Who(key, from)
	if err == nil && a.Kind != access.Wall {
		err = ErrSignedOut
	}
	if err != nil {
		return shown.Wall{}, shown.Dashboard{}, err
	}
	d, err := h.Dashboard(ctx, a, a.ID)
	return wallOf(x), d, err
}
