package hub

import (
	"crypto/sha256"
	"crypto/subtle"
	"errors"
	"fmt"
	"sync"
	"time"

	"idleember/core/fault"
	"idleember/core/guess"
	"idleember/core/site"
)

// keyring holds the SHA-256 of each device's key. Links ask it from any goroutine.
type keyring struct {
	mu  sync.RWMutex
	of  map[string][]byte
	ids map[string]string // by hash

	guessing sync.Mutex
	guesses  guess.Book
}

func newKeyring(of map[string][]byte) *keyring {
	k := &keyring{of: of, ids: map[string]string{}}
	for id, hash := range of {
		k.ids[string(hash)] = id
	}
	return k
}

func (k *keyring) set(device string, hash []byte) {
	k.mu.Lock()
	defer k.mu.Unlock()
	delete(k.ids, string(k.of[device]))
	k.of[device], k.ids[string(hash)] = hash, device
}

func (k *keyring) drop(device string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	delete(k.ids, string(k.of[device]))
	delete(k.of, device)
}

// Admit checks a device's key for whoever speaks from an address. Its answers do not tell a wrong key from a wrong id.
// After several wrong ones for a device from an address, that address waits (fault.TooManyError), longer each time;
// others who speak from there do not.
func (h *Hub) Admit(device, key, from string) error {
	known := device
	if _, ok := h.Site().Devices[device]; !ok {
		known = "" // nobody fills the memory with names
	}
	who := "device " + known + " from " + from
	k := h.keys
	k.guessing.Lock() // it is judged at once: of many that come together with the right key none has to wait
	defer k.guessing.Unlock()
	if wait := k.guesses.Try(time.Now(), who); wait > 0 {
		return &fault.TooManyError{Wait: wait}
	}
	err := h.admit(device, key)
	var off *fault.DisabledError
	switch {
	case err == nil:
		k.guesses.Right(who)
	case key == "" || errors.As(err, &off):
		k.guesses.Undo(who)
	}
	return err
}

func (h *Hub) admit(device, key string) error {
	sum := sha256.Sum256([]byte(key))
	h.keys.mu.RLock()
	have, ok := h.keys.of[device]
	h.keys.mu.RUnlock()
	if !ok || subtle.ConstantTimeCompare(have, sum[:]) != 1 {
		return fmt.Errorf("no device has the id %q and this key", site.Clip(device, 60))
	}
	if !h.Site().Devices[device].Active() {
		return &fault.DisabledError{Device: device}
	}
	return nil
}

// Find returns the device that a key belongs to.
func (h *Hub) Find(key string) (device string, err error) {
	sum := sha256.Sum256([]byte(key))
	h.keys.mu.RLock()
	device = h.keys.ids[string(sum[:])]
	h.keys.mu.RUnlock()
	if device == "" {
		return "", fmt.Errorf("no device has this key")
	}
	return device, h.admit(device, key)
}
