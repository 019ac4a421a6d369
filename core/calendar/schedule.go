package calendar

import (
	"cmp"
	"fmt"
	"slices"
	"time"
)

// Base is what a moment of the day is told by.
type Base string

// The bases of moments.
const (
	Clock   Base = "clock"
	Sunrise Base = "sunrise"
	Sunset  Base = "sunset"
)

// Moment is a time of day: by the clock, or before or after sunrise or sunset.
type Moment struct {
	Base      Base `json:"base"`
	Minutes   int  `json:"minutes"`              // since midnight; after sunrise or sunset, negative before
	NotBefore *int `json:"not_before,omitempty"` // minutes since midnight, of a moment by the sun
	NotAfter  *int `json:"not_after,omitempty"`
}

// At is when the moment comes on a day, in the time zone of that day; ok is false on days without sunrise or sunset.
func (m Moment) At(day time.Time, spot Spot) (at time.Time, ok bool) {
	y, mon, d := day.Date()
	clock := func(minutes int) time.Time { return Instant(y, mon, d, minutes, day.Location()) }
	if m.Base == Clock {
		return clock(m.Minutes), true
	}
	rise, set, _ := spot.Day(day)
	at = rise
	if m.Base == Sunset {
		at = set
	}
	if at.IsZero() {
		if m.NotBefore != nil { // the clock stands in where the sun does not tell
			return clock(*m.NotBefore), true
		}
		return at, false
	}
	at = at.Add(time.Duration(m.Minutes) * time.Minute)
	if m.NotBefore != nil && at.Before(clock(*m.NotBefore)) {
		at = clock(*m.NotBefore)
	}
	if m.NotAfter != nil && at.After(clock(*m.NotAfter)) {
		at = clock(*m.NotAfter)
	}
	return at, true
}

// Validate says in a sentence what is wrong with the moment, or returns nil.
func (m Moment) Validate() error {
	in := func(what string, n *int, low, high int) error {
		if n != nil && (*n < low || *n > high) {
			return fmt.Errorf("%s is %d minutes; choose between %d and %d", what, *n, low, high)
		}
		return nil
	}
	switch m.Base {
	case Clock:
		return in("the time of day", &m.Minutes, 0, 24*60-1)
	case Sunrise, Sunset:
		if err := in("the time after "+string(m.Base), &m.Minutes, -720, 720); err != nil {
			return err
		}
		if err := in("not_before", m.NotBefore, 0, 24*60-1); err != nil {
			return err
		}
		return in("not_after", m.NotAfter, 0, 24*60-1)
	}
	return fmt.Errorf("the moment %q is unknown; use clock, sunrise or sunset", m.Base)
}

// Window is a stretch of time that comes again on chosen days.
type Window struct {
	Days    []int   `json:"days,omitempty"` // 1 for Monday to 7 for Sunday; none: every day
	Start   Moment  `json:"start"`
	End     *Moment `json:"end,omitempty"`      // by the clock at or before the start: on the next day; see overNight
	ForMS   int64   `json:"for_ms,omitempty"`   // without an end: how long, on the clock that never jumps
	EveryMS int64   `json:"every_ms,omitempty"` // comes again within the day, this long after the start before
	Times   int     `json:"times,omitempty"`    // how often, with every_ms
}

// Once is a single run.
type Once struct {
	At    time.Time `json:"at"`
	ForMS int64     `json:"for_ms"`
}

// Schedule is when something runs. The zero value never does.
type Schedule struct {
	Windows []Window `json:"windows,omitempty"`
	Once    []Once   `json:"once,omitempty"`
	Except  []string `json:"except,omitempty"` // days without a start, as in 2026-12-24
}

// Run is one stretch of a schedule.
type Run struct{ From, To time.Time }

const longest = 24 * time.Hour

// Validate says in a sentence what is wrong with the schedule, or returns nil.
func (s Schedule) Validate() error {
	if len(s.Windows)+len(s.Once) == 0 {
		return fmt.Errorf("the schedule is empty; add a window such as 06:00 for 11 h")
	}
	if len(s.Windows) > 50 || len(s.Once) > 100 || len(s.Except) > 400 {
		return fmt.Errorf("the schedule is too long; at most 50 windows, 100 single runs and 400 days without are allowed")
	}
	for i, w := range s.Windows {
		if err := w.validate(); err != nil {
			return fmt.Errorf("window %d: %w", i+1, err)
		}
	}
	for i, o := range s.Once {
		if d := ms(o.ForMS); o.At.IsZero() || d < time.Second || d > 7*longest {
			return fmt.Errorf("single run %d: tell when it starts and for how long, from 1 s to 7 days", i+1)
		}
	}
	for _, day := range s.Except {
		if _, err := time.Parse(time.DateOnly, day); err != nil {
			return fmt.Errorf("the day %q cannot be read; write it as in 2026-12-24", day)
		}
	}
	return nil
}

