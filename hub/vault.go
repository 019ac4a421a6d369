package hub

import (
	"sync"

	"idleember/core/site"
	"idleember/store"
)

// vault holds what must not be shown: passwords that others ask the hub for. Whoever speaks with those asks from any goroutine.
type vault struct {
	mu sync.RWMutex
	of map[site.Key]map[string]string
}

func (v *vault) get(of site.Key, name string) string {
	v.mu.RLock()
	defer v.mu.RUnlock()
	return v.of[of][name]
}

// set changes a secret, and returns what keeps it.
func (v *vault) set(of site.Key, name, secret string) store.Change {
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.of[of] == nil {
		v.of[of] = map[string]string{}
	}
	v.of[of][name] = secret
	return store.SaveSecret(of, name, secret)
}

func (v *vault) drop(of site.Key) {
	v.mu.Lock()
	defer v.mu.Unlock()
	delete(v.of, of)
}

// own is whose the secrets are that the hub makes for itself.
var own = site.Key{Kind: "hub"}
