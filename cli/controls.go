package cli

import (
	"context"

	"github.com/urfave/cli/v3"

	"idleember/client"
	"idleember/contract/shown"
	"idleember/core/site"
)

func controlsCommand() *cli.Command {
	return &cli.Command{Name: "controls", Usage: "list controls, add, change, map or remove one", Flags: remote(output()),
		Commands: []*cli.Command{addControlCommand(), changeControlCommand(), mapControlCommand(), {
			Name: "remove", Usage: "take a control away, after making it safe", ArgsUsage: "CONTROL", Flags: remote(stayFlag()),
			Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
				r, err := h.RemoveControlWithResponse(ctx, args[0], &client.RemoveControlParams{Stay: stays(cmd)})
				if err != nil {
					return err
				}
				return removed(cmd, args[0], r.JSON200.Remarks)
			}, "CONTROL")}},
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, _ []string) error {
			r, err := h.GetNowWithResponse(ctx)
			if err != nil {
				return err
			}
			return controlRows(cmd, r.JSON200.Controls)
		})}
}

// stayFlag chooses what becomes of what an interlock forces while something is taken away.
func stayFlag() cli.Flag {
	return &cli.BoolFlag{Name: "stay", Usage: "leave what an interlock forces as it is, instead of the safe value"}
}

func stays(cmd *cli.Command) *bool {
	stay := cmd.Bool("stay")
	return &stay
}

// targetFlags say how a want is sent.
func targetFlags() []cli.Flag {
	return append(sourceFlags(),
		&cli.StringFlag{Name: "send-topic", Usage: "publish wants on this MQTT `TOPIC`"},
		&cli.StringFlag{Name: "send-on", Usage: "send this `WORD` for on"},
		&cli.StringFlag{Name: "send-off", Usage: "send this `WORD` for off"},
		&cli.StringFlag{Name: "template", Usage: "send this `TEXT` with {value} for the word"},
		&cli.BoolFlag{Name: "retain", Usage: "let the broker keep it"},
		&cli.StringFlag{Name: "send-register", Usage: "write to this Modbus register, `TABLE:ADDRESS[:TYPE]`"})
}

// mappingFrom is where a control's reports are found and how its wants are sent.
func mappingFrom(cmd *cli.Command) (src site.Source, t site.Target, err error) {
	if src, err = sourceFrom(cmd); err != nil {
		return src, t, err
	}
	t = site.Target{Topic: cmd.String("send-topic"), On: cmd.String("send-on"), Off: cmd.String("send-off"),
		Template: cmd.String("template"), Retain: cmd.Bool("retain")}
	t.Register, err = register(cmd.String("send-register"))
	return src, t, err
}

func addControlCommand() *cli.Command {
	return &cli.Command{Name: "add", Usage: "add a switch to a device", ArgsUsage: "DEVICE NAME",
		Flags: remote(append(targetFlags(), output(), &cli.BoolFlag{Name: "answers", Value: true,
			Usage: "the device reports what it is"})...),
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
			src, target, err := mappingFrom(cmd)
			if err != nil {
				return err
			}
			c, err := h.Controls().Make(ctx, patch{"device": args[0], "name": args[1], "answers": cmd.Bool("answers"),
				"source": src, "target": target})
			if err != nil {
				return err
			}
			return controlRows(cmd, []shown.Control{c})
		}, "DEVICE", "NAME")}
}

func mapControlCommand() *cli.Command {
	return &cli.Command{Name: "map", Usage: "say how a control's wants are sent and where its reports are found; " +
		"without options: as the link's rules say", ArgsUsage: "CONTROL",
		Flags: remote(append(targetFlags(), output())...),
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
			src, target, err := mappingFrom(cmd)
			if err != nil {
				return err
			}
			c, err := changed(ctx, h.Controls(), args[0], func(c *site.Control) { c.Source, c.Target = src, target })
			if err != nil {
				return err
			}
			return controlRows(cmd, []shown.Control{c})
		}, "CONTROL")}
}

