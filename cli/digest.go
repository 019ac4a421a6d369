package cli

import (
	"context"
	"fmt"
	"os"
	"time"

	"github.com/urfave/cli/v3"

	"idleember/client"
)

func digestCommand() *cli.Command {
	return &cli.Command{Name: "digest", Usage: "tell what happened in the last day or week: alerts, outages, energy, " +
		"run hours",
		Flags: remote(output(), &cli.BoolFlag{Name: "week", Usage: "in the last week"}),
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, _ []string) error {
			to := time.Now()
			from := to.AddDate(0, 0, -1)
			if cmd.Bool("week") {
				from = to.AddDate(0, 0, -7)
			}
			r, err := h.GetDigestWithResponse(ctx, &client.GetDigestParams{From: &from, To: &to})
			if err != nil {
				return err
			}
			var rows [][]string
			for _, s := range r.JSON200.Sections {
				title := s.Title
				for _, l := range s.Lines {
					rows = append(rows, []string{title, l.Text})
					if cmd.String("output") == "table" {
						title = ""
					}
				}
			}
			if len(rows) == 0 && cmd.String("output") == "table" {
				_, err := fmt.Fprintln(writer(cmd), "Nothing happened that needs a word.")
				return err
			}
			return show(cmd, r.JSON200, []string{"", "what happened"}, rows)
		})}
}

func lookCommand() *cli.Command {
	return &cli.Command{Name: "look", Usage: "take a still picture of what a device's camera sees", ArgsUsage: "DEVICE",
		Flags: remote(&cli.StringFlag{Name: "file", Usage: "where the JPEG goes; DEVICE.jpg where it is not told"}),
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
			s, err := h.TakeStillWithResponse(ctx, args[0])
			if err != nil {
				return err
			}
			picture, err := h.GetStillWithResponse(ctx, s.JSON201.ID)
			if err != nil {
				return err
			}
			file := cmd.String("file")
			if file == "" {
				file = args[0] + ".jpg"
			}
			if err := os.WriteFile(file, picture.Body, 0o600); err != nil {
				return err
			}
			_, err = fmt.Fprintf(writer(cmd), "%s, %d kB, of %s\n", file, (len(picture.Body)+512)/1024,
				s.JSON201.At.Local().Format("2 Jan 15:04:05"))
			return err
		}, "DEVICE")}
}
