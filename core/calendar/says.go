package calendar

import (
	"fmt"
	"strings"
	"time"

	"idleember/core/words"
)

func (m Moment) String() string { return m.Says().String() }

// Says is the moment as people say it.
func (m Moment) Says() words.Fact {
	clock := func(minutes int) string { return fmt.Sprintf("%02d:%02d", minutes/60, minutes%60) }
	if m.Base == Clock {
		return words.Said(clock(m.Minutes))
	}
	f := words.Of("schedule." + string(m.Base))
	switch {
	case m.Minutes < 0:
		f = words.Of("schedule.before", "N", -m.Minutes, "Base", f)
	case m.Minutes > 0:
		f = words.Of("schedule.after", "N", m.Minutes, "Base", f)
	}
	if m.NotBefore != nil {
		f = words.Of("schedule.not_before", "When", f, "At", clock(*m.NotBefore))
	}
	if m.NotAfter != nil {
		f = words.Of("schedule.not_after", "When", f, "At", clock(*m.NotAfter))
	}
	return f
}

// Says is the schedule as people say it, its single runs in a time zone.
func (s *Schedule) Says(zone *time.Location) words.Fact {
	var f words.Fact
	and := func(g words.Fact) {
		if f.Empty() {
			f = g
		} else {
			f = words.Of("schedule.and", "A", f, "B", g)
		}
	}
	for _, w := range s.Windows {
		and(w.says())
	}
	switch n := len(s.Once); {
	case n == 1:
		and(words.Of("schedule.once", "At", s.Once[0].At.In(zone), "For", millis(s.Once[0].ForMS)))
	case n > 1:
		and(words.Of("schedule.singles", "N", n))
	}
	if f.Empty() {
		f = words.Of("schedule.never")
	}
	if n := len(s.Except); n > 3 {
		f = words.Of("schedule.except", "When", f, "Days", words.Of("schedule.out", "N", n))
	} else if n > 0 {
		f = words.Of("schedule.except", "When", f, "Days", strings.Join(s.Except, ", "))
	}
	return f
}

func (w Window) says() words.Fact {
	f := words.Of("schedule.for", "Start", w.Start.Says(), "For", millis(w.ForMS))
	if w.End != nil {
		f = words.Of("schedule.to", "Start", w.Start.Says(), "End", w.End.Says())
	}
	if w.Times > 0 {
		f = words.Of("schedule.again", "When", f, "N", w.Times, "Every", millis(w.EveryMS))
	}
	if len(w.Days) > 0 {
		days := make(words.Row, len(w.Days))
		for i, d := range w.Days {
			days[i] = words.Of("day." + weekdays[d-1])
		}
		f = words.Of("schedule.days", "When", f, "Days", days)
	}
	return f
}

var weekdays = [...]string{"mon", "tue", "wed", "thu", "fri", "sat", "sun"}

func millis(ms int64) time.Duration { return time.Duration(ms) * time.Millisecond }
