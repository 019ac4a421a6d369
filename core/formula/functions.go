package formula

import (
	"maps"
	"math"
	"slices"
	"strings"
	"time"

	"github.com/expr-lang/expr/ast"

	"idleember/core/calendar"
	"idleember/core/site"
)

// arithmetic returns what an operator on two numbers does, and whether it compares them.
func arithmetic(op string) (calc func(a, b float64) Value, compares, ok bool) {
	switch op {
	case "<":
		return func(a, b float64) Value { return Bool(a < b) }, true, true
	case "<=":
		return func(a, b float64) Value { return Bool(a <= b) }, true, true
	case ">":
		return func(a, b float64) Value { return Bool(a > b) }, true, true
	case ">=":
		return func(a, b float64) Value { return Bool(a >= b) }, true, true
	case "+":
		return func(a, b float64) Value { return Number(a + b) }, false, true
	case "-":
		return func(a, b float64) Value { return Number(a - b) }, false, true
	case "*":
		return func(a, b float64) Value { return Number(a * b) }, false, true
	case "/":
		return func(a, b float64) Value { return Number(a / b) }, false, true // by 0: unknown
	case "%":
		return func(a, b float64) Value { return Number(math.Mod(a, b)) }, false, true
	case "^", "**":
		return func(a, b float64) Value { return Number(math.Pow(a, b)) }, false, true
	}
	return nil, false, false
}

// Function is a function of the formula language, for people who write one.
type Function struct {
	Name, Arguments, Does string
}

// Functions are those of the formula language, by name.
var Functions = []Function{
	{"abs", "a", "the size of a number without its sign"},
	{"age", "id", "minutes since a value was last heard"},
	{"at", `"10:30"`, "a time of day in minutes since midnight, to compare with now"},
	{"changes", `id, "1h"`, "how often a value changed in the last hour"},
	{"highest", `id, "1h"`, "the highest value of the last hour"},
	{"lowest", `id, "1h"`, "the lowest value of the last hour"},
	{"max", "a, b, …", "the largest of several numbers"},
	{"mean", `id, "10m"`, "the mean of the last 10 minutes, weighted by time"},
	{"min", "a, b, …", "the smallest of several numbers"},
	{"on_time", `id, "24h"`, "minutes that something was on in the last 24 hours"},
	{"rise", `id, "1h"`, "how much a value rose in the last hour, negative where it fell"},
	{"round", "a", "the nearest whole number"},
}

// Words are the words of the formula language that stand for themselves.
var Words = []Function{
	{"now", "", "the time of day in minutes since midnight"},
	{"hour", "", "the hour of the day, 0 to 23"},
	{"minute", "", "the minute of the hour, 0 to 59"},
	{"weekday", "", "1 for Monday to 7 for Sunday"},
	{"day", "", "the day of the month"},
	{"month", "", "the month, 1 to 12"},
	{"sunrise", "", "when the sun rises today, in minutes since midnight"},
	{"sunset", "", "when it sets"},
	{"daylight", "", "whether the sun is up"},
	{"on", "", "true, of something that is on or off"},
	{"off", "", "false"},
}

func functionNames() []string {
	var names []string
	for _, f := range Functions {
		names = append(names, f.Name)
	}
	return names
}

// Clock is the time that formulas see.
type Clock struct {
	Wall  time.Time // in the hub's time zone
	Sun   calendar.Spot
	Unset bool // Wall is not to be trusted: what depends on the time of day is unknown
}

func minutes(t time.Time) float64 {
	return float64(t.Hour()*60+t.Minute()) + float64(t.Second())/60
}

var words = map[string]struct {
	kind site.ValueKind
	eval func(*Env) Value
}{
	"now":     {site.Number, func(e *Env) Value { return Number(math.Floor(minutes(e.Clock.Wall))) }},
	"hour":    {site.Number, func(e *Env) Value { return Number(float64(e.Clock.Wall.Hour())) }},
	"minute":  {site.Number, func(e *Env) Value { return Number(float64(e.Clock.Wall.Minute())) }},
	"weekday": {site.Number, func(e *Env) Value { return Number(float64((e.Clock.Wall.Weekday()+6)%7 + 1)) }},
	"day":     {site.Number, func(e *Env) Value { return Number(float64(e.Clock.Wall.Day())) }},
	"month":   {site.Number, func(e *Env) Value { return Number(float64(e.Clock.Wall.Month())) }},
	"sunrise": {site.Number, func(e *Env) Value {
		rise, _, _ := e.Clock.Sun.Day(e.Clock.Wall)
		return sunMinutes(rise, e.Clock.Wall)
	}},
	"sunset": {site.Number, func(e *Env) Value {
		_, set, _ := e.Clock.Sun.Day(e.Clock.Wall)
		return sunMinutes(set, e.Clock.Wall)
	}},
	"daylight": {site.OnOff, func(e *Env) Value {
		return Bool(e.Clock.Sun.Up(e.Clock.Wall))
	}},
}

// sunMinutes is unknown in polar day and night, when the sun neither rises nor sets.
func sunMinutes(t, wall time.Time) Value {
	if t.IsZero() {
		return Unknown
	}
	return Number(math.Floor(minutes(t.In(wall.Location()))))
}

