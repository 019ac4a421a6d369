package hub

import (
	"net/url"
	"slices"
	"strings"
	"sync"

	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/core/engine"
	"idleember/core/formula"
	"idleember/core/site"
	"idleember/store"
)

// sight is what an actor sees of a site. What goes out about a thing is asked for each thing that it names: a reason tells numbers of
// the signals that it is about, a rule what it switches, a line of the journal what its object was.
type sight struct {
	a     access.Actor
	s     *site.Site
	read  *readFormulas
	whole bool // it sees everything
}

// readFormulas remembers what the formulas of a site name, as everybody who looks asks for that again and again.
type readFormulas struct {
	of  *site.Site
	mu  sync.Mutex
	ids map[string][]string // nil: it cannot be read
}

func (r *readFormulas) idsIn(text string) []string {
	r.mu.Lock()
	defer r.mu.Unlock()
	ids, known := r.ids[text]
	if !known {
		if f, err := formula.Parse(text, engine.Names(r.of)); err == nil {
			ids = append([]string{}, f.IDs...)
		}
		if len(r.ids) > mostFormulas {
			clear(r.ids)
		}
		r.ids[text] = ids
	}
	return ids
}

const mostFormulas = 5000

func (h *Hub) sight(a access.Actor) sight { return h.sightOf(h.Site(), a) }

func (h *Hub) sightOf(s *site.Site, a access.Actor) sight {
	read := h.read.Load()
	if read == nil || read.of != s {
		read = &readFormulas{of: s, ids: map[string][]string{}}
		h.read.Store(read)
	}
	return sight{a, s, read, seesAll(s, a)}
}

// seesAll reports whether nothing of the house is closed to an actor.
func seesAll(s *site.Site, a access.Actor) bool {
	switch {
	case a.Kind == access.TheHub || a.Kind == access.Panel:
		return true
	case a.Kind != access.Person && a.Kind != access.Token:
		return false
	case a.Role == access.Member:
		return !slices.ContainsFunc(s.Rights.Lines, func(l site.Right) bool {
			return l.May == site.GuestsNothing && (l.Who == a.ID || l.Who == site.RightMembers)
		})
	}
	return a.Role == access.Owner
}

// sees reports whether the actor sees what an id, or a series of one, stands for.
func (v sight) sees(id string) bool {
	if v.whole || id == "" {
		return true
	}
	for _, what := range []string{".is", ".want", ".mode"} {
		if of, ok := strings.CutSuffix(id, what); ok && v.s.Controls[of].ID != "" {
			id = of
		}
	}
	if _, ok := v.s.Place(id); ok {
		return v.place(id)
	}
	return access.May(v.a, access.Look, objectOf(v.s, id)) == nil
}

func (v sight) all(ids ...string) bool {
	return v.whole || !slices.ContainsFunc(ids, func(id string) bool { return !v.sees(id) })
}

// place reports whether the actor sees a place: a guest where something in it is open, others where it is not closed to them.
func (v sight) place(id string) bool {
	if v.whole || v.a.Role == access.Member && access.May(v.a, access.Look, access.Object{Name: id, Place: id, Guests: site.GuestsNothing}) == nil {
		return true
	}
	for _, d := range v.s.Devices {
		if d.Place == id && access.May(v.a, access.Look, deviceObject(v.s, d)) == nil {
			return true
		}
	}
	return false
}

// formulas reports whether the actor sees all that formulas name. Of a wall it is asked for who made it.
func (v sight) formulas(texts ...string) bool {
	if v.whole {
		return true
	}
	if v.a.Kind == access.Wall && v.a.Maker != nil {
		v.a = *v.a.Maker
		v.whole = seesAll(v.s, v.a)
	}
	return !slices.ContainsFunc(texts, func(text string) bool {
		ids := v.read.idsIn(text)
		return text != "" && (ids == nil || !v.all(ids...))
	})
}

