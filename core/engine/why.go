package engine

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"idleember/core/access"
	"idleember/core/calendar"
	"idleember/core/control"
	"idleember/core/formula"
	"idleember/core/site"
)

// Why is the chain of reasons for what a control is.
type Why struct {
	Reason string   `json:"reason"` // in one line
	Lines  []string `json:"lines"`  // step by step, with numbers and times
	Else   string   `json:"else"`   // what it would be otherwise
	Next   []string `json:"next"`   // what happens next, and when
}

// reason says in one line why a control is what it is.
func (e *Engine) reason(x *controlled) string {
	d, a := x.dec, x.auto
	text := ""
	switch d.Step {
	case control.OutOfWork:
		text = "out of service since " + e.when(x.ServiceAt) + ", by " + x.ServiceBy.Name
	case control.Interlocked:
		text = "interlock “" + a.Interlocks[d.Index].Name + "”: " + e.lockWords(x.interlocks[d.Index])
	case control.Leaving:
		text = "is being taken away"
	case control.Protected:
		text = "protects: " + e.demandWords(x, d.Index)
	case control.ByHand:
		text = e.handWords(x)
	case control.Demanding:
		text = e.demandWords(x, d.Index)
	case control.NotAllowed:
		text = "not now: " + e.permitWords(x, d.Index)
	case control.Idle:
		if len(x.demands) == 0 {
			text = "nobody wants anything"
			break
		}
		text = "nothing asks for it: " + e.demandWords(x, 0)
	case control.Waiting:
		text = "the hub has just started; stays as it was until " + e.unknownWords(x, d.Index) + " is known"
	case control.Settling:
		text = "readings are back; waits " + calendar.Words(max(x.facts.SettledAt-e.now.Mono, time.Second)) +
			" more before it counts on them"
	case control.FellBack:
		text = "falls back to " + x.cfg.Say(d.Asked) + ": " + e.unknownWords(x, d.Index) + " is unknown"
	}
	if l := e.limitWords(x); l != "" {
		text += "; " + l
	}
	if d.Blind {
		text += "; its protection cannot see: " + e.unknownWords(x, d.Unseen) + " is unknown"
	}
	return text
}

// troubleWords says that a control is not what is decided, "" where it is as far as anybody knows: that comes before
// all else.
func (e *Engine) troubleWords(x *controlled) string {
	d := e.devices[x.cfg.Device]
	name := e.site.Devices[x.cfg.Device].Name
	wants := x.Want != nil && x.Service == control.InService
	switch {
	case d == nil || !wants || x.mover != nil:
		return ""
	case !d.Online && d.Since.IsZero():
		return name + " was never heard"
	case !d.Online:
		return name + " is offline since " + e.when(d.Since)
	case x.Phase == Unconfirmed:
		if x.Is != nil && !same(x.cfg, *x.Is, *x.Want) {
			return name + " does not confirm " + wanted(x) + ", it says " + is(x)
		}
		return name + " has not confirmed " + wanted(x)
	}
	return ""
}

// told puts trouble before a reason.
func (e *Engine) telling(x *controlled, reason string) string {
	if t := e.troubleWords(x); t != "" && !strings.Contains(reason, t) {
		if reason == "" {
			return t
		}
		return t + "; " + reason
	}
	return reason
}

func (e *Engine) handWords(x *controlled) string {
	if x.moves != nil {
		return "moved by " + x.moves.cfg.Name
	}
	if x.Hand == nil {
		return ""
	}
	text := "switched " + x.cfg.Say(*x.Hand) + " by " + x.HandBy.Name
	if x.cfg.What() != site.Switch {
		text = "set to " + x.cfg.Say(*x.Hand) + " by " + x.HandBy.Name
	}
	switch x.How {
	case HowDevice:
		text = "switched " + x.cfg.Say(*x.Hand) + " at the board"
	case HowAway:
		if x.Held != nil {
			text = "was " + x.cfg.Say(*x.Held) + " by hand when it went away; tap to resume"
		}
	case HowPreset:
		text += " with a preset"
	}
	if !x.HandUntil.IsZero() && x.How != HowAway {
		text += " until " + e.when(x.HandUntil)
	}
	if n := e.Started(x.ID); x.auto != nil && x.auto.Limits.StartsAnHour > 0 && n > x.auto.Limits.StartsAnHour &&
		*x.Hand > 0 {
		text += fmt.Sprintf("; mind: it was started %d times within an hour, %d are allowed", n, x.auto.Limits.StartsAnHour)
	}
	if x.HandBy.Kind == access.TheHub && x.How == HowPerson {
		text = x.cfg.Say(*x.Hand) + " since the time by hand is over"
	}
	d := e.devices[x.cfg.Device]
	switch wakes := e.site.Devices[x.cfg.Device].Wakes(); {
	case x.How == HowAway || x.How == HowDevice:
	case !d.Online:
		text += "; the board is offline and gets it when it is back"
	case wakes > 0:
		text += fmt.Sprintf("; the board sleeps and wakes every %s, it waits until %s at the latest", calendar.Words(wakes),
			e.now.Wall.Add(e.confirmWithin(*x.cfg)).In(e.zone).Format("15:04"))
	}
	return text
}

