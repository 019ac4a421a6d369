// Package household keeps who lives with a hub: its members and how they sign in, invitations, second factors, tokens,
// walls, and who was here when.
package household

import (
	"context"
	"crypto/rand"
	"errors"
	"log/slog"
	"strings"
	"sync"
	"time"

	"idleember/core/access"
	"idleember/core/guess"
	"idleember/core/site"
	"idleember/core/words"
	"idleember/hub"
	"idleember/store"
)

// House is what people live with: the hub.
type House interface {
	Site() *site.Site
	Time() time.Time
	// Do runs f in a turn of its own and waits until what it wrote is on the disk.
	Do(ctx context.Context, f func(hub.Turn) error) error
	// ActorOf is a member, as whoever acts for them.
	ActorOf(m store.Member, kind access.Kind, from string) access.Actor
}

// Errors of signing in and of the first start.
var (
	ErrSignIn    = errors.New("the account or the password is wrong")
	ErrSignedOut = errors.New("sign in first: the session or token is missing, ended or unknown")
	ErrFactor    = errors.New("this account has a second factor; enter its code, or one of the recovery codes")
	ErrProve     = errors.New("enter your password again: it was last given more than five minutes ago, and this " +
		"changes how somebody signs in")
	ErrSetUp     = errors.New("this hub has its owner already; sign in")
	ErrSetupCode = errors.New("the setup code is wrong; it stands in the terminal in which the hub was started")
)

// People are the members of a household and what they are signed in with. Use Load to get them, and MoveIn to let them
// live with a hub. Its methods are called from any goroutine; those that the hub calls itself (hub.People) call nothing
// of the hub.
type People struct {
	house House
	store *store.Store
	log   *slog.Logger

	mu      sync.RWMutex
	members map[string]store.Member
	passes  map[[32]byte]store.Pass
	open    map[string][32]byte  // passes by their id
	proven  map[string]time.Time // when the password was last given in a session, by its id
	invites map[[32]byte]store.Invite
	readers map[string]words.Reader // how people read, by their accounts
	begun   map[string]string       // by account: the secret of a second factor that is not confirmed yet
	use     use
	code    string          // the setup code while there is no owner
	owned   chan struct{}   // closed when there is one
	was     map[string]bool // who signed in from where since the start
	hashing chan struct{}   // bounds the memory that password hashing takes

	guessing sync.Mutex
	guesses  guess.Book
}

// Load reads the people of a household.
func Load(ctx context.Context, st *store.Store, log *slog.Logger) (*People, error) {
	p := &People{store: st, log: log, members: map[string]store.Member{}, passes: map[[32]byte]store.Pass{},
		open: map[string][32]byte{}, proven: map[string]time.Time{}, invites: map[[32]byte]store.Invite{},
		begun: map[string]string{}, owned: make(chan struct{}), was: map[string]bool{}, hashing: make(chan struct{}, 2)}
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
		p.code = shortCode()
	} else {
		close(p.owned)
	}
	return p, nil
}

// MoveIn lets the people live with a hub. It is called before anybody asks for one of them.
func (p *People) MoveIn(h House) { p.house = h }

// Start brings a hub to life with the people who live with it.
func Start(ctx context.Context, st *store.Store, o hub.Options) (*hub.Hub, *People, error) {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	p, err := Load(ctx, st, o.Log)
	if err != nil {
		return nil, nil, err
	}
	o.People = p
	h, err := hub.Start(ctx, st, o)
	if err != nil {
		return nil, nil, err
	}
	p.MoveIn(h)
	return h, p, nil
}

// secret returns n small letters and digits that nobody guesses, at most 26.
func secret(n int) string { return strings.ToLower(rand.Text()[:n]) }

// shortCode is a secret that somebody types once.
func shortCode() string { return secret(4) + "-" + secret(4) + "-" + secret(4) }

// SetupCode is the one-time code with which the owner is created, "" when there is one.
func (p *People) SetupCode() string {
	p.mu.RLock()
	defer p.mu.RUnlock()
	return p.code
}

// SetUpDone is closed when the hub has its owner.
func (p *People) SetUpDone() <-chan struct{} { return p.owned }
