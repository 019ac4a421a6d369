package store

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// gap is where something of a table is missing: between two rows.
type gap struct{ before, after []any }

// stretchError says of which time something is damaged.
type stretchError struct{ what, from, to string }

func (e *stretchError) Error() string { return e.what + " from " + e.from + " to " + e.to }

// called is what a series is of.
func (v *salvage) called(id int64) string {
	if name, ok := v.names[id]; ok {
		return name
	}
	return fmt.Sprintf("a series whose name is lost (%d)", id)
}

func atTime(t int64) string { return time.UnixMilli(t).UTC().Format("2006-01-02 15:04:05Z") }

// labels are what people call what a table holds.
var labels = map[string]string{"hub": "the hub's own settings", "state": "what was remembered of controls and signals",
	"parts":   "automation, rules, presets, alerts and notifications",
	"members": "accounts", "passes": "sessions, tokens and walls", "refusals": "refused messages",
	"alert_events": "the alert history",
	"preferences":  "preferences", "versions": "earlier versions of the configuration", "series": "names of series",
	"blocks": "readings", "log": "the newest readings",
	"cells": "sums of hours", "journal": "the journal", "models": "device models",
	"subscriptions": "subscriptions to push messages", "deliveries": "messages on their way",
	"sealed": "how far the newest readings are in blocks", "damaged": "damaged readings that were set aside",
	"own_stamps": "times that devices stamped", "invites": "invitations", "stills": "still pictures"}

func label(table string) string {
	if l, ok := labels[table]; ok {
		return l
	}
	return strings.ReplaceAll(table, "_", " ")
}

// keyOf is what a row is known by.
func (t *rescued) keyOf(values []any) string {
	if (t.name == "parts" || t.name == "state") && len(values) > 1 {
		return fmt.Sprintf("%v %q", values[0], values[1])
	}
	return keyOf(values)
}

func keyOf(values []any) string {
	if len(values) == 0 {
		return "…"
	}
	switch k := values[0].(type) {
	case string:
		return fmt.Sprintf("%q", k)
	case []byte:
		return fmt.Sprintf("%x", k[:min(4, len(k))])
	default:
		return fmt.Sprint(k)
	}
}

// tell says what is missing.
func (v *salvage) tell() {
	for _, t := range v.tables {
		told := map[string]bool{}
		for _, g := range t.gaps {
			if slices.Contains(v.rootless, label(t.name)) {
				break
			}
			where := "after " + t.keyOf(g.before)
			if g.before == nil {
				where = "from the beginning on"
			}
			if g.after != nil {
				where += ", before " + t.keyOf(g.after)
			}
			if t.name == "blocks" {
				where = v.between(g)
			}
			if !told[where] {
				told[where] = true
				v.lost = append(v.lost, label(t.name)+": something may be missing "+where)
			}
		}
		if t.lost > 0 {
			v.lost = append(v.lost, fmt.Sprintf("%s: %d rows stand there twice or make no sense", label(t.name), t.lost))
		}
	}
	if v.progress != nil {
		v.progress(len(v.tables), len(v.tables))
	}
}

// between says of which readings something may be missing.
func (v *salvage) between(g gap) string {
	point := func(values []any, which int) (id, t int64) {
		key, _ := values[0].(int64)
		if id, t = key>>timeBits, timeOf(key); which == 1 && len(values) > 1 {
			t, _ = values[1].(int64)
		}
		return id, t
	}
	switch {
	case g.before == nil && g.after == nil:
		return "of every series"
	case g.before == nil:
		id, t := point(g.after, 0)
		return fmt.Sprintf("of %s before %s, and of series before it", v.called(id), atTime(t))
	case g.after == nil:
		id, t := point(g.before, 1)
		return fmt.Sprintf("of %s after %s, and of series after it", v.called(id), atTime(t))
	}
	one, from := point(g.before, 1)
	other, until := point(g.after, 0)
	if one == other {
		return fmt.Sprintf("of %s between %s and %s", v.called(one), atTime(from), atTime(until))
	}
	return fmt.Sprintf("of %s after %s, of %s before %s, and of series between them", v.called(one), atTime(from),
		v.called(other), atTime(until))
}
