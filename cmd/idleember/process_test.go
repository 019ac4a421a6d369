package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	paho "github.com/eclipse/paho.mqtt.golang"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/core/site"
	"idleember/store"
	"idleember/tests"
	"idleember/tests/rig"
)

var binary string

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "idleember")
	if err != nil {
		panic(err)
	}
	binary = filepath.Join(dir, "idleember")
	if out, err := exec.Command("go", "build", "-o", binary, ".").CombinedOutput(); err != nil {
		panic(string(out))
	}
	code := m.Run()
	_ = os.RemoveAll(dir)
	os.Exit(code)
}

// process is a hub in a process of its own.
type process struct {
	t          *testing.T
	dir, home  string
	http, mqtt string
	cmd        *exec.Cmd
	out        *buffer
}

type buffer struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (b *buffer) Write(p []byte) (int, error) { b.mu.Lock(); defer b.mu.Unlock(); return b.b.Write(p) }
func (b *buffer) String() string              { b.mu.Lock(); defer b.mu.Unlock(); return b.b.String() }

func port(t *testing.T) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer func() { _ = l.Close() }()
	return l.Addr().String()
}

func newProcess(t *testing.T) *process {
	return &process{t: t, dir: t.TempDir(), home: t.TempDir(), http: port(t), mqtt: port(t)}
}

func (p *process) start(wrap ...string) {
	p.out = &buffer{}
	args := append(wrap, binary, "serve", "--data", p.dir, "--http", p.http, "--mqtt", p.mqtt, "--mqtts", "", "--udp", "")
	p.cmd = exec.Command(args[0], args[1:]...)
	p.cmd.Stdout, p.cmd.Stderr = p.out, p.out
	p.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	require.NoError(p.t, p.cmd.Start())
	p.t.Cleanup(p.kill)
	rig.Soon(p.t, "the hub to answer", func() bool {
		return strings.Contains(p.out.String(), "Boards   mqtt://") && (strings.Contains(p.out.String(), "running.") ||
			strings.Contains(p.out.String(), "--http :8480"))
	})
}

func (p *process) kill() {
	if p.cmd.Process != nil {
		_ = syscall.Kill(-p.cmd.Process.Pid, syscall.SIGKILL)
		_ = p.cmd.Wait()
	}
}

// cli runs a client command and returns output and exit code.
func (p *process) cli(args ...string) (string, int) {
	return p.cliWith(nil, args...)
}

func (p *process) cliWith(env []string, args ...string) (string, int) {
	ctx, cancel := context.WithTimeout(p.t.Context(), 60*time.Second)
	defer cancel()
	cmd := exec.CommandContext(ctx, binary, args...)
	cmd.Env = append([]string{"HOME=" + p.home, "PATH=" + os.Getenv("PATH"), "TZ=UTC", "IDLEEMBER_HUB=http://" + p.http,
		"IDLEEMBER_PASSWORD=" + rig.Password, "IDLEEMBER_NEW_PASSWORD=" + rig.Password}, env...)
	out, err := cmd.CombinedOutput()
	if err != nil && cmd.ProcessState == nil {
		p.t.Fatal(err)
	}
	return string(out), cmd.ProcessState.ExitCode()
}

func (p *process) setUp() {
	code, err := os.ReadFile(filepath.Join(p.dir, "setup-code"))
	require.NoError(p.t, err)
	out, exit := p.cli("setup", "--code", strings.TrimSpace(string(code)), "--name", "Rowan Lane studio", "--account",
		"mo", "--zone", "Europe/Vienna", "--at", "48.2,16.4")
	require.Zero(p.t, exit, out)
}

func (p *process) device(name string) (id, key string) {
	out, exit := p.cli("devices", "add", "--name", name, "--place", "Studio", "--output", "json")
	require.Zero(p.t, exit, out)
	var d struct {
		Key    string
		Device struct{ Config struct{ ID string } }
	}
	require.NoError(p.t, json.Unmarshal([]byte(out), &d))
	return d.Device.Config.ID, d.Key
}

