package household

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"idleember/core/access"
	"idleember/core/fault"
	"idleember/core/site"
	"idleember/core/words"
	"idleember/hub"
	"idleember/store"
)

// Members lists everybody, for owners.
func (p *People) Members(_ context.Context, a access.Actor) ([]store.Member, error) {
	if err := access.May(a, access.Household, access.Anything); err != nil {
		return nil, err
	}
	p.mu.RLock()
	defer p.mu.RUnlock()
	out := []store.Member{}
	for _, m := range p.members {
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

// NewMember is a member to be added.
type NewMember struct {
	Account  string // what one signs in with, a slug
	Name     string
	Role     access.Role
	Password string
	Until    time.Time // a guest's end; zero: none
}

func checkUntil(role access.Role, until, now time.Time) error {
	switch {
	case until.IsZero():
		return nil
	case role != access.Guest:
		return fault.Invalid("until", "only guests have an end; a member or owner is of the household until somebody takes "+
			"them out")
	case !until.After(now):
		return fault.Invalid("until", "the guest's end lies in the past; choose a later one")
	}
	return nil
}

func (p *People) newMember(ctx context.Context, n NewMember) (store.Member, error) {
	if n.Name == "" {
		n.Name = n.Account
	}
	if err := site.CheckSlug(n.Account); err != nil {
		return store.Member{}, fault.Invalid("account", "%v", err)
	}
	if err := site.CheckName("name", n.Name); err != nil {
		return store.Member{}, err
	}
	if !n.Role.Valid() {
		return store.Member{}, fault.Invalid("role", "the role is %q; choose owner, member or guest", n.Role)
	}
	if err := checkUntil(n.Role, n.Until, p.house.Time()); err != nil {
		return store.Member{}, err
	}
	if n.Account == site.RightMembers || n.Account == site.RightGuests || n.Account == "owners" {
		return store.Member{}, fault.Invalid("account", "%q is the word for everybody of a role; choose another account",
			n.Account)
	}
	if err := checkPassword(n.Password, n.Account, n.Name, p.house.Site().Hub.Name); err != nil {
		return store.Member{}, err
	}
	hash, err := p.hash(ctx, n.Password)
	m := store.Member{ID: n.Account, Name: n.Name, Role: n.Role, Password: hash, Created: p.house.Time().UnixMilli(),
		Recovery: "[]"}
	if !n.Until.IsZero() {
		m.Until = n.Until.UnixMilli()
	}
	return m, err
}

// admits is asked before anything changes who may sign in.
func (p *People) admits(a access.Actor) error {
	if err := access.May(a, access.Household, access.Anything); err != nil {
		return err
	}
	return p.InPerson(a)
}

// AddMember adds a person.
func (p *People) AddMember(ctx context.Context, a access.Actor, n NewMember) (store.Member, error) {
	if err := p.admits(a); err != nil {
		return store.Member{}, err
	}
	m, err := p.newMember(ctx, n)
	if err != nil {
		return m, err
	}
	return m, p.house.Do(ctx, func(t hub.Turn) error {
		p.mu.Lock()
		defer p.mu.Unlock()
		if _, ok := p.members[m.ID]; ok {
			return fault.Invalid("account", "there is already a member with the account %s; choose another", m.ID)
		}
		p.members[m.ID] = m
		t.Write(store.SaveMember(m))
		t.Journal(a, "add", "member "+m.ID, "", string(m.Role), "")
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

// apply changes a member as told; hash is of a new password, if there is one.
func (c MemberChange) apply(m *store.Member, hash string, now time.Time) error {
	if c.Name != nil {
		if err := site.CheckName("name", *c.Name); err != nil {
			return err
		}
		m.Name = *c.Name
	}
	if c.Role != nil {
		if !c.Role.Valid() {
			return fault.Invalid("role", "the role is %q; choose owner, member or guest", *c.Role)
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
		if err := checkUntil(m.Role, *c.Until, now); err != nil {
			return err
		}
		if m.Until = 0; !c.Until.IsZero() {
			m.Until = c.Until.UnixMilli()
		}
	}
	return nil
}

// describe is a member as the journal tells of it.
func (p *People) describe(m store.Member) string {
	text := fmt.Sprintf("%s, %s, disabled %t", m.Name, m.Role, m.Disabled)
	if m.Until > 0 {
		text += ", until " + time.UnixMilli(m.Until).In(p.house.Site().Hub.Location()).Format("2 Jan 2006 15:04")
	}
	if m.Factor != "" {
		text += ", with a second factor"
	}
	return text
}

// ChangeMember changes a person. The last owner can neither be disabled nor given another role. A new password and
// disabling end the person's sessions. Long, because what it does is one commit, or none.
func (p *People) ChangeMember(ctx context.Context, a access.Actor, account string, c MemberChange) (store.Member,
	error) {
	var out store.Member
	may := p.admits(a)
	// a name opens no door
	if c.Role == nil && c.Password == nil && c.Disabled == nil && c.Until == nil && c.Factor == nil {
		may = access.May(a, access.Household, access.Anything)
	}
	if may != nil {
		return out, may
	}
	hash := ""
	if c.Password != nil {
		if err := checkPassword(*c.Password, account, p.house.Site().Hub.Name); err != nil {
			return out, err
		}
		var err error
		if hash, err = p.hash(ctx, *c.Password); err != nil {
			return out, err
		}
	}
	err := p.house.Do(ctx, func(t hub.Turn) error {
		p.mu.Lock()
		defer p.mu.Unlock()
		m, ok := p.members[account]
		if !ok {
			return fault.NotFound("member", account)
		}
		if c.Check != nil {
			if err := c.Check(m); err != nil {
				return err
			}
		}
		before := m
		if err := c.apply(&m, hash, p.house.Time()); err != nil {
			return err
		}
		if before.Role == access.Owner && !before.Disabled && (m.Role != access.Owner || m.Disabled) && p.owners() < 2 {
			return fault.Invalid("role", "this is the last owner; make somebody else owner first")
		}
		if hash != "" || m.Disabled {
			p.endPasses(t, account, func(store.Pass) bool { return true })
		}
		p.members[account] = m
		t.Write(store.SaveMember(m))
		t.Journal(a, "change", "member "+account, p.describe(before), p.describe(m), "")
		switch {
		case hash != "":
			t.TellPerson(account, fmt.Sprintf("%s: %s set a new password.", m.Name, a.Name))
		case before.Factor != m.Factor:
			t.TellPerson(account, fmt.Sprintf("%s: %s took the second factor away.", m.Name, a.Name))
		}
		t.LookAgain()
		out = m
		return nil
	})
	return out, err
}

// RemoveMember takes a person out of the household. What they shared stays; the last owner cannot be removed.
func (p *People) RemoveMember(ctx context.Context, a access.Actor, account string) error {
	return p.house.Do(ctx, func(t hub.Turn) error {
		if err := p.admits(a); err != nil {
			return err
		}
		p.mu.Lock()
		m, ok := p.members[account]
		switch {
		case !ok:
			p.mu.Unlock()
			return fault.NotFound("member", account)
		case m.Role == access.Owner && !m.Disabled && p.owners() < 2:
			p.mu.Unlock()
			return fault.Invalid("role", "this is the last owner; make somebody else owner first")
		}
		p.endPasses(t, account, func(store.Pass) bool { return true })
		for sum, x := range p.invites {
			if x.Account == account {
				delete(p.invites, sum)
			}
		}
		delete(p.members, account)
		delete(p.readers, account)
		p.mu.Unlock()
		t.Write(store.RemoveMember(account))
		if err := t.Remove(a, "remove", site.Key{Kind: site.Member, ID: account}); err != nil {
			return err
		}
		t.Journal(a, "remove", "member "+account, fmt.Sprintf("%s, %s", m.Name, m.Role), "", "")
		t.LookAgain()
		return nil
	})
}

// SignOutEverywhere ends all browser sessions of a member: one's own, or for an owner anybody's.
func (p *People) SignOutEverywhere(ctx context.Context, a access.Actor, account string) error {
	if err := access.May(a, access.Own, access.Anything); err != nil {
		return err
	}
	return p.house.Do(ctx, func(t hub.Turn) error {
		if err := access.May(a, access.Household, access.Anything); account != a.ID && err != nil {
			return err
		}
		p.mu.Lock()
		defer p.mu.Unlock()
		if _, ok := p.members[account]; !ok {
			return fault.NotFound("member", account)
		}
		n := p.endPasses(t, account, func(x store.Pass) bool { return x.Kind == "session" })
		t.Journal(a, "sign out everywhere", "member "+account, fmt.Sprintf("%d sessions", n), "", "")
		t.LookAgain()
		return nil
	})
}

// Member is who has an account.
func (p *People) Member(account string) (store.Member, bool) {
	p.mu.RLock()
	defer p.mu.RUnlock()
	m, ok := p.members[account]
	return m, ok
}

// Since is when the first member came; false: nobody did.
func (p *People) Since() (at time.Time, ok bool) {
	p.mu.RLock()
	defer p.mu.RUnlock()
	for _, m := range p.members {
		if made := time.UnixMilli(m.Created); !ok || made.Before(at) {
			at, ok = made, true
		}
	}
	return at, ok
}

// SeenAt is when a member was here last, within a minute; zero: never.
func (p *People) SeenAt(m store.Member) (at time.Time) {
	if ms := max(m.Seen, p.use.seen(m.ID)); ms > 0 {
		at = time.UnixMilli(ms)
	}
	return at
}

func (p *People) owners() int {
	n := 0
	for _, m := range p.members {
		if m.Role == access.Owner && !m.Disabled {
			n++
		}
	}
	return n
}

// Preferences returns how a person wants the console. A token has those of who made it.
func (p *People) Preferences(ctx context.Context, a access.Actor) (site.Preferences, error) {
	if err := access.May(a, access.Own, access.Anything); err != nil {
		return site.Preferences{}, err
	}
	return p.store.Preferences(ctx, a.ID)
}

// Reader is how somebody reads: what is said to them is said so. Whoever has no preferences reads as the hub writes.
func (p *People) Reader(ctx context.Context, a access.Actor, zone string) words.Reader {
	r := words.Reader{Zone: zone}
	if access.May(a, access.Own, access.Anything) != nil {
		return r
	}
	p.mu.RLock()
	kept, known := p.readers[a.ID]
	p.mu.RUnlock()
	if !known {
		w, err := p.store.Preferences(ctx, a.ID)
		if err != nil { // it is said, and in the hub's own way
			return r
		}
		kept = p.reads(a.ID, w)
	}
	kept.Zone = zone
	return kept
}

// reads remembers how somebody reads.
func (p *People) reads(account string, w site.Preferences) words.Reader {
	r := words.Reader{Units: words.Units(w.Units), Comma: w.Comma, Clock12: w.Clock12}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.readers == nil {
		p.readers = map[string]words.Reader{}
	}
	p.readers[account] = r
	return r
}

// SavePreferences keeps how a person wants the console.
func (p *People) SavePreferences(ctx context.Context, a access.Actor, w site.Preferences) (site.Preferences, error) {
	if err := access.May(a, access.Own, access.Anything); err != nil {
		return w, err
	}
	if err := w.Validate(); err != nil {
		return w, fault.Invalid("preferences", "%v", err)
	}
	err := p.house.Do(ctx, func(t hub.Turn) error {
		t.Write(store.SavePreferences(a.ID, w))
		return nil
	})
	if err == nil {
		p.reads(a.ID, w)
	}
	return w, err
}
