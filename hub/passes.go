package hub

import (
	"context"
	"crypto/sha256"
	"fmt"
	"slices"
	"strings"
	"time"

	"idleember/core/access"
	"idleember/store"
)

// pass makes a session, a token or the key of a wall for a member.
func (h *Hub) pass(ctx context.Context, a access.Actor, x store.Pass, life time.Duration) (string, store.Pass, error) {
	key := x.Kind + "_" + secret(20)
	sum := sha256.Sum256([]byte(key))
	now := h.Time()
	x.Hash, x.ID, x.Member, x.Created = sum[:], secret(6), a.ID, now.UnixMilli()
	if life > 0 {
		x.Expires = now.Add(life).UnixMilli()
	}
	err := h.do(ctx, func() error {
		h.people.mu.Lock()
		defer h.people.mu.Unlock()
		if _, ok := h.people.members[a.ID]; !ok {
			return ErrSignedOut
		}
		h.people.passes[sum] = x
		h.people.open[x.ID] = sum
		h.write(store.SavePass(x))
		switch x.Kind {
		case "session":
			h.people.proven[x.ID] = time.Now()
			h.tellPerson(a.ID, fmt.Sprintf("%s signed in from %s.", a.Name, a.From))
		case "token":
			h.tellPerson(a.ID, fmt.Sprintf("%s made the token %q, for %s, from %s.", a.Name, x.Name, x.Scopes, a.From))
		}
		h.journal(now, a, "begin "+x.Kind, a.ID, "", strings.TrimSpace(x.Name+" "+x.Scopes), "")
		return nil
	})
	return key, x, err
}

// Who returns the actor that a session, a token or the key of a wall stands for.
func (h *Hub) Who(key, from string) (access.Actor, store.Pass, error) {
	p := h.people
	sum := sha256.Sum256([]byte(key))
	p.mu.RLock()
	defer p.mu.RUnlock()
	x, ok := p.passes[sum]
	if !ok || x.Expires > 0 && x.Expires < h.Time().UnixMilli() || h.idle(x) {
		return access.Actor{}, x, ErrSignedOut
	}
	m, ok := p.members[x.Member]
	now := h.Time()
	if !ok || !active(m, now) {
		return access.Actor{}, x, ErrSignedOut
	}
	p.use.mark(x.ID, m.ID, now)
	switch x.Kind {
	case "token":
		a := h.actorOf(m, access.Token, from)
		a.Name = fmt.Sprintf("%s (token %s)", m.Name, x.Name)
		a.Scopes, a.Pass = scopesOf(x), x.ID
		return a, x, nil
	case "wall":
		return h.wallActor(wallOf(x), h.actorOf(m, access.Person, ""), from), x, nil
	}
	a := h.actorOf(m, access.Person, from)
	a.Pass = x.ID
	return a, x, nil
}

// idle reports whether a browser's session was not used for too long. Walls and tokens are used by nobody in particular.
func (h *Hub) idle(x store.Pass) bool {
	return x.Kind == "session" && h.Time().Sub(time.UnixMilli(max(x.Created, x.Used, h.people.use.of(x.ID)))) > h.Site().Hub.Idle()
}

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

func (h *Hub) tokenView(x store.Pass) Token {
	t := Token{ID: x.ID, Name: x.Name, Scopes: scopesOf(x), Created: time.UnixMilli(x.Created)}
	if x.Expires > 0 {
		t.Expires = time.UnixMilli(x.Expires)
	}
	if used := max(x.Used, h.people.use.of(x.ID)); used > 0 {
		t.Used = time.UnixMilli(used)
	}
	return t
}

// NewToken makes a token for the member who asks and returns it; only its hash is kept. It may do no more than whoever makes it. It
// ends after life; 0: never.
func (h *Hub) NewToken(ctx context.Context, a access.Actor, name string, scopes []string, life time.Duration) (string, Token, error) {
	if err := h.inPerson(a); err != nil {
		return "", Token{}, err
	}
	if err := checkName("name", name); err != nil {
		return "", Token{}, err
	}
	if len(scopes) == 0 {
		return "", Token{}, &InvalidError{"scopes", "say what the token is for: read, switch, configure, push, or several of them"}
	}
	if life < 0 || life > 10*365*24*time.Hour {
		return "", Token{}, &InvalidError{"days", "a token ends within ten years, or never"}
	}
	slices.Sort(scopes)
	scopes = slices.Compact(scopes)
	for _, s := range scopes {
		switch {
		case !access.ValidScope(s):
			return "", Token{}, &InvalidError{"scopes", fmt.Sprintf("there is no scope %q; choose of read, switch, configure and push", s)}
		}
	}
	key, x, err := h.pass(ctx, a, store.Pass{Kind: "token", Name: name, Scopes: strings.Join(scopes, " ")}, life)
	return key, h.tokenView(x), err
}

