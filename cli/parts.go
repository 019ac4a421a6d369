package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"idleember/client"
	"idleember/contract/shown"
	"idleember/core/site"
)

// readFile reads JSON from a file, or from standard input where its name is -.
func readFile(name string, into any) error {
	b, err := os.ReadFile(name)
	if name == "-" {
		b, err = io.ReadAll(os.Stdin)
	}
	if err != nil {
		return err
	}
	dec := json.NewDecoder(strings.NewReader(string(b)))
	dec.DisallowUnknownFields()
	if err := dec.Decode(into); err != nil {
		return fmt.Errorf("%s cannot be read: %w", name, err)
	}
	return nil
}

func automationCommand() *cli.Command {
	return &cli.Command{Name: "automation", Usage: "show what the hub decides of a control, or change it",
		ArgsUsage:   "CONTROL",
		Description: "It is shown as JSON; save it in a file, change that, and give it back with --file.",
		Flags: remote(&cli.StringFlag{Name: "file", Usage: "take the automation from this JSON `FILE`, - for standard input"},
			&cli.BoolFlag{Name: "remove", Usage: "take it away; the control gets its safe value"}),
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
			a := site.Automation{Control: args[0]}
			switch {
			case cmd.String("file") != "":
				if err := readFile(cmd.String("file"), &a); err != nil {
					return err
				}
			case !cmd.Bool("remove"):
				r, err := h.Automation(args[0]).Get(ctx)
				if err != nil {
					return err
				}
				return asJSON(cmd, r.Config)
			}
			a.Control = args[0]
			r, err := h.Automation(args[0]).Put(ctx, a, "")
			if err != nil {
				return err
			}
			for _, remark := range r.State.Remarks {
				_, _ = fmt.Fprintln(os.Stderr, "Mind: "+remark+".") // what is printed stays JSON
			}
			return asJSON(cmd, r.Config)
		}, "CONTROL")}
}

func asJSON(cmd *cli.Command, v any) error {
	enc := json.NewEncoder(writer(cmd))
	enc.SetIndent("", "  ")
	enc.SetEscapeHTML(false)
	return enc.Encode(v)
}

// kept is a command for parts of the configuration that are kept whole: list, show, save, remove.
func kept(name, one string, list func(context.Context, *cli.Command, *client.Remote) error,
	save func(ctx context.Context, cmd *cli.Command, h *client.Remote, file string) error,
	remove func(ctx context.Context, h *client.Remote, id string) error) *cli.Command {
	return &cli.Command{Name: name, Usage: "list " + name + ", save or remove one", Flags: remote(output()),
		Description: "With --output json the list shows everything of each; the same form is what save reads.",
		Commands: []*cli.Command{
			{Name: "save", Usage: "add a " + one + ", or change the one that has this id", ArgsUsage: "FILE",
				Flags: remote(output()), Description: "FILE is JSON, - for standard input.",
				Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
					return save(ctx, cmd, h, args[0])
				}, "FILE")},
			{Name: "remove", Usage: "take a " + one + " away", ArgsUsage: "ID", Flags: remote(),
				Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
					if err := remove(ctx, h, args[0]); err != nil {
						return err
					}
					_, _ = fmt.Fprintf(writer(cmd), "%s is gone.\n", args[0])
					return nil
				}, "ID")}},
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, _ []string) error {
			return list(ctx, cmd, h)
		})}
}

func settingsCommand() *cli.Command {
	return keptParts("settings", "setting", (*client.Remote).Settings, settingRows)
}

func presetRows(cmd *cli.Command, list []shown.Preset) error {
	var rows [][]string
	for _, p := range list {
		rows = append(rows, []string{p.Config.ID, p.Config.Name, fmt.Sprint(len(p.Config.Actions)), p.Config.Role})
	}
	return show(cmd, list, []string{"id", "name", "actions", "for"}, rows)
}

func presetsCommand() *cli.Command {
	return keptParts("presets", "preset", (*client.Remote).Presets, presetRows)
}

func ruleRows(cmd *cli.Command, list []shown.Rule) error {
	var rows [][]string
	for _, r := range list {
		state := fmt.Sprintf("waits for stage %d of %d", r.State.Stage+1, len(r.Config.Stages))
		switch {
		case r.Config.Off:
			state = "off"
		case time.Now().Before(r.State.Rests):
			state = "rests until " + r.State.Rests.Local().Format("15:04")
		}
		fired := "never"
		if !r.State.Fired.IsZero() {
			fired = r.State.Fired.Local().Format("2006-01-02 15:04:05")
		}
		rows = append(rows, []string{r.Config.ID, r.Config.Name, state, fired,
			r.Config.Stages[min(r.State.Stage, len(r.Config.Stages)-1)].When})
	}
	return show(cmd, list, []string{"id", "name", "state", "last", "when"}, rows)
}

func rulesCommand() *cli.Command { return keptParts("rules", "rule", (*client.Remote).Rules, ruleRows) }

func groupRows(cmd *cli.Command, list []shown.Group) error {
	var rows [][]string
	for _, g := range list {
		var members []string
		for _, m := range g.Config.Members {
			members = append(members, m.Control)
		}
		what := "one at a time"
		if g.Config.Limit > 0 {
			what = fmt.Sprintf("up to %g W", g.Config.Limit)
		}
		rows = append(rows, []string{g.Config.ID, g.Config.Name, what, strings.Join(members, ", ")})
	}
	return show(cmd, list, []string{"id", "name", "what", "controls"}, rows)
}

func groupsCommand() *cli.Command {
	return keptParts("groups", "group", (*client.Remote).Groups, groupRows)
}

// keptParts is the command of a kind of parts that are kept as files: list, save and remove.
func keptParts[C, S any](list, kind string, of func(*client.Remote) client.Parts[C, S], rows func(*cli.Command,
	[]shown.Part[C, S]) error) *cli.Command {
	return kept(list, kind, func(ctx context.Context, cmd *cli.Command, h *client.Remote) error {
		all, err := of(h).List(ctx)
		if err != nil {
			return err
		}
		return rows(cmd, all)
	}, func(ctx context.Context, cmd *cli.Command, h *client.Remote, file string) error {
		var config C
		if err := readFile(file, &config); err != nil {
			return err
		}
		saved, err := of(h).Save(ctx, config)
		if err != nil {
			return err
		}
		return rows(cmd, []shown.Part[C, S]{saved})
	}, func(ctx context.Context, h *client.Remote, id string) error { return of(h).Remove(ctx, id) })
}
