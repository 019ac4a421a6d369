package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"idleember/client"
	"idleember/contract/shown"
	"idleember/core/alert"
	"idleember/core/site"
	"idleember/core/words"
)

// alertsCommand shows what people must know of, and lets them act on it.
func alertsCommand() *cli.Command {
	act := func(name, usage string, action client.ActOnAlertsJSONBodyAction, flags ...cli.Flag) *cli.Command {
		return &cli.Command{Name: name, Usage: usage, ArgsUsage: "ALERT ...",
			Flags: remote(append(flags, output(), &cli.StringFlag{Name: "word", Usage: "what you say with it"})...),
			Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
				b := client.ActOnAlertsJSONRequestBody{Ids: args, Action: action, Word: given(cmd, "word")}
				if action == "shelve" {
					ms := cmd.Duration("for").Milliseconds()
					b.ForMs = &ms
				}
				r, err := h.ActOnAlertsWithResponse(ctx, b)
				if err != nil {
					return err
				}
				return alertRows(cmd, *r.JSON200)
			}, "ALERT ...")}
	}
	return &cli.Command{Name: "alerts", Usage: "what people must know of: list, acknowledge, shelve, make",
		Flags: remote(output(), &cli.BoolFlag{Name: "all", Usage: "also those that are quiet"}),
		Commands: []*cli.Command{
			act("acknowledge", "say that you know; what is over and waits is cleared", "acknowledge"),
			act("shelve", "keep alerts quiet for a time", "shelve", &cli.DurationFlag{Name: "for", Value: 4 * time.Hour,
				Usage: "for this `TIME`"}),
			act("unshelve", "take alerts off the shelf", "unshelve"),
			act("retire", "take alerts out of service", "retire"),
			act("restore", "put alerts back in service", "restore"),
			{Name: "history", Usage: "what became of alerts, newest first", Flags: remote(output(),
				&cli.StringFlag{Name: "alert", Usage: "of this `ALERT`"}, &cli.IntFlag{Name: "limit", Value: 40,
					Usage: "at most `N`"}),
				Action: connected(alertHistory)},
			{Name: "try", Usage: "tell how often an alert would have come in the last month", ArgsUsage: "FILE",
				Flags: remote(output()), Description: "FILE is JSON as `alerts --all --output json` shows it under config, - for " +
					"standard input.",
				Action: connected(tryAlert, "FILE")},
			{Name: "save", Usage: "add an alert, or change the one that has this id", ArgsUsage: "FILE", Flags: remote(output()),
				Description: "FILE is JSON, - for standard input.",
				Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
					var a site.Alert
					if err := readFile(args[0], &a); err != nil {
						return err
					}
					saved, err := h.Alerts().Save(ctx, a)
					if err != nil {
						return err
					}
					return alertRows(cmd, []shown.Alert{saved})
				}, "FILE")},
			{Name: "remove", Usage: "take an alert away; a built-in one becomes as it was", ArgsUsage: "ALERT", Flags: remote(),
				Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
					if err := h.Alerts().Remove(ctx, args[0]); err != nil {
						return err
					}
					_, err := fmt.Fprintf(writer(cmd), "%s is gone.\n", args[0])
					return err
				}, "ALERT")}},
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, _ []string) error {
			list, err := h.Alerts().List(ctx)
			if err != nil {
				return err
			}
			if !cmd.Bool("all") {
				list = slices.DeleteFunc(list, func(a shown.Alert) bool { return a.State.Phase == alert.Normal })
			}
			if len(list) == 0 && cmd.String("output") == "table" {
				_, err = fmt.Fprintln(writer(cmd), "All is well.")
				return err
			}
			return alertRows(cmd, list)
		})}
}

func alertRows(cmd *cli.Command, list []shown.Alert) error {
	var rows [][]string
	for _, a := range list {
		since := ""
		if a.State.Since != nil {
			since = words.Duration(time.Since(*a.State.Since))
		}
		rows = append(rows, []string{a.Config.ID, string(a.Config.Severity), strings.ReplaceAll(string(a.State.Phase), "_",
			" "), a.Config.Name, a.State.Value.String(), a.State.Limit.String(), since})
	}
	return show(cmd, list, []string{"id", "severity", "phase", "alert", "now", "limit", "for"}, rows)
}

