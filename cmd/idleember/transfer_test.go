package main

import (
	"fmt"
	"image/png"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	paho "github.com/eclipse/paho.mqtt.golang"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/tests"
)

// kiln is a hub in a process of its own, and a board that has sent its first readings to it.
func kiln(t *testing.T) (*process, paho.Client) {
	p := newProcess(t)
	p.start()
	p.setUp()
	id, key := p.device("Kiln")
	board, err := p.board(id, key)
	require.NoError(t, err)
	board.Publish("ember/kiln/r", 1, false, `{"chamber":20.5,"damp":50}`).Wait()
	return p, board
}

// Readings go out to a file and come in again, from our own forms and from somebody else's; the store is checked.
func TestExportImportAndCheck(t *testing.T) {
	t.Parallel()
	p, board := kiln(t)
	dir := t.TempDir()
	run := func(exit int, args ...string) string {
		out, got := p.cli(args...)
		require.Equal(t, exit, got, "%v: %s", args, out)
		return out
	}
	other := filepath.Join(dir, "old.csv")
	require.NoError(t, os.WriteFile(other, []byte("Date;Temp (C);RH;Note\n20.11.2026 10:00;21,5;50;x\nyesterday;1;2;\n20.11.2026 10:01;wet;51;\n20.11.2026 10:02;-0,25;\"52\";\na\"b;1;2;\n"), 0o600))
	assert.Contains(t, run(1, "import", other, "--time", "Day"), "no column is the time; the columns are Date, Temp (C), RH, Note; tell which with --time")
	assert.Contains(t, run(1, "import", other, "--time", "Date"), "no column is a series; the columns are Date, Temp (C), RH, Note")
	mapped := []string{"import", other, "--time", "Date", "--layout", "02.01.2006 15:04", "--comma", "--map", "Temp (C)=kiln.chamber", "--map", "RH=kiln.damp"}
	out := run(0, mapped...)
	for _, say := range []string{`"Note"`, `line 3: the time "yesterday" is not written as`, "line 4: kiln.chamber is wet; expected a value of the kind number", "line 6: bare \"", "Stored 5 readings. 3 could not be taken."} {
		assert.Contains(t, out, say)
	}
	assert.NotContains(t, run(0, mapped...), "in the place of", "again: nothing changes")
	assert.Contains(t, run(0, append(mapped, "--from-line", "5")...), "Stored 2 readings")

	files := map[string]string{}
	for _, form := range []string{"wide", "long", "jsonl", "senml"} {
		files[form] = filepath.Join(dir, form+map[string]string{"wide": ".csv.gz", "long": ".csv", "jsonl": ".jsonl", "senml": ".senml"}[form])
		run(0, "export", "kiln.chamber", "kiln.damp", "--form", form, "--file", files[form])
	}
	before := run(0, "export", "kiln.chamber", "kiln.damp")
	assert.True(t, strings.HasPrefix(before, "t,kiln.chamber,kiln.damp\n2026-11-20T09:00:00.000Z,21.5,50\n2026-11-20T09:01:00.000Z,,51\n"), before)
	assert.Contains(t, run(0, "delete-readings", "kiln.chamber", "--from", "2026-11-20", "--to", "2026-11-21"), "Deleted 2 readings")
	assert.Equal(t, 2, strings.Count(run(0, "export", "kiln.chamber"), "\n"), "the header and what is live")
	for form, file := range files {
		run(0, "delete-readings", "kiln.damp", "--from", "2026-11-20", "--to", "2026-11-21")
		run(0, "import", file)
		assert.Equal(t, before, run(0, "export", "kiln.chamber", "kiln.damp"), form)
	}
	assert.Contains(t, run(0, "storage"), "kiln.chamber")
	assert.Contains(t, run(0, "storage", "tidy"), "Let go of 0 readings")
	made := strings.Fields(run(0, "backups", "make"))[0]
	assert.Contains(t, run(0, "backups"), made)
	assert.Contains(t, run(0, "backups", "drill"), "restored and verified")
	assert.Contains(t, run(1, "backups", "fetch", made), "there is no backup called")

	// Several series at once: as tables, as CSV with a column that says which, in buckets, as a picture.
	stretch := []string{"history", "kiln.chamber", "kiln.damp", "--from", "2026-11-20", "--to", "2026-11-21"}
	assert.Regexp(t, `(?s)kiln.chamber, Chamber\n.*21.5.*kiln.damp, Damp\n.*52`, run(0, stretch...))
	assert.Contains(t, run(0, append(stretch, "--output", "csv", "--every", "6h")...), "kiln.damp,2026-11-20T05:00:00.000Z,51,50,52,3,")
	assert.Contains(t, run(2, append(stretch, "--every", "1s")...), "makes no buckets of 24h0m0s")
	drawn := filepath.Join(dir, "drawn.png")
	assert.Contains(t, run(0, append(stretch, "--png", drawn)...), "Drew")
	f, err := os.Open(drawn)
	require.NoError(t, err)
	defer func() { _ = f.Close() }()
	picture, err := png.Decode(f)
	require.NoError(t, err)
	ink := 0
	for x := range picture.Bounds().Dx() {
		for y := range picture.Bounds().Dy() {
			if r, g, b, _ := picture.At(x, y).RGBA(); r>>8 == 0x2f && g>>8 == 0x5f && b>>8 == 0x8a {
				ink++
			}
		}
	}
	assert.Greater(t, ink, 50, "a line is drawn")
	assert.Contains(t, run(1, "export", "kiln.chambr"), "did you mean kiln.chamber?")
	assert.Contains(t, run(2, "export", "kiln.chamber", "--form", "clay"), "use wide, long, jsonl or senml")

	check := func() (string, error) {
		b, err := exec.Command(binary, "check", "--data", p.dir, "--http", "127.0.0.1:0", "--mqtt", "127.0.0.1:0", "--mqtts", "", "--udp", "").CombinedOutput()
		return string(b), err
	}
	out, err = check()
	require.NoError(t, err, "while it runs: %s", out)
	board.Disconnect(100)
	p.kill()
	out, err = check()
	require.NoError(t, err, out)
	assert.Contains(t, out, "All is well")
}

