package hub

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"time"
	"unicode/utf8"

	"github.com/trustelem/zxcvbn"
	"golang.org/x/crypto/argon2"

	"idleember/core/access"
	"idleember/core/guess"
	"idleember/core/site"
	"idleember/store"
)

// SessionLife is how long a browser stays signed in.
const SessionLife = 90 * 24 * time.Hour

// Errors of signing in and of the first start.
var (
	ErrSignIn    = errors.New("the account or the password is wrong")
	ErrSignedOut = errors.New("sign in first: the session or token is missing, ended or unknown")
	ErrFactor    = errors.New("this account has a second factor; enter its code, or one of the recovery codes")
	ErrProve     = errors.New("enter your password again: it was last given more than five minutes ago, and this changes how somebody signs in")
	ErrSetUp     = errors.New("this hub has its owner already; sign in")
	ErrSetupCode = errors.New("the setup code is wrong; it stands in the terminal in which the hub was started")
)

// TooManyError says that too many wrong tries came.
type TooManyError struct{ Wait time.Duration }

func (e *TooManyError) Error() string {
	return fmt.Sprintf("too many wrong tries; wait %d s and try again", int(e.Wait.Seconds())+1)
}

// people are the members and what they are signed in with. Its fields are read from any goroutine.
type people struct {
	mu      sync.RWMutex
	members map[string]store.Member
	passes  map[[32]byte]store.Pass
	open    map[string][32]byte  // passes by their id
	proven  map[string]time.Time // when the password was last given in a session, by its id
	rights  atomic.Pointer[access.Rights]
	invites map[[32]byte]store.Invite
	begun   map[string]string // by account: the secret of a second factor that is not confirmed yet
	use     use
	code    string          // the setup code while there is no owner
	owned   chan struct{}   // closed when there is one
	was     map[string]bool // who signed in from where since the start
	hashing chan struct{}   // bounds the memory that password hashing takes

	guessing sync.Mutex
	guesses  guess.Book
}

func loadPeople(ctx context.Context, st *store.Store) (*people, error) {
	p := &people{members: map[string]store.Member{}, passes: map[[32]byte]store.Pass{}, open: map[string][32]byte{}, proven: map[string]time.Time{}, invites: map[[32]byte]store.Invite{}, begun: map[string]string{}, owned: make(chan struct{}), was: map[string]bool{}, hashing: make(chan struct{}, 2)}
	members, err := st.Members(ctx)
	if err != nil {
		return nil, err
	}
	for _, m := range members {
		p.members[m.ID] = m
	}
	passes, err := st.Passes(ctx)
	if err != nil {
		return nil, err
	}
	for _, x := range passes {
		p.passes[[32]byte(x.Hash)] = x
		p.open[x.ID] = [32]byte(x.Hash)
	}
	invites, err := st.Invites(ctx)
	if err != nil {
		return nil, err
	}
	for _, x := range invites {
		p.invites[[32]byte(x.Hash)] = x
	}
	if len(members) == 0 {
		s := secret(8)
		p.code = s[:4] + "-" + s[4:8] + "-" + s[8:12]
	} else {
		close(p.owned)
	}
	return p, nil
}

// SetupCode is the one-time code with which the owner is created, "" when there is one.
func (h *Hub) SetupCode() string {
	h.people.mu.RLock()
	defer h.people.mu.RUnlock()
	return h.people.code
}

// SetUpDone is closed when the hub has its owner.
func (h *Hub) SetUpDone() <-chan struct{} { return h.people.owned }

// argon2id with the parameters that OWASP gives for 19 MiB; a small computer takes about a tenth of a second.
const (
	argonTime   = 2
	argonMemory = 19 * 1024 // KiB
	argonLength = 32
)

func (p *people) hash(ctx context.Context, password string) (string, error) {
	salt := make([]byte, 16)
	_, _ = rand.Read(salt) // never fails
	sum, err := p.derive(ctx, password, salt)
	if err != nil {
		return "", err
	}
	enc := base64.RawStdEncoding
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=1$%s$%s", argon2.Version, argonMemory, argonTime, enc.EncodeToString(salt), enc.EncodeToString(sum)), nil
}

