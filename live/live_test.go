package live

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"idleember/core/access"
)

// Of many values at once a reader of few is told the newest of each signal, and all else; a reader of all is told all.
func TestAReaderOfFewIsToldTheNewest(t *testing.T) {
	f := New("1", time.Now)
	watch := func() *Watch {
		return &Watch{feed: f, next: f.next, actor: func() (access.Actor, bool) {
			return access.Actor{Kind: access.Person, Role: access.Owner}, true
		}}
	}
	few, all := watch(), watch()
	routine := func(name string, n int) {
		for range n {
			f.Add(&Event{Kind: "signal", Routine: true, Object: access.Object{Name: name}}, nil)
		}
	}
	told := func(w *Watch, take func() ([]*Event, uint64, bool, bool, <-chan struct{})) (seqs []uint64) {
		events, _, _, ok, _ := take()
		assert.True(t, ok)
		for _, e := range events {
			seqs = append(seqs, e.Seq)
		}
		return seqs
	}
	routine("a", 6)
	f.Add(&Event{Kind: "signal", Object: access.Object{Name: "a"}}, nil) // its state changed
	routine("b", 2)
	routine("a", 1)
	assert.Equal(t, []uint64{4, 5, 6, 7, 8, 9, 10}, told(few, few.NextFew))
	assert.Len(t, told(all, all.Next), 10)
	routine("a", 1)
	assert.Equal(t, []uint64{11}, told(few, few.NextFew), "what it was told does not count")
	f.runs = map[string]*run{}
	routine("a", 5)
	assert.Equal(t, []uint64{13, 14, 15, 16}, told(few, few.NextFew))
}

// Events hold on to the site that they are judged by, so those of long ago go; who was not told of them starts afresh.
func TestOldSitesAreLetGo(t *testing.T) {
	f := New("1", time.Now)
	slow := &Watch{feed: f, next: f.next, actor: func() (access.Actor, bool) {
		return access.Actor{Kind: access.Person, Role: access.Owner}, true
	}}
	quick := &Watch{feed: f, next: f.next, actor: slow.actor}
	for range 3 * keptSites {
		f.NewSite()
		f.Publish("control", 1, access.Anything)
		f.Publish("control", 2, access.Anything)
		events, _, reset, _, _ := quick.Next()
		assert.Len(t, events, 2)
		assert.False(t, reset)
	}
	held := 0
	for _, e := range f.ring {
		if e != nil {
			held++
		}
	}
	assert.Equal(t, 2*keptSites, held)
	_, _, reset, ok, _ := slow.Next()
	assert.True(t, ok && reset)
	f.Publish("control", 3, access.Anything)
	events, _, reset, _, _ := slow.Next()
	assert.Len(t, events, 1)
	assert.False(t, reset)
}
