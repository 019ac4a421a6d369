package post

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"idleember/core/site"
	"idleember/hub"
)

// subject says in one line what a notice is about.
func subject(n hub.Notice) string {
	name := n.Name
	if n.Place != "" && !strings.Contains(strings.ToLower(name), strings.ToLower(n.Place)) {
		name = n.Place + ": " + name
	}
	s := name
	switch n.What {
	case "raised", "reminder", "near":
		if n.Value != "" {
			s += ", " + n.Value
		}
	}
	switch {
	case n.What == "over":
		s = "Over: " + name
	case n.What == "acknowledged":
		s = "Acknowledged: " + name
	case n.What == "near":
		s = "Getting there: " + s
	case n.What == "reminder" && urgent(n):
		s = "Critical, still: " + s
	case n.What == "reminder":
		s = "Still: " + s
	case urgent(n):
		s = "Critical: " + s
	}
	if k := len(n.Others); k > 0 {
		s += fmt.Sprintf(" and %d more", k)
	}
	return oneLine(s)
}

// urgent reports whether a notice may wake people.
func urgent(n hub.Notice) bool {
	return n.Severity == site.Critical && n.What != "over" && n.What != "acknowledged" && n.What != "near"
}

// allLines are the lines of a notice, and of those that came with it, each under what it is about.
func allLines(n hub.Notice) []string {
	out := lines(n)
	for _, o := range n.Others {
		out = append(append(out, "", subject(o)), lines(o)...)
	}
	return out
}

func oneLine(s string) string { return strings.Join(strings.Fields(s), " ") }

// lines say what a notice holds, one thing a line.
func lines(n hub.Notice) (out []string) {
	zone, err := time.LoadLocation(n.Zone)
	if err != nil {
		zone = time.UTC
	}
	at := func(t time.Time) string { return t.In(zone).Format("Mon 2 Jan 15:04") }
	switch n.What {
	case "test":
		out = append(out, "This is a test. Had it been an alert, it would have come this way.")
	case "alive":
		return []string{"The hub is alive at " + at(n.At) + ". If these stop, look after it."}
	case "digest":
		return []string{"From " + at(n.Digest.From) + " to " + at(n.Digest.To) + "."}
	case "message":
		return []string{n.Name}
	case "over":
		out = append(out, "It is over: "+n.Value+".")
	case "acknowledged":
		said := "Acknowledged by " + n.By
		if n.Word != "" {
			said += ": " + n.Word
		}
		out = append(out, said)
	default:
		if n.Value != "" {
			out = append(out, "Now: "+n.Value)
		}
		if n.Limit != "" {
			out = append(out, "The limit: "+n.Limit)
		}
	}
	if !n.Since.IsZero() {
		out = append(out, "Since "+at(n.Since))
	}
	if n.Do != "" && n.What != "over" && n.What != "acknowledged" {
		out = append(out, n.Do)
	}
	return out
}

// fill puts the fields of a notice into a template of the owner's own; in JSON they are escaped.
func fill(template, kind string, n hub.Notice) string {
	escape := func(s string) string { return s }
	if strings.Contains(kind, "json") {
		escape = func(s string) string {
			b, _ := json.Marshal(s) // a text
			return string(b[1 : len(b)-1])
		}
	}
	since := ""
	if !n.Since.IsZero() {
		since = n.Since.UTC().Format(time.RFC3339)
	}
	names := []string{n.Name}
	for _, o := range n.Others {
		if !slices.Contains(names, o.Name) {
			names = append(names, o.Name)
		}
	}
	return strings.NewReplacer("{subject}", escape(subject(n)), "{text}", escape(strings.Join(allLines(n), "\n")),
		"{name}", escape(strings.Join(names, ", ")), "{value}", escape(n.Value), "{place}", escape(n.Place),
		"{severity}", string(n.Severity), "{what}", escape(n.What), "{since}", since, "{link}", escape(n.Link), "{do}",
		escape(n.Do), "{id}", escape(n.ID), "{hub}", escape(n.Hub)).Replace(template)
}
