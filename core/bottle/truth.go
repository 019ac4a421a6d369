package bottle

import (
	"slices"
	"strings"
	"time"

	"idleember/core/calendar"
	"idleember/core/formula"
	"idleember/core/site"
)

// tri is true, false or unknown.
type tri uint8

const (
	no tri = iota + 1
	yes
	nobody // unknown
)

// set is what something may be.
type set uint8

func only(t tri) set { return 1 << t }

func (s set) may(t tri) bool { return s&only(t) != 0 }

// cond is a pair of formulas with what they may come to.
type cond struct {
	when, until *told
	is, ends    set
	isWhole     bool
	weighed     bool // and nothing but that bears on since when it is so
	dirty       bool
	byTime      bool
	pure        bool // it names nothing but signals and settings
	// since when without a break: it is surely true, surely false, surely unknown, not unknown; its end is surely true,
	// may be true
	surely                        [4]time.Duration
	known, endSure, endMay, whole time.Duration
	mayFalse                      time.Duration
	lost                          [2]time.Duration // mayFalse and endMay before the last reading that ended one of them
	lostAt                        time.Duration
	users                         []*tracker
}

// flashed forgets since when a condition is what it is: for an instant it may have been something else.
func (c *cond) flashed(now time.Duration) {
	c.surely, c.weighed = [4]time.Duration{never, never, never, never}, false
	c.known, c.whole, c.endSure = never, never, never
	for _, t := range c.users {
		t.must, t.turned = 0, now
	}
}

// told is a formula with what its ids are, and room for what they may be.
type told struct {
	*formula.Formula
	ids   []named
	env   formula.Env
	known []formula.Value
	open  []int
	whole bool // everything that it names was surely known when it was last looked at
}

// named is what an id stands for: a signal, a setting, or what a control is or is wanted to be.
type named struct {
	signal  *seen
	setting string
	control string
	want    bool
}

const never = time.Duration(1 << 62)

// cond returns the condition of a text, shared by all that have it.
func (o *oracle) cond(cfg site.Condition, names formula.Names, old map[string]*cond) *cond {
	key := cfg.When + "|" + cfg.Until
	if c := o.conds[key]; c != nil {
		return c
	}
	c := old[key]
	if c == nil {
		c = &cond{surely: [4]time.Duration{never, never, never, never}, known: never, whole: never, endSure: never,
			endMay: never, mayFalse: never}
	}
	c.users, c.dirty = nil, false
	c.pure = true
	parse := func(text string) *told {
		f, err := formula.Parse(text, names)
		if err != nil {
			return nil
		}
		for _, id := range f.IDs {
			o.users[id] = append(o.users[id], c)
			if _, ok := o.site.Controls[id]; ok {
				o.users[id+".is"] = append(o.users[id+".is"], c)
			}
			_, signal := o.site.Signals[id]
			_, setting := o.site.Settings[id]
			c.pure = c.pure && (signal || setting)
		}
		c.byTime = c.byTime || f.Every > 0
		return o.told(f)
	}
	c.when = parse(cfg.When)
	c.until = nil
	if cfg.Until != "" {
		c.until = parse(cfg.Until)
	}
	if c.byTime {
		o.always = append(o.always, c)
	}
	o.conds[key] = c
	return c
}

func (o *oracle) told(f *formula.Formula) *told {
	t := &told{Formula: f, known: make([]formula.Value, len(f.IDs))}
	t.env.Values, t.env.Ages = make([]formula.Value, len(f.IDs)), make([]time.Duration, len(f.IDs))
	for _, id := range f.IDs {
		t.ids = append(t.ids, o.named(id))
	}
	return t
}

func (o *oracle) named(id string) (n named) {
	if _, ok := o.site.Signals[id]; ok {
		n.signal = o.signals[id]
	} else if _, ok := o.site.Settings[id]; ok {
		n.setting = id
	} else if n.control = id; strings.Count(id, ".") == 2 {
		at := strings.LastIndexByte(id, '.')
		n.control, n.want = id[:at], id[at+1:] == "want"
	}
	return n
}

// comes is what a formula may come to, over all that its ids may be.
func (o *oracle) comes(f *told) set {
	if f == nil {
		return only(nobody)
	}
	if len(f.Needs) > 0 { // what it looks back on is for the engine to keep
		f.whole = false
		return only(yes) | only(no) | only(nobody)
	}
	f.open, f.whole = f.open[:0], true
	vague := false
	for i, id := range f.ids {
		v, unknown, sure := o.value(id)
		f.env.Values[i], f.known[i] = v, v
		if !sure {
			f.open = append(f.open, i)
		}
		vague = vague || id.signal != nil && id.signal.vague
		f.whole = f.whole && sure && !unknown
	}
	if f.Every > 0 {
		h := o.w.hub
		f.env.Clock = formula.Clock{Wall: h.wall().In(o.zone), Sun: o.spot(), Unset: !h.trusted}
	}
	if vague {
		f.whole = false
		return only(yes) | only(no) | only(nobody)
	}
	var out set
	for mask := range 1 << min(len(f.open), 6) {
		for k, i := range f.open {
			f.env.Values[i] = f.known[i]
			if mask>>k&1 == 1 {
				f.env.Values[i] = formula.Unknown
			}
		}
		v := f.Eval(&f.env)
		switch {
		case v.True():
			out |= only(yes)
		case v.False():
			out |= only(no)
		default:
			out |= only(nobody)
		}
	}
	return out
}

