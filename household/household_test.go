package household

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/core/fault"
	"idleember/core/site"
)

// Whatever people did in whatever order, a restart finds them as they were, and an owner is left who can sign in.
func TestARestartFindsPeopleAsTheyWere(t *testing.T) {
	t.Parallel()
	for seed := range uint64(6) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			p, h, mo := live(t)
			rnd := rand.New(rand.NewPCG(seed, 1)) //nolint:gosec // a test's dice
			accounts := []string{"mo", "kim", "ada", "eve"}
			codes, now := []string{"join_nothing"}, map[string]access.Actor{"mo": mo}
			for step := range 40 {
				who := accounts[rnd.IntN(len(accounts))]
				by, on := now[who], accounts[rnd.IntN(len(accounts))]
				role := []access.Role{access.Owner, access.Member, access.Guest}[rnd.IntN(3)]
				off := rnd.IntN(3) == 0
				switch rnd.IntN(9) {
				case 0:
					_, _ = p.AddMember(t.Context(), by, NewMember{Account: on, Role: role, Password: password})
				case 1:
					_, _ = p.ChangeMember(t.Context(), by, on, MemberChange{Role: &role, Disabled: &off})
				case 2:
					_ = p.RemoveMember(t.Context(), by, on)
				case 3:
					if code, _, err := p.Invite(t.Context(), by, NewInvite{Account: []string{"", on}[rnd.IntN(2)],
						Role: role}); err == nil {
						codes = append(codes, code)
					}
				case 4:
					_, _ = p.Join(t.Context(), codes[rnd.IntN(len(codes))], fmt.Sprint(step), NewMember{Account: on,
						Password: password})
				case 5:
					if key, err := p.SignIn(t.Context(), on, password, "", fmt.Sprint(step)); err == nil {
						now[on], err = p.Who(key, "home")
						require.NoError(t, err)
					}
				case 6:
					_, _, _ = p.NewToken(t.Context(), by, "script", []string{"read"}, 0)
				case 7:
					_, _, _ = p.AddWall(t.Context(), by, shown.Wall{Name: "hall", Dashboard: "floor"})
				case 8:
					_ = p.SignOutEverywhere(t.Context(), by, on)
				}
				require.Positive(t, p.owners(), "an owner is left")
			}
			again := h.reload()
			assert.Equal(t, p.members, again.members)
			assert.ElementsMatch(t, slices.Collect(maps.Keys(p.passes)), slices.Collect(maps.Keys(again.passes)))
			assert.ElementsMatch(t, slices.Collect(maps.Keys(p.invites)), slices.Collect(maps.Keys(again.invites)))
			for _, x := range again.passes {
				assert.Contains(t, again.members, x.Member, "nobody is signed in who is not here")
			}
		})
	}
}

// Two owners who take one another out at once: one of them stays.
func TestOneOwnerStays(t *testing.T) {
	t.Parallel()
	p, _, mo := live(t)
	_, err := p.AddMember(t.Context(), mo, NewMember{Account: "kim", Role: access.Owner, Password: password})
	require.NoError(t, err)
	kim := signedIn(t, p, "kim")
	both(func() { _ = p.RemoveMember(t.Context(), mo, "kim") }, func() { _ = p.RemoveMember(t.Context(), kim, "mo") })
	assert.Equal(t, 1, p.owners())
}

// Two who open one invitation at once: one of them comes in.
func TestAnInvitationIsUsedOnce(t *testing.T) {
	t.Parallel()
	p, _, mo := live(t)
	code, _, err := p.Invite(t.Context(), mo, NewInvite{Role: access.Guest})
	require.NoError(t, err)
	var first, second error
	both(func() { _, first = p.Join(t.Context(), code, "one", NewMember{Account: "ada", Password: password}) },
		func() { _, second = p.Join(t.Context(), code, "two", NewMember{Account: "eve", Password: password}) })
	assert.NotEqual(t, first == nil, second == nil, "%v, %v", first, second)
	assert.Len(t, p.members, 2)
}

