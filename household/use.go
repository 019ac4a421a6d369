package household

import (
	"sync"
	"time"

	"idleember/store"
)

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

// Used is what is to be written down of who was here.
func (p *People) Used() []store.Change { return p.use.changes() }
