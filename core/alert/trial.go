package alert

import (
	"slices"
	"time"

	"idleember/core/reading"
	"idleember/core/series"
	"idleember/core/site"
)

// Occurrence is a time that an alert would have been active.
type Occurrence struct {
	From  int64   `json:"from"` // Unix milliseconds
	To    int64   `json:"to"`
	Worst float64 `json:"worst"`          // the value furthest from where it should be
	Open  bool    `json:"open,omitempty"` // it holds still
}

// Trial runs an alert over recorded readings, so that its limit, dead band and delays can be chosen by what they would
// have done. It takes the same turns as a condition with dead band and delays of the engine, but looks at readings
// alone.
type Trial struct {
	cfg                 *site.Alert
	low, high           float64 // it holds below low, or above high
	lowEnd, highEnd     float64 // and ends at or above lowEnd and at or below highEnd
	silent              int64   // or where nothing comes for so long
	after, settle, rest int64
	hold                int64
	zone                *time.Location
	windowed            bool
	active, want        bool
	since, last, ended  int64
	begun               bool
	cur                 Occurrence
	out                 []Occurrence
}

// NewTrial returns a trial of an alert, nil where its kind cannot be tried on readings alone. A reading holds for hold;
// 0: until the next one.
func NewTrial(a *site.Alert, hold time.Duration, zone *time.Location) *Trial {
	b, ok := a.Bounds()
	if !ok {
		return nil
	}
	return &Trial{cfg: a, low: b.Low, lowEnd: b.LowEnd, high: b.High, highEnd: b.HighEnd, silent: b.Silent.Milliseconds(),
		after: a.AfterMS, settle: a.SettleMS, rest: a.RestMS,
		hold: hold.Milliseconds(), zone: zone, windowed: len(a.Days) > 0 || a.From != "", ended: -1 << 62}
}

// Add takes readings i to j of columns, in time order.
func (t *Trial) Add(c *series.Columns, i, j int) {
	if c.Kind == site.Text {
		return
	}
	for ; i < j; i++ {
		at, v := c.T[i], c.V[i]
		if t.silent > 0 {
			t.gap(at)
			t.last, t.begun = at, true
			continue
		}
		// What changes nothing is passed over at once: mostly all is well.
		if !t.active && !t.want && v <= t.high && v >= t.low {
			t.last = at
			continue
		}
		if c.Q != nil && c.Quality(i) != reading.Good {
			continue
		}
		t.turn(at)
		holds := v > t.high || v < t.low || t.active && (v > t.highEnd || v < t.lowEnd)
		if holds && t.windowed && !t.within(at) {
			holds = false
		}
		if holds != t.want {
			t.want, t.since = holds, at
		}
		t.turn(at)
		if t.active {
			t.worse(v)
		}
		t.last = at
	}
}

// turn lets what was wanted for long enough take effect by a time.
func (t *Trial) turn(at int64) {
	switch {
	case t.want && !t.active && at-t.since >= t.after && t.since+t.after-t.ended >= t.rest:
		from := max(t.since+t.after, t.ended+t.rest)
		t.active, t.cur = true, Occurrence{From: from, Worst: t.cfg.Limit}
	case !t.want && t.active && at-t.since >= t.settle:
		t.end(t.since + t.settle)
	}
}

func (t *Trial) end(at int64) {
	t.active, t.ended, t.cur.To = false, at, at
	t.out = append(t.out, t.cur)
}

func (t *Trial) worse(v float64) {
	if v > t.high && v > t.cur.Worst || v < t.low && (v < t.cur.Worst || t.cur.Worst > t.low) {
		t.cur.Worst = v
	}
}

func (t *Trial) gap(at int64) {
	if from := t.last + t.silent + t.after; t.begun && at > from {
		t.out = append(t.out, Occurrence{From: from, To: at})
	}
}

// within reports whether a time is one at which the alert counts.
func (t *Trial) within(at int64) bool {
	w := time.UnixMilli(at).In(t.zone)
	if len(t.cfg.Days) > 0 && !slices.Contains(t.cfg.Days, int(w.Weekday()+6)%7+1) {
		return false
	}
	if t.cfg.From == "" {
		return true
	}
	now, from, to := w.Hour()*60+w.Minute(), minuteOf(t.cfg.From), minuteOf(t.cfg.To)
	if from < to {
		return now >= from && now < to
	}
	return now >= from || now < to
}

// Finish returns all occurrences until a time, in order.
func (t *Trial) Finish(to int64) []Occurrence {
	if t.silent > 0 {
		before := len(t.out)
		t.gap(to)
		for i := before; i < len(t.out); i++ {
			t.out[i].Open = true
		}
		return t.out
	}
	t.turn(to)
	if t.active {
		t.cur.To, t.cur.Open = to, true
		t.out = append(t.out, t.cur)
	}
	return t.out
}