func (p *people) derive(ctx context.Context, password string, salt []byte) ([]byte, error) {
	select {
	case p.hashing <- struct{}{}:
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	defer func() { <-p.hashing }()
	return argon2.IDKey([]byte(password), salt, argonTime, argonMemory, 1, argonLength), nil
}

func (p *people) matches(ctx context.Context, hash, password string) (bool, error) {
	parts := strings.Split(hash, "$")
	salt, sum := []byte("no such account!"), []byte(nil)
	if len(parts) == 6 {
		salt, _ = base64.RawStdEncoding.DecodeString(parts[4])
		sum, _ = base64.RawStdEncoding.DecodeString(parts[5])
	}
	got, err := p.derive(ctx, password, salt) // also where there is no such account, so that both take the same time
	return err == nil && len(sum) > 0 && subtle.ConstantTimeCompare(got, sum) == 1, err
}

// try books a try under some keys before it is judged; it fails where one of them has to wait. Its judge says right or undo.
func (p *people) try(keys ...string) error {
	p.guessing.Lock()
	defer p.guessing.Unlock()
	if wait := p.guesses.Try(time.Now(), keys...); wait > 0 {
		return &TooManyError{wait}
	}
	return nil
}

func (p *people) right(keys ...string) {
	p.guessing.Lock()
	defer p.guessing.Unlock()
	p.guesses.Right(keys...)
}

// undo takes back a try that was not judged.
func (p *people) undo(keys ...string) {
	p.guessing.Lock()
	defer p.guessing.Unlock()
	p.guesses.Undo(keys...)
}

// mostPlaces is of how many accounts and addresses together it is remembered that they belong together.
const mostPlaces = 10_000

// knows reports whether an account is signed in from an address. What strangers guess elsewhere does not hold it up there.
func (p *people) knows(account, from string) bool {
	p.mu.RLock()
	defer p.mu.RUnlock()
	for _, x := range p.passes {
		if x.Kind == "session" && x.Member == account && x.Name == from {
			return true
		}
	}
	return p.was[account+" from "+from]
}

const (
	shortestPassword = 12 // characters, as ASVS 4.0.3 2.1.1 asks
	longestPassword  = 200
	weighedPassword  = 64 // bytes of it are looked at, as the work grows with the square
)

// checkPassword says what is wrong with a new password. about is what everybody knows of its owner.
func checkPassword(password string, about ...string) error {
	switch n := utf8.RuneCountInString(password); {
	case n < shortestPassword:
		return &InvalidError{"password", fmt.Sprintf("the password has %d characters; use at least %d, a few words are fine", n, shortestPassword)}
	case len(password) > longestPassword:
		return &InvalidError{"password", fmt.Sprintf("the password is longer than %d bytes; shorten it", longestPassword)}
	case zxcvbn.PasswordStrength(password[:min(len(password), weighedPassword)], about).Score < 2:
		return &InvalidError{"password", "this password is among the first that somebody would try; take a few words that have nothing to do with one another"}
	}
	return nil
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
		return &InvalidError{"until", "only guests have an end; a member or owner is of the household until somebody takes them out"}
	case !until.After(now):
		return &InvalidError{"until", "the guest's end lies in the past; choose a later one"}
	}
	return nil
}

// active reports whether an account is open.
func active(m store.Member, now time.Time) bool {
	return !m.Disabled && (m.Until == 0 || now.UnixMilli() < m.Until)
}

