package tests

import (
	"bufio"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/client"
	"idleember/core/site"
	"idleember/tests/rig"
)

func TestDatagrams(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Linked("shed", client.Link{Kind: site.UDP})
	host, port, _ := strings.Cut(r.Service.UDP, ":")
	// socat is a peer that nobody here wrote: it sends each line as a datagram and prints what comes back.
	peer := r.Start("sh", "-c", fmt.Sprintf("(echo 'k=%s battery=12.61 is.lamp=off'; sleep 20) | socat -u - UDP:%s:%s",
		key, host, port))
	r.Soon("a reading", func() bool { return r.Value("shed.battery") == 12.61 })
	peer.Stop()
	assert.True(t, r.Online("shed"))
	assert.NotContains(t, fmt.Sprint(r.Traffic("shed")), key)

	board := r.Start("sh", "-c", fmt.Sprintf("(for i in 1 2 3 4 5 6 7 8 9; do echo 'k=%s battery=12.7'; sleep 0.3; "+
		"done) | socat - UDP:%s:%s", key, host, port))
	r.Soon("the board has a new port", func() bool { return r.Value("shed.battery") == 12.7 })
	r.Switch("shed.lamp", true)
	r.Soon("the want comes back to where the board sent from", func() bool {
		return strings.Contains(board.String(), "lamp=on")
	})
	c, err := net.Dial("udp", r.Service.UDP)
	require.NoError(t, err)
	defer func() { _ = c.Close() }()
	for _, bad := range []string{"k=wrong battery=1", "battery=1", "", "k=", strings.Repeat("x", 1400), "k=" + key +
		" ask.lamp=on", "k=" + key + " battery=NaN"} {
		_, err = c.Write([]byte(bad))
		require.NoError(t, err)
	}
	r.Soon("the refusal", func() bool { return strings.Contains(fmt.Sprint(r.Refusals("shed")), "not finite") })
	assert.Equal(t, 12.7, r.Value("shed.battery"))
}

// An old controller that cannot send a key: known by its address, read by patterns, told with single digits.
func TestOldControllerOverUDP(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	old, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	defer func() { _ = old.Close() }()
	r.Linked("stove", client.Link{Kind: site.UDP, Address: old.LocalAddr().String()})
	r.AddSignal("stove", "water", "number", client.Source{Pattern: `W(?P<value>\d+)`})
	r.AddControl("stove", "pump", client.Source{Pattern: `P([01])`, On: []string{"1"}, Off: []string{"0"}},
		client.Target{On: "5", Off: "6"})
	hub, err := net.ResolveUDPAddr("udp", r.Service.UDP)
	require.NoError(t, err)
	say := func(text string) {
		_, err := old.WriteTo([]byte(text), hub)
		require.NoError(t, err)
	}
	say("W063 P0 \r\n")
	r.Soon("the water", func() bool { return r.Value("stove.water") == 63.0 })
	r.Switch("stove.pump", true)
	buf := make([]byte, 100)
	require.NoError(t, old.SetReadDeadline(time.Now().Add(10*time.Second)))
	n, _, err := old.ReadFrom(buf)
	require.NoError(t, err)
	assert.Equal(t, "5", string(buf[:n]))
	say("W064 P1 \r\n")
	r.Soon("the pump's own word", func() bool { return r.Control("stove.pump").State.Phase == "confirmed" })
	stranger, err := net.Dial("udp", r.Service.UDP)
	require.NoError(t, err)
	defer func() { _ = stranger.Close() }()
	_, err = stranger.Write([]byte("W099 P0"))
	require.NoError(t, err)
	time.Sleep(200 * time.Millisecond)
	assert.Equal(t, 64.0, r.Value("stove.water"), "whoever comes from elsewhere is not the stove")
}

// scale is a device with text lines: it prints weights and takes words.
type scale struct {
	l     net.Listener
	mu    sync.Mutex
	conn  net.Conn
	heard []string
}

func (s *scale) run() {
	for {
		c, err := s.l.Accept()
		if err != nil {
			return
		}
		s.mu.Lock()
		s.conn = c
		s.mu.Unlock()
		go func() {
			sc := bufio.NewScanner(c)
			for sc.Scan() {
				s.mu.Lock()
				s.heard = append(s.heard, sc.Text())
				s.mu.Unlock()
				if word, ok := strings.CutPrefix(sc.Text(), "LAMP "); ok {
					_, _ = fmt.Fprintf(c, "LAMP %s\r\n", word)
				}
			}
		}()
	}
}