func (p *process) board(id, key string) (paho.Client, error) {
	c := paho.NewClient(paho.NewClientOptions().AddBroker("tcp://" +
		p.mqtt).SetClientID(id).SetUsername(id).SetPassword(key).SetAutoReconnect(false))
	tok := c.Connect()
	tok.WaitTimeout(10 * time.Second)
	return c, tok.Error()
}

// Kills at random moments under load: every reading that was acknowledged is in the store, and every want that was
// answered is there again.
func TestKilledHubLosesNothingAcknowledged(t *testing.T) {
	p := newProcess(t)
	p.start()
	p.setUp()
	id, key := p.device("Kiln")
	next, acked := 0, map[int]bool{}
	want := false
	for round := range tests.Count(t, 4, 300) {
		var mu sync.Mutex
		board, err := p.board(id, key)
		require.NoError(t, err)
		if round == 0 {
			board.Publish("ember/kiln/is/fan", 1, false, "off").WaitTimeout(5 * time.Second)
		}
		stop := make(chan struct{})
		var wg sync.WaitGroup
		for range 3 {
			wg.Add(1)
			go func() {
				defer wg.Done()
				for {
					select {
					case <-stop:
						return
					default:
					}
					mu.Lock()
					next++
					n := next
					mu.Unlock()
					tok := board.Publish("ember/kiln/r", 1, false, fmt.Sprintf(`{"n":%d,"t":%d}`, n,
						int64(1_700_000_000_000)+int64(n)))
					if tok.WaitTimeout(2*time.Second) && tok.Error() == nil {
						mu.Lock()
						acked[n] = true
						mu.Unlock()
					}
				}
			}()
		}
		want = !want
		answered := make(chan bool, 1)
		go func() {
			_, exit := p.cli("switch", "--no-wait", "kiln.fan", map[bool]string{true: "on", false: "off"}[want])
			answered <- exit == 0
		}()
		time.Sleep(time.Duration(150+rand.IntN(400)) * time.Millisecond)
		p.kill()
		close(stop)
		ok := <-answered
		wg.Wait()
		board.Disconnect(0)
		p.start()
		out, exit := p.cli("controls", "--output", "csv")
		require.Zero(t, exit, out)
		if ok {
			assert.Regexp(t, `kiln\.fan,Fan,\w*,`+map[bool]string{true: "on", false: "off"}[want], out,
				"round %d: an answered want is there", round)
		} else {
			want = strings.Contains(out, ",on,pending") || strings.Contains(out, ",on,unconfirmed")
		}
	}
	p.kill()
	s, err := store.Open(t.Context(), p.dir, store.Options{})
	require.NoError(t, err)
	defer func() { _ = s.Close() }()
	have := map[int]bool{}
	for r, err := range s.Readings(t.Context(), "kiln.n", site.Number, time.UnixMilli(0), time.Now(), false) {
		require.NoError(t, err)
		have[int(r.Value.Num)] = true
	}
	lost := 0
	for n := range acked {
		if !have[n] {
			lost++
		}
	}
	t.Logf("%d acknowledged, %d stored, %d acknowledged and lost", len(acked), len(have), lost)
	assert.Zero(t, lost)
	assert.Greater(t, len(acked), 50)
}

