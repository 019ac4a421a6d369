package hub

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
	"time"

	"idleember/core/access"
	"idleember/core/engine"
	"idleember/core/formula"
	"idleember/core/site"
	"idleember/store"
)

// PresetView is a preset as those see it who may apply it.
type PresetView struct {
	Version string      `json:"version"`
	Config  site.Preset `json:"config"`
}

// mayApply reports whether an actor may apply a preset: by its role, and because everything in it may be switched by them.
func mayApply(s *site.Site, a access.Actor, p site.Preset) bool {
	ranks := map[access.Role]int{access.Guest: 1, access.Member: 2, access.Owner: 3}
	need := access.Role(p.Role)
	if need == "" {
		need = access.Member
	}
	if a.Kind == access.Wall {
		return slices.Contains(a.Switches, p.ID)
	}
	if a.Kind == access.TheHub || a.Kind == access.Panel {
		return true
	}
	sets := []string{}
	for _, x := range p.Actions {
		sets = append(sets, x.ID)
	}
	return ranks[a.Role] >= ranks[need] && len(unswitchable(s, a, sets)) == 0
}

func (h *Hub) settingsAndPresets(a access.Actor, out *Snapshot) {
	for _, id := range slices.Sorted(maps.Keys(h.site.Settings)) {
		if g := h.site.Settings[id]; access.May(a, access.Look, h.settingObject(g)) == nil {
			out.Settings = append(out.Settings, h.settingView(g))
		}
	}
	for _, id := range slices.Sorted(maps.Keys(h.site.Presets)) {
		if p := h.site.Presets[id]; mayApply(h.site, a, p) {
			out.Presets = append(out.Presets, PresetView{Version(p), p})
		}
	}
}

// ApplyPreset applies a preset, until a time where that is not zero.
func (h *Hub) ApplyPreset(ctx context.Context, a access.Actor, id string, until time.Time) error {
	return h.do(ctx, func() error {
		p, ok := h.site.Presets[id]
		if !ok {
			return &NotFoundError{"preset", id, site.Nearest(id, slices.Sorted(maps.Keys(h.site.Presets)))}
		}
		if !mayApply(h.site, a, p) {
			return &access.Denied{Actor: a, Action: access.Switch, Object: access.Object{Name: "the preset " + p.Name}}
		}
		if p.Ends && until.IsZero() {
			return &InvalidError{"until", p.Name + " needs an end; tell until when it holds"}
		}
		if !until.IsZero() && !until.After(h.Time()) {
			return &InvalidError{"until", "the end lies in the past; choose a later one"}
		}
		h.apply(engine.Apply{Preset: id, Until: until, Actor: a})
		return nil
	})
}

// part is a kind of configuration with ids of its own that is kept as a whole.
type part[T any] struct {
	kind     string
	of       func(*site.Site) map[string]T
	id       func(*T) *string
	validate func(*site.Site, T) error
	save     func(T) store.Change
}

// all are those that are there, also without having been made.
func (p part[T]) all(s *site.Site) map[string]T {
	if alerts, ok := any(s.AllAlerts()).(map[string]T); ok {
		return alerts
	}
	return p.of(s)
}

// ErrThere is what a check of an edit says where something is to be made and one of its id is there already.
var ErrThere = errors.New("it is there already")

// ExistsError says that what is to be made would replace something.
type ExistsError struct{ Kind, ID, Name string }

func (e *ExistsError) Error() string {
	return fmt.Sprintf("the %s %s (%s) is there already; choose another id, or change that one", e.Kind, e.ID, e.Name)
}

var (
	settingPart = part[site.Setting]{"setting", func(s *site.Site) map[string]site.Setting { return s.Settings }, func(g *site.Setting) *string { return &g.ID },
		func(s *site.Site, g site.Setting) error { return g.Validate(s) }, store.SaveSetting}
	presetPart = part[site.Preset]{"preset", func(s *site.Site) map[string]site.Preset { return s.Presets }, func(p *site.Preset) *string { return &p.ID },
		func(s *site.Site, p site.Preset) error { return p.Validate(s) }, store.SavePreset}
	rulePart = part[*site.Rule]{"rule", func(s *site.Site) map[string]*site.Rule { return s.Rules }, func(r **site.Rule) *string { return &(*r).ID },
		func(s *site.Site, r *site.Rule) error {
			if err := r.Validate(s); err != nil {
				return err
			}
			return formulasOf(s, r.Formulas)
		}, store.SaveRule}
	groupPart = part[*site.Group]{"group", func(s *site.Site) map[string]*site.Group { return s.Groups }, func(g **site.Group) *string { return &(*g).ID },
		func(s *site.Site, g *site.Group) error { return g.Validate(s) }, store.SaveGroup}
)