// decided reports whether the actor sees all that what the hub decides of a control depends on.
func (v sight) decided(control string) bool {
	if v.whole {
		return true
	}
	if auto := v.s.Automations[control]; auto != nil {
		var texts []string
		auto.Formulas(func(_, text string, _ bool) { texts = append(texts, text) })
		if !v.formulas(texts...) {
			return false
		}
		if t := auto.Travel; t != nil && !v.all(t.Opens, t.Closes, t.Pulses, t.IsOpen, t.IsClosed) {
			return false
		}
	}
	for _, g := range v.s.Groups {
		if slices.ContainsFunc(g.Members, func(m site.GroupMember) bool { return m.Control == control }) && !v.group(g) {
			return false
		}
	}
	return true
}

func (v sight) group(g *site.Group) bool {
	return v.whole || !slices.ContainsFunc(g.Members, func(m site.GroupMember) bool { return !v.sees(m.Control) })
}

func (v sight) actions(list []site.Action) bool {
	return !slices.ContainsFunc(list, func(x site.Action) bool {
		if p, ok := v.s.Presets[x.ID]; ok && x.Kind == site.DoPreset {
			return !v.actions(p.Actions)
		}
		return !v.sees(x.ID) || !v.formulas(inText(x.Text)...)
	})
}

// inText are the formulas that stand in a text as {formula}.
func inText(text string) (list []string) {
	for {
		_, rest, ok := strings.Cut(text, "{")
		if !ok {
			return list
		}
		f, after, ok := strings.Cut(rest, "}")
		if !ok {
			return list
		}
		list, text = append(list, f), after
	}
}

func (v sight) rule(r *site.Rule) bool {
	if v.whole {
		return true
	}
	for _, g := range r.Stages {
		if !v.formulas(g.When, g.If, g.Until) || !v.actions(g.Actions) {
			return false
		}
	}
	return true
}

// alert reports whether the actor sees an alert: what it is about, and all that its formulas name. A wall whose tile tells of it shows
// what its maker sees.
func (v sight) alert(x *site.Alert) bool {
	if v.a.Kind == access.Wall && v.a.Maker != nil && v.tells(x) {
		v.a = *v.a.Maker
		v.whole = seesAll(v.s, v.a)
	}
	return v.whole || access.May(v.a, access.Look, alertObject(v.s, x)) == nil && v.formulas(x.When, x.Until)
}

// tells reports whether a wall has a tile that tells of an alert, as far as the wall's maker sees it: one of its place or of no place
// alone, and any where it is critical.
func (v sight) tells(x *site.Alert) bool {
	d := v.s.Dashboards[v.a.ID]
	return slices.ContainsFunc(d.Tiles, func(t site.Tile) bool {
		return t.Kind == site.TileAlerts && (x.Severity == site.Critical || len(t.Of) == 0 || slices.Contains(t.Of, placeOf(v.s, x.Of)))
	})
}

// route reports whether a route is the actor's to see: it holds addresses and keys of whoever it is for.
func (v sight) route(id string) bool {
	return v.whole || v.a.Kind != access.Wall && v.s.Routes[id].Person == v.a.ID && v.s.Routes[id].ID != ""
}

// dashboard leaves out of a dashboard what the actor does not see.
func (v sight) dashboard(d site.Dashboard) site.Dashboard {
	if v.whole || v.a.Kind == access.Wall { // a wall is told what is closed to its maker as gone
		return d
	}
	left, changed := d.Without(func(id string) bool { return !v.sees(id) && v.s.Presets[id].ID == "" })
	for i, t := range left.Tiles {
		parts := slices.DeleteFunc(slices.Clone(t.Parts), func(p site.Part) bool { return p.Formula != "" && !v.formulas(p.Formula) })
		if len(parts) < len(t.Parts) {
			left.Tiles[i].Parts, changed = parts, true
		}
	}
	if !changed {
		return d
	}
	return left
}