// trace runs a hub under strace, sends one reading, and returns the order of write to the log, sync and
// acknowledgement.
func trace(t *testing.T, noSync bool) (wrote, synced, answered int) {
	p := newProcess(t)
	p.start()
	p.setUp()
	id, key := p.device("Kiln")
	require.NoError(t, p.cmd.Process.Signal(syscall.SIGTERM))
	_ = p.cmd.Wait()
	file := filepath.Join(t.TempDir(), "trace")
	if noSync {
		t.Setenv("IDLEEMBER_NO_SYNC", "true")
	}
	p.start("strace", "-f", "-y", "-s", "64", "-o", file, "-e", "trace=pwrite64,write,fsync,fdatasync")
	board, err := p.board(id, key)
	require.NoError(t, err)
	tok := board.Publish("ember/kiln/r/chamber", 1, false, "412")
	require.True(t, tok.WaitTimeout(10*time.Second))
	time.Sleep(200 * time.Millisecond)
	tok = board.Publish("ember/kiln/r/chamber", 1, false, "413.25")
	require.True(t, tok.WaitTimeout(10*time.Second))
	p.kill()
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	lines := strings.Split(string(raw), "\n")
	puback := regexp.MustCompile(`write\(\d+<(TCP|socket).*"@\\2\\0\\2"`)
	first := regexp.MustCompile(`write\(\d+<(TCP|socket).*"@\\2\\0\\1"`)
	wrote, synced, answered = -1, -1, -1
	for i, l := range lines {
		switch {
		case first.MatchString(l):
			wrote, synced = -1, -1 // the first message's story is over
		case puback.MatchString(l) && answered < 0:
			answered = i
		case answered < 0 && strings.Contains(l, "pwrite64(") && strings.Contains(l, "idleember.db-wal"):
			wrote = i
		case answered < 0 && strings.Contains(l, "sync(") && strings.Contains(l, "idleember.db-wal"):
			synced = i
		}
	}
	require.Positive(t, answered, "no acknowledgement in the trace")
	return wrote, synced, answered
}

func TestAcknowledgementComesAfterWriteAndSync(t *testing.T) {
	wrote, synced, answered := trace(t, false)
	assert.Positive(t, wrote)
	assert.Less(t, wrote, synced, "write, then sync")
	assert.Less(t, synced, answered, "sync, then answer")
}

func TestTheTraceWouldNoticeAMissingSync(t *testing.T) {
	wrote, synced, answered := trace(t, true)
	assert.Positive(t, wrote)
	assert.False(t, synced > wrote && synced < answered, "without sync there must be none between write and answer")
}

func TestStopsCleanlyOnSignals(t *testing.T) {
	for _, sig := range []syscall.Signal{syscall.SIGINT, syscall.SIGTERM} {
		p := newProcess(t)
		p.start()
		assert.Contains(t, p.out.String(), "has no owner yet")
		code, err := os.Stat(filepath.Join(p.dir, "setup-code"))
		require.NoError(t, err, "without a terminal the code goes to a file")
		assert.Equal(t, os.FileMode(0o600), code.Mode().Perm())
		require.NoError(t, p.cmd.Process.Signal(sig))
		require.NoError(t, p.cmd.Wait(), p.out.String())
		assert.NotContains(t, p.out.String(), "panic")
	}
}

// Each of these must be one clear sentence and an exit code, and no stack trace.
func TestWhatCannotStartSaysWhy(t *testing.T) {
	p := newProcess(t)
	p.start()
	file := filepath.Join(t.TempDir(), "file")
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	badFile := filepath.Join(t.TempDir(), "bad.toml")
	require.NoError(t, os.WriteFile(badFile, []byte("htpp = \":1\"\n"), 0o600))
	for _, tt := range []struct {
		args []string
		say  string
	}{
		{[]string{"--data", t.TempDir(), "--http", p.http, "--mqtt", "127.0.0.1:0"},
			"is taken by another program; choose another with --http"},
		{[]string{"--data", t.TempDir(), "--http", "127.0.0.1:0", "--mqtt", p.mqtt},
			"is taken by another program; choose another with --mqtt"},
		{[]string{"--data", t.TempDir(), "--http", "nonsense"}, "cannot be listened on"},
		{[]string{"--data", filepath.Join(file, "x")}, "choose another with --data"},
		{[]string{"--data", p.dir}, "in use by another hub"},
		{[]string{"--config", badFile}, `unknown key "htpp"`},
		{[]string{"--config", file + "x"}, "cannot be read"},
		{[]string{"--log", "loud"}, "no log level"},
	} {
		out, exit := p.cli(append([]string{"serve"}, tt.args...)...)
		assert.Equal(t, 1, exit, tt.args)
		assert.Contains(t, out, tt.say, tt.args)
		assert.NotContains(t, out, "goroutine", tt.args)
		assert.Equal(t, 1, strings.Count(strings.TrimSpace(out), "\n")+1, "one line: %s", out)
	}
}

