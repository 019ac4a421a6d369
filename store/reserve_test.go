package store

import (
	"context"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/core/site"

	"idleember/core/reading"
)

// onSmallDisk runs a test again on a disk of its own, where one is to be had, and returns that disk there; "": it ran.
func onSmallDisk(t *testing.T) string {
	if dir := os.Getenv("IDLEEMBER_SMALL_DISK"); dir != "" {
		return dir
	}
	if b, err := exec.Command("unshare", "-rm", "true").CombinedOutput(); err != nil {
		t.Skipf("no disk of its own is to be had here: %s", b)
	}
	dir := t.TempDir()
	cmd := exec.CommandContext(t.Context(), "unshare", "-rm", "sh", "-c",
		`mount -t tmpfs -o size=40m none "$1" && exec "$0" -test.run "^$2\$" -test.v`, os.Args[0], dir, t.Name())
	cmd.Env = append(os.Environ(), "IDLEEMBER_SMALL_DISK="+dir)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	return ""
}

// A hub that was stopped on a full disk starts there: commands are kept, readings refused until there is room, over any
// number of starts, also where somebody else took the reserve's room meanwhile.
func TestAStartOnAFullDisk(t *testing.T) {
	disk := onSmallDisk(t)
	if disk == "" {
		return
	}
	dir := filepath.Join(disk, "hub")
	n := int64(0)
	readings := func(s *Store) error {
		n++
		return s.Bring(t.Context(), AddReading("kiln.chamber", Reading{T: time.Now().UnixMilli() + n,
			Value: reading.Number(float64(n))}, nil))
	}
	fill := func() {
		for size := 1 << 20; size > 0; size /= 2 {
			for i := 0; ; i++ {
				if f, err := os.OpenFile(filepath.Join(disk, "filler"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600); err == nil {
					_, err = f.Write(make([]byte, size))
					_ = f.Close()
					if err != nil {
						break
					}
				}
			}
		}
	}
	open := func() *Store {
		s, err := Open(context.Background(), dir, Options{})
		require.NoError(t, err)
		return s
	}
	s := open()
	require.NoError(t, readings(s))
	fill()
	require.NoError(t, s.Close())
	for range 3 {
		s = open()
		assert.ErrorIs(t, readings(s), ErrFull, "what the reserve left is not for readings")
		assert.NoError(t, s.Do(t.Context(), SaveSecret(site.Key{Kind: "device", ID: "kiln"}, "camera", "a word")))
		require.NoError(t, s.Close())
	}
	s = open()
	assert.NoFileExists(t, filepath.Join(dir, reserveFile))
	require.NoError(t, os.Remove(filepath.Join(disk, "filler")))
	require.Eventually(t, func() bool { return readings(s) == nil }, 20*time.Second, 100*time.Millisecond)
	assert.FileExists(t, filepath.Join(dir, reserveFile))
	assert.FileExists(t, filepath.Join(dir, openingFile))

	fill()
	require.Eventually(t, func() bool { return readings(s) != nil }, 20*time.Second, time.Millisecond)
	fill() // what the reserve gave is taken at once by somebody else
	_ = s.Close()
	assert.NoFileExists(t, filepath.Join(dir, reserveFile))
	s = open()
	assert.Error(t, readings(s))
	word, err := s.Secret(t.Context(), site.Key{Kind: "device", ID: "kiln"}, "camera")
	assert.NoError(t, err)
	assert.Equal(t, "a word", word)
	_ = s.Close()
}

// What is written into files that are deleted, moved or replaced is not acknowledged, and no new database is begun
// beside what is left.
func TestADatabaseThatIsTakenAway(t *testing.T) {
	for name, take := range map[string]func(dir string) error{
		"deleted": func(dir string) error { return os.Remove(filepath.Join(dir, File)) },
		"its log": func(dir string) error { return os.Remove(filepath.Join(dir, File+"-wal")) },
		"moved":   func(dir string) error { return os.Rename(dir, dir+" elsewhere") },
		"folder":  os.RemoveAll,
		"replaced": func(dir string) error {
			return errors.Join(os.Remove(filepath.Join(dir, File)), os.WriteFile(filepath.Join(dir, File), nil, 0o600))
		},
	} {
		dir := filepath.Join(t.TempDir(), "hub")
		s, err := Open(t.Context(), dir, Options{})
		require.NoError(t, err)
		require.NoError(t, s.Do(t.Context(), SaveSecret(site.Key{Kind: "device", ID: "kiln"}, "camera", "a word")))
		require.NoError(t, take(dir), name)
		var reads sync.WaitGroup
		for range 8 {
			reads.Go(func() {
				word, err := s.Secret(t.Context(), site.Key{Kind: "device", ID: "kiln"}, "camera")
				assert.NoError(t, err, "%s: what is needed to tell people of it can be read", name)
				assert.Equal(t, "a word", word, name)
			})
		}
		reads.Wait()
		if name == "deleted" {
			assert.NoFileExists(t, filepath.Join(dir, File), "reading makes no new one")
		}
		for range 2 {
			assert.ErrorIs(t, s.Do(t.Context(), SaveSecret(site.Key{Kind: "device", ID: "kiln"}, "camera", "another")), ErrGone,
				name)
		}
		_ = s.Close()
		if name != "deleted" {
			continue
		}
		_, err = Open(t.Context(), dir, Options{})
		var missing *MissingError
		require.ErrorAs(t, err, &missing)
		assert.ErrorContains(t, err, "but the reserve of one")
		s, err = Open(t.Context(), dir, Options{Anew: true})
		require.NoError(t, err)
		require.NoError(t, s.Close())
	}
}
