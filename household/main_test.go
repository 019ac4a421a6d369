package household

import (
	"context"
	"log/slog"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"idleember/core/access"
	"idleember/core/site"
	"idleember/hub"
	"idleember/store"
)

// What a test began it also ended.
func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// house stands in for a hub: turns one after the other, each of which is kept or not at all.
type house struct {
	t     *testing.T
	store *store.Store
	turns sync.Mutex
	mu    sync.Mutex
	site  *site.Site
	ahead time.Duration // of the clock on the wall
	told  []string
}

func (h *house) Site() *site.Site { h.mu.Lock(); defer h.mu.Unlock(); return h.site }
func (h *house) Time() time.Time  { h.mu.Lock(); defer h.mu.Unlock(); return time.Now().Add(h.ahead) }
func (h *house) Do(ctx context.Context, f func(hub.Turn) error) error {
	h.turns.Lock()
	defer h.turns.Unlock()
	x := &turn{house: h}
	if err := f(x); err != nil {
		return err
	}
	return h.store.Do(ctx, x.writes...)
}

func (h *house) ActorOf(m store.Member, kind access.Kind, from string) access.Actor {
	return access.Actor{Kind: kind, ID: m.ID, Name: m.Name, Role: m.Role, From: from}
}

type turn struct {
	house  *house
	writes []store.Change
}

func (t *turn) Write(x ...store.Change)                                      { t.writes = append(t.writes, x...) }
func (t *turn) Journal(access.Actor, string, string, string, string, string) {}
func (t *turn) TellPerson(account, text string) {
	t.house.told = append(t.house.told, account+": "+text)
}
func (t *turn) LookAgain()                                          {}
func (t *turn) Put(part any)                                        { t.house.change(site.Put(part)) }
func (t *turn) Remove(_ access.Actor, _ string, key site.Key) error { return nil }
func (h *house) change(x ...site.Change) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.site = h.site.With(x...)
}

const password = "three wet towels"

// live is a household with its owner, mo, and a store that outlives it.
func live(t *testing.T) (*People, *house, access.Actor) {
	st, err := store.Open(t.Context(), t.TempDir(), store.Options{NoSync: true})
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, st.Close()) })
	h := &house{t: t, store: st, site: (&site.Site{}).With(site.Put(site.Device{ID: "kiln", Name: "Kiln"}),
		site.Put(site.Control{ID: "kiln.fan", Device: "kiln"}), site.Put(site.Control{ID: "kiln.light", Device: "kiln"}),
		site.Put(site.Dashboard{ID: "floor", Name: "Floor", By: "kim", Shared: site.Household,
			Tiles: []site.Tile{{Of: []string{"kiln.fan", "kiln.light"}}}}))}
	p := h.reload()
	require.NoError(t, p.SetUp(t.Context(), p.SetupCode(), "home", site.Hub{Name: "Studio", Zone: "Europe/Vienna"},
		NewMember{Account: "mo", Password: password}))
	return p, h, signedIn(t, p, "mo")
}

// reload reads the people anew, as after a restart.
func (h *house) reload() *People {
	p, err := Load(h.t.Context(), h.store, slog.New(slog.DiscardHandler))
	require.NoError(h.t, err)
	p.MoveIn(h)
	return p
}

func signedIn(t *testing.T, p *People, account string) access.Actor {
	key, err := p.SignIn(t.Context(), account, password, "", "home")
	require.NoError(t, err)
	a, err := p.Who(key, "home")
	require.NoError(t, err)
	return a
}
