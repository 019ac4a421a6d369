package cli

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"idleember/client"
	drawn "idleember/core/picture"
	"idleember/core/site"
)

// allScopes are those of a token that stands for its member, as the one does that `login` keeps.
var allScopes = []client.Scope{client.ScopeRead, client.ScopeSwitch, client.ScopeConfigure, client.ScopePush}

func roleFlag() cli.Flag {
	return &cli.StringFlag{Name: "role", Usage: "`ROLE`: owner, member or guest"}
}

func untilFlag() cli.Flag {
	return &cli.StringFlag{Name: "until", Usage: "a guest's end, a `TIME`: 18:00, 2026-12-03, or RFC 3339; none: no end"}
}

// end reads a guest's end; endless says that there is to be none.
func end(ctx context.Context, cmd *cli.Command, h *client.Remote) (at *time.Time, endless bool, err error) {
	text := cmd.String("until")
	switch text {
	case "":
		return nil, false, nil
	case "none":
		return nil, true, nil
	}
	t, err := when(text, time.Now().In(hubZone(ctx, h)))
	if err == nil && t.Before(time.Now()) && !strings.ContainsAny(text, "-T") { // the next time that the clock shows it
		t = t.AddDate(0, 0, 1)
	}
	return &t, false, err
}

// personal are the options of a command that asks for one's own password, and may ask for one of somebody else.
func personal(more ...cli.Flag) []cli.Flag { return remote(append(more, passwordFlags()...)...) }

func newPassword(cmd *cli.Command, account string) (string, error) {
	word, err := secretOf(cmd, "new-password")
	if err != nil {
		return "", err
	}
	return ask("New password of "+account+", at least 12 characters", word, true)
}

func newPasswordFlags() []cli.Flag {
	return secretFlags("new-password", "take the other person's password in this `FILE` instead of asking, or the one "+
		"in $IDLEEMBER_NEW_PASSWORD")
}

