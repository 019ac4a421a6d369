package post

import (
	"context"
	"crypto/ecdh"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/netip"
	"net/url"
	"strings"

	webpush "github.com/SherClockHolmes/webpush-go"

	"idleember/core/site"
	"idleember/elsewhere"
	"idleember/hub"
	"idleember/store"
)

// push carries notices to installed consoles (RFC 8030), encrypted for them alone (RFC 8291), signed by the hub (RFC
// 8292).
type push struct{ post *Post }

// ttl is how long a push service keeps what a phone cannot take now.
const ttl = 12 * 3600

func newPushKeys() (k keyPair, err error) {
	k.Private, k.Public, err = webpush.GenerateVAPIDKeys()
	return k, err
}

// checkPush says what is wrong with a subscription (RFC 8030, RFC 8291): a service is spoken to by HTTPS, and is out of
// the house.
func checkPush(s store.Subscription, inside bool) error {
	u, err := url.Parse(s.Endpoint)
	if err != nil || u.Host == "" || u.User != nil || u.Scheme != "https" && u.Scheme != "http" {
		return errors.New("this is no address of a push service")
	}
	if !inside {
		host := strings.TrimSuffix(strings.ToLower(u.Hostname()), ".")
		ip, err := netip.ParseAddr(host)
		switch {
		case u.Scheme != "https":
			return errors.New("a push service is spoken to by https alone")
		case err == nil && elsewhere.Inner(ip), err != nil && (!strings.Contains(host, ".") ||
			strings.HasSuffix(host, ".local") || strings.HasSuffix(host, ".localhost") || strings.HasSuffix(host, ".home.arpa")):
			return fmt.Errorf("%s is an address in the house, and a push service is not", host)
		}
	}
	point, err := base64.RawURLEncoding.DecodeString(strings.TrimRight(s.P256dh, "="))
	if err == nil {
		_, err = ecdh.P256().NewPublicKey(point)
	}
	if err != nil {
		return errors.New("the console's key is no point of P-256; let it subscribe again")
	}
	if auth, err := base64.RawURLEncoding.DecodeString(strings.TrimRight(s.Auth, "=")); err != nil || len(auth) != 16 {
		return errors.New("the console's secret is not of 16 bytes; let it subscribe again")
	}
	return nil
}

func (p push) send(ctx context.Context, r site.Route, n hub.Notice) (string, error) {
	if !p.post.house.Site().Messaging.Push {
		return "", errors.New("pushes are switched off; they need the internet, and an owner switches them on under Alerts")
	}
	to, err := p.post.store.Subscriptions(ctx, r.Person)
	if err != nil {
		return "", err
	}
	if len(to) == 0 {
		return "", fmt.Errorf("%s has no console that takes pushes; open Settings on the phone, and let it", r.Person)
	}
	keys, err := p.post.pushKeys(ctx)
	if err != nil {
		return "", err
	}
	body, err := json.Marshal(map[string]string{"title": subject(n), "body": clip(strings.Join(pushLines(n), "\n"), 900),
		"tag": n.Alert, "link": n.Link, "severity": string(n.Severity)})
	if err != nil {
		return "", fmt.Errorf("the message cannot be written: %w", err)
	}
	urgency := webpush.UrgencyNormal
	if urgent(n) {
		urgency = webpush.UrgencyHigh
	}
	var answers, troubles []string
	gone := 0
	for _, s := range to {
		resp, err := webpush.SendNotificationWithContext(ctx, body, &webpush.Subscription{Endpoint: s.Endpoint,
			Keys: webpush.Keys{Auth: s.Auth, P256dh: s.P256dh}},
			&webpush.Options{HTTPClient: elsewhere.Client(r.Inside), Subscriber: p.sender(), VAPIDPublicKey: keys.Public,
				VAPIDPrivateKey: keys.Private, TTL: ttl, Urgency: urgency})
		if err != nil {
			troubles = append(troubles, oneLine(err.Error()))
			continue
		}
		said, _ := io.ReadAll(io.LimitReader(resp.Body, 200))
		_ = resp.Body.Close()
		answer := oneLine(resp.Status + " " + string(said))
		switch {
		case resp.StatusCode >= 200 && resp.StatusCode < 300:
			answers = append(answers, answer)
		case resp.StatusCode == http.StatusNotFound || resp.StatusCode == http.StatusGone: // the console was taken away
			gone++
			if err := p.post.store.Do(ctx, store.DropSubscription(s.Account, s.Endpoint)); err != nil {
				return "", err
			}
		default:
			troubles = append(troubles, answer)
		}
	}
	switch {
	case len(answers) > 0:
		return strings.Join(append(answers, troubles...), "; "), nil // one console that heard of it will do
	case gone == len(to):
		return "", fmt.Errorf("no console of %s takes pushes any more; open Settings on the phone, and let it", r.Person)
	}
	return "", errors.New(strings.Join(troubles, "; "))
}

// sender is who a push service may write to about the hub's pushes.
func (p push) sender() string {
	m := p.post.house.Site().Messaging
	if m.Mail.From != "" {
		return m.Mail.From
	}
	if strings.HasPrefix(m.Address, "https://") {
		return m.Address
	}
	return "nobody@idleember.invalid"
}

// pushLines are what fits on a phone: the first notice whole, what the others are about.
func pushLines(n hub.Notice) []string {
	out := lines(n)
	for _, o := range n.Others {
		out = append(out, subject(o))
	}
	return out
}

func clip(s string, most int) string {
	if r := []rune(s); len(r) > most {
		return string(r[:most-1]) + "…"
	}
	return s
}
