package main

import (
	"bytes"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	paho "github.com/eclipse/paho.mqtt.golang"
	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/store"
	"idleember/tests/rig"
)

// On a disk that is full readings are refused with the reason; looking, switching and the journal go on out of a
// reserve; when there is room again so do readings, by themselves. The disk is one of 40 MB that only this hub sees.
func TestAFullDisk(t *testing.T) {
	t.Parallel()
	p := newProcess(t)
	small := []string{"unshare", "-rm", "sh", "-c", `mount -t tmpfs -o size=40m none "$1" && shift && exec "$@"`, "sh",
		p.dir}
	if b, err := exec.Command("unshare", "-rm", "true").CombinedOutput(); err != nil {
		t.Skipf("no disk of its own is to be had here: %s", b)
	}
	p.start(small...)
	inside := fmt.Sprintf("/proc/%d/root%s", p.cmd.Process.Pid, p.dir)
	code, err := os.ReadFile(filepath.Join(inside, "setup-code"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(p.dir, "setup-code"), code, 0o600))
	p.setUp()
	id, key := p.device("Kiln")
	push := func(v int) (int, string) {
		q, err := http.NewRequestWithContext(t.Context(), "POST", "http://"+p.http+"/push/"+id,
			strings.NewReader(fmt.Sprintf(`{"chamber":%d}`, v)))
		require.NoError(t, err)
		q.Header.Set("Content-Type", "application/json")
		q.SetBasicAuth(id, key)
		resp, err := http.DefaultClient.Do(q)
		require.NoError(t, err)
		defer func() { _ = resp.Body.Close() }()
		b, _ := io.ReadAll(resp.Body)
		return resp.StatusCode, string(b)
	}
	status, text := push(1)
	require.Less(t, status, 300, text)
	board, err := p.board(id, key)
	require.NoError(t, err)
	wants := make(chan string, 100)
	require.True(t, board.Subscribe("ember/kiln/want/fan", 1, func(_ paho.Client, m paho.Message) {
		wants <- string(m.Payload())
		board.Publish("ember/kiln/is/fan", 1, false, m.Payload())
	}).WaitTimeout(20*time.Second))
	board.Publish("ember/kiln/is/fan", 1, false, "off").Wait()

	filler, err := os.Create(filepath.Join(inside, "filler"))
	require.NoError(t, err)
	block := bytes.Repeat([]byte("clay"), 256)
	for err == nil {
		_, err = filler.Write(block)
	}
	_ = filler.Close()
	taken := 1 // the newest that was acknowledged
	rig.Soon(t, "readings are refused", func() bool {
		status, text = push(taken + 1)
		if status < 300 {
			taken++
		}
		return status == 503
	})
	assert.Contains(t, text, "the disk is full; make room on it")
	ready, err := http.Get("http://" + p.http + "/readyz")
	require.NoError(t, err)
	_ = ready.Body.Close()
	assert.Equal(t, 503, ready.StatusCode)
	for i := range 40 { // more than once round the reserve's first pages
		to := []string{"on", "off"}[i%2]
		out, exit := p.cli("switch", "kiln.fan", to)
		require.Zero(t, exit, out)
	}
	assert.GreaterOrEqual(t, len(wants), 40)
	out, exit := p.cli("journal", "kiln.fan", "--output", "csv", "--limit", "100")
	require.Zero(t, exit, out)
	assert.GreaterOrEqual(t, strings.Count(out, ",switch,"), 40)
	out, exit = p.cli("now")
	require.Zero(t, exit, out)
	assert.Regexp(t, fmt.Sprintf(`Chamber +%d `, taken+1), out, "what cannot be kept is still looked at and decided upon")
	status, _ = push(taken + 1)
	assert.Equal(t, 503, status, "still")

	require.NoError(t, os.Remove(filepath.Join(inside, "filler")))
	rig.Soon(t, "readings are taken again", func() bool { status, text = push(taken + 1); return status < 300 })
	rig.Soon(t, "and the reserve is there again", func() bool {
		info, err := os.Stat(filepath.Join(inside, "reserve"))
		return err == nil && info.Size() > 1<<20
	})
	copied := t.TempDir()
	for _, name := range []string{store.File, store.File + "-wal"} {
		b, err := os.ReadFile(filepath.Join(inside, name))
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(copied, name), b, 0o600))
	}
	db, err := sqlx.Open("sqlite", "file:"+filepath.Join(copied, store.File))
	require.NoError(t, err)
	defer func() { _ = db.Close() }()
	var said string
	require.NoError(t, db.Get(&said, `PRAGMA integrity_check`))
	assert.Equal(t, "ok", said)
	out, exit = p.cli("history", "kiln.chamber", "--output", "csv", "--from", "1h")
	require.Zero(t, exit, out)
	assert.Equal(t, taken+2, strings.Count(out, "\n"),
		"each that was acknowledged, none that was refused, and a header:\n%s", out)
}
