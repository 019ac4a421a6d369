package cli

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"os/signal"
	"slices"
	"strconv"
	"time"

	"github.com/urfave/cli/v3"

	"idleember/client"
)

func deleteReadingsCommand() *cli.Command {
	return &cli.Command{Name: "delete-readings", Usage: "delete a stretch of readings", ArgsUsage: "SERIES",
		Description: "They are gone for good; the journal says who deleted how many. Write them to a file first with " +
			"\"idleember export\".",
		Flags: remote(
			&cli.StringFlag{Name: "from", Required: true,
				Usage: "begin at `TIME`: 24h or 7d ago, 14:30, 2026-11-20, or RFC 3339"},
			&cli.StringFlag{Name: "to", Required: true, Usage: "end before `TIME`"}),
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
			zone := hubZone(ctx, h)
			p := client.DeleteReadingsParams{Series: args[0]}
			var err error
			if p.From, err = when(cmd.String("from"), time.Now().In(zone)); err != nil {
				return err
			}
			if p.To, err = when(cmd.String("to"), time.Now().In(zone)); err != nil {
				return err
			}
			r, err := h.DeleteReadingsWithResponse(ctx, &p)
			if err != nil {
				return err
			}
			_, _ = fmt.Fprintf(writer(cmd), "Deleted %d readings of %s.\n", r.JSON200.Removed, args[0])
			return nil
		}, "SERIES")}
}

func storageCommand() *cli.Command {
	return &cli.Command{Name: "storage", Usage: "show what is kept of each signal, and how much was written to the disk",
		Flags: remote(output()), Commands: []*cli.Command{tidyCommand()},
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, _ []string) error {
			r, err := h.GetStorageWithResponse(ctx)
			if err != nil {
				return err
			}
			zone := hubZone(ctx, h)
			list := r.JSON200.Series
			slices.SortStableFunc(list, func(a, b client.KeptSeries) int { return cmp.Compare(b.Bytes, a.Bytes) })
			var rows [][]string
			for _, x := range list {
				rows = append(rows, []string{x.Series, strconv.FormatInt(x.Count, 10), size(x.Bytes),
					x.From.In(zone).Format("2006-01-02 15:04"), x.To.In(zone).Format("2006-01-02 15:04")})
			}
			if err := show(cmd, r.JSON200, []string{"series", "readings", "size", "from", "to"}, rows); err != nil {
				return err
			}
			if cmd.String("output") == "table" {
				text := fmt.Sprintf("\nThe database is %s large; %s of it are recorded input, of which the last 48 hours stay, "+
					"%s at most.", size(r.JSON200.DatabaseBytes), size(r.JSON200.RecordedBytes), size(r.JSON200.RecordedMost))
				if n := r.JSON200.WrittenBytes; n != nil {
					text += fmt.Sprintf(" %s were written since %s.", size(*n), r.JSON200.Since.In(zone).Format("2006-01-02 15:04"))
				}
				_, _ = fmt.Fprintln(writer(cmd), text)
			}
			return nil
		})}
}

func tidyCommand() *cli.Command {
	return &cli.Command{Name: "tidy", Usage: "let go of readings that are older than they are kept, and pack the " +
		"rest anew",
		Description: "The hub does it by itself now and then. It can be stopped at any time; collecting and reading go on " +
			"meanwhile.", Flags: remote(),
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, _ []string) error {
			ctx, stop := signal.NotifyContext(ctx, os.Interrupt)
			defer stop()
			r, err := h.GetStorageWithResponse(ctx)
			if err != nil {
				return err
			}
			bar := progress(int64(len(r.JSON200.Series)), "tidying up")
			var removed int64
			joined := 0
			for _, x := range r.JSON200.Series {
				got, err := h.TidyStorageWithResponse(ctx, client.TidyStorageJSONRequestBody{Series: x.Series})
				if err != nil {
					_ = bar.Exit()
					return err
				}
				removed, joined = removed+got.JSON200.Removed, joined+got.JSON200.Joined
				_ = bar.Add(1)
			}
			_ = bar.Finish()
			_, _ = fmt.Fprintf(writer(cmd), "Let go of %d readings; %d short blocks went into others.\n", removed, joined)
			return nil
		})}
}

// size writes bytes as people do.
func size(n int64) string {
	switch {
	case n >= 1e9:
		return fmt.Sprintf("%.2f GB", float64(n)/1e9)
	case n >= 1e6:
		return fmt.Sprintf("%.1f MB", float64(n)/1e6)
	case n >= 1e3:
		return fmt.Sprintf("%.1f kB", float64(n)/1e3)
	}
	return fmt.Sprintf("%d B", n)
}
