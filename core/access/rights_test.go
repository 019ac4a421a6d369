package access

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"idleember/core/site"
)

// The most specific line counts: the person before the role, the thing before its device, the device before its place.
func TestRights(t *testing.T) {
	porch := Object{Device: "porch", Name: "porch.lamp", Place: "yard", Guests: site.GuestsNothing}
	kiln := Object{Device: "kiln", Name: "kiln.fan", Place: "kiln_shed", Guests: site.GuestsNothing, Dangerous: true}
	opened := Object{Device: "yard", Name: "yard.bell", Place: "yard", Guests: site.GuestsSwitch}
	line := func(who, of string, may site.Guests) site.Right { return site.Right{Who: who, Of: of, May: may} }
	for name, c := range map[string]struct {
		role        Role
		o           Object
		lines       []site.Right
		see, toggle bool
	}{
		"a member without a line":     {Member, kiln, nil, true, true},
		"only owners switch the kiln": {Member, kiln, []site.Right{line("members", "kiln.fan", "see")}, true, false},
		"but this one": {Member, kiln, []site.Right{line("members", "kiln.fan", "see"),
			line("kai", "kiln", "switch")}, true, true},
		"a place closed to members": {Member, kiln, []site.Right{line("members", "kiln_shed", "none")}, false, false},
		"the thing before its place": {Member, kiln, []site.Right{line("members", "kiln_shed", "none"),
			line("members", "kiln.fan", "see")}, true, false},
		"an owner is above lines":       {Owner, kiln, []site.Right{line("kai", "kiln", "none")}, true, true},
		"a guest without a line":        {Guest, porch, nil, false, false},
		"the porch lamp for this guest": {Guest, porch, []site.Right{line("kai", "porch.lamp", "switch")}, true, true},
		"for another guest":             {Guest, porch, []site.Right{line("lee", "porch.lamp", "switch")}, false, false},
		"a place opened to guests":      {Guest, porch, []site.Right{line("guests", "yard", "switch")}, true, true},
		"what is dangerous only by its own name": {Guest, kiln, []site.Right{line("guests", "kiln_shed", "switch")}, true,
			false},
		"by its own name": {Guest, kiln, []site.Right{line("guests", "kiln.fan", "switch")}, true, true},
		"the thing's own opening before its place's": {Guest, opened, []site.Right{line("guests", "yard", "none")}, true,
			true},
		"a line for the person before that": {Guest, opened, []site.Right{line("kai", "yard", "none")}, false, false},
		"lines for members are not for guests": {Guest, porch, []site.Right{line("members", "porch.lamp", "switch")},
			false, false},
	} {
		a := Actor{Kind: Person, ID: "kai", Role: c.role, Rights: NewRights(c.lines)}
		assert.Equal(t, c.see, May(a, Look, c.o) == nil, "%s: see", name)
		assert.Equal(t, c.toggle, May(a, Switch, c.o) == nil, "%s: switch", name)
	}
	whole := Object{Device: "yard", Name: "yard", Place: "yard", Parts: []Object{porch, opened}}
	assert.NoError(t, May(Actor{Kind: Person, ID: "kai", Role: Guest}, Look, whole),
		"of a device that has something for guests one knows that it is there")
	assert.Error(t, May(Actor{Kind: Person, ID: "kai", Role: Guest}, Switch, whole))
}

func TestScopes(t *testing.T) {
	all := []Action{Look, Switch, Audit, Tend, Bring, Configure, Household, Self}
	may := func(a Actor) (out []Action) {
		for _, action := range all {
			if May(a, action, Object{Name: "kiln.fan"}) == nil {
				out = append(out, action)
			}
		}
		return out
	}
	assert.Equal(t, []Action{Look, Audit, Self}, may(Actor{Kind: Token, Role: Owner, Scopes: []string{ScopeRead}}))
	assert.Equal(t, []Action{Look, Switch, Audit, Tend, Self}, may(Actor{Kind: Token, Role: Member,
		Scopes: []string{ScopeRead, ScopeSwitch, ScopeConfigure}}), "no more than its member")
	assert.Equal(t, []Action{Bring, Self}, may(Actor{Kind: Token, Role: Owner, Scopes: []string{ScopePush}}))
	assert.Equal(t, all, may(Actor{Kind: Token, Role: Owner}), "without scopes as its member")
	assert.EqualError(t, May(Actor{Kind: Token, Role: Owner, Scopes: []string{ScopeRead}}, Switch,
		Object{Name: "kiln.fan"}),
		"this token is for read, which does not let it switch kiln.fan; make one with the scope switch")
}
