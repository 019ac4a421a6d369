package hub

import (
	"sync"

	"idleember/core/site"
)

// bell tells many that something changed.
type bell struct {
	mu sync.Mutex
	ch chan struct{}
}

func (n *bell) wait() <-chan struct{} {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.ch == nil {
		n.ch = make(chan struct{})
	}
	return n.ch
}

func (n *bell) tell() {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.ch != nil {
		close(n.ch)
		n.ch = nil
	}
}

// Site is the whole configuration, to be read only. Links look at it from any goroutine.
func (h *Hub) Site() *site.Site { return h.current.Load() }

// Changed is closed when the configuration is no longer what Site returned before.
func (h *Hub) Changed() <-chan struct{} { return h.changed.wait() }
