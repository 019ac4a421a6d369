package hub

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"idleember/core/access"
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

// AddMember adds a person.
func (h *Hub) AddMember(ctx context.Context, a access.Actor, n NewMember) (store.Member, error) {
	if err := access.May(a, access.Household, access.Anything); err != nil {
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
		h.journal(time.Now(), a, "add", "member "+m.ID, "", string(m.Role), "")
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
}

// ChangeMember changes a person. The last owner can neither be disabled nor given another role. A new password and
// disabling end the person's sessions.
func (h *Hub) ChangeMember(ctx context.Context, a access.Actor, account string, c MemberChange) (store.Member, error) {
	var out store.Member
	if err := access.May(a, access.Household, access.Anything); err != nil {
		return out, err
	}
	hash := ""
	if c.Password != nil {
		if err := checkPassword(*c.Password); err != nil {
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
		if before.Role == access.Owner && !before.Disabled && (m.Role != access.Owner || m.Disabled) && p.owners() < 2 {
			return &InvalidError{"role", "this is the last owner; make somebody else owner first"}
		}
		if hash != "" || m.Disabled {
			for sum, x := range p.passes {
				if x.Member == account {
					delete(p.passes, sum)
					delete(p.open, x.ID)
					h.write(store.DeletePass(x.ID))
				}
			}
		}
		p.members[account] = m
		h.write(store.SaveMember(m))
		said := func(m store.Member) string { return fmt.Sprintf("%s, %s, disabled %t", m.Name, m.Role, m.Disabled) }
		h.journal(time.Now(), a, "change", "member "+account, said(before), said(m), "")
		h.lookAgain()
		out = m
		return nil
	})
	return out, err
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
