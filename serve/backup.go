package serve

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"strings"
	"syscall"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"idleember/store"
)

func dataFlag() cli.Flag {
	return &cli.StringFlag{Name: "data", Value: DefaultData(), DefaultText: homely(DefaultData()),
		Usage: "the hub's `DIR`", Sources: cli.EnvVars("IDLEEMBER_DATA")}
}

// oneFile is the argument of backup and restore.
func oneFile(cmd *cli.Command) (string, error) {
	if cmd.Args().Len() != 1 {
		return "", fmt.Errorf("usage: idleember %s --data DIR FILE", cmd.Name)
	}
	return cmd.Args().First(), nil
}

func passphraseFlag() cli.Flag {
	return &cli.StringFlag{Name: "passphrase-file",
		Usage: "the passphrase is the first line of this `FILE`; or in IDLEEMBER_PASSPHRASE"}
}

// passphrase is that of a backup, "" for none.
func passphrase(cmd *cli.Command, ask bool) (string, error) {
	word := os.Getenv("IDLEEMBER_PASSPHRASE")
	if file := cmd.String("passphrase-file"); file != "" {
		b, err := os.ReadFile(file)
		if err != nil {
			return "", fmt.Errorf("the passphrase cannot be read: %w", err)
		}
		word, _, _ = strings.Cut(string(b), "\n")
		word = strings.TrimRight(word, "\r")
		if word == "" {
			return "", fmt.Errorf("the first line of %s is empty; write the passphrase there", file)
		}
	}
	if word == "" && ask {
		if !term.IsTerminal(int(os.Stdin.Fd())) {
			return "", errors.New("there is no terminal to ask for a passphrase; tell it with --passphrase-file, or in " +
				"IDLEEMBER_PASSPHRASE")
		}
		first, err := askPassphrase("Passphrase")
		if err != nil {
			return "", err
		}
		again, err := askPassphrase("The same once more")
		if err != nil {
			return "", err
		}
		if first != again {
			return "", errors.New("the two are not the same; nothing was written")
		}
		word = first
	}
	if ask && word == "" {
		return "", errors.New("the passphrase is empty; a few words are fine")
	}
	return word, nil
}

func askPassphrase(what string) (string, error) {
	_, _ = fmt.Fprintf(os.Stderr, "%s: ", what)
	b, err := term.ReadPassword(int(os.Stdin.Fd()))
	_, _ = fmt.Fprintln(os.Stderr)
	return string(b), err
}

// BackupCommand is `idleember backup`.
func BackupCommand() *cli.Command {
	return &cli.Command{Name: "backup", Usage: "write everything that a hub keeps to one file", ArgsUsage: "FILE",
		Description: `The hub may run meanwhile: the file holds what was there at one moment. It is verified before it gets its name, and its SHA-256 stands
beside it, as sha256sum -c reads it. It holds password hashes; keep it where nobody else reads, or encrypt it with a passphrase. Such a
file is of the format age-encryption.org/v1 and can be opened by any program that knows it.`,
		Flags: []cli.Flag{dataFlag(), passphraseFlag(), &cli.BoolFlag{Name: "encrypt",
			Usage: "ask for a passphrase and encrypt the file with it"}},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			file, err := oneFile(cmd)
			if err != nil {
				return err
			}
			ctx, stop := signal.NotifyContext(ctx, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
			defer stop()
			word, err := passphrase(cmd, cmd.Bool("encrypt"))
			if err != nil {
				return err
			}
			b, err := store.WriteBackup(ctx, cmd.String("data"), file, word)
			if err != nil {
				return err
			}
			how := ""
			if word != "" {
				how = ", encrypted"
			}
			_, err = fmt.Fprintf(cmd.Root().Writer, "%s holds everything in %s (%.1f MB%s, SHA-256 %s).\n", file,
				cmd.String("data"), float64(b.Bytes)/1e6, how, b.Sum)
			return err
		}}
}

// RestoreCommand is `idleember restore`.
func RestoreCommand() *cli.Command {
	return &cli.Command{Name: "restore", Usage: "bring a backup into an empty folder", ArgsUsage: "FILE",
		Description: `The file is verified first. What an earlier idleember wrote is brought up to date, and then all is checked as check does.`,
		Flags:       []cli.Flag{dataFlag(), passphraseFlag()},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			file, err := oneFile(cmd)
			if err != nil {
				return err
			}
			ctx, stop := signal.NotifyContext(ctx, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
			defer stop()
			dir := cmd.String("data")
			word, err := passphrase(cmd, false)
			if err != nil {
				return err
			}
			_, err = store.Restore(ctx, file, dir, word)
			if errors.Is(err, store.ErrEncrypted) && term.IsTerminal(int(os.Stdin.Fd())) {
				if word, err = askPassphrase("Passphrase of the backup"); err == nil {
					_, err = store.Restore(ctx, file, dir, word)
				}
			}
			if err != nil {
				return err
			}
			s, err := store.Open(ctx, dir, store.Options{})
			if err != nil {
				return err
			}
			defer func() { _ = s.Close() }()
			if err := s.Check(ctx, func(int, int) {}); err != nil {
				return fmt.Errorf("%s was restored, but is damaged:\n%w", dir, err)
			}
			_, err = fmt.Fprintf(cmd.Root().Writer, "%s is as it was. Start it with: idleember serve --data %s\n", dir, dir)
			return err
		}}
}
