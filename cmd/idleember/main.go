// Command idleember is a hub for a home: it collects readings, shows them and switches things.
package main

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	commands "idleember/cli"
	"idleember/demo"
	"idleember/serve"
)

func main() {
	app := &cli.Command{
		Name:    "idleember",
		Usage:   "a hub for a home: collects readings, shows them, switches things",
		Version: serve.Version,
		Description: `serve and demo run a hub; the other commands speak to one that runs.
Exit codes: 0 done, 1 failed, 2 wrong use, 3 hub unreachable, 4 not allowed, 5 not confirmed by the device.`,
		Commands: append([]*cli.Command{serve.Command(), serve.CheckCommand(), serve.BackupCommand(),
			serve.RestoreCommand(), serve.SalvageCommand(), serve.AuthorityCommand(), demo.Command()}, commands.Commands()...),
		EnableShellCompletion: true,
		Suggest:               true,
		ExitErrHandler:        func(context.Context, *cli.Command, error) {},
		OnUsageError: func(_ context.Context, _ *cli.Command, err error, _ bool) error {
			return &commands.UsageError{Text: err.Error()}
		},
		Action: func(_ context.Context, cmd *cli.Command) error {
			if name := cmd.Args().First(); name != "" {
				return &commands.UsageError{Text: unknown(cmd, name)}
			}
			return cli.ShowRootCommandHelp(cmd)
		},
	}
	for _, c := range app.Commands {
		c.OnUsageError = app.OnUsageError
		for _, sub := range c.Commands {
			sub.OnUsageError = app.OnUsageError
		}
	}
	if err := app.Run(context.Background(), os.Args); err != nil {
		fmt.Fprintln(os.Stderr, "idleember: "+err.Error())
		os.Exit(commands.ExitCode(err))
	}
}

func unknown(cmd *cli.Command, name string) string {
	i := slices.IndexFunc(cmd.Commands, func(c *cli.Command) bool { return strings.HasPrefix(c.Name, name[:1]) })
	if i >= 0 {
		return fmt.Sprintf("there is no command %q; did you mean %s? All commands: idleember --help", name,
			cmd.Commands[i].Name)
	}
	return fmt.Sprintf("there is no command %q; all commands: idleember --help", name)
}
