package serve

import (
	"context"
	"fmt"
	"os"
	"os/signal"
	"syscall"
	"time"

	"github.com/schollz/progressbar/v3"
	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"idleember/store"
)

// CheckCommand is `idleember check`.
func CheckCommand() *cli.Command {
	return &cli.Command{Name: "check", Usage: "read everything that a hub keeps, and verify it",
		Description: `Verifies the database's structure, the checksum and contents of every block of readings, and the sums of hours against the
readings. The hub must not be running. Nothing is changed.`,
		Flags: []cli.Flag{dataFlag()},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			ctx, stop := signal.NotifyContext(ctx, os.Interrupt, syscall.SIGTERM)
			defer stop()
			dir := cmd.String("data")
			if _, err := os.Stat(dir); err != nil {
				return fmt.Errorf("there is no hub in %s; tell where it is with --data", dir)
			}
			s, err := store.Open(ctx, dir, store.Options{})
			if err != nil {
				return err
			}
			defer func() { _ = s.Close() }()
			bar := progressbar.NewOptions(-1, progressbar.OptionSetWriter(os.Stderr), progressbar.OptionSetVisibility(term.IsTerminal(int(os.Stderr.Fd()))),
				progressbar.OptionSetDescription("series"), progressbar.OptionThrottle(100*time.Millisecond), progressbar.OptionClearOnFinish(), progressbar.OptionShowCount())
			err = s.Check(ctx, func(done, of int) {
				bar.ChangeMax(of)
				_ = bar.Set(done)
			})
			_ = bar.Finish()
			if err != nil {
				return fmt.Errorf("%s is damaged:\n%w", dir, err)
			}
			_, _ = fmt.Fprintf(cmd.Root().Writer, "All is well in %s (%.1f MB).\n", dir, float64(s.Size())/1e6)
			return nil
		}}
}
