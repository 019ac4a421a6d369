package main

import (
	"context"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/tests/rig"
)

// The commands around devices, as somebody at a terminal uses them one after the other.
func TestDeviceCommands(t *testing.T) {
	p := newProcess(t)
	p.start()
	p.setUp()
	file := filepath.Join(t.TempDir(), "model.json")
	type step struct {
		args []string
		exit int
		say  []string
	}
	run := func(steps ...step) {
		for _, s := range steps {
			out, exit := p.cli(s.args...)
			require.Equal(t, s.exit, exit, "%v: %s", s.args, out)
			for _, say := range s.say {
				assert.Contains(t, out, say, s.args)
			}
		}
	}
	at := func(words string) []string { return strings.Split(words, " ") }
	run(
		step{at("devices add --name Plug --place Yard --lease 0s"), 0, []string{"Its key is shown this once",
			"mosquitto_pub -h 127.0.0.1"}},
		step{at("devices add --name Fan --place Yard --link modbus --address nowhere"), 1,
			[]string{"is no address; use one such as 192.168.1.20:502"}},
		step{at("devices add --name Fan --place Yard --link pigeon"), 1, []string{"link"}},
		step{at("devices"), 0, []string{"plug", "mqtt", "never seen", "none yet"}},
		step{at("signals add plug power --unit W --topic bought/plug/report --pointer /energy/power"), 0,
			[]string{"plug.power"}},
		step{at("signals map plug.power --pattern ("), 1, []string{"the pattern cannot be read"}},
		step{[]string{"devices", "try", "plug", "--message-topic", "bought/plug/report", "--payload",
			`{"energy":{"power":41.5}}`}, 0, []string{"plug.power", "41.5"}},
		step{[]string{"devices", "try", "plug", "--message-topic", "x", "--payload", "T=7", "--signal", "plug.draft",
			"--topic", "x", "--pattern", `T=(\d)`}, 0, []string{"plug.draft", "7"}},
		step{[]string{"devices", "try", "plug", "--message-topic", "y", "--payload", "T=7"}, 0,
			[]string{"No mapping of this device"}},
		step{at("controls add plug relay --topic bought/plug/report/relay --send-topic bought/plug/do --send-on 1 " +
			"--send-off 0"), 0, []string{"plug.relay"}},
		step{at("controls map plug.relay --send-register input:0"), 1, []string{"cannot be written"}},
		step{at("signals calibrate plug.power --points 0=0,10=5 --preview 4"), 0, []string{"RAW", "4", "2"}},
		step{at("signals calibrate plug.power --divider 47000,22000,3.3,1023,15 --preview 1023"), 0, []string{"10.35",
			"One count is 0.0101173", "make R1 larger than 78 kΩ"}},
		step{at("signals calibrate plug.power"), 2, []string{"no calibration is given"}},
		step{at("signals calibrate plug.power --gain 10=1 --table 1=1,2=2"), 2, []string{"choose one of"}},
		step{at("signals calibrate plug.power --gain 10=1"), 0, []string{"plug.power"}},
		step{at("signals recalibrate plug.power --from 1h"), 0, []string{"0 readings changed"}},
		step{at("signals change plug.power --highest 100"), 0, []string{"plug.power"}},
		step{at("devices change plug --wakes 10m --per-second 5"), 0, []string{"plug"}},
		step{at("devices change plug --wakes 1s"), 1, []string{"choose between 10 s and a week"}},
		step{at("devices starter plug"), 0, []string{"wifi", "micropython", "shell"}},
		step{at("devices starter plug --kind micropython --key secret"), 0, []string{`"plug"`, `"secret"`, "umqtt"}},
		step{at("devices starter plug --kind abacus"), 2, []string{"no starter code"}},
		step{at("models"), 0, []string{"climate_board", "modbus_fan", "ships"}},
		step{[]string{"models", "save", "plug", "Bought plug", "--about", "fixed firmware"}, 0, []string{"bought_plug",
			"yours"}},
		step{at("models add bought_plug North South --place Yard"), 0, []string{"north", "south", "KEY"}},
		step{at("models add line_scale Scale --place Yard"), 1, []string{"is no address"}},
	)
	out, exit := p.cli("models", "show", "bought_plug")
	require.Zero(t, exit)
	require.NoError(t, os.WriteFile(file, []byte(strings.Replace(out, `"bought_plug"`, `"other_plug"`, 1)), 0o600))
	run(
		step{[]string{"models", "import", file, "--preview"}, 0, []string{"other_plug", "over mqtt. fixed firmware", "power",
			"switch"}},
		step{[]string{"models", "import", file}, 0, []string{"other_plug"}},
		step{[]string{"models", "import", file}, 1, []string{"is there already"}},
		step{at("models remove other_plug"), 0, []string{"gone"}},
		step{at("brokers save Workshop --address mqtt://127.0.0.1:1 --user me --broker-password secret"), 0,
			[]string{"workshop", "away"}},
		step{at("brokers"), 0, []string{"workshop"}},
		step{at("brokers remove workshop"), 0, []string{"gone"}},
		step{at("tokens add script"), 0, []string{"TOKEN"}},
		step{at("tokens"), 0, []string{"script"}},
	)
	out, _ = p.cli("now")
	require.Contains(t, out, "plug.relay")
	require.NoError(t, os.WriteFile(file, []byte(
		`{"name":"Circuit","limit":2000,"members":[{"control":"plug.relay","watts":1500},{"control":"north.relay","watts":1500}]}`), 0o600))
	run(
		step{[]string{"groups", "save", file}, 0, []string{"circuit"}},
		step{at("switch plug.relay on --no-wait"), 0, []string{"on is on its way"}},
		step{at("switch north.relay on --no-wait"), 5, []string{"on is noted, but it is off now",
			"waits for relay: together they need more than the 2000 W of Circuit"}},
		step{at("groups remove circuit"), 0, []string{"gone"}},
		step{at("devices disable plug"), 0, []string{"disabled"}},
	)
	out, _ = p.cli("now")
	assert.NotContains(t, out, "plug.relay", "it is disabled, and nothing of it is now")
	run(
		step{at("devices enable plug"), 0, []string{"never seen"}},
		step{at("devices replace plug"), 0, []string{"Its key is shown this once"}},
		step{at("signals remove plug.power"), 0, []string{"gone"}},
		step{at("controls remove plug.relay"), 0, []string{"gone"}},
		step{at("devices remove plug --history keep"), 0, []string{"plug is gone"}},
		step{at("devices"), 0, []string{"removed"}},
		step{at("devices remove plug --history delete"), 0, []string{"plug is gone"}},
	)
	require.NoError(t, os.WriteFile(file, []byte(
		`{"on":false,"address":"127.0.0.1:1502","allow":[],"points":[{"id":"north.power","register":{"table":"input","address":3},"write":false}]}`), 0o600))
	run(
		step{[]string{"panel", "set", file}, 0, []string{"north.power", "input", "3", "u16"}},
		step{at("panel"), 0, []string{"The panel is off"}},
	)
}

