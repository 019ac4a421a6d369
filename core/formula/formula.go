// Package formula reads and evaluates formulas such as
//
//	drying_room.humidity > 60 and hour < 21
//	mean(kiln.temperature, "10m") < yard.limit or not slip_tank.float
//
// The grammar is that of expr-lang/expr; the meaning is this package's own, because a condition has three values: true,
// false and unknown. Ids are written as everywhere else. What a formula is about is checked when it is parsed: unknown
// ids, kinds that do not fit and units that cannot be compared are told with their place in the text.
//
// A formula is pure. It gets the values of its ids, its windows over time and the clock handed in.
package formula

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/expr-lang/expr/ast"
	"github.com/expr-lang/expr/conf"
	"github.com/expr-lang/expr/file"
	"github.com/expr-lang/expr/parser"

	"idleember/core/site"
)

// MaxLength is the longest formula in bytes.
const MaxLength = 1000

// Name says what an id stands for.
type Name struct {
	Kind site.ValueKind
	Unit string // "": none, or not told
	Runs bool   // it changes with time alone, as hours do that are counted
}

// Names knows the ids of a site. It returns near ones for an id that it does not know.
type Names interface {
	Name(id string) (n Name, near []string, ok bool)
}

// Error says what is wrong with a formula, and where.
type Error struct {
	From, To int // the part of the text, in characters counted from 0
	Reason   string
}

func (e *Error) Error() string { return fmt.Sprintf("at character %d: %s", e.From+1, e.Reason) }

// Need is a window over time that a formula looks at.
type Need struct {
	ID   string
	Span time.Duration
}

// Limit is a comparison of one id with a number or another id, as drying_room.humidity > 60.
type Limit struct {
	ID    string
	Above bool // it is about more than the limit; else about less
	Value float64
	Other string // the id that is the limit; Value does not count then
}

// Formula is a parsed formula.
type Formula struct {
	Text   string
	Kind   site.ValueKind // of what it comes to
	Unit   string
	IDs    []string      // whose values it needs, in the order in which Env has them
	Needs  []Need        // the windows it needs, likewise
	Limits []Limit       // which numbers its ids are compared with
	Every  time.Duration // it also changes with time alone: how often to look; 0: it does not
	eval   func(*Env) Value
}

// Env is what a formula is evaluated on.
type Env struct {
	Values  []Value         // of Formula.IDs
	Ages    []time.Duration // since each of Formula.IDs was last heard; negative: never
	Windows []*Window       // of Formula.Needs
	Clock   Clock
}

// Eval evaluates the formula. It does not allocate.
func (f *Formula) Eval(env *Env) Value { return f.eval(env) }

// Equals is the formula that id is a text, or for on and off, is on or off. It needs no parsing.
func Equals(id string, v Value) *Formula {
	text := id + ` == "` + v.Text + `"`
	if v.Kind == site.OnOff {
		text = id + " == " + map[bool]string{true: "on", false: "off"}[v.True()]
	}
	return &Formula{Text: text, Kind: site.OnOff, IDs: []string{id}, eval: func(e *Env) Value {
		if x := e.Values[0]; x.Known {
			return Bool(x == v)
		}
		return Unknown
	}}
}

// Condition parses a formula that must come to true or false.
func Condition(text string, names Names) (*Formula, error) {
	f, err := Parse(text, names)
	if err == nil && f.Kind != site.OnOff {
		return nil, &Error{0, utf8.RuneCountInString(text), "this comes to a " + word(f.Kind) +
			"; a condition must be true or false, as in " + example(f)}
	}
	return f, err
}

func example(f *Formula) string {
	if f.Kind == site.Text {
		return strings.TrimSpace(f.Text) + ` == "wet"`
	}
	return strings.TrimSpace(f.Text) + " > 20"
}

// Quantity parses a formula that must come to a number.
func Quantity(text string, names Names) (*Formula, error) {
	f, err := Parse(text, names)
	if err == nil && f.Kind != site.Number {
		return nil, &Error{0, utf8.RuneCountInString(text), "this comes to a " + word(f.Kind) + "; a number is needed here"}
	}
	return f, err
}