func (s *scale) say(t *testing.T, line string) {
	rig.Soon(t, "a connection", func() bool { s.mu.Lock(); defer s.mu.Unlock(); return s.conn != nil })
	s.mu.Lock()
	defer s.mu.Unlock()
	_, _ = s.conn.Write([]byte(line))
}

func TestTextLinesOverTCP(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	s := &scale{}
	var err error
	s.l, err = net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer func() { _ = s.l.Close() }()
	go s.run()
	_, err = r.Owner.AddFromModel(t.Context(), "line_scale", []any{rig.Fields{"name": "Scale", "place": "Glaze",
		"link": client.Link{Kind: site.Lines, Address: s.l.Addr().String()}}})
	require.NoError(t, err)
	s.say(t, "hello\r\nS  1234.5 g\r\nD  -3.0 g\r")
	r.Soon("a weight", func() bool { return r.Value("scale.weight") == -3.0 })
	assert.Equal(t, false, r.Value("scale.steady"))
	assert.Contains(t, fmt.Sprint(r.Traffic("scale")), "hello: no pattern matches")
	c := r.Switch("scale.lamp", true)
	assert.Equal(t, "scale.lamp", c.Config.ID)
	r.Soon("the lamp", func() bool { return r.Control("scale.lamp").State.Phase == "confirmed" })

	s.mu.Lock()
	_ = s.conn.Close()
	s.conn = nil
	s.mu.Unlock()
	r.Soon("the line is cut", func() bool { return !r.Online("scale") })
	assert.Equal(t, "the line was cut", r.Get("scale").State.Why)
	s.say(t, "S  7.0 g\r\n")
	r.Soon("it came back by itself", func() bool { return r.Value("scale.weight") == 7.0 && r.Online("scale") })
	s.say(t, strings.Repeat("x", 3000)+"\n")
	r.Soon("endless lines are refused", func() bool {
		return strings.Contains(fmt.Sprint(r.Refusals("scale")), "longer than 1024")
	})
	r.Soon("and the line goes on", func() bool { s.say(t, "S  8.0 g\r\n"); return r.Value("scale.weight") == 8.0 })
}

func TestTextLinesOverASerialPort(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	dir := t.TempDir()
	hub, board := filepath.Join(dir, "hub"), filepath.Join(dir, "board")
	r.Linked("logger", client.Link{Kind: site.Lines, Address: hub, Baud: 115200})
	r.AddSignal("logger", "flow", "number", client.Source{Pattern: `flow=(?P<value>[0-9.]+)`})
	r.AddControl("logger", "valve", client.Source{Pattern: `valve (?P<value>open|shut)`, On: []string{"open"},
		Off: []string{"shut"}}, client.Target{On: "open", Off: "shut", Template: "valve {value}"})
	r.Soon("the missing port is told", func() bool {
		return strings.Contains(fmt.Sprint(r.Traffic("logger")), "is the cable plugged in?")
	})
	pair := func() *rig.Sub {
		s := r.Start("socat", "pty,raw,echo=0,link="+hub, "pty,raw,echo=0,link="+board)
		r.Soon("the pair", func() bool { _, err := os.Stat(board); return err == nil })
		return s
	}
	cable := pair()
	port, err := os.OpenFile(board, os.O_RDWR, 0)
	require.NoError(t, err)
	r.Soon("a reading over the cable", func() bool {
		_, _ = port.WriteString("flow=2.25 l\n")
		return r.Value("logger.flow") == 2.25
	})
	r.Switch("logger.valve", true)
	line := make([]byte, 64)
	n, err := port.Read(line)
	require.NoError(t, err)
	assert.Equal(t, "valve open\n", string(line[:n]))
	_, err = port.WriteString("valve open\n")
	require.NoError(t, err)
	r.Soon("confirmed", func() bool { return r.Control("logger.valve").State.Phase == "confirmed" })
	_ = port.Close()
	cable.Stop()
	r.Soon("the cable is out", func() bool { return !r.Online("logger") })
	_, _ = os.Remove(hub), os.Remove(board)
	pair()
	port, err = os.OpenFile(board, os.O_RDWR, 0)
	require.NoError(t, err)
	defer func() { _ = port.Close() }()
	r.Soon("it is found again", func() bool {
		_, _ = port.WriteString("flow=3.5 l\n")
		return r.Value("logger.flow") == 3.5
	})
}

