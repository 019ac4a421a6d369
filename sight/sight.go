// Package sight says what an actor may see of a site: what rights are about, and what of it is left out of what goes
// out to them.
package sight

import (
	"net/url"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/core/engine"
	"idleember/core/formula"
	"idleember/core/site"
	"idleember/core/words"
	"idleember/store"
)

// Sight is what an actor sees of a site. What goes out about a thing is asked for each thing that it names: a reason
// tells numbers of the signals that it is about, a rule what it switches, a line of the journal what its object was.
type Sight struct {
	Site  *site.Site
	Whole bool // it sees everything
	a     access.Actor
	read  *formulas
}

// Glass makes sights, and remembers between them what a site's formulas name, as everybody who looks asks for that
// again and again. It is used from any goroutine; its zero value is ready.
type Glass struct{ read atomic.Pointer[formulas] }

// As is what an actor sees of a site.
func (g *Glass) As(s *site.Site, a access.Actor) Sight {
	return Sight{Site: s, Whole: seesAll(s, a), a: a, read: g.of(s)}
}

// Reads tells what the formulas of a site name; nil where one cannot be read.
func (g *Glass) Reads(s *site.Site) func(text string) []string { return g.of(s).idsIn }

func (g *Glass) of(s *site.Site) *formulas {
	read := g.read.Load()
	if read == nil || read.of != s {
		read = &formulas{of: s, ids: map[string][]string{}}
		g.read.Store(read)
	}
	return read
}

const mostFormulas = 5000

// formulas remembers what the formulas of a site name.
type formulas struct {
	of  *site.Site
	mu  sync.Mutex
	ids map[string][]string // nil: it cannot be read
}