func (w Window) validate() error {
	for _, d := range w.Days {
		if d < 1 || d > 7 {
			return fmt.Errorf("the day %d is unknown; 1 is Monday and 7 is Sunday", d)
		}
	}
	if err := w.Start.Validate(); err != nil {
		return err
	}
	if (w.End == nil) == (w.ForMS == 0) {
		return fmt.Errorf("tell either when it ends or for how long it runs")
	}
	if w.End != nil {
		if err := w.End.Validate(); err != nil {
			return err
		}
	} else if d := ms(w.ForMS); d < time.Second || d > longest {
		return fmt.Errorf("it runs for %s; choose between 1 s and 24 h", d)
	}
	if w.Times != 0 || w.EveryMS != 0 {
		if w.Times < 2 || w.Times > 500 || ms(w.EveryMS) < time.Minute || time.Duration(w.Times-1)*ms(w.EveryMS) > longest {
			return fmt.Errorf("it comes %d times every %s; choose 2 to 500 times, at least a minute apart and within a day",
				w.Times, ms(w.EveryMS))
		}
	}
	return nil
}

func ms(n int64) time.Duration { return time.Duration(n) * time.Millisecond }

// Runs returns the stretches that touch [from, to), by their starts. Stretches of one schedule that meet or overlap are
// one.
func (s Schedule) Runs(from, to time.Time, spot Spot) []Run {
	var all []Run
	day := Midnight(from.Add(-3 * longest))
	for !day.After(to) {
		for _, w := range s.Windows {
			all = w.on(all, day, spot, s.Except)
		}
		day = Midnight(day.Add(36 * time.Hour))
	}
	for _, o := range s.Once {
		at := o.At.In(from.Location())
		all = append(all, Run{at, at.Add(ms(o.ForMS))})
	}
	slices.SortFunc(all, func(a, b Run) int { return cmp.Or(a.From.Compare(b.From), a.To.Compare(b.To)) })
	var out []Run
	for _, r := range all {
		if n := len(out); n > 0 && !r.From.After(out[n-1].To) {
			if r.To.After(out[n-1].To) {
				out[n-1].To = r.To
			}
			continue
		}
		out = append(out, r)
	}
	return slices.DeleteFunc(out, func(r Run) bool { return !r.To.After(from) || !r.From.Before(to) })
}

// overNight reports whether the window ends on the day after its start. That follows from the times as they are
// written, never from the instants that they come to: a window by the sun does so from sunset, or from noon on, until
// sunrise, or before noon.
func (w Window) overNight() bool {
	a, b := w.Start, *w.End
	if a.Base == Clock && b.Base == Clock {
		return b.Minutes <= a.Minutes
	}
	const noon = 12 * 60
	late := a.Base == Sunset || a.Base == Clock && a.Minutes >= noon
	early := b.Base == Sunrise || b.Base == Clock && b.Minutes < noon
	return late && early
}

// on adds the stretches that start on a day.
func (w Window) on(to []Run, day time.Time, spot Spot, except []string) []Run {
	if len(w.Days) > 0 && !slices.Contains(w.Days, int(day.Weekday()+6)%7+1) || slices.Contains(except,
		day.Format(time.DateOnly)) {
		return to
	}
	start, ok := w.Start.At(day, spot)
	if !ok {
		return to
	}
	length := ms(w.ForMS)
	if w.End != nil {
		on := day
		if w.overNight() {
			on = Midnight(day.Add(36 * time.Hour))
		}
		end, ok := w.End.At(on, spot)
		if !ok || !end.After(start) { // nothing is left of it on this day
			return to
		}
		length = end.Sub(start)
	}
	for i := range max(1, w.Times) {
		at := start.Add(time.Duration(i) * ms(w.EveryMS))
		to = append(to, Run{at, at.Add(length)})
	}
	return to
}

// At says whether the schedule runs at t, and when that changes next; next is zero where nothing comes within a week.
func (s Schedule) At(t time.Time, spot Spot) (on bool, next time.Time) {
	runs := s.Runs(t, t.Add(longest), spot) // mostly that will do
	if len(runs) == 0 || !runs[0].From.After(t) && !runs[0].To.Before(t.Add(longest)) {
		runs = s.Runs(t, t.Add(8*longest), spot)
	}
	switch {
	case len(runs) == 0:
		return false, time.Time{}
	case runs[0].From.After(t):
		return false, runs[0].From
	}
	return true, runs[0].To
}

// LastDue is when something that is due at a time of day ("15:04") was due last, every day or, where every is "week",
// each Monday, and when before that. Both are zero where the time of day is none.
func LastDue(every, timeOfDay string, now time.Time, loc *time.Location) (due, before time.Time) {
	at, err := time.Parse("15:04", timeOfDay)
	if err != nil {
		return due, before
	}
	now = now.In(loc)
	minute := 60*at.Hour() + at.Minute()
	on := func(day int) time.Time { return Instant(now.Year(), now.Month(), day, minute, loc) }
	step, day := 1, now.Day()
	if every == "week" {
		step, day = 7, day-(int(now.Weekday())+6)%7
	}
	if on(day).After(now) {
		day -= step
	}
	return on(day), on(day - step)
}