func (e *Engine) limitWords(x *controlled) string {
	d := x.dec
	left := ""
	if d.Next > e.now.Mono {
		left = calendar.Words(d.Next - e.now.Mono)
	}
	switch d.Limit {
	case control.LongestOn:
		if left == "" {
			return "it ran for its longest time of " + calendar.Words(site.Millis(x.auto.Limits.LongestOnMS)) +
				"; switch it anew"
		}
		return "stopped: it ran for its longest time of " + calendar.Words(site.Millis(x.auto.Limits.LongestOnMS)) +
			", and rests for " + left
	case control.Rest:
		return "rests for " + left + " more after running for its longest time"
	case control.Starts:
		return fmt.Sprintf("waits %s: it was started %d times within an hour", left, x.auto.Limits.StartsAnHour)
	case control.Chatters:
		return "chatters; it is held at " + x.cfg.Say(d.Value) + " for " + left + " more"
	case control.NoEffect:
		return "switched off, because it had no effect; switch it anew when that is mended"
	case control.Stays:
		return "it was stopped, and stays where it is until something new is wanted"
	case control.ShortestOn:
		return "stays on for " + left + " more: shortest on"
	case control.ShortestOff:
		return "stays off for " + left + " more: shortest off"
	case control.Overruled:
		return e.site.Controls[x.blocked].Name + " goes first: both are forced on, and they exclude each other"
	case control.Shared:
		name := x.blocked
		if o, ok := e.site.Controls[x.blocked]; ok {
			name = o.Name
		}
		if left != "" && d.Next > e.now.Mono {
			return "waits " + left + " after " + name
		}
		if g := e.budget(x.ID, x.blocked); g != nil {
			return fmt.Sprintf("waits for %s: together they need more than the %g W of %s", name, g.Limit, g.Name)
		}
		return "waits for " + name
	}
	return ""
}

// budget is the power budget that two controls share, or nil.
func (e *Engine) budget(a, b string) *site.Group {
	for _, g := range e.site.Groups {
		has := func(id string) bool {
			return slices.ContainsFunc(g.Members, func(m site.GroupMember) bool { return m.Control == id })
		}
		if !g.Exclusive() && has(a) && has(b) {
			return g
		}
	}
	return nil
}

func (e *Engine) lockWords(l *lock) string {
	switch {
	case l.due > 0 && l.Pending == control.False:
		return "its cause is over, and must stay so for " + calendar.Words(l.due-e.now.Mono) + " more (" +
			e.formulaWords(l.when) + ")"
	case l.Is == control.Unknown:
		return "unknown, and so it holds (" + e.formulaWords(l.when) + ")"
	case l.Latched && l.Is == control.False:
		return "was true at " + e.when(l.At) + " and holds until somebody resets it"
	case l.Is == control.True && !l.when.value.True():
		release := "that is known to be over"
		if l.until != nil {
			release = l.until.f.Text
		}
		return "was true, and holds until " + release + " (" + e.formulaWords(l.when) + ")"
	case l.Is == control.False && l.due > 0:
		return "comes to hold in " + calendar.Words(l.due-e.now.Mono) + " (" + e.formulaWords(l.when) + ")"
	}
	return e.formulaWords(l.when)
}

// formulaWords is a formula with the values of its ids.
func (e *Engine) formulaWords(b *bound) string {
	var values []string
	for _, p := range b.points {
		id := strings.TrimSuffix(p.id, ".is")
		switch {
		case !p.value.Known:
			values = append(values, e.nameOf(id)+" unknown")
		default:
			values = append(values, e.nameOf(id)+" "+e.valueWords(p))
		}
	}
	if len(values) == 0 {
		return b.f.Text
	}
	return b.f.Text + " (" + strings.Join(values, ", ") + ")"
}