func (h *Hub) newMember(ctx context.Context, n NewMember) (store.Member, error) {
	if n.Name == "" {
		n.Name = n.Account
	}
	if err := site.CheckSlug(n.Account); err != nil {
		return store.Member{}, &InvalidError{"account", err.Error()}
	}
	if err := checkName("name", n.Name); err != nil {
		return store.Member{}, err
	}
	if !n.Role.Valid() {
		return store.Member{}, &InvalidError{"role", fmt.Sprintf("the role is %q; choose owner, member or guest", n.Role)}
	}
	if err := checkUntil(n.Role, n.Until, h.Time()); err != nil {
		return store.Member{}, err
	}
	if n.Account == site.RightMembers || n.Account == site.RightGuests || n.Account == "owners" {
		return store.Member{}, &InvalidError{"account", fmt.Sprintf("%q is the word for everybody of a role; choose another account", n.Account)}
	}
	if err := checkPassword(n.Password, n.Account, n.Name, h.Site().Hub.Name); err != nil {
		return store.Member{}, err
	}
	hash, err := h.people.hash(ctx, n.Password)
	m := store.Member{ID: n.Account, Name: n.Name, Role: n.Role, Password: hash, Created: h.Time().UnixMilli()}
	if !n.Until.IsZero() {
		m.Until = n.Until.UnixMilli()
	}
	return m, err
}

// SetUp creates the owner with the one-time code, and the hub's settings with it. The code is void afterwards.
func (h *Hub) SetUp(ctx context.Context, code, from string, settings site.Hub, owner NewMember) error {
	p := h.people
	have := h.SetupCode()
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
	if err := checkHub(settings); err != nil {
		return err
	}
	owner.Role = access.Owner
	m, err := h.newMember(ctx, owner)
	if err != nil {
		return err
	}
	return h.do(ctx, func() error {
		p.mu.Lock()
		defer p.mu.Unlock()
		if p.code == "" {
			return ErrSetUp
		}
		p.code = ""
		close(p.owned)
		p.members[m.ID] = m
		h.changeSite(site.Put(settings))
		h.write(store.SaveMember(m))
		h.journal(h.Time(), access.Actor{Kind: access.Person, ID: m.ID, Name: m.Name, From: from}, "set up", "hub", "", settings.Name, "")
		return nil
	})
}

// SignIn checks a password, and the code of the second factor where the account has one, and begins a browser session; it returns
// the session's secret.
func (h *Hub) SignIn(ctx context.Context, account, password, code, from string) (string, error) {
	account = strings.ToLower(strings.TrimSpace(account)) // a phone begins with a capital, and ends with a space
	p := h.people
	keys := []string{"account " + clip(account, 60), "address " + from}
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
	if !ok || !good || !active(m, h.Time()) {
		h.log.Warn("a sign-in failed", "account", clip(account, 60), "from", from)
		return "", ErrSignIn
	}
	if m.Factor != "" {
		if code == "" {
			p.undo(keys...)
			return "", ErrFactor
		}
		if err := h.checkFactor(ctx, m.ID, code); err != nil {
			h.log.Warn("a second factor was wrong", "account", m.ID, "from", from)
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
	key, _, err := h.pass(ctx, h.actorOf(m, access.Person, from), store.Pass{Kind: "session", Name: from}, SessionLife)
	return key, err
}

// actorOf is a member, as whoever acts for them.
func (h *Hub) actorOf(m store.Member, kind access.Kind, from string) access.Actor {
	return access.Actor{Kind: kind, ID: m.ID, Name: m.Name, Role: m.Role, From: from, Rights: h.people.rights.Load()}
}

// Preferences returns how a person wants the console. A token has those of who made it.
func (h *Hub) Preferences(ctx context.Context, a access.Actor) (site.Preferences, error) {
	if err := access.May(a, access.Own, access.Anything); err != nil {
		return site.Preferences{}, err
	}
	return h.store.Preferences(ctx, a.ID)
}

// SavePreferences keeps how a person wants the console.
func (h *Hub) SavePreferences(ctx context.Context, a access.Actor, p site.Preferences) (site.Preferences, error) {
	if err := access.May(a, access.Own, access.Anything); err != nil {
		return p, err
	}
	if err := p.Validate(); err != nil {
		return p, &InvalidError{"preferences", err.Error()}
	}
	return p, h.do(ctx, func() error {
		h.write(store.SavePreferences(a.ID, p))
		return nil
	})
}
