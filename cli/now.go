package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/signal"
	"slices"
	"strings"
	"syscall"
	"text/tabwriter"
	"time"

	"github.com/urfave/cli/v3"

	"idleember/client"
	"idleember/contract/shown"
	"idleember/core/words"
)

func nowCommand() *cli.Command {
	return &cli.Command{Name: "now", Usage: "show current conditions by place", Flags: remote(output()),
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, _ []string) error {
			r, err := h.GetNowWithResponse(ctx)
			if err != nil {
				return err
			}
			whole := *r.JSON200
			snap := present(whole)
			if cmd.String("output") == "table" {
				return nowTable(cmd, snap)
			}
			var rows [][]string
			for _, s := range snap.Signals {
				rows = append(rows, []string{s.State.Place, s.Config.ID, valueText(s.State.Value, s.Config.Decimals), s.Config.Unit,
					stamp(s.State.At), s.State.Fresh})
			}
			for _, c := range snap.Controls {
				rows = append(rows, []string{c.State.Place, c.Config.ID, controlText(c, c.State.Is), "", stamp(c.State.IsAt),
					controlState(c)})
			}
			return show(cmd, whole, []string{"place", "id", "value", "unit", "at", "state"}, rows)
		})}
}

// present leaves out what is of devices that were removed or disabled: their history is kept, and there is no now.
func present(snap client.Snapshot) client.Snapshot {
	away := map[string]bool{}
	for _, d := range snap.Devices {
		away[d.Config.ID] = d.Config.State != ""
	}
	gone := func(id string) bool {
		device, _, _ := strings.Cut(id, ".")
		return away[device]
	}
	snap.Signals = slices.DeleteFunc(slices.Clone(snap.Signals), func(s shown.Signal) bool { return gone(s.Config.ID) })
	snap.Controls = slices.DeleteFunc(slices.Clone(snap.Controls), func(c shown.Control) bool { return gone(c.Config.ID) })
	snap.Settings = slices.DeleteFunc(slices.Clone(snap.Settings), func(g shown.Setting) bool { return gone(g.Config.ID) })
	return snap
}

func stamp(t *time.Time) string {
	if t == nil {
		return ""
	}
	return t.Format(time.RFC3339)
}

func controlState(c shown.Control) string {
	text := string(c.State.Phase)
	if text == "" {
		text = "nothing wanted"
	}
	if c.State.Mode != "" {
		text = c.State.Mode + ", " + text
	}
	if c.State.Service != "" {
		text = "out of service, " + text
	}
	if c.State.Phase != "" && !c.State.Online {
		text += ", board offline"
	}
	return text
}

func nowTable(cmd *cli.Command, snap client.Snapshot) error {
	w, now := writer(cmd), snap.Hub.Time
	loc, err := time.LoadLocation(snap.Hub.Zone)
	if err != nil {
		loc = time.Local
	}
	_, _ = fmt.Fprintf(w, "%s · %s\n", snap.Hub.Name, now.In(loc).Format("15:04"))
	if snap.Hub.ClockDoubt != "" {
		_, _ = fmt.Fprintf(w, "! %s\n", snap.Hub.ClockDoubt)
	}
	if snap.Hub.Trouble != "" {
		_, _ = fmt.Fprintf(w, "! %s\n", snap.Hub.Trouble)
	}
	if len(snap.Signals)+len(snap.Controls) == 0 {
		_, _ = fmt.Fprintln(w, "\nNothing here yet. Add a device with: idleember devices add")
		return nil
	}
	t := tabwriter.NewWriter(w, 0, 0, 2, ' ', 0)
	for _, p := range snap.Places {
		var lines []string
		for _, s := range snap.Signals {
			if s.State.Place == p.Config.ID {
				age := "never heard"
				if s.State.Heard != nil {
					age = ago(s.State.Heard, now)
				}
				lines = append(lines, fmt.Sprintf("  %s\t%s %s\t%s\t%s\t%s", s.Config.Name, valueText(s.State.Value,
					s.Config.Decimals), words.UnitSign(s.Config.Unit), age, s.State.Fresh, s.Config.ID))
			}
		}
		for _, g := range snap.Settings {
			if g.State.Place == p.Config.ID {
				lines = append(lines, fmt.Sprintf("  %s\t%s\t\t%s\t%s", g.Config.Name, settingText(g), settingState(g),
					g.Config.ID))
			}
		}
		for _, c := range snap.Controls {
			if c.State.Place == p.Config.ID {
				lines = append(lines, fmt.Sprintf("  %s\t%s\t\t%s\t%s", c.Config.Name, c.State.Says.At(now), c.State.Mode,
					c.Config.ID))
			}
		}
		if len(lines) > 0 {
			_, _ = fmt.Fprintf(t, "\n%s\n%s\n", p.Config.Name, strings.Join(lines, "\n"))
		}
	}
	return t.Flush()
}

