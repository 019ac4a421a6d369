package cli

import (
	"context"
	"fmt"
	"time"

	"github.com/urfave/cli/v3"

	"idleember/client"
)

func devicesCommand() *cli.Command {
	return &cli.Command{Name: "devices", Usage: "list devices, or add one", Flags: remote(output()),
		Commands: []*cli.Command{addDeviceCommand(), deviceKeyCommand(), refusalsCommand()},
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, _ []string) error {
			r, err := h.ListDevicesWithResponse(ctx)
			if err != nil {
				return err
			}
			now := time.Now()
			var rows [][]string
			for _, d := range *r.JSON200 {
				state := "offline"
				if d.Online {
					state = "online"
				}
				rows = append(rows, []string{d.Id, d.Name, d.Place, state, ago(d.LastHeard, now), fmt.Sprint(d.Refused)})
			}
			return show(cmd, *r.JSON200, []string{"id", "name", "place", "state", "last heard", "refused"}, rows)
		})}
}

func addDeviceCommand() *cli.Command {
	return &cli.Command{Name: "add", Usage: "add a device and show its key, once", ArgsUsage: " ",
		Flags: remote(output(),
			&cli.StringFlag{Name: "name", Usage: "its `NAME`"},
			&cli.StringFlag{Name: "place", Usage: "the `PLACE` it is in; a new one is made"},
			&cli.StringFlag{Name: "id", Usage: "its `ID` (default: made from the name)"},
			&cli.DurationFlag{Name: "lease", Value: time.Minute, Usage: "how `LONG` it may keep a want without hearing the hub; 0 for none"}),
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, _ []string) error {
			name, err := ask("Name of the device", cmd.String("name"), false)
			if err != nil {
				return err
			}
			place, err := ask("Place", cmd.String("place"), false)
			if err != nil {
				return err
			}
			lease := cmd.Duration("lease").Milliseconds()
			b := client.NewDevice{Name: name, Place: place, LeaseMs: &lease}
			if id := cmd.String("id"); id != "" {
				b.Id = &id
			}
			r, err := h.AddDeviceWithResponse(ctx, b)
			if err != nil {
				return err
			}
			return showKey(cmd, *r.JSON201)
		})}
}

func deviceKeyCommand() *cli.Command {
	return &cli.Command{Name: "key", Usage: "give a device a new key; the old one is void at once", ArgsUsage: "DEVICE", Flags: remote(output()),
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
			r, err := h.ReplaceKeyWithResponse(ctx, args[0])
			if err != nil {
				return err
			}
			return showKey(cmd, *r.JSON201)
		}, "DEVICE")}
}

func showKey(cmd *cli.Command, d client.DeviceWithKey) error {
	c := d.Connect
	if cmd.String("output") != "table" {
		return show(cmd, d, []string{"id", "key", "host", "port"}, [][]string{{d.Device.Id, d.Key, c.Host, fmt.Sprint(c.Port)}})
	}
	_, err := fmt.Fprintf(writer(cmd), `%s has the id %s. Its key is shown this once:

  key        %s

  broker     %s port %d
  user       %s (the password is the key)
  readings   %s
  reports    %s
  listens    %s

A first reading from a shell:

  %s

What the hub wants, live:

  %s
`, d.Device.Name, d.Device.Id, d.Key, c.Host, c.Port, c.User, c.Publish, c.Report, c.Listen, c.Example, c.ExampleListen)
	if err == nil && c.Remark != nil {
		_, err = fmt.Fprintf(writer(cmd), "\n%s\n", *c.Remark)
	}
	return err
}

func refusalsCommand() *cli.Command {
	return &cli.Command{Name: "refusals", Usage: "show what a device sent and the hub could not take", ArgsUsage: "DEVICE", Flags: remote(output()),
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
			r, err := h.ListRefusalsWithResponse(ctx, args[0])
			if err != nil {
				return err
			}
			var rows [][]string
			zone := hubZone(ctx, h)
			for _, x := range *r.JSON200 {
				payload := fmt.Sprintf("%.40q", x.Payload)
				rows = append(rows, []string{fmt.Sprint(x.N), x.At.In(zone).Format("Mon 02 Jan 15:04:05"), x.Topic, payload, x.Reason})
			}
			return show(cmd, *r.JSON200, []string{"no", "at", "topic", "payload", "why"}, rows)
		}, "DEVICE")}
}