// keep saves a part after checking it; without an id it is made with a free one, and so is a setting
// of which only the owner is told ("kiln."). check is asked with what is there of that id, or nil.
func keep[T any](h *Hub, a access.Actor, p part[T], next *T, name string, check func(any) error) error {
	if err := access.May(a, access.Configure, access.Anything); err != nil {
		return err
	}
	if err := checkName("name", name); err != nil {
		return err
	}
	all := p.all(h.site)
	id := *p.id(next)
	if owner := strings.TrimSuffix(id, "."); id == "" && p.kind != "setting" || owner != id {
		free, err := freeID(name, func(free string) bool {
			_, taken := all[id+free]
			return taken || owner != "" && (h.site.Signals[id+free].ID != "" || h.site.Controls[id+free].ID != "")
		})
		if err != nil {
			return &InvalidError{"name", err.Error()}
		}
		id += free
		*p.id(next) = id
	}
	var there any
	if x, ok := all[id]; ok {
		there = plain(x)
	}
	if err := check(there); errors.Is(err, ErrThere) {
		return &ExistsError{p.kind, id, reflect.ValueOf(there).FieldByName("Name").String()}
	} else if err != nil {
		return err
	}
	before, had := p.of(h.site)[id]
	if p.kind != "setting" {
		if err := site.CheckSlug(id); err != nil {
			return &InvalidError{"id", err.Error()}
		}
	} else if !had && (h.site.Signals[id].ID != "" || h.site.Controls[id].ID != "") {
		return &InvalidError{"id", "there is already a signal or control with the id " + id + "; choose another"}
	}
	if err := p.validate(h.site, *next); err != nil {
		if invalid, ok := err.(*InvalidError); ok {
			return invalid
		}
		return &InvalidError{p.kind, err.Error()}
	}
	h.changeSite(func(s *site.Site) { p.of(s)[id] = *next }, p.save(*next))
	object := id
	if p.kind != "setting" {
		object = p.kind + "." + id
	}
	if had {
		h.journalChange(a, object, plain(before), plain(*next))
	} else {
		h.journal(h.Time(), a, "add", object, "", p.kind, "")
	}
	return nil
}

// plain is a record itself, also where it is kept by pointer.
func plain(v any) any { return reflect.Indirect(reflect.ValueOf(v)).Interface() }

// drop takes a part away.
func drop[T any](h *Hub, a access.Actor, p part[T], id string) error {
	if err := access.May(a, access.Configure, access.Anything); err != nil {
		return err
	}
	before, ok := p.of(h.site)[id]
	if !ok {
		return &NotFoundError{p.kind, id, site.Nearest(id, slices.Sorted(maps.Keys(p.of(h.site))))}
	}
	if user := h.userOf(p.kind, id); user != "" {
		return &InvalidError{"id", fmt.Sprintf("%s is used by %s; change that first", id, user)}
	}
	h.changeSite(func(s *site.Site) { delete(p.of(s), id) }, store.DropPart(p.kind, id))
	object := id
	if p.kind != "setting" {
		object = p.kind + "." + id
	}
	h.writeState(store.AddEntry(h.Time(), a, "remove", object, p.kind, "", "", versionOf(object, plain(before))))
	return nil
}

