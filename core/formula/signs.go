package formula

import (
	"github.com/expr-lang/expr/ast"
	"github.com/expr-lang/expr/conf"
	"github.com/expr-lang/expr/parser"
)

// Sign says how a formula follows one of its ids: with it, against it, or in a way that may be either.
type Sign uint8

// The signs; Either is both of the others.
const (
	With Sign = 1 << iota
	Against
	Either = With | Against
)

// Flip turns a sign round.
func (s Sign) Flip() Sign { return s>>1&With | s<<1&Against }

// Then is the sign of what follows something with sign t that itself follows with sign s.
func (s Sign) Then(t Sign) (out Sign) {
	if t&With != 0 {
		out |= s
	}
	if t&Against != 0 {
		out |= s.Flip()
	}
	return out
}

// Signs says how a formula follows each of the ids in it: a condition that comes true when the id becomes more, or on,
// goes with it. A text that cannot be read follows nothing.
func Signs(text string) map[string]Sign {
	c := conf.CreateNew()
	for name := range c.Builtins {
		c.Disabled[name] = true
	}
	tree, err := parser.ParseWithConfig(text, c)
	if err != nil {
		return nil
	}
	out := map[string]Sign{}
	follow(tree.Node, With, out)
	return out
}

// Long, because it is one case for each kind.
func follow(n ast.Node, s Sign, out map[string]Sign) {
	switch n := n.(type) {
	case *ast.MemberNode:
		if id, ok := dotted(n); ok {
			out[id] |= s
		}
	case *ast.ChainNode:
		follow(n.Node, s, out)
	case *ast.UnaryNode:
		if n.Operator == "+" {
			follow(n.Node, s, out)
			return
		}
		follow(n.Node, s.Flip(), out)
	case *ast.BinaryNode:
		left, right := Either, Either
		switch n.Operator {
		case "and", "&&", "or", "||", "+":
			left, right = s, s
		case ">", ">=", "-":
			left, right = s, s.Flip()
		case "<", "<=":
			left, right = s.Flip(), s
		case "==", "!=":
			if word, ok := n.Right.(*ast.IdentifierNode); ok && (word.Value == "on" || word.Value == "off") {
				if left = s; (word.Value == "off") != (n.Operator == "!=") {
					left = s.Flip()
				}
			}
		case "*", "/":
			if positive(n.Right) {
				left = s
			}
		}
		follow(n.Left, left, out)
		follow(n.Right, right, out)
	case *ast.ConditionalNode:
		follow(n.Cond, Either, out)
		follow(n.Exp1, s, out)
		follow(n.Exp2, s, out)
	case *ast.CallNode:
		for _, a := range n.Arguments {
			follow(a, Either, out)
		}
	case *ast.BuiltinNode:
		for _, a := range n.Arguments {
			follow(a, Either, out)
		}
	}
}

func positive(n ast.Node) bool {
	switch n := n.(type) {
	case *ast.IntegerNode:
		return n.Value > 0
	case *ast.FloatNode:
		return n.Value > 0
	}
	return false
}
