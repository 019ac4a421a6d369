package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A backup is made while readings come in, holds everything acknowledged before it began, comes back into an empty folder, and what is
// not as it was written is refused.
func TestBackupAndRestore(t *testing.T) {
	t.Parallel()
	p, board := kiln(t)
	run := func(args ...string) (string, error) {
		b, err := exec.Command(binary, args...).CombinedOutput()
		return string(b), err
	}
	say := func(i int) {
		board.Publish("ember/kiln/r/chamber", 1, false, fmt.Sprint(i)).Wait()
		time.Sleep(2 * time.Millisecond) // each has a time of its own
	}
	for i := range 300 {
		say(i)
	}
	var stop atomic.Bool
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		for i := 300; !stop.Load(); i++ {
			say(i)
		}
	}()
	file := filepath.Join(t.TempDir(), "studio.backup")
	out, err := run("backup", "--data", p.dir, file)
	stop.Store(true)
	<-ended
	require.NoError(t, err, out)
	assert.Contains(t, out, "holds everything in "+p.dir)
	sum, err := exec.Command("sh", "-c", "cd "+filepath.Dir(file)+" && sha256sum -c studio.backup.sha256").CombinedOutput()
	require.NoError(t, err, string(sum))
	out, err = run("backup", "--data", p.dir, file)
	assert.Error(t, err)
	assert.Contains(t, out, "is there already")
	out, err = run("backup", "--data", t.TempDir(), file+"2")
	assert.Error(t, err)
	assert.Contains(t, out, "there is no hub in")
	before, code := p.cli("history", "kiln.chamber", "--output", "csv", "--from", "1h")
	require.Zero(t, code, before)

	p.kill()
	out, err = run("restore", "--data", p.dir, file)
	assert.Error(t, err)
	assert.Contains(t, out, "is not empty")
	damaged := filepath.Join(t.TempDir(), "studio.backup")
	whole, err := os.ReadFile(file)
	require.NoError(t, err)
	broken := append([]byte{}, whole...)
	broken[len(broken)/2] ^= 1
	require.NoError(t, os.WriteFile(damaged, broken, 0o600))
	kept, err := os.ReadFile(file + ".sha256")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(damaged+".sha256", kept, 0o600))
	empty := filepath.Join(t.TempDir(), "new")
	out, err = run("restore", "--data", empty, damaged)
	assert.Error(t, err)
	assert.Contains(t, out, "is not what was written")
	assert.NoFileExists(t, filepath.Join(empty, "ember.db"))
	require.NoError(t, os.WriteFile(damaged, []byte("something else"), 0o600))
	require.NoError(t, os.Remove(damaged+".sha256"))
	out, err = run("restore", "--data", empty, damaged)
	assert.Error(t, err)
	assert.Contains(t, out, "no backup of a hub")

	out, err = run("restore", "--data", empty, file)
	require.NoError(t, err, out)
	p.dir = empty
	p.start()
	after, code := p.cli("history", "kiln.chamber", "--output", "csv", "--from", "1h")
	require.Zero(t, code, after)
	assert.Contains(t, after, ",299\n", "what was acknowledged before it began")
	assert.True(t, strings.HasPrefix(before, after), "and nothing else")
	members, code := p.cli("devices")
	require.Zero(t, code, members)
	assert.Contains(t, members, "kiln")
}
