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

// SalvageCommand is `idleember salvage`.
func SalvageCommand() *cli.Command {
	return &cli.Command{Name: "salvage", Usage: "take everything readable out of a damaged hub", ArgsUsage: "NEW",
		Description: `Reads the database in the folder of --data, however damaged, and writes all of it that is whole to the new folder NEW, which is empty
or not there yet. What cannot be read is named. The damaged one is only read; the hub must not run. Readings are verified by their
checksums; the rest has none, so look through it. Where there is a backup from before the damage, compare what is lost either way.`,
		Flags: []cli.Flag{dataFlag()},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if cmd.Args().Len() != 1 {
				return fmt.Errorf("usage: idleember salvage --data OLD NEW")
			}
			ctx, stop := signal.NotifyContext(ctx, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
			defer stop()
			bar := progressbar.NewOptions(-1, progressbar.OptionSetWriter(os.Stderr),
				progressbar.OptionSetVisibility(term.IsTerminal(int(os.Stderr.Fd()))),
				progressbar.OptionSetDescription("salvaging"), progressbar.OptionThrottle(100*time.Millisecond),
				progressbar.OptionClearOnFinish(), progressbar.OptionShowCount())
			from, to, out := cmd.String("data"), cmd.Args().First(), cmd.Root().Writer
			got, err := store.Salvage(ctx, from, to, func(done, of int) {
				bar.ChangeMax(of)
				_ = bar.Set(done)
			})
			_ = bar.Finish()
			if err != nil {
				return err
			}
			_, _ = fmt.Fprintf(out, "%s holds what could be read of %s: %d readings and %d records of everything else.\n", to,
				from, got.Readings, got.Rows)
			if len(got.Lost) == 0 {
				_, err = fmt.Fprintf(out, "Nothing is known to be missing. Start it with: idleember serve --data %s\n", to)
				return err
			}
			_, _ = fmt.Fprintln(out, "\nMissing, as far as it is known:")
			for _, x := range got.Lost {
				_, _ = fmt.Fprintln(out, "  "+x)
			}
			_, err = fmt.Fprintf(out, "\nStart it with: idleember serve --data %s\n", to)
			return err
		}}
}
