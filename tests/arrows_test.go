package tests

import (
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Arrows only point down: what each room of the house may know, besides what is in it.
var mayKnow = map[string][]string{
	"core":      {},
	"contract":  {"core"},
	"elsewhere": {"core"},
	"models":    {"core"},
	"store":     {"core"},
	"post":      {"core", "contract", "store", "sight", "hub", "archive", "elsewhere"},
	"pages":     {"core", "contract", "store", "sight", "hub"},
	"archive":   {"core", "contract", "store", "sight", "hub"},
	"sight":     {"core", "contract", "store"},
	"hub":       {"core", "contract", "store", "models", "sight", "live", "traffic"},
	"live":      {"core", "contract"},
	"traffic":   {"core"},
	"household": {"core", "contract", "store", "sight", "hub"},
	"upkeep":    {"core", "contract", "store", "sight", "hub", "elsewhere"},
	"starter":   {"core"},
	"link":      {"core", "contract", "live", "traffic", "hub", "elsewhere"},
	"api": {"core", "contract", "live", "traffic", "hub", "household", "post", "pages", "archive", "store",
		"starter", "elsewhere", "link/door"},
	"client":  {"core", "contract"},
	"cli":     {"core", "contract", "client"},
	"console": {},
	"serve": {"core", "contract", "store", "hub", "household", "api", "link", "post", "pages", "archive", "upkeep",
		"starter", "console", "elsewhere", "cli"},
	"demo": {"core", "contract", "store", "hub", "household", "pages", "archive", "serve", "link",
		"elsewhere", "client"},
	"cmd":     {"core", "serve", "demo", "cli", "client", "store"},
	"scripts": {"core"},
}

// Nothing in core reads a clock of its own, a file or the network.
var notInCore = []string{"os", "os/exec", "net/http", "database/sql", "log", "log/slog", "syscall", "math/rand"}

func TestArrowsPointDown(t *testing.T) {
	t.Parallel()
	root := ".."
	require.NoError(t, filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() && (d.Name() == "node_modules" || strings.HasPrefix(d.Name(), ".") && path != root ||
			path == filepath.Join(root, "tests")) {
			if err == nil {
				err = fs.SkipDir
			}
			return err
		}
		if !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return nil
		}
		folder, err := filepath.Rel(root, filepath.Dir(path))
		require.NoError(t, err)
		room, _, _ := strings.Cut(filepath.ToSlash(folder), "/")
		may, known := mayKnow[room]
		assert.True(t, known, "what may %s know? Say so in mayKnow", room)
		f, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
		require.NoError(t, err)
		for _, i := range f.Imports {
			name, err := strconv.Unquote(i.Path.Value)
			require.NoError(t, err)
			assert.False(t, room == "core" && slices.Contains(notInCore, name), "%s imports %s", path, name)
			of, ours := strings.CutPrefix(name, "idleember/")
			assert.True(t, !ours || slices.ContainsFunc(append(may, room), func(x string) bool {
				return of == x || strings.HasPrefix(of, x+"/")
			}), "%s imports %s", path, name)
		}
		return nil
	}))
}
