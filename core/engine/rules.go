package engine

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"idleember/core/access"
	"idleember/core/calendar"
	"idleember/core/control"
	"idleember/core/reading"
	"idleember/core/site"
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
		e.beginAnew(r, "its stages were changed")
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
		if why := e.fallsBack(r); why != "" {
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
			Reason: "what it does makes it act again; it rests for " + calendar.Words(firstDamping)})
		e.emit(Message{Object: "rule." + r.ID, Grave: true, Text: "The rule " + r.cfg.Name +
			" acts on itself; it rests for " + calendar.Words(firstDamping) + ". Look at what it does."})
		return
	}
	r.Fired, r.Since = e.now.Wall, e.now.Wall
	r.Stage++
	if r.Stage == len(r.stages) {
		r.Stage, r.Armed, r.Since = 0, false, time.Time{}
		r.Rests = e.now.Wall.Add(site.Millis(r.cfg.RestMS))
	}
	e.keepRule(r)
	e.emit(Journal{Actor: access.HubActor(), Action: "rule", Object: "rule." + r.ID, After: r.cfg.Name, Reason: g.When})
	actor := access.HubActor()
	actor.Name = "the rule “" + r.cfg.Name + "”"
	e.act(g.Actions, actor, HowRule, time.Time{}, 0)
	e.markRule(r)
}

// longestStage is how long a stage is waited for that says nothing else.
const longestStage = 48 * time.Hour

// fallsBack says why a rule no longer waits for its stage; "" while it does.
func (e *Engine) fallsBack(r *rule) string {
	g, u := r.cfg.Stages[r.Stage], r.untils[r.Stage]
	within := site.Millis(g.WithinMS)
	if within == 0 {
		within = longestStage
	}
	end := r.Since.Add(within)
	switch {
	case u != nil && u.Is == control.True:
		return g.Until
	case !e.now.Wall.Before(end):
		return fmt.Sprintf("step %d did not come within %s", r.Stage+1, calendar.Words(within))
	}
	r.wake = e.wakeAt(e.mono(end), wakeRule, r.ID)
	return ""
}

// beginAnew has a rule wait for its first stage.
func (e *Engine) beginAnew(r *rule, why string) {
	r.Stage, r.Armed, r.Since = 0, false, time.Time{}
	e.keepRule(r)
	e.emit(Journal{Actor: access.HubActor(), Action: "begin anew", Object: "rule." + r.ID, After: r.cfg.Name, Reason: why})
}

// restoreRule brings back what a rule remembered, as far as it has such a stage now.
func (e *Engine) restoreRule(r *rule, kept RuleState) {
	if r.RuleState = kept; r.Stage < 0 || r.Stage >= len(r.stages) {
		e.beginAnew(r, "it has no such stage any more")
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
			e.emit(Message{Object: a.ID, Text: e.fillIn(a.Text), Grave: a.Grave, By: by.Name})
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
		b.WriteString(e.say(text[open+1 : end]))
		text = text[end+1:]
	}
}

// say puts the value of an id into words.
func (e *Engine) say(id string) string {
	if s := e.signals[id]; s != nil {
		cfg := e.site.Signals[id]
		if !s.Seen {
			return "unknown"
		}
		return sayReading(cfg, s.Value)
	}
	if g := e.settings[id]; g != nil {
		return e.site.Settings[id].Say(g.Value)
	}
	base, what := id, "is"
	if strings.Count(id, ".") == 2 {
		at := strings.LastIndexByte(id, '.')
		base, what = id[:at], id[at+1:]
	}
	x := e.controls[base]
	switch {
	case x == nil:
		return "{" + id + "}"
	case what == "mode":
		return string(x.Mode)
	case what == "want":
		return wanted(x)
	}
	return is(x)
}

func sayReading(cfg site.Signal, v reading.Value) string {
	if v.Kind != site.Number {
		return v.String()
	}
	s := fmt.Sprintf("%.*f", cfg.Decimals, v.Num)
	if u := site.UnitSign(cfg.Unit); u != "" {
		s += " " + u
	}
	return s
}
