package engine

import (
	"slices"
	"strings"
	"time"

	"idleember/core/access"
	"idleember/core/control"
	"idleember/core/reading"
	"idleember/core/site"
	"idleember/core/words"
)

// rule is one rule at work.
type rule struct {
	cfg    *site.Rule
	stages []*cond
	untils []*cond // nil: it falls back after a time alone
	ifs    []*bound
	marked bool
	wake   uint64
	input  uint64 // of which turns are counted
	turns  int
	RuleState
}

// RuleState is what a rule remembers.
type RuleState struct {
	ID    string    `json:"id"`
	Stage int       `json:"stage"`          // which one it waits for
	Armed bool      `json:"armed"`          // the first stage was false since the rule last began
	Fired time.Time `json:"fired,omitzero"` // when it last did something
	Rests time.Time `json:"rests,omitzero"` // until when it rests
	Since time.Time `json:"since,omitzero"` // since when it waits for a later stage
}

func (e *Engine) buildRule(id string, old *rule) {
	r := &rule{cfg: e.site.Rules[id], RuleState: RuleState{ID: id}}
	if old != nil {
		r.RuleState = old.RuleState
	}
	moved := old != nil && !slices.EqualFunc(old.cfg.Stages, r.cfg.Stages, func(x, y site.Stage) bool {
		return x.When == y.When
	})
	for _, g := range r.cfg.Stages {
		c := e.condition(site.Condition{When: g.When, AfterMS: g.AfterMS})
		c.rules = append(c.rules, r)
		r.stages = append(r.stages, c)
		var b *bound
		if g.If != "" {
			b = e.bind(g.If)
		}
		r.ifs = append(r.ifs, b)
		var until *cond
		if g.Until != "" {
			until = e.condition(site.Condition{When: g.Until})
			until.rules = append(until.rules, r)
		}
		r.untils = append(r.untils, until)
	}
	e.rules[id] = r
	if moved && r.Stage > 0 { // the stage that it waits for is of the rule that it was
		e.beginAnew(r, words.Of("rule.changed"))
	}
	e.markRule(r)
}

func (e *Engine) markRule(r *rule) {
	if !r.marked {
		r.marked = true
		e.ruled.push(r)
	}
}

// judgeRule lets a rule do what it has to.
func (e *Engine) judgeRule(r *rule) {
	if r.cfg.Off {
		return
	}
	if e.now.Wall.Before(r.Rests) {
		r.wake = e.wakeAt(e.mono(r.Rests), wakeRule, r.ID)
		return
	}
	if r.Stage > 0 {
		if why := e.fallsBack(r); !why.Empty() {
			e.beginAnew(r, why)
		}
	}
	is := r.stages[r.Stage].Is
	if r.Stage == 0 && !r.Armed {
		if is != control.False && !(r.cfg.Repeat && !r.Fired.IsZero() && is == control.True) {
			return // it must become true: what was true already does not count, unless it is to be done again and again
		}
		r.Armed = true
		e.keepRule(r)
		if is == control.False {
			return
		}
	}
	if is != control.True {
		return
	}
	g := r.cfg.Stages[r.Stage]
	if b := r.ifs[r.Stage]; b != nil && !b.value.True() {
		if r.Stage == 0 {
			r.Armed = false
			e.keepRule(r)
		}
		return
	}
	if r.input != e.inputs {
		r.input, r.turns = e.inputs, 0
	}
	if r.turns++; r.turns > turnsAnInput { // it comes back to itself
		r.Rests = e.now.Wall.Add(firstDamping)
		r.wake = e.wakeAt(e.mono(r.Rests), wakeRule, r.ID)
		e.keepRule(r)
		e.emit(Journal{Actor: access.HubActor(), Action: "chatters", Object: "rule." + r.ID, After: r.cfg.Name,
			Reason: words.Of("rule.turns", "For", firstDamping)})
		e.emit(Message{Object: "rule." + r.ID, Grave: true, Text: words.Of("rule.turns_message", "Name", r.cfg.Name,
			"For", firstDamping)})
		return
	}
	r.Fired, r.Since = e.now.Wall, e.now.Wall
	r.Stage++
	if r.Stage == len(r.stages) {
		r.Stage, r.Armed, r.Since = 0, false, time.Time{}
		r.Rests = e.now.Wall.Add(site.Millis(r.cfg.RestMS))
	}
	e.keepRule(r)
	e.emit(Journal{Actor: access.HubActor(), Action: "rule", Object: "rule." + r.ID, After: r.cfg.Name,
		Reason: words.Said(g.When)})
	actor := access.HubActor()
	actor.Name = "the rule “" + r.cfg.Name + "”"
	e.act(g.Actions, actor, HowRule, time.Time{}, 0)
	e.markRule(r)
}

// longestStage is how long a stage is waited for that says nothing else.
const longestStage = 48 * time.Hour