func (e *Engine) nameOf(id string) string {
	if g, ok := e.site.Signals[id]; ok {
		return g.Name
	}
	if g, ok := e.site.Settings[id]; ok {
		return g.Name
	}
	if c, ok := e.site.Controls[id]; ok {
		return c.Name
	}
	return id
}

func (e *Engine) valueWords(p *point) string {
	if s := e.signals[p.id]; s != nil && p.value.Kind == site.Number {
		cfg := e.site.Signals[p.id]
		return strings.TrimSpace(fmt.Sprintf("%.*f %s", cfg.Decimals, p.value.Num, site.UnitSign(cfg.Unit)))
	}
	return strings.Replace(e.say(p.id), " Cel", " °C", 1)
}

func quantityWords(v formula.Value, unit string) string {
	if !v.Known {
		return "unknown"
	}
	return strings.TrimSpace(strings.TrimSuffix(strings.TrimSuffix(fmt.Sprintf("%.2f", v.Num), "0"), ".0") + " " +
		site.UnitSign(unit))
}

// apart puts two quantities into words so that they differ where they do.
func apart(a, b float64, unit string) (string, string) {
	x, y := quantityWords(formula.Number(a), unit), quantityWords(formula.Number(b), unit)
	if x == y && a != b {
		sign := site.UnitSign(unit)
		return strings.TrimSpace(strconv.FormatFloat(a, 'g', -1, 64) + " " + sign),
			strings.TrimSpace(strconv.FormatFloat(b, 'g', -1, 64) + " " + sign)
	}
	return x, y
}

func (e *Engine) permitWords(x *controlled, i int) string {
	text := e.formulaWords(x.permits[i].when)
	if name := x.auto.Permits[i].Name; name != "" {
		text = name + ": " + text
	}
	return text
}

// unknownWords names what a demand does not know.
func (e *Engine) unknownWords(x *controlled, i int) string {
	look := func(b *bound) string {
		if b == nil {
			return ""
		}
		for _, p := range b.points {
			if p.value.Known {
				continue
			}
			if s := e.signals[p.id]; s != nil {
				switch {
				case s.Fresh == Live && s.Quality != 0:
					return e.nameOf(p.id) + " (its readings are " + s.Quality.String() + ")"
				case !s.Heard.IsZero():
					return e.nameOf(p.id) + " (last heard " + e.when(s.Heard) + ")"
				}
			}
			return e.nameOf(strings.TrimSuffix(p.id, ".is"))
		}
		if !e.now.Trusted && !b.value.Known && b.f.Every > 0 {
			return "the time"
		}
		return ""
	}
	for _, p := range x.permits {
		if p.Is == control.Unknown {
			if s := look(p.when); s != "" {
				return s
			}
		}
	}
	if i >= 0 && i < len(x.demands) {
		d := x.demands[i]
		if _, timed := d.kind.(timed); timed && !e.now.Trusted {
			return "the time"
		}
		for _, b := range []*bound{d.of, d.target} {
			if s := look(b); s != "" {
				return s
			}
		}
		if d.cond != nil {
			for _, b := range []*bound{d.cond.when, d.cond.until} {
				if s := look(b); s != "" {
					return s
				}
			}
		}
	}
	return "what it needs"
}

// when puts a time into the words of a household, in the hub's time zone.
func (e *Engine) when(t time.Time) string {
	t, now := t.In(e.zone), e.now.Wall.In(e.zone)
	switch {
	case t.Format(time.DateOnly) == now.Format(time.DateOnly):
		return t.Format("15:04")
	case t.Sub(now).Abs() < 6*24*time.Hour:
		return t.Format("Mon 15:04")
	}
	return t.Format("2006-01-02 15:04")
}

// Reason says in one line why a control is what it is, with the numbers of now where the hub decides.
func (e *Engine) Reason(now Now, id string) string {
	x := e.controls[id]
	if x == nil {
		return ""
	}
	e.now = now
	step := x.dec.Step
	if step == control.ByHand && (x.dec.Limit != control.NoLimit || x.dec.Blind) { // its numbers go on
		step = control.Demanding
	}
	switch step {
	case control.Demanding, control.Idle, control.NotAllowed, control.FellBack, control.Settling, control.Interlocked:
		if x.Phase != Unconfirmed && x.Proof != ProofMissing && x.Reason == x.told {
			out := len(e.out)
			x.Reason = e.reason(x)
			x.told, e.out = x.Reason, e.out[:out]
		}
	}
	return e.telling(x, x.Reason)
}

