package demo

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"os"
	"os/signal"
	"strings"
	"syscall"
	"time"

	"github.com/urfave/cli/v3"

	"idleember/serve"
)

// Command is `idleember demo`.
func Command() *cli.Command {
	return &cli.Command{
		Name:  "demo",
		Usage: "run a hub with the demo studio: a simulated board, accounts and three weeks of history",
		Description: `Runs the hub like serve, with a made-up pottery studio in it. The board in the drying room is simulated, but speaks
real MQTT over loopback: switch its heater and the room gets warmer. Takes the options of serve.`,
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
	st, r, err := open(ctx, o.Data, s, out, past)
	if err != nil {
		return err
	}
	b := newBoard(boardID, st.Key, s.MQTT, r, o.Log)
	ended := make(chan struct{})
	go func() {
		b.run(ctx)
		close(ended)
	}()
	go hands(in, out, b)
	greet(out, s, st)
	<-ctx.Done()
	<-ended
	return s.Close()
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
    it back. Ctrl-C ends the demo.
    In another terminal:
      %[2]s login --hub http://%[1]s --account mo
      %[2]s now
      %[2]s switch drying_room.heater on
      %[2]s history drying_room.temperature --from 3d --plot
`, s.HTTP, os.Args[0])
}

// hands are somebody standing in front of the board.
func hands(in io.Reader, out io.Writer, b *board) {
	lines := bufio.NewScanner(in)
	for lines.Scan() {
		switch strings.TrimSpace(lines.Text()) {
		case "b":
			b.press()
			_, _ = fmt.Fprintln(out, "Somebody pushed the button on the drying room's board.")
		case "p":
			if b.plug() {
				_, _ = fmt.Fprintln(out, "The drying room's board has power again.")
			} else {
				_, _ = fmt.Fprintln(out, "The drying room's board lost its power.")
			}
		case "":
		default:
			_, _ = fmt.Fprintln(out, "b pushes the board's button, p pulls its plug or puts it back, Ctrl-C ends the demo.")
		}
	}
}