func TestOptionsByFlagEnvironmentAndFile(t *testing.T) {
	p := newProcess(t)
	fromFile, fromEnv, fromFlag := port(t), port(t), port(t)
	file := filepath.Join(t.TempDir(), "hub.toml")
	text := fmt.Sprintf("data = %q\nhttp = %q\nmqtt = %q\nlog-format = \"json\"\nmqtts = \"\"\nudp = \"\"\n", p.dir,
		fromFile, fromFile)
	require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	cmd := exec.Command(binary, "serve", "--config", file, "--mqtt", fromFlag)
	cmd.Env = append(os.Environ(), "IDLEEMBER_HTTP="+fromEnv)
	out := &buffer{}
	cmd.Stdout, cmd.Stderr = out, out
	require.NoError(t, cmd.Start())
	defer func() { _ = cmd.Process.Kill(); _ = cmd.Wait() }()
	rig.Soon(t, "serving", func() bool { return strings.Contains(out.String(), `"msg":"serving"`) })
	assert.Contains(t, out.String(), `"http":"`+fromEnv+`"`, "the environment counts before the file")
	assert.Contains(t, out.String(), `"mqtt":"`+fromFlag+`"`, "a flag counts before both")
	assert.Contains(t, out.String(), `"data":"`+p.dir+`"`)
	help, exit := p.cli("serve", "--help")
	assert.Zero(t, exit)
	for _, word := range []string{"--data DIR", "--http ADDR", "--mqtt ADDR", "--config FILE", "IDLEEMBER_HTTP", "TOML",
		"setup code", "SIGTERM"} {
		assert.Contains(t, help, word)
	}
}

