package hub

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"idleember/core/access"
	"idleember/core/site"
	"idleember/store"
)

// Members lists everybody, for owners.
func (h *Hub) Members(_ context.Context, a access.Actor) ([]store.Member, error) {
	if err := access.May(a, access.Household, access.Anything); err != nil {
		return nil, err
	}
	h.people.mu.RLock()
	defer h.people.mu.RUnlock()
	out := []store.Member{}
	for _, m := range h.people.members {
		out = append(out, m)
	}
	slices.SortFunc(out, func(x, y store.Member) int {
		if x.Created != y.Created {
			return int(x.Created - y.Created)
		}
		return strings.Compare(x.ID, y.ID)
	})
	return out, nil
}

// admits is asked before anything changes who may sign in.
func (h *Hub) admits(a access.Actor) error {
	if err := access.May(a, access.Household, access.Anything); err != nil {
		return err
	}
	return h.inPerson(a)
}

// AddMember adds a person.
func (h *Hub) AddMember(ctx context.Context, a access.Actor, n NewMember) (store.Member, error) {
	if err := h.admits(a); err != nil {
		return store.Member{}, err
	}
	m, err := h.newMember(ctx, n)
	if err != nil {
		return m, err
	}
	return m, h.do(ctx, func() error {
		h.people.mu.Lock()
		defer h.people.mu.Unlock()
		if _, ok := h.people.members[m.ID]; ok {
			return &InvalidError{"account", fmt.Sprintf("there is already a member with the account %s; choose another", m.ID)}
		}
		h.people.members[m.ID] = m
		h.write(store.SaveMember(m))
		h.journal(h.Time(), a, "add", "member "+m.ID, "", string(m.Role), "")
		return nil
	})
}

// MemberChange is what is to change of a member; what is nil stays.
type MemberChange struct {
	// Check, where not nil, sees the member as it is before the change.
	Check    func(store.Member) error
	Name     *string
	Role     *access.Role
	Password *string
	Disabled *bool
	Until    *time.Time // of a guest; zero: no end
	Factor   *bool      // false takes the second factor away
}

// ChangeMember changes a person. The last owner can neither be disabled nor given another role. A new password and
// disabling end the person's sessions.
func (h *Hub) ChangeMember(ctx context.Context, a access.Actor, account string, c MemberChange) (store.Member, error) {
	var out store.Member
	may := h.admits(a)
	if c.Role == nil && c.Password == nil && c.Disabled == nil && c.Until == nil && c.Factor == nil { // a name opens no door
		may = access.May(a, access.Household, access.Anything)
	}
	if may != nil {
		return out, may
	}
	hash := ""
	if c.Password != nil {
		if err := checkPassword(*c.Password, account, h.Site().Hub.Name); err != nil {
			return out, err
		}
		var err error
		if hash, err = h.people.hash(ctx, *c.Password); err != nil {
			return out, err
		}
	}
	err := h.do(ctx, func() error {
		p := h.people
		p.mu.Lock()
		defer p.mu.Unlock()
		m, ok := p.members[account]
		if !ok {
			return &NotFoundError{What: "member", ID: account}
		}
		if c.Check != nil {
			if err := c.Check(m); err != nil {
				return err
			}
		}
		before := m
		if c.Name != nil {
			if err := checkName("name", *c.Name); err != nil {
				return err
			}
			m.Name = *c.Name
		}
		if c.Role != nil {
			if !c.Role.Valid() {
				return &InvalidError{"role", fmt.Sprintf("the role is %q; choose owner, member or guest", *c.Role)}
			}
			m.Role = *c.Role
		}
		if c.Disabled != nil {
			m.Disabled = *c.Disabled
		}
		if hash != "" {
			m.Password = hash
		}
		if c.Factor != nil && !*c.Factor {
			m.Factor, m.Step, m.Recovery = "", 0, "[]"
		}
		if m.Role != access.Guest {
			m.Until = 0
		}
		if c.Until != nil {
			if err := checkUntil(m.Role, *c.Until, h.Time()); err != nil {
				return err
			}
			if m.Until = 0; !c.Until.IsZero() {
				m.Until = c.Until.UnixMilli()
			}
		}
		if before.Role == access.Owner && !before.Disabled && (m.Role != access.Owner || m.Disabled) && p.owners() < 2 {
			return &InvalidError{"role", "this is the last owner; make somebody else owner first"}
		}
		if hash != "" || m.Disabled {
			h.endPasses(account, func(store.Pass) bool { return true })
		}
		p.members[account] = m
		h.write(store.SaveMember(m))
		said := func(m store.Member) string {
			text := fmt.Sprintf("%s, %s, disabled %t", m.Name, m.Role, m.Disabled)
			if m.Until > 0 {
				text += ", until " + time.UnixMilli(m.Until).In(h.site.Hub.Location()).Format("2 Jan 2006 15:04")
			}
			if m.Factor != "" {
				text += ", with a second factor"
			}
			return text
		}
		h.journal(h.Time(), a, "change", "member "+account, said(before), said(m), "")
		switch {
		case hash != "":
			h.tellPerson(account, fmt.Sprintf("%s: %s set a new password.", m.Name, a.Name))
		case before.Factor != m.Factor:
			h.tellPerson(account, fmt.Sprintf("%s: %s took the second factor away.", m.Name, a.Name))
		}
		h.lookAgain()
		out = m
		return nil
	})
	return out, err
}

