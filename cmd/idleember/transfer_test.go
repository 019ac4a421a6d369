package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Readings go out to a file and come in again, from our own forms and from somebody else's; the store is checked.
func TestExportImportAndCheck(t *testing.T) {
	t.Parallel()
	p := newProcess(t)
	p.start()
	p.setUp()
	id, key := p.device("Kiln")
	board, err := p.board(id, key)
	require.NoError(t, err)
	board.Publish("ember/kiln/r", 1, false, `{"chamber":20.5,"damp":50}`).Wait()
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
	assert.Contains(t, run(1, "export", "kiln.chambr"), "did you mean kiln.chamber?")
	assert.Contains(t, run(2, "export", "kiln.chamber", "--form", "clay"), "use wide, long, jsonl or senml")

	check := func() (string, error) {
		b, err := exec.Command(binary, "check", "--data", p.dir).CombinedOutput()
		return string(b), err
	}
	out, err = check()
	require.Error(t, err)
	assert.Contains(t, out, "in use by another hub")
	board.Disconnect(100)
	p.kill()
	out, err = check()
	require.NoError(t, err, out)
	assert.Contains(t, out, "All is well")
}