func signalsCommand() *cli.Command {
	return &cli.Command{Name: "signals", Usage: "list signals, or change how one is named and shown", Flags: remote(output()),
		Commands: []*cli.Command{{Name: "change", Usage: "change a signal", ArgsUsage: "SIGNAL", Flags: remote(output(),
			&cli.StringFlag{Name: "name", Usage: "its `NAME`"},
			&cli.StringFlag{Name: "unit", Usage: "its `UNIT` as a UCUM symbol: Cel, %, W"},
			&cli.IntFlag{Name: "decimals", Usage: "show `N` digits behind the point"},
			&cli.StringFlag{Name: "guests", Usage: "guests may do `WHAT`: none or see"}),
			Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
				b := client.SignalChange{Name: given(cmd, "name"), Unit: given(cmd, "unit"), Guests: (*client.SignalGuests)(given(cmd, "guests"))}
				if cmd.IsSet("decimals") {
					n := cmd.Int("decimals")
					b.Decimals = &n
				}
				r, err := h.ChangeSignalWithResponse(ctx, args[0], nil, b)
				if err != nil {
					return err
				}
				return signalRows(cmd, []client.Signal{*r.JSON200})
			}, "SIGNAL")}},
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, _ []string) error {
			r, err := h.GetNowWithResponse(ctx)
			if err != nil {
				return err
			}
			return signalRows(cmd, r.JSON200.Signals)
		})}
}

func given(cmd *cli.Command, flag string) *string {
	if !cmd.IsSet(flag) {
		return nil
	}
	s := cmd.String(flag)
	return &s
}

func signalRows(cmd *cli.Command, list []client.Signal) error {
	var rows [][]string
	for _, s := range list {
		every := "on change"
		if s.Reports == "periodic" {
			every = "learning"
			if s.IntervalMs > 0 {
				every = "every " + length(time.Duration(s.IntervalMs)*time.Millisecond)
			}
		}
		rows = append(rows, []string{s.Id, s.Name, string(s.Kind), s.Unit, fmt.Sprint(s.Decimals), every, string(s.Guests)})
	}
	return show(cmd, list, []string{"id", "name", "kind", "unit", "decimals", "reports", "guests"}, rows)
}

func controlsCommand() *cli.Command {
	return &cli.Command{Name: "controls", Usage: "list controls, or change one", Flags: remote(output()),
		Commands: []*cli.Command{{Name: "change", Usage: "change a control", ArgsUsage: "CONTROL", Flags: remote(output(),
			&cli.StringFlag{Name: "name", Usage: "its `NAME`"},
			&cli.DurationFlag{Name: "confirm-after", Usage: "call it unconfirmed after `TIME`"},
			&cli.DurationFlag{Name: "resume-within", Usage: "after an absence longer than `TIME` the safe value holds"},
			&cli.BoolFlag{Name: "dangerous", Usage: "ask before switching on, never resume by itself"},
			&cli.StringFlag{Name: "at-device", Usage: "when switched at the board: `WHAT`, follow or insist"},
			&cli.StringFlag{Name: "guests", Usage: "guests may do `WHAT`: none, see or switch"}),
			Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
				b := client.ControlChange{Name: given(cmd, "name"), AtDevice: (*client.ControlChangeAtDevice)(given(cmd, "at-device")),
					Guests: (*client.Guests)(given(cmd, "guests"))}
				for flag, field := range map[string]**int64{"confirm-after": &b.ConfirmAfterMs, "resume-within": &b.ResumeWithinMs} {
					if cmd.IsSet(flag) {
						n := cmd.Duration(flag).Milliseconds()
						*field = &n
					}
				}
				if cmd.IsSet("dangerous") {
					on := cmd.Bool("dangerous")
					b.Dangerous = &on
				}
				r, err := h.ChangeControlWithResponse(ctx, args[0], nil, b)
				if err != nil {
					return err
				}
				return controlRows(cmd, []client.Control{*r.JSON200})
			}, "CONTROL")}},
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, _ []string) error {
			r, err := h.GetNowWithResponse(ctx)
			if err != nil {
				return err
			}
			return controlRows(cmd, r.JSON200.Controls)
		})}
}