func (o *oracle) spot() calendar.Spot {
	return calendar.Spot{Latitude: o.site.Hub.Latitude, Longitude: o.site.Hub.Longitude}
}

func from(was time.Duration, holds bool, now time.Duration) time.Duration {
	switch {
	case !holds:
		return never
	case was == never:
		return now
	}
	return was
}

// pure reports whether nothing that the control itself does bears on the interlock at once.
func (l *lock) pure() bool {
	if t := l.of.auto; t != nil && t.Travel != nil {
		for _, contact := range []string{t.Travel.IsOpen, t.Travel.IsClosed} {
			if contact != "" && l.c.names(contact) {
				return false
			}
		}
	}
	return l.c.pure
}

// weigh brings a condition up to date.
func (o *oracle) weigh(c *cond) {
	now := o.w.now
	for _, t := range c.users { // what was so until now may have been so for long enough
		t.move(o)
	}
	before := [2]time.Duration{c.mayFalse, c.endMay}
	is, ends, whole := o.comes(c.when), only(nobody), c.when == nil || c.when.whole
	if c.until != nil {
		ends = o.comes(c.until)
		whole = whole && c.until.whole
	}
	if is == c.is && ends == c.ends && whole == c.isWhole && c.weighed {
		return
	}
	c.is, c.ends, c.isWhole, c.weighed = is, ends, whole, true
	for _, t := range []tri{no, yes, nobody} {
		c.surely[t] = from(c.surely[t], c.is == only(t), now)
	}
	c.known = from(c.known, !c.is.may(nobody), now)
	c.whole = from(c.whole, whole, now)
	c.mayFalse = from(c.mayFalse, c.is.may(no), now)
	c.endSure = from(c.endSure, c.ends == only(yes) && !c.is.may(yes), now)
	c.endMay = from(c.endMay, c.ends.may(yes), now)
	if c.lostAt == now { // as while a hub is brought back, setting after setting
		for i, at := range []*time.Duration{&c.mayFalse, &c.endMay} {
			if *at == now && c.lost[i] != never {
				*at = c.lost[i]
			}
		}
	}
	if before[0] != never && c.mayFalse == never || before[1] != never && c.endMay == never {
		c.lost, c.lostAt = before, now
	}
	for _, t := range c.users {
		t.move(o)
	}
}

// names reports whether a condition is about a control.
func (c *cond) names(control string) bool {
	about := func(f *told) bool {
		return f != nil && slices.ContainsFunc(f.IDs, func(id string) bool {
			return id == control || strings.HasPrefix(id, control+".")
		})
	}
	return about(c.when) || about(c.until)
}

// tracker follows a condition with its dead band and delays.
type tracker struct {
	c        *cond
	lock     *lock
	schedule *calendar.Schedule
	after    time.Duration // until it counts
	settle   time.Duration // and until it does no more
	own      bool          // it is about the control itself
	must     tri           // what it surely is; 0: not sure
	born     time.Duration // what was so before counts from then
	turned   time.Duration // when must last changed
}

func (t *tracker) past(o *oracle, since, wait time.Duration) bool {
	return since != never && o.w.now-max(since, t.born) >= wait
}

func (t *tracker) move(o *oracle) {
	if t.lock != nil {
		t.lock.move(o)
		return
	}
	c, was := t.c, t.must
	defer func() {
		if t.must != was {
			t.turned = o.w.now
		}
	}()
	past := func(since, wait time.Duration) bool { return t.past(o, since, wait) }
	over := past(c.endSure, t.settle+doubtful)
	if c.until == nil {
		over = past(c.surely[no], t.settle+doubtful)
	}
	switch {
	case past(c.surely[yes], t.after+doubtful):
		t.must = yes
	case over:
		t.must = no
	case past(c.surely[nobody], doubtful):
		t.must = nobody
	case t.must == yes && !c.is.may(nobody) && (c.until == nil && !c.is.may(no) || c.until != nil && !c.ends.may(yes) &&
		!c.ends.may(nobody)):
	case t.must == no && !c.is.may(yes) && !c.is.may(nobody):
	default:
		t.must = 0
	}
}

