package sight

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/core/engine"
	"idleember/core/site"
	"idleember/core/words"
)

// A kiln in the kiln room whose fan is open to guests, and which a rule, an alert and an automation speak of.
func studio() *site.Site {
	return (&site.Site{}).With(site.Put(site.Place{ID: "kilnroom", Name: "Kiln room"}),
		site.Put(site.Place{ID: "shop", Name: "Shop"}),
		site.Put(site.Device{ID: "kiln", Place: "kilnroom"}), site.Put(site.Signal{ID: "kiln.chamber", Device: "kiln",
			Kind: site.Number}),
		site.Put(site.Control{ID: "kiln.fan", Device: "kiln", Guests: site.GuestsSwitch}),
		site.Put(site.Control{ID: "kiln.heat", Device: "kiln"}),
		site.Put(&site.Automation{Control: "kiln.fan",
			Permits: []site.Permit{{Condition: site.Condition{When: "kiln.chamber > 40"}}}}),
		site.Put(&site.Alert{ID: "hot", Name: "Hot", Of: "kiln.fan", When: "kiln.chamber > 90"}),
		site.Put(&site.Alert{ID: "on", Name: "On", Of: "kiln.fan", When: "kiln.fan"}),
		site.Put(site.Preset{ID: "air", Role: "guest", Actions: []site.Action{{ID: "kiln.fan"}}}),
		site.Put(site.Route{ID: "kim", Person: "kim"}),
		site.Put(site.Dashboard{ID: "floor", By: "mo", Shared: site.Everybody,
			Tiles: []site.Tile{{Of: []string{"kiln.fan", "kiln.chamber"}}}}))
}

func as(role access.Role, lines ...site.Right) access.Actor {
	return access.Actor{Kind: access.Person, ID: "kim", Role: role, Rights: access.NewRights(lines)}
}

// A guest sees what is open, and nothing that tells of what is not: neither the reason of a fan that a closed signal
// decides, nor an alert whose formula names it.
func TestWhatAGuestSees(t *testing.T) {
	t.Parallel()
	var glass Glass
	s := studio()
	guest := glass.As(s, as(access.Guest))
	for id, sees := range map[string]bool{"kiln.fan": true, "kiln.fan.is": true, "kiln.heat": false, "kiln.chamber": false,
		"kilnroom": true, "shop": false, "gone": false} {
		assert.Equal(t, sees, guest.Sees(id), id)
	}
	x := guest.Control(shown.Control{Config: s.Controls["kiln.fan"],
		State: shown.ControlState{Reason: words.TextOf(words.Said("the chamber is at 41 °C")), Needs: shown.NeedsOf(
			[]engine.Need{{Saying: engine.Saying{Fact: words.Of("needs.latch", "Locks", words.Row{words.Said("the chamber")})}},
				{Saying: engine.Saying{Fact: words.Of("needs.proof", "Why", words.Said("kiln.chamber > 40"))}}})}})
	assert.Equal(t, Closed, x.State.Reason.Fact)
	require.Len(t, x.State.Needs, 1)
	assert.Equal(t, "no effect: what decides it is closed to you", x.State.Needs[0].Text.String())
	assert.False(t, guest.Alert(s.Alerts["hot"]))
	assert.True(t, guest.Alert(s.Alerts["on"]))
	left := guest.Dashboard(s.Dashboards["floor"])
	assert.Equal(t, []string{"kiln.fan"}, left.About())
	assert.True(t, guest.Route("kim"), "one's own")
	assert.Equal(t, []string{"kiln.heat"}, NotSwitchable(s, as(access.Guest), []string{"kiln.fan", "kiln.heat", "air"}))
	assert.True(t, glass.As(s, as(access.Owner)).Whole)
}

// A wall shows what its maker sees and no more, and a right that closes a place to members closes it to one of their
// walls.
func TestAWallSeesNoMoreThanItsMaker(t *testing.T) {
	t.Parallel()
	var glass Glass
	s := studio()
	closed := site.Right{Who: site.RightMembers, May: site.GuestsNothing, Of: "kilnroom"}
	s = s.With(site.Put(site.Rights{Lines: []site.Right{closed}}))
	for _, maker := range []access.Actor{as(access.Member, closed), as(access.Owner)} {
		wall := glass.As(s, access.Actor{Kind: access.Wall, ID: "floor", Role: access.Guest, Sees: []string{"kiln.fan"},
			Maker: &maker})
		assert.Equal(t, maker.Role == access.Owner, wall.Formulas("kiln.chamber > 40"), maker.Role)
		assert.False(t, wall.Sees("kiln.heat"))
	}
}

// What is read of a formula is of the site as it is now: a name that came later is known.
func TestFormulasAreReadAnew(t *testing.T) {
	t.Parallel()
	var glass Glass
	s := studio()
	assert.Nil(t, glass.Reads(s)("yard.rain > 1"))
	s = s.With(site.Put(site.Device{ID: "yard"}), site.Put(site.Signal{ID: "yard.rain", Device: "yard",
		Kind: site.Number}))
	assert.Equal(t, []string{"yard.rain"}, glass.Reads(s)("yard.rain > 1"))
}
