package main

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/tests/rig"
)

// The demo in two processes: when the hub is killed, the boards switch off by themselves; when it is back, all is as
// before.
func TestBoardsFallBackWhenTheHubIsKilled(t *testing.T) {
	t.Parallel()
	p := newProcess(t)
	background := func(args ...string) (*exec.Cmd, *buffer) {
		out := &buffer{}
		cmd := exec.Command(binary, args...)
		cmd.Stdout, cmd.Stderr = out, out
		in, err := cmd.StdinPipe()
		require.NoError(t, err)
		require.NoError(t, cmd.Start())
		t.Cleanup(func() { _ = in.Close(); _ = cmd.Process.Kill(); _ = cmd.Wait() })
		return cmd, out
	}
	nothing := filepath.Join(t.TempDir(), "nothing")
	out, err := exec.Command(binary, "demo", "boards", "--data", nothing).CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(out), "there is no demo in "+nothing)

	hubArgs := []string{"demo", "--boards=false", "--data", p.dir, "--http", p.http, "--mqtt", p.mqtt, "--mqtts", "",
		"--udp", ""}
	hub, said := background(hubArgs...)
	// At first it writes three weeks of history.
	require.Eventually(t, func() bool { return strings.Contains(said.String(), "The boards are not running") },
		90*time.Second, 50*time.Millisecond, "the hub")
	_, boards := background("demo", "boards", "--data", p.dir)
	b, err := os.ReadFile(filepath.Join(p.dir, "demo.json"))
	require.NoError(t, err)
	var st struct {
		Accounts []struct{ Account, Password string }
	}
	require.NoError(t, json.Unmarshal(b, &st))
	login := func() {
		text, exit := p.cliWith([]string{"IDLEEMBER_PASSWORD=" + st.Accounts[0].Password}, "login", "--hub", "http://"+p.http,
			"--account", "mo")
		require.Zero(t, exit, text)
	}
	login()
	text, exit := p.cli("devices", "change", "drying_room", "--lease", "4s")
	require.Zero(t, exit, text)
	rig.Soon(t, "the heater confirms", func() bool {
		_, exit := p.cli("switch", "drying_room.heater", "on", "--for", "2h")
		return exit == 0
	})

	require.NoError(t, hub.Process.Signal(syscall.SIGKILL))
	rig.Soon(t, "the board falls back", func() bool {
		return strings.Contains(boards.String(), "heard no beat and switched off") && strings.Contains(boards.String(),
			"output=heater")
	})
	_, said = background(hubArgs...)
	rig.Soon(t, "the hub is back", func() bool { return strings.Contains(said.String(), "The boards are not running") })
	login()
	rig.Soon(t, "and what was set by hand holds again", func() bool {
		text, _ := p.cli("why", "drying_room.heater")
		return strings.Contains(text, "By hand")
	})
	rig.Soon(t, "on once more", func() bool {
		text, _ := p.cli("now", "--output", "json")
		var snap struct {
			Controls []struct {
				Config struct{ ID string }
				State  struct {
					Phase string
					Is    any
				}
			}
		}
		if json.Unmarshal([]byte(text), &snap) != nil {
			return false
		}
		for _, c := range snap.Controls {
			if c.Config.ID == "drying_room.heater" {
				return c.State.Is == true && c.State.Phase == "confirmed"
			}
		}
		return false
	})
}