// A wall ends with its dashboard, and with its maker; what is gone it does not switch.
func TestWallsKeepToWhatIsThere(t *testing.T) {
	t.Parallel()
	p, h, mo := live(t)
	_, err := p.AddMember(t.Context(), mo, NewMember{Account: "kim", Role: access.Member, Password: password})
	require.NoError(t, err)
	key, w, err := p.AddWall(t.Context(), signedIn(t, p, "kim"), shown.Wall{Name: "hall", Dashboard: "floor",
		Switches: []string{"kiln.fan", "kiln.light"}})
	require.NoError(t, err)
	h.change(site.Change{Drop: site.Key{Kind: "control", ID: "kiln.light"}})
	require.NoError(t, h.store.Do(t.Context(), p.PartsGone(h.Site())...))
	for _, people := range []*People{p, h.reload()} {
		_, a, err := people.WallOf(key, "hall")
		require.NoError(t, err)
		assert.Equal(t, []string{"kiln.fan"}, a.Switches)
		_, still := people.Still(a)
		assert.True(t, still)
	}
	_, err = p.ChangeMember(t.Context(), mo, "kim", MemberChange{Disabled: ptr(true)})
	require.NoError(t, err)
	_, _, err = p.WallOf(key, "hall")
	require.ErrorIs(t, err, ErrSignedOut)

	key, w, err = p.AddWall(t.Context(), mo, shown.Wall{Name: "hall", Dashboard: "floor"})
	require.NoError(t, err)
	h.change(site.Change{Drop: site.Key{Kind: "dashboard", ID: "floor"}})
	require.NoError(t, h.store.Do(t.Context(), p.PartsGone(h.Site())...))
	_, _, err = h.reload().WallOf(key, "hall")
	require.ErrorIs(t, err, ErrSignedOut)
	assert.ErrorContains(t, p.EndWall(t.Context(), mo, "floor", w.ID), "no dashboard")
}

// What strangers guess holds up neither the person at home nor anybody else; whoever guesses waits.
func TestGuessingHoldsUpWhoGuesses(t *testing.T) {
	t.Parallel()
	p, _, _ := live(t)
	var many *fault.TooManyError
	var err error
	for range 20 {
		if _, err = p.SignIn(t.Context(), "mo", "a guess", "", "street"); err != ErrSignIn { //nolint:errorlint // as it is
			break
		}
	}
	require.ErrorAs(t, err, &many)
	_, err = p.SignIn(t.Context(), " Mo", password, "", "home")
	assert.NoError(t, err)
}

// A token is its member's to end, and ends with what it may and with them; a member who is locked is out at once.
func TestTokensAndLocks(t *testing.T) {
	t.Parallel()
	p, _, mo := live(t)
	_, err := p.AddMember(t.Context(), mo, NewMember{Account: "kim", Role: access.Member, Password: password})
	require.NoError(t, err)
	kim := signedIn(t, p, "kim")
	key, x, err := p.NewToken(t.Context(), kim, "script", []string{"read"}, 0)
	require.NoError(t, err)
	script, err := p.Who(key, "shed")
	require.NoError(t, err)
	assert.Equal(t, "kim read", script.ID+" "+strings.Join(script.Scopes, ","))
	require.ErrorContains(t, p.EndPass(t.Context(), mo, x.ID), "no token")
	require.NoError(t, p.EndPass(t.Context(), script, x.ID))
	_, still := p.Still(script)
	assert.False(t, still)
	_, err = p.ChangeMember(t.Context(), mo, "kim", MemberChange{Disabled: ptr(true)})
	require.NoError(t, err)
	_, still = p.Still(kim)
	assert.False(t, still)
	_, err = p.ChangeMember(t.Context(), mo, "mo", MemberChange{Role: ptr(access.Guest)})
	assert.ErrorContains(t, err, "last owner")
}

// A guest is here until their end, by the hub's clock; a session until it was idle for long.
func TestEndsOfStays(t *testing.T) {
	t.Parallel()
	p, h, mo := live(t)
	_, err := p.AddMember(t.Context(), mo, NewMember{Account: "ada", Role: access.Guest, Password: password,
		Until: h.Time().Add(time.Hour)})
	require.NoError(t, err)
	ada := signedIn(t, p, "ada")
	h.ahead = 2 * time.Hour
	_, still := p.Still(ada)
	assert.False(t, still)
	_, err = p.SignIn(t.Context(), "ada", password, "", "home")
	assert.ErrorIs(t, err, ErrSignIn)
	_, still = p.Still(mo)
	assert.True(t, still)
	h.ahead = 400 * 24 * time.Hour
	_, still = p.Still(mo)
	assert.False(t, still)
	assert.Equal(t, "mo: mo signed in from home.", h.told[0])
	assert.Positive(t, len(p.Used()))
	assert.Empty(t, p.Used(), "written down once")
}

// A password is refused for what everybody knows, and never kept as it is.
func TestPasswords(t *testing.T) {
	t.Parallel()
	for word, why := range map[string]string{"short": "at least 12", strings.Repeat("ä", 101): "longer than 200",
		"passwordpassword": "among the first", "rowan lane mo": "among the first"} {
		assert.ErrorContains(t, checkPassword(word, "mo", "Rowan Lane"), why)
	}
	p, _, _ := live(t)
	m, _ := p.Member("mo")
	assert.True(t, strings.HasPrefix(m.Password, "$argon2id$v=19$m=19456,t=2,p=1$"), m.Password)
}

func both(f, g func()) {
	var wg sync.WaitGroup
	wg.Go(f)
	wg.Go(g)
	wg.Wait()
}

func ptr[T any](v T) *T { return &v }
