package tests

import (
	"fmt"
	"net"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/client"
	"idleember/core/site"
	"idleember/tests/rig"
)

func saveSetting(r *rig.Rig, g site.Setting) {
	g.Name = site.Title(g.ID)
	_, err := r.Owner.Settings().Add(r.T.Context(), g)
	require.NoError(r.T, err)
}

func valueOf(r *rig.Rig, id string) string {
	g, err := r.Owner.Settings().List(r.T.Context())
	require.NoError(r.T, err)
	for _, x := range g {
		if x.Config.ID == id {
			return x.State.Text
		}
	}
	return ""
}

func set(r *rig.Rig, id string, to client.Value) {
	_, err := r.Owner.SetSettingWithResponse(r.T.Context(), id, client.SetSettingJSONRequestBody{Value: to})
	require.NoError(r.T, err)
}

// A regulator with a loop of its own keeps copies of the setpoint and of the mode, whatever it speaks.
func TestCopiesOfSettingsOverHTTP(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Linked("shed", client.Link{Kind: site.HTTP})
	sign := []string{"-u", "shed:" + key, "-H", "Content-Type: application/json"}
	saveSetting(r, site.Setting{ID: "shed.setpoint", Kind: site.SetNumber, Min: 5, Max: 40, Default: 20, Mirror: "sp"})
	saveSetting(r, site.Setting{ID: "shed.works", Kind: site.SetChoice, Options: []string{"auto", "manual"},
		Mirror: "mode"})
	_, body := push(r, "shed", append(sign, "-d", `{"temperature":19}`)...)
	assert.Contains(t, body, `"set":{"mode":{"v":"auto","rev":0},"sp":{"v":20,"rev":0}}`)
	rev := between(body, `"rev":"`, `"`)
	answer := make(chan string, 1)
	go func() {
		_, body := push(r, "shed/wants?wait=30&rev="+rev, sign...)
		answer <- body
	}()
	set(r, "shed.setpoint", 24)
	assert.Contains(t, <-answer, `"sp":{"v":24,"rev":1}`, "a change ends the long poll")
	_, body = push(r, "shed", append(sign, "-H", "Accept: text/plain", "-d",
		`{"has":{"sp":{"v":17.5,"rev":1,"age":3},"mode":{"v":"manual","rev":0,"age":3}}}`)...)
	assert.Contains(t, body, "set.mode=manual,1\nset.sp=17.5,2\n")
	assert.Equal(t, "17.5", valueOf(r, "shed.setpoint"))
	assert.Equal(t, "manual", valueOf(r, "shed.works"))
	assert.Contains(t, strings.Join(r.Journal("shed.works"), "\n"), "auto>manual")
	for _, bad := range []string{`{"has":{"sp":17}}`, `{"has":{"sp":{"v":1,"rev":1,"age":-1}}}`, `{"has.sp":"17"}`,
		`{"has.sp":"99,1,1"}`, `{"has.other":"1,1,1"}`} {
		status, body := push(r, "shed", append(sign, "-d", bad)...)
		assert.Equal(t, "422", status, body)
	}
	assert.Equal(t, "17.5", valueOf(r, "shed.setpoint"))
}

func TestCopiesOfSettingsInLinesAndDatagrams(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Linked("shed", client.Link{Kind: site.UDP})
	s := &scale{}
	var err error
	s.l, err = net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer func() { _ = s.l.Close() }()
	go s.run()
	r.Linked("stove", client.Link{Kind: site.Lines, Address: s.l.Addr().String()})
	for _, device := range []string{"shed", "stove"} {
		saveSetting(r, site.Setting{ID: device + ".setpoint", Kind: site.SetNumber, Min: 5, Max: 40, Default: 20,
			Mirror: "sp"})
	}
	host, port, _ := strings.Cut(r.Service.UDP, ":")
	board := r.Start("sh", "-c", fmt.Sprintf("(echo 'k=%s t1=5'; sleep 0.5; echo 'k=%s has.sp=18,0,2'; sleep 20) | "+
		"socat - UDP:%s:%s", key, key, host, port))
	r.Soon("the board hears the setpoint", func() bool { return strings.Contains(board.String(), "set.sp=20,0") })
	r.Soon("its knob counts", func() bool { return valueOf(r, "shed.setpoint") == "18" })
	set(r, "shed.setpoint", 21.5)
	r.Soon("and a change comes to it", func() bool { return strings.Contains(board.String(), "set.sp=21.5,2") })

	s.say(t, "has.sp=12,0,1\n")
	r.Soon("changed at the stove", func() bool { return valueOf(r, "stove.setpoint") == "12" })
	set(r, "stove.setpoint", 23)
	r.Soon("and told as a line", func() bool {
		s.mu.Lock()
		defer s.mu.Unlock()
		return strings.Contains(strings.Join(s.heard, "|"), "set.sp=20,0|") && strings.Contains(strings.Join(s.heard, "|"),
			"set.sp=23,2")
	})
}

// A panel writes a setting and reads it back.
func TestPanelSetsASetting(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	r.Device("kiln")
	saveSetting(r, site.Setting{ID: "kiln.setpoint", Kind: site.SetNumber, Min: 5, Max: 40, Default: 20})
	addr := rig.FreePort(t)
	host, port, _ := strings.Cut(addr, ":")
	_, err := r.Owner.Panel().Put(t.Context(), site.Panel{On: true, Address: addr, Allow: []string{"127.0.0.0/8"},
		Points: []site.Point{
			{ID: "kiln.setpoint", Register: client.Register{Table: site.Holding, Address: 7, Type: "s16", Scale: 0.1},
				Write: true}}}, "")
	require.NoError(t, err)
	mb := func(args ...string) string {
		out, _ := r.Run("mbpoll", append([]string{"-0", "-1", "-q", "-p", port, "-t", "4", "-r", "7", host}, args...)...)
		return out
	}
	r.Soon("read", func() bool { return strings.Contains(mb(), "[7]: \t200") })
	assert.Contains(t, mb("235"), "Written 1")
	assert.Equal(t, "23.5", valueOf(r, "kiln.setpoint"))
	assert.Contains(t, mb("990"), "Illegal data value")
	assert.Contains(t, mb(), "[7]: \t235")
	assert.Contains(t, strings.Join(r.Journal("kiln.setpoint"), "\n"), "the panel set 20>23.5")
}
