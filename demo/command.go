package demo

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"os/signal"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/urfave/cli/v3"

	"idleember/core/access"
	"idleember/core/site"
	"idleember/hub"
	"idleember/serve"
)

// Command is `idleember demo`.
func Command() *cli.Command {
	return &cli.Command{
		Name:  "demo",
		Usage: "run a hub with the demo studio: simulated boards, accounts and three weeks of history",
		Description: `Runs the hub like serve, with a made-up pottery studio in it. Its boards are simulated, but speak real MQTT, Modbus, UDP,
text lines and HTTP over loopback: switch the drying room's heater and the room gets warmer. Takes the options of serve.

With --boards=false the boards are left out; run them in a process of their own with "idleember demo boards". Then kill the
hub and see them fall back by themselves.`,
		Flags: append(serve.Flags(serve.DefaultData()+"-demo"), &cli.BoolFlag{Name: "boards", Value: true,
			Usage: "run the simulated boards in this process too"}),
		Commands: []*cli.Command{{
			Name:  "boards",
			Usage: "run the studio's simulated boards alone, beside a hub that runs with demo --boards=false",
			Flags: []cli.Flag{&cli.StringFlag{Name: "data", Value: serve.DefaultData() + "-demo",
				Usage: "the folder of the demo"}},
			Action: func(ctx context.Context, cmd *cli.Command) error {
				ctx, stop := signal.NotifyContext(ctx, syscall.SIGINT, syscall.SIGTERM, syscall.SIGHUP)
				defer stop()
				return runBoards(ctx, cmd.String("data"), os.Stdin, os.Stdout)
			},
		}},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			o, err := serve.Read(cmd, os.Stderr)
			if err != nil {
				return err
			}
			ctx, stop := signal.NotifyContext(ctx, syscall.SIGINT, syscall.SIGTERM, syscall.SIGHUP)
			defer stop()
			return run(ctx, o, os.Stdin, os.Stdout, 21*24*time.Hour, cmd.Bool("boards"))
		},
	}
}

// run runs hub and studio until the context ends. Lines from in push the simulated boards' buttons or pull a plug.
func run(ctx context.Context, o serve.Options, in io.Reader, out io.Writer, past time.Duration, boards bool) error {
	st, err := load(o.Data)
	if err != nil {
		return err
	}
	var w *world
	if st == nil {
		if st, w, err = build(ctx, o.Data, o, out, past); err != nil {
			return err
		}
	}
	post, err := newPostbox()
	if err != nil {
		return err
	}
	defer post.close()
	o.Mount = map[string]http.Handler{outboxPath: post, outboxPath + "/": post}
	s, err := serve.Start(ctx, o)
	if err != nil {
		return err
	}
	defer func() { _ = s.Close() }()
	if err := post.introduce(ctx, s.Hub, s.HTTP); err != nil {
		return err
	}
	if w == nil {
		w = newWorld(uint64(time.Now().UnixNano()), time.Now(), s.Hub.Site().Hub.Location())
		w.recall(ctx, s.Hub)
	}
	p, err := newPeers(w, st.Peers)
	if err != nil {
		return err
	}
	closePeers := sync.OnceFunc(p.close)
	defer closePeers()
	st.MQTT, st.UDP, st.Peers = s.MQTT, s.UDP, p.at
	if err := errors.Join(p.introduce(ctx, s.Hub), st.save(o.Data)); err != nil {
		return err
	}
	if !boards {
		closePeers()
		greet(out, s, st)
		_, _ = fmt.Fprintf(out, "  The boards are not running. In another terminal:\n      %s demo boards --data %s\n",
			os.Args[0], o.Data)
		<-ctx.Done()
		return s.Close()
	}
	e := power(ctx, w, st, o.Log)
	if _, err := s.Pages.TakeStill(ctx, access.HubActor(), "kiln_shed"); err != nil {
		return fmt.Errorf("the camera: %w", err)
	}
	go e.hands(in, out)
	greet(out, s, st)
	<-ctx.Done()
	e.ended.Wait()
	return s.Close()
}

// runBoards runs everything of the studio but the hub.
func runBoards(ctx context.Context, dir string, in io.Reader, out io.Writer) error {
	st, err := load(dir)
	switch {
	case err != nil:
		return err
	case st == nil || st.MQTT == "":
		return fmt.Errorf("there is no demo in %s; begin one with idleember demo --boards=false --data %s", dir, dir)
	}
	loc, err := time.LoadLocation(zone)
	if err != nil {
		return err
	}
	w := newWorld(uint64(time.Now().UnixNano()), time.Now(), loc)
	p, err := newPeers(w, st.Peers)
	if err != nil {
		return err
	}
	defer p.close()
	e := power(ctx, w, st, slog.New(slog.NewTextHandler(out, nil)))
	go e.hands(in, out)
	_, _ = fmt.Fprintf(out, "The studio's boards are running; their hub is mqtt://%s.\nKill the hub, and they switch "+
		"off by themselves within their lease. Ctrl-C ends them.\n", st.MQTT)
	<-ctx.Done()
	e.ended.Wait()
	return nil
}

// equipment is the studio's boards under power.
type equipment struct {
	world            *world
	drying, cupboard *board
	ended            sync.WaitGroup
}

