package main

import (
	"encoding/json"
	"fmt"
	"image/png"
	"math"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	paho "github.com/eclipse/paho.mqtt.golang"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/store"
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
	require.NoError(t, os.WriteFile(other, []byte("Date;Temp (C);RH;Note\n20.11.2026 10:00;21,5;50;x\nyesterday;1;2;\n"+
		"20.11.2026 10:01;wet;51;\n20.11.2026 10:02;-0,25;\"52\";\na\"b;1;2;\n"), 0o600))
	assert.Contains(t, run(1, "import", other, "--time", "Day"),
		"no column is the time; the columns are Date, Temp (C), RH, Note; tell which with --time")
	assert.Contains(t, run(1, "import", other, "--time", "Date"),
		"no column is a series; the columns are Date, Temp (C), RH, Note")
	mapped := []string{"import", other, "--time", "Date", "--layout", "02.01.2006 15:04", "--comma", "--map",
		"Temp (C)=kiln.chamber", "--map", "RH=kiln.damp"}
	assert.Contains(t, run(1, append(mapped, "--dry-run")...), "Would store 5 readings. 3 could not be taken.")
	out := run(1, mapped...)
	for _, say := range []string{`"Note"`, `line 3: the time "yesterday" is not written as`,
		"line 4: kiln.chamber is wet; expected a value of the kind number", "line 6: bare \"",
		"Stored 5 readings. 3 could not be taken."} {
		assert.Contains(t, out, say)
	}
	assert.NotContains(t, run(1, mapped...), "in the place of", "again: nothing changes")
	assert.Contains(t, run(1, append(mapped, "--from-line", "5")...), "Stored 2 readings")

	files := map[string]string{}
	for _, form := range []string{"wide", "long", "jsonl", "senml"} {
		files[form] = filepath.Join(dir, form+map[string]string{"wide": ".csv.gz", "long": ".csv", "jsonl": ".jsonl",
			"senml": ".senml"}[form])
		run(0, "export", "kiln.chamber", "kiln.damp", "--form", form, "--file", files[form])
	}
	before := run(0, "export", "kiln.chamber", "kiln.damp")
	assert.True(t, strings.HasPrefix(before, "t,kiln.chamber,kiln.damp,marks\n2026-11-20T09:00:00.000Z,21.5,50,\n"+
		"2026-11-20T09:01:00.000Z,,51,\n"), before)
	assert.Contains(t, run(0, "delete-readings", "kiln.chamber", "--from", "2026-11-20", "--to", "2026-11-21"),
		"Deleted 2 readings")
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
	assert.Contains(t, run(0, append(stretch, "--output", "csv", "--every", "6h")...),
		"kiln.damp,2026-11-20T05:00:00.000Z,51,50,52,3,")
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
		b, err := exec.Command(binary, "check", "--data", p.dir, "--http", "127.0.0.1:0", "--mqtt", "127.0.0.1:0", "--mqtts",
			"", "--udp", "").CombinedOutput()
		return string(b), err
	}
	out, err = check()
	require.NoError(t, err, "while it runs: %s", out)
	assert.Contains(t, out, p.http+", "+p.mqtt+" are answered by the hub that is running",
		"it looks where this hub listens, whatever it is told")
	board.Disconnect(100)
	p.kill()
	out, err = check()
	require.NoError(t, err, out)
	assert.Contains(t, out, "All is well")
}

