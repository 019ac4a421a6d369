package hub

import (
	"context"
	"maps"
	"math"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"idleember/core/access"
	"idleember/core/alert"
	"idleember/core/engine"
	"idleember/core/fault"
	"idleember/core/formula"
	"idleember/core/site"
	"idleember/core/words"
	"idleember/sight"
)

// placeholder is an id in braces in a wording of the owner's own.
var placeholder = regexp.MustCompile(`\{([^{}]*)\}`)

// checkWordings says in a sentence which wording names something that is not there.
func checkWordings(s *site.Site, say map[string]string) error {
	for _, about := range slices.Sorted(maps.Keys(say)) {
		for _, m := range placeholder.FindAllStringSubmatch(say[about], -1) {
			_, signal := s.Signals[m[1]]
			_, control := s.Controls[m[1]]
			if !signal && !control && m[1] != "alerts" {
				near := site.Nearest(m[1], append(slices.Collect(maps.Keys(s.Signals)), slices.Collect(maps.Keys(s.Controls))...))
				hint := ""
				if len(near) > 0 {
					hint = "; " + near[0] + " is near"
				}
				return fault.Invalid("say", "the wording for %s names {%s}, which is no signal or control of this hub%s", about,
					site.Clip(m[1], 60), hint)
			}
		}
	}
	return nil
}

// worded fills a wording of the owner's own with what an actor may see.
func (h *Hub) worded(ctx context.Context, a access.Actor, wording string, ids []string) (words.Fact, error) {
	alerts := h.sayAlerts(ctx, a, ids)
	var run words.Run
	err := h.ask(ctx, func() error {
		at := 0
		for _, m := range placeholder.FindAllStringSubmatchIndex(wording, -1) {
			run = append(run, words.Said(wording[at:m[0]]), h.filled(a, wording[m[2]:m[3]], alerts))
			at = m[1]
		}
		run = append(run, words.Said(wording[at:]))
		return nil
	})
	return words.Of("all", "All", run), err
}

// filled is what stands for an id in a wording.
func (h *Hub) filled(a access.Actor, id string, alerts words.Fact) (f words.Fact) {
	if id == "alerts" {
		return alerts
	}
	if g, ok := h.site.Signals[id]; ok && access.May(a, access.Look, h.signalObject(g)) == nil {
		f = h.saySignal(g)
	}
	if c, ok := h.site.Controls[id]; ok && access.May(a, access.Look, h.controlObject(c)) == nil {
		f = h.sayControl(c)
	}
	if f.Empty() {
		f = words.Of("unknown")
	}
	return f
}

// Say puts a device, a place, a dashboard, a signal or a control into one spoken sentence: what it is like, what runs
// and why, and what needs somebody. It tells what the actor may see.
func (h *Hub) Say(ctx context.Context, a access.Actor, about string) (words.Fact, error) {
	name, key, ids, err := h.sayAbout(ctx, a, about)
	if err != nil {
		return words.Fact{}, err
	}
	if wording := h.Site().Messaging.Say[key]; wording != "" && key != "" {
		return h.worded(ctx, a, wording, ids)
	}
	var said []sayable
	err = h.ask(ctx, func() error {
		for _, id := range ids {
			if g, ok := h.site.Signals[id]; ok && access.May(a, access.Look, h.signalObject(g)) == nil {
				if is := h.saySignal(g); !is.Empty() {
					said = append(said, sayable{g, thing(g.Name, is)})
				}
			}
			if c, ok := h.site.Controls[id]; ok && access.May(a, access.Look, h.controlObject(c)) == nil {
				if is := h.sayControl(c); !is.Empty() {
					said = append(said, sayable{fact: thing(c.Name, is)})
				}
			}
		}
		if len(said) == 0 {
			known := slices.Collect(maps.Keys(h.site.Devices))
			for _, p := range h.site.Places {
				known = append(known, p.ID)
			}
			return fault.NotFound("device, place or dashboard", about, site.Nearest(about, known)...)
		}
		return nil
	})
	if err != nil {
		return words.Fact{}, err
	}
	said = said[:min(len(said), mostSaid)]
	var all words.List
	trends := 0
	for _, x := range said {
		if x.signal.Kind == site.Number && trends < mostTrends {
			trends++
			x.fact = h.trend(ctx, x.signal, x.fact)
		}
		all = append(all, x.fact)
	}
	if len(ids) > 1 || len(said) == 1 {
		all = append(all, h.sayAlerts(ctx, a, ids))
	}
	first, size := utf8.DecodeRuneInString(name)
	return words.Of("say.all", "Name", string(unicode.ToUpper(first))+name[size:], "All", all), nil
}

const (
	mostSaid   = 8 // more than one can listen to
	mostTrends = 3
)

// sayable is something that can be said, of a signal where that has an id.
type sayable struct {
	signal site.Signal
	fact   words.Fact
}

func thing(name string, is words.Fact) words.Fact {
	return words.Of("say.thing", "Name", strings.ToLower(name), "Is", is)
}

