package demo

import (
	"bufio"
	"context"
	"fmt"
	"io"
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
text lines and HTTP over loopback: switch the drying room's heater and the room gets warmer. Takes the options of serve.`,
		Flags: serve.Flags(serve.DefaultData() + "-demo"),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			o, err := serve.Read(cmd, os.Stderr)
			if err != nil {
				return err
			}
			ctx, stop := signal.NotifyContext(ctx, syscall.SIGINT, syscall.SIGTERM)
			defer stop()
			return Run(ctx, o, os.Stdin, os.Stdout)
		},
	}
}

// Run runs hub and studio until the context ends. Lines from in push the simulated board's button or pull its plug.
func Run(ctx context.Context, o serve.Options, in io.Reader, out io.Writer) error {
	return run(ctx, o, in, out, 21*24*time.Hour)
}

func run(ctx context.Context, o serve.Options, in io.Reader, out io.Writer, past time.Duration) error {
	s, err := serve.Start(ctx, o)
	if err != nil {
		return err
	}
	defer func() { _ = s.Close() }()
	st, w, err := open(ctx, o.Data, s, out, past)
	if err != nil {
		return err
	}
	p, err := newPeers(w)
	if err != nil {
		return err
	}
	defer p.close()
	if err := p.introduce(ctx, s.Hub); err != nil {
		return err
	}
	drying := newBoard(boardID, st.Keys[boardID], s.MQTT, &w.mu, map[string]*bool{"heater": &w.room.heater}, w.room.measure, o.Log)
	all := []*board{drying,
		newBoard("kiln", st.Keys["kiln"], s.MQTT, &w.mu, map[string]*bool{"elements": &w.elements, "vent": &w.vent}, w.kiln, o.Log),
		newBoard("kiln_shed", st.Keys["kiln_shed"], s.MQTT, &w.mu, map[string]*bool{"extractor": &w.blower}, w.shed, o.Log),
		newBoard("slip_tank", st.Keys["slip_tank"], s.MQTT, &w.mu, map[string]*bool{"reclaim_pump": &w.pump}, w.tank, o.Log),
		newBoard("yard", st.Keys["yard"], s.MQTT, &w.mu, map[string]*bool{"lamp": &w.lamp, "gate_pulse": &w.gatePulse}, w.yard, o.Log),
		newBoard("glaze_store", st.Keys["glaze_store"], s.MQTT, &w.mu, map[string]*bool{"door_up": &w.doorUp, "door_down": &w.doorDown}, w.store, o.Log),
		newBoard("damp_cupboard", st.Keys["damp_cupboard"], s.MQTT, &w.mu, map[string]*bool{"mister": &w.mister}, w.cupboard, o.Log)}
	all[2].levels = map[string]*float64{"duct": &w.duct}
	cupboard := all[6]
	cupboard.copies = map[string]*float64{"keep": &w.keep}
	var ended sync.WaitGroup
	start := func(f func()) {
		ended.Add(1)
		go func() {
			defer ended.Done()
			f()
		}()
	}
	start(func() { w.run(ctx) })
	start(func() { w.sendBattery(ctx, s.UDP, st.Keys["shed_battery"]) })
	for _, b := range all {
		start(func() { b.run(ctx) })
	}
	go hands(in, out, drying, cupboard)
	greet(out, s, st)
	<-ctx.Done()
	ended.Wait()
	return s.Close()
}

// introduce tells the hub where the devices are that it has to ask; their ports are others at every start.
func (p *peers) introduce(ctx context.Context, h *hub.Hub) error {
	me := access.HubActor()
	me.Name = "the demo"
	for id, addr := range map[string]string{"shelf_fan": p.fanAddr, "glaze_scale": p.scaleAddr, "weather": p.weatherURL} {
		if _, err := h.ChangeDevice(ctx, me, id, func(d *site.Device) error {
			d.Link.Address = addr
			if id == "weather" {
				d.Link.IntervalMS = 60_000
			}
			if id == "shelf_fan" {
				d.Link.Watchdog = &site.Register{Table: site.Holding, Address: 10}
			}
			return nil
		}); err != nil {
			return fmt.Errorf("the demo's %s: %w", id, err)
		}
	}
	return nil
}

func greet(out io.Writer, s *serve.Service, st *studio) {
	p := func(format string, args ...any) { _, _ = fmt.Fprintf(out, format+"\n", args...) }
	p("The demo studio is running.\n\n  Console  http://%s\n  Boards   mqtt://%s\n\n  Accounts", s.HTTP, s.MQTT)
	for _, a := range st.Accounts {
		p("    %-8s %-26s %s", a.Account, a.Password, a.Role)
	}
	p(`
  To try
    Sign in as mo and tap the heater's On: the lamp glows when the board has confirmed, and the
    room gets warmer within a minute. Tap a value to see its history.
    Sign in on a second screen as kim and see both follow each other. visitor sees less.
    Here, type b and Enter to push the button on the board, p and Enter to pull its plug or put
    it back, k and Enter to turn the knob of the damp cupboard. Ctrl-C ends the demo.
    In another terminal:
      %[2]s login --hub http://%[1]s --account mo
      %[2]s now
      %[2]s switch drying_room.heater on
      %[2]s history drying_room.temperature --from 3d --plot
`, s.HTTP, os.Args[0])
}

// hands are somebody standing in front of the board.
func hands(in io.Reader, out io.Writer, b, cupboard *board) {
	lines := bufio.NewScanner(in)
	for lines.Scan() {
		switch strings.TrimSpace(lines.Text()) {
		case "b":
			b.press("heater")
			_, _ = fmt.Fprintln(out, "Somebody pushed the button on the drying room's board.")
		case "k":
			cupboard.turn("keep", 78)
			_, _ = fmt.Fprintln(out, "The knob of the damp cupboard is turned to 78 %.")
		case "p":
			if b.plug() {
				_, _ = fmt.Fprintln(out, "The drying room's board has power again.")
			} else {
				_, _ = fmt.Fprintln(out, "The drying room's board lost its power.")
			}
		case "":
		default:
			_, _ = fmt.Fprintln(out, "b pushes the board's button, p pulls its plug or puts it back, k turns the damp cupboard's knob, Ctrl-C ends the demo.")
		}
	}
}
