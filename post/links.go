package post

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"strings"
	"time"

	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/core/alert"
	"idleember/core/fault"
	"idleember/core/site"
	"idleember/hub"
)

// letter is what a link in a message says. It is signed, not secret: whoever holds it may look at one alert and
// acknowledge it, as far as the person may whom the route is for.
type letter struct {
	Alert string `json:"a"`
	N     int64  `json:"n"` // of which time it was raised
	Since int64  `json:"s"` // when that was, in Unix ms: an alert that is made again under its id counts from 1 again
	Route string `json:"r"`
	Until int64  `json:"u"` // Unix seconds
}

const (
	letterKey  = "letter key"
	letterLife = 7 * 24 * time.Hour
)

// link is where a message leads: to a page with a button where the route may acknowledge.
func (p *Post) link(ctx context.Context, base string, r site.Route, n hub.Notice) (string, error) {
	if n.N == 0 || n.Alert == "" {
		return base + "/alerts", nil
	}
	key, err := p.house.OwnSecret(ctx, letterKey)
	if err != nil {
		return "", err
	}
	body := base64.RawURLEncoding.EncodeToString([]byte(raw(letter{Alert: n.Alert, N: n.N, Since: n.Since.UnixMilli(),
		Route: r.ID, Until: p.house.Time().Add(letterLife).Unix()})))
	return base + "/letter#" + body + "." + signed(key, body), nil
}

func signed(key, body string) string {
	mac := hmac.New(sha256.New, []byte(key))
	mac.Write([]byte("letter " + body))
	return base64.RawURLEncoding.EncodeToString(mac.Sum(nil))
}

// read checks a link's signature and age.
func (p *Post) readLetter(ctx context.Context, link string) (l letter, err error) {
	key, err := p.house.OwnSecret(ctx, letterKey)
	if err != nil {
		return l, err
	}
	body, mac, _ := strings.Cut(link, ".")
	b, err := base64.RawURLEncoding.DecodeString(body)
	if err != nil || !hmac.Equal([]byte(mac), []byte(signed(key, body))) || json.Unmarshal(b, &l) != nil {
		return l, fault.Invalid("link", "this link is not one of this hub's; open the console instead")
	}
	if p.house.Time().Unix() > l.Until {
		return l, fault.Invalid("link", "this link ended on %s; open the console instead", time.Unix(l.Until,
			0).In(p.house.Site().Hub.Location()).Format("2 Jan 15:04"))
	}
	return l, nil
}

// Linked tells what a link in a message leads to, and changes nothing.
func (p *Post) Linked(ctx context.Context, link, from string) (shown.LinkedAlert, error) {
	l, err := p.readLetter(ctx, link)
	if err != nil {
		return shown.LinkedAlert{}, err
	}
	x, _, err := p.linked(ctx, l, from)
	return x, err
}

// linked is where a letter leads, for the person whom its route is for, as they are now; else for whoever reads what
// the route carries.
func (p *Post) linked(ctx context.Context, l letter, from string) (x shown.LinkedAlert, a access.Actor, err error) {
	if a, err = p.house.Reader(l.Route, l.Alert, from+" by a link"); err != nil {
		return x, a, err
	}
	v, raised, err := p.house.AlertFor(ctx, a, l.Alert)
	if err != nil {
		return x, a, err
	}
	v.State.Told = nil // whoever holds the link need not know who else was told
	s := p.house.Site()
	x = shown.LinkedAlert{Alert: v, Name: s.Hub.Name, Zone: s.Hub.Zone, Past: v.State.N != l.N ||
		raised.UnixMilli() != l.Since, Expires: time.Unix(l.Until, 0)}
	if p, ok := s.Place(v.State.Place); ok {
		x.Place = p.Name
	}
	return x, a, nil
}

// AcknowledgeLinked acknowledges the alert that a link in a message leads to.
func (p *Post) AcknowledgeLinked(ctx context.Context, link, word, from string) (shown.LinkedAlert, error) {
	l, err := p.readLetter(ctx, link)
	if err != nil {
		return shown.LinkedAlert{}, err
	}
	x, a, err := p.linked(ctx, l, from)
	switch {
	case err != nil || x.Alert.State.Phase == alert.Acknowledged && !x.Past: // somebody else did
		return x, err
	case x.Past:
		return x, fault.Invalid("link", "what this message told of is over; it came again since, and another message told "+
			"of that")
	}
	if _, err := p.house.ActOnAlerts(ctx, a, hub.AlertAction{IDs: []string{l.Alert}, Event: alert.Acknowledge,
		Word: word}); err != nil {
		return x, err
	}
	return p.Linked(ctx, link, from)
}
