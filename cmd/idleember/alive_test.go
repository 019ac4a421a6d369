package main

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
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

// That the hub died is noticed elsewhere: a broker has its last will, and a sign of life that came each minute does
// not.
func TestADeadHubIsNoticedElsewhere(t *testing.T) {
	t.Parallel()
	p := newProcess(t)
	p.start()
	p.setUp()
	addr := port(t)
	host, number, _ := strings.Cut(addr, ":")
	conf := filepath.Join(t.TempDir(), "broker.conf")
	require.NoError(t, os.WriteFile(conf, []byte(fmt.Sprintf("listener %s %s\nallow_anonymous true\n", number, host)),
		0o600))
	broker := exec.Command("/usr/sbin/mosquitto", "-c", conf)
	require.NoError(t, broker.Start())
	t.Cleanup(func() { _ = broker.Process.Kill(); _ = broker.Wait() })
	retained := func() string {
		out, _ := exec.Command("mosquitto_sub", "-h", host, "-p", number, "-t", "studio/hub", "-C", "1", "-W", "2").Output()
		return strings.TrimSpace(string(out))
	}
	out, code := p.cli("brokers", "save", "House", "--address", "mqtt://"+addr, "--alive", "ember/x")
	assert.NotZero(t, code)
	assert.Contains(t, out, "no topic for the hub's own presence")
	out, code = p.cli("brokers", "save", "House", "--address", "mqtt://"+addr, "--alive", "studio/hub")
	require.Zero(t, code, out)
	rig.Soon(t, "online", func() bool { return retained() == "online" })
	beats := make(chan string, 100)
	watch := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		b, _ := io.ReadAll(r.Body)
		beats <- string(b)
	}))
	defer watch.Close()
	out, code = p.cli("tokens", "add", "watch", "--scope", "configure", "--output", "json")
	require.Zero(t, code, out)
	var made struct{ Token string }
	require.NoError(t, json.Unmarshal([]byte(out), &made))
	status, got := rig.JSON(t, http.DefaultClient, "PUT", "http://"+p.http+"/api/v1/messaging",
		fmt.Sprintf(`{"alive":{"via":"webhook","to":%q,"every_ms":60000}}`, watch.URL), "Authorization", "Bearer "+made.Token)
	require.Equal(t, 200, status, got)
	select {
	case b := <-beats:
		assert.Contains(t, b, "idleember.alive")
	case <-time.After(20 * time.Second):
		t.Fatal("no sign of life")
	}
	p.kill()
	rig.Soon(t, "offline", func() bool { return retained() == "offline" })
}