// page is a web server with a weather page that can fail.
type page struct {
	mu           sync.Mutex
	body, etag   string
	status       int
	asked, saved int
	last         time.Time
	gaps         []time.Duration
}

func (p *page) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.asked++
	if !p.last.IsZero() {
		p.gaps = append(p.gaps, time.Since(p.last))
	}
	p.last = time.Now()
	if p.status != 0 {
		w.WriteHeader(p.status)
		return
	}
	if p.etag != "" && r.Header.Get("If-None-Match") == p.etag {
		p.saved++
		w.WriteHeader(http.StatusNotModified)
		return
	}
	w.Header().Set("ETag", p.etag)
	_, _ = w.Write([]byte(p.body))
}

func (p *page) set(f func()) {
	p.mu.Lock()
	defer p.mu.Unlock()
	f()
}

func TestPolledPages(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	p := &page{body: `{"now":{"temperature":3.5,"sky":"rain"}}`, etag: `"a"`}
	web := httptest.NewServer(p)
	defer web.Close()
	r.Linked("weather", client.Link{Kind: site.Poll, Address: web.URL, IntervalMS: 1000, Inside: true})
	r.AddSignal("weather", "outdoors", "number", client.Source{Pointer: "/now/temperature"})
	r.AddSignal("weather", "sky", "text", client.Source{Pattern: `"sky":"(\w+)"`})
	r.Soon("values", func() bool { return r.Value("weather.outdoors") == 3.5 && r.Value("weather.sky") == "rain" })
	r.Soon("an unchanged page is not sent again", func() bool { p.mu.Lock(); defer p.mu.Unlock(); return p.saved > 1 })
	assert.True(t, r.Online("weather"))
	assert.Equal(t, "live", r.Signal("weather.outdoors").State.Fresh)
	p.set(func() { p.status, p.gaps = 503, nil })
	r.Soon("away after three failures", func() bool { return !r.Online("weather") })
	assert.Contains(t, r.Get("weather").State.Why, "503")
	p.set(func() {
		require.GreaterOrEqual(t, len(p.gaps), 3)
		assert.Greater(t, p.gaps[2], 1800*time.Millisecond, "it is asked every second, and ever less often while it fails")
		p.status, p.body, p.etag = 0, "\ufeffwhen;outdoors\n1;4,25\n", `"b"`
	})
	_, err := r.Owner.Signals().Patch(t.Context(), "weather.outdoors", rig.Fields{"source": rig.Fields{"pointer": nil,
		"pattern": nil, "column": "outdoors"}}, "")
	require.NoError(t, err)
	r.Soon("back, as CSV", func() bool { return r.Value("weather.outdoors") == 4.25 && r.Online("weather") })
}

