package hub

import (
	"context"
	"time"

	"idleember/core/access"
	"idleember/core/engine"
	"idleember/core/reading"
	"idleember/core/site"
	"idleember/store"
)

// MessagingView is how messages leave the hub.
type MessagingView struct {
	Version  string         `json:"version"`
	Config   site.Messaging `json:"config"`
	Password bool           `json:"password"` // one is kept for the mail server
	Signing  string         `json:"signing"`  // how webhooks are signed, for owners: the key
}

const (
	mailPassword = "mail password"
	signingKey   = "signing key"
)

// Messaging returns how messages leave the hub, for owners.
func (h *Hub) Messaging(ctx context.Context, a access.Actor) (v MessagingView, err error) {
	if err := access.May(a, access.Configure, access.Anything); err != nil {
		return v, err
	}
	v.Config = h.Site().Messaging
	v.Version = Version(v.Config)
	word, err := h.store.Secret(ctx, mailPassword)
	if err != nil {
		return v, err
	}
	v.Password = word != ""
	v.Signing, err = h.SigningKey(ctx)
	return v, err
}

// SaveMessaging changes how messages leave the hub. password is that of the mail server, nil where it stays.
func (h *Hub) SaveMessaging(ctx context.Context, a access.Actor, m site.Messaging, password *string, check func(any) error) (MessagingView, error) {
	kept, err := h.store.Secret(ctx, mailPassword)
	if err != nil {
		return MessagingView{}, err
	}
	err = h.do(ctx, func() error {
		if err := access.May(a, access.Configure, access.Anything); err != nil {
			return err
		}
		before := h.site.Messaging
		if err := check(before); err != nil {
			return err
		}
		switch now, was := m.Mail, before.Mail; {
		case password != nil:
		case kept != "" && now.Account == "":
			password = new(string)
		case kept != "" && (now.Host != was.Host || now.Port != was.Port || now.Account != was.Account || now.Security != was.Security || now.CA != was.CA):
			return &InvalidError{"password", "the password that is kept is for " + was.Host + " as it was; enter the one for " + now.Host}
		}
		if err := m.Validate(); err != nil {
			return &InvalidError{"messaging", err.Error()}
		}
		if err := checkWordings(h.site, m.Say); err != nil {
			return err
		}
		h.changeSite(func(s *site.Site) { s.Messaging = m }, store.SaveMessaging(m))
		if m.Digest != before.Digest {
			h.write(markDigest(h.Time(), m.Digest))
		}
		if password != nil {
			h.write(store.SaveSecret(mailPassword, *password))
		}
		h.tryAgain()
		h.journalChange(a, "hub.messaging", before, m)
		return nil
	})
	if err != nil {
		return MessagingView{}, err
	}
	return h.Messaging(ctx, a)
}

// MailPassword is the one of the mail server, for the sender.
func (h *Hub) MailPassword(ctx context.Context) (string, error) {
	return h.store.Secret(ctx, mailPassword)
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
