package engine

import (
	"slices"
	"strings"
	"time"

	"idleember/core/access"
	"idleember/core/control"
	"idleember/core/formula"
	"idleember/core/site"
	"idleember/core/words"
)

// Why is the chain of reasons for what a control is.
type Why struct {
	Reason words.Fact   // in one line
	Lines  []words.Fact // step by step, with numbers and times
	Else   words.Fact   // what it would be otherwise
	Next   []words.Fact // what happens next, and when
}

// reason says in one line why a control is what it is.
func (e *Engine) reason(x *controlled) words.Fact {
	d := x.dec
	facts := []words.Fact{e.stepFact(x), e.limitFact(x)}
	if d.Blind {
		facts = append(facts, words.Of("reason.blind", "What", e.missingFact(x, d.Unseen)))
	}
	return words.All(facts...)
}

// stepFact is about the step of the decision that applied.
func (e *Engine) stepFact(x *controlled) words.Fact {
	d, a := x.dec, x.auto
	switch d.Step {
	case control.OutOfWork:
		return words.Of("reason.service", "At", e.local(x.ServiceAt), "By", x.ServiceBy.Name)
	case control.Interlocked:
		return words.Of("reason.interlock", "Name", a.Interlocks[d.Index].Name, "Is", e.lockFact(x.interlocks[d.Index]))
	case control.Leaving:
		return words.Of("reason.leaving")
	case control.Protected:
		return words.Of("reason.protects", "Why", e.demandFact(x, d.Index))
	case control.ByHand:
		return e.handFact(x)
	case control.Demanding:
		return e.demandFact(x, d.Index)
	case control.NotAllowed:
		return words.Of("reason.permit", "Why", e.permitFact(x, d.Index))
	case control.Idle:
		if len(x.demands) == 0 {
			return words.Of("reason.nobody")
		}
		return words.Of("reason.idle", "Why", e.demandFact(x, 0))
	case control.Waiting:
		return words.Of("reason.waiting", "What", e.missingFact(x, d.Index))
	case control.Settling:
		return words.Of("reason.settling", "Left", max(x.facts.SettledAt-e.now.Mono, time.Second))
	case control.FellBack:
		return words.Of("reason.fallback", "To", x.cfg.Told(d.Asked), "What", e.missingFact(x, d.Index))
	}
	return words.Fact{}
}

// troubleFact says that a control is not what is decided; nothing where it is as far as anybody knows: that comes
// before all else.
func (e *Engine) troubleFact(x *controlled) words.Fact {
	d := e.devices[x.cfg.Device]
	name := e.site.Devices[x.cfg.Device].Name
	wants := x.Want != nil && x.Service == control.InService
	switch {
	case d == nil || !wants || x.mover != nil:
		return words.Fact{}
	case !d.Online && d.Since.IsZero():
		return words.Of("trouble.unheard", "Name", name)
	case !d.Online:
		return words.Of("trouble.offline", "Name", name, "At", e.local(d.Since))
	case x.Phase == Unconfirmed:
		if x.Is != nil && !same(x.cfg, *x.Is, *x.Want) {
			return words.Of("trouble.denies", "Name", name, "Want", x.cfg.Told(*x.Want), "Is", x.cfg.Told(*x.Is))
		}
		return words.Of("trouble.silent", "Name", name, "Want", x.cfg.Told(*x.Want))
	}
	return words.Fact{}
}

// telling puts trouble before a reason.
func (e *Engine) telling(x *controlled, reason words.Fact) words.Fact {
	t := e.troubleFact(x)
	if t.Empty() || reason.Has(t) {
		return reason
	}
	return words.All(t, reason)
}

