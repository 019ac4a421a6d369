package hub

import (
	"context"
	"fmt"
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
	"idleember/core/calendar"
	"idleember/core/engine"
	"idleember/core/fault"
	"idleember/core/formula"
	"idleember/core/reading"
	"idleember/core/series"
	"idleember/core/site"
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
func (h *Hub) worded(ctx context.Context, a access.Actor, wording string, ids []string) (string, error) {
	alerts := h.sayAlerts(ctx, a, ids)
	said := ""
	err := h.ask(ctx, func() error {
		said = placeholder.ReplaceAllStringFunc(wording, func(p string) string {
			id := p[1 : len(p)-1]
			words := ""
			if g, ok := h.site.Signals[id]; ok && access.May(a, access.Look, h.signalObject(g)) == nil {
				words = strings.TrimPrefix(h.saySignal(g), strings.ToLower(g.Name)+" ")
			}
			if c, ok := h.site.Controls[id]; ok && access.May(a, access.Look, h.controlObject(c)) == nil {
				words = strings.TrimPrefix(h.sayControl(c), strings.ToLower(c.Name)+" ")
			}
			if id == "alerts" {
				words = alerts
			}
			if words == "" {
				return "unknown"
			}
			return words
		})
		return nil
	})
	return said, err
}

// Say puts a device, a place, a dashboard, a signal or a control into one spoken sentence: what it is like, what runs
// and why, and what needs somebody. It tells what the actor may see.
func (h *Hub) Say(ctx context.Context, a access.Actor, about string) (string, error) {
	var ids []string // signals and controls
	name, key := "", ""
	board, hasBoard := h.dashboard(about)
	err := h.ask(ctx, func() error {
		add := func(device string) {
			signals, controls := h.site.Of(device)
			ids = append(append(ids, signals...), controls...)
		}
		lower := strings.ToLower(strings.TrimSpace(about))
		called := func(id, text string) bool { return id == about || strings.ToLower(text) == lower }
		switch p, ok := h.placeCalled(called); {
		case ok:
			name, key = p.Name, p.ID
			for _, id := range slices.Sorted(maps.Keys(h.site.Devices)) {
				if d := h.site.Devices[id]; d.Place == p.ID && d.Active() {
					add(id)
				}
			}
		default:
			for _, id := range slices.Sorted(maps.Keys(h.site.Devices)) {
				if d := h.site.Devices[id]; name == "" && called(id, d.Name) && access.May(a, access.Look,
					h.deviceObject(d)) == nil {
					name, key = d.Name, id
					add(id)
				}
			}
			if g, ok := h.site.Signals[about]; ok && name == "" {
				name, ids = h.placeName(g.Device), []string{about}
			}
			if c, ok := h.site.Controls[about]; ok && name == "" {
				name, ids = h.placeName(c.Device), []string{about}
			}
		}
		return nil
	})
	if err != nil {
		return "", err
	}
	if name == "" && hasBoard && sight.MayOpen(a, board) {
		name, key = board.Name, board.ID
		for _, t := range board.Tiles {
			ids = append(ids, t.Of...)
		}
	}
	if wording := h.Site().Messaging.Say[key]; wording != "" && key != "" {
		return h.worded(ctx, a, wording, ids)
	}
	var parts []string
	var trends []string // signals whose trend is worth a word
	err = h.ask(ctx, func() error {
		for _, id := range ids {
			if g, ok := h.site.Signals[id]; ok && access.May(a, access.Look, h.signalObject(g)) == nil {
				if words := h.saySignal(g); words != "" {
					parts = append(parts, words)
					if g.Kind == site.Number {
						trends = append(trends, id)
					}
				}
			}
			if c, ok := h.site.Controls[id]; ok && access.May(a, access.Look, h.controlObject(c)) == nil {
				if words := h.sayControl(c); words != "" {
					parts = append(parts, words)
				}
			}
		}
		if len(parts) == 0 {
			known := slices.Collect(maps.Keys(h.site.Devices))
			for _, p := range h.site.Places {
				known = append(known, p.ID)
			}
			return fault.NotFound("device, place or dashboard", about, site.Nearest(about, known)...)
		}
		return nil
	})
	if err != nil {
		return "", err
	}
	if len(parts) > 8 { // more than one can listen to
		parts = parts[:8]
	}
	for _, id := range trends[:min(len(trends), 3)] {
		if words := h.trend(ctx, id); words != "" {
			i := slices.IndexFunc(parts, func(p string) bool {
				return strings.HasPrefix(p, strings.ToLower(h.Site().Signals[id].Name)+" ")
			})
			if i >= 0 {
				parts[i] += ", " + words
			}
		}
	}
	first, size := utf8.DecodeRuneInString(name)
	sentence := string(unicode.ToUpper(first)) + name[size:] + ": " + strings.Join(parts, "; ")
	if len(ids) > 1 || len(parts) == 1 {
		sentence += "; " + h.sayAlerts(ctx, a, ids)
	}
	return sentence + ".", nil
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

func (h *Hub) saySignal(g site.Signal) string {
	s, ok := h.engine.Signal(g.ID)
	if !ok || !s.Seen {
		return ""
	}
	words := strings.ToLower(g.Name) + " " + spoken(g, s.Value)
	if s.Fresh == engine.Stale {
		words += fmt.Sprintf(" (%s old)", calendar.Words(h.Time().Sub(s.Heard)))
	}
	return words
}

func spoken(g site.Signal, v reading.Value) string {
	if v.Kind != site.Number {
		return v.String()
	}
	return strings.TrimSpace(fmt.Sprintf("%.*f %s", g.Decimals, v.Num, site.UnitSign(g.Unit)))
}

func (h *Hub) sayControl(c site.Control) string {
	s, ok := h.engine.Control(c.ID)
	if !ok || s.Want == nil && s.Is == nil || c.Momentary != nil || h.controlView(c).State.MovedBy != "" {
		return ""
	}
	is := s.Is
	if is == nil {
		is = s.Want
	}
	words := strings.ToLower(c.Name) + " " + c.Say(*is)
	switch s.Mode {
	case engine.Auto:
		words += " in auto"
	case "":
	default:
		words += " by hand"
	}
	if *is != 0 && !s.IsSince.IsZero() {
		words += " for " + calendar.Words(h.Time().Sub(s.IsSince))
	}
	if s.Phase == engine.Unconfirmed {
		words += ", not confirmed"
	}
	return words
}

// trend says how a signal went in the last hour, where that is worth a word.
func (h *Hub) trend(ctx context.Context, id string) string {
	g, now := h.Site().Signals[id], h.Time()
	hour := []int64{now.Add(-time.Hour).UnixMilli(), now.Add(-55 * time.Minute).UnixMilli(),
		now.Add(-5 * time.Minute).UnixMilli(), now.UnixMilli()}
	var buckets []series.Bucket
	buckets, _, err := h.store.Buckets(ctx, id, hour, 0, now)
	if err != nil || buckets[0].Count == 0 || buckets[2].Count == 0 {
		return ""
	}
	rise := buckets[2].Mean - buckets[0].Mean
	if math.Abs(rise) < max(2*math.Pow10(-g.Decimals), math.Abs(buckets[0].Mean)*0.02) {
		return ""
	}
	word := "rising"
	if rise < 0 {
		word = "falling"
	}
	return word + " " + spoken(g, reading.Number(math.Abs(rise))) + " an hour"
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

func (h *Hub) sayAlerts(ctx context.Context, a access.Actor, ids []string) string {
	list, err := h.ActiveAlerts(ctx, a)
	if err != nil {
		return "alerts are not known"
	}
	var names []string
	grave := 0 // the critical ones come first, and are all named
	for _, x := range list {
		about := slices.ContainsFunc(h.mentioned(x.Config), func(of string) bool {
			owner, _ := site.Split(of)
			return slices.ContainsFunc(ids, func(id string) bool { d, _ := site.Split(id); return id == of || d == owner })
		})
		if !about {
			continue
		}
		switch x.State.Phase {
		case alert.Active, alert.Returned:
		case alert.Acknowledged: // it is so all the same
			x.Config.Name += " (acknowledged)"
		default:
			continue
		}
		if x.Config.Severity == site.Critical {
			grave++
			names = slices.Insert(names, grave-1, x.Config.Name)
		} else {
			names = append(names, x.Config.Name)
		}
	}
	switch len(names) {
	case 0:
		return "no alerts"
	case 1:
		return "alert: " + names[0]
	}
	return fmt.Sprintf("%d alerts: %s", len(names), strings.Join(names[:min(max(3, grave), len(names))], ", "))
}