// Tokens lists the tokens of the member who asks.
func (h *Hub) Tokens(_ context.Context, a access.Actor) ([]Token, error) {
	return h.passesOf(a.ID, "token"), access.May(a, access.Own, access.Anything)
}

// Sessions lists the browser sessions of the member who asks; the name of each is the address from where it began.
func (h *Hub) Sessions(_ context.Context, a access.Actor) ([]Token, error) {
	return h.passesOf(a.ID, "session"), access.May(a, access.Own, access.Anything)
}

func (h *Hub) passesOf(member, kind string) []Token {
	h.people.mu.RLock()
	defer h.people.mu.RUnlock()
	out := []Token{}
	now := h.Time().UnixMilli()
	for _, x := range h.people.passes {
		if x.Kind == kind && x.Member == member && (x.Expires == 0 || now < x.Expires) && !h.idle(x) {
			out = append(out, h.tokenView(x))
		}
	}
	slices.SortFunc(out, func(x, y Token) int { return x.Created.Compare(y.Created) })
	return out
}

// EndPass ends a session or token of the member who asks. A token ends itself alone.
func (h *Hub) EndPass(ctx context.Context, a access.Actor, id string) error {
	right := access.Own
	if id == a.Pass {
		right = access.Self
	}
	return h.do(ctx, func() error {
		if err := access.May(a, right, access.Anything); err != nil {
			return err
		}
		h.people.mu.Lock()
		defer h.people.mu.Unlock()
		for sum, x := range h.people.passes {
			if x.ID == id && x.Member == a.ID {
				h.endPass(sum, x)
				h.journal(h.Time(), a, "end "+x.Kind, a.ID, x.Name, "", "")
				h.lookAgain()
				return nil
			}
		}
		return &NotFoundError{What: "token", ID: id}
	})
}

// endPass ends a session, token or wall. The caller holds people.mu and calls lookAgain.
func (h *Hub) endPass(sum [32]byte, x store.Pass) {
	delete(h.people.passes, sum)
	delete(h.people.open, x.ID)
	delete(h.people.proven, x.ID)
	h.write(store.DeletePass(x.ID))
}

// endPasses ends a member's passes of which f is true. The caller holds people.mu and calls lookAgain.
func (h *Hub) endPasses(member string, f func(store.Pass) bool) (n int) {
	for sum, x := range h.people.passes {
		if x.Member == member && f(x) {
			h.endPass(sum, x)
			n++
		}
	}
	return n
}

// EndSession ends the browser session of a key, where it is one.
func (h *Hub) EndSession(ctx context.Context, key string) {
	sum := sha256.Sum256([]byte(key))
	_ = h.do(ctx, func() error {
		h.people.mu.Lock()
		defer h.people.mu.Unlock()
		if x, ok := h.people.passes[sum]; ok && x.Kind == "session" {
			h.endPass(sum, x)
			h.lookAgain()
		}
		return nil
	})
}

// Still returns an actor as it is now, and false where the session or token that it came with has ended.
func (h *Hub) Still(a access.Actor, pass string) (access.Actor, bool) {
	p := h.people
	p.mu.RLock()
	defer p.mu.RUnlock()
	sum, open := p.open[pass]
	now := h.Time()
	if x := p.passes[sum]; !open || x.Expires > 0 && x.Expires < now.UnixMilli() {
		return a, false
	}

	x := p.passes[sum]
	m, ok := p.members[x.Member]
	if !ok || !active(m, now) {
		return a, false
	}
	p.use.mark(pass, m.ID, now) // who looks on uses it
	if a.Kind == access.Wall {
		return h.wallActor(wallOf(x), h.actorOf(m, access.Person, ""), a.From), true
	}
	a.Role, a.Rights = m.Role, p.rights.Load()
	return a, true
}
