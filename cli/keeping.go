package cli

import "github.com/urfave/cli/v3"

func given(cmd *cli.Command, flag string) *string {
	if !cmd.IsSet(flag) {
		return nil
	}
	s := cmd.String(flag)
	return &s
}
