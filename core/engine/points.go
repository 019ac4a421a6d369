package engine

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"idleember/core/calendar"
	"idleember/core/control"
	"idleember/core/formula"
	"idleember/core/reading"
	"idleember/core/site"
)

// point is a value that formulas can name: of a signal, a setting, or what a control is, is wanted to be, and its mode.
type point struct {
	id      string
	value   formula.Value // good and fresh, else unknown
	doubt   formula.Value // a suspect value newer than the good one; it counts towards an interlock alone
	heard   time.Duration
	ever    bool
	users   []*bound
	windows []*window
	live    func() formula.Value // of what changes with time alone
}

// window holds the recent values of a point for functions over time. Until the store was asked it also keeps what
// comes, so that nothing is missing between the two.
type window struct {
	need   formula.Need
	w      *formula.Window
	filled bool
	recent []Sample
}

// bound is a formula with the points that it names.
type bound struct {
	f        *formula.Formula
	meant    []formula.Name // what its ids were when it was read; nil: it could not be
	env      formula.Env
	points   []*point
	value    formula.Value
	doubtful formula.Value // with suspect values taken for true
	conds    []*cond
	locks    []*lock
	controls []*controlled
	queued   bool
	judged   bool // it was evaluated since the site or the state came
	wake     uint64
}

// cond is a condition with its dead band and delays. It is shared by all that name the same one.
type cond struct {
	key         string
	cfg         site.Condition
	when, until *bound
	CondState
	due        time.Duration // when what is pending becomes true; 0: nothing is
	wake       uint64
	queued     bool
	controls   []*controlled
	rules      []*rule
	liveAlerts []*liveAlert
}

// CondState is a condition's state, as the store keeps it.
type CondState struct {
	Is      control.Tri `json:"is"`
	At      time.Time   `json:"at"`                // since when
	Pending control.Tri `json:"pending,omitempty"` // what it becomes when its delay is over
	Since   time.Time   `json:"since,omitzero"`    // since when that is so
}

func (c *cond) keeps() bool { return c.cfg.Until != "" || c.cfg.AfterMS > 0 || c.cfg.SettleMS > 0 }

// names lets formulas name everything of the site.
type names struct{ s *site.Site }

// Names returns what the ids of a site stand for in formulas.
func Names(s *site.Site) formula.Names { return names{s} }

// Long, because it is one case for each kind.
func (n names) Name(id string) (formula.Name, []string, bool) {
	if g, ok := n.s.Signals[id]; ok {
		return formula.Name{Kind: g.Kind, Unit: g.Unit}, nil, true
	}
	if g, ok := n.s.Settings[id]; ok {
		switch g.Kind {
		case site.SetOnOff:
			return formula.Name{Kind: site.OnOff}, nil, true
		case site.SetChoice:
			return formula.Name{Kind: site.Text}, nil, true
		case site.SetTime:
			return formula.Name{Kind: site.Number, Unit: "min"}, nil, true
		case site.SetDuration:
			return formula.Name{Kind: site.Number, Unit: "s"}, nil, true
		}
		return formula.Name{Kind: site.Number, Unit: g.Unit}, nil, true
	}
	if name, ok := ownNames[id]; ok {
		return name, nil, true
	}
	base, what := id, ""
	if at := strings.LastIndexByte(id, '.'); at >= 0 {
		base, what = id[:at], id[at+1:]
	}
	if _, ok := n.s.Devices[base]; ok && what == "online" {
		return formula.Name{Kind: site.OnOff}, nil, true
	}
	if _, ok := n.s.Signals[base]; ok && what == "state" {
		return formula.Name{Kind: site.Text}, nil, true
	}
	if _, ok := n.s.Controls[id]; ok {
		base, what = id, ""
	}
	if c, ok := n.s.Controls[base]; ok {
		switch what {
		case "mode", "phase", "proof", "limit", "floor":
			return formula.Name{Kind: site.Text}, nil, true
		case "hours":
			return formula.Name{Kind: site.Number, Unit: "h", Runs: true}, nil, true
		case "", "is", "want":
			switch c.What() {
			case site.Switch:
				return formula.Name{Kind: site.OnOff}, nil, true
			case site.Level:
				return formula.Name{Kind: site.Number, Unit: "%"}, nil, true
			}
			return formula.Name{Kind: site.Text}, nil, true
		}
	}
	var all []string
	for _, ids := range [][]string{slices.Collect(maps.Keys(n.s.Signals)), slices.Collect(maps.Keys(n.s.Settings)),
		slices.Collect(maps.Keys(n.s.Controls))} {
		all = append(all, ids...)
	}
	slices.Sort(all)
	return formula.Name{}, site.Nearest(id, all), false
}