func changeControlCommand() *cli.Command {
	return &cli.Command{Name: "change", Usage: "change a control", ArgsUsage: "CONTROL", Flags: remote(output(),
		&cli.StringFlag{Name: "name", Usage: "its `NAME`"},
		&cli.DurationFlag{Name: "confirm-after", Usage: "call it unconfirmed after `TIME`"},
		&cli.DurationFlag{Name: "resume-within", Usage: "after an absence longer than `TIME` the safe value holds"},
		&cli.StringFlag{Name: "kind", Usage: "it is a `KIND`: switch, level, choice or mover"},
		&cli.StringSliceFlag{Name: "option", Usage: "of a choice: one `WORD`; repeat it"},
		&cli.Float64Flag{Name: "lowest", Usage: "of a level: it does not run below `PERCENT`"},
		&cli.DurationFlag{Name: "pulse", Usage: "of a switch: it is momentary and goes on for `TIME`; 0 ends that"},
		&cli.IntFlag{Name: "pulse-times", Usage: "pulse `N` times"},
		&cli.DurationFlag{Name: "pulse-gap", Usage: "wait `TIME` between pulses"},
		&cli.StringFlag{Name: "safe", Usage: "its safe `VALUE`"},
		&cli.StringFlag{Name: "service", Usage: "out of service for repairs: `HOW`, silent or safe; or back: in"},
		&cli.BoolFlag{Name: "reset", Usage: "let latched interlocks go whose cause is over"},
		&cli.BoolFlag{Name: "dangerous", Usage: "ask before switching on, never resume by itself"},
		&cli.StringFlag{Name: "at-device", Usage: "when switched at the board: `WHAT`, follow or insist"},
		&cli.StringFlag{Name: "guests", Usage: "guests may do `WHAT`: none, see or switch"}),
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
			b := patch{}.texts(cmd, "name", "kind", "at-device", "guests").millis(cmd, "confirm-after",
				"resume-within").flags(cmd, "dangerous")
			return changeKind(ctx, cmd, h, args[0], b)
		}, "CONTROL")}
}

// changeKind adds what concerns the kind of a control, and does what is no change of its settings.
func changeKind(ctx context.Context, cmd *cli.Command, h *client.Remote, id string, b patch) error {
	if cmd.IsSet("reset") {
		r, err := h.ResetControlWithResponse(ctx, id)
		if err != nil {
			return err
		}
		return controlRows(cmd, []shown.Control{*r.JSON200})
	}
	if how := cmd.String("service"); how != "" {
		if how == "in" {
			how = ""
		}
		r, err := h.ServeControlWithResponse(ctx, id,
			client.ServeControlJSONRequestBody{Service: client.ServeControlJSONBodyService(how)})
		if err != nil {
			return err
		}
		return controlRows(cmd, []shown.Control{*r.JSON200})
	}
	if list := cmd.StringSlice("option"); len(list) > 0 {
		b["options"] = list
	}
	if cmd.IsSet("lowest") {
		b["lowest"] = cmd.Float64("lowest")
	}
	if cmd.IsSet("pulse") {
		b["momentary"] = nil
		if long := cmd.Duration("pulse"); long > 0 {
			b["momentary"] = site.Pulse{ForMS: long.Milliseconds(), Times: cmd.Int("pulse-times"),
				GapMS: cmd.Duration("pulse-gap").Milliseconds()}
		}
	}
	if cmd.IsSet("safe") {
		b["safe"] = valueFrom(cmd.String("safe"))
	}
	c, err := h.Controls().Patch(ctx, id, b, "")
	if err != nil {
		return err
	}
	return controlRows(cmd, []shown.Control{c})
}

func controlRows(cmd *cli.Command, list []shown.Control) error {
	var rows [][]string
	for _, c := range list {
		rows = append(rows, []string{c.Config.ID, c.Config.Name, controlText(c, c.State.Is), controlText(c, c.State.Want),
			controlState(c), c.State.Reason.String()})
	}
	return show(cmd, list, []string{"id", "name", "is", "want", "state", "why"}, rows)
}