// object reports whether the actor sees what a line of the journal, a note or a message is about.
func (v sight) object(object string) bool {
	kind, id, _ := strings.Cut(object, ".")
	if kind == "dashboard" {
		d, ok := v.s.Dashboards[id]
		return ok && mayOpen(v.a, d) || !ok && v.whole
	}
	if v.whole || object == v.a.ID || object == "member "+v.a.ID {
		return true
	}
	switch kind {
	case "rule":
		r := v.s.Rules[id]
		return r != nil && v.rule(r)
	case "group":
		g := v.s.Groups[id]
		return g != nil && v.group(g)
	case "preset":
		p, ok := v.s.Presets[id]
		return ok && v.actions(p.Actions)
	case "alert":
		x := v.s.AllAlerts()[id]
		return x != nil && v.alert(x)
	case "route":
		return v.route(id)
	}
	object = strings.TrimPrefix(object, "place ")
	if _, ok := v.s.Place(object); ok {
		return v.place(object)
	}
	o := aboutObject(v.s, object)
	return o.Name+o.Device+o.Place != "" && access.May(v.a, access.Look, o) == nil && (v.s.Controls[object].ID == "" || v.decided(object))
}

// closedWords stands where a reason would tell of what is closed to whoever asks.
const closedWords = "what decides it is closed to you"

// control leaves out of a control what tells of what the actor does not see.
func (v sight) control(x Control) Control {
	if v.whole {
		return x
	}
	x.Settings = slices.DeleteFunc(slices.Clone(x.Settings), func(id string) bool { return !v.sees(id) })
	if !v.sees(x.MovedBy) {
		x.MovedBy = ""
	}
	if !v.decided(x.ID) {
		x.Reason, x.Latched = closedWords, nil
	}
	return x
}

// told leaves out of an alert who was told of it, but for oneself.
func (v sight) told(x shown.Alert) shown.Alert {
	if !v.whole {
		x.Told = slices.DeleteFunc(slices.Clone(x.Told), func(t shown.AlertTold) bool { return !v.route(t.Route) })
	}
	return x
}

// remarks are the notes or messages that the actor sees. What a rule wrote may hold what the rule looks at.
func (v sight) remarks(list []store.Remark) []store.Remark {
	return slices.DeleteFunc(list, func(r store.Remark) bool { return !v.object(r.Object) || !v.by(r.By) })
}

// ruleName is who did what a rule did.
func ruleName(r *site.Rule) string { return "the rule “" + r.Name + "”" }

// by reports whether the actor sees the rules of a name.
func (v sight) by(name string) bool {
	if v.whole || !strings.HasPrefix(name, "the rule “") {
		return true
	}
	known := false
	for _, r := range v.s.Rules {
		if name == ruleName(r) {
			if known = true; !v.rule(r) {
				return false
			}
		}
	}
	return known // what another one wrote that is gone nobody can judge
}

// events are what became of those alerts that the actor sees.
func (v sight) events(list []store.AlertEvent) []store.AlertEvent {
	if v.whole {
		return list
	}
	all := v.s.AllAlerts()
	return slices.DeleteFunc(list, func(e store.AlertEvent) bool {
		if x := all[e.Alert]; x != nil {
			return !v.alert(x)
		}
		return e.Place == "" || !v.place(e.Place)
	})
}

// view reports whether the actor sees all series that a view of charts shows.
func (v sight) view(text string) bool {
	if v.whole {
		return true
	}
	q, err := url.ParseQuery(text)
	return err == nil && v.all(strings.Split(q.Get("s"), ",")...)
}

// mayHear reports whether the person whom a route is for, where it is for one, sees something.
func (h *Hub) mayHear(route string, sees func(sight) bool) bool {
	account := h.site.Routes[route].Person
	if account == "" {
		return true
	}
	h.people.mu.RLock()
	m, ok := h.people.members[account]
	h.people.mu.RUnlock()
	return ok && sees(h.sightOf(h.site, h.actorOf(m, access.Person, "")))
}
