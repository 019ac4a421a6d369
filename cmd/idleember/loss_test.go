package main

import (
	"bufio"
	"context"
	"encoding/hex"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	paho "github.com/eclipse/paho.mqtt.golang"
	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/client"
	"idleember/core/site"
	"idleember/store"
	"idleember/tests"
	"idleember/tests/rig"
)

// ledger keeps what the hub was asked for and what it said yes to.
type ledger struct {
	mu     sync.Mutex
	next   map[string]int
	asked  map[string]int          // the newest, of what each takes the place of the one before
	yes    map[string]int          // the newest that was answered
	all    map[string]map[int]bool // everything that was answered, of what stays beside each other
	copies []string                // backups
}

// try asks for the next of a kind, and notes whether the answer was yes.
func (l *ledger) try(kind string, f func(n int) error) bool {
	l.mu.Lock()
	l.next[kind]++
	n := l.next[kind]
	l.asked[kind] = n
	l.mu.Unlock()
	if f(n) != nil {
		return false
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.yes[kind] = max(l.yes[kind], n)
	if l.all[kind] == nil {
		l.all[kind] = map[int]bool{}
	}
	l.all[kind][n] = true
	return true
}

// within asserts that what is there of a kind is the newest that was answered, or one that was asked for after it.
func (l *ledger) within(t *testing.T, kind string, have, round int) {
	assert.GreaterOrEqual(t, have, l.yes[kind], "round %d: the answered %s is there", round, kind)
	assert.LessOrEqual(t, have, l.asked[kind], "round %d: %s", round, kind)
}

// kiln adds a device, and returns its key, a client that is signed in as the owner, and the device's connection.
func (p *process) kiln() (id, key string, owner *client.Remote, board paho.Client) {
	id, key = p.device("Kiln")
	owner, err := client.New("http://"+p.http, "")
	require.NoError(p.t, err)
	_, err = owner.SignInWithResponse(p.t.Context(), client.SignInJSONRequestBody{Account: "mo", Password: rig.Password})
	require.NoError(p.t, err)
	board, err = p.board(id, key)
	require.NoError(p.t, err)
	require.True(p.t, board.Publish("ember/kiln/r/chamber", 1, false, "20").WaitTimeout(20*time.Second))
	return id, key, owner, board
}

// Killed at random moments while readings come, switches are switched, settings set, places renamed, notes written, old
// readings brought in, blocks sealed and backups made: whatever was answered with yes is there, and the store is whole,
// each time.
func TestKilledUnderMixedLoad(t *testing.T) {
	t.Parallel()
	p := newProcess(t)
	p.start()
	p.setUp()
	id, key, owner, board := p.kiln()
	require.True(t, board.Publish("ember/kiln/is/fan", 1, false, "off").WaitTimeout(20*time.Second))
	board.Disconnect(0)
	_, err := owner.Settings().Add(t.Context(), site.Setting{ID: "kiln.setpoint", Name: "Setpoint", Kind: site.SetNumber,
		Max: 1e6})
	require.NoError(t, err)

	l := &ledger{next: map[string]int{}, asked: map[string]int{}, yes: map[string]int{}, all: map[string]map[int]bool{}}
	const begin, portion = int64(1_700_000_000_000), 700
	studio := "studio"
	rounds := tests.Count(t, 4, 300)
	for round := range rounds {
		board, err := p.board(id, key)
		require.NoError(t, err)
		ctx, stop := context.WithCancel(t.Context())
		var all sync.WaitGroup
		do := func(kind string, pause time.Duration, f func(n int) error) {
			all.Go(func() {
				for ctx.Err() == nil && l.try(kind, f) {
					time.Sleep(pause)
				}
			})
		}
		for range 3 {
			do("reading", 0, func(n int) error {
				tok := board.Publish("ember/kiln/r", 1, false, fmt.Sprintf(`{"n":%d,"t":%d}`, n, begin+int64(n)))
				if !tok.WaitTimeout(2 * time.Second) {
					return os.ErrDeadlineExceeded
				}
				return tok.Error()
			})
		}
		do("want", 10*time.Millisecond, func(n int) error {
			wait := false
			_, err := owner.SwitchControlWithResponse(ctx, "kiln.fan", &client.SwitchControlParams{Wait: &wait},
				client.SwitchControlJSONRequestBody{To: n%2 == 1})
			return err
		})
		do("setting", 5*time.Millisecond, func(n int) error {
			_, err := owner.SetSettingWithResponse(ctx, "kiln.setpoint", client.SetSettingJSONRequestBody{Value: n})
			return err
		})
		do("edit", 10*time.Millisecond, func(n int) error {
			_, err := owner.Places().Save(ctx, site.Place{ID: studio, Name: fmt.Sprintf("Studio %d", n)})
			return err
		})
		do("note", 5*time.Millisecond, func(n int) error {
			_, err := owner.AddNoteWithResponse(ctx, client.NewNote{Object: "kiln", Text: fmt.Sprintf("note %d", n),
				At: time.Now()})
			return err
		})
		do("old", 0, func(n int) error { // enough to have blocks sealed
			var list []client.OneReading
			for i := range int64(portion) {
				list = append(list, client.OneReading{T: begin + (int64(n)*portion+i)*1000, V: i})
			}
			_, err := owner.ImportReadingsWithResponse(ctx, client.ReadingsImport{Series: "kiln.chamber", Readings: list})
			return err
		})
		do("backup", 50*time.Millisecond, func(int) error {
			b, err := owner.BackUpWithResponse(ctx)
			if err == nil {
				l.mu.Lock()
				l.copies = append(l.copies, b.JSON201.Name)
				l.mu.Unlock()
			}
			return err
		})
		time.Sleep(time.Duration(50+rand.IntN(600)) * time.Millisecond)
		p.kill()
		stop()
		board.Disconnect(0)
		all.Wait()

		s, err := store.Open(t.Context(), p.dir, store.Options{})
		require.NoError(t, err)
		require.NoError(t, s.Check(t.Context(), nil), "round %d", round)
		require.NoError(t, s.Close())
		p.start()
		snap, err := owner.GetNowWithResponse(t.Context())
		require.NoError(t, err)
		for _, g := range snap.JSON200.Settings {
			if g.Config.ID == "kiln.setpoint" && l.asked["setting"] > 0 {
				l.within(t, "setting", int(g.State.Value), round)
			}
		}
		for _, x := range snap.JSON200.Places {
			if n, err := strconv.Atoi(strings.TrimPrefix(x.Config.Name, "Studio ")); err == nil && x.Config.ID == studio {
				l.within(t, "edit", n, round)
			}
		}
		for _, c := range snap.JSON200.Controls {
			if l.yes["want"] == l.asked["want"] && l.yes["want"] > 0 {
				require.NotNil(t, c.State.Want)
				assert.Equal(t, l.yes["want"]%2 == 1, *c.State.Want, "round %d", round)
			}
		}
	}

	have := map[string]map[int]bool{"note": {}, "reading": {}, "old": {}}
	p.kill()
	s, err := store.Open(t.Context(), p.dir, store.Options{})
	require.NoError(t, err)
	for r, err := range s.Readings(t.Context(), "kiln.n", site.Number, time.UnixMilli(0), time.Now(), false) {
		require.NoError(t, err)
		have["reading"][int(r.Value.Num)] = true
	}
	count := map[int]int{}
	for r, err := range s.Readings(t.Context(), "kiln.chamber", site.Number, time.UnixMilli(begin),
		time.UnixMilli(begin+int64(l.asked["old"]+1)*portion*1000), false) {
		require.NoError(t, err)
		count[int((r.T-begin)/1000/portion)]++
	}
	for n, c := range count {
		have["old"][n] = c == portion
	}
	require.NoError(t, s.Close())
	db, err := sqlx.Open("sqlite", "file:"+filepath.Join(p.dir, store.File))
	require.NoError(t, err)
	defer func() { _ = db.Close() }()
	var notes []string
	require.NoError(t, db.Select(&notes, `SELECT text FROM notes`))
	for _, text := range notes {
		n, err := strconv.Atoi(strings.TrimPrefix(text, "note "))
		require.NoError(t, err)
		have["note"][n] = true
	}
	for _, kind := range []string{"reading", "note", "old"} {
		lost := 0
		for n := range l.all[kind] {
			if !have[kind][n] {
				lost++
			}
		}
		t.Logf("%s: %d answered, %d lost", kind, len(l.all[kind]), lost)
		assert.Zero(t, lost, kind)
	}
	t.Logf("switches: %d, settings: %d, edits: %d, backups: %d answered", len(l.all["want"]), len(l.all["setting"]),
		len(l.all["edit"]), len(l.copies))
	require.NotEmpty(t, l.copies)
	newest := filepath.Join(p.dir, "backups", l.copies[len(l.copies)-1])
	out, exit := p.cli("restore", "--data", filepath.Join(t.TempDir(), "again"), newest)
	assert.Zero(t, exit, out)
}

// A write to a file, or its end being set, as a trace tells it.
type fileOp struct {
	line int // when it was over
	at   int64
	data []byte
	cut  bool // the file ends at at
}

// disk is what a trace of system calls says of files and of the acknowledgements that went out meanwhile.
type disk struct {
	ops   map[string][]fileOp
	syncs map[string][][2]int // begin and end, as lines
	acks  []int               // the lines of PUBACKs, in order
}

var (
	callLine    = regexp.MustCompile(`^(\d+) +(\w+)\((\d+)<([^>]*)>(.*)$`)
	resumedLine = regexp.MustCompile(`^(\d+) +<\.\.\. (\w+) resumed>`)
	hexText     = regexp.MustCompile(`"((?:\\x[0-9a-f]{2})*)"`)
	numbers     = regexp.MustCompile(`, (\d+)`)
)

// unhex reads what strace writes as \x2f\x74.
func unhex(t *testing.T, s string) []byte {
	b, err := hex.DecodeString(strings.ReplaceAll(s, `\x`, ""))
	require.NoError(t, err)
	return b
}

func readTrace(t *testing.T, file string) *disk {
	f, err := os.Open(file)
	require.NoError(t, err)
	defer func() { _ = f.Close() }()
	d := &disk{ops: map[string][]fileOp{}, syncs: map[string][][2]int{}}
	pending := map[string]func(line int){} // by thread: what its call does when it is over
	in := bufio.NewScanner(f)
	in.Buffer(nil, 64<<20)
	for line := 0; in.Scan(); line++ {
		text := in.Text()
		if m := resumedLine.FindStringSubmatch(text); m != nil {
			if over := pending[m[1]]; over != nil {
				over(line)
				delete(pending, m[1])
			}
			continue
		}
		m := callLine.FindStringSubmatch(text)
		if m == nil {
			continue
		}
		call, path, rest := m[2], string(unhex(t, m[4])), m[5]
		name := filepath.Base(path)
		var over func(int)
		switch {
		case call == "write" && strings.HasPrefix(path, "TCP"), call == "write" && strings.HasPrefix(path, "socket"):
			if strings.HasPrefix(rest, `, "\x40\x02`) {
				d.acks = append(d.acks, line)
			}
		case name != store.File && name != store.File+"-wal":
		case call == "pwrite64":
			text := hexText.FindStringSubmatch(rest)
			if text == nil { // the kill came before it was said what is to be written, so nothing was
				continue
			}
			data := unhex(t, text[1])
			nums := numbers.FindAllStringSubmatch(rest[strings.LastIndexByte(rest, '"'):], -1)
			require.GreaterOrEqual(t, len(nums), 2, rest)
			n, _ := strconv.Atoi(nums[0][1])
			require.Equal(t, n, len(data), "strace kept all of it")
			at, _ := strconv.ParseInt(nums[1][1], 10, 64)
			over = func(line int) { d.ops[name] = append(d.ops[name], fileOp{line: line, at: at, data: data}) }
		case call == "ftruncate":
			at, _ := strconv.ParseInt(numbers.FindStringSubmatch(rest)[1], 10, 64)
			over = func(line int) { d.ops[name] = append(d.ops[name], fileOp{line: line, at: at, cut: true}) }
		case call == "fsync" || call == "fdatasync":
			begin := line
			over = func(line int) { d.syncs[name] = append(d.syncs[name], [2]int{begin, line}) }
		}
		switch {
		case over == nil:
		case strings.HasSuffix(text, "<unfinished ...>"):
			pending[m[1]] = over
		default:
			over(line)
		}
	}
	require.NoError(t, in.Err())
	return d
}

// after is what a file holds when the power goes at a line: all that was written before the last sync began, and of the
// rest what luck decides, sector by sector.
func (d *disk) after(name string, before []byte, line int, luck func() bool) []byte {
	synced := -1
	for _, s := range d.syncs[name] {
		if s[1] < line {
			synced = max(synced, s[0])
		}
	}
	out := slices.Clone(before)
	const sector = 512
	for _, op := range d.ops[name] {
		if op.line >= line {
			continue
		}
		sure := op.line <= synced
		if op.cut {
			if sure || luck() {
				out = append(out, make([]byte, max(0, op.at-int64(len(out))))...)[:op.at]
			}
			continue
		}
		for i := 0; i < len(op.data); i += sector {
			if !sure && !luck() {
				continue
			}
			piece := op.data[i:min(i+sector, len(op.data))]
			at := op.at + int64(i)
			if end := at + int64(len(piece)); end > int64(len(out)) {
				out = append(out, make([]byte, end-int64(len(out)))...)
			}
			copy(out[at:], piece)
		}
	}
	return out
}

// powerLoss runs a hub under load, traces what it writes, and lets the power go at many moments: it returns how many
// acknowledged readings were missing then, and how many stores could not be opened or were damaged.
func powerLoss(t *testing.T, cuts int, noSync bool) (lost, damaged int) {
	p := newProcess(t)
	p.start()
	p.setUp()
	id, key, owner, board := p.kiln()
	board.Disconnect(100)
	require.NoError(t, p.cmd.Process.Signal(syscall.SIGTERM))
	_ = p.cmd.Wait()
	names := []string{store.File, store.File + "-wal"}
	before := map[string][]byte{}
	for _, name := range names {
		b, err := os.ReadFile(filepath.Join(p.dir, name))
		if !os.IsNotExist(err) {
			require.NoError(t, err)
		}
		before[name] = b
	}
	if noSync {
		t.Setenv("IDLEEMBER_NO_SYNC", "true")
	}
	file := filepath.Join(t.TempDir(), "trace")
	p.start("strace", "-f", "-y", "-xx", "-s", "1000000", "-o", file, "-e",
		"trace=pwrite64,write,ftruncate,fsync,fdatasync")
	board, err := p.board(id, key)
	require.NoError(t, err)
	ctx, stop := context.WithCancel(t.Context())
	var all sync.WaitGroup
	all.Go(func() {
		for n := 1; ctx.Err() == nil; n++ {
			studio := "studio"
			_, _ = owner.Places().Save(ctx, site.Place{ID: studio, Name: fmt.Sprintf("Studio %d", n)})
		}
	})
	all.Go(func() { // enough for blocks to be sealed and the log to be carried over
		for n := int64(0); ctx.Err() == nil && n < 12; n++ {
			var list []client.OneReading
			for i := range int64(1000) {
				list = append(list, client.OneReading{T: 1_600_000_000_000 + (n*1000+i)*1000, V: i})
			}
			_, _ = owner.ImportReadingsWithResponse(ctx, client.ReadingsImport{Series: "kiln.chamber", Readings: list})
		}
	})
	const first = int64(1_700_000_000_000)
	for n := int64(1); n <= 300; n++ { // one after the other: the nth acknowledgement is of the nth
		require.True(t, board.Publish("ember/kiln/r", 1, false, fmt.Sprintf(`{"n":%d,"t":%d}`, n,
			first+n)).WaitTimeout(10*time.Second))
	}
	stop()
	all.Wait()
	p.kill()
	d := readTrace(t, file)
	require.Len(t, d.acks, 300)
	for range cuts {
		k := rand.IntN(len(d.acks))
		line := d.acks[k] + 1 // just after it went out
		luck := []func() bool{func() bool { return false }, func() bool { return true },
			func() bool { return rand.IntN(2) == 0 }}[rand.IntN(3)]
		if noSync {
			luck = func() bool { return rand.IntN(2) == 0 }
		}
		dir := t.TempDir()
		for _, name := range names {
			require.NoError(t, os.WriteFile(filepath.Join(dir, name), d.after(name, before[name], line, luck), 0o600))
		}
		s, err := store.Open(t.Context(), dir, store.Options{})
		if err != nil {
			damaged++
			lost += k + 1
			continue
		}
		if err := s.Check(t.Context(), nil); err != nil {
			damaged++
		}
		have := map[int]bool{}
		for r, err := range s.Readings(t.Context(), "kiln.n", site.Number, time.UnixMilli(first), time.UnixMilli(first+1000),
			false) {
			if err != nil {
				break
			}
			have[int(r.Value.Num)] = true
		}
		_ = s.Close()
		for n := 1; n <= k+1; n++ {
			if !have[n] {
				lost++
			}
		}
	}
	t.Logf("the power went %d times: %d acknowledged readings lost, %d stores damaged; %d writes and %d syncs of the "+
		"log, %d and %d of the database", cuts, lost, damaged,
		len(d.ops[names[1]]), len(d.syncs[names[1]]), len(d.ops[names[0]]), len(d.syncs[names[0]]))
	return lost, damaged
}

// When the power goes, what was written after the last sync may or may not be on the disk, sector by sector. What was
// acknowledged is.
func TestPowerLossLosesNothingAcknowledged(t *testing.T) {
	lost, damaged := powerLoss(t, tests.Count(t, 12, 300), false)
	assert.Zero(t, lost)
	assert.Zero(t, damaged)
}

func TestPowerLossWouldBeNoticedWithoutSync(t *testing.T) {
	lost, _ := powerLoss(t, 12, true)
	assert.Positive(t, lost, "without sync something must be missing, else this test sees nothing")
}
