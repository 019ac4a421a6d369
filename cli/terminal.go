package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"idleember/client"
)

// ask reads a line from the terminal; secret ones are not shown.
func ask(question, given string, secret bool) (string, error) {
	if given != "" {
		return given, nil
	}
	_, _ = fmt.Fprint(os.Stderr, question+": ")
	if secret && term.IsTerminal(int(os.Stdin.Fd())) {
		b, err := term.ReadPassword(int(os.Stdin.Fd()))
		_, _ = fmt.Fprintln(os.Stderr)
		return string(b), err
	}
	line, err := stdin.ReadString('\n')
	line = strings.TrimRight(line, "\r\n")
	if err != nil && line == "" {
		return "", &UsageError{"no answer to: " + question}
	}
	return line, nil
}

var stdin = bufio.NewReader(os.Stdin)

func passwordFlags() []cli.Flag {
	return append(secretFlags("password", "take the password in this `FILE` instead of asking, or the one in "+
		"$IDLEEMBER_PASSWORD"),
		&cli.StringFlag{Name: "code", Usage: "the `CODE` of your second factor, or a recovery code"})
}

// signIn asks for what it takes and begins a session with the client.
func signIn(ctx context.Context, cmd *cli.Command, h *client.Remote, account, question string) (*client.Me, error) {
	given, err := secretOf(cmd, "password")
	if err != nil {
		return nil, err
	}
	password, err := ask(question, given, true)
	if err != nil {
		return nil, err
	}
	b := client.SignInJSONRequestBody{Account: account, Password: password}
	r, err := h.SignInWithResponse(ctx, b)
	var p *client.ProblemError
	if errors.As(err, &p) && p.Field != nil && *p.Field == "code" {
		code, ask := ask("Code of the second factor", cmd.String("code"), false)
		if ask != nil {
			return nil, ask
		}
		b.Code = &code
		r, err = h.SignInWithResponse(ctx, b)
	}
	if err != nil {
		return nil, err
	}
	return r.JSON201, nil
}

// inPerson is connected for what no token may do: whoever is logged in gives the password, for this command alone.
func inPerson(f func(context.Context, *cli.Command, *client.Remote, []string) error, names ...string) cli.ActionFunc {
	return connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
		me, err := h.GetSessionWithResponse(ctx)
		if err != nil {
			return err
		}
		l, err := loadLogin()
		if err != nil {
			return err
		}
		own, err := client.New(address(cmd, l), "")
		if err != nil {
			return &UsageError{err.Error()}
		}
		if _, err := signIn(ctx, cmd, own, me.JSON200.Account, "Password of "+me.JSON200.Account); err != nil {
			return err
		}
		defer func() { _, _ = own.SignOutWithResponse(context.WithoutCancel(ctx)) }()
		return f(ctx, cmd, own, args)
	}, names...)
}

func localZone() string {
	if z := time.Local.String(); z != "Local" && z != "" {
		return z
	}
	return "UTC"
}

func setupCommand() *cli.Command {
	return &cli.Command{Name: "setup", Usage: "become the owner of a new hub with its one-time code",
		Flags: append(remote(
			&cli.StringFlag{Name: "code", Usage: "the one-time `CODE` that the hub printed"},
			&cli.StringFlag{Name: "name", Usage: "the hub's `NAME`"},
			&cli.StringFlag{Name: "account", Usage: "your `ACCOUNT` for signing in, in small letters"},
			&cli.StringFlag{Name: "zone", Usage: "time `ZONE` such as Europe/Vienna"},
			&cli.StringFlag{Name: "at", Usage: "`LATITUDE,LONGITUDE` in degrees, for sunrise and sunset"}),
			secretFlags("password", "take your password in this `FILE` instead of asking, or the one in "+
				"$IDLEEMBER_PASSWORD")...),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			h, err := client.New(address(cmd, login{}), "")
			if err != nil {
				return &UsageError{err.Error()}
			}
			state, err := h.GetSetupWithResponse(ctx)
			if err != nil {
				return err
			}
			if !state.JSON200.Needed {
				return errors.New("this hub has its owner already; use: idleember login")
			}
			word, err := secretOf(cmd, "password")
			if err != nil {
				return err
			}
			b := client.Setup{}
			at := cmd.String("at")
			for _, q := range []struct {
				field    *string
				question string
				given    string
				secret   bool
			}{{&b.Code, "Setup code", cmd.String("code"), false}, {&b.Name, "Name of the hub", cmd.String("name"), false},
				{&b.Account, "Your account, in small letters", cmd.String("account"), false},
				{&b.Password, "Password, at least 12 characters", word, true},
				{&b.Zone, "Time zone [" + localZone() + "]", cmd.String("zone"), false},
				{&at, "Latitude,longitude in degrees, such as 48.2,16.4", at, false}} {
				if *q.field, err = ask(q.question, q.given, q.secret); err != nil {
					return err
				}
			}
			if b.Zone == "" {
				b.Zone = localZone()
			}
			if b.Latitude, b.Longitude, err = position(at); err != nil {
				return err
			}
			if _, err := h.SetUpWithResponse(ctx, b); err != nil {
				return err
			}
			if err := keepToken(ctx, cmd, h); err != nil {
				return err
			}
			info, err := h.Hub().Get(ctx)
			if err != nil {
				return err
			}
			w := writer(cmd)
			_, _ = fmt.Fprintf(w, "%s is yours. You are signed in here as %s.\nAdd a first device with: idleember devices add\n",
				b.Name, b.Account)
			if !info.State.Open {
				_, _ = fmt.Fprintln(w, "The hub listens to this computer alone. To open it to the house, stop it and start it as "+
					"before, with --http :8480 --mqtt :1883 added.")
			}
			return nil
		}}
}

