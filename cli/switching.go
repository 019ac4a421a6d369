package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"idleember/client"
	"idleember/contract/shown"
	"idleember/core/words"
)

// untilFlags say for how long something holds.
func untilFlags() []cli.Flag {
	return []cli.Flag{&cli.DurationFlag{Name: "for", Usage: "for `TIME`, such as 20m or 2h"},
		&cli.StringFlag{Name: "until", Usage: "until `TIME`: 18:00, 2026-12-24 or RFC 3339"}}
}

// until is the end that --for and --until tell, nil where they tell none.
func until(ctx context.Context, cmd *cli.Command, h *client.Remote) (*time.Time, error) {
	now := time.Now()
	switch text := cmd.String("until"); {
	case cmd.IsSet("for") && text != "":
		return nil, &UsageError{"tell --for or --until, not both"}
	case cmd.IsSet("for"):
		end := now.Add(cmd.Duration("for"))
		return &end, nil
	case text == "":
		return nil, nil
	default:
		zone := hubZone(ctx, h)
		if clock, err := time.Parse("15:04", text); err == nil {
			local := now.In(zone)
			end := time.Date(local.Year(), local.Month(), local.Day(), clock.Hour(), clock.Minute(), 0, 0, zone)
			if !end.After(now) {
				end = end.AddDate(0, 0, 1)
			}
			return &end, nil
		}
		for _, layout := range []string{time.DateOnly, "2006-01-02 15:04", time.RFC3339} {
			if end, err := time.ParseInLocation(layout, text, zone); err == nil {
				return &end, nil
			}
		}
		return nil, &UsageError{fmt.Sprintf("%q is no time; write 18:00, 2026-12-24, \"2026-12-24 18:00\" or RFC 3339", text)}
	}
}

// valueFrom reads a value as the API wants it: a number where it is one, else a word; on and off are true and false.
func valueFrom(word string) client.Value {
	switch strings.ToLower(strings.TrimSpace(word)) {
	case "on":
		return true
	case "off":
		return false
	}
	if f, err := strconv.ParseFloat(strings.TrimSpace(strings.TrimSuffix(word, "%")), 64); err == nil {
		return f
	}
	return word
}

func switchCommand() *cli.Command {
	return &cli.Command{Name: "switch", Usage: "give a control a value by hand and wait until its board confirms it",
		ArgsUsage: "CONTROL VALUE",
		Description: "VALUE is on or off; 0 to 100 for a level; a word for a choice; open, stop or close for a mover.\n" +
			"Exit code 5 says that it did not come about: the board has not confirmed in time (the want stays and is sent " +
			"again), or an interlock, a limit or another control holds it.",
		Flags: remote(append(untilFlags(), output(), &cli.BoolFlag{Name: "no-wait",
			Usage: "do not wait for the confirmation"})...),
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
			end, err := until(ctx, cmd, h)
			if err != nil {
				return err
			}
			wait, to := !cmd.Bool("no-wait"), valueFrom(args[1])
			r, err := h.SwitchControlWithResponse(ctx, args[0], &client.SwitchControlParams{Wait: &wait},
				client.SwitchControlJSONRequestBody{To: to, Until: end})
			if err != nil {
				return err
			}
			if err := heldOff(*r.JSON200, to); err != nil {
				return err
			}
			return settled(cmd, *r.JSON200, wait, func(c shown.Control) string {
				if c.Config.Momentary == nil && (c.State.Mode == "" || c.State.Mode == "manual") && c.State.WantBy != "" &&
					c.State.Want != nil && valueText(c.State.Want, -1) != valueText(to, -1) && c.State.Step == "hand" {
					return fmt.Sprintf("%s was switched %s by %s meanwhile", c.Config.ID, controlText(c, c.State.Want), c.State.WantBy)
				}
				return ""
			})
		}, "CONTROL", "VALUE")}
}