func (b *builder) word(n *ast.IdentifierNode) (part, error) {
	switch n.Value {
	case "on":
		return fixed(Bool(true)), nil
	case "off":
		return fixed(Bool(false)), nil
	}
	w, ok := words[n.Value]
	if !ok {
		known := append(slices.Sorted(maps.Keys(words)), functionNames()...)
		if near := site.Nearest(n.Value, known); len(near) > 0 {
			return part{}, at(n, "%s is not known; did you mean %s? A text stands in quotes", n.Value, strings.Join(near,
				" or "))
		}
		return part{}, at(n, "%s is not known; an id has a point, as in drying_room.humidity, and a text stands in quotes",
			n.Value)
	}
	b.look(time.Minute)
	return part{kind: w.kind, eval: func(e *Env) Value {
		if e.Clock.Unset {
			return Unknown
		}
		return w.eval(e)
	}}, nil
}

// look makes the formula be looked at this often.
func (b *builder) look(every time.Duration) {
	if b.f.Every == 0 || every < b.f.Every {
		b.f.Every = every
	}
}

func (b *builder) call(n ast.Node, name string, args []ast.Node) (part, error) {
	switch name {
	case "abs", "round", "min", "max":
		return b.numeric(n, name, args)
	case "at":
		if len(args) == 1 {
			if s, ok := args[0].(*ast.StringNode); ok {
				t, err := time.Parse("15:04", s.Value)
				if err != nil {
					return part{}, at(args[0], `%q is no time of day; write one such as "10:30"`, s.Value)
				}
				return fixed(Number(minutes(t))), nil
			}
		}
		return part{}, at(n, `at needs a time of day in quotes, as in at("10:30")`)
	case "age":
		if len(args) != 1 {
			return part{}, at(n, "age needs one id, as in age(drying_room.humidity)")
		}
		p, err := b.build(args[0])
		if err != nil {
			return p, err
		}
		if p.id == "" {
			return p, at(args[0], "age needs an id, as in age(drying_room.humidity)")
		}
		i := b.slot(p.id)
		b.look(time.Second)
		return part{kind: site.Number, unit: "min", eval: func(e *Env) Value {
			if e.Ages[i] < 0 {
				return Unknown
			}
			return Number(e.Ages[i].Minutes())
		}}, nil
	case "mean", "lowest", "highest", "rise", "on_time", "changes":
		return b.window(n, name, args)
	}
	if near := site.Nearest(name, functionNames()); len(near) > 0 {
		return part{}, at(n, "there is no function %s; did you mean %s?", name, strings.Join(near, " or "))
	}
	return part{}, at(n, "there is no function %s; there are %s", name, strings.Join(functionNames(), ", "))
}

func (b *builder) numeric(n ast.Node, name string, args []ast.Node) (part, error) {
	if single := name == "abs" || name == "round"; single && len(args) != 1 || len(args) == 0 {
		return part{}, at(n, "%s has %d arguments; write it as in %s", name, len(args), usage(name))
	}
	out := part{kind: site.Number, fixed: true}
	var evals []func(*Env) Value
	for _, a := range args {
		p, err := b.build(a)
		if err != nil {
			return p, err
		}
		if p.kind != site.Number {
			return p, at(a, "%s needs numbers, and %s is a %s", name, a, word(p.kind))
		}
		if err := sameUnit(a, out, p); err != nil {
			return p, err
		}
		if p.unit != "" {
			out.unit = p.unit
		}
		out.fixed = out.fixed && p.fixed
		evals = append(evals, p.eval)
	}
	join := map[string]func(a, b float64) float64{"min": math.Min, "max": math.Max}[name]
	single := map[string]func(a float64) float64{"abs": math.Abs, "round": math.Round}[name]
	out.eval = func(e *Env) Value {
		v := evals[0](e)
		for _, f := range evals[1:] {
			w := f(e)
			if !v.Known || !w.Known {
				return Unknown
			}
			v.Num = join(v.Num, w.Num)
		}
		if single != nil && v.Known {
			v.Num = single(v.Num)
		}
		return v
	}
	return out, nil
}

func usage(name string) string {
	i := slices.IndexFunc(Functions, func(f Function) bool { return f.Name == name })
	return name + "(" + Functions[i].Arguments + ")"
}

func (b *builder) window(n ast.Node, name string, args []ast.Node) (part, error) {
	if len(args) != 2 {
		return part{}, at(n, "%s needs an id and a span of time, as in %s", name, usage(name))
	}
	p, err := b.build(args[0])
	if err != nil {
		return p, err
	}
	text, ok := args[1].(*ast.StringNode)
	switch {
	case p.id == "":
		return p, at(args[0], "%s needs an id and a span of time, as in %s", name, usage(name))
	case !ok:
		return p, at(args[1], "the span of time stands in quotes, as in %s", usage(name))
	case name == "on_time" && p.kind != site.OnOff:
		return p, at(args[0], "on_time needs something that is on or off, and %s is a %s", p.id, word(p.kind))
	case name != "on_time" && name != "changes" && p.kind != site.Number:
		return p, at(args[0], "%s needs a number, and %s is a %s", name, p.id, word(p.kind))
	}
	span, err := ParseSpan(text.Value)
	if err != nil {
		return p, at(args[1], "%s", err)
	}
	b.look(paneOf(span))
	b.slot(p.id)
	need := Need{p.id, span}
	i := slices.Index(b.f.Needs, need)
	if i < 0 {
		i = len(b.f.Needs)
		b.f.Needs = append(b.f.Needs, need)
	}
	id := b.slot(p.id)
	of := windowFunctions[name]
	out := part{kind: site.Number, unit: p.unit, eval: func(e *Env) Value {
		if !e.Values[id].Known {
			return Unknown
		}
		return of(e.Windows[i], e.Clock.Wall)
	}}
	switch name {
	case "on_time":
		out.unit = "min"
	case "changes":
		out.unit = ""
	}
	return out, nil
}