// Whenever the hub is killed while a file is brought in, what it said was stored is there, and the rest comes with the next try.
func TestKilledWhileReadingsComeIn(t *testing.T) {
	t.Parallel()
	p, board := kiln(t)
	board.Disconnect(100)
	const lines = 150_000
	var text strings.Builder
	text.WriteString("t,kiln.chamber\n")
	for i := range lines {
		_, _ = fmt.Fprintf(&text, "%d,%d.%d\n", 1_700_000_000_000+int64(i)*5000, i%40, i%10)
	}
	file := filepath.Join(t.TempDir(), "old.csv")
	require.NoError(t, os.WriteFile(file, []byte(text.String()), 0o600))
	for try := range tests.Count(t, 2, 10) {
		killed := make(chan struct{})
		go func() {
			defer close(killed)
			time.Sleep(time.Duration(100+rand.IntN(500)) * time.Millisecond)
			p.kill()
		}()
		out, _ := p.cli("import", file)
		<-killed
		p.start()
		stored := 0
		if i := strings.Index(out, "Stored "); i >= 0 {
			_, _ = fmt.Sscanf(out[i:], "Stored %d", &stored)
		}
		have, exit := p.cli("export", "kiln.chamber", "--to", "2026-01-01")
		require.Zero(t, exit, have)
		assert.GreaterOrEqual(t, strings.Count(have, "\n")-1, stored, "try %d: %s", try, out)
	}
	out, exit := p.cli("import", file)
	require.Zero(t, exit, out)
	have, _ := p.cli("export", "kiln.chamber", "--to", "2026-01-01")
	assert.Equal(t, lines+1, strings.Count(have, "\n"))
	p.kill()
	checked, err := exec.Command(binary, "check", "--data", p.dir, "--http", "127.0.0.1:0", "--mqtt", "127.0.0.1:0", "--mqtts", "", "--udp", "").CombinedOutput()
	require.NoError(t, err, string(checked))
}