// point returns the point of an id, made where it is missing. "d.c" is the same as "d.c.is".
func (e *Engine) point(id string) *point {
	if _, ok := e.site.Controls[id]; ok {
		id += ".is"
	}
	p := e.points[id]
	if p == nil {
		p = &point{id: id}
		e.points[id] = p
	}
	return p
}

// ownNames are what the hub knows of itself.
var ownNames = map[string]formula.Name{
	"hub.disk_used": {Kind: site.Number, Unit: "%"},
	"hub.damaged":   {Kind: site.Number},
	"hub.backup":    {Kind: site.Number, Unit: "h"},
	"hub.clock":     {Kind: site.Number},
}

// stateFormula reads the formulas that built-in alerts are made of, of which there is one for each device, signal and
// control, without parsing: nil where the text is none of them.
func stateFormula(text string) *formula.Formula {
	id, ok := strings.CutSuffix(text, ".online == off")
	if ok && site.CheckSlug(id) == nil {
		return formula.Equals(id+".online", formula.Bool(false))
	}
	id, word, ok := strings.Cut(text, " == \"")
	word, end := strings.CutSuffix(word, "\"")
	if !ok || !end || strings.ContainsAny(word, "\"\\") || strings.Count(id, ".") != 2 || strings.ContainsAny(id,
		" ()\"") {
		return nil
	}
	switch id[strings.LastIndexByte(id, '.')+1:] {
	case "state", "phase", "proof", "limit", "floor":
		return formula.Equals(id, formula.Text(word))
	}
	return nil
}

// bind returns the formula of a text. A text that cannot be read, because something was taken away, is always unknown.
func (e *Engine) bind(text string) *bound {
	if b := e.bounds[text]; b != nil {
		return b
	}
	b := &bound{}
	b.f, b.meant = e.read(text)
	f := b.f
	for _, id := range f.IDs {
		p := e.point(id)
		p.users = append(p.users, b)
		b.points = append(b.points, p)
	}
	b.env.Values, b.env.Ages = make([]formula.Value, len(f.IDs)), make([]time.Duration, len(f.IDs))
	for _, need := range f.Needs {
		b.env.Windows = append(b.env.Windows, e.window(need).w)
	}
	e.bounds[text] = b
	e.order = append(e.order, b)
	return b
}

// read reads a formula, unless it was read before and its ids are still what they were.
func (e *Engine) read(text string) (f *formula.Formula, meant []formula.Name) {
	if f := stateFormula(text); f != nil {
		return f, nil
	}
	n := names{e.site}
	if old := e.oldBounds[text]; old != nil && old.meant != nil && slices.EqualFunc(old.f.IDs, old.meant,
		func(id string, was formula.Name) bool {
			is, _, ok := n.Name(id)
			return ok && is == was
		}) {
		return old.f, old.meant
	}
	f, err := formula.Parse(text, n)
	if err != nil {
		return &formula.Formula{Text: text}, nil
	}
	meant = []formula.Name{}
	for _, id := range f.IDs {
		is, _, _ := n.Name(id)
		meant = append(meant, is)
	}
	return f, meant
}

func (e *Engine) window(need formula.Need) *window {
	p := e.point(need.ID)
	need.ID = p.id
	i := slices.IndexFunc(p.windows, func(w *window) bool { return w.need == need })
	if i < 0 {
		w := &window{need: need, w: formula.NewWindow(need.Span)}
		if old := e.oldWindows[need]; old != nil {
			w = old
		} else {
			e.emit(NeedHistory(need))
		}
		i = len(p.windows)
		p.windows = append(p.windows, w)
	}
	return p.windows[i]
}

// condition returns the condition, shared by all that have the same.
func (e *Engine) condition(cfg site.Condition) *cond {
	key := condKey(cfg, false)
	if c := e.conds[key]; c != nil {
		return c
	}
	c := &cond{key: key, cfg: cfg, when: e.bind(cfg.When)}
	c.when.conds = append(c.when.conds, c)
	if cfg.Until != "" {
		c.until = e.bind(cfg.Until)
		c.until.conds = append(c.until.conds, c)
	}
	if old := e.oldConds[key]; old != nil {
		c.CondState, c.due = old.CondState, old.due
		if c.due > 0 {
			c.wake = e.wakeAt(c.due, wakeCond, key)
		}
	}
	e.conds[key] = c
	return c
}

// condKey is what the state of a condition is kept under. Versions whose interlocks had no ids kept theirs likewise.
func condKey(cfg site.Condition, lock bool) string {
	return fmt.Sprintf("%s|%s|%d|%d|%t", cfg.When, cfg.Until, cfg.AfterMS, cfg.SettleMS, lock)
}