// fallsBack says why a rule no longer waits for its stage; nothing while it does.
func (e *Engine) fallsBack(r *rule) words.Fact {
	g, u := r.cfg.Stages[r.Stage], r.untils[r.Stage]
	within := site.Millis(g.WithinMS)
	if within == 0 {
		within = longestStage
	}
	end := r.Since.Add(within)
	switch {
	case u != nil && u.Is == control.True:
		return words.Said(g.Until)
	case !e.now.Wall.Before(end):
		return words.Of("rule.late", "N", count(r.Stage+1), "Within", within)
	}
	r.wake = e.wakeAt(e.mono(end), wakeRule, r.ID)
	return words.Fact{}
}

// beginAnew has a rule wait for its first stage.
func (e *Engine) beginAnew(r *rule, why words.Fact) {
	r.Stage, r.Armed, r.Since = 0, false, time.Time{}
	e.keepRule(r)
	e.emit(Journal{Actor: access.HubActor(), Action: "begin anew", Object: "rule." + r.ID, After: r.cfg.Name, Reason: why})
}

// restoreRule brings back what a rule remembered, as far as it has such a stage now.
func (e *Engine) restoreRule(r *rule, kept RuleState) {
	if r.RuleState = kept; r.Stage < 0 || r.Stage >= len(r.stages) {
		e.beginAnew(r, words.Of("rule.no_stage"))
	}
}

func (e *Engine) keepRule(r *rule) { e.emit(Keep{Kind: "rule", ID: r.ID, State: r.RuleState}) }

func (e *Engine) ruleDue(w wake) {
	if r := e.rules[w.id]; r != nil && r.wake == w.seq {
		e.markRule(r)
	}
}

// Rule returns the state of a rule.
func (e *Engine) Rule(id string) (RuleState, bool) {
	r := e.rules[id]
	if r == nil {
		return RuleState{}, false
	}
	return r.RuleState, true
}

const deepest = 5 // presets within presets of rules

// act does actions in their order. until ends what is set, where it is not zero.
func (e *Engine) act(actions []site.Action, by access.Actor, how How, until time.Time, depth int) {
	for _, a := range actions {
		end := until
		if a.ForMS > 0 {
			end = e.now.Wall.Add(site.Millis(a.ForMS))
		}
		switch a.Kind {
		case site.DoControl:
			e.byHand(a.ID, a.To, end, by, how)
		case site.DoAuto:
			e.toAuto(a.ID, by)
		case site.DoPulse:
			if x := e.controls[a.ID]; x != nil {
				e.pulse(x, by)
			}
		case site.DoSetting:
			e.setSetting(a.ID, a.To, until, by)
		case site.DoPreset:
			if p, ok := e.site.Presets[a.ID]; ok && depth < deepest {
				e.act(p.Actions, by, HowPreset, until, depth+1)
			}
		case site.DoMessage:
			e.emit(Message{Object: a.ID, Text: words.Said(e.fillIn(a.Text)), Grave: a.Grave, By: by.Name})
		case site.DoNote:
			e.emit(Note{Object: a.ID, Text: e.fillIn(a.Text), By: by})
		}
	}
}

// fillIn puts values in the place of ids in braces.
func (e *Engine) fillIn(text string) string {
	var b strings.Builder
	for {
		open := strings.IndexByte(text, '{')
		end := strings.IndexByte(text, '}')
		if open < 0 || end < open {
			b.WriteString(text)
			return b.String()
		}
		b.WriteString(text[:open])
		b.WriteString(e.told(text[open+1 : end]).String())
		text = text[end+1:]
	}
}

// told is the value of an id.
func (e *Engine) told(id string) words.Fact {
	if s := e.signals[id]; s != nil {
		if !s.Seen {
			return words.Of("unknown")
		}
		return Told(e.site.Signals[id], s.Value)
	}
	if g := e.settings[id]; g != nil {
		return told(e.site.Settings[id], g.Value)
	}
	base, what := id, "is"
	if strings.Count(id, ".") == 2 {
		at := strings.LastIndexByte(id, '.')
		base, what = id[:at], id[at+1:]
	}
	x := e.controls[base]
	if x == nil {
		return words.Said("{" + id + "}")
	}
	a := x.Is
	switch what {
	case "mode":
		return words.Said(string(x.Mode))
	case "want":
		a = x.Want
	}
	if a == nil {
		return words.Fact{}
	}
	return x.cfg.Told(*a)
}

// Told is a reading of a signal.
func Told(cfg site.Signal, v reading.Value) words.Fact {
	switch v.Kind {
	case site.Number:
		return words.Amount(words.Quantity{Num: v.Num, Unit: cfg.Unit, Decimals: cfg.Decimals})
	case site.OnOff:
		return onOff(v.Num != 0)
	}
	return words.Said(v.String())
}

func onOff(b bool) words.Fact {
	if b {
		return words.Of("on")
	}
	return words.Of("off")
}

// told is the value of a setting.
func told(cfg site.Setting, a site.Amount) words.Fact {
	switch cfg.Kind {
	case site.SetOnOff:
		return onOff(a != 0)
	case site.SetNumber:
		return words.Amount(words.Quantity{Num: float64(a), Unit: cfg.Unit, Decimals: -1})
	}
	return words.Said(cfg.Say(a))
}
