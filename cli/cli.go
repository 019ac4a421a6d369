// Package cli holds the commands that speak to a running hub.
package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"idleember/client"
)

// Exit codes.
const (
	Failed      = 1
	Usage       = 2
	Unreachable = 3
	NotAllowed  = 4
	Unconfirmed = 5
)

// UsageError says what is wrong with how a command was called.
type UsageError struct{ Text string }

func (e *UsageError) Error() string { return e.Text }

// UnconfirmedError says that a device has not confirmed a want.
type UnconfirmedError struct{ Text string }

func (e *UnconfirmedError) Error() string { return e.Text }

// ExitCode is the code to exit with after an error.
func ExitCode(err error) int {
	var usage *UsageError
	var unreachable *client.UnreachableError
	var problem *client.ProblemError
	var unconfirmed *UnconfirmedError
	switch {
	case err == nil:
		return 0
	case errors.As(err, &usage):
		return Usage
	case errors.As(err, &unreachable):
		return Unreachable
	case errors.As(err, &problem) && (problem.Status == 401 || problem.Status == 403):
		return NotAllowed
	case errors.As(err, &unconfirmed):
		return Unconfirmed
	}
	return Failed
}

// Commands are all commands of this package.
func Commands() []*cli.Command {
	return []*cli.Command{setupCommand(), loginCommand(), logoutCommand(), nowCommand(), watchCommand(), historyCommand(),
		exportCommand(), importCommand(), deleteReadingsCommand(), storageCommand(), backupsCommand(), switchCommand(),
		autoCommand(), setCommand(), presetCommand(), whyCommand(), nextCommand(), automationCommand(), settingsCommand(),
		presetsCommand(), rulesCommand(),
		groupsCommand(), formulaCommand(), messagesCommand(), notesCommand(), alertsCommand(), routesCommand(),
		servicedCommand(), sayCommand(), digestCommand(), lookCommand(),
		devicesCommand(), signalsCommand(), controlsCommand(), modelsCommand(), brokersCommand(), panelCommand(),
		tokensCommand(),
		membersCommand(), rightsCommand(), journalCommand(), clockCommand(), logCommand()}
}

// remote are the options of every command that speaks to a hub.
func remote(more ...cli.Flag) []cli.Flag {
	return append([]cli.Flag{
		&cli.StringFlag{Name: "hub", Usage: "speak to the hub at this `URL` (default: the one you logged in to, else " +
			"http://127.0.0.1:8480)", Sources: cli.EnvVars("IDLEEMBER_HUB")},
	}, append(secretFlags("token", "use the token in this `FILE` instead of the stored one, or the one in "+
		"$IDLEEMBER_TOKEN"), more...)...)
}

// secretFlags are the flags of a secret: it comes from a file, or from the environment. On the command line everybody
// on this computer could read it in the list of processes.
func secretFlags(name, usage string) []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: name + "-file", Usage: usage + "; - is standard input"},
		&cli.StringFlag{Name: name, Hidden: true, Validator: func(string) error {
			return fmt.Errorf("a %s on the command line can be read by everybody on this computer; put it into a file and use "+
				"--%s-file, or into $IDLEEMBER_%s", name, name, strings.ToUpper(strings.ReplaceAll(name, "-", "_")))
		}},
	}
}

// secretOf is a secret that was given; "": none.
func secretOf(cmd *cli.Command, name string) (string, error) {
	switch file := cmd.String(name + "-file"); file {
	case "":
		return os.Getenv("IDLEEMBER_" + strings.ToUpper(strings.ReplaceAll(name, "-", "_"))), nil
	case "-":
		text, err := stdin.ReadString('\n')
		if errors.Is(err, io.EOF) && text != "" {
			err = nil
		}
		return strings.TrimRight(text, "\r\n"), err
	default:
		text, err := os.ReadFile(file)
		if err != nil {
			return "", &UsageError{err.Error()}
		}
		return strings.TrimRight(string(text), "\r\n"), nil
	}
}

func output() cli.Flag {
	return &cli.StringFlag{Name: "output", Aliases: []string{"o"}, Value: "table",
		Usage: "write a `FORM`: table for people, json or csv for scripts",
		Validator: func(s string) error {
			if s != "table" && s != "json" && s != "csv" {
				return fmt.Errorf("%q is no output form; use table, json or csv", s)
			}
			return nil
		}}
}

