package hub

import (
	"fmt"

	"idleember/core/reading"
	"idleember/core/site"
)

// named finds what a device calls by a name, or makes the id for something new.
func (h *Hub) named(dev site.Device, raw string) (id string, known bool, why string) {
	t := h.speakerOf(dev.ID)
	if t.namesOf != h.site {
		t.names, t.namesOf = map[string]string{}, h.site
	}
	if id := t.names[raw]; id != "" {
		return id, true, ""
	}
	id, known, why = h.nameAnew(dev, raw)
	if known && why == "" {
		t.names[raw] = id
	}
	return id, known, why
}

func (h *Hub) nameAnew(dev site.Device, raw string) (id string, known bool, why string) {
	for id, s := range h.site.Signals {
		if s.Device == dev.ID && s.Raw == raw {
			return id, true, ""
		}
	}
	for id, c := range h.site.Controls {
		if c.Device == dev.ID && c.Raw == raw {
			return id, true, ""
		}
	}
	slug, err := site.Slug(raw)
	if err != nil {
		return "", false, err.Error()
	}
	id = dev.ID + "." + slug
	have := ""
	if s, ok := h.site.Signals[id]; ok {
		have, known = s.Raw, true
	}
	if c, ok := h.site.Controls[id]; ok {
		have, known = c.Raw, true
	}
	if known && have != raw {
		return "", false, fmt.Sprintf("%q becomes the id %s, which %q already has; rename one of them on the board",
			site.Clip(raw, 40), id, have)
	}
	if !known {
		switch {
		case !dev.NewSignals:
			return "", false, fmt.Sprintf("%q is unknown, and %s may not bring new signals; allow it on the device's page",
				site.Clip(raw, 40), dev.ID)
		case h.roomFor(dev) <= 0:
			return "", false, fmt.Sprintf("%q would be one more than the %d names that %s may bring; use fewer names, or "+
				"raise the limit on the device's page",
				site.Clip(raw, 40), dev.Limits.Filled().MaxNames, dev.ID)
		}
	}
	return id, known, ""
}

// roomFor is how many names a device may still bring.
func (h *Hub) roomFor(dev site.Device) int {
	n := dev.Limits.Filled().MaxNames
	for _, s := range h.site.Signals {
		if s.Device == dev.ID {
			n--
		}
	}
	for _, c := range h.site.Controls {
		if c.Device == dev.ID {
			n--
		}
	}
	return n
}

// keepApart names readings by their full names where several of them, with other base names (RFC 8428), have the same
// short one. Who came first keeps the short one.
func (h *Hub) keepApart(dev site.Device, list []reading.Named) {
	var known map[string]bool
	for i, r := range list {
		if r.FullName == "" || r.FullName == r.Name {
			continue
		}
		if len(r.FullName) > longestFull { // not remembered; whether it can be a name at all is found out below
			list[i].Name = r.FullName
			continue
		}
		if known == nil {
			known = map[string]bool{}
			for _, s := range h.site.Signals {
				if s.Device == dev.ID {
					known[s.Raw] = true
				}
			}
		}
		t := h.speakerOf(dev.ID)
		first, met := t.full[r.Name]
		if !met && len(t.full) < mostFull {
			if t.full == nil {
				t.full = map[string]string{}
			}
			if first = r.FullName; !known[r.FullName] {
				t.full[r.Name] = first
			}
		}
		if known[r.FullName] || first != r.FullName {
			list[i].Name = r.FullName
		}
	}
}

// How many full names of a device are remembered, and how long ones, in bytes.
const mostFull, longestFull = 1000, 200

// meetSignals adds the signals that a message brings for the first time, all in one change of the site.
func (h *Hub) meetSignals(dev site.Device, list []reading.Named) {
	made := map[string]site.Signal{}
	var changes []site.Change
	var firsts []string
	for _, r := range list {
		id, known, why := h.named(dev, r.Name)
		if _, again := made[id]; known || why != "" || again || len(made) >= h.roomFor(dev) {
			continue
		}
		s := newSignal(dev, id, r.Name, r.Value.Kind)
		if r.Unit != "" && len(r.Unit) <= 20 {
			s.Unit = site.OneLine(reading.UnitOf(r.Unit), "·")
		}
		if s.Kind == site.Number {
			s.Decimals = r.Decimals
		}
		made[id] = s
		changes = append(changes, site.Put(s))
		firsts = append(firsts, id, "first reading: "+site.Clip(r.Value.String(), 40))
	}
	if len(made) == 0 {
		return
	}
	h.changeSite(changes...)
	for i := 0; i < len(firsts); i += 2 {
		h.journal(h.Time(), h.deviceActor(dev), "add", firsts[i], "", "signal", firsts[i+1])
	}
}

func (h *Hub) signalFor(dev site.Device, r reading.Named) (id, why string) {
	id, _, why = h.named(dev, r.Name)
	if why != "" {
		return "", why
	}
	if _, ok := h.site.Signals[id]; !ok {
		return "", id + " is a control, not a signal; report what it is with ember/" + dev.ID + "/is/" + r.Name +
			", or the name is." + r.Name
	}
	return id, ""
}

func newSignal(dev site.Device, id, raw string, kind site.ValueKind) site.Signal {
	return site.Signal{ID: id, Device: dev.ID, Raw: raw, Name: site.OneLine(site.Title(raw), "·"), Kind: kind,
		Reports: reportsOf(kind), New: true, Guests: site.GuestsNothing, Unit: guessUnit(raw)}
}

// reportsOf is how what is of a kind mostly reports.
func reportsOf(kind site.ValueKind) site.Reports {
	if kind == site.Number {
		return site.Periodic
	}
	return site.OnChange
}

// guessUnit guesses the unit of what boards usually call so.
func guessUnit(raw string) string {
	slug, _ := site.Slug(raw)
	for _, g := range []struct{ word, unit string }{{"temp", "Cel"}, {"humid", "%"}, {"moist", "%"}, {"pressure", "hPa"},
		{"volt", "V"}, {"power", "W"}, {"current", "A"}} {
		if len(slug) >= len(g.word) && slug[:len(g.word)] == g.word {
			return g.unit
		}
	}
	return ""
}
