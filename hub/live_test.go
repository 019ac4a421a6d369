package hub

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"idleember/core/access"
)

// Of many values at once a reader of few is told the newest of each signal, and all else; a reader of all is told all.
func TestAReaderOfFewIsToldTheNewest(t *testing.T) {
	f := newFeed("1")
	watch := func() *Watch {
		return &Watch{feed: f, next: f.next, actor: func() (access.Actor, bool) { return access.Actor{Kind: access.Person, Role: access.Owner}, true }}
	}
	few, all := watch(), watch()
	routine := func(name string, n int) {
		for range n {
			f.add(&Event{Kind: "signal", Routine: true, obj: access.Object{Name: name}}, nil)
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
	f.add(&Event{Kind: "signal", obj: access.Object{Name: "a"}}, nil) // its state changed
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