func watchCommand() *cli.Command {
	return &cli.Command{Name: "watch", Usage: "show changes as they come, until Ctrl-C", ArgsUsage: "[ID ...]",
		Description: "Ids may be signals, controls or devices; without any, everything is shown.", Flags: remote(output()),
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, _ []string) error {
			ctx, stop := signal.NotifyContext(ctx, syscall.SIGINT, syscall.SIGTERM)
			defer stop()
			zone, wanted := hubZone(ctx, h), cmd.Args().Slice()
			seen := func(id string) bool {
				for _, x := range wanted {
					if id == x || strings.HasPrefix(id, x+".") {
						return true
					}
				}
				return len(wanted) == 0
			}
			err := h.Live(ctx, func(e client.Event) error { return watchLine(cmd, e, seen, zone) }, func(err error) {
				_, _ = fmt.Fprintf(os.Stderr, "%v; trying again\n", err)
			})
			if ctx.Err() != nil {
				return nil
			}
			return err
		})}
}

func watchLine(cmd *cli.Command, e client.Event, seen func(string) bool, zone *time.Location) error {
	line := func(at *time.Time, id, value, more string) error {
		if !seen(id) {
			return nil
		}
		when := time.Now()
		if at != nil {
			when = *at
		}
		var err error
		switch cmd.String("output") {
		case "json":
			_, err = fmt.Fprintf(writer(cmd), "{\"kind\":%q,\"data\":%s}\n", e.Kind, e.Data)
		case "csv":
			_, err = fmt.Fprintf(writer(cmd), "%s,%s,%s,%q\n", when.Format(time.RFC3339Nano), id, value, more)
		default:
			_, err = fmt.Fprintf(writer(cmd), "%s  %-32s %-12s %s\n", when.In(zone).Format("15:04:05"), id, value, more)
		}
		return err
	}
	switch e.Kind {
	case "signal":
		var s shown.Signal
		if err := json.Unmarshal(e.Data, &s); err != nil {
			return err
		}
		more := ""
		if s.State.Fresh != "live" {
			more = string(s.State.Fresh)
		}
		return line(s.State.Heard, s.Config.ID, valueText(s.State.Value,
			s.Config.Decimals)+" "+words.UnitSign(s.Config.Unit), more)
	case "control":
		var c shown.Control
		if err := json.Unmarshal(e.Data, &c); err != nil {
			return err
		}
		want := controlText(c, c.State.Want)
		return line(nil, c.Config.ID, controlText(c, c.State.Is), fmt.Sprintf("want %s, %s: %s", want, controlState(c),
			c.State.Reason))
	case "device":
		var d shown.Device
		if err := json.Unmarshal(e.Data, &d); err != nil {
			return err
		}
		state := "offline"
		if d.State.Online {
			state = "online"
		}
		return line(nil, d.Config.ID, state, d.State.Why)
	}
	return nil
}
