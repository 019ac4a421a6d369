package mqtt

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/mochi-mqtt/server/v2/packets"

	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/core/fault"
	"idleember/core/mailbox"
	"idleember/core/reading"
	"idleember/core/site"
	"idleember/core/words"
	"idleember/hub"
	"idleember/link/topics"
	"idleember/live"
)

// scriptUser is the user name of scripts; the password is a token. No device can have this id.
const scriptUser = site.ScriptUser

// script is a client that has a token: it may look at what its member may see, on the devices' topics, and ask for what
// its member may switch.
type script struct {
	actor func() (access.Actor, bool)
}

// connectScript answers a CONNECT with a token.
func (c *conn) connectScript(token string, pk packets.Packet) error {
	actor, err := c.b.tokens.Who(token, c.session.From)
	if err != nil || actor.Kind != access.Token {
		time.Sleep(500 * time.Millisecond) // slows guessing
		return c.reject(codeBadKey, 4, "the password must be a token; make one with `idleember tokens add`")
	}
	if c.client == "" {
		c.client = c.session.ID
	}
	c.script = &script{actor: func() (access.Actor, bool) { return c.b.tokens.Still(actor) }}
	c.sess = newSession()
	c.sess.take(c)
	c.beat = time.Duration(pk.Connect.Keepalive) * time.Second
	props := packets.Properties{}
	if c.version == 5 {
		if n := pk.Properties.ReceiveMaximum; n > 0 {
			c.window = min(c.window, int(n))
		}
		c.largest = int(pk.Properties.MaximumPacketSize)
		props.ReceiveMaximum, props.MaximumPacketSize, props.AssignedClientID = window, maxPacket, c.client
		props.SharedSubAvailableFlag, props.SubIDAvailableFlag = true, true // and not available
		props.SessionExpiryIntervalFlag = true                              // none is kept
	}
	c.mu.Lock()
	c.known = true
	c.mu.Unlock()
	c.send(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Connack}, Properties: props})
	go c.follow()
	return nil
}

// follow carries live events to the script until its connection or its right ends.
func (c *conn) follow() {
	w := c.b.hub.Watch("", c.script.actor)
	defer w.Close()
	for {
		events, _, reset, ok, changed := w.Next()
		if !ok {
			c.end(codeNotAuthorized, "the token has ended")
			return
		}
		if reset {
			for _, m := range c.script.current(c.b.hub) {
				c.sess.offer(m, false)
			}
		}
		for _, e := range events {
			for _, m := range eventMessages(e) {
				c.sess.offer(m, false)
			}
		}
		select {
		case <-changed:
		case <-c.done:
			return
		}
	}
}

func eventMessages(e *live.Event) []message {
	switch e.Kind {
	case "signal":
		var s shown.Signal
		if json.Unmarshal(e.Data(words.English), &s) == nil {
			return signalMessages(s)
		}
	case "control":
		var x shown.Control
		if json.Unmarshal(e.Data(words.English), &x) == nil {
			return controlMessages(x)
		}
	case "alert":
		var a shown.Alert
		if json.Unmarshal(e.Data(words.English), &a) == nil {
			return []message{alertMessage(a)}
		}
	}
	return nil
}

// alertMessage is an alert as JSON, below the hub's own name.
func alertMessage(a shown.Alert) message {
	body, _ := json.Marshal(struct { // as scripts have always read it
		ID      string     `json:"id"`
		Version string     `json:"version"`
		Config  site.Alert `json:"config"`
		shown.AlertState
		Says *struct{} `json:"says,omitempty"` // hides that of the state
	}{a.Config.ID, a.Version, a.Config, a.State, nil})
	return message{topic: topics.Own("hub") + "alert/" + a.Config.ID, payload: body, qos: 1, kept: true}
}

func signalMessages(s shown.Signal) []message {
	if s.State.Value == nil || s.State.Fresh != "live" {
		return nil
	}
	_, slug := site.Split(s.Config.ID)
	return []message{{topic: topics.Own(s.Config.Device) + "r/" + slug, payload: []byte(s.State.Value.String()), qos: 1,
		kept: true}}
}