// login is what `idleember login` keeps.
type login struct {
	Hub   string `json:"hub"`
	Token string `json:"token"`
	ID    string `json:"id"` // of the token, to end it
}

func loginFile() (string, error) {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", fmt.Errorf("there is no folder to keep the login in: %w; set HOME", err)
	}
	return filepath.Join(dir, "idleember", "login.json"), nil
}

func loadLogin() (login, error) {
	var l login
	file, err := loginFile()
	if err != nil {
		return l, err
	}
	b, err := os.ReadFile(file)
	if errors.Is(err, os.ErrNotExist) {
		return l, nil
	}
	if err != nil {
		return l, err
	}
	if err := json.Unmarshal(b, &l); err != nil {
		return l, fmt.Errorf("the stored login %s is damaged; run `idleember login` again", file)
	}
	return l, nil
}

func (l login) save() (string, error) {
	file, err := loginFile()
	if err != nil {
		return "", err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return "", err
	}
	b, err := json.Marshal(l)
	if err != nil {
		return "", err
	}
	tmp := file + ".new"
	if err := os.WriteFile(tmp, b, 0o600); err != nil {
		return "", err
	}
	if err := os.Chmod(tmp, 0o600); err != nil { // where an earlier file had another mode
		return "", err
	}
	return file, os.Rename(tmp, file)
}

const defaultHub = "http://127.0.0.1:8480"

// connect returns a client with the token at hand.
func connect(cmd *cli.Command) (*client.Remote, error) {
	l, err := loadLogin()
	if err != nil {
		return nil, err
	}
	address := address(cmd, l)
	token, err := secretOf(cmd, "token")
	if err != nil {
		return nil, err
	}
	if token == "" {
		if l.Token == "" || l.Hub != address {
			return nil, &client.ProblemError{Problem: client.Problem{Status: 401, Detail: "not logged in to " + address +
				"; run: idleember login --hub " + address}}
		}
		token = l.Token
	}
	h, err := client.New(address, token)
	if err != nil {
		return nil, &UsageError{err.Error()}
	}
	return h, nil
}

func address(cmd *cli.Command, l login) string {
	switch {
	case cmd.String("hub") != "":
		return strings.TrimRight(cmd.String("hub"), "/")
	case l.Hub != "":
		return l.Hub
	}
	return defaultHub
}

// connected wraps what a command does with a hub: it checks that exactly the named arguments are there, where any are
// named, and connects.
func connected(f func(context.Context, *cli.Command, *client.Remote, []string) error, names ...string) cli.ActionFunc {
	return func(ctx context.Context, cmd *cli.Command) error {
		var args []string
		if group := slices.ContainsFunc(cmd.Commands, func(c *cli.Command) bool { return c.Name != "help" }); group &&
			cmd.ArgsUsage == "" && cmd.Args().Present() {
			return &UsageError{fmt.Sprintf("%s has no command %q; try: idleember %s --help", cmd.Name, cmd.Args().First(),
				cmd.Name)}
		}
		if len(names) > 0 {
			var err error
			if args, err = arguments(cmd, names...); err != nil {
				return err
			}
		}
		h, err := connect(cmd)
		if err != nil {
			return err
		}
		return f(ctx, cmd, h, args)
	}
}

// arguments returns exactly the arguments that a command needs; a last name that ends in "..." stands for one or more.
func arguments(cmd *cli.Command, names ...string) ([]string, error) {
	got := cmd.Args().Slice()
	many := strings.HasSuffix(names[len(names)-1], "...")
	if len(got) < len(names) || len(got) > len(names) && !many {
		return nil, &UsageError{fmt.Sprintf("usage: idleember %s %s", cmd.FullName()[len("idleember "):], strings.Join(names,
			" "))}
	}
	return got, nil
}

func writer(cmd *cli.Command) io.Writer {
	w := cmd.Root().Writer
	if w == nil {
		w = os.Stdout
	}
	if cmd.String("output") == "json" || cmd.String("output") == "csv" { // for programs, as it is
		return w
	}
	return &tame{Writer: w}
}

// pipe is where data goes: as it is, but onto a terminal.
func pipe(cmd *cli.Command) io.Writer {
	w := cmd.Root().Writer
	if w == nil {
		w = os.Stdout
	}
	if f, ok := w.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		return &tame{Writer: w}
	}
	return w
}
