package cli

import (
	"context"

	"github.com/urfave/cli/v3"

	"idleember/client"
)

func given(cmd *cli.Command, flag string) *string {
	if !cmd.IsSet(flag) {
		return nil
	}
	s := cmd.String(flag)
	return &s
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
