package main

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/store"
)

// A backup is made while readings come in, holds everything acknowledged before it began, comes back into an empty
// folder, and what is not as it was written is refused.
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

	// With a passphrase.
	words := filepath.Join(t.TempDir(), "words")
	require.NoError(t, os.WriteFile(words, []byte("slip and glaze and ash\n"), 0o600))
	sealed := filepath.Join(t.TempDir(), "sealed.backup")
	out, err = run("backup", "--data", p.dir, "--passphrase-file", words, sealed)
	require.NoError(t, err, out)
	assert.Contains(t, out, "MB, encrypted")
	again := filepath.Join(t.TempDir(), "again")
	out, err = run("restore", "--data", again, sealed)
	assert.Error(t, err)
	assert.Contains(t, out, "this backup is encrypted; tell its passphrase")
	out, err = run("restore", "--data", again, "--passphrase-file", words, sealed)
	require.NoError(t, err, out)
	assert.Contains(t, out, "is as it was")
	out, err = run("backup", "--data", p.dir, "--encrypt", sealed+"2")
	assert.Error(t, err)
	assert.Contains(t, out, "there is no terminal to ask for a passphrase")

}

// What is wrong is said with what to do about it.
func TestCheckInWords(t *testing.T) {
	t.Parallel()
	p, _ := kiln(t)
	port, room := p.http, t.TempDir()
	run := func() (string, error) {
		cmd := exec.Command(binary, "check", "--data", p.dir, "--http", port, "--mqtt", "127.0.0.1:0", "--mqtts", "", "--udp",
			"")
		cmd.Env = append(os.Environ(), "TMPDIR="+room)
		b, err := cmd.CombinedOutput()
		return string(b), err
	}
	out, err := run()
	require.NoError(t, err, out)
	assert.Contains(t, out, port+", "+p.mqtt+" are answered by the hub that is running")
	assert.Contains(t, out, "series are as they were written")
	lock := filepath.Join(p.dir, "lock")
	noted, err := os.ReadFile(lock)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(lock, []byte(strings.ReplaceAll(string(noted), port, "127.0.0.1:1")), 0o600))
	out, err = run()
	assert.Error(t, err)
	assert.Contains(t, out, "nobody answers at 127.0.0.1:1 (--http)")
	assert.Contains(t, out, "the hub itself says that it listens there")
	require.NoError(t, os.WriteFile(lock, nil, 0o600)) // as of a version that notes nothing
	port = "127.0.0.1:1"
	out, err = run()
	assert.Error(t, err)
	assert.Contains(t, out, "tell check the same options as serve")
	assert.NotContains(t, out, "WRONG  store")
	said, err := exec.Command(binary, "check", "--data", room).CombinedOutput()
	assert.Error(t, err)
	assert.Contains(t, string(said), "there is no hub in "+room)
	left, err := os.ReadDir(room)
	require.NoError(t, err)
	assert.Empty(t, left, "the copy goes, and no hub is made")
	port = p.http
	p.kill()
	out, err = run()
	require.NoError(t, err, out)
	assert.Contains(t, out, "well   orphans       every series is of something that there is")
	assert.Contains(t, out, "All is well")

	taken, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer func() { _ = taken.Close() }()
	port = taken.Addr().String()
	db, err := sqlx.Open("sqlite", filepath.Join(p.dir, store.File))
	require.NoError(t, err)
	_, err = db.Exec(`INSERT OR REPLACE INTO parts (kind, id, body) VALUES ('messaging', '', '{"mail":{"host":"127.0.0.1","port":1}}')`)
	require.NoError(t, err)
	_, err = db.Exec(`UPDATE members SET created_ms = 1`)
	require.NoError(t, err)
	_, err = db.Exec(`UPDATE blocks SET body = x'00'`)
	require.NoError(t, err)
	require.NoError(t, db.Close())
	out, err = run()
	assert.Error(t, err)
	assert.Contains(t, out, "WRONG  addresses     the address "+port+" is taken by another program; choose another with "+
		"--http")
	assert.Contains(t, out, "WRONG  mail          the mail server 127.0.0.1:1 does not answer")
	assert.Contains(t, out, "WRONG  backups       there is none; make one with")
}

// The level of the log is changed while it runs.
func TestTheLogLevel(t *testing.T) {
	t.Parallel()
	p, _ := kiln(t)
	out, code := p.cli("log")
	require.Zero(t, code, out)
	assert.Equal(t, "info\n", out)
	out, code = p.cli("log", "debug")
	require.Zero(t, code, out)
	out, _ = p.cli("log")
	assert.Equal(t, "debug\n", out)
	out, code = p.cli("log", "loud")
	assert.NotZero(t, code)
	assert.Contains(t, out, "level")
	out, _ = p.cli("journal", "hub.log", "--output", "csv")
	assert.Contains(t, out, "info → debug")
}

// A phone finds the hub by name: asked by a client that we did not write, in a network of its own in which loopback
// carries multicast.
func TestAnnouncedInTheHouse(t *testing.T) {
	t.Parallel()
	alone := "ip link set lo up multicast on && ip route add 224.0.0.0/4 dev lo"
	if b, err := exec.Command("unshare", "-rn", "sh", "-c", alone).CombinedOutput(); err != nil {
		t.Skipf("no network of its own is to be had here: %s", b)
	}
	browse := func(at string) string {
		b, _ := exec.Command("unshare", "-rn", "sh", "-c", alone+`; "$0" serve --data "$1" --http "$2" --mqtt 127.0.0.1:0 --mqtts "" --udp "" --announce 2>&1 & hub=$!
			sleep 2; /usr/bin/python3 ../../tests/peers/browse.py; kill $hub; wait`, binary, t.TempDir(), at).CombinedOutput()
		return string(b)
	}
	assert.Contains(t, browse("0.0.0.0:18480"), "('Idle Ember._http._tcp.local.', 18480, {b'path': b'/'})")
	out := browse("127.0.0.1:18480")
	assert.Contains(t, out, "listens to this computer alone, so there is nothing to announce")
	assert.Contains(t, out, "nothing\n")
}
