package hub

import (
	"context"
	"time"

	"idleember/core/access"
	"idleember/core/site"
	"idleember/store"
)

// People are those who live with a hub, as far as it asks for them, from any goroutine. They do not call the hub to
// answer.
type People interface {
	// Member is who has an account.
	Member(account string) (store.Member, bool)
	// Since is when the first of them came; false: nobody did.
	Since() (time.Time, bool)
	// InPerson says why an actor may not change how somebody signs in, or nil.
	InPerson(a access.Actor) error
	// Used is what is to be written down of who was here.
	Used() []store.Change
	// PartsGone is told after something was taken out of the site, and returns what is to be written because of that.
	PartsGone(s *site.Site) []store.Change
}

// nobody lives with a hub of which no people are known.
type nobody struct{}

func (nobody) Member(string) (store.Member, bool)  { return store.Member{}, false }
func (nobody) Since() (time.Time, bool)            { return time.Time{}, false }
func (nobody) InPerson(access.Actor) error         { return nil }
func (nobody) Used() []store.Change                { return nil }
func (nobody) PartsGone(*site.Site) []store.Change { return nil }

// Turn is one turn of the hub's loop: what is written in it is kept together, or not at all.
type Turn interface {
	Write(changes ...store.Change)
	// Journal writes down what an actor did.
	Journal(a access.Actor, action, object, before, after, reason string)
	// TellPerson tells somebody of something about their account, whatever they chose to be told of otherwise.
	TellPerson(account, text string)
	// LookAgain has everybody who looks on ask again what they may see, after the commit.
	LookAgain()
	// Put keeps a part of the site; Remove takes one out with all that it owns.
	Put(part any)
	Remove(a access.Actor, how string, key site.Key) error
}

type turn struct{ h *Hub }

func (t turn) Write(changes ...store.Change)   { t.h.write(changes...) }
func (t turn) TellPerson(account, text string) { t.h.tellPerson(account, text) }
func (t turn) LookAgain()                      { t.h.lookAgain() }
func (t turn) Put(part any)                    { t.h.changeSite(site.Put(part)) }
func (t turn) Journal(a access.Actor, action, object, before, after, reason string) {
	t.h.journal(t.h.Time(), a, action, object, before, after, reason)
}

func (t turn) Remove(a access.Actor, how string, key site.Key) error {
	_, err := t.h.remove(a, how, key)
	return err
}

// Do runs f in a turn of its own and waits until what it wrote is on the disk.
func (h *Hub) Do(ctx context.Context, f func(Turn) error) error {
	return h.do(ctx, func() error { return f(turn{h}) })
}

// ActorOf is a member, as whoever acts for them.
func (h *Hub) ActorOf(m store.Member, kind access.Kind, from string) access.Actor {
	return access.Actor{Kind: kind, ID: m.ID, Name: m.Name, Role: m.Role, From: from, Rights: h.rights.Load()}
}

func (h *Hub) isMember(account string) bool {
	_, ok := h.people.Member(account)
	return ok
}

// nameOf returns the name of a member, or nothing where there is none with that account.
func (h *Hub) nameOf(account string) string {
	m, _ := h.people.Member(account)
	return m.Name
}
