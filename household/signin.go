package household

import (
	"context"
	"crypto/subtle"
	"strings"
	"time"

	"idleember/core/access"
	"idleember/core/fault"
	"idleember/core/site"
	"idleember/hub"
	"idleember/store"
)

// SetUp creates the owner with the one-time code, and the hub's settings with it. The code is void afterwards.
func (p *People) SetUp(ctx context.Context, code, from string, settings site.Hub, owner NewMember) error {
	have := p.SetupCode()
	if have == "" {
		return ErrSetUp
	}
	if err := p.try("setup " + from); err != nil {
		return err
	}
	if subtle.ConstantTimeCompare([]byte(strings.ToLower(strings.TrimSpace(code))), []byte(have)) != 1 {
		return ErrSetupCode
	}
	p.right("setup " + from)
	if err := settings.Check(); err != nil {
		return err
	}
	owner.Role = access.Owner
	m, err := p.newMember(ctx, owner)
	if err != nil {
		return err
	}
	return p.house.Do(ctx, func(t hub.Turn) error {
		if !p.begin(m) {
			return ErrSetUp
		}
		t.Put(settings)
		t.Write(store.SaveMember(m))
		t.Journal(access.Actor{Kind: access.Person, ID: m.ID, Name: m.Name, From: from}, "set up", "hub", "", settings.Name,
			"")
		return nil
	})
}

// begin lets the first owner in, once.
func (p *People) begin(m store.Member) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.code == "" {
		return false
	}
	p.code = ""
	close(p.owned)
	p.members[m.ID] = m
	return true
}

// SignIn checks a password, and the code of the second factor where the account has one, and begins a browser session;
// it returns the session's secret.
func (p *People) SignIn(ctx context.Context, account, password, code, from string) (string, error) {
	account = strings.ToLower(strings.TrimSpace(account)) // a phone begins with a capital, and ends with a space
	keys := []string{"account " + site.Clip(account, 60), "address " + from}
	if p.knows(account, from) {
		keys = []string{"account " + account + " from " + from}
	}
	if err := p.try(keys...); err != nil {
		return "", err
	}
	p.mu.RLock()
	m, ok := p.members[account]
	p.mu.RUnlock()
	good, err := p.matches(ctx, m.Password, password)
	if err != nil {
		p.undo(keys...)
		return "", err
	}
	if !ok || !good || !m.Active(p.house.Time()) {
		p.log.Warn("a sign-in failed", "account", site.Clip(account, 60), "from", from)
		return "", ErrSignIn
	}
	if m.Factor != "" {
		if code == "" {
			p.undo(keys...)
			return "", ErrFactor
		}
		if err := p.checkFactor(ctx, m.ID, code); err != nil {
			p.log.Warn("a second factor was wrong", "account", m.ID, "from", from)
			return "", err
		}
	}
	p.right(keys...)
	p.mu.Lock()
	if len(p.was) > mostPlaces {
		clear(p.was)
	}
	p.was[account+" from "+from] = true
	p.mu.Unlock()
	key, _, err := p.pass(ctx, p.house.ActorOf(m, access.Person, from), store.Pass{Kind: "session", Name: from},
		SessionLife)
	return key, err
}

// try books a try under some keys before it is judged; it fails where one of them has to wait. Its judge says right or
// undo.
func (p *People) try(keys ...string) error {
	p.guessing.Lock()
	defer p.guessing.Unlock()
	if wait := p.guesses.Try(time.Now(), keys...); wait > 0 {
		return &fault.TooManyError{Wait: wait}
	}
	return nil
}

func (p *People) right(keys ...string) {
	p.guessing.Lock()
	defer p.guessing.Unlock()
	p.guesses.Right(keys...)
}

// undo takes back a try that was not judged.
func (p *People) undo(keys ...string) {
	p.guessing.Lock()
	defer p.guessing.Unlock()
	p.guesses.Undo(keys...)
}

// mostPlaces is of how many accounts and addresses together it is remembered that they belong together.
const mostPlaces = 10_000

// knows reports whether an account is signed in from an address. What strangers guess elsewhere does not hold it up
// there.
func (p *People) knows(account, from string) bool {
	p.mu.RLock()
	defer p.mu.RUnlock()
	for _, x := range p.passes {
		if x.Kind == "session" && x.Member == account && x.Name == from {
			return true
		}
	}
	return p.was[account+" from "+from]
}
