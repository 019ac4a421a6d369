package upkeep

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/core/access"
	"idleember/core/site"
	"idleember/sight"
	"idleember/store"
)

// house stands in for a hub: its site, its time, and what was said and written down.
type house struct {
	mu      sync.Mutex
	site    site.Site
	secrets map[string]string
	said    []string
	journal []string
}

func (h *house) Site() *site.Site {
	h.mu.Lock()
	defer h.mu.Unlock()
	s := h.site
	return &s
}
func (h *house) Time() time.Time                                          { return time.Now() }
func (h *house) Trusted() bool                                            { return true }
func (h *house) Secret(_ site.Key, name string) string                    { return h.secrets[name] }
func (h *house) OwnSecret(_ context.Context, name string) (string, error) { return "own " + name, nil }
func (h *house) Sight(access.Actor) sight.Sight                           { return sight.Sight{Whole: true} }
func (h *house) LookAtOneself()                                           {}
func (h *house) Tell(text string)                                         { h.say(text) }
func (h *house) Warn(text string)                                         { h.say(text) }
func (h *house) TellDamage(what string)                                   { h.say(what) }
func (h *house) say(text string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.said = append(h.said, text)
}
func (h *house) Record(_ access.Actor, action, object, _, _, _ string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.journal = append(h.journal, action+" "+object)
}

// shelf is another place, in memory.
type shelf struct {
	mu     sync.Mutex
	of     map[string][]byte
	broken error
}

func (s *shelf) List(context.Context) (map[string]int64, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := map[string]int64{}
	for name, b := range s.of {
		out[name] = int64(len(b))
	}
	return out, s.broken
}
func (s *shelf) Put(_ context.Context, name, file string) error {
	b, err := os.ReadFile(file)
	s.mu.Lock()
	defer s.mu.Unlock()
	s.of[name] = b
	return err
}
func (s *shelf) Get(_ context.Context, name string, to io.Writer) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	_, err := to.Write(s.of[name])
	return err
}
func (s *shelf) Remove(_ context.Context, name string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.of, name)
	return nil
}

func newKeeper(t *testing.T) (*Keeper, *house, *shelf) {
	s, err := store.Open(t.Context(), t.TempDir(), store.Options{})
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	h, there := &house{secrets: map[string]string{}}, &shelf{of: map[string][]byte{}}
	h.site.Hub.Name = "Studio"
	return New(h, s, func(site.Elsewhere, string) (Depot, error) { return there, nil }, slog.New(slog.DiscardHandler)), h,
		there
}

var me = access.HubActor()

// What the hub made is copied, and of its own copies there as many stay as are kept; those of other hubs and of people
// stay too.
func TestCopiesAreKeptApart(t *testing.T) {
	k, h, there := newKeeper(t)
	h.site.Backups = site.Backups{Keep: 1, Elsewhere: site.Elsewhere{Via: site.ToFolder, Address: "/elsewhere"}}
	others := store.BackupName(time.Now().Add(-time.Hour), "attic-12345678")
	there.of[others], there.of["notes.txt"] = []byte("x"), []byte("y")
	var made store.Backup
	for range 2 {
		var err error
		made, err = k.BackUp(t.Context(), me)
		require.NoError(t, err)
		require.True(t, k.copyAway(t.Context()))
		time.Sleep(1100 * time.Millisecond) // their names tell the second
	}
	list, err := k.BackupsElsewhere(t.Context(), me)
	require.NoError(t, err)
	require.Len(t, list, 2)
	assert.Equal(t, []string{made.Name, ""}, []string{list[0].Name, list[0].Of})
	assert.Equal(t, "attic-12345678", list[1].Of)
	assert.Len(t, there.of, 3)
	assert.Equal(t, []string{"back up hub.backups", "back up hub.backups"}, h.journal)

	require.NoError(t, os.RemoveAll(k.store.BackupFolder()))
	got, err := k.FetchBackup(t.Context(), me, made.Name)
	require.NoError(t, err)
	assert.Equal(t, made.Bytes, got.Bytes)
	require.NoError(t, k.Drill(t.Context(), me))
	assert.NotNil(t, k.State().Drilled)
	_, err = k.FetchBackup(t.Context(), me, "nothing.ember")
	assert.ErrorContains(t, err, "there is no backup")
}

// What holds password hashes does not leave the house as everybody could read it; that it is not copied is told once,
// until it is again.
func TestNothingLeavesTheHouseUnsealed(t *testing.T) {
	k, h, there := newKeeper(t)
	h.site.Backups = site.Backups{Elsewhere: site.Elsewhere{Via: site.ToWebDAV, Address: "https://example/dav"}}
	_, err := k.BackUp(t.Context(), me)
	require.NoError(t, err)
	for range 2 {
		assert.False(t, k.copyAway(t.Context()), "it is tried again")
	}
	assert.Empty(t, there.of)
	assert.Contains(t, k.State().NotCopied, "without a passphrase")
	require.Len(t, h.said, 1, "and is told once")
	h.secrets[site.Passphrase] = "slip and glaze and ash"
	time.Sleep(1100 * time.Millisecond)
	_, err = k.BackUp(t.Context(), me)
	require.NoError(t, err)
	require.True(t, k.copyAway(t.Context()))
	assert.Empty(t, k.State().NotCopied)
	require.NoError(t, k.Drill(t.Context(), me))
	h.secrets[site.Passphrase] = "another"
	assert.ErrorContains(t, k.Drill(t.Context(), me), "another passphrase")
	assert.Contains(t, fmt.Sprint(h.said), "The restore drill failed")
	there.broken = errors.New("the line is down")
	_, err = k.BackupsElsewhere(t.Context(), me)
	assert.ErrorContains(t, err, "the line is down")
}

func TestOnlyOwnersReadBackups(t *testing.T) {
	k, _, _ := newKeeper(t)
	kim := access.Actor{Kind: access.Person, ID: "kim", Role: access.Member}
	_, err := k.BackUp(t.Context(), kim)
	assert.Error(t, err)
	_, err = k.BackupsElsewhere(t.Context(), kim)
	assert.Error(t, err)
	_, err = k.FetchBackup(t.Context(), kim, "x")
	assert.Error(t, err)
	assert.Error(t, k.Drill(t.Context(), kim))
	v, err := k.Storage(t.Context(), kim)
	require.NoError(t, err)
	assert.NotZero(t, v.DatabaseBytes)
}