func membersCommand() *cli.Command {
	name := func() cli.Flag { return &cli.StringFlag{Name: "name", Usage: "the person's `NAME`"} }
	return &cli.Command{Name: "members", Usage: "list the household; add, change, invite or remove a person",
		Flags: remote(output()), Commands: []*cli.Command{
			{Name: "add", Usage: "add a person", ArgsUsage: "ACCOUNT", Flags: personal(append(newPasswordFlags(), output(),
				name(), roleFlag(), untilFlag())...),
				Action: inPerson(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
					r, err := ask("Role (owner, member or guest)", cmd.String("role"), false)
					if err != nil {
						return err
					}
					until, _, err := end(ctx, cmd, h)
					if err != nil {
						return err
					}
					password, err := newPassword(cmd, args[0])
					if err != nil {
						return err
					}
					m, err := h.AddMemberWithResponse(ctx, client.NewMember{Account: args[0], Name: given(cmd, "name"),
						Role: client.Role(r), Password: password, Until: until})
					if err != nil {
						return err
					}
					return memberRows(ctx, cmd, h, []client.Member{*m.JSON201})
				}, "ACCOUNT")},
			{Name: "change", Usage: "change a person's name, role, password or end, or lock the account", ArgsUsage: "ACCOUNT",
				Flags: personal(append(newPasswordFlags(), output(), name(), roleFlag(), untilFlag(), &cli.BoolFlag{Name: "renew",
					Usage: "set a new password"}, &cli.BoolFlag{Name: "locked", Usage: "the account cannot sign in"},
					&cli.BoolFlag{Name: "no-factor", Usage: "take the second factor away, for somebody who lost it"})...),
				Action: inPerson(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
					b := client.MemberChange{Name: given(cmd, "name"), Role: (*client.Role)(given(cmd, "role"))}
					if cmd.Bool("renew") || cmd.IsSet("new-password-file") {
						word, err := newPassword(cmd, args[0])
						if err != nil {
							return err
						}
						b.Password = &word
					}
					if cmd.IsSet("locked") {
						on := cmd.Bool("locked")
						b.Locked = &on
					}
					until, endless, err := end(ctx, cmd, h)
					if err != nil {
						return err
					}
					b.Until = until
					if endless {
						b.Endless = &endless
					}
					if cmd.Bool("no-factor") {
						off := client.False
						b.Factor = &off
					}
					m, err := h.ChangeMemberWithResponse(ctx, args[0], nil, b)
					if err != nil {
						return err
					}
					return memberRows(ctx, cmd, h, []client.Member{*m.JSON200})
				}, "ACCOUNT")},
			{Name: "remove", Usage: "take a person out of the household",
				Description: "Private dashboards and views, tokens, walls and the notifications that are for this person go as " +
					"well; what is shared stays.", ArgsUsage: "ACCOUNT", Flags: personal(),
				Action: inPerson(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
					if _, err := h.RemoveMemberWithResponse(ctx, args[0]); err != nil {
						return err
					}
					return removed(cmd, args[0], nil)
				}, "ACCOUNT")},
			{Name: "sign-out", Usage: "sign a person out everywhere", ArgsUsage: "ACCOUNT", Flags: personal(),
				Action: inPerson(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
					if _, err := h.EndSessionsWithResponse(ctx, args[0]); err != nil {
						return err
					}
					_, err := fmt.Fprintf(writer(cmd), "%s is signed out everywhere.\n", args[0])
					return err
				}, "ACCOUNT")},
			{Name: "invite", Usage: "make a one-time link for somebody new, or for a member who needs a new password",
				ArgsUsage: "[ACCOUNT]",
				Flags: personal(output(), name(), roleFlag(), untilFlag(), &cli.IntFlag{Name: "hours", Value: 72,
					Usage: "it holds for `N` hours"},
					&cli.StringFlag{Name: "address", Usage: "the console's `URL` as the invited reach it"}),
				Action: inPerson(inviteSomebody)},
			{Name: "invites", Usage: "list the invitations that are open", Flags: remote(output()),
				Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, _ []string) error {
					r, err := h.ListInvitesWithResponse(ctx)
					if err != nil {
						return err
					}
					zone := hubZone(ctx, h)
					var rows [][]string
					for _, x := range *r.JSON200 {
						rows = append(rows, []string{x.Id, x.Name, string(x.Role), x.By, x.Expires.In(zone).Format("Mon 02 Jan 15:04")})
					}
					return show(cmd, *r.JSON200, []string{"id", "for", "role", "by", "until"}, rows)
				})},
			{Name: "uninvite", Usage: "take an invitation back", ArgsUsage: "ID", Flags: remote(),
				Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
					if _, err := h.EndInviteWithResponse(ctx, args[0]); err != nil {
						return err
					}
					return removed(cmd, args[0], nil)
				}, "ID")}},
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, _ []string) error {
			r, err := h.ListMembersWithResponse(ctx)
			if err != nil {
				return err
			}
			return memberRows(ctx, cmd, h, *r.JSON200)
		})}
}

func inviteSomebody(ctx context.Context, cmd *cli.Command, h *client.Remote, _ []string) error {
	until, _, err := end(ctx, cmd, h)
	if err != nil {
		return err
	}
	hours := cmd.Int("hours")
	b := client.NewInvite{Name: given(cmd, "name"), Role: (*client.Role)(given(cmd, "role")), Until: until, Hours: &hours,
		Address: given(cmd, "address")}
	if account := cmd.Args().First(); account != "" {
		b.Account = &account
	}
	if b.Address == nil {
		l, _ := loadLogin()
		at := address(cmd, l)
		b.Address = &at
	}
	r, err := h.AddInviteWithResponse(ctx, b)
	if err != nil {
		return err
	}
	x := *r.JSON201
	if cmd.String("output") != "table" {
		return show(cmd, x, []string{"id", "link"}, [][]string{{x.Invite.Id, x.Link}})
	}
	w := writer(cmd)
	_, _ = fmt.Fprintf(w, "Whoever opens this link first joins as %s. It holds until %s and is shown this once:\n\n  "+
		"%s\n\n", map[client.Role]string{client.RoleOwner: "an owner", client.RoleMember: "a member",
		client.RoleGuest: "a guest"}[x.Invite.Role], x.Invite.Expires.In(hubZone(ctx, h)).Format("Mon 2 Jan 15:04"), x.Link)
	qr, err := drawn.QRText(x.Link)
	if err != nil {
		return err
	}
	_, err = fmt.Fprint(w, qr)
	return err
}

