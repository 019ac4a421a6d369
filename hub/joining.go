package hub

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"slices"
	"time"

	"idleember/core/access"
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
func (h *Hub) Invite(ctx context.Context, a access.Actor, n NewInvite) (code string, x store.Invite, err error) {
	if err := h.admits(a); err != nil {
		return "", x, err
	}
	if n.Life == 0 {
		n.Life = inviteLife
	}
	if n.Life < time.Minute || n.Life > longestInvite {
		return "", x, &InvalidError{"hours", "an invitation holds for up to a month"}
	}
	if n.Account == "" {
		if !n.Role.Valid() {
			return "", x, &InvalidError{"role", fmt.Sprintf("the role is %q; choose owner, member or guest", n.Role)}
		}
		if err := checkUntil(n.Role, n.Until, h.Time()); err != nil {
			return "", x, err
		}
		if n.Name != "" {
			if err := checkName("name", n.Name); err != nil {
				return "", x, err
			}
		}
	}
	code = "join_" + secret(15)
	sum := sha256.Sum256([]byte(code))
	now := h.Time()
	x = store.Invite{Hash: sum[:], ID: secret(6), Account: n.Account, Name: n.Name, Role: n.Role, Created: now.UnixMilli(), Expires: now.Add(n.Life).UnixMilli(), By: a.Name}
	if !n.Until.IsZero() {
		x.Until = n.Until.UnixMilli()
	}
	return code, x, h.do(ctx, func() error {
		p := h.people
		p.mu.Lock()
		defer p.mu.Unlock()
		what := "as " + string(x.Role)
		if x.Account != "" {
			m, ok := p.members[x.Account]
			if !ok {
				return &NotFoundError{What: "member", ID: x.Account}
			}
			x.Name, x.Role, what = m.Name, m.Role, "to a new password of "+m.ID
		}
		for sum, old := range p.invites {
			if old.Expires < now.UnixMilli() {
				delete(p.invites, sum)
				h.write(store.DropInvite(old.ID))
			}
		}
		if len(p.invites) >= mostInvites {
			return &InvalidError{"", fmt.Sprintf("there are %d open invitations; take some back first", mostInvites)}
		}
		p.invites[sum] = x
		h.write(store.SaveInvite(x))
		h.journal(now, a, "invite", "invite "+x.ID, "", what, "")
		return nil
	})
}

// Invites lists the invitations that are open, oldest first.
func (h *Hub) Invites(_ context.Context, a access.Actor) ([]store.Invite, error) {
	h.people.mu.RLock()
	defer h.people.mu.RUnlock()
	out := []store.Invite{}
	for _, x := range h.people.invites {
		if h.Time().UnixMilli() < x.Expires {
			out = append(out, x)
		}
	}
	slices.SortFunc(out, func(x, y store.Invite) int { return int(x.Created - y.Created) })
	return out, access.May(a, access.Household, access.Anything)
}

// TakeBackInvite voids an invitation.
func (h *Hub) TakeBackInvite(ctx context.Context, a access.Actor, id string) error {
	return h.do(ctx, func() error {
		if err := access.May(a, access.Household, access.Anything); err != nil {
			return err
		}
		h.people.mu.Lock()
		defer h.people.mu.Unlock()
		for sum, x := range h.people.invites {
			if x.ID == id {
				delete(h.people.invites, sum)
				h.write(store.DropInvite(id))
				h.journal(h.Time(), a, "take back", "invite "+id, string(x.Role), "", "")
				return nil
			}
		}
		return &NotFoundError{What: "invitation", ID: id}
	})
}

// Invited tells what a code is for. Wrong ones are slowed down like passwords.
func (h *Hub) Invited(_ context.Context, code, from string) (Invited, error) {
	x, err := h.invite(code, from)
	if err != nil {
		return Invited{}, err
	}
	v := Invited{Hub: h.Site().Hub.Name, Account: x.Account, Name: x.Name, Role: x.Role, By: x.By, Expires: time.UnixMilli(x.Expires)}
	if x.Until > 0 {
		v.Until = time.UnixMilli(x.Until)
	}
	return v, nil
}

func (h *Hub) invite(code, from string) (store.Invite, error) {
	p := h.people
	key := "invite " + from
	if err := p.try(key); err != nil {
		return store.Invite{}, err
	}
	p.mu.RLock()
	x, ok := p.invites[sha256.Sum256([]byte(code))]
	p.mu.RUnlock()
	if !ok || x.Expires < h.Time().UnixMilli() {
		return x, ErrInvite
	}
	p.right(key)
	return x, nil
}

// Join takes an invitation: somebody new gets an account, a member a new password. The invitation is void afterwards. It returns the
// account, which is signed in by its password.
func (h *Hub) Join(ctx context.Context, code, from string, n NewMember) (string, error) {
	x, err := h.invite(code, from)
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
	m, err := h.newMember(ctx, n)
	if err != nil {
		return "", err
	}
	return m.ID, h.do(ctx, func() error {
		p := h.people
		p.mu.Lock()
		defer p.mu.Unlock()
		sum := [32]byte(x.Hash)
		if _, ok := p.invites[sum]; !ok { // somebody was faster
			return ErrInvite
		}
		old, had := p.members[m.ID]
		switch {
		case x.Account == "" && had:
			return &InvalidError{"account", fmt.Sprintf("there is already a member with the account %s; choose another", m.ID)}
		case x.Account != "" && !had:
			return ErrInvite
		case had:
			old.Password = m.Password
			m = old
			h.endPasses(m.ID, func(store.Pass) bool { return true })
			h.tellPerson(m.ID, fmt.Sprintf("%s: the password was changed by the invitation of %s, from %s.", m.Name, x.By, from))
		}
		delete(p.invites, sum)
		p.members[m.ID] = m
		h.write(store.DropInvite(x.ID), store.SaveMember(m))
		actor := access.Actor{Kind: access.Person, ID: m.ID, Name: m.Name, Role: m.Role, From: from}
		if had {
			h.journal(h.Time(), actor, "change", "member "+m.ID, "", "the password, by the invitation of "+x.By, "")
		} else {
			h.journal(h.Time(), actor, "add", "member "+m.ID, "", fmt.Sprintf("%s, by the invitation of %s", m.Role, x.By), "")
		}
		h.lookAgain()
		return nil
	})
}