// power runs the world and its boards until the context ends.
func power(ctx context.Context, w *world, st *studio, log *slog.Logger) *equipment {
	e := &equipment{world: w}
	start := func(f func()) {
		e.ended.Add(1)
		go func() {
			defer e.ended.Done()
			f()
		}()
	}
	add := func(id string, outputs map[string]*bool, measure func() map[string]any) *board {
		return newBoard(id, st.Keys[id], st.MQTT, &w.mu, outputs, measure, log)
	}
	e.drying = add(boardID, map[string]*bool{"heater": &w.room.heater, "boost": &w.room.boost}, w.room.measure)
	e.cupboard = add("damp_cupboard", map[string]*bool{"mister": &w.mister}, w.cupboard)
	e.cupboard.copies = map[string]*float64{"keep": &w.keep}
	shed := add("kiln_shed", map[string]*bool{"extractor": &w.blower}, w.shed)
	shed.levels = map[string]*float64{"duct": &w.duct}
	booth := add("spray_booth", nil, w.spray)
	booth.levels = map[string]*float64{"fan": &w.booth}
	start(func() { w.run(ctx) })
	start(func() { w.visits(ctx) })
	start(func() { w.sendBattery(ctx, st.UDP, st.Keys["shed_battery"]) })
	for _, b := range []*board{e.drying, e.cupboard, shed, booth,
		add("kiln", map[string]*bool{"elements": &w.elements, "vent": &w.vent}, w.kiln),
		add("slip_tank", map[string]*bool{"reclaim_pump": &w.pump, "rinse_valve": &w.rinse}, w.tank),
		add("yard", map[string]*bool{"lamp": &w.lamp, "gate_pulse": &w.gatePulse}, w.yard),
		add("glaze_store", map[string]*bool{"door_up": &w.doorUp, "door_down": &w.doorDown, "heater": &w.warmer,
			"cooler": &w.cooler}, w.glazes)} {
		start(func() { b.run(ctx) })
	}
	return e
}

// introduce tells the hub where the devices are that it has to ask; their ports are others at every start.
func (p *peers) introduce(ctx context.Context, h *hub.Hub) error {
	me := access.HubActor()
	me.Name = "the demo"
	for id, addr := range map[string]string{"shelf_fan": p.fanAddr, "glaze_scale": p.scaleAddr, "weather": p.weatherURL} {
		if err := hub.Change(ctx, h, me, id, func(d *site.Device) {
			d.Link.Address = addr
			if id == "weather" {
				d.Link.IntervalMS = 60_000
			}
			if id == "shelf_fan" {
				d.Link.Watchdog = &site.Register{Table: site.Holding, Address: 10}
			}
		}); err != nil {
			return fmt.Errorf("the demo's %s: %w", id, err)
		}
	}
	if err := hub.Change(ctx, h, me, "kiln_shed", func(d *site.Device) {
		d.Camera = site.Camera{Address: p.cameraURL, Inside: true}
	}); err != nil {
		return fmt.Errorf("the camera: %w", err)
	}
	return nil
}

func greet(out io.Writer, s *serve.Service, st *studio) {
	p := func(format string, args ...any) { _, _ = fmt.Fprintf(out, format+"\n", args...) }
	p("The demo studio is running.\n\n  Console  http://%s\n  Outbox   http://%s%s  (the mail and webhooks that it "+
		"sends)\n  Boards   mqtt://%s\n\n  Accounts", s.HTTP, s.HTTP, outboxPath, s.MQTT)
	for _, a := range st.Accounts {
		p("    %-8s %-26s %s", a.Account, a.Password, a.Role)
	}
	p(`
  To try
    Sign in as mo and tap the heater's On: the lamp glows when the board has confirmed, and the
    room gets warmer within a minute. Tap a value to see its history.
    Sign in on a second screen as kim and see both follow each other. visitor sees less.
    Half a minute after the start somebody looks into the kiln: read what the hub sends of it in
    the outbox, and follow its link.
    Here, type b and Enter to push the button on the board, p and Enter to pull its plug or put
    it back, h and Enter to hang wet boards into the drying room, k and Enter to turn the knob
    of the damp cupboard. Ctrl-C ends the demo.
    In another terminal:
      %[2]s login --hub http://%[1]s --account mo
      %[2]s now
      %[2]s switch drying_room.heater on
      %[2]s history drying_room.temperature --from 3d --plot
`, s.HTTP, os.Args[0])
}

// hands are somebody standing in front of the boards.
func (e *equipment) hands(in io.Reader, out io.Writer) {
	say := func(text string) { _, _ = fmt.Fprintln(out, text) }
	lines := bufio.NewScanner(in)
	for lines.Scan() {
		switch strings.TrimSpace(lines.Text()) {
		case "b":
			e.drying.press("heater")
			say("Somebody pushed the button on the drying room's board.")
		case "h":
			e.world.mu.Lock()
			e.world.room.hang()
			e.world.mu.Unlock()
			say("Boards with wet clay hang in the drying room now.")
		case "k":
			e.cupboard.turn("keep", 78)
			say("The knob of the damp cupboard is turned to 78 %.")
		case "p":
			if e.drying.plug() {
				say("The drying room's board has power again.")
			} else {
				say("The drying room's board lost its power.")
			}
		case "":
		default:
			say("b pushes the board's button, p pulls its plug or puts it back, h hangs wet boards, k turns the damp " +
				"cupboard's knob, Ctrl-C ends the demo.")
		}
	}
}