// RemoveMember takes a person out of the household. What they shared stays; the last owner cannot be removed.
func (h *Hub) RemoveMember(ctx context.Context, a access.Actor, account string) error {
	return h.do(ctx, func() error {
		if err := h.admits(a); err != nil {
			return err
		}
		p := h.people
		p.mu.Lock()
		m, ok := p.members[account]
		switch {
		case !ok:
			p.mu.Unlock()
			return &NotFoundError{What: "member", ID: account}
		case m.Role == access.Owner && !m.Disabled && p.owners() < 2:
			p.mu.Unlock()
			return &InvalidError{"role", "this is the last owner; make somebody else owner first"}
		}
		h.endPasses(account, func(store.Pass) bool { return true })
		for sum, x := range p.invites {
			if x.Account == account {
				delete(p.invites, sum)
			}
		}
		delete(p.members, account)
		p.mu.Unlock()
		h.write(store.RemoveMember(account))
		if _, err := h.remove(a, "remove", site.Key{Kind: site.Member, ID: account}); err != nil {
			return err
		}
		h.journal(h.Time(), a, "remove", "member "+account, fmt.Sprintf("%s, %s", m.Name, m.Role), "", "")
		h.lookAgain()
		return nil
	})
}

// SignOutEverywhere ends all browser sessions of a member: one's own, or for an owner anybody's.
func (h *Hub) SignOutEverywhere(ctx context.Context, a access.Actor, account string) error {
	if err := access.May(a, access.Own, access.Anything); err != nil {
		return err
	}
	return h.do(ctx, func() error {
		if err := access.May(a, access.Household, access.Anything); account != a.ID && err != nil {
			return err
		}
		h.people.mu.Lock()
		defer h.people.mu.Unlock()
		if _, ok := h.people.members[account]; !ok {
			return &NotFoundError{What: "member", ID: account}
		}
		n := h.endPasses(account, func(x store.Pass) bool { return x.Kind == "session" })
		h.journal(h.Time(), a, "sign out everywhere", "member "+account, fmt.Sprintf("%d sessions", n), "", "")
		h.lookAgain()
		return nil
	})
}

// SeenAt is when a member was here last, within a minute; zero: never.
func (h *Hub) SeenAt(m store.Member) (at time.Time) {
	if ms := max(m.Seen, h.people.use.seen(m.ID)); ms > 0 {
		at = time.UnixMilli(ms)
	}
	return at
}

func (p *people) owners() int {
	n := 0
	for _, m := range p.members {
		if m.Role == access.Owner && !m.Disabled {
			n++
		}
	}
	return n
}