func TestModbusDevice(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	addr := rig.FreePort(t)
	server := r.Start("/usr/bin/python3", "peers/modbus_server.py", addr)
	_, err := r.Owner.AddFromModel(t.Context(), "modbus_fan", []any{rig.Fields{"name": "Fan", "place": "Shelves",
		"link": client.Link{Kind: site.Modbus, Address: addr}}})
	require.NoError(t, err)
	link := client.Link{Kind: site.Modbus, Address: addr, Unit: 7, IntervalMS: 500,
		Watchdog: &client.Register{Table: site.Holding, Address: 10}}
	_, err = r.Owner.Devices().Patch(t.Context(), "fan", rig.Fields{"link": &link}, "")
	require.NoError(t, err)
	r.AddSignal("fan", "air", "number", client.Source{Register: &client.Register{Table: site.Input, Address: 4,
		Type: "f32"}})
	r.Soon("all types of numbers", func() bool {
		return r.Value("fan.speed") == 1200.0 && r.Value("fan.power") == 6553.8 && r.Value("fan.motor") == -10.0 &&
			r.Value("fan.air") == 21.5
	})
	assert.Equal(t, false, r.Value("fan.fault"))
	assert.Contains(t, fmt.Sprint(r.Traffic("fan")), "read input 0 to 5", "neighbours in one request")
	assert.True(t, r.Online("fan"))
	r.Switch("fan.fan", true)
	r.Soon("written and read back", func() bool { return r.Control("fan.fan").State.Phase == "confirmed" })
	host, port, _ := strings.Cut(addr, ":")
	poll := func(args ...string) string { // mbpoll is a client that nobody here wrote
		out, _ := r.Run("mbpoll", append([]string{"-0", "-1", "-q", "-a", "7", "-p", port}, append(args, host)...)...)
		return out
	}
	assert.Contains(t, poll("-t", "0", "-r", "0"), "[0]: \t1")
	r.Soon("the watchdog got the lease", func() bool {
		return strings.Contains(poll("-t", "4", "-r", "10"), "[10]: \t60")
	})

	r.AddControl("fan", "boost", client.Source{Register: &client.Register{Table: site.Holding, Address: 12, Type: "u32"},
		On: []string{"70000"}, Off: []string{"0"}},
		client.Target{On: "70000", Register: &client.Register{Table: site.Holding, Address: 12, Type: "u32"}})
	r.AddControl("fan", "light", client.Source{Register: &client.Register{Table: site.Coil, Address: 1}},
		client.Target{Register: &client.Register{Table: site.Coil, Address: 1}})
	r.Switch("fan.boost", true)
	r.Soon("two registers in one write", func() bool { return r.Control("fan.boost").State.Phase == "confirmed" })
	assert.Contains(t, poll("-t", "4", "-r", "12", "-c", "2"), "[12]: \t1\n[13]: \t4464")

	r.AddSignal("fan", "ghost", "number", client.Source{Register: &client.Register{Table: site.Input, Address: 6}})
	r.Soon("what does not exist is told in words", func() bool {
		return strings.Contains(fmt.Sprint(r.Traffic("fan")), "has no such register")
	})
	before := *r.Signal("fan.speed").State.Heard
	r.Soon("and the others go on", func() bool { return r.Signal("fan.speed").State.Heard.After(before) })

	told := func() (n int) {
		for _, m := range r.Traffic("fan") {
			n += strings.Count(fmt.Sprint(m), "has no such register")
		}
		return n
	}
	assert.Equal(t, 1, told(), "once, however often it is asked")
	r.AddSignal("fan", "none", "number", client.Source{Register: &client.Register{Table: site.Holding, Address: 16,
		Type: "f32"}})
	r.Soon("that it is no number is told", func() bool {
		return strings.Contains(fmt.Sprint(r.Traffic("fan")), "NaN is not finite")
	})
	assert.Nil(t, r.Signal("fan.none").State.Value)
	before = *r.Signal("fan.speed").State.Heard
	r.Soon("everybody else goes on", func() bool { return r.Signal("fan.speed").State.Heard.After(before) })

	server.Stop()
	r.Soon("gone", func() bool { return !r.Online("fan") })
	r.Switch("fan.fan", false)
	r.Switch("fan.light", true)
	server = r.Start("/usr/bin/python3", "peers/modbus_server.py", addr)
	r.Soon("back, and the want of meanwhile was told", func() bool {
		return r.Online("fan") && r.Control("fan.fan").State.Phase == "confirmed"
	})
	r.Soon("neighbouring coils in one write", func() bool {
		return strings.Contains(fmt.Sprint(r.Traffic("fan")), "out write coil 0 [0 1]: written")
	})
	assert.Contains(t, poll("-t", "0", "-r", "0", "-c", "2"), "[0]: \t0\n[1]: \t1")
	server.Stop()
	r.Soon("gone", func() bool { return !r.Online("fan") })
	r.Switch("fan.fan", true)
	r.Switch("fan.light", false)
	r.Start("/usr/bin/python3", "peers/modbus_server.py", addr, "--one-by-one")
	r.Soon("each by itself, where the device refuses both at once", func() bool {
		return r.Control("fan.fan").State.Phase == "confirmed" && r.Control("fan.light").State.Phase == "confirmed"
	})
	assert.Contains(t, fmt.Sprint(r.Traffic("fan")), "out write coil 0 [1]: written")
	assert.Contains(t, poll("-t", "0", "-r", "0", "-c", "2"), "[0]: \t1\n[1]: \t0")
	link.Unit = 9
	_, err = r.Owner.Devices().Patch(t.Context(), "fan", rig.Fields{"link": &link}, "")
	require.NoError(t, err)
	r.Soon("a wrong unit id", func() bool { return !r.Online("fan") })
	r.Soon("is told in words", func() bool {
		s := fmt.Sprint(r.Traffic("fan"))
		return strings.Contains(s, "unit 9 did not answer") || strings.Contains(s, "exception")
	})
}