func position(text string) (lat, lon float64, err error) {
	a, b, ok := strings.Cut(text, ",")
	lat, err1 := strconv.ParseFloat(strings.TrimSpace(a), 64)
	lon, err2 := strconv.ParseFloat(strings.TrimSpace(b), 64)
	if !ok || err1 != nil || err2 != nil {
		return 0, 0, &UsageError{fmt.Sprintf("%q is no place on the map; write degrees such as 48.2,16.4", text)}
	}
	return lat, lon, nil
}

// keepToken makes a token with the open session and keeps it.
func keepToken(ctx context.Context, cmd *cli.Command, h *client.Remote) error {
	host, err := os.Hostname()
	if err != nil {
		host = "this computer"
	}
	r, err := h.AddTokenWithResponse(ctx, client.AddTokenJSONRequestBody{Name: "CLI on " + host, Scopes: allScopes})
	if err != nil {
		return err
	}
	file, err := login{Hub: address(cmd, login{}), Token: r.JSON201.Token, ID: r.JSON201.Id}.save()
	if err != nil {
		return fmt.Errorf("the login cannot be kept: %w", err)
	}
	_, _ = fmt.Fprintf(os.Stderr, "The login is kept in %s.\n", file)
	return nil
}

func loginCommand() *cli.Command {
	return &cli.Command{Name: "login", Usage: "sign in and keep a token for the other commands",
		Flags: append(remote(&cli.StringFlag{Name: "account", Usage: "your `ACCOUNT`"}), passwordFlags()...),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			h, err := client.New(address(cmd, login{}), "")
			if err != nil {
				return &UsageError{err.Error()}
			}
			account, err := ask("Account", cmd.String("account"), false)
			if err != nil {
				return err
			}
			me, err := signIn(ctx, cmd, h, account, "Password")
			if err != nil {
				return err
			}
			if err := keepToken(ctx, cmd, h); err != nil {
				return err
			}
			if _, err := h.SignOutWithResponse(ctx); err != nil {
				return err
			}
			_, _ = fmt.Fprintf(writer(cmd), "Signed in as %s (%s).\n", me.Name, me.Role)
			return nil
		}}
}

func logoutCommand() *cli.Command {
	return &cli.Command{Name: "logout", Usage: "end the kept token and forget it", Flags: remote(),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			l, err := loadLogin()
			if err != nil {
				return err
			}
			if l.Token == "" {
				return errors.New("not logged in")
			}
			h, err := client.New(l.Hub, l.Token)
			if err != nil {
				return err
			}
			_, ended := h.EndTokenWithResponse(ctx, l.ID)
			file, err := loginFile()
			if err != nil {
				return err
			}
			if err := os.Remove(file); err != nil {
				return err
			}
			if ended != nil {
				return fmt.Errorf("the login is forgotten here, but the hub still knows the token: %w", ended)
			}
			_, _ = fmt.Fprintln(writer(cmd), "Signed out.")
			return nil
		}}
}
