package cli

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"idleember/client"
)

func backupsCommand() *cli.Command {
	elsewhere := &cli.BoolFlag{Name: "elsewhere", Usage: "those at the other place to which they are copied"}
	return &cli.Command{Name: "backups", Usage: "show the backups of a hub, make one, fetch one, or try a restore",
		Flags: append(remote(output()), elsewhere),
		Description: "How they are made, and where else they go, is set in the console under Settings. To write one to a " +
			"file of your own use backup.",
		Commands: []*cli.Command{makeBackupCommand(), fetchBackupCommand(), drillCommand()},
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, _ []string) error {
			r, err := h.Backups().Get(ctx)
			if err != nil {
				return err
			}
			list := r.State.List
			if cmd.Bool("elsewhere") {
				there, err := h.GetBackupsElsewhereWithResponse(ctx)
				if err != nil {
					return err
				}
				list = *there.JSON200
			}
			zone := hubZone(ctx, h)
			var rows [][]string
			for _, b := range list {
				remark := ""
				switch {
				case b.Of != "":
					remark = "of another hub: " + b.Of
				case b.Damaged != "":
					remark = "made of a damaged database"
				}
				rows = append(rows, []string{b.Name, b.At.In(zone).Format("2006-01-02 15:04"), size(b.Bytes), remark})
			}
			if err := show(cmd, list, []string{"backup", "made", "size", "remark"}, rows); err != nil ||
				cmd.String("output") != "table" {
				return err
			}
			for what, why := range map[string]string{"The last one was not made": r.State.Failed,
				"The newest is not at the other place": r.State.NotCopied, "The last restore drill failed": r.State.DrillFailed} {
				if why != "" {
					_, _ = fmt.Fprintf(writer(cmd), "%s: %s\n", what, why)
				}
			}
			return nil
		})}
}

func makeBackupCommand() *cli.Command {
	return &cli.Command{Name: "make", Usage: "make one now", Flags: remote(),
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, _ []string) error {
			r, err := h.BackUpWithResponse(ctx)
			if err != nil {
				return err
			}
			_, err = fmt.Fprintf(writer(cmd), "%s is made (%s).\n", r.JSON201.Name, size(r.JSON201.Bytes))
			return err
		})}
}

func fetchBackupCommand() *cli.Command {
	return &cli.Command{Name: "fetch", Usage: "bring one from the other place to the hub's own", ArgsUsage: "NAME",
		Flags: remote(),
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
			r, err := h.FetchBackupWithResponse(ctx, args[0])
			if err != nil {
				return err
			}
			_, err = fmt.Fprintf(writer(cmd), "%s is here (%s).\n", r.JSON201.Name, size(r.JSON201.Bytes))
			return err
		}, "NAME")}
}

func drillCommand() *cli.Command {
	return &cli.Command{Name: "drill", Usage: "restore the newest one for a trial, and verify it", Flags: remote(),
		Description: "It is brought to a folder beside the database, opened, read and verified, and let go again. The hub " +
			"does it by itself once a month.",
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, _ []string) error {
			if _, err := h.DrillBackupWithResponse(ctx); err != nil {
				return err
			}
			_, err := fmt.Fprintln(writer(cmd), "The newest backup was restored and verified.")
			return err
		})}
}
