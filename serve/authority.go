package serve

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"idleember/store"
)

// AuthorityCommand is `idleember authority`.
func AuthorityCommand() *cli.Command {
	return &cli.Command{Name: "authority", Usage: "the hub's own authority, which phones and boards trust",
		Commands: []*cli.Command{{Name: "renew", Usage: "set it aside, so that the next start makes a new one",
			Flags: []cli.Flag{dataFlag()},
			Description: `A new one signs for this hub's names and for addresses in a house alone, for ten years; one that an earlier version made could sign
for any site. After the next start bring http://<hub>/ca.pem to each phone and board again: they do not believe the hub until then.`,
			Action: func(ctx context.Context, cmd *cli.Command) error {
				s, err := store.Open(ctx, cmd.String("data"), store.Options{}) // nobody else may have it open
				if err != nil {
					return err
				}
				defer func() { _ = s.Close() }()
				aside, err := RenewAuthority(cmd.String("data"))
				if err != nil {
					return err
				}
				_, err = fmt.Fprintf(cmd.Root().Writer, "The old one is in %s. The next start makes a new one; bring "+
					"http://<hub>/ca.pem to each phone and board then.\n", aside)
				return err
			}}}}
}
