package hub

import (
	"context"
	"sync"

	"idleember/core/site"
	"idleember/store"
)

// vault holds what must not be shown: passwords that others ask the hub for. Whoever speaks with those asks from any
// goroutine.
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

// SigningKey is the name of what webhooks are signed with.
const SigningKey = "signing key"

// own is whose the secrets are that the hub makes for itself.
var own = site.Key{Kind: "hub"}

// OwnSecret is a secret that the hub makes for itself the first time it is needed.
func (h *Hub) OwnSecret(ctx context.Context, name string) (string, error) {
	h.making.Lock()
	defer h.making.Unlock()
	if key := h.vault.get(own, name); key != "" {
		return key, nil
	}
	key := secret(32)
	return key, h.store.Do(ctx, h.vault.set(own, name, key))
}
