package tests

import (
	"encoding/json"
	"go/ast"
	"go/parser"
	"go/token"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/BurntSushi/toml"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/core/words"
)

// What the program says stands in the message files: each message is there, has its values, and is said somewhere.
func TestEachMessageIsThereAndIsSaid(t *testing.T) {
	fields := messages(t)
	said, literals := map[string]bool{}, map[string]bool{}
	goFiles(t, func(path string) {
		if strings.HasSuffix(path, "_test.go") {
			return
		}
		set := token.NewFileSet()
		file, err := parser.ParseFile(set, path, nil, 0)
		require.NoError(t, err)
		ast.Inspect(file, func(n ast.Node) bool {
			if x, ok := n.(*ast.BasicLit); ok && x.Kind == token.STRING {
				text, _ := strconv.Unquote(x.Value)
				literals[text] = true
			}
			call, ok := n.(*ast.CallExpr)
			if !ok || len(call.Args) == 0 || !isOf(call.Fun) {
				return true
			}
			code, whole := literal(call.Args[0])
			if !whole || call.Ellipsis.IsValid() {
				return true
			}
			said[code] = true
			want, there := fields[code]
			assert.True(t, there, "%s: there is no message %s", set.Position(call.Pos()), code)
			for _, f := range want {
				assert.True(t, slices.ContainsFunc(call.Args[1:], func(a ast.Expr) bool {
					s,
						ok := literal(a)
					return ok && s == f
				}),
					"%s: %s has no %s", set.Position(call.Pos()), code, f)
			}
			return true
		})
	})
	for _, code := range slices.Sorted(maps.Keys(fields)) {
		made := slices.ContainsFunc(slices.Collect(maps.Keys(literals)), func(l string) bool { // with an end, as in lock_free
			return l == code || len(l) > 3 && strings.Contains(l, ".") && strings.HasPrefix(code, l)
		})
		assert.True(t, said[code] || made || strings.Count(code, ".") == 0 && literals[code], "nobody says %s", code)
	}
}

// The console reads numbers in the same units as the hub says them.
func TestTheConsoleKnowsTheUnits(t *testing.T) {
	const file = "../console/src/units.gen.json"
	want, err := json.MarshalIndent(map[string]any{"signs": words.UnitSigns(), "conversions": map[words.Units]any{
		words.Metric: words.Metric.Conversions(), words.Customary: words.Customary.Conversions()}}, "", " ")
	require.NoError(t, err)
	if os.Getenv("IDLEEMBER_WRITE") != "" {
		require.NoError(t, os.WriteFile(file, append(want, '\n'), 0o600))
	}
	is, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.JSONEq(t, string(want), string(is),
		"IDLEEMBER_WRITE=1 go test ./tests -run TheConsoleKnowsTheUnits writes it anew")
}

func isOf(f ast.Expr) bool {
	if s, ok := f.(*ast.SelectorExpr); ok {
		pkg, ok := s.X.(*ast.Ident)
		return ok && pkg.Name == "words" && s.Sel.Name == "Of"
	}
	id, ok := f.(*ast.Ident)
	return ok && id.Name == "Of"
}

func literal(e ast.Expr) (string, bool) {
	x, ok := e.(*ast.BasicLit)
	if !ok {
		return "", false
	}
	text, err := strconv.Unquote(x.Value)
	return text, err == nil
}

var field = regexp.MustCompile(`{{\.(\w+)}}`)

// messages are the values that each message of the English files wants, by its code.
func messages(t *testing.T) map[string][]string {
	out := map[string][]string{}
	files, err := filepath.Glob("../core/words/en/*.toml")
	require.NoError(t, err)
	for _, f := range files {
		b, err := os.ReadFile(f)
		require.NoError(t, err)
		var tree map[string]any
		require.NoError(t, toml.Unmarshal(b, &tree))
		var walk func(code string, v any)
		walk = func(code string, v any) {
			switch x := v.(type) {
			case string:
				out[code] = nil
				for _, m := range field.FindAllStringSubmatch(x, -1) {
					out[code] = append(out[code], m[1])
				}
			case map[string]any:
				if other, ok := x["other"]; ok {
					walk(code, other)
					return
				}
				for k, y := range x {
					walk(strings.TrimPrefix(code+"."+k, "."), y)
				}
			}
		}
		walk("", tree)
	}
	return out
}