func controlMessages(x shown.Control) (out []message) {
	_, slug := site.Split(x.Config.ID)
	add := func(what string, v *reading.Value) {
		if v != nil {
			out = append(out, message{topic: topics.Own(x.Config.Device) + what + "/" + slug, payload: []byte(v.String()),
				qos: 1, want: true, kept: true})
		}
	}
	add("is", x.State.Is)
	add("want", x.State.Want)
	return out
}

// current is everything that the script may see, as retained messages.
func (s *script) current(h *hub.Hub) (out []message) {
	actor, ok := s.actor()
	if !ok {
		return nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), connectWait)
	defer cancel()
	snap, err := h.Now(ctx, actor)
	if err != nil {
		return nil
	}
	snap = shown.In(snap, words.English, h.Time())
	for _, g := range snap.Signals {
		out = append(out, signalMessages(g)...)
	}
	for _, x := range snap.Controls {
		out = append(out, controlMessages(x)...)
	}
	for _, a := range snap.Alerts {
		out = append(out, alertMessage(a))
	}
	return out
}

// asked takes what a script publishes: it asks for a control. The acknowledgement comes when the want is on the disk.
func (c *conn) asked(pk packets.Packet) {
	qos := pk.FixedHeader.Qos
	if qos == 2 && !c.sess.received(pk.PacketID) {
		c.acknowledge(qos, pk.PacketID, codeSuccess, "")
		return
	}
	c.slots <- struct{}{}
	go func() {
		defer func() { <-c.slots }()
		code, why := c.ask(pk)
		if code == codeBusy {
			c.end(codeBusy, why)
			return
		}
		if code != codeSuccess {
			c.refuseAsk(pk.TopicName, why)
		}
		c.acknowledge(qos, pk.PacketID, code, why)
	}()
}

func (c *conn) ask(pk packets.Packet) (code byte, why string) {
	levels := strings.Split(pk.TopicName, "/")
	if len(levels) != 4 || levels[0] != "ember" || levels[2] != "ask" {
		return codeNotAuthorized, "a script publishes on ember/<device>/ask/<control> only"
	}
	if pk.FixedHeader.Retain {
		return codePayload, "an ask must not be retained; publish it without"
	}
	to, _, err := reading.Report(pk.Payload)
	if err != nil {
		return codePayload, err.Error()
	}
	actor, ok := c.script.actor()
	if !ok {
		return codeNotAuthorized, "the token has ended"
	}
	ctx, cancel := context.WithTimeout(context.Background(), writeWait)
	defer cancel()
	err = c.b.wish(ctx, actor, levels[1]+"."+levels[3], to)
	var denied *access.Denied
	var missing *fault.NotFoundError
	var invalid *fault.InvalidError
	switch {
	case err == nil:
		return codeSuccess, ""
	case errors.As(err, &denied):
		return codeNotAuthorized, err.Error()
	case errors.As(err, &missing):
		return codeTopic, err.Error()
	case errors.As(err, &invalid):
		return codePayload, err.Error()
	}
	return codeBusy, fmt.Sprintf("it cannot be taken now: %s", err)
}

// refuseAsk tells a script why its ask was refused, for clients that get no reason codes.
func (c *conn) refuseAsk(topic, why string) {
	payload, err := json.Marshal(mailbox.Problem{At: c.b.hub.Time().UTC(), Topic: topic, Reason: why})
	if err != nil {
		return
	}
	if levels := strings.Split(topic, "/"); len(levels) > 1 {
		c.sess.offer(message{topic: "ember/" + levels[1] + "/problem", payload: payload}, false)
	}
}

// wish is what a script asks for: a value by hand, or the word auto.
func (b *Broker) wish(ctx context.Context, a access.Actor, control string, to reading.Value) (err error) {
	if to.Kind == site.Text && to.Text == "auto" {
		_, err = b.hub.ToAuto(ctx, a, control)
		return err
	}
	_, err = b.hub.Switch(ctx, a, control, to, time.Time{})
	return err
}