func memberRows(ctx context.Context, cmd *cli.Command, h *client.Remote, list []client.Member) error {
	zone := hubZone(ctx, h)
	var rows [][]string
	for _, m := range list {
		state := "may sign in"
		if m.Locked {
			state = "locked"
		} else if m.Until != nil {
			state = "until " + m.Until.In(zone).Format("Mon 02 Jan 15:04")
		}
		if m.Factor != nil && *m.Factor {
			state += ", second factor"
		}
		seen := "never"
		if m.Seen != nil {
			seen = m.Seen.In(zone).Format("Mon 02 Jan 15:04")
		}
		rows = append(rows, []string{m.Account, m.Name, string(m.Role), state, seen})
	}
	return show(cmd, list, []string{"account", "name", "role", "state", "seen"}, rows)
}

func rightsCommand() *cli.Command {
	return &cli.Command{Name: "rights", Usage: "show who may do what beyond what roles say; add or take away a line",
		Flags: remote(output()), Commands: []*cli.Command{
			{Name: "set", Usage: "let somebody see or switch something, or not; WHO is an account, members or guests, OF the " +
				"id of a place, device, signal, control or setting", ArgsUsage: "WHO OF none|see|switch", Flags: remote(output()),
				Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
					return changeRights(ctx, cmd, h, func(lines []site.Right) []site.Right {
						return append(without(lines, args[0], args[1]), site.Right{Who: args[0], Of: args[1], May: site.Guests(args[2])})
					})
				}, "WHO", "OF", "MAY")},
			{Name: "remove", Usage: "take a line away", ArgsUsage: "WHO OF", Flags: remote(output()),
				Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
					return changeRights(ctx, cmd, h, func(lines []site.Right) []site.Right { return without(lines, args[0], args[1]) })
				}, "WHO", "OF")}},
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, _ []string) error {
			r, err := h.Rights().Get(ctx)
			if err != nil {
				return err
			}
			return rightRows(cmd, r.Config)
		})}
}

func without(lines []site.Right, who, of string) (out []site.Right) {
	for _, l := range lines {
		if l.Who != who || l.Of != of {
			out = append(out, l)
		}
	}
	return out
}

func changeRights(ctx context.Context, cmd *cli.Command, h *client.Remote,
	change func([]site.Right) []site.Right) error {
	now, err := h.Rights().Get(ctx)
	if err != nil {
		return err
	}
	r, err := h.Rights().Put(ctx, site.Rights{Lines: append([]site.Right{}, change(now.Config.Lines)...)}, now.Version)
	if err != nil {
		return err
	}
	return rightRows(cmd, r.Config)
}

func rightRows(cmd *cli.Command, v site.Rights) error {
	var rows [][]string
	for _, l := range v.Lines {
		rows = append(rows, []string{l.Who, l.Of, string(l.May)})
	}
	return show(cmd, v.Lines, []string{"who", "of", "may"}, rows)
}

func tokensCommand() *cli.Command {
	return &cli.Command{Name: "tokens", Usage: "list your tokens for scripts, make or end one", Flags: personal(output()),
		Commands: []*cli.Command{
			{Name: "add", Usage: "make a token and show it, once", ArgsUsage: "NAME", Flags: personal(output(),
				&cli.StringSliceFlag{Name: "scope", Value: []string{"read"},
					Usage: "what it is for, a `SCOPE`: read, switch, configure, push; more than one is fine"},
				&cli.IntFlag{Name: "days", Usage: "it ends after `N` days (default: never)"}),
				Action: inPerson(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
					b := client.AddTokenJSONRequestBody{Name: args[0]}
					for _, s := range cmd.StringSlice("scope") {
						b.Scopes = append(b.Scopes, client.Scope(s))
					}
					if days := cmd.Int("days"); days > 0 {
						b.Days = &days
					}
					r, err := h.AddTokenWithResponse(ctx, b)
					if err != nil {
						return err
					}
					return show(cmd, *r.JSON201, []string{"id", "name", "token"}, [][]string{{r.JSON201.Id, r.JSON201.Name,
						r.JSON201.Token}})
				}, "NAME")},
			{Name: "end", Usage: "end a token", ArgsUsage: "ID", Flags: personal(),
				Action: inPerson(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
					if _, err := h.EndTokenWithResponse(ctx, args[0]); err != nil {
						return err
					}
					return removed(cmd, args[0], nil)
				}, "ID")}},
		Action: inPerson(func(ctx context.Context, cmd *cli.Command, h *client.Remote, _ []string) error {
			r, err := h.ListTokensWithResponse(ctx)
			if err != nil {
				return err
			}
			zone := hubZone(ctx, h)
			at := func(t *time.Time, none string) string {
				if t == nil {
					return none
				}
				return t.In(zone).Format("2006-01-02 15:04")
			}
			var rows [][]string
			for _, t := range *r.JSON200 {
				scopes := "all that you may"
				if t.Scopes != nil {
					scopes = ""
					for _, s := range *t.Scopes {
						scopes = strings.TrimSpace(scopes + " " + string(s))
					}
				}
				rows = append(rows, []string{t.Id, t.Name, scopes, at(&t.Created, ""), at(t.Expires, "never"), at(t.Used, "never")})
			}
			return show(cmd, *r.JSON200, []string{"id", "name", "for", "made", "ends", "used"}, rows)
		})}
}

