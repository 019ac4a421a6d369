package hub

import (
	"context"
	"slices"
	"sync"
	"time"

	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/core/site"
	"idleember/store"
)

func rightsView(lines []site.Right) shown.Rights {
	return shown.Rights{Version: Version(site.Rights{Lines: lines}), Lines: append([]site.Right{}, lines...)}
}

// Rights returns the lines, for owners.
func (h *Hub) Rights(_ context.Context, a access.Actor) (shown.Rights, error) {
	return rightsView(h.Site().Rights.Lines), access.May(a, access.Household, access.Anything)
}

// SaveRights replaces all lines. What somebody looks at follows at once.
func (h *Hub) SaveRights(ctx context.Context, a access.Actor, lines []site.Right, check func(any) error) (shown.Rights, error) {
	return rightsView(lines), h.do(ctx, func() error {
		_, err := h.keep(a, edit{part: site.Rights{Lines: lines}, check: check})
		return err
	})
}

func (h *Hub) isMember(account string) bool {
	h.people.mu.RLock()
	defer h.people.mu.RUnlock()
	_, ok := h.people.members[account]
	return ok
}

// nameOf returns the name of a member, or nothing where there is none with that account.
func (h *Hub) nameOf(account string) string {
	h.people.mu.RLock()
	defer h.people.mu.RUnlock()
	return h.people.members[account].Name
}

// use is when passes were used and members seen last, until it is written.
type use struct {
	mu             sync.Mutex
	passes, people map[string]int64 // Unix milliseconds by id
	unsaved        map[[2]string]bool
}

const usedWithin = time.Minute

func (u *use) mark(pass, member string, now time.Time) {
	at := now.UnixMilli()
	u.mu.Lock()
	defer u.mu.Unlock()
	if at-u.passes[pass] < usedWithin.Milliseconds() {
		return
	}
	if u.passes == nil {
		u.passes, u.people, u.unsaved = map[string]int64{}, map[string]int64{}, map[[2]string]bool{}
	}
	u.passes[pass], u.people[member], u.unsaved[[2]string{pass, member}] = at, at, true
}

func (u *use) of(pass string) int64 {
	u.mu.Lock()
	defer u.mu.Unlock()
	return u.passes[pass]
}

func (u *use) seen(member string) int64 {
	u.mu.Lock()
	defer u.mu.Unlock()
	return u.people[member]
}

// changes are what is to be written down of it.
func (u *use) changes() []store.Change {
	u.mu.Lock()
	defer u.mu.Unlock()
	if len(u.unsaved) == 0 {
		return nil
	}
	passes, people := map[string]int64{}, map[string]int64{}
	for k := range u.unsaved {
		passes[k[0]], people[k[1]] = u.passes[k[0]], u.people[k[1]]
	}
	clear(u.unsaved)
	return []store.Change{store.MarkUsed(passes, people)}
}

// locked is what an actor sees and may not switch.
func (h *Hub) locked(a access.Actor, s *Snapshot) []string {
	ids := []string{}
	for _, c := range s.Controls {
		ids = append(ids, c.ID)
	}
	for _, g := range s.Settings {
		ids = append(ids, g.Config.ID)
	}
	out := unswitchable(h.site, a, ids)
	slices.Sort(out)
	return append([]string{}, out...)
}
