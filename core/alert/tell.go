package alert

import (
	"maps"
	"slices"
	"time"

	"idleember/core/calendar"
	"idleember/core/site"
)

// Told is what a route carried of an alert, of the time that it is up.
type Told struct {
	At    time.Time `json:"at"`              // the newest message
	Count int       `json:"count,omitempty"` // how many there were
	Near  bool      `json:"near,omitempty"`  // that it is near, and no more
	Known bool      `json:"known,omitempty"` // that somebody acknowledged it
}

// Message is one that a route is to carry.
type Message struct {
	Route string
	What  What // WasRaised, WasNear, WasAcked, WasOver, or Reminder
}

// Reminder is a message about an alert that nobody acknowledged.
const Reminder What = "reminder"

// Tell finds out what is to be told now of an alert of a severity, at a place, and notes that it was. A route carries
// an alert after its own delay, if nobody acknowledged it by then: so somebody else is told step by step. Who was told
// is told too that somebody else acknowledged it. In its quiet hours it carries critical ones alone; what still holds
// when they end is told then. next is when to ask again, zero for never.
func (s *State) Tell(routes []site.Route, severity site.Severity, place string, now time.Time) (list []Message,
	next time.Time) {
	soon := func(t time.Time) {
		if next.IsZero() || t.Before(next) {
			next = t
		}
	}
	for _, r := range routes {
		if r.Off || !severity.AtLeast(r.Least) || len(r.Places) > 0 && !slices.Contains(r.Places, place) {
			continue
		}
		told := s.Told[r.ID]
		what, due := s.due(r, told)
		if what == "" {
			continue
		}
		if now.Before(due) {
			soon(due)
			continue
		}
		if end := QuietUntil(r, now); !end.IsZero() && severity != site.Critical {
			soon(end)
			continue
		}
		list = append(list, Message{Route: r.ID, What: what})
		told.At, told.Near, told.Known = now, what == WasNear, what == WasAcked
		told.Count++
		s.Told = maps.Clone(s.Told) // states are compared and kept by value
		if s.Told == nil {
			s.Told = map[string]Told{}
		}
		s.Told[r.ID] = told
		if what == WasOver {
			delete(s.Told, r.ID)
			continue
		}
		if again, at := s.due(r, told); again != "" {
			soon(at)
		}
	}
	return list, next
}

// due is what a route has to carry next of the alert, and when. Long, because it is one decision in its order, and
// each case names the next.
func (s *State) due(r site.Route, told Told) (What, time.Time) {
	after := site.Millis(r.AfterMS)
	switch phase := s.Phase(); {
	case phase == Active || phase == Returned:
		switch {
		case told.Count == 0 || told.Near:
			return WasRaised, s.Since.Add(after)
		case r.RemindMS > 0:
			return Reminder, told.At.Add(site.Millis(r.RemindMS))
		}
	case phase == Acknowledged && s.AckedID != "" && told.Count > 0 && !told.Near && !told.Known && s.AckedID != r.ID &&
		s.AckedID != r.Person:
		return WasAcked, s.AckedAt
	case phase == Normal && s.Early && told.Count == 0 && after == 0:
		return WasNear, s.Since
	case phase == Normal && !s.Early && told.Count > 0 && !told.Near && r.Ends:
		return WasOver, s.Ended
	}
	return "", time.Time{}
}

// QuietUntil is when the quiet hours of a route end in which a time lies; zero where it lies in none.
func QuietUntil(r site.Route, now time.Time) time.Time {
	if r.From == "" {
		return time.Time{}
	}
	from, to := minuteOf(r.From), minuteOf(r.Until)
	at := now.Hour()*60 + now.Minute()
	if from < to && (at < from || at >= to) || from > to && at < from && at >= to {
		return time.Time{}
	}
	day := now.Day()
	if at >= to { // they end tomorrow
		day++
	}
	return calendar.Instant(now.Year(), now.Month(), day, to, now.Location())
}

func minuteOf(s string) int {
	t, _ := time.Parse("15:04", s)
	return t.Hour()*60 + t.Minute()
}
