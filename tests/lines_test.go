package tests

import (
	"go/ast"
	"go/parser"
	"go/scanner"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// goFiles calls a function for each file of Go that somebody wrote.
func goFiles(t *testing.T, f func(path string)) {
	require.NoError(t, filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case d.IsDir() && (d.Name() == "node_modules" || strings.HasPrefix(d.Name(), ".") && path != ".."):
			return fs.SkipDir
		case !d.IsDir() && strings.HasSuffix(path, ".go") && !strings.HasSuffix(path, "gen.go"):
			f(path)
		}
		return nil
	}))
}

// No line is longer than a screen is wide, but for raw strings.
func TestLinesFitOnAScreen(t *testing.T) {
	t.Parallel()
	goFiles(t, func(path string) {
		src, err := os.ReadFile(path)
		require.NoError(t, err)
		set := token.NewFileSet()
		file := set.AddFile(path, set.Base(), len(src))
		raw := map[int]bool{} // lines in which a raw string stands
		var s scanner.Scanner
		s.Init(file, src, nil, 0)
		for {
			pos, tok, text := s.Scan()
			if tok == token.EOF {
				break
			}
			if tok != token.STRING || text[0] != '`' {
				continue
			}
			for line := range strings.Count(text, "\n") + 1 {
				raw[file.Line(pos)+line] = true
			}
		}
		for i, line := range strings.Split(string(src), "\n") {
			n := utf8.RuneCountInString(line)
			assert.True(t, raw[i+1] || n <= 120, "%s:%d has %d characters", path, i+1, n)
		}
	})
}

// A function that takes many ways (over 20, as T. J. McCabe counts them, A Complexity Measure, 1976) says why it is one
// piece. Tests may be long stories.
func TestLongFunctionsSayWhy(t *testing.T) {
	goFiles(t, func(path string) {
		if strings.HasSuffix(path, "_test.go") || strings.Contains(path, "/tests/") {
			return
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ParseComments)
		require.NoError(t, err)
		for _, d := range file.Decls {
			if f, ok := d.(*ast.FuncDecl); ok && ways(f) > 20 {
				assert.Contains(t, strings.Join(strings.Fields(f.Doc.Text()), " "), "Long, because", "%s: %s takes %d ways", path,
					f.Name.Name, ways(f))
			}
		}
	})
}

func ways(f *ast.FuncDecl) int {
	n := 1
	ast.Inspect(f, func(x ast.Node) bool {
		switch x := x.(type) {
		case *ast.IfStmt, *ast.ForStmt, *ast.RangeStmt:
			n++
		case *ast.CaseClause:
			n += min(len(x.List), 1)
		case *ast.CommClause:
			if x.Comm != nil {
				n++
			}
		case *ast.BinaryExpr:
			if x.Op == token.LAND || x.Op == token.LOR {
				n++
			}
		}
		return true
	})
	return n
}
