package serve

import (
	"context"
	"fmt"
	"os"
	"os/signal"
	"syscall"

	"github.com/urfave/cli/v3"

	"idleember/store"
)

func dataFlag() cli.Flag {
	return &cli.StringFlag{Name: "data", Value: DefaultData(), DefaultText: homely(DefaultData()), Usage: "the hub's `DIR`", Sources: cli.EnvVars("IDLEEMBER_DATA")}
}

// oneFile is the argument of backup and restore.
func oneFile(cmd *cli.Command) (string, error) {
	if cmd.Args().Len() != 1 {
		return "", fmt.Errorf("usage: idleember %s --data DIR FILE", cmd.Name)
	}
	return cmd.Args().First(), nil
}

// BackupCommand is `idleember backup`.
func BackupCommand() *cli.Command {
	return &cli.Command{Name: "backup", Usage: "write everything that a hub keeps to one file", ArgsUsage: "FILE",
		Description: `The hub may run meanwhile: the file holds what was there at one moment. It is verified before it gets its name, and its SHA-256 stands
beside it, as sha256sum -c reads it. It holds password hashes; keep it where nobody else reads.`,
		Flags: []cli.Flag{dataFlag()},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			file, err := oneFile(cmd)
			if err != nil {
				return err
			}
			ctx, stop := signal.NotifyContext(ctx, os.Interrupt, syscall.SIGTERM)
			defer stop()
			b, err := store.WriteBackup(ctx, cmd.String("data"), file)
			if err != nil {
				return err
			}
			_, err = fmt.Fprintf(cmd.Root().Writer, "%s holds everything in %s (%.1f MB, SHA-256 %s).\n", file, cmd.String("data"), float64(b.Bytes)/1e6, b.Sum)
			return err
		}}
}

// RestoreCommand is `idleember restore`.
func RestoreCommand() *cli.Command {
	return &cli.Command{Name: "restore", Usage: "bring a backup into an empty folder", ArgsUsage: "FILE",
		Description: `The file is verified first. What an earlier idleember wrote is brought up to date, and then all is checked as check does.`,
		Flags:       []cli.Flag{dataFlag()},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			file, err := oneFile(cmd)
			if err != nil {
				return err
			}
			ctx, stop := signal.NotifyContext(ctx, os.Interrupt, syscall.SIGTERM)
			defer stop()
			dir := cmd.String("data")
			if _, err := store.Restore(ctx, file, dir); err != nil {
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
