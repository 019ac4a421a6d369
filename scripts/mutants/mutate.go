package main

import (
	"cmp"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"log"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
)

// mutant is one small change.
type mutant struct {
	id   int // from 1
	file string
	line int
	what string

	first, last int  // the lines on which it stands
	adds        bool // it is about a sum, which may be of texts
}

// at reports whether a place in a file, as name:line, is in the mutant.
func (m mutant) at(place string) bool {
	name, line, _ := strings.Cut(place, ":")
	n, _ := strconv.Atoi(line)
	return name == filepath.Base(m.file) && n >= m.first && n <= m.last
}

func (m mutant) String() string { return fmt.Sprintf("%s:%d %s", m.file, m.line, m.what) }

var turned = map[token.Token]string{token.LSS: "<=", token.LEQ: "<", token.GTR: ">=", token.GEQ: ">", token.EQL: "!=",
	token.NEQ: "==", token.LAND: "||", token.LOR: "&&", token.ADD: "-", token.SUB: "+"}

// helpers are what the changed code calls. None of them evaluates anything that the original would not.
const helpers = `

import (
	"cmp"
	"os"
	"strconv"
)

var mutant, _ = strconv.Atoi(os.Getenv("MUTANT"))

func mutantLSS[T cmp.Ordered](id int, a, b T) bool { return a < b || mutant == id && a == b }
func mutantLEQ[T cmp.Ordered](id int, a, b T) bool { return a < b || mutant != id && a == b }
func mutantGTR[T cmp.Ordered](id int, a, b T) bool { return a > b || mutant == id && a == b }
func mutantGEQ[T cmp.Ordered](id int, a, b T) bool { return a > b || mutant != id && a == b }
func mutantLAND(id int, a bool, b func() bool) bool {
	if mutant == id {
		return a || b()
	}
	return a && b()
}
func mutantLOR(id int, a bool, b func() bool) bool {
	if mutant == id {
		return a && b()
	}
	return a || b()
}

type mutantNumber interface {
	~int | ~int64 | ~uint64 | ~float64
}

func mutantADD[T mutantNumber](id int, a, b T) T {
	if mutant == id {
		return a - b
	}
	return a + b
}
func mutantSUB[T mutantNumber](id int, a, b T) T {
	if mutant == id {
		return a + b
	}
	return a - b
}
`

// edit replaces a stretch of a file. Edits nest: form puts the changed inner text in.
type edit struct {
	from, to int
	form     func(text func(from, to int) string) string
}