func (e *Engine) handFact(x *controlled) words.Fact {
	if x.moves != nil {
		return words.Of("hand.moved", "By", x.moves.cfg.Name)
	}
	if x.Hand == nil {
		return words.Fact{}
	}
	to := x.cfg.Told(*x.Hand)
	text := words.Of("hand.switched", "To", to, "By", x.HandBy.Name)
	if x.cfg.What() != site.Switch {
		text.Code = "hand.set"
	}
	switch x.How {
	case HowDevice:
		text = words.Of("hand.board", "To", to)
	case HowAway:
		if x.Held != nil {
			text = words.Of("hand.away", "To", x.cfg.Told(*x.Held))
		}
	case HowPreset:
		text = words.Of("hand.preset", "What", text)
	}
	if !x.HandUntil.IsZero() && x.How != HowAway {
		text = words.Of("hand.until", "What", text, "Until", e.local(x.HandUntil))
	}
	facts := []words.Fact{text}
	if n := e.Started(x.ID); x.auto != nil && x.auto.Limits.StartsAnHour > 0 && n > x.auto.Limits.StartsAnHour &&
		*x.Hand > 0 {
		facts = append(facts, words.Of("hand.starts", "N", n, "Most", count(x.auto.Limits.StartsAnHour)))
	}
	if x.HandBy.Kind == access.TheHub && x.How == HowPerson {
		facts = []words.Fact{words.Of("hand.over", "To", to)}
	}
	d := e.devices[x.cfg.Device]
	switch wakes := e.site.Devices[x.cfg.Device].Wakes(); {
	case x.How == HowAway || x.How == HowDevice:
	case !d.Online:
		facts = append(facts, words.Of("hand.offline"))
	case wakes > 0:
		facts = append(facts, words.Of("hand.asleep", "Every", wakes, "Until",
			e.local(e.now.Wall.Add(e.confirmWithin(*x.cfg)))))
	}
	return words.All(facts...)
}

// count is a number beside the one that decides between one and many.
func count(n int) words.Quantity { return words.Quantity{Num: float64(n)} }