func alertHistory(ctx context.Context, cmd *cli.Command, h *client.Remote, _ []string) error {
	limit := cmd.Int("limit")
	r, err := h.ListAlertEventsWithResponse(ctx, &client.ListAlertEventsParams{Alert: given(cmd, "alert"), Limit: &limit})
	if err != nil {
		return err
	}
	zone := hubZone(ctx, h)
	var rows [][]string
	for _, e := range *r.JSON200 {
		rows = append(rows, []string{e.At.In(zone).Format("2006-01-02 15:04:05"), e.What, e.Name, e.Value, e.By})
	}
	return show(cmd, *r.JSON200, []string{"at", "what", "alert", "value", "by"}, rows)
}

func tryAlert(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
	var a site.Alert
	if err := readFile(args[0], &a); err != nil {
		return err
	}
	r, err := h.TryAlertWithResponse(ctx, client.TryAlertJSONRequestBody{Alert: a})
	if err != nil {
		return err
	}
	zone, x := hubZone(ctx, h), *r.JSON200
	var rows [][]string
	for _, o := range x.Occurrences {
		worst := fmt.Sprintf("%g", o.Worst)
		if a.Kind == site.AlertFormula { // it has no value of its own
			worst = ""
		}
		rows = append(rows, []string{time.UnixMilli(o.From).In(zone).Format("2006-01-02 15:04"),
			words.Duration(time.Duration(o.To-o.From) * time.Millisecond), worst})
	}
	if cmd.String("output") == "table" {
		_, _ = fmt.Fprintf(writer(cmd), "It would have come %d times, for %s in all.\n", x.Count,
			words.Duration(time.Duration(x.ActiveMs)*time.Millisecond))
	}
	return show(cmd, x, []string{"from", "for", "worst"}, rows)
}

func routesCommand() *cli.Command {
	c := keptParts("routes", "route", (*client.Remote).Routes, routeRows)
	c.Commands = append(c.Commands, &cli.Command{Name: "test",
		Usage: "send a test over a route and tell what the other side answered", ArgsUsage: "ROUTE", Flags: remote(),
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
			r, err := h.TestRouteWithResponse(ctx, args[0])
			if err != nil {
				return err
			}
			if !r.JSON200.Sent {
				return fmt.Errorf("it was not taken: %s", r.JSON200.Answer)
			}
			_, err = fmt.Fprintf(writer(cmd), "Taken: %s\n", r.JSON200.Answer)
			return err
		}, "ROUTE")})
	return c
}

func routeRows(cmd *cli.Command, list []shown.Route) error {
	var rows [][]string
	for _, r := range list {
		rows = append(rows, []string{r.Config.ID, r.Config.Name, r.Config.Via, r.Config.To, string(r.Config.Least)})
	}
	return show(cmd, list, []string{"id", "name", "by", "to", "from"}, rows)
}

func servicedCommand() *cli.Command {
	return &cli.Command{Name: "serviced", Usage: "say that a control was serviced; its hours begin anew",
		ArgsUsage: "CONTROL", Flags: remote(),
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
			if _, err := h.ServicedWithResponse(ctx, args[0]); err != nil {
				return err
			}
			_, err := fmt.Fprintf(writer(cmd), "%s begins anew with 0 h.\n", args[0])
			return err
		}, "CONTROL")}
}

func sayCommand() *cli.Command {
	return &cli.Command{Name: "say", Usage: "tell in one sentence how a device, place, dashboard, signal or control is",
		ArgsUsage: "WHAT", Flags: remote(),
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
			r, err := h.SayWithResponse(ctx, &client.SayParams{About: args[0]})
			if err != nil {
				return err
			}
			_, err = fmt.Fprintln(writer(cmd), r.JSON200.Sentence)
			return err
		}, "WHAT")}
}