// lock is an interlock: what surely holds, and what may.
type lock struct {
	tracker
	of                *watched
	cfg               site.Interlock
	hold, may         bool
	since             time.Duration // since when it surely holds
	everTrue, mayTrue bool          // since it was last free
	latched, mayLatch bool
	wasPure           bool          // pure, as the site was when it was last applied
	held              time.Duration // when it last may have held
}

// Long, because the oracle decides by itself, in one piece.
func (l *lock) move(o *oracle) {
	if !l.of.active { // nothing is decided of what takes no part, and what was true may be over
		l.may, l.mayTrue, l.everTrue, l.mayLatch, l.born = true, true, false, l.mayLatch || l.cfg.Latch, o.w.now
		if l.of.cfg.What() == site.Mover { // what was over may still have to stay so for a while when it takes part again
			l.of.over, l.of.overWant = true, nil
		}
		return
	}
	c, now := l.c, o.w.now
	after, settle := site.Millis(l.cfg.AfterMS), site.Millis(l.cfg.SettleMS)
	before := l.may || l.hold
	defer func() {
		if before || l.may || l.hold { // it may have held until just now
			l.held = now
		}
	}()
	past := func(since, wait time.Duration) bool { return l.past(o, since, wait) }
	grip := func() {
		if !l.hold && l.pure() {
			l.hold, l.since = true, now
		}
		l.may = true
	}
	if l.of.cfg.What() == site.Mover && (c.is.may(yes) || c.is.may(nobody)) {
		l.of.over, l.of.overWant = true, nil
	}
	if c.is.may(yes) {
		l.may, l.mayTrue = true, true
		l.mayLatch = l.mayLatch || l.cfg.Latch
	}
	if c.is.may(nobody) {
		l.may = true
	}
	if past(c.surely[yes], after+doubtful) {
		l.everTrue = true
		l.latched = l.latched || l.cfg.Latch
		grip()
	}
	if past(c.surely[nobody], doubtful) {
		grip()
	}
	// Let go of: perhaps, and surely.
	ends := c.mayFalse
	if c.until != nil && l.everTrue {
		ends = c.endMay
	}
	if c.until != nil && !l.everTrue && c.endMay != never && (ends == never || c.endMay < ends) {
		ends = c.endMay
	}
	if !l.latched && ends != never && now-ends >= settle-doubtful { // perhaps also over a restart
		l.hold, l.everTrue = false, false
	}
	free := past(c.surely[no], settle+doubtful)
	if c.until != nil && l.mayTrue {
		free = past(c.endSure, settle+doubtful)
	}
	if free && !l.latched && (!l.mayTrue || past(c.whole, settle+doubtful)) {
		l.everTrue, l.mayTrue, l.hold = false, false, false
		if !l.mayLatch {
			l.may = false
		}
	}
}

// scheduled says whether a schedule runs at a time; sure is false near its bounds.
func (o *oracle) scheduled(s *calendar.Schedule, wall time.Time) (runs, sure bool) {
	sure = true
	near := func(t time.Time) bool { return wall.Sub(t).Abs() < 65*time.Second }
	for _, r := range o.runs(s, calendar.Midnight(wall.In(o.zone))) {
		if near(r.From) || near(r.To) {
			sure = false
		}
		if !wall.Before(r.From) && wall.Before(r.To) {
			runs = true
		}
	}
	return runs, sure
}

// runs are the stretches of a schedule that may touch a day.
func (o *oracle) runs(s *calendar.Schedule, midnight time.Time) (list []calendar.Run) {
	type day struct {
		s  *calendar.Schedule
		at int64
	}
	key := day{s, midnight.Unix()}
	if list, ok := o.days[key]; ok {
		return list
	}
	for _, w := range s.Windows {
		for back := -1; back < 3; back++ { // tomorrow's may begin before midnight, by a sun that rises soon after it
			noon := midnight.Add(12*time.Hour).AddDate(0, 0, -back)
			start, ok := w.Start.At(noon, o.spot())
			if !ok {
				continue
			}
			end := start.Add(time.Duration(w.ForMS) * time.Millisecond)
			if w.End != nil {
				on := noon
				if overNight(w.Start, *w.End) {
					on = noon.AddDate(0, 0, 1)
				}
				if end, ok = w.End.At(on, o.spot()); !ok || !end.After(start) {
					continue
				}
			}
			list = append(list, calendar.Run{From: start, To: end})
		}
	}
	o.days[key] = list
	return list
}

// overNight says from the times as written whether a window ends on the next day.
func overNight(start, end calendar.Moment) bool {
	if start.Base == calendar.Clock && end.Base == calendar.Clock {
		return end.Minutes <= start.Minutes
	}
	late := start.Base == calendar.Sunset || start.Base == calendar.Clock && start.Minutes >= 12*60
	early := end.Base == calendar.Sunrise || end.Base == calendar.Clock && end.Minutes < 12*60
	return late && early
}
