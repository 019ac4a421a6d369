package tests

import (
	"fmt"
	"net"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/client"
	"idleember/core/site"
	"idleember/tests/rig"
)

// changing is what differs from one run to the next.
var changing = regexp.MustCompile(`\b1[0-9]{12}\b|[0-9]{4}-[0-9]{2}-[0-9]{2}T[0-9:.]+(Z|[+-][0-9:]+)|"version":"[a-z0-9]+"`)

// What boards and scripts hear is byte for byte what it was when it was recorded: whoever soldered a board does not
// flash it anew because the hub was updated. With IDLEEMBER_WRITE=1 it is recorded again.
func TestWhatBoardsSpeakStaysAsItWas(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	var said strings.Builder
	note := func(format string, args ...any) {
		said.WriteString(changing.ReplaceAllString(strings.TrimRight(fmt.Sprintf(format, args...), "\n"), "…") + "\n")
	}

	key := r.Device("kiln")
	r.AddControl("kiln", "vent", client.Source{}, client.Target{})
	_, err := r.Owner.Controls().Patch(t.Context(), "kiln.vent", rig.Fields{"kind": "level", "answers": false}, "")
	require.NoError(t, err)
	saveSetting(r, site.Setting{ID: "kiln.goal", Name: "Goal", Kind: site.SetNumber, Max: 1300, Default: 600,
		Mirror: "goal"})
	board := r.Sub("kiln", key, "ember/kiln/#")
	script := r.Sub("token", r.Token(r.Owner), "ember/#", "-i", "script")
	ears := []*rig.Sub{board, script}
	heard := map[*rig.Sub]int{}
	// then does something, waits for what it brings until all is quiet, and notes what came: each line once, as the two
	// are told apart.
	then := func(what string, do func(), sign *rig.Sub, words string) {
		do()
		r.Soon(what, func() bool { return strings.Contains(sign.String()[heard[sign]:], words) })
		for before := -1; before != len(board.String())+len(script.String()); {
			before = len(board.String()) + len(script.String())
			time.Sleep(600 * time.Millisecond)
		}
		note("\n== %s", what)
		for i, s := range ears {
			all := s.String()
			var lines []string
			for line := range strings.Lines(all[heard[s]:]) {
				if line = []string{"board", "script"}[i] + " hears " + line; !strings.Contains(line, "/lease ") &&
					!slices.Contains(lines, line) {
					lines = append(lines, line)
				}
			}
			heard[s] = len(all)
			slices.Sort(lines)
			if len(lines) > 0 {
				note("%s", strings.Join(lines, ""))
			}
		}
	}
	r.Soon("a beat", func() bool { return strings.Contains(board.String(), "ember/kiln/lease 60") })
	then("readings", func() { r.Pub("kiln", key, "ember/kiln/r", `{"chamber":21.40,"lid":"shut","door":true}`) }, script,
		"ember/kiln/r/door")
	then("what it is", func() { r.Pub("kiln", key, "ember/kiln/is/fan", "off") }, script, "ember/kiln/is/fan off")
	then("a switch", func() { r.Switch("kiln.fan", true) }, board, "ember/kiln/want/fan on")
	then("confirmed", func() { r.Pub("kiln", key, "ember/kiln/is/fan", `{"v":"on","by":"hand"}`) }, script,
		"ember/kiln/is/fan on")
	then("a level", func() {
		_, err := r.Owner.SwitchControlWithResponse(t.Context(), "kiln.vent", nil,
			client.SwitchControlJSONRequestBody{To: 40.0})
		require.NoError(t, err)
	}, board, "want/vent")
	then("a setting", func() {
		_, err := r.Owner.SetSettingWithResponse(t.Context(), "kiln.goal", client.SetSettingJSONRequestBody{Value: 650.0})
		require.NoError(t, err)
	}, board, "set/goal")
	then("nonsense", func() { r.Pub("kiln", key, "ember/kiln/r/chamber", "NaN") }, board, "problem")
	saveAlert(r, site.Alert{ID: "hot", Name: "Too hot", Kind: site.AlertAbove, Of: "kiln.chamber", Limit: 100,
		Severity: site.Critical, Text: "Open the vent."})
	then("an alert", func() { r.Pub("kiln", key, "ember/kiln/r/chamber", "140") }, script, "alert/hot")

	pushed := r.Linked("shed", client.Link{Kind: site.HTTP})
	for _, x := range []struct{ kind, body string }{{"application/json", `{"battery":12.61,"is":{"lamp":"off"}}`},
		{"text/csv", "t,battery\n1795413600,12.5\n"}, {"application/senml+json", `[{"n":"battery","u":"V","v":12.4}]`},
		{"application/json", `{"battery":`}, {"application/json", `{"battery":1e999}`}} {
		status, body := push(r, "shed", "-u", "shed:"+pushed, "-H", "Content-Type: "+x.kind, "--data-binary", x.body)
		note("\n== push %s %q\n%s %s", x.kind, x.body, status, body)
	}
	r.Switch("shed.lamp", true)
	status, body := push(r, "shed", "-u", "shed:"+pushed, "-H", "Content-Type: application/json", "-d", `{"battery":12.6}`)
	note("\n== push with a want\n%s %s", status, body)
	status, body = push(r, "shed", "-u", "shed:wrong", "-d", `battery=1`)
	note("\n== push with a wrong key\n%s %s", status, body)

	sent := r.Linked("yard", client.Link{Kind: site.UDP})
	c, err := net.Dial("udp", r.Service.UDP)
	require.NoError(t, err)
	defer func() { _ = c.Close() }()
	_, err = c.Write([]byte("k=" + sent + " rain=0.2 is.gate=off"))
	require.NoError(t, err)
	r.Soon("the datagram", func() bool { return r.Value("yard.rain") == 0.2 })
	r.Switch("yard.gate", true)
	buf := make([]byte, 2000)
	require.NoError(t, c.SetReadDeadline(time.Now().Add(10*time.Second)))
	n, err := c.Read(buf)
	require.NoError(t, err)
	note("\n== a datagram back\n%q", buf[:n])

	const file = "testdata/boards.txt"
	if os.Getenv("IDLEEMBER_WRITE") != "" {
		require.NoError(t, os.WriteFile(file, []byte(said.String()), 0o644))
	}
	want, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, string(want), said.String())
}
