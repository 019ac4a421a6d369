package hub

import (
	"context"
	"time"

	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/core/engine"
	"idleember/core/reading"
	"idleember/core/site"
	"idleember/store"
)

const signingKey = "signing key"

// Messaging returns how messages leave the hub, for owners.
func (h *Hub) Messaging(ctx context.Context, a access.Actor) (v shown.Messaging, err error) {
	if err := access.May(a, access.Configure, access.Anything); err != nil {
		return v, err
	}
	v.Config = h.Site().Messaging
	v.Version = Version(v.Config)
	v.Password = h.vault.get(site.Key{Kind: "messaging"}, site.Password) != ""
	v.Signing, err = h.SigningKey(ctx)
	return v, err
}

// SaveMessaging changes how messages leave the hub. password is that of the mail server, nil where it stays.
func (h *Hub) SaveMessaging(ctx context.Context, a access.Actor, m site.Messaging, password *string, check func(any) error) (shown.Messaging, error) {
	err := h.do(ctx, func() error {
		_, err := h.keep(a, edit{part: m, check: check, secrets: map[string]*string{site.Password: password}})
		return err
	})
	if err != nil {
		return shown.Messaging{}, err
	}
	return h.Messaging(ctx, a)
}

// MailPassword is the one of the mail server, for the sender.
func (h *Hub) MailPassword(ctx context.Context) (string, error) {
	return h.vault.get(site.Key{Kind: "messaging"}, site.Password), nil
}

// SigningKey is what webhooks are signed with; it is made the first time.
func (h *Hub) SigningKey(ctx context.Context) (string, error) {
	return h.madeSecret(ctx, signingKey)
}

// learn tells the engine of readings of the past that an alert may have been about.
func (h *Hub) learn(signal string, late []store.Reading) {
	in := engine.Learnt{Signal: signal}
	for _, r := range late {
		if r.Quality == reading.Good && r.Value.Kind != site.Text {
			in.Samples = append(in.Samples, engine.Sample{At: time.UnixMilli(r.T), Value: r.Value.Num})
		}
	}
	if len(in.Samples) > 0 {
		h.apply(in)
	}
}

const digestEvery = 20 * time.Second // how often it is looked whether one is due

// beatOutward sends the sign of life as often as is said, and the digest when it is due, until the context ends. A beat that cannot go is not made up for: the next
// one says the same.
func (h *Hub) beatOutward(ctx context.Context) {
	var last, looked time.Time
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		if now := time.Now(); now.Sub(looked) >= digestEvery && h.trusted() {
			looked = now
			if err := h.tellDigest(ctx, h.Time()); err != nil && ctx.Err() == nil {
				h.log.Warn("the digest did not go out", "error", err)
			}
		}
		s := h.Site()
		a := s.Messaging.Alive
		if a.Via == "" || time.Since(last) < site.Millis(a.EveryMS) {
			continue
		}
		last = time.Now()
		if _, err := h.carry(ctx, aliveRoute, Notice{ID: messageID(), What: "alive", At: h.Time(), Name: s.Hub.Name + " is alive", Severity: site.Info, Hub: s.Hub.Name, Zone: s.Hub.Zone}); err != nil && ctx.Err() == nil {
			h.log.Warn("the sign of life did not go out", "error", err)
		}
	}
}