// language is what the parser takes; it only reads it.
var language = func() *conf.Config {
	c := conf.CreateNew()
	for name := range c.Builtins { // they are the library's; ours are our own
		c.Disabled[name] = true
	}
	return c
}()

// Parse reads a formula and checks it.
func Parse(text string, names Names) (*Formula, error) {
	switch {
	case strings.TrimSpace(text) == "":
		return nil, &Error{0, 0, "the formula is empty; write one such as drying_room.humidity > 60"}
	case len(text) > MaxLength:
		return nil, &Error{MaxLength, len(text), fmt.Sprintf("the formula has %d characters; at most %d are allowed",
			len(text), MaxLength)}
	}
	tree, err := parser.ParseWithConfig(text, language)
	if err != nil {
		var fe *file.Error
		if errors.As(err, &fe) {
			return nil, &Error{fe.From, fe.To, plainer(fe.Message)}
		}
		return nil, &Error{0, len(text), plainer(err.Error())}
	}
	b := &builder{f: &Formula{Text: text}, names: names}
	p, err := b.build(tree.Node)
	if err != nil {
		return nil, err
	}
	b.f.eval, b.f.Kind, b.f.Unit = p.eval, p.kind, p.unit
	return b.f, nil
}

// plainer puts the parser's words into those of people.
func plainer(msg string) string {
	msg, _, _ = strings.Cut(msg, "\n")
	if strings.Contains(msg, "value out of range") {
		return "this number is too large"
	}
	msg = strings.NewReplacer("token EOF", "end of the formula", "token ", "", "Operator(", "", "Identifier(", "",
		"Number(", "", "String(", "",
		"Bracket(", "", `")`, `"`).Replace(msg)
	if i := strings.LastIndex(msg, " ("); i > 0 && strings.HasSuffix(msg, ")") {
		msg = msg[:i]
	}
	return msg
}

// part is a part of a formula: what it comes to and how.
type part struct {
	kind  site.ValueKind
	unit  string
	eval  func(*Env) Value
	fixed bool   // a literal
	id    string // an id by itself
	slot  int    // of that id
}

type builder struct {
	f     *Formula
	names Names
}

// at is an error about all that a node spans.
func at(n ast.Node, format string, args ...any) error {
	s := span{n.Location().From, n.Location().To}
	ast.Walk(&n, &s)
	return &Error{s.from, s.to, fmt.Sprintf(format, args...)}
}

type span struct{ from, to int }

// Visit widens the span; a node's own location is only that of its operator or last name.
func (s *span) Visit(n *ast.Node) {
	s.from, s.to = min(s.from, (*n).Location().From), max(s.to, (*n).Location().To)
}

func word(k site.ValueKind) string {
	switch k {
	case site.OnOff:
		return "condition"
	case site.Text:
		return "text"
	}
	return "number"
}

func fixed(v Value) part {
	return part{kind: v.Kind, fixed: true, eval: func(*Env) Value { return v }}
}

func (b *builder) build(n ast.Node) (part, error) {
	switch n := n.(type) {
	case *ast.IntegerNode:
		return fixed(Number(float64(n.Value))), nil
	case *ast.FloatNode:
		return fixed(Number(n.Value)), nil
	case *ast.BoolNode:
		return fixed(Bool(n.Value)), nil
	case *ast.StringNode:
		return fixed(Text(n.Value)), nil
	case *ast.IdentifierNode:
		return b.word(n)
	case *ast.ChainNode:
		return b.build(n.Node)
	case *ast.MemberNode:
		return b.id(n)
	case *ast.UnaryNode:
		return b.unary(n)
	case *ast.BinaryNode:
		return b.binary(n)
	case *ast.ConditionalNode:
		return b.choice(n)
	case *ast.CallNode:
		name, ok := n.Callee.(*ast.IdentifierNode)
		if !ok {
			return part{}, at(n, "%s cannot be called; functions are %s", n.Callee, strings.Join(functionNames(), ", "))
		}
		return b.call(n, name.Value, n.Arguments)
	case *ast.BuiltinNode:
		return b.call(n, n.Name, n.Arguments)
	}
	return part{}, at(n, "%s is not part of this formula language", n)
}