// set changes a point and queues the formulas that name it. It costs nothing where nothing changed.
func (e *Engine) set(p *point, v formula.Value) {
	if p.value == v && !p.doubt.Known {
		return
	}
	p.value, p.doubt = v, formula.Unknown
	e.touch(p)
}

func (e *Engine) touch(p *point) {
	for _, b := range p.users {
		e.queue(b)
	}
}

func (e *Engine) queue(b *bound) {
	if !b.queued {
		b.queued = true
		e.queued.push(b)
	}
}

// sample gives a point's value to its windows.
func (e *Engine) sample(p *point, at time.Time, v float64) {
	for _, w := range p.windows {
		w.w.Add(at, v)
		if !w.filled {
			w.recent = append(w.recent, Sample{at, v})
		}
	}
	if len(p.windows) > 0 {
		e.touch(p)
	}
}

// fill puts what the store had into a window.
func (e *Engine) fill(in History) {
	p := e.points[in.ID]
	if p == nil {
		return
	}
	for _, w := range p.windows {
		if w.need.Span != in.Span {
			continue
		}
		*w.w = *formula.NewWindow(in.Span)
		w.w.Known(in.From)
		for _, s := range in.Samples {
			w.w.Add(s.At, s.Value)
		}
		newest := w.w.Newest()
		for _, s := range w.recent {
			if s.At.After(newest) {
				w.w.Add(s.At, s.Value)
			}
		}
		w.filled, w.recent = true, nil
	}
	e.touch(p)
}

// Windows returns the spans that formulas look back on an id.
func (e *Engine) Windows(id string) (needs []formula.Need) {
	if p := e.points[id]; p != nil {
		for _, w := range p.windows {
			needs = append(needs, w.need)
		}
	}
	return needs
}

// Late says that readings of the past came for an id; what formulas summed of it must be summed anew.
func (e *Engine) late(id string) {
	p := e.points[id]
	if p == nil {
		return
	}
	for _, w := range p.windows {
		if w.filled {
			w.filled = false
			e.emit(NeedHistory(w.need))
		}
	}
}

func (e *Engine) clock() formula.Clock {
	return formula.Clock{Wall: e.now.Wall.In(e.zone), Sun: e.spot(), Unset: !e.now.Trusted}
}

func (e *Engine) spot() calendar.Spot { return e.where }

// eval evaluates a formula anew and tells those who use it where that changed anything.
func (e *Engine) eval(b *bound) {
	was, wasDoubtful := b.value, b.doubtful
	doubt := false
	for i, p := range b.points {
		if p.live != nil {
			p.value = p.live()
		}
		b.env.Values[i] = p.value
		doubt = doubt || p.doubt.Known
	}
	if b.f.Every > 0 {
		b.env.Clock = e.clock()
		for i, p := range b.points {
			b.env.Ages[i] = -1
			if p.ever {
				b.env.Ages[i] = e.now.Mono - p.heard
			}
		}
		e.look(b)
	}
	b.value = e.run(b)
	b.doubtful = b.value
	if doubt {
		for i, p := range b.points {
			if p.doubt.Known {
				b.env.Values[i] = p.doubt
			}
		}
		b.doubtful = e.run(b)
	}
	if b.value == was && b.doubtful == wasDoubtful && b.judged {
		for _, l := range b.locks { // what is let go of only when all is known
			if l.Is == control.True {
				e.queueLock(l)
			}
		}
		return
	}
	b.judged = true
	for _, c := range b.conds {
		if !c.queued { // judged when both its formulas are up to date
			c.queued = true
			e.judged.push(c)
		}
	}
	for _, l := range b.locks {
		e.queueLock(l)
	}
	for _, c := range b.controls {
		e.mark(c)
	}
}

func (e *Engine) run(b *bound) formula.Value {
	if b.f.Kind == "" {
		return formula.Unknown
	}
	return b.f.Eval(&b.env)
}

// look makes a formula that changes with time be evaluated again at the next whole step of it.
func (e *Engine) look(b *bound) {
	if b.wake == 0 {
		wait := b.f.Every - time.Duration(e.now.Wall.UnixNano())%b.f.Every
		b.wake = e.wakeAt(e.now.Mono+wait, wakeLook, b.f.Text)
	}
}

func (e *Engine) lookDue(w wake) {
	if b := e.bounds[w.id]; b != nil && b.wake == w.seq {
		b.wake = 0
		e.queue(b)
	}
}