func controlRows(cmd *cli.Command, list []client.Control) error {
	var rows [][]string
	for _, c := range list {
		rows = append(rows, []string{c.Id, c.Name, onOff(c.Is), onOff(c.Want), controlState(c), c.Reason})
	}
	return show(cmd, list, []string{"id", "name", "is", "want", "state", "why"}, rows)
}

func membersCommand() *cli.Command {
	role := func() cli.Flag { return &cli.StringFlag{Name: "role", Usage: "`ROLE`: owner, member or guest"} }
	name := func() cli.Flag { return &cli.StringFlag{Name: "name", Usage: "the person's `NAME`"} }
	return &cli.Command{Name: "members", Usage: "list the household, add a person or change one", Flags: remote(output()),
		Commands: []*cli.Command{
			{Name: "add", Usage: "add a person", ArgsUsage: "ACCOUNT", Flags: remote(output(), name(), role(), passwordFlag()),
				Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
					r, err := ask("Role (owner, member or guest)", cmd.String("role"), false)
					if err != nil {
						return err
					}
					password, err := ask("Password, at least 10 characters", cmd.String("password"), true)
					if err != nil {
						return err
					}
					m, err := h.AddMemberWithResponse(ctx, client.NewMember{Account: args[0], Name: given(cmd, "name"), Role: client.Role(r), Password: password})
					if err != nil {
						return err
					}
					return memberRows(cmd, []client.Member{*m.JSON201})
				}, "ACCOUNT")},
			{Name: "change", Usage: "change a person's name, role or password, or lock the account", ArgsUsage: "ACCOUNT",
				Flags: remote(output(), name(), role(), passwordFlag(), &cli.BoolFlag{Name: "locked", Usage: "the account cannot sign in"}),
				Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
					b := client.MemberChange{Name: given(cmd, "name"), Role: (*client.Role)(given(cmd, "role")), Password: given(cmd, "password")}
					if cmd.IsSet("locked") {
						on := cmd.Bool("locked")
						b.Locked = &on
					}
					m, err := h.ChangeMemberWithResponse(ctx, args[0], nil, b)
					if err != nil {
						return err
					}
					return memberRows(cmd, []client.Member{*m.JSON200})
				}, "ACCOUNT")}},
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, _ []string) error {
			r, err := h.ListMembersWithResponse(ctx)
			if err != nil {
				return err
			}
			return memberRows(cmd, *r.JSON200)
		})}
}

func memberRows(cmd *cli.Command, list []client.Member) error {
	var rows [][]string
	for _, m := range list {
		state := "may sign in"
		if m.Locked {
			state = "locked"
		}
		rows = append(rows, []string{m.Account, m.Name, string(m.Role), state})
	}
	return show(cmd, list, []string{"account", "name", "role", "state"}, rows)
}

func journalCommand() *cli.Command {
	return &cli.Command{Name: "journal", Usage: "show who or what changed what, newest first", ArgsUsage: "[ID]",
		Flags: remote(output(), &cli.IntFlag{Name: "limit", Value: 20, Usage: "at most `N` entries"}),
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, _ []string) error {
			limit, object := cmd.Int("limit"), cmd.Args().First()
			r, err := h.ListJournalWithResponse(ctx, &client.ListJournalParams{Object: &object, Limit: &limit})
			if err != nil {
				return err
			}
			var rows [][]string
			zone := hubZone(ctx, h)
			for _, e := range r.JSON200.Entries {
				change := e.After
				if e.Before != "" {
					change = e.Before + " → " + e.After
				}
				if len(change) > 60 {
					change = change[:60] + "…"
				}
				rows = append(rows, []string{e.At.In(zone).Format("Mon 02 Jan 15:04:05"), e.Actor, e.Source, e.Action, e.Object, change, e.Reason})
			}
			return show(cmd, r.JSON200, []string{"at", "who", "from", "what", "object", "change", "why"}, rows)
		})}
}