func journalCommand() *cli.Command {
	flags := func(more ...cli.Flag) []cli.Flag {
		return remote(append(more, &cli.StringFlag{Name: "place", Usage: "what is of this `PLACE`"},
			&cli.StringFlag{Name: "by", Usage: "what `WHO` did: an account, a device's id, or part of a name"},
			&cli.StringFlag{Name: "words", Usage: "lines in which these `WORDS` stand"}, &cli.StringFlag{Name: "from",
				Usage: "begin at `TIME`: 24h or 7d ago, 14:30, 2026-11-20, or RFC 3339"},
			&cli.StringFlag{Name: "to", Usage: "end before `TIME`"})...)
	}
	return &cli.Command{Name: "journal", Usage: "show who or what changed what, newest first", ArgsUsage: "[ID]",
		Flags: flags(output(), &cli.IntFlag{Name: "limit", Value: 20, Usage: "at most `N` entries"}),
		Commands: []*cli.Command{
			{Name: "export", Usage: "write all lines to a file: .csv, or .jsonl for JSON Lines", ArgsUsage: "FILE",
				Flags: flags(), Action: connected(exportJournal, "FILE")},
			{Name: "before", Usage: "show what a part of the configuration was before a line", ArgsUsage: "LINE",
				Flags: remote(),
				Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
					id, err := lineOf(args[0])
					if err != nil {
						return err
					}
					r, err := h.GetEarlierWithResponse(ctx, id)
					if err != nil {
						return err
					}
					enc := json.NewEncoder(writer(cmd))
					enc.SetIndent("", "  ")
					return enc.Encode(r.JSON200)
				}, "LINE")},
			{Name: "restore", Usage: "bring back what was before a line; it is an edit like any other", ArgsUsage: "LINE",
				Flags: remote(),
				Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
					id, err := lineOf(args[0])
					if err != nil {
						return err
					}
					if _, err := h.RestoreEarlierWithResponse(ctx, id); err != nil {
						return err
					}
					_, err = fmt.Fprintf(writer(cmd), "It is as it was before line %d.\n", id)
					return err
				}, "LINE")}},
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, _ []string) error {
			limit := cmd.Int("limit")
			p, err := journalParams(ctx, cmd, h)
			if err != nil {
				return err
			}
			if object := cmd.Args().First(); object != "" {
				p.Object = &object
			}
			p.Limit = &limit
			r, err := h.ListJournalWithResponse(ctx, p)
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
				if len(change) > 60 && cmd.String("output") == "table" {
					change = change[:60] + "…"
				}
				rows = append(rows, []string{fmt.Sprint(e.Id), e.At.In(zone).Format("Mon 02 Jan 15:04:05"), e.Actor, e.Source,
					e.Action, e.Object, change, e.Reason})
			}
			return show(cmd, r.JSON200, []string{"line", "at", "who", "from", "what", "object", "change", "why"}, rows)
		})}
}

