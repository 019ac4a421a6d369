package tests

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/client"
	"idleember/core/site"
	"idleember/tests/rig"
)

// Each person has preferences of their own, and finds them again after a restart.
func TestPreferences(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	kim, guest := r.Member("kim", "member"), r.Member("pat", "guest")
	save := func(c *client.Remote, p site.Preferences) error {
		_, err := c.SavePreferencesWithResponse(t.Context(), p)
		return err
	}
	get := func(c *client.Remote) site.Preferences {
		x, err := c.GetPreferencesWithResponse(t.Context())
		require.NoError(t, err)
		return *x.JSON200
	}
	assert.Equal(t, site.Preferences{}, get(kim))
	want := site.Preferences{Theme: "dark", Accent: "moss", Comma: true, Start: "/charts",
		Favourites: []string{"kiln.chamber", "kiln.fan"}}
	require.NoError(t, save(kim, want))
	require.NoError(t, save(guest, site.Preferences{Clock12: true}))
	assert.Equal(t, site.Preferences{Clock12: true}, get(guest))
	r.Restart()
	kim = r.Client()
	r.SignIn(kim, "kim")
	assert.Equal(t, want, get(kim))
	for say, p := range map[string]site.Preferences{`the theme "neon" is unknown`: {Theme: "neon"},
		`the accent "red" is unknown`: {Accent: "red"},
		"is none of the console's":    {Start: "charts"}, "there may be 40 favourites": {Favourites: make([]string, 41)}} {
		assert.ErrorContains(t, save(kim, p), say)
	}
	assert.Equal(t, want, get(kim))
}

// An owner writes down what one looks for in a place; adding a device there leaves it alone.
func TestFactsOfAPlace(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	r.Device("kiln")
	place := func() site.Place { return r.Snapshot(r.Owner).Places[0].Config }
	id := place().ID
	facts := []site.Fact{{Name: "filter", Text: "paper, size 3", Date: "2026-04-02"}, {Name: "fuse",
		Text: "third from the left"}}
	save := func(facts []site.Fact) error {
		_, err := r.Owner.Places().Save(t.Context(), site.Place{ID: id, Name: "Studio", Facts: facts})
		return err
	}
	require.NoError(t, save(facts))
	r.Device("shed")
	_, err := r.Owner.Places().Patch(t.Context(), id, map[string]any{"name": "The studio"}, "")
	require.NoError(t, err)
	r.Restart()
	require.NotNil(t, place().Facts)
	assert.Equal(t, facts, place().Facts)
	assert.Equal(t, "The studio", place().Name)
	for say, f := range map[string]site.Fact{"says nothing": {Name: "fuse"},
		"is none; write it as 2026-04-02": {Name: "filter", Date: "April"}, "a name of 1 to 60": {Text: "x"}} {
		assert.ErrorContains(t, save([]site.Fact{f}), say)
	}
	require.NoError(t, save([]site.Fact{}))
	assert.Nil(t, place().Facts)
	assert.Contains(t, r.Journal("place " + id)[0], "filter paper, size 3")
	_, err = r.Member("kim", "member").Places().Patch(t.Context(), id, map[string]any{"name": "Mine"}, "")
	assert.Error(t, err)
}
