package hub

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/core/alert"
	"idleember/core/site"
	"idleember/store"
)

// letter is what a link in a message says. It is signed, not secret: whoever holds it may look at one alert and acknowledge it,
// as far as the person may whom the route is for.
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
func (h *Hub) link(ctx context.Context, base string, r site.Route, n Notice) (string, error) {
	if n.N == 0 || n.Alert == "" {
		return base + "/alerts", nil
	}
	key, err := h.madeSecret(ctx, letterKey)
	if err != nil {
		return "", err
	}
	body := base64.RawURLEncoding.EncodeToString([]byte(raw(letter{Alert: n.Alert, N: n.N, Since: n.Since.UnixMilli(), Route: r.ID, Until: h.Time().Add(letterLife).Unix()})))
	return base + "/letter#" + body + "." + signed(key, body), nil
}

func signed(key, body string) string {
	mac := hmac.New(sha256.New, []byte(key))
	mac.Write([]byte("letter " + body))
	return base64.RawURLEncoding.EncodeToString(mac.Sum(nil))
}

// read checks a link's signature and age.
func (h *Hub) readLetter(ctx context.Context, link string) (l letter, err error) {
	key, err := h.madeSecret(ctx, letterKey)
	if err != nil {
		return l, err
	}
	body, mac, _ := strings.Cut(link, ".")
	b, err := base64.RawURLEncoding.DecodeString(body)
	if err != nil || !hmac.Equal([]byte(mac), []byte(signed(key, body))) || json.Unmarshal(b, &l) != nil {
		return l, &InvalidError{"link", "this link is not one of this hub's; open the console instead"}
	}
	if h.Time().Unix() > l.Until {
		return l, &InvalidError{"link", fmt.Sprintf("this link ended on %s; open the console instead", time.Unix(l.Until, 0).In(h.Site().Hub.Location()).Format("2 Jan 15:04"))}
	}
	return l, nil
}

// letterActor is who comes by a link: the person whom its route is for, as they are now; else whoever reads what the route carries.
// It is called in the loop.
func (h *Hub) letterActor(l letter, from string) (access.Actor, error) {
	r, ok := h.site.Routes[l.Route]
	if !ok {
		return access.Actor{}, &InvalidError{"link", "the route that this message came by was taken away; open the console instead"}
	}
	if r.Person != "" {
		h.people.mu.Lock()
		m, ok := h.people.members[r.Person]
		actor := h.actorOf(m, access.Person, from+" by a link")
		h.people.mu.Unlock()
		if !ok || !active(m, h.Time()) {
			return access.Actor{}, &InvalidError{"link", "the person whom this message was for is no longer of this household"}
		}
		return actor, nil
	}
	_, cfg, _, ok := h.engine.Alert(l.Alert)
	if !ok {
		return access.Actor{}, &NotFoundError{"alert", l.Alert, nil}
	}
	return access.Actor{Kind: access.Letter, ID: r.ID, Name: r.Name, From: from + " by a link", Sees: []string{alertObject(h.site, cfg).Name}}, nil
}

// Linked tells what a link in a message leads to, and changes nothing.
func (h *Hub) Linked(ctx context.Context, link, from string) (x shown.LinkedAlert, err error) {
	l, err := h.readLetter(ctx, link)
	if err != nil {
		return x, err
	}
	err = h.ask(ctx, func() error {
		x, err = h.linked(l, from)
		return err
	})
	return x, err
}

func (h *Hub) linked(l letter, from string) (x shown.LinkedAlert, err error) {
	a, err := h.letterActor(l, from)
	if err != nil {
		return x, err
	}
	v, cfg := h.alertView(l.Alert)
	s, _, _, _ := h.engine.Alert(l.Alert)
	if cfg == nil || access.May(a, access.Look, alertObject(h.site, cfg)) != nil {
		return x, &NotFoundError{"alert", l.Alert, nil}
	}
	v.Told = nil // whoever holds the link need not know who else was told
	x = shown.LinkedAlert{Alert: v, Name: h.site.Hub.Name, Zone: h.site.Hub.Zone, Past: v.N != l.N || s.Since.UnixMilli() != l.Since, Expires: time.Unix(l.Until, 0)}
	if p, ok := h.site.Place(v.Place); ok {
		x.Place = p.Name
	}
	return x, nil
}

// AcknowledgeLinked acknowledges the alert that a link in a message leads to.
func (h *Hub) AcknowledgeLinked(ctx context.Context, link, word, from string) (x shown.LinkedAlert, err error) {
	l, err := h.readLetter(ctx, link)
	if err != nil {
		return x, err
	}
	var a access.Actor
	err = h.ask(ctx, func() error {
		if a, err = h.letterActor(l, from); err != nil {
			return err
		}
		if x, err = h.linked(l, from); err == nil && x.Past {
			err = &InvalidError{"link", "what this message told of is over; it came again since, and another message told of that"}
		}
		return err
	})
	if err != nil || x.Alert.Phase == alert.Acknowledged { // somebody else did
		return x, err
	}
	if _, err := h.ActOnAlerts(ctx, a, AlertAction{IDs: []string{l.Alert}, Event: alert.Acknowledge, Word: word}); err != nil {
		return x, err
	}
	return h.Linked(ctx, link, from)
}

// madeSecret is a secret that the hub makes for itself the first time it is needed.
func (h *Hub) madeSecret(ctx context.Context, name string) (string, error) {
	h.making.Lock()
	defer h.making.Unlock()
	key, err := h.store.Secret(ctx, own, name)
	if err != nil || key != "" {
		return key, err
	}
	key = secret(32)
	return key, h.store.Do(ctx, store.SaveSecret(own, name, key))
}