// id takes device.slug, and device.slug.is, .want or .mode of a control.
func (b *builder) id(n *ast.MemberNode) (part, error) {
	text, ok := dotted(n)
	if !ok {
		return part{}, at(n, "%s is no id; write one such as drying_room.humidity", n)
	}
	name, near, ok := b.names.Name(text)
	if !ok {
		msg := fmt.Sprintf("there is no %s", text)
		if len(near) > 0 {
			msg += "; did you mean " + strings.Join(near, " or ") + "?"
		}
		return part{}, at(n, "%s", msg)
	}
	if name.Runs {
		b.look(time.Minute)
	}
	i := b.slot(text)
	return part{kind: name.Kind, unit: name.Unit, id: text, slot: i, eval: func(e *Env) Value { return e.Values[i] }}, nil
}

func (b *builder) slot(id string) int {
	i := slices.Index(b.f.IDs, id)
	if i < 0 {
		i = len(b.f.IDs)
		b.f.IDs = append(b.f.IDs, id)
	}
	return i
}

func dotted(n ast.Node) (string, bool) {
	switch n := n.(type) {
	case *ast.IdentifierNode:
		return n.Value, true
	case *ast.MemberNode:
		left, ok := dotted(n.Node)
		right, named := n.Property.(*ast.StringNode)
		if !ok || !named || n.Optional {
			return "", false
		}
		return left + "." + right.Value, true
	}
	return "", false
}

func (b *builder) unary(n *ast.UnaryNode) (part, error) {
	p, err := b.build(n.Node)
	if err != nil {
		return p, err
	}
	eval := p.eval
	switch n.Operator {
	case "not", "!":
		if p.kind != site.OnOff {
			return p, at(n.Node, "not needs a condition, and %s is a %s; put a comparison in parentheses", n.Node, word(p.kind))
		}
		return part{kind: site.OnOff, eval: func(e *Env) Value { return not(eval(e)) }}, nil
	case "-", "+":
		if p.kind != site.Number {
			return p, at(n.Node, "%s needs a number, and %s is a %s", n.Operator, n.Node, word(p.kind))
		}
		sign := 1.0
		if n.Operator == "-" {
			sign = -1
		}
		return part{kind: site.Number, unit: p.unit, fixed: p.fixed, eval: func(e *Env) Value {
			v := eval(e)
			v.Num *= sign
			return v
		}}, nil
	}
	return p, at(n, "%s is not part of this formula language", n.Operator)
}