// judge takes a condition's state from its formulas. Long, because it is one decision in its order, and each case
// names the next.
func (e *Engine) judge(c *cond) {
	when, set := c.when.value, c.when.value.True()
	goal := c.Is
	switch {
	case set:
		goal = control.True
	case c.until == nil && when.False(), c.until != nil && c.until.value.True():
		goal = control.False
	case !when.Known, c.until != nil && !c.until.value.Known && c.Is == control.True:
		goal = control.Unknown
	case c.Is == control.Unknown: // in the dead band, and nothing is known of before
		goal = control.False
	}
	wait := time.Duration(0)
	switch {
	case goal == control.True && c.Is != control.True:
		wait = site.Millis(c.cfg.AfterMS)
	case goal == control.False && c.Is == control.True:
		wait = site.Millis(c.cfg.SettleMS)
	}
	switch {
	case goal == c.Is || wait == 0:
		if c.due > 0 {
			c.due, c.wake, c.Pending, c.Since = 0, 0, control.Unknown, time.Time{}
			if goal == c.Is {
				e.keepCond(c)
			}
		}
		e.flip(c, goal)
	case c.due == 0 || c.Pending != goal:
		c.due, c.Pending, c.Since = e.now.Mono+wait, goal, e.now.Wall
		c.wake = e.wakeAt(c.due, wakeCond, c.key)
		e.keepCond(c)
		if c.Is == control.Unknown && goal == control.True { // not true yet, but known
			e.flip(c, control.False)
		}
	}
}

func (e *Engine) condDue(w wake) {
	if c := e.conds[w.id]; c != nil && c.wake == w.seq && c.due > 0 {
		goal := c.Pending
		c.due, c.wake, c.Pending, c.Since = 0, 0, control.Unknown, time.Time{}
		e.flip(c, goal)
	}
}

func (e *Engine) flip(c *cond, is control.Tri) {
	if c.Is == is {
		return
	}
	c.Is, c.At = is, e.now.Wall
	e.keepCond(c)
	for _, x := range c.controls {
		e.mark(x)
	}
	for _, r := range c.rules {
		e.markRule(r)
	}
	for _, x := range c.liveAlerts {
		e.markAlert(x)
	}
}

func (e *Engine) keepCond(c *cond) {
	if c.keeps() {
		e.emit(Keep{Kind: keptCondition, ID: c.key, State: c.CondState})
	}
}

// settle lets everything that changed take effect, until nothing changes any more. It ends because each control and
// each rule may change only a few times for one input, see count.
func (e *Engine) settle() {
	for {
		if b, ok := e.queued.pop(); ok {
			b.queued = false
			e.eval(b)
		} else if c, ok := e.judged.pop(); ok {
			c.queued = false
			e.judge(c)
		} else if l, ok := e.locked.pop(); ok {
			l.queued = false
			e.judgeLock(l)
		} else if c, ok := e.marked.pop(); ok {
			c.marked = false
			e.decide(c)
		} else if r, ok := e.ruled.pop(); ok {
			r.marked = false
			e.judgeRule(r)
		} else if x, ok := e.alerted.pop(); ok {
			x.marked = false
			e.judgeAlert(x)
		} else {
			return
		}
	}
}

// queue is first in, first out, and keeps its memory.
type queue[T any] struct {
	items []T
	head  int
}

func (q *queue[T]) push(x T) { q.items = append(q.items, x) }

func (q *queue[T]) pop() (x T, ok bool) {
	if q.head == len(q.items) {
		return x, false
	}
	x = q.items[q.head]
	q.head++
	if q.head == len(q.items) {
		q.items, q.head = q.items[:0], 0
	}
	return x, true
}

// signalPoint gives a live reading to the point of its signal. Bad readings never count, suspect ones only towards an
// interlock; the last good one counts until it is stale.
func (e *Engine) signalPoint(s *signal, at time.Time, v reading.Value, q reading.Quality) {
	p := s.point
	if p == nil {
		return
	}
	p.ever, p.heard = true, e.now.Mono
	value := valueOf(v)
	switch q {
	case reading.Good:
		e.set(p, value)
		if v.Kind != site.Text {
			e.sample(p, at, v.Num)
		}
	case reading.Suspect:
		if p.doubt != value {
			p.doubt = value
			e.touch(p)
		}
	}
}

func valueOf(v reading.Value) formula.Value {
	switch v.Kind {
	case site.Text:
		return formula.Text(v.Text)
	case site.OnOff:
		return formula.Bool(v.On())
	}
	return formula.Number(v.Num)
}

// lose makes the point of a signal unknown.
func (e *Engine) lose(s *signal) {
	if s.point != nil {
		e.set(s.point, formula.Unknown)
	}
}
