package post

import (
	"context"
	"encoding/json"
	"net/url"
	"strings"

	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/core/fault"
	"idleember/core/site"
	"idleember/store"
)

// keyPair identifies the hub to push services (RFC 8292); both in base64url.
type keyPair struct {
	Public  string `json:"public"`
	Private string `json:"private"`
}

const (
	keptPushKeys     = "push keys"
	mostSubscribed   = 20 // consoles of one person
	longestPushPlace = 1000
)

// pushKeys are the hub's, made the first time.
func (p *Post) pushKeys(ctx context.Context) (k keyPair, err error) {
	p.making.Lock()
	defer p.making.Unlock()
	kept, err := p.store.Secret(ctx, own, keptPushKeys)
	if err != nil {
		return k, err
	}
	if kept != "" {
		return k, json.Unmarshal([]byte(kept), &k)
	}
	if k, err = newPushKeys(); err != nil {
		return k, err
	}
	return k, p.store.Do(ctx, store.SaveSecret(own, keptPushKeys, raw(k)))
}

// PushInfo tells a person about pushes.
func (p *Post) PushInfo(ctx context.Context, a access.Actor) (out shown.PushInfo, err error) {
	out.Mine = []string{}
	if out.On = p.house.Site().Messaging.Push; !out.On {
		return out, nil
	}
	k, err := p.pushKeys(ctx)
	if err != nil {
		return out, err
	}
	out.Key = k.Public
	list, err := p.store.Subscriptions(ctx, a.ID)
	for _, s := range list {
		if u, err := url.Parse(s.Endpoint); err == nil {
			out.Mine = append(out.Mine, u.Host)
		}
	}
	return out, err
}

// Subscribe lets a console of a person take pushes.
func (p *Post) Subscribe(ctx context.Context, a access.Actor, s store.Subscription) error {
	if a.Kind != access.Person {
		return fault.Invalid("endpoint", "only a person's console takes pushes")
	}
	if !p.house.Site().Messaging.Push {
		return fault.Invalid("endpoint", "pushes are switched off; an owner switches them on under Alerts, as they need "+
			"the internet")
	}
	inside := false
	for _, r := range p.house.Site().Routes {
		inside = inside || r.Via == site.ByPush && r.Person == a.ID && r.Inside
	}
	if len(s.Endpoint) > longestPushPlace {
		return fault.Invalid("endpoint", "this is no address of a push service")
	}
	if err := checkPush(s, inside); err != nil {
		return fault.Invalid("endpoint", "%v", err)
	}
	have, err := p.store.Subscriptions(ctx, a.ID)
	if err != nil {
		return err
	}
	if len(have) >= mostSubscribed {
		return fault.Invalid("endpoint", "this person has twenty consoles that take pushes; let one of them go first")
	}
	s.Account, s.CreatedMS = a.ID, p.house.Time().UnixMilli()
	return p.store.Do(ctx, store.SaveSubscription(s))
}

// Unsubscribe ends pushes to a console of a person.
func (p *Post) Unsubscribe(ctx context.Context, a access.Actor, endpoint string) error {
	return p.store.Do(ctx, store.DropSubscription(a.ID, strings.TrimSpace(endpoint)))
}