// Why explains a control at a time: each step of the decision, what it would be otherwise, and what comes next.
func (e *Engine) Why(now Now, id string) (Why, bool) {
	x := e.controls[id]
	if x == nil {
		return Why{}, false
	}
	e.now = now
	out := len(e.out)
	defer func() { e.out = e.out[:out] }()
	w := Why{Reason: x.Reason, Lines: []string{}, Next: []string{}}
	add := func(format string, args ...any) { w.Lines = append(w.Lines, fmt.Sprintf(format, args...)) }
	if x.dec.Step != control.Nothing {
		w.Reason = e.reason(x)
	}
	if x.mover != nil && (x.Phase == Unconfirmed || x.Mover.Failed) {
		w.Reason = x.Reason
	}
	if t := e.troubleWords(x); t != "" {
		add("%s.", t)
	}
	w.Reason = e.telling(x, w.Reason)
	if x.Service != control.InService {
		add("Out of service since %s, by %s.", e.when(x.ServiceAt), x.ServiceBy.Name)
	}
	for _, l := range x.interlocks {
		word := "is free"
		if l.holds() {
			word = "holds"
		}
		add("Interlock “%s” %s: %s.", l.cfg.Name, word, e.lockWords(l))
	}
	if x.Hand != nil {
		add("By hand since %s: %s.", e.when(x.HandAt), e.handWords(x))
	} else if x.Mode == Auto {
		add("Auto.")
	}
	for i, p := range x.permits {
		word := map[control.Tri]string{control.True: "given", control.False: "missing", control.Unknown: "unknown"}[p.Is]
		add("Permit %s: %s.", word, e.permitWords(x, i))
	}
	for i, d := range x.facts.Demands {
		word := map[control.Tri]string{control.True: "asks for " + x.cfg.Say(d.To), control.False: "asks for nothing",
			control.Unknown: "is unknown"}[d.Is]
		add("Demand %d %s: %s.", i+1, word, e.demandWords(x, i))
	}
	if l := e.limitWords(x); l != "" {
		add("Limit: %s.", l)
	}
	switch x.Proof {
	case ProofWaiting:
		add("Its effect is awaited: %s.", e.formulaWords(x.proof.when))
	case ProofSeen:
		add("Its effect was seen: %s.", e.formulaWords(x.proof.when))
	case ProofMissing:
		add("No effect was seen: %s.", e.formulaWords(x.proof.when))
	}
	e.otherwise(x, &w)
	e.coming(x, &w)
	return w, true
}

// otherwise says what a control would be without what decides now.
func (e *Engine) otherwise(x *controlled, w *Why) {
	f := x.facts
	switch x.dec.Step {
	case control.OutOfWork:
		f.Service = control.InService
	case control.Interlocked:
		f.Interlocks = make([]control.Tri, len(f.Interlocks))
		for i := range f.Interlocks {
			f.Interlocks[i] = control.False
		}
	case control.ByHand, control.Protected:
		if !x.auto.HasAuto() {
			return
		}
		f.Hand = nil
	default:
		return
	}
	d := control.Decide(&f)
	if !d.Has {
		return
	}
	without := map[control.Step]string{control.OutOfWork: "In service", control.Interlocked: "Without the interlock",
		control.ByHand: "In auto", control.Protected: "Without the protection"}[x.dec.Step]
	w.Else = without + " it would be " + x.cfg.Say(d.Value) + "."
}

// afterHand is what a control without automation goes back to when the time by hand is over.
func (x *controlled) afterHand() site.Amount {
	if x.Before != nil {
		return *x.Before
	}
	return x.cfg.Safe
}