// heldOff says that a value was taken and does not apply now, because something stronger holds.
func heldOff(c shown.Control, to client.Value) error {
	limit, step := c.State.Limit, c.State.Step
	stronger := step == "interlock" || step == "service" || limit != ""
	if c.Config.Momentary != nil || c.State.Want == nil || !stronger || valueText(c.State.Want, -1) == valueText(to, -1) {
		return nil
	}
	return &UnconfirmedError{fmt.Sprintf("%s: %s is noted, but it is %s now: %s", c.Config.Name, controlText(c, to),
		controlText(c, c.State.Want), c.State.Reason)}
}

func autoCommand() *cli.Command {
	return &cli.Command{Name: "auto", Usage: "give a control back to the hub", ArgsUsage: "CONTROL",
		Flags: remote(output(), &cli.BoolFlag{Name: "no-wait", Usage: "do not wait for the confirmation"}),
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
			wait := !cmd.Bool("no-wait")
			r, err := h.AutoControlWithResponse(ctx, args[0], &client.AutoControlParams{Wait: &wait})
			if err != nil {
				return err
			}
			return settled(cmd, *r.JSON200, wait, nil)
		}, "CONTROL")}
}

// settled says how a control is after a command. meanwhile may say that somebody else was faster.
func settled(cmd *cli.Command, c shown.Control, wait bool, meanwhile func(shown.Control) string) error {
	if cmd.String("output") != "table" {
		if err := show(cmd, c, []string{"id", "want", "is", "phase"}, [][]string{{c.Config.ID, controlText(c, c.State.Want),
			controlText(c, c.State.Is), string(c.State.Phase)}}); err != nil {
			return err
		}
	}
	say := func(format string, args ...any) {
		if cmd.String("output") == "table" {
			_, _ = fmt.Fprintf(writer(cmd), format+"\n", args...)
			if !c.State.Reason.IsZero() {
				_, _ = fmt.Fprintf(writer(cmd), "  %s\n", c.State.Reason)
			}
		}
	}
	if meanwhile != nil {
		if why := meanwhile(c); why != "" {
			return errors.New(why)
		}
	}
	want := controlText(c, c.State.Want)
	switch {
	case c.Config.Momentary != nil:
		say("%s: %s.", c.Config.Name, c.State.Phase)
		if c.State.Phase == "unconfirmed" {
			return &UnconfirmedError{c.Config.Name + ": " + c.State.Reason.String()}
		}
	case c.State.Phase == "confirmed":
		say("%s is %s, confirmed by its board.", c.Config.Name, controlText(c, c.State.Is))
	case c.State.Phase == "assumed":
		say("%s is taken to be %s; no contact shows it.", c.Config.Name, want)
	case c.State.Phase == "sent":
		say("%s: %s is sent; this board cannot confirm.", c.Config.Name, want)
	case !wait || c.State.Phase == "":
		say("%s: %s is on its way.", c.Config.Name, want)
	default:
		why := "its board has not answered"
		if !c.State.Online {
			why = "its board is offline and gets it when it is back"
		}
		return &UnconfirmedError{fmt.Sprintf("%s: %s is wanted but not confirmed: %s", c.Config.Name, want, why)}
	}
	return nil
}

func settingText(g shown.Setting) string {
	text := g.State.Text
	if u := words.UnitSign(g.Config.Unit); u != g.Config.Unit {
		text = strings.TrimSuffix(text, g.Config.Unit) + u
	}
	return text
}

func settingState(g shown.Setting) string {
	switch {
	case g.State.Locked != "":
		return "locked: " + g.State.Locked
	case g.State.Until != nil:
		return "until " + g.State.Until.Local().Format("2006-01-02 15:04")
	}
	return ""
}

func setCommand() *cli.Command {
	return &cli.Command{Name: "set", Usage: "change the value of a setting", ArgsUsage: "SETTING VALUE",
		Description: "VALUE is a number, 10:30 for a time of day, 20m for a duration, or a word. With --for or --until it " +
			"goes\nback to what it was then.",
		Flags: remote(append(untilFlags(), output())...),
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
			end, err := until(ctx, cmd, h)
			if err != nil {
				return err
			}
			r, err := h.SetSettingWithResponse(ctx, args[0], client.SetSettingJSONRequestBody{Value: args[1], Until: end})
			if err != nil {
				return err
			}
			return settingRows(cmd, []shown.Setting{*r.JSON200})
		}, "SETTING", "VALUE")}
}

