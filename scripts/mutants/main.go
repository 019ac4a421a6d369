// Command mutants changes the deciding code in small ways, one at a time, and tells which changes the tests do not notice.
//
//	go run ./scripts/mutants -n 300 -seed 1 > docs/mutants.md
//
// Each mutant is one operator turned round, one condition negated, one statement left out, or one true made false (R. DeMillo,
// R. Lipton and F. Sayward, Hints on test data selection, 1978). It lives in an overlay, so the tree is never touched. Those that
// no test could tell from the original stand in scripts/mutants/equivalent.txt with the reason, and do not count.
package main

import (
	"bytes"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"log"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"
)

// where the decisions are taken.
var where = []string{"core/control/control.go", "core/engine/deciding.go", "core/engine/lock.go", "core/engine/mover.go", "core/engine/pace.go", "core/engine/groups.go",
	"core/engine/wants.go", "core/engine/command.go", "core/engine/demand.go", "core/engine/restore.go", "core/engine/presence.go", "core/engine/rules.go", "core/engine/ring.go"}

type mutant struct {
	file     string
	from, to int // what is replaced
	text     string
	line     int
	what     string
}

func (m mutant) String() string { return fmt.Sprintf("%s:%d %s", m.file, m.line, m.what) }

var turned = map[token.Token]string{token.LSS: "<=", token.LEQ: "<", token.GTR: ">=", token.GEQ: ">", token.EQL: "!=", token.NEQ: "==", token.LAND: "||", token.LOR: "&&", token.ADD: "-", token.SUB: "+"}

func main() {
	n := flag.Int("n", 300, "how many mutants")
	seed := flag.Uint64("seed", 1, "which ones")
	workers := flag.Int("workers", 2, "how many at a time")
	flag.Parse()
	all := mutants()
	rand.New(rand.NewPCG(*seed, 0)).Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
	same := equivalent()
	var mu sync.Mutex
	killed, invalid, equal := 0, 0, 0
	var alive []string
	jobs := make(chan mutant)
	var left sync.WaitGroup
	for range *workers {
		left.Go(func() {
			for m := range jobs {
				result := try(m)
				mu.Lock()
				switch {
				case result == "invalid":
					invalid++
				case result == "killed":
					killed++
				case slices.Contains(same, m.String()):
					equal++
				default:
					alive = append(alive, m.String())
					log.Printf("alive: %s", m)
				}
				if done := killed + len(alive) + equal; done%20 == 0 {
					log.Printf("%d killed, %d alive, %d equivalent, %d do not compile", killed, len(alive), equal, invalid)
				}
				mu.Unlock()
			}
		})
	}
	for _, m := range all {
		mu.Lock()
		enough := killed+len(alive)+equal >= *n
		mu.Unlock()
		if enough {
			break
		}
		jobs <- m
	}
	close(jobs)
	left.Wait()
	slices.Sort(alive)
	share := 100 * float64(killed) / float64(max(1, killed+len(alive)))
	fmt.Printf("# Mutants\n\nOf %d possible mutants of the deciding code %d were tried on %s (`make mutants`): %d killed (%.1f %%), %d alive, %d equivalent; %d more did not compile.\n",
		len(all), killed+len(alive)+equal, time.Now().UTC().Format(time.DateOnly), killed, share, len(alive), equal, invalid)
	if len(alive) > 0 {
		fmt.Printf("\nAlive:\n\n")
	}
	for _, m := range alive {
		fmt.Printf("- %s\n", m)
	}
}

// mutants are all small changes of the deciding code, in order.
func mutants() (all []mutant) {
	for _, file := range where {
		src, err := os.ReadFile(file)
		if err != nil {
			log.Fatal(err)
		}
		set := token.NewFileSet()
		tree, err := parser.ParseFile(set, file, src, parser.ParseComments)
		if err != nil {
			log.Fatal(err)
		}
		add := func(from, to token.Pos, text, what string) {
			at := set.Position(from)
			all = append(all, mutant{file, at.Offset, set.Position(to).Offset, text, at.Line, what})
		}
		part := func(n ast.Node) string { return string(src[set.Position(n.Pos()).Offset:set.Position(n.End()).Offset]) }
		ast.Inspect(tree, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.BinaryExpr:
				if to, ok := turned[n.Op]; ok {
					add(n.OpPos, n.OpPos+token.Pos(len(n.Op.String())), to, fmt.Sprintf("`%s` → `%s` in `%s`", n.Op, to, short(part(n))))
				}
			case *ast.IfStmt:
				add(n.Cond.Pos(), n.Cond.End(), "!("+part(n.Cond)+")", fmt.Sprintf("not `%s`", short(part(n.Cond))))
			case *ast.ExprStmt:
				add(n.Pos(), n.End(), "", fmt.Sprintf("without `%s`", short(part(n))))
			case *ast.AssignStmt:
				if n.Tok == token.ASSIGN && len(n.Lhs) == 1 {
					add(n.Pos(), n.End(), "_ = "+part(n.Rhs[0]), fmt.Sprintf("without `%s`", short(part(n))))
				}
			case *ast.Ident:
				if n.Name == "true" || n.Name == "false" {
					to := map[string]string{"true": "false", "false": "true"}[n.Name]
					add(n.Pos(), n.End(), to, fmt.Sprintf("`%s` → `%s`", n.Name, to))
				}
			}
			return true
		})
	}
	return all
}

func short(s string) string {
	s = strings.Join(strings.Fields(s), " ")
	if r := []rune(s); len(r) > 90 {
		s = string(r[:90]) + "…"
	}
	return s
}

// try runs the tests on a mutant: those beside the code first, then the house in a bottle.
func try(m mutant) string {
	dir, err := os.MkdirTemp("", "mutant")
	if err != nil {
		log.Fatal(err)
	}
	defer func() { _ = os.RemoveAll(dir) }()
	src, _ := os.ReadFile(m.file)
	changed := filepath.Join(dir, "mutant.go")
	text := string(src[:m.from]) + m.text + string(src[m.to:])
	here, _ := filepath.Abs(m.file)
	overlay, _ := json.Marshal(map[string]any{"Replace": map[string]string{here: changed}})
	for name, body := range map[string]string{"mutant.go": text, "overlay.json": string(overlay)} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(body), 0o600); err != nil {
			log.Fatal(err)
		}
	}
	for _, args := range [][]string{{"./core/control", "./core/engine"}, {"./core/bottle", "-run", "Mutants"}} {
		ctx, cancel := context.WithTimeout(context.Background(), 3*time.Minute)
		cmd := exec.CommandContext(ctx, "go", append([]string{"test", "-vet=off", "-count=1", "-timeout=90s", "-overlay=" + filepath.Join(dir, "overlay.json")}, args...)...)
		cmd.Env = append(os.Environ(), "IDLEEMBER_MUTANTS=1")
		out, err := cmd.CombinedOutput()
		cancel()
		switch {
		case bytes.Contains(out, []byte("[build failed]")):
			return "invalid"
		case err != nil:
			return "killed"
		}
	}
	return "alive"
}

// equivalent are the mutants that nobody could tell from the original.
func equivalent() (list []string) {
	text, _ := os.ReadFile("scripts/mutants/equivalent.txt")
	for _, line := range strings.Split(string(text), "\n") {
		if name, _, ok := strings.Cut(line, " — "); ok {
			list = append(list, name)
		}
	}
	return list
}
