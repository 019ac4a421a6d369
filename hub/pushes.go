package hub

import (
	"context"
	"encoding/json"
	"errors"
	"net/url"
	"strings"

	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/core/site"
	"idleember/store"
)

// PushKeys identify the hub to push services (RFC 8292); both in base64url.
type PushKeys struct {
	Public  string `json:"public"`
	Private string `json:"private"`
}

const (
	pushKeys         = "push keys"
	mostSubscribed   = 20 // consoles of one person
	longestPushPlace = 1000
)

// PushKeys returns the hub's, which newKeys makes the first time.
func (h *Hub) PushKeys(ctx context.Context, newKeys func() (PushKeys, error)) (k PushKeys, err error) {
	h.making.Lock()
	defer h.making.Unlock()
	kept, err := h.store.Secret(ctx, own, pushKeys)
	if err != nil {
		return k, err
	}
	if kept != "" {
		return k, json.Unmarshal([]byte(kept), &k)
	}
	if k, err = newKeys(); err != nil {
		return k, err
	}
	return k, h.store.Do(ctx, store.SaveSecret(own, pushKeys, raw(k)))
}

// PushInfo tells a person about pushes.
func (h *Hub) PushInfo(ctx context.Context, a access.Actor) (out shown.PushInfo, err error) {
	out.Mine = []string{}
	if out.On = h.Site().Messaging.Push; !out.On {
		return out, nil
	}
	h.post.mu.Lock()
	made := h.post.newKeys
	h.post.mu.Unlock()
	if made == nil {
		return out, errors.New("nobody carries pushes here")
	}
	k, err := h.PushKeys(ctx, made)
	if err != nil {
		return out, err
	}
	out.Key = k.Public
	list, err := h.store.Subscriptions(ctx, a.ID)
	for _, s := range list {
		if u, err := url.Parse(s.Endpoint); err == nil {
			out.Mine = append(out.Mine, u.Host)
		}
	}
	return out, err
}

// CarriesPushes registers who makes the hub's keys for push services, and who says whether a console's subscription can be used, also
// of a service in the house where inside is true.
func (h *Hub) CarriesPushes(newKeys func() (PushKeys, error), check func(s store.Subscription, inside bool) error) {
	h.post.mu.Lock()
	h.post.newKeys, h.post.checkPush = newKeys, check
	h.post.mu.Unlock()
}

// Subscribe lets a console of a person take pushes.
func (h *Hub) Subscribe(ctx context.Context, a access.Actor, s store.Subscription) error {
	if a.Kind != access.Person {
		return &InvalidError{"endpoint", "only a person's console takes pushes"}
	}
	if !h.Site().Messaging.Push {
		return &InvalidError{"endpoint", "pushes are switched off; an owner switches them on under Alerts, as they need the internet"}
	}
	inside := false
	for _, r := range h.Site().Routes {
		inside = inside || r.Via == site.ByPush && r.Person == a.ID && r.Inside
	}
	h.post.mu.Lock()
	check := h.post.checkPush
	h.post.mu.Unlock()
	if check == nil || len(s.Endpoint) > longestPushPlace {
		return &InvalidError{"endpoint", "this is no address of a push service"}
	}
	if err := check(s, inside); err != nil {
		return &InvalidError{"endpoint", err.Error()}
	}
	have, err := h.store.Subscriptions(ctx, a.ID)
	if err != nil {
		return err
	}
	if len(have) >= mostSubscribed {
		return &InvalidError{"endpoint", "this person has twenty consoles that take pushes; let one of them go first"}
	}
	s.Account, s.CreatedMS = a.ID, h.Time().UnixMilli()
	return h.store.Do(ctx, store.SaveSubscription(s))
}

// Unsubscribe ends pushes to a console of a person.
func (h *Hub) Unsubscribe(ctx context.Context, a access.Actor, endpoint string) error {
	return h.store.Do(ctx, store.DropSubscription(a.ID, strings.TrimSpace(endpoint)))
}

// Subscriptions is where a person's consoles take pushes, for the sender.
func (h *Hub) Subscriptions(ctx context.Context, account string) ([]store.Subscription, error) {
	return h.store.Subscriptions(ctx, account)
}

// Unsubscribed says that a console is gone.
func (h *Hub) Unsubscribed(ctx context.Context, s store.Subscription) error {
	return h.store.Do(ctx, store.DropSubscription(s.Account, s.Endpoint))
}