// Files as others write them are read as they are meant, or what is not clear in them is told with its line.
func TestImportAsksOrRefuses(t *testing.T) {
	t.Parallel()
	p, board := kiln(t)
	board.Publish("ember/kiln/r/note", 1, false, "dry").Wait()
	board.Disconnect(100)
	run := func(exit int, args ...string) string {
		t.Helper()
		out, got := p.cli(args...)
		require.Equal(t, exit, got, "%v: %s", args, out)
		return out
	}
	file := filepath.Join(t.TempDir(), "log.csv")
	for _, x := range []struct {
		name, text string
		args       []string
		exit       int
		say        []string
		want       string // of the chamber's readings
	}{
		{"a quote that is not closed", "t,kiln.chamber,kiln.note\n2026-03-02T09:00Z,1,\"wet\n2026-03-02T09:01Z,2,dry\n" +
			"2026-03-02T09:02Z,3,\"dry\"\n", nil, 1,
			[]string{"line 2: ", "whether each quote is closed", "Stored 4 readings. 1 could not"}, "09:01:00 2, 09:02:00 3"},
		{"two of them", "t,kiln.chamber,kiln.note\n2026-03-02T09:00Z,1,\"wet\n2026-03-02T09:01Z,2,dry\"\n" +
			"2026-03-02T09:02Z,3,dry\n", nil, 1,
			[]string{"line 2: extraneous", "line 3: bare", "Stored 2 readings"}, "09:02:00 3"},
		{"lines of other lengths", "t,kiln.chamber\n2026-03-02T09:00Z,1\n2026-03-02T09:01Z\n2026-03-02T09:02Z,2,3\n", nil, 1,
			[]string{"line 3: it has 1 cells, and the header has 2", "line 4: it has 3"}, "09:00:00 1"},
		{"hours that come twice", "t,kiln.chamber\n2026-10-25 01:30,1\n2026-10-25 02:30,2\n2026-10-25 03:30,3\n2026-03-29 " +
			"02:30,4\n", []string{"--zone", "Europe/Berlin"}, 1,
			[]string{"line 3: the time 2026-10-25 02:30:00 was shown twice in Europe/Berlin",
				"line 5: the time 2026-03-29 02:30:00 was never shown"}, "2026-10-24 23:30:00 1, 2026-10-25 02:30:00 3"},
		{"a zone of its own", "t,kiln.chamber\n2026-10-25 02:30,2\n", []string{"--zone", "+02:00"}, 0, nil,
			"2026-10-25 00:30:00 2"},
		{"date and time", "date,time,kiln.chamber\n2026-03-02,09:00,1\n2026-03-02,09:01:30,2\n", []string{"--zone", "UTC"}, 0,
			[]string{"Stored 2"}, "09:00:00 1, 09:01:30 2"},
		{"several times", "time,timestamp,kiln.chamber\n1,1,1\n", nil, 1,
			[]string{"several columns may be the time: time, timestamp; tell which with --time"}, ""},
		{"years", "t,kiln.chamber\n2025,1\n20260302,2\n202603020900,3\n", nil, 1,
			[]string{`line 2: the time "2025" may be a year`, `line 3: the time "20260302" may`,
				`line 4: the time "202603020900" may`, "nothing was stored"}, ""},
		{"years as they are meant", "t,kiln.chamber\n2025,1\n", []string{"--layout", "2006", "--zone", "UTC"}, 0, nil,
			"2025-01-01 00:00:00 1"},
		{"columns of their own for the parts", "year,month,day,kiln.chamber\n2026,3,2,1\n", []string{"--time",
			"year+month+day", "--layout", "2006 1 2", "--zone", "UTC"}, 0, nil, "00:00:00 1"},
		{"numbers before 1973", "t,kiln.chamber\n-86400,1\n86400,2\n", []string{"--layout", "unix"}, 0, nil,
			"1969-12-31 00:00:00 1, 1970-01-02 00:00:00 2"},
		{"a long file by another column", "t,sensor,reading\n2026-03-02T09:00Z,s1,1\n2026-03-02T09:00Z,s2,50\n" +
			"2026-03-02T09:00Z,s3,7\n", []string{"--series-column", "sensor", "--value-column", "reading", "--map",
			"s1=kiln.chamber", "--map", "s2=kiln.damp"}, 1,
			[]string{`line 4: there is no series "s3"`, "Stored 2"}, "09:00:00 1"},
		{"a long file that is not told", "t,sensor,kiln.chamber\n2026-03-02T09:00Z,s1,1\n2026-03-02T09:00Z,s2,50\n", nil, 1,
			[]string{"line 3: kiln.chamber is 50 at 2026-03-02T09:00:00.000Z, and 1 on line 2; say with --series-column"},
			"09:00:00 1"},
		{"no header", "2026-03-02T09:00Z,1,x,2\n", nil, 1, []string{"line 1 is no header", "--columns"}, ""},
		{"columns that are told", "2026-03-02T09:00Z,1,x,2\n", []string{"--columns", "t,kiln.chamber,-,kiln.damp"}, 0,
			[]string{"Stored 2"}, "09:00:00 1"},
		{"a byte order mark, sep=, a comment, decimal commas",
			"\ufeffsep=;\n# made up\nt;kiln.chamber\n2026-03-02 09:00:00+00:00;1,5\n2026-03-02T09:01:00Z;1,250\n", nil, 1,
			[]string{"line 5: ", "1,250 can be 1.250 or 1250"}, "09:00:00 1.5"},
		{"not UTF-8", "t,kiln.note,kiln.chamber\n2026-03-02T09:00Z,w\xe4rm,1\n", nil, 1, []string{"line 2: kiln.note",
			"is not UTF-8"}, "09:00:00 1"},
		{"UTF-16", "\xff\xfet\x00", nil, 1, []string{"save it as UTF-8"}, ""},
		{"a zone that is none", "t,kiln.chamber\n", []string{"--zone", "Mars"}, 2, []string{`there is no zone "Mars"`}, ""},
		{"a token for no series", `{"series":"kiln.chamber","t":"2026-03-02T09:00Z","v":1}` + "\n" +
			`{"series":"kiln.x","t":"2026-03-02T09:00Z","v":1}` + "\n" +
			`{"series":"kiln.chamber","t":"2026-03-02T09:01Z","v":2,"q":"odd"}` + "\n", []string{"--form", "jsonl"}, 1,
			[]string{`line 2: there is no series "kiln.x"`, `line 3: "odd" is no quality`}, "09:00:00 1"},
		{"JSON as tables write it", `{"time":1772442000000,"kiln.chamber":1.5,"kiln.note":null,"x":1}` + "\n" +
			`{"time":1772442060000,"kiln.chamber":2}` + "\n", []string{"--form", "jsonl"}, 1,
			[]string{`line 1: there is no series "x"`, "Stored 2"}, "09:00:00 1.5, 09:01:00 2"},
		{"a file that breaks off", `[{"n":"kiln.chamber","t":1772442000,"v":1},{"n":"kiln.cham`, []string{"--form", "senml"},
			1, []string{"record 2: the JSON breaks off", "Stored 1 readings"}, "09:00:00 1"},
		{"values that are none", `{"series":"kiln.chamber","t":"2026-03-02T09:00Z","v":[1]}` + "\n" +
			`{"series":"kiln.chamber","t":"2026-03-02T09:00Z","v":[2]}` + "\n" + `{"t":"2026-03-02T09:00Z","kiln.chamber":{}}` +
			"\n" + `{"t":"2026-03-02T09:00Z","kiln.chamber":3}` + "\n", []string{"--form", "jsonl"}, 1,
			[]string{"line 1: ", "line 2: ", "line 3: kiln.chamber has no plain value", "Stored 1"}, "09:00:00 3"},
		{"a series twice", "t,kiln.chamber,kiln.chamber\n2026-03-02T09:00Z,1,2\n", nil, 1,
			[]string{"two columns, kiln.chamber and kiln.chamber, are kiln.chamber"}, ""},
		{"SenML without times", `[{"n":"kiln.chamber","v":1},{"n":"kiln.chamber","t":5,"v":1},{"n":"kiln.chamber","t":1772442000,"v":1}]`, []string{"--form", "senml"}, 1, []string{"line 1: kiln.chamber has no time", "line 2: kiln.chamber has a time below 2^28"}, "09:00:00 1"},
	} {
		require.NoError(t, os.WriteFile(file, []byte(x.text), 0o600))
		out := run(x.exit, append([]string{"import", file}, x.args...)...)
		for _, say := range x.say {
			assert.Contains(t, out, say, x.name)
		}
		var got []string
		for _, line := range strings.Split(run(0, "export", "kiln.chamber", "--to", "2026-11-01"), "\n")[1:] {
			if cells := strings.Split(line, ","); len(cells) > 1 {
				at := strings.NewReplacer("T", " ", ".000Z", "", "2026-03-02T", "").Replace(cells[0])
				got = append(got, at+" "+cells[1])
			}
		}
		assert.Equal(t, x.want, strings.Join(got, ", "), x.name)
		for _, series := range []string{"kiln.chamber", "kiln.damp", "kiln.note"} {
			run(0, "delete-readings", series, "--from", "1900-01-02", "--to", "2026-11-01")
		}
	}
}

