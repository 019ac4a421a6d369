package household

import (
	"cmp"
	"context"
	"crypto/sha256"
	"fmt"
	"slices"
	"strings"
	"time"

	"idleember/core/access"
	"idleember/core/fault"
	"idleember/hub"
	"idleember/sight"
	"idleember/store"
)

// SessionLife is how long a browser stays signed in.
const SessionLife = 90 * 24 * time.Hour

// pass makes a session, a token or the key of a wall for a member.
func (p *People) pass(ctx context.Context, a access.Actor, x store.Pass, life time.Duration) (string, store.Pass,
	error) {
	key := x.Kind + "_" + secret(26)
	sum := sha256.Sum256([]byte(key))
	now := p.house.Time()
	x.Hash, x.ID, x.Member, x.Created = sum[:], secret(10), a.ID, now.UnixMilli()
	if life > 0 {
		x.Expires = now.Add(life).UnixMilli()
	}
	err := p.house.Do(ctx, func(t hub.Turn) error {
		p.mu.Lock()
		defer p.mu.Unlock()
		if _, ok := p.members[a.ID]; !ok {
			return ErrSignedOut
		}
		p.passes[sum] = x
		p.open[x.ID] = sum
		t.Write(store.SavePass(x))
		switch x.Kind {
		case "session":
			p.proven[x.ID] = time.Now()
			t.TellPerson(a.ID, fmt.Sprintf("%s signed in from %s.", a.Name, a.From))
		case "token":
			t.TellPerson(a.ID, fmt.Sprintf("%s made the token %q, for %s, from %s.", a.Name, x.Name, x.Scopes, a.From))
		}
		t.Journal(a, "begin "+x.Kind, a.ID, "", strings.TrimSpace(x.Name+" "+x.Scopes), "")
		return nil
	})
	return key, x, err
}

// Who returns the actor that a session, a token or the key of a wall stands for.
func (p *People) Who(key, from string) (access.Actor, error) {
	a, _, err := p.who(key, from)
	return a, err
}

func (p *People) who(key, from string) (access.Actor, store.Pass, error) {
	sum := sha256.Sum256([]byte(key))
	p.mu.RLock()
	defer p.mu.RUnlock()
	x, ok := p.passes[sum]
	if !ok || x.Expires > 0 && x.Expires < p.house.Time().UnixMilli() || p.idle(x) {
		return access.Actor{}, x, ErrSignedOut
	}
	m, ok := p.members[x.Member]
	now := p.house.Time()
	if !ok || !m.Active(now) {
		return access.Actor{}, x, ErrSignedOut
	}
	p.use.mark(x.ID, m.ID, now)
	switch x.Kind {
	case "token":
		a := p.house.ActorOf(m, access.Token, from)
		a.Name = fmt.Sprintf("%s (token %s)", m.Name, x.Name)
		a.Scopes, a.Pass = scopesOf(x), x.ID
		return a, x, nil
	case "wall":
		a := sight.WallActor(p.house.Site(), wallOf(x), p.house.ActorOf(m, access.Person, ""), from)
		a.Pass = x.ID
		return a, x, nil
	}
	a := p.house.ActorOf(m, access.Person, from)
	a.Pass = x.ID
	return a, x, nil
}

// idle reports whether a browser's session was not used for too long. Walls and tokens are used by nobody in
// particular.
func (p *People) idle(x store.Pass) bool {
	return x.Kind == "session" && p.house.Time().Sub(time.UnixMilli(max(x.Created, x.Used,
		p.use.of(x.ID)))) > p.house.Site().Hub.Idle()
}

// Tokens lists the tokens of the member who asks.
func (p *People) Tokens(_ context.Context, a access.Actor) ([]Token, error) {
	return p.passesOf(a.ID, "token"), access.May(a, access.Own, access.Anything)
}

// Sessions lists the browser sessions of the member who asks; the name of each is the address from where it began.
func (p *People) Sessions(_ context.Context, a access.Actor) ([]Token, error) {
	return p.passesOf(a.ID, "session"), access.May(a, access.Own, access.Anything)
}

func (p *People) passesOf(member, kind string) []Token {
	p.mu.RLock()
	defer p.mu.RUnlock()
	out := []Token{}
	now := p.house.Time().UnixMilli()
	for _, x := range p.passes {
		if x.Kind == kind && x.Member == member && (x.Expires == 0 || now < x.Expires) && !p.idle(x) {
			out = append(out, p.tokenView(x))
		}
	}
	slices.SortFunc(out, func(x, y Token) int { return cmp.Or(x.Created.Compare(y.Created), cmp.Compare(x.ID, y.ID)) })
	return out
}

// EndPass ends a session or token of the member who asks. A token ends itself alone.
func (p *People) EndPass(ctx context.Context, a access.Actor, id string) error {
	right := access.Own
	if id == a.Pass {
		right = access.Self
	}
	return p.house.Do(ctx, func(t hub.Turn) error {
		if err := access.May(a, right, access.Anything); err != nil {
			return err
		}
		p.mu.Lock()
		defer p.mu.Unlock()
		for sum, x := range p.passes {
			if x.ID == id && x.Member == a.ID {
				p.endPass(t, sum, x)
				t.Journal(a, "end "+x.Kind, a.ID, x.Name, "", "")
				t.LookAgain()
				return nil
			}
		}
		return fault.NotFound("token", id)
	})
}

// endPass ends a session, token or wall. The caller holds mu and has others look again.
func (p *People) endPass(t hub.Turn, sum [32]byte, x store.Pass) { t.Write(p.forget(sum, x)) }

// forget forgets a pass and returns what ends it for good.
func (p *People) forget(sum [32]byte, x store.Pass) store.Change {
	delete(p.passes, sum)
	delete(p.open, x.ID)
	delete(p.proven, x.ID)
	return store.DeletePass(x.ID)
}

// endPasses ends a member's passes of which f is true. The caller holds mu and has others look again.
func (p *People) endPasses(t hub.Turn, member string, f func(store.Pass) bool) (n int) {
	for sum, x := range p.passes {
		if x.Member == member && f(x) {
			p.endPass(t, sum, x)
			n++
		}
	}
	return n
}

// EndSession ends the browser session of a key, where it is one.
func (p *People) EndSession(ctx context.Context, key string) {
	sum := sha256.Sum256([]byte(key))
	_ = p.house.Do(ctx, func(t hub.Turn) error {
		p.mu.Lock()
		defer p.mu.Unlock()
		if x, ok := p.passes[sum]; ok && x.Kind == "session" {
			p.endPass(t, sum, x)
			t.LookAgain()
		}
		return nil
	})
}

// Still returns an actor as it is now, and false where the session, token or wall that it came with has ended.
func (p *People) Still(a access.Actor) (access.Actor, bool) {
	p.mu.RLock()
	defer p.mu.RUnlock()
	sum, open := p.open[a.Pass]
	x, now := p.passes[sum], p.house.Time()
	if !open || x.Expires > 0 && x.Expires < now.UnixMilli() {
		return a, false
	}
	m, ok := p.members[x.Member]
	if !ok || !m.Active(now) {
		return a, false
	}
	p.use.mark(x.ID, m.ID, now) // who looks on uses it
	if a.Kind == access.Wall {
		now := sight.WallActor(p.house.Site(), wallOf(x), p.house.ActorOf(m, access.Person, ""), a.From)
		now.Pass = x.ID
		return now, true
	}
	is := p.house.ActorOf(m, a.Kind, a.From)
	a.Role, a.Rights = is.Role, is.Rights
	return a, true
}
