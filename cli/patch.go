package cli

import (
	"context"
	"strings"

	"github.com/urfave/cli/v3"

	"idleember/client"
	"idleember/contract/shown"
)

func given(cmd *cli.Command, flag string) *string {
	if !cmd.IsSet(flag) {
		return nil
	}
	s := cmd.String(flag)
	return &s
}

// patch is what a command's flags say of a part: a merge patch (RFC 7396), or what is told of a new one.
type patch map[string]any

// texts takes fields from flags of the same name, with _ for -.
func (p patch) texts(cmd *cli.Command, flags ...string) patch {
	for _, flag := range flags {
		if cmd.IsSet(flag) {
			p[field(flag)] = cmd.String(flag)
		}
	}
	return p
}

func (p patch) millis(cmd *cli.Command, flags ...string) patch {
	for _, flag := range flags {
		if cmd.IsSet(flag) {
			p[field(flag)+"_ms"] = cmd.Duration(flag).Milliseconds()
		}
	}
	return p
}

func (p patch) flags(cmd *cli.Command, flags ...string) patch {
	for _, flag := range flags {
		if cmd.IsSet(flag) {
			p[field(flag)] = cmd.Bool(flag)
		}
	}
	return p
}

func field(flag string) string { return strings.ReplaceAll(flag, "-", "_") }

// changed reads a part, lets f change its configuration, and keeps that if nobody else changed it meanwhile.
func changed[C, S any](ctx context.Context, p client.Parts[C, S], id string, f func(*C)) (shown.Part[C, S], error) {
	now, err := p.Get(ctx, id)
	if err != nil {
		return now, err
	}
	f(&now.Config)
	return p.Put(ctx, id, now.Config, now.Version)
}