func lineOf(text string) (id int64, err error) {
	if _, err := fmt.Sscan(text, &id); err != nil || id < 1 {
		return 0, &UsageError{fmt.Sprintf("%q is no line of the journal; `idleember journal` shows their numbers", text)}
	}
	return id, nil
}

func journalParams(ctx context.Context, cmd *cli.Command, h *client.Remote) (*client.ListJournalParams, error) {
	p := &client.ListJournalParams{Place: given(cmd, "place"), Actor: given(cmd, "by"), Q: given(cmd, "words")}
	now := time.Now().In(hubZone(ctx, h))
	for flag, into := range map[string]**time.Time{"from": &p.From, "to": &p.To} {
		if text := cmd.String(flag); text != "" {
			t, err := when(text, now)
			if err != nil {
				return nil, err
			}
			*into = &t
		}
	}
	return p, nil
}

// exportJournal writes the lines to a file, newest first.
func exportJournal(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
	p, err := journalParams(ctx, cmd, h)
	if err != nil {
		return err
	}
	lines := strings.HasSuffix(args[0], ".jsonl")
	if !lines && !strings.HasSuffix(args[0], ".csv") {
		return &UsageError{fmt.Sprintf("%q has no ending that tells its form; use .csv or .jsonl", args[0])}
	}
	f, err := os.Create(args[0])
	if err != nil {
		return err
	}
	defer func() { _ = f.Close() }()
	out, enc := csv.NewWriter(f), json.NewEncoder(f)
	if !lines {
		_ = out.Write([]string{"line", "at", "who", "kind", "from", "what", "object", "before", "after", "why"})
	}
	limit, n := 500, 0
	p.Limit = &limit
	for {
		r, err := h.ListJournalWithResponse(ctx, p)
		if err != nil {
			return err
		}
		for _, e := range r.JSON200.Entries {
			if n++; lines {
				err = enc.Encode(e)
			} else {
				err = out.Write(cells([]string{fmt.Sprint(e.Id), e.At.Format(time.RFC3339Nano), e.Actor, e.ActorKind, e.Source,
					e.Action, e.Object, e.Before, e.After, e.Reason}))
			}
			if err != nil {
				return err
			}
		}
		if p.Cursor = r.JSON200.Next; p.Cursor == nil {
			break
		}
	}
	if out.Flush(); out.Error() != nil {
		return out.Error()
	}
	if err := f.Close(); err != nil {
		return err
	}
	_, err = fmt.Fprintf(writer(cmd), "%d lines are in %s.\n", n, args[0])
	return err
}

func clockCommand() *cli.Command {
	return &cli.Command{Name: "clock", Usage: "show the hub's time and whether its computer's clock is believed, or say " +
		"that it is right",
		Flags: remote(output(), &cli.BoolFlag{Name: "right",
			Usage: "the clock of the hub's computer is right now: believe it, and move what was stamped meanwhile to where it " +
				"belongs"}),
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, _ []string) error {
			if cmd.Bool("right") {
				if _, err := h.TrustClockWithResponse(ctx); err != nil {
					return err
				}
			}
			r, err := h.GetClockWithResponse(ctx)
			if err != nil {
				return err
			}
			x := r.JSON200
			zone, err := time.LoadLocation(x.Zone)
			if err != nil {
				zone = time.UTC
			}
			at := func(t time.Time) string { return t.In(zone).Format("2 Jan 2006 15:04:05 MST") }
			believed := "yes"
			if x.Doubt != "" {
				believed = "no: " + x.Doubt + "; where it is right, say: idleember clock --right"
			}
			return show(cmd, x, []string{"time", "computer shows", "believed"}, [][]string{{at(x.Time), at(x.Shows), believed}})
		})}
}

func logCommand() *cli.Command {
	return &cli.Command{Name: "log", Usage: "show from which level on the hub logs, or change it until its next start",
		ArgsUsage: "[debug|info|warn|error]", Flags: remote(),
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, _ []string) error {
			if level := cmd.Args().First(); level != "" {
				if _, err := h.SetLogWithResponse(ctx, client.Log{Level: client.LogLevel(level)}); err != nil {
					return err
				}
			}
			r, err := h.GetLogWithResponse(ctx)
			if err != nil {
				return err
			}
			_, err = fmt.Fprintln(writer(cmd), r.JSON200.Level)
			return err
		})}
}