func (r *formulas) idsIn(text string) []string {
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

// Sees reports whether the actor sees what an id, or a series of one, stands for.
func (v Sight) Sees(id string) bool {
	if v.Whole || id == "" {
		return true
	}
	for _, what := range []string{".is", ".want", ".mode"} {
		if of, ok := strings.CutSuffix(id, what); ok && v.Site.Controls[of].ID != "" {
			id = of
		}
	}
	if _, ok := v.Site.Place(id); ok {
		return v.Place(id)
	}
	return access.May(v.a, access.Look, Of(v.Site, id)) == nil
}

func (v Sight) All(ids ...string) bool {
	return v.Whole || !slices.ContainsFunc(ids, func(id string) bool { return !v.Sees(id) })
}

// Place reports whether the actor sees a place: a guest where something in it is open, others where it is not closed to
// them.
func (v Sight) Place(id string) bool {
	if v.Whole || v.a.Role == access.Member && access.May(v.a, access.Look,
		access.Object{Name: id, Place: id, Guests: site.GuestsNothing}) == nil {
		return true
	}
	for _, d := range v.Site.Devices {
		if d.Place == id && access.May(v.a, access.Look, OfDevice(v.Site, d)) == nil {
			return true
		}
	}
	return false
}

// Formulas reports whether the actor sees all that formulas name. Of a wall it is asked for who made it.
func (v Sight) Formulas(texts ...string) bool {
	if v.Whole {
		return true
	}
	if v.a.Kind == access.Wall && v.a.Maker != nil {
		v.a = *v.a.Maker
		v.Whole = seesAll(v.Site, v.a)
	}
	return !slices.ContainsFunc(texts, func(text string) bool {
		ids := v.read.idsIn(text)
		return text != "" && (ids == nil || !v.All(ids...))
	})
}

// Decided reports whether the actor sees all that what the hub decides of a control depends on.
func (v Sight) Decided(control string) bool {
	if v.Whole {
		return true
	}
	if auto := v.Site.Automations[control]; auto != nil {
		var texts []string
		auto.Formulas(func(_, text string, _ bool) { texts = append(texts, text) })
		if !v.Formulas(texts...) {
			return false
		}
		if t := auto.Travel; t != nil && !v.All(t.Opens, t.Closes, t.Pulses, t.IsOpen, t.IsClosed) {
			return false
		}
	}
	for _, g := range v.Site.Groups {
		if slices.ContainsFunc(g.Members, func(m site.GroupMember) bool { return m.Control == control }) && !v.Group(g) {
			return false
		}
	}
	return true
}

func (v Sight) Group(g *site.Group) bool {
	return v.Whole || !slices.ContainsFunc(g.Members, func(m site.GroupMember) bool { return !v.Sees(m.Control) })
}

func (v Sight) Actions(list []site.Action) bool {
	return !slices.ContainsFunc(list, func(x site.Action) bool {
		if p, ok := v.Site.Presets[x.ID]; ok && x.Kind == site.DoPreset {
			return !v.Actions(p.Actions)
		}
		return !v.Sees(x.ID) || !v.Formulas(inText(x.Text)...)
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

func (v Sight) Rule(r *site.Rule) bool {
	if v.Whole {
		return true
	}
	for _, g := range r.Stages {
		if !v.Formulas(g.When, g.If, g.Until) || !v.Actions(g.Actions) {
			return false
		}
	}
	return true
}

// Alert reports whether the actor sees an alert: what it is about, and all that its formulas name. A wall whose tile
// tells of it shows what its maker sees.
func (v Sight) Alert(x *site.Alert) bool {
	if v.a.Kind == access.Wall && v.a.Maker != nil && v.Tells(x) {
		v.a = *v.a.Maker
		v.Whole = seesAll(v.Site, v.a)
	}
	return v.Whole || access.May(v.a, access.Look, OfAlert(v.Site, x)) == nil && v.Formulas(x.When, x.Until)
}

// Tells reports whether a wall has a tile that tells of an alert, as far as the wall's maker sees it: one of its place
// or of no place alone, and any where it is critical.
func (v Sight) Tells(x *site.Alert) bool {
	d := v.Site.Dashboards[v.a.ID]
	return slices.ContainsFunc(d.Tiles, func(t site.Tile) bool {
		return t.Kind == site.TileAlerts && (x.Severity == site.Critical || len(t.Of) == 0 || slices.Contains(t.Of,
			PlaceOf(v.Site, x.Of)))
	})
}

// Route reports whether a route is the actor's to see: it holds addresses and keys of whoever it is for.
func (v Sight) Route(id string) bool {
	return v.Whole || v.a.Kind != access.Wall && v.Site.Routes[id].Person == v.a.ID && v.Site.Routes[id].ID != ""
}

// Dashboard leaves out of a dashboard what the actor does not see.
func (v Sight) Dashboard(d site.Dashboard) site.Dashboard {
	if v.Whole || v.a.Kind == access.Wall { // a wall is told what is closed to its maker as gone
		return d
	}
	left, changed := d.Without(func(id string) bool { return !v.Sees(id) && v.Site.Presets[id].ID == "" })
	for i, t := range left.Tiles {
		parts := slices.DeleteFunc(slices.Clone(t.Parts), func(p site.Part) bool {
			return p.Formula != "" && !v.Formulas(p.Formula)
		})
		if len(parts) < len(t.Parts) {
			left.Tiles[i].Parts, changed = parts, true
		}
	}
	if !changed {
		return d
	}
	return left
}

// Object reports whether the actor sees what a line of the journal, a note or a message is about. Long, because it is
// one case for each kind.
func (v Sight) Object(object string) bool {
	kind, id, _ := strings.Cut(object, ".")
	if kind == "dashboard" {
		d, ok := v.Site.Dashboards[id]
		return ok && MayOpen(v.a, d) || !ok && v.Whole
	}
	if v.Whole || object == v.a.ID || object == "member "+v.a.ID {
		return true
	}
	switch kind {
	case "rule":
		r := v.Site.Rules[id]
		return r != nil && v.Rule(r)
	case "group":
		g := v.Site.Groups[id]
		return g != nil && v.Group(g)
	case "preset":
		p, ok := v.Site.Presets[id]
		return ok && v.Actions(p.Actions)
	case "alert":
		x := v.Site.AllAlerts()[id]
		return x != nil && v.Alert(x)
	case "route":
		return v.Route(id)
	}
	object = strings.TrimPrefix(object, "place ")
	if _, ok := v.Site.Place(object); ok {
		return v.Place(object)
	}
	o := About(v.Site, object)
	return o.Name+o.Device+o.Place != "" && access.May(v.a, access.Look, o) == nil && (v.Site.Controls[object].ID == "" ||
		v.Decided(object))
}

// Closed stands where a reason would tell of what is closed to whoever asks.
var Closed = words.Of("closed")

// Control leaves out of a control what tells of what the actor does not see.
func (v Sight) Control(x shown.Control) shown.Control {
	if v.Whole {
		return x
	}
	s := &x.State
	s.Settings = slices.DeleteFunc(slices.Clone(s.Settings), func(id string) bool { return !v.Sees(id) })
	if !v.Sees(s.MovedBy) {
		s.MovedBy = ""
	}
	if !v.Decided(x.Config.ID) {
		s.Reason, s.Latched = words.TextOf(Closed), nil
		s.Needs = slices.DeleteFunc(slices.Clone(s.Needs), func(n shown.Need) bool { return n.Text.Code == "needs.latch" })
		for i, n := range s.Needs {
			if n.Text.Code == "needs.proof" {
				s.Needs[i].Text = words.TextOf(words.Of("needs.proof", "Why", Closed))
			}
		}
	}
	return x
}

// Told leaves out of an alert who was told of it, but for oneself.
func (v Sight) Told(x shown.Alert) shown.Alert {
	if !v.Whole {
		x.State.Told = slices.DeleteFunc(slices.Clone(x.State.Told),
			func(t shown.AlertTold) bool { return !v.Route(t.Route) })
	}
	return x
}

// Remarks are the notes or messages that the actor sees. What a rule wrote may hold what the rule looks at.
func (v Sight) Remarks(list []store.Remark) []store.Remark {
	return slices.DeleteFunc(list, func(r store.Remark) bool { return !v.Object(r.Object) || !v.By(r.By) })
}

// RuleName is who did what a rule did.
func RuleName(r *site.Rule) string { return "the rule “" + r.Name + "”" }

// By reports whether the actor sees the rules of a name.
func (v Sight) By(name string) bool {
	if v.Whole || !strings.HasPrefix(name, "the rule “") {
		return true
	}
	known := false
	for _, r := range v.Site.Rules {
		if name == RuleName(r) {
			if known = true; !v.Rule(r) {
				return false
			}
		}
	}
	return known // what another one wrote that is gone nobody can judge
}

// Events are what became of those alerts that the actor sees.
func (v Sight) Events(list []store.AlertEvent) []store.AlertEvent {
	if v.Whole {
		return list
	}
	all := v.Site.AllAlerts()
	return slices.DeleteFunc(list, func(e store.AlertEvent) bool {
		if x := all[e.Alert]; x != nil {
			return !v.Alert(x)
		}
		return e.Place == "" || !v.Place(e.Place)
	})
}

// View reports whether the actor sees all series that a view of charts shows.
func (v Sight) View(text string) bool {
	if v.Whole {
		return true
	}
	q, err := url.ParseQuery(text)
	return err == nil && v.All(strings.Split(q.Get("s"), ",")...)
}

// Seen is what of a list the actor may see, by what each is about.
func Seen[T any](v Sight, list []T, about func(T) string) []T {
	return slices.DeleteFunc(list, func(x T) bool { return access.May(v.a, access.Look, About(v.Site, about(x))) != nil })
}

// IDs are those of all signals, or controls, or both, that the actor may see, for guessing what a misspelt one meant.
func (v Sight) IDs(signals, controls bool) []string {
	var out []string
	if signals {
		for id, s := range v.Site.Signals {
			if access.May(v.a, access.Look, OfSignal(v.Site, s)) == nil {
				out = append(out, id)
			}
		}
	}
	if controls {
		for id, c := range v.Site.Controls {
			if access.May(v.a, access.Look, OfControl(v.Site, c)) == nil {
				out = append(out, id)
			}
		}
	}
	slices.Sort(out)
	return out
}