// Long, because it is one case for each operator and pair of values.
func (b *builder) binary(n *ast.BinaryNode) (part, error) {
	l, err := b.build(n.Left)
	if err != nil {
		return l, err
	}
	r, err := b.build(n.Right)
	if err != nil {
		return r, err
	}
	x, y := l.eval, r.eval
	switch n.Operator {
	case "and", "&&", "or", "||":
		for _, side := range []struct {
			n ast.Node
			p part
		}{{n.Left, l}, {n.Right, r}} {
			if side.p.kind != site.OnOff {
				return l, at(side.n, "%s needs conditions, and %s is a %s", n.Operator, side.n, word(side.p.kind))
			}
		}
		join := or
		if n.Operator == "and" || n.Operator == "&&" {
			join = and
		}
		return part{kind: site.OnOff, eval: func(e *Env) Value { return join(x(e), y(e)) }}, nil
	case "??":
		if l.kind != r.kind {
			return l, at(n, "both sides of ?? must be of one kind, and %s is a %s, %s a %s", n.Left, word(l.kind), n.Right,
				word(r.kind))
		}
		return part{kind: l.kind, unit: l.unit, eval: func(e *Env) Value {
			if v := x(e); v.Known {
				return v
			}
			return y(e)
		}}, nil
	case "==", "!=":
		if l.kind != r.kind {
			return l, at(n, "a %s cannot be compared with a %s", word(l.kind), word(r.kind))
		}
		if err := sameUnit(n, l, r); err != nil {
			return l, err
		}
		differ := n.Operator == "!="
		return part{kind: site.OnOff, eval: func(e *Env) Value {
			a, c := x(e), y(e)
			if !a.Known || !c.Known {
				return Unknown
			}
			return Bool((a.Num == c.Num && a.Text == c.Text) != differ)
		}}, nil
	}
	calc, compares, ok := arithmetic(n.Operator)
	if !ok {
		return l, at(n, "%s is not part of this formula language", n.Operator)
	}
	if l.kind != site.Number || r.kind != site.Number {
		wrong, p := n.Left, l
		if l.kind == site.Number {
			wrong, p = n.Right, r
		}
		return l, at(wrong, "%s needs numbers, and %s is a %s", n.Operator, wrong, word(p.kind))
	}
	out := part{kind: site.Number, fixed: l.fixed && r.fixed}
	if compares || n.Operator == "+" || n.Operator == "-" {
		if err := sameUnit(n, l, r); err != nil {
			return l, err
		}
		out.unit = l.unit
		if out.unit == "" {
			out.unit = r.unit
		}
	} else if r.fixed {
		out.unit = l.unit
	}
	if compares {
		out.kind, out.unit = site.OnOff, ""
		b.limit(l, r, n.Operator[0] == '>')
		b.limit(r, l, n.Operator[0] == '<')
	}
	if out.fixed && !calc(x(nil).Num, y(nil).Num).Known {
		return l, at(n, "%s has no value", n)
	}
	if r.fixed { // most are compared with a number as written
		c := y(nil)
		if i := l.slot; c.Known && l.id != "" {
			out.eval = func(e *Env) Value {
				if a := &e.Values[i]; a.Known {
					return calc(a.Num, c.Num)
				}
				return Unknown
			}
			return out, nil
		}
		if c.Known {
			out.eval = func(e *Env) Value {
				if a := x(e); a.Known {
					return calc(a.Num, c.Num)
				}
				return Unknown
			}
			return out, nil
		}
	}
	out.eval = func(e *Env) Value {
		a, c := x(e), y(e)
		if !a.Known || !c.Known {
			return Unknown
		}
		return calc(a.Num, c.Num)
	}
	return out, nil
}

func (b *builder) limit(of, to part, above bool) {
	switch {
	case of.id == "":
	case to.fixed:
		b.f.Limits = append(b.f.Limits, Limit{ID: of.id, Above: above, Value: to.eval(nil).Num})
	case to.id != "":
		b.f.Limits = append(b.f.Limits, Limit{ID: of.id, Above: above, Other: to.id})
	}
}

func sameUnit(n ast.Node, l, r part) error {
	if l.unit != "" && r.unit != "" && l.unit != r.unit {
		return at(n, "%s and %s are different units; compare like with like", l.unit, r.unit)
	}
	return nil
}

func (b *builder) choice(n *ast.ConditionalNode) (part, error) {
	cond, err := b.build(n.Cond)
	if err != nil {
		return cond, err
	}
	if cond.kind != site.OnOff {
		return cond, at(n.Cond, "%s is a %s; a condition is needed here", n.Cond, word(cond.kind))
	}
	l, err := b.build(n.Exp1)
	if err != nil {
		return l, err
	}
	r, err := b.build(n.Exp2)
	if err != nil {
		return r, err
	}
	if l.kind != r.kind {
		return l, at(n, "one choice is a %s, the other a %s; both must be of one kind", word(l.kind), word(r.kind))
	}
	if err := sameUnit(n, l, r); err != nil {
		return l, err
	}
	c, x, y := cond.eval, l.eval, r.eval
	return part{kind: l.kind, unit: l.unit, eval: func(e *Env) Value {
		v := c(e)
		if !v.Known {
			if a := x(e); a == y(e) {
				return a
			}
			return Unknown
		}
		if v.Num != 0 {
			return x(e)
		}
		return y(e)
	}}, nil
}