func (e *Engine) limitFact(x *controlled) words.Fact {
	d := x.dec
	left := max(d.Next-e.now.Mono, 0)
	switch d.Limit {
	case control.LongestOn:
		longest := site.Millis(x.auto.Limits.LongestOnMS)
		if left == 0 {
			return words.Of("limit.ran", "Longest", longest)
		}
		return words.Of("limit.longest", "Longest", longest, "Left", left)
	case control.Rest:
		return words.Of("limit.rest", "Left", left)
	case control.Starts:
		return words.Of("limit.starts", "Left", left, "N", x.auto.Limits.StartsAnHour)
	case control.Chatters:
		return words.Of("limit.chatters", "To", x.cfg.Told(d.Value), "Left", left)
	case control.NoEffect:
		return words.Of("limit.no_effect")
	case control.Stays:
		return words.Of("limit.stays")
	case control.ShortestOn:
		return words.Of("limit.shortest_on", "Left", left)
	case control.ShortestOff:
		return words.Of("limit.shortest_off", "Left", left)
	case control.Overruled:
		return words.Of("limit.overruled", "Name", e.site.Controls[x.blocked].Name)
	case control.Shared:
		name := x.blocked
		if o, ok := e.site.Controls[x.blocked]; ok {
			name = o.Name
		}
		if left > 0 {
			return words.Of("limit.after", "Left", left, "Name", name)
		}
		if g := e.budget(x.ID, x.blocked); g != nil {
			return words.Of("limit.budget", "Name", name, "Watts", words.Quantity{Num: g.Limit, Unit: "W", Decimals: -1},
				"Group", g.Name)
		}
		return words.Of("limit.shared", "Name", name)
	}
	return words.Fact{}
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

func (e *Engine) lockFact(l *lock) words.Fact {
	when := e.formulaFact(l.when)
	switch {
	case l.due > 0 && l.Pending == control.False:
		return words.Of("lock.settles", "Left", max(l.due-e.now.Mono, 0), "When", when)
	case l.Is == control.Unknown:
		return words.Of("lock.unknown", "When", when)
	case l.Latched && l.Is == control.False:
		return words.Of("lock.latched", "At", e.local(l.At))
	case l.Is == control.True && !l.when.value.True():
		if l.until != nil {
			return words.Of("lock.until", "Until", l.until.f.Text, "When", when)
		}
		return words.Of("lock.known_over", "When", when)
	case l.Is == control.False && l.due > 0:
		return words.Of("lock.comes", "Left", max(l.due-e.now.Mono, 0), "When", when)
	}
	return when
}

// formulaFact is a formula with the values of its ids.
func (e *Engine) formulaFact(b *bound) words.Fact {
	if len(b.points) == 0 {
		return words.Said(b.f.Text)
	}
	return words.Of("formula.values", "Formula", b.f.Text, "Values", e.valuesOf(b))
}

func (e *Engine) valuesOf(b *bound) (values words.Row) {
	for _, p := range b.points {
		value := words.Of("unknown")
		if p.value.Known {
			value = e.valueFact(p)
		}
		values = append(values, words.Of("formula.value", "Name", e.nameOf(strings.TrimSuffix(p.id, ".is")), "Value", value))
	}
	return values
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
	if strings.Count(id, ".") == 2 { // what is told of a control, as in drying_room.heater.floor
		return e.nameOf(id[:strings.LastIndexByte(id, '.')])
	}
	return id
}

func (e *Engine) valueFact(p *point) words.Fact {
	if s := e.signals[p.id]; s != nil && p.value.Kind == site.Number {
		cfg := e.site.Signals[p.id]
		return words.Amount(words.Quantity{Num: p.value.Num, Unit: cfg.Unit, Decimals: cfg.Decimals})
	}
	return e.told(p.id)
}

// quantity is a number with as many decimals as it takes, two at most.
func quantity(num float64, unit string) words.Quantity {
	return words.Quantity{Num: num, Unit: unit, Decimals: words.Short}
}

// apart are two quantities that are put into words so that they differ where they do.
func apart(a, b float64, unit string) (x, y words.Quantity) {
	x, y = quantity(a, unit), quantity(b, unit)
	if a != b && words.English.Quantity(x) == words.English.Quantity(y) {
		x.Decimals, y.Decimals = -1, -1
	}
	return x, y
}

func (e *Engine) permitFact(x *controlled, i int) words.Fact {
	return named(x.auto.Permits[i].Name, e.formulaFact(x.permits[i].when))
}

// named puts what an owner calls a condition before it.
func named(name string, formula words.Fact) words.Fact {
	if name == "" {
		return formula
	}
	return words.Of("formula.named", "Name", name, "Formula", formula)
}

// missingFact names what a demand does not know.
func (e *Engine) missingFact(x *controlled, i int) words.Fact {
	for _, p := range x.permits {
		if p.Is == control.Unknown {
			if f := e.missingOf(p.when); !f.Empty() {
				return f
			}
		}
	}
	if i >= 0 && i < len(x.demands) {
		d := x.demands[i]
		if _, timed := d.kind.(timed); timed && !e.now.Trusted {
			return words.Of("missing.time")
		}
		looks := []*bound{d.of, d.target}
		if d.cond != nil {
			looks = append(looks, d.cond.when, d.cond.until)
		}
		for _, b := range looks {
			if f := e.missingOf(b); !f.Empty() {
				return f
			}
		}
	}
	return words.Of("missing.something")
}

// missingOf names what a formula does not know; nothing where it knows all.
func (e *Engine) missingOf(b *bound) words.Fact {
	if b == nil {
		return words.Fact{}
	}
	for _, p := range b.points {
		if p.value.Known {
			continue
		}
		if s := e.signals[p.id]; s != nil {
			switch {
			case s.Fresh == Live && s.Quality != 0:
				return words.Of("missing.quality", "Name", e.nameOf(p.id), "Quality", words.Of("quality."+s.Quality.String()))
			case !s.Heard.IsZero():
				return words.Of("missing.heard", "Name", e.nameOf(p.id), "At", e.local(s.Heard))
			}
		}
		return words.Said(e.nameOf(strings.TrimSuffix(p.id, ".is")))
	}
	if !e.now.Trusted && !b.value.Known && b.f.Every > 0 {
		return words.Of("missing.time")
	}
	return words.Fact{}
}

// local is a time in the hub's time zone, in which people read it.
func (e *Engine) local(t time.Time) time.Time { return t.In(e.zone) }

// Reason says in one line why a control is what it is, with the numbers of now where the hub decides.
func (e *Engine) Reason(now Now, id string) words.Fact {
	x := e.controls[id]
	if x == nil {
		return words.Fact{}
	}
	e.now = now
	step := x.dec.Step
	if step == control.ByHand && (x.dec.Limit != control.NoLimit || x.dec.Blind) { // its numbers go on
		step = control.Demanding
	}
	switch step {
	case control.Demanding, control.Idle, control.NotAllowed, control.FellBack, control.Settling, control.Interlocked:
		if x.Phase != Unconfirmed && x.Proof != ProofMissing && x.Reason.Equal(x.told) {
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
	w := Why{Reason: x.Reason}
	if x.dec.Step != control.Nothing {
		w.Reason = e.reason(x)
	}
	if x.mover != nil && (x.Phase == Unconfirmed || x.Mover.Failed) {
		w.Reason = x.Reason
	}
	w.Reason = e.telling(x, w.Reason)
	e.chain(x, &w)
	e.otherwise(x, &w)
	e.coming(x, &w)
	return w, true
}

// chain tells each step of a decision.
func (e *Engine) chain(x *controlled, w *Why) {
	add := func(code string, with ...any) { w.Lines = append(w.Lines, words.Of(code, with...)) }
	if t := e.troubleFact(x); !t.Empty() {
		add("why.line", "What", t)
	}
	if x.Service != control.InService {
		add("why.service", "At", e.local(x.ServiceAt), "By", x.ServiceBy.Name)
	}
	for _, l := range x.interlocks {
		code := "why.lock_free"
		if l.holds() {
			code = "why.lock_holds"
		}
		add(code, "Name", l.cfg.Name, "Is", e.lockFact(l))
	}
	if x.Hand != nil {
		add("why.hand", "At", e.local(x.HandAt), "How", e.handFact(x))
	} else if x.Mode == Auto {
		add("why.auto")
	}
	tri := map[control.Tri]string{control.True: "true", control.False: "false", control.Unknown: "unknown"}
	for i, p := range x.permits {
		add("why.permit_"+tri[p.Is], "What", e.permitFact(x, i))
	}
	for i, d := range x.facts.Demands {
		add("why.demand_"+tri[d.Is], "N", i+1, "To", x.cfg.Told(d.To), "What", e.demandFact(x, i))
	}
	if l := e.limitFact(x); !l.Empty() {
		add("why.limit", "What", l)
	}
	if x.Proof != NoProof {
		add("why.proof_"+string(x.Proof), "What", e.formulaFact(x.proof.when))
	}
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
	if d := control.Decide(&f); d.Has {
		w.Else = words.Of("else."+string(x.dec.Step), "To", x.cfg.Told(d.Value))
	}
}

// afterHand is what a control without automation goes back to when the time by hand is over.
func (x *controlled) afterHand() site.Amount {
	if x.Before != nil {
		return *x.Before
	}
	return x.cfg.Safe
}

// handEnds is what a control comes to when the time by hand is over.
func (x *controlled) handEnds() words.Fact {
	if x.auto.HasAuto() {
		return words.Of("next.auto")
	}
	return x.cfg.Told(x.afterHand())
}

// coming says what happens next. Long, because it is one list of what may come.
func (e *Engine) coming(x *controlled, w *Why) {
	add := func(code string, with ...any) { w.Next = append(w.Next, words.Of(code, with...)) }
	if x.Hand != nil && !x.HandUntil.IsZero() {
		add("next.then", "At", e.local(x.HandUntil), "To", x.handEnds())
	}
	if x.auto != nil && x.Want != nil && *x.Want > 0 && x.dec.Limit == control.NoLimit && x.Mode == Auto {
		if left := x.onSince + site.Millis(x.auto.Limits.ShortestOnMS) - e.now.Mono; left > 0 {
			add("next.stays_on", "Left", left)
		}
	}
	if d := x.dec; d.Next > e.now.Mono {
		left := d.Next - e.now.Mono
		at := e.local(e.now.Wall.Add(left))
		switch d.Limit {
		case control.ShortestOn:
			add("next.stays_on", "Left", left)
		case control.ShortestOff, control.Rest, control.LongestOn:
			add("next.stays_off", "Left", left, "At", at)
		case control.NoLimit:
			if l := x.auto; l != nil && l.Limits.LongestOnMS > 0 && x.Want != nil && *x.Want > 0 {
				add("next.longest", "At", at)
			}
		}
	}
	for i, d := range x.demands {
		if k, ok := d.kind.(turning); ok {
			if at, on := k.turns(d); !at.IsZero() {
				code := "next.turns_off"
				if on {
					code = "next.turns_on"
				}
				add(code, "At", e.local(at), "N", i+1)
			}
		}
	}
}

// Upcoming is a change that is already known.
type Upcoming struct {
	At   time.Time
	ID   string
	What words.Fact
	Ends time.Time
}

// Next returns what will run in [from, to) by schedules and exercises, and ends of times by hand, in no order.
func (e *Engine) Next(from, to time.Time) (list []Upcoming) {
	for _, id := range sorted(e.controls) {
		x := e.controls[id]
		if x.Hand != nil && !x.HandUntil.IsZero() && !x.HandUntil.Before(from) && x.HandUntil.Before(to) {
			list = append(list, Upcoming{At: x.HandUntil, ID: id, What: words.Of("next.hand_over", "To", x.handEnds())})
		}
		for _, d := range x.demands {
			if k, ok := d.kind.(planned); ok {
				list = append(list, k.upcoming(e, x, d, from, to)...)
			}
		}
	}
	for _, id := range sorted(e.settings) {
		if g := e.settings[id]; !g.Until.IsZero() && g.Before != nil && g.Until.Before(to) {
			list = append(list, Upcoming{At: g.Until, ID: id,
				What: words.Of("next.back", "To", told(e.site.Settings[id], *g.Before))})
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