func settingRows(cmd *cli.Command, list []shown.Setting) error {
	var rows [][]string
	for _, g := range list {
		rows = append(rows, []string{g.Config.ID, g.Config.Name, settingText(g), settingState(g), g.State.By})
	}
	return show(cmd, list, []string{"id", "name", "value", "state", "by"}, rows)
}

func presetCommand() *cli.Command {
	return &cli.Command{Name: "preset", Usage: "apply a preset", ArgsUsage: "PRESET",
		Description: "With --for or --until, what it sets goes back then: settings to what they were, controls to auto.",
		Flags:       remote(untilFlags()...),
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
			end, err := until(ctx, cmd, h)
			if err != nil {
				return err
			}
			if _, err := h.ApplyPresetWithResponse(ctx, args[0], client.ApplyPresetJSONRequestBody{Until: end}); err != nil {
				return err
			}
			_, _ = fmt.Fprintf(writer(cmd), "Applied %s.\n", args[0])
			return nil
		}, "PRESET")}
}

func whyCommand() *cli.Command {
	return &cli.Command{Name: "why", Usage: "say why a control is what it is, what it would be otherwise, and what " +
		"comes next", ArgsUsage: "CONTROL",
		Flags: remote(output()),
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
			r, err := h.WhyControlWithResponse(ctx, args[0])
			if err != nil {
				return err
			}
			w := *r.JSON200
			if cmd.String("output") != "table" {
				return show(cmd, w, []string{"reason"}, [][]string{{w.Reason.String()}})
			}
			out := writer(cmd)
			_, _ = fmt.Fprintf(out, "%s: %s\n", args[0], w.Reason)
			for _, line := range w.Lines {
				_, _ = fmt.Fprintf(out, "  %s\n", line)
			}
			if !w.Else.IsZero() {
				_, _ = fmt.Fprintf(out, "Otherwise: %s\n", w.Else)
			}
			for _, line := range w.Next {
				_, _ = fmt.Fprintf(out, "Next: %s\n", line)
			}
			return nil
		}, "CONTROL")}
}

func nextCommand() *cli.Command {
	return &cli.Command{Name: "next", Usage: "show what will run when", Flags: remote(output(),
		&cli.DurationFlag{Name: "within", Value: 7 * 24 * time.Hour, Usage: "look `TIME` ahead"}),
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, _ []string) error {
			end := time.Now().Add(cmd.Duration("within"))
			r, err := h.GetNextWithResponse(ctx, &client.GetNextParams{Until: &end})
			if err != nil {
				return err
			}
			zone := hubZone(ctx, h)
			var rows [][]string
			for _, u := range *r.JSON200 {
				ends := ""
				if !u.Ends.IsZero() {
					ends = u.Ends.In(zone).Format("15:04:05")
				}
				rows = append(rows, []string{u.At.In(zone).Format("Mon 2006-01-02 15:04:05"), ends, u.ID, u.What.String()})
			}
			if len(rows) == 0 && cmd.String("output") == "table" {
				_, _ = fmt.Fprintln(writer(cmd), "Nothing is planned.")
				return nil
			}
			return show(cmd, *r.JSON200, []string{"starts", "ends", "control", "what"}, rows)
		})}
}