// What was exported comes back bit for bit, in every form, whatever numbers and texts there are, of times on both sides
// of 1970.
func TestEveryFormBringsEverythingBack(t *testing.T) {
	t.Parallel()
	p, board := kiln(t)
	board.Publish("ember/kiln/r", 1, false, `{"note":"dry","lid":true}`).Wait()
	board.Disconnect(100)
	seed := rand.Uint64()
	rnd := rand.New(rand.NewPCG(seed, 1))
	pick := func(of ...string) string { return of[rnd.IntN(len(of))] }
	number := func() string {
		v := math.Float64frombits(rnd.Uint64())
		if math.IsNaN(v) || math.IsInf(v, 0) || rnd.IntN(3) == 0 {
			return pick("-0", "0", "5e-324", "1.7976931348623157e308", "-21.40", "1e21", "0.1")
		}
		return strconv.FormatFloat(v, 'g', -1, 64)
	}
	words := func() string {
		return pick("NaN", "21.40", "1e3", "-5", "+x", "=1+1", "'", "''", "'=x", "'tis", "", " ", " x ", "on", "TRUE", "null",
			"1,5", "a;b", `say "no`, "тепло", "🔥", "#1", "-", "2026", "@x", "\u00a0", "marks=bad 1; x", strings.Repeat("ä", 100))
	}
	for range tests.Count(t, 2, 20) {
		var lines strings.Builder
		for i := range 300 {
			from := []int64{store.Earliest, -1_000_000_000_000, 0, 90_000_000_000, 270_000_000_000, 1_700_000_000_000}[i%6]
			at := time.UnixMilli(from + rnd.Int64N(86_400_000*300)).UTC().Format("2006-01-02T15:04:05.000Z")
			var more string
			if rnd.IntN(3) == 0 {
				more = `,"q":"` + pick("bad", "suspect") + `","raw":` + number()
			}
			note, err := json.Marshal(words())
			require.NoError(t, err)
			for series, v := range map[string]string{"kiln.chamber": number(), "kiln.note": string(note),
				"kiln.lid": pick("true", "false")} {
				_, _ = fmt.Fprintf(&lines, `{"series":%q,"t":%q,"v":%s%s}`+"\n", series, at, v, more)
			}
		}
		file := filepath.Join(t.TempDir(), "made.jsonl")
		require.NoError(t, os.WriteFile(file, []byte(lines.String()), 0o600))
		out, exit := p.cli("import", file)
		require.Zero(t, exit, "seed %d: %s", seed, out)
		all := []string{"kiln.chamber", "kiln.note", "kiln.lid"}
		for _, form := range []string{"wide", "long", "jsonl", "senml"} {
			from := "1900-01-02"
			if form == "senml" {
				from = "1978-07-05"
				out, exit := p.cli(append([]string{"export", "--form", form}, all...)...)
				require.Equal(t, 1, exit)
				require.Contains(t, out, "SenML has no times before 4 July 1978")
			}
			export := func(form string) string {
				out, exit := p.cli(append([]string{"export", "--form", form, "--from", from, "--to", "2026-11-01"}, all...)...)
				require.Zero(t, exit, out)
				return out
			}
			before, written := export("jsonl"), filepath.Join(t.TempDir(), "written")
			require.Greater(t, strings.Count(before, "\n"), 250)
			require.NoError(t, os.WriteFile(written, []byte(export(form)), 0o600))
			for _, series := range all {
				out, exit := p.cli("delete-readings", series, "--from", from, "--to", "2026-11-01")
				require.Zero(t, exit, out)
			}
			out, exit := p.cli("import", written, "--form", map[string]string{"wide": "csv",
				"long": "csv"}[form]+map[string]string{"jsonl": "jsonl", "senml": "senml"}[form])
			require.Zero(t, exit, "seed %d: %s", seed, out)
			after := strings.Split(export("jsonl"), "\n")
			for i, line := range strings.Split(before, "\n") {
				require.Equal(t, line, after[i], "seed %d, %s", seed, form)
			}
		}
	}
}

// Whenever the hub is killed while a file is brought in, what it said was stored is there, and the rest comes with the
// next try.
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
	checked, err := exec.Command(binary, "check", "--data", p.dir, "--http", "127.0.0.1:0", "--mqtt", "127.0.0.1:0",
		"--mqtts", "", "--udp", "").CombinedOutput()
	require.NoError(t, err, string(checked))
}
