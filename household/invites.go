package household

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"slices"
	"time"

	"idleember/core/access"
	"idleember/core/fault"
	"idleember/core/site"
	"idleember/hub"
	"idleember/store"
)

// NewInvite is an invitation to be made.
type NewInvite struct {
	Account string // of a member who is to get a new password; "" for somebody new
	Name    string // of somebody new, as a proposal
	Role    access.Role
	Until   time.Time     // a guest's end; zero: none
	Life    time.Duration // of the invitation
}

// Invited is what an invitation offers to whoever holds it.
type Invited struct {
	Hub, Account, Name, By string
	Role                   access.Role
	Until, Expires         time.Time
}

const (
	inviteLife    = 3 * 24 * time.Hour
	longestInvite = 31 * 24 * time.Hour
	mostInvites   = 100
)

// ErrInvite says that an invitation does not hold.
var ErrInvite = errors.New("this invitation was used, taken back or has ended; ask for a new one")

// Invite makes a one-time code by which somebody comes into the household, or sets a new password.
func (p *People) Invite(ctx context.Context, a access.Actor, n NewInvite) (code string, x store.Invite, err error) {
	if err := p.admits(a); err != nil {
		return "", x, err
	}
	if n.Life == 0 {
		n.Life = inviteLife
	}
	if n.Life < time.Minute || n.Life > longestInvite {
		return "", x, fault.Invalid("hours", "an invitation holds for up to a month")
	}
	if n.Account == "" {
		if !n.Role.Valid() {
			return "", x, fault.Invalid("role", "the role is %q; choose owner, member or guest", n.Role)
		}
		if err := checkUntil(n.Role, n.Until, p.house.Time()); err != nil {
			return "", x, err
		}
		if n.Name != "" {
			if err := site.CheckName("name", n.Name); err != nil {
				return "", x, err
			}
		}
	}
	code = "join_" + secret(24)
	sum := sha256.Sum256([]byte(code))
	now := p.house.Time()
	x = store.Invite{Hash: sum[:], ID: secret(10), Account: n.Account, Name: n.Name, Role: n.Role,
		Created: now.UnixMilli(), Expires: now.Add(n.Life).UnixMilli(), By: a.Name}
	if !n.Until.IsZero() {
		x.Until = n.Until.UnixMilli()
	}
	return code, x, p.house.Do(ctx, func(t hub.Turn) error {
		p.mu.Lock()
		defer p.mu.Unlock()
		what := "as " + string(x.Role)
		if x.Account != "" {
			m, ok := p.members[x.Account]
			if !ok {
				return fault.NotFound("member", x.Account)
			}
			x.Name, x.Role, what = m.Name, m.Role, "to a new password of "+m.ID
		}
		for sum, old := range p.invites {
			if old.Expires < now.UnixMilli() {
				delete(p.invites, sum)
				t.Write(store.DropInvite(old.ID))
			}
		}
		if len(p.invites) >= mostInvites {
			return fault.Invalid("", "there are %d open invitations; take some back first", mostInvites)
		}
		p.invites[sum] = x
		t.Write(store.SaveInvite(x))
		t.Journal(a, "invite", "invite "+x.ID, "", what, "")
		return nil
	})
}

// Invites lists the invitations that are open, oldest first.
func (p *People) Invites(_ context.Context, a access.Actor) ([]store.Invite, error) {
	p.mu.RLock()
	defer p.mu.RUnlock()
	out := []store.Invite{}
	for _, x := range p.invites {
		if p.house.Time().UnixMilli() < x.Expires {
			out = append(out, x)
		}
	}
	slices.SortFunc(out, func(x, y store.Invite) int { return int(x.Created - y.Created) })
	return out, access.May(a, access.Household, access.Anything)
}

// TakeBackInvite voids an invitation.
func (p *People) TakeBackInvite(ctx context.Context, a access.Actor, id string) error {
	return p.house.Do(ctx, func(t hub.Turn) error {
		if err := access.May(a, access.Household, access.Anything); err != nil {
			return err
		}
		p.mu.Lock()
		defer p.mu.Unlock()
		for sum, x := range p.invites {
			if x.ID == id {
				delete(p.invites, sum)
				t.Write(store.DropInvite(id))
				t.Journal(a, "take back", "invite "+id, string(x.Role), "", "")
				return nil
			}
		}
		return fault.NotFound("invitation", id)
	})
}

// Invited tells what a code is for. Wrong ones are slowed down like passwords.
func (p *People) Invited(_ context.Context, code, from string) (Invited, error) {
	x, err := p.invite(code, from)
	if err != nil {
		return Invited{}, err
	}
	v := Invited{Hub: p.house.Site().Hub.Name, Account: x.Account, Name: x.Name, Role: x.Role, By: x.By,
		Expires: time.UnixMilli(x.Expires)}
	if x.Until > 0 {
		v.Until = time.UnixMilli(x.Until)
	}
	return v, nil
}

func (p *People) invite(code, from string) (store.Invite, error) {
	key := "invite " + from
	if err := p.try(key); err != nil {
		return store.Invite{}, err
	}
	p.mu.RLock()
	x, ok := p.invites[sha256.Sum256([]byte(code))]
	p.mu.RUnlock()
	if !ok || x.Expires < p.house.Time().UnixMilli() {
		return x, ErrInvite
	}
	p.right(key)
	return x, nil
}

// Join takes an invitation: somebody new gets an account, a member a new password. The invitation is void afterwards.
// It returns the account, which is signed in by its password.
func (p *People) Join(ctx context.Context, code, from string, n NewMember) (string, error) {
	x, err := p.invite(code, from)
	if err != nil {
		return "", err
	}
	n.Role, n.Until = x.Role, time.Time{}
	if x.Until > 0 {
		n.Until = time.UnixMilli(x.Until)
	}
	if x.Account != "" {
		n.Account, n.Name, n.Until = x.Account, x.Name, time.Time{}
	}
	m, err := p.newMember(ctx, n)
	if err != nil {
		return "", err
	}
	return m.ID, p.house.Do(ctx, func(t hub.Turn) error {
		p.mu.Lock()
		defer p.mu.Unlock()
		sum := [32]byte(x.Hash)
		if _, ok := p.invites[sum]; !ok { // somebody was faster
			return ErrInvite
		}
		old, had := p.members[m.ID]
		switch {
		case x.Account == "" && had:
			return fault.Invalid("account", "there is already a member with the account %s; choose another", m.ID)
		case x.Account != "" && !had:
			return ErrInvite
		case had:
			old.Password = m.Password
			m = old
			p.endPasses(t, m.ID, func(store.Pass) bool { return true })
			t.TellPerson(m.ID, fmt.Sprintf("%s: the password was changed by the invitation of %s, from %s.", m.Name, x.By, from))
		}
		delete(p.invites, sum)
		p.members[m.ID] = m
		t.Write(store.DropInvite(x.ID), store.SaveMember(m))
		actor := access.Actor{Kind: access.Person, ID: m.ID, Name: m.Name, Role: m.Role, From: from}
		if had {
			t.Journal(actor, "change", "member "+m.ID, "", "the password, by the invitation of "+x.By, "")
		} else {
			t.Journal(actor, "add", "member "+m.ID, "", fmt.Sprintf("%s, by the invitation of %s", m.Role, x.By), "")
		}
		t.LookAgain()
		return nil
	})
}
