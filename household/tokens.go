package household

import (
	"context"
	"slices"
	"strings"
	"time"

	"idleember/core/access"
	"idleember/core/fault"
	"idleember/core/site"
	"idleember/store"
)

func scopesOf(x store.Pass) []string {
	if x.Scopes == "" {
		return nil
	}
	return strings.Fields(x.Scopes)
}

// Token is a token without its secret.
type Token struct {
	ID, Name string
	Scopes   []string // nil: all that its member may
	Created  time.Time
	Expires  time.Time // zero: never
	Used     time.Time // zero: never
}

func (p *People) tokenView(x store.Pass) Token {
	t := Token{ID: x.ID, Name: x.Name, Scopes: scopesOf(x), Created: time.UnixMilli(x.Created)}
	if x.Expires > 0 {
		t.Expires = time.UnixMilli(x.Expires)
	}
	if used := max(x.Used, p.use.of(x.ID)); used > 0 {
		t.Used = time.UnixMilli(used)
	}
	return t
}

// NewToken makes a token for the member who asks and returns it; only its hash is kept. It may do no more than whoever
// makes it. It ends after life; 0: never.
func (p *People) NewToken(ctx context.Context, a access.Actor, name string, scopes []string,
	life time.Duration) (string, Token, error) {
	if err := p.InPerson(a); err != nil {
		return "", Token{}, err
	}
	if err := site.CheckName("name", name); err != nil {
		return "", Token{}, err
	}
	if len(scopes) == 0 {
		return "", Token{}, fault.Invalid("scopes",
			"say what the token is for: read, switch, configure, push, or several of them")
	}
	if life < 0 || life > 10*365*24*time.Hour {
		return "", Token{}, fault.Invalid("days", "a token ends within ten years, or never")
	}
	slices.Sort(scopes)
	scopes = slices.Compact(scopes)
	for _, s := range scopes {
		switch {
		case !access.ValidScope(s):
			return "", Token{}, fault.Invalid("scopes", "there is no scope %q; choose of read, switch, configure and push", s)
		}
	}
	key, x, err := p.pass(ctx, a, store.Pass{Kind: "token", Name: name, Scopes: strings.Join(scopes, " ")}, life)
	return key, p.tokenView(x), err
}