// coming says what happens next.
func (e *Engine) coming(x *controlled, w *Why) {
	add := func(format string, args ...any) { w.Next = append(w.Next, fmt.Sprintf(format, args...)) }
	if x.Hand != nil && !x.HandUntil.IsZero() {
		then := "auto"
		if !x.auto.HasAuto() {
			then = x.cfg.Say(x.afterHand())
		}
		add("%s: %s.", e.when(x.HandUntil), then)
	}
	if x.auto != nil && x.Want != nil && *x.Want > 0 && x.dec.Limit == control.NoLimit && x.Mode == Auto {
		if left := x.onSince + site.Millis(x.auto.Limits.ShortestOnMS) - e.now.Mono; left > 0 {
			add("Stays on at least %s more: shortest on.", calendar.Words(left))
		}
	}
	if d := x.dec; d.Next > e.now.Mono {
		at := e.when(e.now.Wall.Add(d.Next - e.now.Mono))
		switch d.Limit {
		case control.ShortestOn:
			add("Stays on at least %s more: shortest on.", calendar.Words(d.Next-e.now.Mono))
		case control.ShortestOff, control.Rest, control.LongestOn:
			add("Off at least %s more, until %s.", calendar.Words(d.Next-e.now.Mono), at)
		case control.NoLimit:
			if l := x.auto; l != nil && l.Limits.LongestOnMS > 0 && x.Want != nil && *x.Want > 0 {
				add("Off at the latest %s: longest on.", at)
			}
		}
	}
	for i, d := range x.demands {
		if k, ok := d.kind.(turning); ok {
			if at, to := k.turns(d); !at.IsZero() {
				add("%s: the schedule of demand %d goes %s.", e.when(at), i+1, to)
			}
		}
	}
}

// Upcoming is a change that is already known.
type Upcoming struct {
	At   time.Time `json:"at"`
	ID   string    `json:"id"`
	What string    `json:"what"`
	Ends time.Time `json:"ends,omitzero"`
}

// Next returns what will run in [from, to) by schedules and exercises, and ends of times by hand, in no order.
func (e *Engine) Next(from, to time.Time) (list []Upcoming) {
	for _, id := range sorted(e.controls) {
		x := e.controls[id]
		if x.Hand != nil && !x.HandUntil.IsZero() && !x.HandUntil.Before(from) && x.HandUntil.Before(to) {
			word := "auto"
			if !x.auto.HasAuto() {
				word = x.cfg.Say(x.afterHand())
			}
			list = append(list, Upcoming{At: x.HandUntil, ID: id, What: word + ", the time by hand is over"})
		}
		for _, d := range x.demands {
			if k, ok := d.kind.(planned); ok {
				list = append(list, k.upcoming(e, x, d, from, to)...)
			}
		}
	}
	for _, id := range sorted(e.settings) {
		if g := e.settings[id]; !g.Until.IsZero() && g.Before != nil && g.Until.Before(to) {
			list = append(list, Upcoming{At: g.Until, ID: id, What: "back to " + e.site.Settings[id].Say(*g.Before)})
		}
	}
	return list
}

// Evaluate returns what a formula comes to now, with the windows that it needs.
func (e *Engine) Evaluate(now Now, f *formula.Formula, windows []*formula.Window) formula.Value {
	e.now = now
	env := formula.Env{Clock: e.clock(), Windows: windows}
	for _, id := range f.IDs {
		v, age := e.valueNow(id)
		env.Values, env.Ages = append(env.Values, v), append(env.Ages, age)
	}
	return f.Eval(&env)
}

// valueNow is the value of an id as a formula would see it, and its age.
func (e *Engine) valueNow(id string) (formula.Value, time.Duration) {
	if p := e.points[id]; p != nil {
		if !p.ever {
			return p.value, -1
		}
		return p.value, e.now.Mono - p.heard
	}
	if s := e.signals[id]; s != nil {
		switch {
		case !s.Seen:
			return formula.Unknown, -1
		case s.Fresh == Live && s.Quality == 0:
			return valueOf(s.Value), e.now.Mono - s.heard
		}
		return formula.Unknown, e.now.Mono - s.heard
	}
	if g := e.settings[id]; g != nil {
		return settingValue(e.site.Settings[id], g.Value), 0
	}
	base, what := id, "is"
	if strings.Count(id, ".") == 2 {
		at := strings.LastIndexByte(id, '.')
		base, what = id[:at], id[at+1:]
	}
	x := e.controls[base]
	if x == nil {
		return formula.Unknown, -1
	}
	a := x.Is
	switch what {
	case "mode":
		return formula.Text(string(x.Mode)), 0
	case "want":
		a = x.Want
	}
	if a == nil {
		return formula.Unknown, -1
	}
	return amountValue(*x.cfg, *a), 0
}