// sayAbout finds what somebody asks about: its name, its id where it may have a wording of its own, and the signals and
// controls that belong to it. An empty name: there is no such thing.
func (h *Hub) sayAbout(ctx context.Context, a access.Actor, about string) (name, key string, ids []string, err error) {
	board, hasBoard := h.dashboard(about)
	err = h.ask(ctx, func() error {
		add := func(device string) {
			signals, controls := h.site.Of(device)
			ids = append(append(ids, signals...), controls...)
		}
		lower := strings.ToLower(strings.TrimSpace(about))
		called := func(id, text string) bool { return id == about || strings.ToLower(text) == lower }
		if p, ok := h.placeCalled(called); ok {
			name, key = p.Name, p.ID
			for _, id := range slices.Sorted(maps.Keys(h.site.Devices)) {
				if d := h.site.Devices[id]; d.Place == p.ID && d.Active() {
					add(id)
				}
			}
			return nil
		}
		for _, id := range slices.Sorted(maps.Keys(h.site.Devices)) {
			if d := h.site.Devices[id]; called(id, d.Name) && access.May(a, access.Look, h.deviceObject(d)) == nil {
				name, key = d.Name, id
				add(id)
				return nil
			}
		}
		if g, ok := h.site.Signals[about]; ok {
			name, ids = h.placeName(g.Device), []string{about}
		} else if c, ok := h.site.Controls[about]; ok {
			name, ids = h.placeName(c.Device), []string{about}
		}
		return nil
	})
	if name == "" && hasBoard && sight.MayOpen(a, board) {
		name, key = board.Name, board.ID
		for _, t := range board.Tiles {
			ids = append(ids, t.Of...)
		}
	}
	return name, key, ids, err
}

func (h *Hub) placeCalled(called func(id, name string) bool) (site.Place, bool) {
	i := slices.IndexFunc(h.site.Places, func(p site.Place) bool { return called(p.ID, p.Name) })
	if i < 0 {
		return site.Place{}, false
	}
	return h.site.Places[i], true
}

func (h *Hub) placeName(device string) string {
	d := h.site.Devices[device]
	if p, ok := h.site.Place(d.Place); ok {
		return p.Name
	}
	return d.Name
}

// saySignal is what a signal is like; nothing where it was never heard.
func (h *Hub) saySignal(g site.Signal) words.Fact {
	s, ok := h.engine.Signal(g.ID)
	if !ok || !s.Seen {
		return words.Fact{}
	}
	f := engine.Told(g, s.Value)
	if s.Fresh == engine.Stale {
		f = words.Of("say.old", "Is", f, "For", h.Time().Sub(s.Heard))
	}
	return f
}

// sayControl is what a control is; nothing where nobody knows, or its mover says it.
func (h *Hub) sayControl(c site.Control) words.Fact {
	s, ok := h.engine.Control(c.ID)
	if _, movedBy := h.linksOf(c.ID); !ok || s.Want == nil && s.Is == nil || c.Momentary != nil || movedBy != "" {
		return words.Fact{}
	}
	is := s.Is
	if is == nil {
		is = s.Want
	}
	f := c.Told(*is)
	switch s.Mode {
	case engine.Auto:
		f = words.Of("say.auto", "Is", f)
	case "":
	default:
		f = words.Of("say.hand", "Is", f)
	}
	if *is != 0 && !s.IsSince.IsZero() {
		f = words.Of("say.for", "Is", f, "For", h.Time().Sub(s.IsSince))
	}
	if s.Phase == engine.Unconfirmed {
		f = words.Of("say.unconfirmed", "Is", f)
	}
	return f
}

// trend adds how a signal went in the last hour, where that is worth a word.
func (h *Hub) trend(ctx context.Context, g site.Signal, f words.Fact) words.Fact {
	now := h.Time()
	hour := []int64{now.Add(-time.Hour).UnixMilli(), now.Add(-55 * time.Minute).UnixMilli(),
		now.Add(-5 * time.Minute).UnixMilli(), now.UnixMilli()}
	buckets, _, err := h.store.Buckets(ctx, g.ID, hour, 0, now)
	if err != nil || buckets[0].Count == 0 || buckets[2].Count == 0 {
		return f
	}
	rise := buckets[2].Mean - buckets[0].Mean
	if math.Abs(rise) < max(2*math.Pow10(-g.Decimals), math.Abs(buckets[0].Mean)*0.02) {
		return f
	}
	code := "say.rising"
	if rise < 0 {
		code = "say.falling"
	}
	return words.Of(code, "What", f, "By", words.Quantity{Num: math.Abs(rise), Unit: g.Unit, Decimals: g.Decimals,
		Apart: true})
}

// mentioned is what an alert is about: what it is made of, or what its formula names.
func (h *Hub) mentioned(x site.Alert) []string {
	if x.Of != "" {
		return []string{x.Of}
	}
	f, err := formula.Condition(x.When, engine.Names(h.Site()))
	if err != nil {
		return nil
	}
	return f.IDs
}

func (h *Hub) sayAlerts(ctx context.Context, a access.Actor, ids []string) words.Fact {
	list, err := h.ActiveAlerts(ctx, a)
	if err != nil {
		return words.Of("say.alerts_unknown")
	}
	var names words.Row
	grave := 0 // the critical ones come first, and are all named
	for _, x := range list {
		about := slices.ContainsFunc(h.mentioned(x.Config), func(of string) bool {
			owner, _ := site.Split(of)
			return slices.ContainsFunc(ids, func(id string) bool { d, _ := site.Split(id); return id == of || d == owner })
		})
		if !about {
			continue
		}
		name := words.Said(x.Config.Name)
		switch x.State.Phase {
		case alert.Active, alert.Returned:
		case alert.Acknowledged: // it is so all the same
			name = words.Of("say.acknowledged", "Name", name)
		default:
			continue
		}
		if x.Config.Severity == site.Critical {
			grave++
			names = slices.Insert(names, grave-1, name)
		} else {
			names = append(names, name)
		}
	}
	switch len(names) {
	case 0:
		return words.Of("say.no_alerts")
	case 1:
		return words.Of("say.alert", "Name", names[0])
	}
	return words.Of("say.alerts", "N", len(names), "Names", names[:min(max(3, grave), len(names))])
}
