package access

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"idleember/core/site"
)

func TestMay(t *testing.T) {
	closed, seen, switched := Object{Guests: site.GuestsNothing}, Object{Guests: site.GuestsSee},
		Object{Guests: site.GuestsSwitch}
	own := Object{Device: "kiln"}
	rows := []struct {
		action                       Action
		object                       Object
		owner, member, guest, device bool
	}{
		{Look, closed, true, true, false, false},
		{Look, seen, true, true, true, false},
		{Look, switched, true, true, true, false},
		{Switch, closed, true, true, false, false},
		{Switch, seen, true, true, false, false},
		{Switch, switched, true, true, true, false},
		{Audit, switched, true, true, false, false},
		{Configure, switched, true, false, false, false},
		{Household, switched, true, false, false, false},
		{Self, closed, true, true, true, false},
		{Push, own, false, false, false, true},
		{Push, Object{Device: "slip_tank"}, false, false, false, false},
	}
	for _, r := range rows {
		for _, kind := range []Kind{Person, Token} {
			assert.Equal(t, r.owner, May(Actor{Kind: kind, Role: Owner}, r.action, r.object) == nil, "owner %v", r)
			assert.Equal(t, r.member, May(Actor{Kind: kind, Role: Member}, r.action, r.object) == nil, "member %v", r)
			assert.Equal(t, r.guest, May(Actor{Kind: kind, Role: Guest}, r.action, r.object) == nil, "guest %v", r)
		}
		assert.Equal(t, r.device, May(DeviceActor("kiln", "Kiln", ""), r.action, r.object) == nil, "device %v", r)
		assert.Error(t, May(Actor{}, r.action, r.object), "nobody may do anything")
		assert.NoError(t, May(HubActor(), r.action, r.object))
	}
	assert.EqualError(t, May(Actor{Kind: Person, Role: Guest}, Switch, Object{Name: "kiln.fan"}),
		"a guest may not switch kiln.fan; ask an owner")
}

func TestAPanelOnlyLooksAndSwitches(t *testing.T) {
	a := Actor{Kind: Panel, ID: "panel", Name: "the panel"}
	o := Object{Device: "kiln", Name: "kiln.fan", Guests: site.GuestsNothing}
	for action, want := range map[Action]bool{Look: true, Switch: true, Configure: false, Audit: false, Household: false,
		Self: false, Push: false} {
		if got := May(a, action, o) == nil; got != want {
			t.Errorf("%s: %t", action, got)
		}
	}
}