// userOf names what uses a setting or preset, "" where nothing does.
func (h *Hub) userOf(kind, id string) string {
	uses := func(each func(func(place, text string, quantity bool))) (found bool) {
		each(func(_, text string, _ bool) {
			if f, err := formula.Parse(text, engine.Names(h.site)); err == nil && slices.Contains(f.IDs, id) {
				found = true
			}
		})
		return found
	}
	acts := func(list []site.Action) bool {
		return slices.ContainsFunc(list, func(x site.Action) bool { return string(x.Kind) == kind && x.ID == id })
	}
	for _, c := range slices.Sorted(maps.Keys(h.site.Automations)) {
		if kind == "setting" && uses(h.site.Automations[c].Formulas) {
			return "the automation of " + c
		}
	}
	for _, r := range slices.Sorted(maps.Keys(h.site.Rules)) {
		rule := h.site.Rules[r]
		if kind == "setting" && uses(rule.Formulas) || slices.ContainsFunc(rule.Stages, func(g site.Stage) bool { return acts(g.Actions) }) {
			return "the rule " + rule.Name
		}
	}
	for _, p := range slices.Sorted(maps.Keys(h.site.Presets)) {
		if acts(h.site.Presets[p].Actions) {
			return "the preset " + h.site.Presets[p].Name
		}
	}
	return ""
}

// SavePreset adds or changes a preset.
func (h *Hub) SavePreset(ctx context.Context, a access.Actor, p site.Preset, check func(any) error) (view PresetView, err error) {
	err = h.do(ctx, func() error { return keep(h, a, presetPart, &p, p.Name, check) })
	return PresetView{Version(p), p}, err
}

// RemovePreset takes a preset away.
func (h *Hub) RemovePreset(ctx context.Context, a access.Actor, id string) error {
	return h.do(ctx, func() error { return drop(h, a, presetPart, id) })
}

// RuleView is a rule with its state.
type RuleView struct {
	Version string           `json:"version"`
	Config  site.Rule        `json:"config"`
	State   engine.RuleState `json:"state"`
}

// Rules returns all rules, by id.
func (h *Hub) Rules(ctx context.Context, a access.Actor) ([]RuleView, error) {
	list := []RuleView{}
	err := h.ask(ctx, func() error {
		if err := access.May(a, access.Audit, access.Anything); err != nil {
			return err
		}
		for _, id := range slices.Sorted(maps.Keys(h.site.Rules)) {
			if sees := h.sightOf(h.site, a); sees.rule(h.site.Rules[id]) {
				list = append(list, h.ruleView(id))
			}
		}
		return nil
	})
	return list, err
}

func (h *Hub) ruleView(id string) RuleView {
	cfg := *h.site.Rules[id]
	state, _ := h.engine.Rule(id)
	return RuleView{Version(cfg), cfg, state}
}

// SaveRule adds or changes a rule.
func (h *Hub) SaveRule(ctx context.Context, a access.Actor, r site.Rule, check func(any) error) (view RuleView, err error) {
	err = h.do(ctx, func() error {
		next := &r
		if err := keep(h, a, rulePart, &next, r.Name, check); err != nil {
			return err
		}
		view = h.ruleView(r.ID)
		return nil
	})
	return view, err
}

// RemoveRule takes a rule away.
func (h *Hub) RemoveRule(ctx context.Context, a access.Actor, id string) error {
	return h.do(ctx, func() error { return drop(h, a, rulePart, id) })
}

// GroupView is a group of controls.
type GroupView struct {
	Version string     `json:"version"`
	Config  site.Group `json:"config"`
}

// Groups returns all groups, by id.
func (h *Hub) Groups(ctx context.Context, a access.Actor) ([]GroupView, error) {
	list := []GroupView{}
	err := h.ask(ctx, func() error {
		if err := access.May(a, access.Audit, access.Anything); err != nil {
			return err
		}
		for _, id := range slices.Sorted(maps.Keys(h.site.Groups)) {
			if h.sightOf(h.site, a).group(h.site.Groups[id]) {
				list = append(list, GroupView{Version(*h.site.Groups[id]), *h.site.Groups[id]})
			}
		}
		return nil
	})
	return list, err
}

// SaveGroup adds or changes a group.
func (h *Hub) SaveGroup(ctx context.Context, a access.Actor, g site.Group, check func(any) error) (view GroupView, err error) {
	next := &g
	err = h.do(ctx, func() error { return keep(h, a, groupPart, &next, g.Name, check) })
	return GroupView{Version(g), g}, err
}

// RemoveGroup takes a group away.
func (h *Hub) RemoveGroup(ctx context.Context, a access.Actor, id string) error {
	return h.do(ctx, func() error { return drop(h, a, groupPart, id) })
}