func formulaCommand() *cli.Command {
	return &cli.Command{Name: "formula", Usage: "check a formula and show what it comes to now; without one, list what " +
		"formulas can name", ArgsUsage: "[FORMULA]",
		Flags: remote(output()),
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, _ []string) error {
			text := strings.Join(cmd.Args().Slice(), " ")
			if text == "" {
				r, err := h.FormulaWordsWithResponse(ctx)
				if err != nil {
					return err
				}
				var rows [][]string
				for _, w := range *r.JSON200 {
					rows = append(rows, []string{w.Kind, w.Text, w.Says, w.Unit})
				}
				return show(cmd, *r.JSON200, []string{"kind", "write", "means", "unit"}, rows)
			}
			r, err := h.CheckFormulaWithResponse(ctx, client.CheckFormulaJSONRequestBody{Text: text})
			if err != nil {
				return err
			}
			c := *r.JSON200
			if cmd.String("output") != "table" {
				return show(cmd, c, []string{"ok", "value", "reason"}, [][]string{{fmt.Sprint(c.OK), c.Value, c.Reason}})
			}
			if !c.OK {
				return fmt.Errorf("%s\n  %s\n  %s%s", c.Reason, text, strings.Repeat(" ", c.From), strings.Repeat("^",
					max(1, c.To-c.From)))
			}
			_, _ = fmt.Fprintln(writer(cmd), strings.TrimSpace(c.Value+" "+words.UnitSign(c.Unit)))
			return nil
		})}
}

func remarkRows(cmd *cli.Command, zone *time.Location, list []client.Remark) error {
	var rows [][]string
	for _, m := range slices.Backward(list) {
		at := m.At.In(zone).Format("2006-01-02 15:04:05")
		if m.Until != nil {
			at += " to " + m.Until.In(zone).Format("2006-01-02 15:04:05")
		}
		rows = append(rows, []string{strconv.FormatInt(m.ID, 10), at, m.Object, m.Text, m.By})
	}
	return show(cmd, list, []string{"number", "at", "about", "text", "by"}, rows)
}

func messagesCommand() *cli.Command {
	return &cli.Command{Name: "messages", Usage: "show the newest messages to people", Flags: remote(output()),
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, _ []string) error {
			r, err := h.ListMessagesWithResponse(ctx)
			if err != nil {
				return err
			}
			return remarkRows(cmd, hubZone(ctx, h), *r.JSON200)
		})}
}

func notesCommand() *cli.Command {
	return &cli.Command{Name: "notes", Usage: "show the newest notes, put one, take one away", Flags: remote(output()),
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, _ []string) error {
			r, err := h.ListNotesWithResponse(ctx, nil)
			if err != nil {
				return err
			}
			return remarkRows(cmd, hubZone(ctx, h), *r.JSON200)
		}),
		Commands: []*cli.Command{
			{Name: "add", Usage: "put a note", ArgsUsage: "OBJECT TEXT",
				Description: "OBJECT is a place, a device, a signal or a control: idleember notes add spray_booth \"new filter\"",
				Flags: remote(output(),
					&cli.StringFlag{Name: "at", Value: "now", Usage: "at `TIME`: 24h or 7d ago, 14:30, 2026-11-20, or RFC 3339"},
					&cli.StringFlag{Name: "until", Usage: "it is about a stretch that ends at `TIME`"}),
				Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
					zone := hubZone(ctx, h)
					at, err := when(cmd.String("at"), time.Now().In(zone))
					if err != nil {
						return err
					}
					n := client.NewNote{At: at, Object: args[0], Text: args[1]}
					if text := cmd.String("until"); text != "" {
						until, err := when(text, time.Now().In(zone))
						if err != nil {
							return err
						}
						n.Until = &until
					}
					r, err := h.AddNoteWithResponse(ctx, n)
					if err != nil {
						return err
					}
					return remarkRows(cmd, zone, []client.Remark{*r.JSON201})
				}, "OBJECT", "TEXT")},
			{Name: "remove", Usage: "take a note away", ArgsUsage: "NUMBER", Flags: remote(),
				Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
					id, err := strconv.ParseInt(args[0], 10, 64)
					if err != nil {
						return &UsageError{fmt.Sprintf("%q is no number; see idleember notes", args[0])}
					}
					_, err = h.RemoveNoteWithResponse(ctx, id)
					return err
				}, "NUMBER")},
		}}
}
