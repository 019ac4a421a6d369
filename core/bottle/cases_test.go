package bottle

import (
	"encoding/json"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// kept is a plan that once broke a promise, with what it was about.
type kept struct {
	About  string   // what was wrong
	Script []string // what happens, in words
	Plan   *Plan
}

// What was found once is not found again.
func TestKeptCases(t *testing.T) {
	files, err := filepath.Glob("testdata/cases/*.json")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, file := range files {
		t.Run(strings.TrimSuffix(filepath.Base(file), ".json"), func(t *testing.T) {
			text, err := os.ReadFile(file)
			require.NoError(t, err)
			var k kept
			require.NoError(t, json.Unmarshal(text, &k))
			assert.Empty(t, Run(k.Plan).Faults, "%s\n%s", k.About, k.Plan.Script())
		})
	}
}

// keep writes a case: of a plan that fails now, shrunk, or of one that failed before with the happenings that mattered
// then.
func keep(t *testing.T, p *Plan, name, about, script string) {
	if script == "" {
		p = Shrink(p)
	} else {
		p.Happenings = slices.DeleteFunc(p.Happenings, func(h Happening) bool { return !strings.Contains(script, h.Words()) })
	}
	k := kept{About: about, Plan: p, Script: strings.Split(strings.TrimSpace(p.Script()), "\n")}
	text, err := json.MarshalIndent(k, "", " ")
	require.NoError(t, err)
	require.NoError(t, os.MkdirAll("testdata/cases", 0o755))
	require.NoError(t, os.WriteFile("testdata/cases/"+name+".json", append(text, '\n'), 0o600))
}
