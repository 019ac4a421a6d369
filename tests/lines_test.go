package tests

import (
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

// No line is longer than a screen is wide, but for raw strings and what is generated.
func TestLinesFitOnAScreen(t *testing.T) {
	t.Parallel()
	require.NoError(t, filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			if err == nil && (d.Name() == "node_modules" || strings.HasPrefix(d.Name(), ".") && path != "..") {
				err = fs.SkipDir
			}
			return err
		}
		if !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "gen.go") {
			return nil
		}
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
		return nil
	}))
}