// The dialogue asks what is missing and then waits for the first message.
func TestAddingADeviceByDialogue(t *testing.T) {
	p := newProcess(t)
	p.start()
	p.setUp()
	ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
	defer cancel()
	cmd := exec.CommandContext(ctx, binary, "devices", "add", "--link", "http", "--wait", "20s")
	cmd.Env = []string{"HOME=" + p.home, "PATH=" + os.Getenv("PATH"), "IDLEEMBER_HUB=http://" + p.http}
	cmd.Stdin = strings.NewReader("Shed\nYard\n")
	out := &buffer{}
	cmd.Stdout, cmd.Stderr = out, out
	require.NoError(t, cmd.Start())
	rig.Soon(t, "the waiting", func() bool { return strings.Contains(out.String(), "Waiting for its first message") })
	key := strings.Fields(out.String()[strings.Index(out.String(), "  Key "):])[1]
	req, err := http.NewRequest(http.MethodPost, "http://"+p.http+"/push/shed", strings.NewReader(`{"temperature":21.4}`))
	require.NoError(t, err)
	req.SetBasicAuth("shed", key)
	resp, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	_ = resp.Body.Close()
	require.NoError(t, cmd.Wait())
	for _, say := range []string{"Name of the device:", "Place:",
		"The first message arrived on POST /push/shed: {\"temperature\":21.4}", "stored temperature 21.4"} {
		assert.Contains(t, out.String(), say)
	}
	traffic, exit := p.cli("devices", "traffic", "shed")
	assert.Zero(t, exit)
	assert.Contains(t, traffic, "stored temperature 21.4")
	assert.NotContains(t, traffic, key)
}
