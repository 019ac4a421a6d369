package cli

import (
	"context"

	"github.com/urfave/cli/v3"

	"idleember/client"
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
	t = site.Target{Topic: cmd.String("send-topic"), On: cmd.String("send-on"), Off: cmd.String("send-off"), Template: cmd.String("template"), Retain: cmd.Bool("retain")}
	t.Register, err = register(cmd.String("send-register"))
	return src, t, err
}

func addControlCommand() *cli.Command {
	return &cli.Command{Name: "add", Usage: "add a switch to a device", ArgsUsage: "DEVICE NAME",
		Flags: remote(append(targetFlags(), output(), &cli.BoolFlag{Name: "answers", Value: true, Usage: "the device reports what it is"})...),
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
			src, target, err := mappingFrom(cmd)
			if err != nil {
				return err
			}
			answers := cmd.Bool("answers")
			r, err := h.AddControlWithResponse(ctx, args[0], client.NewControl{Name: args[1], Answers: &answers, Source: &src, Target: &target})
			if err != nil {
				return err
			}
			return controlRows(cmd, []client.Control{*r.JSON201})
		}, "DEVICE", "NAME")}
}

func mapControlCommand() *cli.Command {
	return &cli.Command{Name: "map", Usage: "say how a control's wants are sent and where its reports are found; without options: as the link's rules say", ArgsUsage: "CONTROL",
		Flags: remote(append(targetFlags(), output())...),
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
			src, target, err := mappingFrom(cmd)
			if err != nil {
				return err
			}
			return changeControl(ctx, cmd, h, args[0], client.ControlChange{Source: &src, Target: &target})
		}, "CONTROL")}
}

func changeControl(ctx context.Context, cmd *cli.Command, h *client.Remote, id string, b client.ControlChange) error {
	r, err := h.ChangeControlWithResponse(ctx, id, nil, b)
	if err != nil {
		return err
	}
	return controlRows(cmd, []client.Control{*r.JSON200})
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
			b := client.ControlChange{Name: given(cmd, "name"), AtDevice: (*client.ControlChangeAtDevice)(given(cmd, "at-device")),
				Guests: (*client.Guests)(given(cmd, "guests")), ConfirmAfterMs: millis(cmd, "confirm-after"), ResumeWithinMs: millis(cmd, "resume-within")}
			if cmd.IsSet("dangerous") {
				on := cmd.Bool("dangerous")
				b.Dangerous = &on
			}
			return changeKind(ctx, cmd, h, args[0], b)
		}, "CONTROL")}
}

// changeKind adds what concerns the kind of a control, and does what is no change of its settings.
func changeKind(ctx context.Context, cmd *cli.Command, h *client.Remote, id string, b client.ControlChange) error {
	if cmd.IsSet("reset") {
		r, err := h.ResetControlWithResponse(ctx, id)
		if err != nil {
			return err
		}
		return controlRows(cmd, []client.Control{*r.JSON200})
	}
	if how := cmd.String("service"); how != "" {
		if how == "in" {
			how = ""
		}
		r, err := h.ServeControlWithResponse(ctx, id, client.ServeControlJSONRequestBody{Service: client.ServeControlJSONBodyService(how)})
		if err != nil {
			return err
		}
		return controlRows(cmd, []client.Control{*r.JSON200})
	}
	b.Kind = (*client.ControlChangeKind)(given(cmd, "kind"))
	if list := cmd.StringSlice("option"); len(list) > 0 {
		b.Options = &list
	}
	if cmd.IsSet("lowest") {
		v := cmd.Float64("lowest")
		b.Lowest = &v
	}
	if cmd.IsSet("pulse") {
		b.Momentary = &site.Pulse{ForMS: cmd.Duration("pulse").Milliseconds(), Times: cmd.Int("pulse-times"), GapMS: cmd.Duration("pulse-gap").Milliseconds()}
	}
	if cmd.IsSet("safe") {
		v := valueFrom(cmd.String("safe"))
		b.Safe = &v
	}
	return changeControl(ctx, cmd, h, id, b)
}

func controlRows(cmd *cli.Command, list []client.Control) error {
	var rows [][]string
	for _, c := range list {
		rows = append(rows, []string{c.Id, c.Name, controlText(c, c.Is), controlText(c, c.Want), controlState(c), c.Reason})
	}
	return show(cmd, list, []string{"id", "name", "is", "want", "state", "why"}, rows)
}