// mutate returns a file with all its mutants, numbered on from a count, but for those that are left out. Long,
// because it is one case for each kind.
func mutate(file string, count int, left map[int]bool) (string, []mutant) {
	src, err := os.ReadFile(file)
	if err != nil {
		log.Fatal(err)
	}
	set := token.NewFileSet()
	tree, err := parser.ParseFile(set, file, src, parser.ParseComments)
	if err != nil {
		log.Fatal(err)
	}
	lines := strings.Split(string(src), "\n")
	var all []mutant
	var edits []edit
	at := func(p token.Pos) int { return set.Position(p).Offset }
	part := func(n ast.Node) string { return short(string(src[at(n.Pos()):at(n.End())])) }
	add := func(n ast.Node, pos token.Pos, what string, form func(id int, text func(n ast.Node) string) string) {
		count++
		id := count
		b, ok := n.(*ast.BinaryExpr)
		all = append(all, mutant{id, file, set.Position(pos).Line, what, set.Position(n.Pos()).Line,
			set.Position(n.End()).Line, ok && b.Op == token.ADD})
		if !left[id] {
			edits = append(edits, edit{at(n.Pos()), at(n.End()), func(text func(from, to int) string) string {
				return form(id, func(n ast.Node) string { return text(at(n.Pos()), at(n.End())) })
			}})
		}
	}
	leaveOut := func(n ast.Stmt) {
		add(n, n.Pos(), fmt.Sprintf("without `%s`", part(n)), func(id int, text func(ast.Node) string) string {
			return fmt.Sprintf("if mutant != %d { %s }", id, text(n))
		})
	}
	statements := func(list []ast.Stmt) {
		for _, s := range list {
			switch s := s.(type) {
			case *ast.ExprStmt, *ast.IncDecStmt:
				leaveOut(s)
			case *ast.AssignStmt:
				if s.Tok != token.DEFINE && part(s.Lhs[0]) != "_" {
					leaveOut(s)
				}
			}
		}
	}
	ast.Inspect(tree, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.GenDecl:
			return n.Tok != token.CONST
		case *ast.BlockStmt:
			statements(n.List)
		case *ast.CaseClause:
			statements(n.Body)
		case *ast.BinaryExpr:
			to, ok := turned[n.Op]
			if !ok {
				break
			}
			name := map[token.Token]string{token.LSS: "LSS", token.LEQ: "LEQ", token.GTR: "GTR", token.GEQ: "GEQ",
				token.LAND: "LAND", token.LOR: "LOR", token.ADD: "ADD", token.SUB: "SUB"}[n.Op]
			add(n, n.OpPos, fmt.Sprintf("`%s` → `%s` in `%s`", n.Op, to, part(n)), func(id int,
				text func(ast.Node) string) string {
				x, y := text(n.X), text(n.Y)
				// so that lines stay where they are
				between := strings.Repeat("\n", strings.Count(string(src[at(n.X.End()):at(n.Y.Pos())]), "\n"))
				switch n.Op {
				case token.EQL, token.NEQ:
					return fmt.Sprintf("((%s %s %s%s) != (mutant == %d))", x, n.Op, between, y, id)
				case token.LAND, token.LOR:
					return fmt.Sprintf("mutant%s(%d, %s, %sfunc() bool { return %s })", name, id, x, between, y)
				}
				return fmt.Sprintf("mutant%s(%d, %s, %s%s)", name, id, x, between, y)
			})
		case *ast.IfStmt:
			add(n.Cond, n.Cond.Pos(), fmt.Sprintf("not `%s`", part(n.Cond)), func(id int, text func(ast.Node) string) string {
				return fmt.Sprintf("((%s) != (mutant == %d))", text(n.Cond), id)
			})
		case *ast.Ident:
			if n.Name == "true" || n.Name == "false" {
				to, op := "false", "!="
				if n.Name == "false" {
					to, op = "true", "=="
				}
				add(n, n.Pos(), fmt.Sprintf("`%s` → `%s` in `%s`", n.Name, to,
					short(strings.TrimSpace(lines[set.Position(n.Pos()).Line-1]))), func(id int, _ func(ast.Node) string) string {
					return fmt.Sprintf("(mutant %s %d)", op, id)
				})
			}
		}
		return true
	})
	return apply(string(src), edits), all
}

// apply makes edits that nest or are apart. Of two for the same stretch the earlier goes around the later.
func apply(src string, edits []edit) string {
	slices.SortStableFunc(edits, func(a, b edit) int {
		return cmp.Or(cmp.Compare(a.from, b.from), cmp.Compare(b.to, a.to))
	})
	var text func(edits []edit) func(from, to int) string
	text = func(edits []edit) func(from, to int) string {
		return func(from, to int) string {
			var b strings.Builder
			for i := 0; i < len(edits); {
				e := edits[i]
				if e.from < from || e.to > to {
					i++
					continue
				}
				j := i + 1
				for j < len(edits) && edits[j].to <= e.to {
					j++
				}
				b.WriteString(src[from:e.from] + e.form(text(edits[i+1:j])))
				from, i = e.to, j
			}
			b.WriteString(src[from:to])
			return b.String()
		}
	}
	return text(edits)(0, len(src))
}

func short(s string) string {
	s = strings.Join(strings.Fields(s), " ")
	if r := []rune(s); len(r) > 90 {
		s = string(r[:90]) + "…"
	}
	return s
}