func TestModbusPanel(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Device("kiln")
	require.Empty(t, r.Pub("kiln", key, "ember/kiln/r", `{"chamber":1034.5,"door":true}`))
	require.Empty(t, r.Pub("kiln", key, "ember/kiln/is/fan", "off"))
	addr := rig.FreePort(t)
	host, port, _ := strings.Cut(addr, ":")
	panel := site.Panel{On: true, Address: addr, Allow: []string{"127.0.0.0/8"}, Points: []site.Point{
		{ID: "kiln.chamber", Register: client.Register{Table: site.Input, Address: 0, Type: "s16", Scale: 0.1}},
		{ID: "kiln.chamber", Register: client.Register{Table: site.Input, Address: 1, Type: "f32"}},
		{ID: "kiln.door", Register: client.Register{Table: site.Discrete, Address: 0}},
		{ID: "kiln.fan", Register: client.Register{Table: site.Coil, Address: 3}, Write: true},
		{ID: "kiln.fan", Register: client.Register{Table: site.Coil, Address: 4}},
	}}
	_, err := r.Owner.Panel().Put(t.Context(), panel, "")
	require.NoError(t, err)
	mb := func(args ...string) string {
		out, _ := r.Run("mbpoll", append([]string{"-0", "-1", "-q", "-p", port}, args...)...)
		return out
	}
	r.Soon("a panel reads", func() bool { return strings.Contains(mb("-t", "3", "-r", "0", host), "[0]: \t10345") })
	assert.Contains(t, mb("-t", "3:float", "-B", "-r", "1", host), "1034.5")
	assert.Contains(t, mb("-t", "1", "-r", "0", host), "[0]: \t1")
	assert.Contains(t, mb("-t", "0", "-r", "3", host, "1"), "Written 1")
	assert.True(t, rig.On(r.Control("kiln.fan").State.Want))
	assert.Contains(t, strings.Join(r.Journal("kiln.fan"), "\n"), "the panel switch >on")
	assert.Contains(t, mb("-t", "0", "-r", "4", host, "0"), "Illegal data address", "only what was chosen can be written")
	assert.Contains(t, mb("-t", "3", "-r", "0", "-c", "5", host), "Illegal data address",
		"only what was chosen can be read")
	assert.True(t, rig.On(r.Control("kiln.fan").State.Want))

	panel.Allow = []string{"192.0.2.1"}
	_, err = r.Owner.Panel().Put(t.Context(), panel, "")
	require.NoError(t, err)
	r.Soon("others may not connect", func() bool { return !strings.Contains(mb("-t", "3", "-r", "0", host), "10345") })
	panel.On = false
	_, err = r.Owner.Panel().Put(t.Context(), panel, "")
	require.NoError(t, err)
	r.Soon("off is closed", func() bool {
		c, err := net.Dial("tcp", addr)
		if err == nil {
			_ = c.Close()
		}
		return err != nil
	})
	for _, bad := range []site.Panel{
		{On: true, Address: addr, Allow: []string{}, Points: []site.Point{}},
		{On: true, Address: addr, Allow: []string{"nobody"}, Points: []site.Point{}},
		{Address: addr, Allow: []string{}, Points: []site.Point{{ID: "kiln.nothing",
			Register: client.Register{Table: site.Coil}}}},
		{Address: addr, Allow: []string{}, Points: []site.Point{{ID: "kiln.chamber",
			Register: client.Register{Table: site.Holding}, Write: true}}},
		{Address: addr, Allow: []string{}, Points: []site.Point{panel.Points[1], {ID: "kiln.door",
			Register: client.Register{Table: site.Input, Address: 2}}}},
	} {
		_, err := r.Owner.Panel().Put(t.Context(), bad, "")
		assert.Error(t, err)
	}
}