func TestCommands(t *testing.T) {
	p := newProcess(t)
	out, exit := p.cli("now")
	assert.Equal(t, 4, exit, "not logged in")
	assert.Contains(t, out, "idleember login")
	out, exit = p.cliWith([]string{"IDLEEMBER_TOKEN=x"}, "now")
	assert.Equal(t, 3, exit, "nobody answers")
	assert.Contains(t, out, "is it running")
	p.start()
	p.setUp()
	info, err := os.Stat(filepath.Join(p.home, ".config", "idleember", "login.json"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	out, _ = p.cli("now")
	assert.Contains(t, out, "Nothing here yet")
	id, key := p.device("Drying room")
	board, err := p.board(id, key)
	require.NoError(t, err)
	for i := range 30 {
		at := time.Now().Add(time.Duration(i-30) * time.Minute).UnixMilli()
		board.Publish("ember/drying_room/r", 1, false, fmt.Sprintf(`{"temperature":%d.5,"t":%d}`, 10+i%7, at)).Wait()
	}
	board.Publish("ember/drying_room/r/temperature", 1, false, "21.5").Wait()
	board.Publish("ember/drying_room/is/heater", 1, false, "off").Wait()
	short := filepath.Join(p.home, "short")
	require.NoError(t, os.WriteFile(short, []byte("x\n"), 0o600))
	for _, tt := range []struct {
		args []string
		exit int
		say  []string
	}{
		{[]string{"now"}, 0, []string{"Rowan Lane studio", "Studio", "21.5 °C", "s ago", "live", "Heater"}},
		{[]string{"now", "-o", "json"}, 0, []string{`"value": 21.5`, `"id": "drying_room.heater"`}},
		{[]string{"now", "-o", "csv"}, 0, []string{"place,id,value,unit,at,state",
			"studio,drying_room.temperature,21.5,Cel,"}},
		{[]string{"now", "-o", "xml"}, 2, []string{"no output form"}},
		{[]string{"history", "drying_room.temperature", "--from", "1h"}, 0, []string{"MEAN", "READINGS"}},
		{[]string{"history", "drying_room.temperature", "-o", "csv", "--from", "1h"}, 0, []string{"time,value", "Z,16.5"}},
		{[]string{"history", "drying_room.temperature", "--plot"}, 0, []string{"┤", "Temperature °C"}},
		{[]string{"history", "drying_room.heater.is"}, 0, []string{"off"}},
		{[]string{"history", "drying_room.temprature"}, 1, []string{"did you mean drying_room.temperature?"}},
		{[]string{"history"}, 2, []string{"usage: idleember history SIGNAL"}},
		{[]string{"history", "drying_room.temperature", "--from", "noonish"}, 2, []string{"is no time"}},
		{[]string{"switch", "drying_room.heatr", "on"}, 1, []string{"did you mean drying_room.heater?"}},
		{[]string{"switch", "drying_room.heater", "up"}, 1, []string{"expected on or off"}},
		{[]string{"switch", "drying_room.heater", "on"}, 5, []string{"not confirmed", "has not answered"}},
		{[]string{"devices"}, 0, []string{"drying_room", "online"}},
		{[]string{"devices", "ad"}, 2, []string{"no command"}},
		{[]string{"devices", "refusals", "drying_room"}, 0, []string{"WHY"}},
		{[]string{"devices", "refusals", "dryingroom"}, 1, []string{"did you mean drying_room?"}},
		{[]string{"signals", "change", "drying_room.temperature", "--name", "Room", "--guests", "see"}, 0, []string{"Room",
			"see"}},
		{[]string{"controls", "change", "drying_room.heater", "--dangerous"}, 0, []string{"Heater"}},
		{[]string{"members", "add", "kim", "--role", "member"}, 0, []string{"kim", "may sign in"}},
		{[]string{"members", "add", "kim", "--role", "member", "--new-password-file", short}, 1, []string{"use at least 12"}},
		{[]string{"members", "add", "kim", "--password", rig.Password}, 2,
			[]string{"put it into a file and use --password-file"}},
		{[]string{"members", "change", "kim", "--role", "guest", "--password-file", short}, 4,
			[]string{"the password is wrong"}},
		{[]string{"now", "--token", "token_x"}, 2, []string{"--token-file"}},
		{[]string{"tokens", "add", "graph"}, 0, []string{"graph", "token_"}},
		{[]string{"tokens"}, 0, []string{"graph", "read"}},
		{[]string{"members"}, 0, []string{"mo", "owner", "kim"}},
		{[]string{"journal", "drying_room"}, 0, []string{"mo", "switch", "drying_room.heater"}},
		{[]string{"nwo"}, 2, []string{"no command"}},
		{[]string{"--help"}, 0, []string{"serve", "watch", "Exit codes"}},
	} {
		out, exit := p.cli(tt.args...)
		assert.Equal(t, tt.exit, exit, "%v: %s", tt.args, out)
		for _, s := range tt.say {
			assert.Contains(t, out, s, tt.args)
		}
		assert.NotContains(t, out, key, "no secret in an answer")
	}
	assert.NotContains(t, p.out.String(), key, "no secret in the log")

	board.Subscribe("ember/drying_room/want/heater", 1, func(c paho.Client, m paho.Message) {
		c.Publish("ember/drying_room/is/heater", 1, false, m.Payload())
	}).Wait()
	out, exit = p.cli("switch", "drying_room.heater", "off")
	assert.Zero(t, exit)
	assert.Contains(t, out, "Heater is off, confirmed by its board.")

	watch := exec.Command(binary, "watch", "drying_room.temperature")
	watch.Env = []string{"HOME=" + p.home, "IDLEEMBER_HUB=http://" + p.http}
	seen := &buffer{}
	watch.Stdout = seen
	require.NoError(t, watch.Start())
	rig.Soon(t, "a live line", func() bool {
		board.Publish("ember/drying_room/r/temperature", 1, false, "22.5").Wait()
		return strings.Contains(seen.String(), "22.5 °C")
	})
	require.NoError(t, watch.Process.Signal(syscall.SIGINT))
	assert.NoError(t, watch.Wait(), "Ctrl-C is a fair end")

	out, exit = p.cli("login", "--account", "kim")
	assert.Zero(t, exit, out)
	out, exit = p.cli("members")
	assert.Equal(t, 4, exit)
	assert.Contains(t, out, "a member may not manage")
	out, exit = p.cli("logout")
	assert.Zero(t, exit, out)
	_, exit = p.cli("now")
	assert.Equal(t, 4, exit)
}
