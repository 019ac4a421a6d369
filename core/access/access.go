// Package access decides who may do what. It is pure: it knows actors, actions and objects, and nothing of doors.
package access

import (
	"fmt"
	"slices"
	"strings"

	"idleember/core/site"
)

// Role is what a member is in the household.
type Role string

// The roles, from most to least.
const (
	Owner  Role = "owner"
	Member Role = "member"
	Guest  Role = "guest"
)

// Valid reports whether r is one of the roles.
func (r Role) Valid() bool { return r == Owner || r == Member || r == Guest }

// Kind says what an actor is.
type Kind string

// The kinds of actors. A token acts with the role of the member who made it.
const (
	Person Kind = "person"
	Token  Kind = "token"
	Device Kind = "device"
	Panel  Kind = "panel"  // what may touch only what its owner chose for it, point by point
	Wall   Kind = "wall"   // a screen that shows one dashboard
	Letter Kind = "letter" // whoever holds a signed link of a message that is for nobody in particular
	TheHub Kind = "hub"
)

// Actor is who asks. The zero value may do nothing.
type Actor struct {
	Kind Kind   `json:"kind"`
	ID   string `json:"id"`
	Name string `json:"name"`
	Role Role   `json:"role,omitempty"`
	From string `json:"from,omitempty"` // the address or door it came through

	Rights *Rights  `json:"-"` // of persons and tokens
	Pass   string   `json:"-"` // of persons and tokens: the session or token that they came with
	Scopes []string `json:"-"` // of a token: what it may do of what its member may; nil: all of that

	Maker    *Actor   `json:"-"` // of a wall: who made it
	Sees     []string `json:"-"` // of a wall: what stands on it; of a letter: what it is about
	Switches []string `json:"-"` // of a wall: what of that may be switched
}

// HubActor is the hub acting by itself.
func HubActor() Actor { return Actor{Kind: TheHub, ID: "hub", Name: "the hub"} }

// DeviceActor is a device that came through a link.
func DeviceActor(id, name, from string) Actor {
	return Actor{Kind: Device, ID: id, Name: name, From: from}
}

// Action is what an actor wants to do. Its value is the word that the API contract uses for the right.
type Action string

// The actions.
const (
	Look      Action = "look"      // see values, history and states
	Switch    Action = "switch"    // change what controls do
	Audit     Action = "audit"     // read the journal and what else is of the household alone
	Tend      Action = "tend"      // answer alerts, write notes, arrange pages
	Bring     Action = "bring"     // bring in readings of the past
	Configure Action = "configure" // change the site
	Household Action = "household" // see and change members
	Self      Action = "self"      // know who one is, and end the session or token that one came with
	Own       Action = "own"       // one's own sessions, tokens, password and preferences: in person, never by a token
	Push      Action = "push"      // bring in readings and reports of a device
)

// Object is what an action is about.
type Object struct {
	Device string
	Name   string
	Guests site.Guests // what it is opened to guests for

	Place     string
	Dangerous bool     // guests switch it only where its own name is opened to them
	Private   bool     // guests see it only where its own name is
	Parts     []Object // whoever may see one of them sees that the whole is there
}

// Anything is the object of an action that is not about one thing in particular.
var Anything = Object{Guests: site.GuestsSee}

// The scopes that a token may have.
const (
	ScopeRead      = "read"      // look, and read the journal
	ScopeSwitch    = "switch"    // look, and switch, set, answer alerts, write notes
	ScopeConfigure = "configure" // look, and change the site and the household
	ScopePush      = "push"      // bring in readings
)

// scopes are those of which one is enough for an action, the least first.
var scopes = map[Action][]string{Look: {ScopeRead, ScopeSwitch, ScopeConfigure}, Audit: {ScopeRead, ScopeSwitch,
	ScopeConfigure}, Switch: {ScopeSwitch}, Tend: {ScopeSwitch},
	Configure: {ScopeConfigure}, Household: {ScopeConfigure}, Bring: {ScopePush}}

// ValidScope reports whether a token may have a scope.
func ValidScope(s string) bool {
	return s == ScopeRead || s == ScopeSwitch || s == ScopeConfigure || s == ScopePush
}

// scoped reports whether a token's scopes hold an action. Of itself it may always know who it is, and end.
func scoped(list []string, action Action) bool {
	return action != Own && (list == nil || action == Self || slices.ContainsFunc(scopes[action],
		func(s string) bool { return slices.Contains(list, s) }))
}

// Denied is the error of an action that was not allowed.
type Denied struct {
	Actor  Actor
	Action Action
	Object Object
}

func (d *Denied) Error() string {
	what := map[Action]string{Look: "see", Switch: "switch", Audit: "read the journal of", Configure: "change",
		Household: "manage the members of", Push: "speak for", Tend: "change", Bring: "bring readings into"}[d.Action]
	object := d.Object.Name
	if object == "" {
		object = "this hub"
	}
	if d.Actor.Kind == Token && d.Action == Own {
		return "a token cannot change how its owner signs in, nor what they prefer; sign in with the password"
	}
	if d.Actor.Kind == Token && !scoped(d.Actor.Scopes, d.Action) {
		return fmt.Sprintf("this token is for %s, which does not let it %s %s; make one with the scope %s",
			strings.Join(d.Actor.Scopes, " and "), what, object, scopes[d.Action][0])
	}
	if d.Actor.Role != "" {
		return fmt.Sprintf("a %s may not %s %s; ask an owner", d.Actor.Role, what, object)
	}
	return fmt.Sprintf("%s may not %s %s", d.Actor.Name, what, object)
}

// May returns nil where the actor may do the action on the object, else a *Denied.
func May(a Actor, action Action, o Object) error {
	if allowed(a, action, o) {
		return nil
	}
	return &Denied{a, action, o}
}

// Long, because it is the table of rights.
func allowed(a Actor, action Action, o Object) bool {
	switch a.Kind {
	case TheHub:
		return true
	case Device:
		return action == Push && o.Device == a.ID
	case Panel:
		return action == Look || action == Switch
	case Wall:
		return action == Look && (o.Name == "" || slices.Contains(a.Sees, o.Name)) || action == Switch &&
			slices.Contains(a.Switches, o.Name)
	case Letter: // it reads and acknowledges what it is about
		return action == Audit || action == Tend || action == Look && slices.Contains(a.Sees, o.Name)
	case Person:
	case Token:
		if !scoped(a.Scopes, action) {
			return false
		}
	default:
		return false
	}
	switch a.Role {
	case Owner:
		return action != Push
	case Member:
		if action == Audit || action == Tend || action == Self || action == Own {
			return true
		}
	case Guest:
		if action == Self || action == Own {
			return true
		}
	default:
		return false
	}
	may := a.Rights.may(a, o)
	switch action {
	case Look:
		return may == site.GuestsSee || may == site.GuestsSwitch || slices.ContainsFunc(o.Parts,
			func(p Object) bool { return allowed(a, Look, p) })
	case Switch:
		return may == site.GuestsSwitch
	}
	return false
}

// Coarse returns nil where an actor of this role may do the action on at least some objects. Doors check it before they
// know the object.
func Coarse(a Actor, action Action) error {
	if a.Kind == Wall && action == Switch && len(a.Switches) > 0 {
		return nil
	}
	return May(a, action, Object{Guests: site.GuestsSwitch})
}
