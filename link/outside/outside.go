// Package outside is the link over MQTT brokers elsewhere, of which the hub is a client (MQTT 3.1.1).
//
// A message is acknowledged to the broker when it is on the disk. While the broker is away, what the hub wants waits;
// it is told anew when the connection is back.
package outside

import (
	"context"
	"fmt"
	"log/slog"
	"sync"
	"time"

	paho "github.com/eclipse/paho.mqtt.golang"

	"idleember/contract/shown"
	"idleember/core/mapping"
	"idleember/core/site"
	"idleember/elsewhere"
	"idleember/hub"
	"idleember/link"
	"idleember/link/topics"
)

const (
	name        = "outside"
	connectWait = 10 * time.Second
	publishWait = 10 * time.Second
	keepAlive   = 20 * time.Second
)

// Run holds a connection to every broker that a device uses, or that is told that the hub is there, until the context
// ends.
func Run(ctx context.Context, h *hub.Hub, log *slog.Logger) {
	link.Keep(ctx, h, func(s *site.Site) map[string]string {
		want := map[string]string{}
		for id, b := range s.Brokers {
			if devices := devicesOf(s, id); len(devices) > 0 || b.Alive != "" {
				password := h.Secret(site.Key{Kind: "broker", ID: id}, site.Password)
				want[id] = shown.Version([]any{b, password, fingerprints(s, devices)})
			}
		}
		return want
	}, func(ctx context.Context, id string) {
		c := &client{hub: h, log: log, broker: h.Site().Brokers[id], sessions: map[string]hub.Session{}}
		c.run(ctx)
	})
}

func devicesOf(s *site.Site, broker string) (out []string) {
	for id, d := range s.Devices {
		if d.Active() && d.Link.Kind == site.Outside && d.Link.Broker == broker {
			out = append(out, id)
		}
	}
	return out
}

func fingerprints(s *site.Site, devices []string) map[string]any {
	out := map[string]any{}
	for _, id := range devices {
		out[id] = []any{s.Devices[id].Link, mapping.For(s, id).Topics()}
	}
	return out
}

// client is the connection to one broker.
type client struct {
	hub    *hub.Hub
	log    *slog.Logger
	broker site.Broker
	maps   mapping.Cache

	mu       sync.Mutex
	sessions map[string]hub.Session // by device, of those with a presence of their own that are online
}

func (c *client) run(ctx context.Context) {
	wait := link.Backoff{First: time.Second, Most: time.Minute}
	for ctx.Err() == nil {
		lost, err := c.connected(ctx)
		if ctx.Err() != nil {
			return
		}
		why := ""
		if err != nil {
			why = "the broker " + c.broker.Name + " is away: " + link.Reason(err)
		}
		c.away(why)
		if lost { // it had worked
			wait.Worked()
		}
		if !link.Sleep(ctx, wait.Failed()) {
			return
		}
	}
}

// away tells that the broker and everybody behind it cannot be reached.
func (c *client) away(why string) {
	c.hub.SetBrokerState(c.broker.ID, hub.BrokerState{Since: c.hub.Time(), Why: why})
	for _, id := range devicesOf(c.hub.Site(), c.broker.ID) {
		c.hub.Offline(c.session(id), why, false)
	}
	c.mu.Lock()
	clear(c.sessions)
	c.mu.Unlock()
}

func (c *client) options() (*paho.ClientOptions, error) {
	password := c.hub.Secret(site.Key{Kind: "broker", ID: c.broker.ID}, site.Password)
	o, err := elsewhere.Options(c.broker, password, c.broker.ClientID)
	if err != nil {
		return nil, err
	}
	o.SetCleanSession(false).SetConnectTimeout(connectWait).SetKeepAlive(keepAlive).SetAutoAckDisabled(true).
		SetOrderMatters(true).SetResumeSubs(false).SetWriteTimeout(publishWait)
	if c.broker.Alive != "" {
		o.SetWill(c.broker.Alive, "offline", 1, true)
	}
	return o, nil
}

// connected holds one connection until it breaks or the context ends; worked says that there was one.
func (c *client) connected(ctx context.Context) (worked bool, err error) {
	o, err := c.options()
	if err != nil {
		return false, err
	}
	broken := make(chan error, 1)
	o.SetConnectionLostHandler(func(_ paho.Client, err error) { broken <- err })
	o.SetDefaultPublishHandler(func(_ paho.Client, m paho.Message) { c.take(m) })
	p := paho.NewClient(o)
	tok := p.Connect()
	if !tok.WaitTimeout(connectWait + time.Second) {
		p.Disconnect(0)
		return false, context.DeadlineExceeded
	}
	if tok.Error() != nil {
		return false, tok.Error()
	}
	defer p.Disconnect(250)
	if err := c.subscribe(p); err != nil {
		return true, err
	}
	if err := c.present(p, "online"); err != nil {
		return true, err
	}
	defer func() { _ = c.present(p, "offline") }() // where that does not arrive, the last will says so
	c.hub.SetBrokerState(c.broker.ID, hub.BrokerState{Connected: true, Since: c.hub.Time()})
	inner, stop := context.WithCancel(ctx)
	var writers sync.WaitGroup
	defer writers.Wait()
	defer stop()
	for _, id := range devicesOf(c.hub.Site(), c.broker.ID) {
		writers.Add(1)
		go func() {
			defer writers.Done()
			c.tell(inner, p, id)
		}()
	}
	select {
	case err := <-broken:
		return true, err
	case <-ctx.Done():
		for _, id := range devicesOf(c.hub.Site(), c.broker.ID) {
			c.hub.Offline(c.session(id), "the hub let go of the broker", true)
		}
		return true, nil
	}
}

// present tells those who look on elsewhere whether the hub is there.
func (c *client) present(p paho.Client, state string) error {
	if c.broker.Alive == "" {
		return nil
	}
	t := p.Publish(c.broker.Alive, 1, true, state)
	if !t.WaitTimeout(publishWait) {
		return context.DeadlineExceeded
	}
	return t.Error()
}

// subscribe asks for the topics of all devices. Readings are shared among the hubs of a group; who is there and what
// controls are concerns each of them.
func (c *client) subscribe(p paho.Client) error {
	filters := map[string]byte{}
	share := func(filter string) {
		if c.broker.Share != "" {
			filter = "$share/" + c.broker.Share + "/" + filter
		}
		filters[filter] = 1
	}
	s := c.hub.Site()
	for _, id := range devicesOf(s, c.broker.ID) {
		m := c.maps.For(s, id)
		own := topics.Own(id)
		share(own + "r")
		share(own + "r/+")
		filters[own+"is/+"] = 1
		for _, e := range m.Entries() {
			switch {
			case e.Source.Topic == "":
			case e.Control:
				filters[e.Source.Topic] = 1
			default:
				share(e.Source.Topic)
			}
		}
		if t := s.Devices[id].Link.Presence; t != nil {
			filters[t.Topic] = 1
		}
	}
	if len(filters) == 0 { // it is only told that the hub is there
		return nil
	}
	tok := p.SubscribeMultiple(filters, nil)
	if !tok.WaitTimeout(connectWait) {
		return context.DeadlineExceeded
	}
	if tok.Error() != nil {
		return tok.Error()
	}
	for filter, code := range tok.(*paho.SubscribeToken).Result() {
		if code >= 0x80 {
			c.log.Warn("a broker refuses a subscription", "broker", c.broker.ID, "filter", filter)
		}
	}
	return nil
}

func (c *client) session(device string) hub.Session {
	s := hub.Session{Device: device, ID: name + "-" + c.broker.ID + "-" + device, Link: name, Client: c.broker.Name,
		From: "broker " + c.broker.ID}
	s.Expires = c.hub.Site().Devices[device].Link.Presence == nil
	return s
}

// take hands a message to every device that it is of, and acknowledges it when all of that is on the disk.
func (c *client) take(m paho.Message) {
	s := c.hub.Site()
	now := c.hub.Time()
	var taken []topics.Taken
	for _, id := range devicesOf(s, c.broker.ID) {
		t := topics.Take(c.maps.For(s, id), id, m.Topic(), m.Payload(), now)
		t.Session = c.session(id)
		if t.Device != id || t.Code == topics.NotAuthorized && len(t.Faults) > 0 {
			continue // another's
		}
		if t.Online != nil {
			c.presence(id, m, *t.Online)
		}
		if m.Retained() && len(t.Readings) > 0 {
			t.Readings = nil
			c.hub.Noted(id, name, m.Topic(), m.Payload(), "an old message that the broker kept: not a reading of now")
		}
		if len(t.Readings)+len(t.Reports)+len(t.Faults) > 0 {
			taken = append(taken, t)
		}
	}
	if len(taken) == 0 {
		m.Ack()
		return
	}
	var left sync.WaitGroup
	failed := false
	var mu sync.Mutex
	for _, t := range taken {
		left.Add(1)
		t.Done = func(x hub.Result) {
			mu.Lock()
			failed = failed || x.Err != nil
			mu.Unlock()
			left.Done()
		}
		c.hub.Deliver(t.Arrival)
	}
	go func() {
		left.Wait()
		if !failed { // what could not be stored stays with the broker
			m.Ack()
		}
	}()
}

func (c *client) presence(device string, m paho.Message, online bool) {
	c.hub.Noted(device, name, m.Topic(), m.Payload(), "presence")
	s := c.session(device)
	c.mu.Lock()
	_, was := c.sessions[device]
	if online {
		c.sessions[device] = s
	} else {
		delete(c.sessions, device)
	}
	c.mu.Unlock()
	switch {
	case online && !was:
		c.hub.Online(s)
	case !online:
		c.hub.Offline(s, "its last will says that it is gone", false)
	}
}

// tell publishes what the hub wants of a device.
func (c *client) tell(ctx context.Context, p paho.Client, device string) {
	box, err := c.hub.Attach(ctx, device)
	if err != nil {
		return
	}
	defer c.hub.Detach(box)
	for {
		select {
		case <-box.Ready():
		case <-ctx.Done():
			return
		}
		post := box.Take()
		controls := c.hub.Site().Controls
		for _, w := range post.Wants {
			topic, keep := topics.Want(controls[w.Control])
			if keep && w.Fleeting { // what the broker kept before would hold for whoever comes next
				c.publish(ctx, p, device, topic, true, nil)
			}
			c.publish(ctx, p, device, topic, keep && w.Pulse == "" && !w.Fleeting, mapping.Payload(controls[w.Control], w.Value,
				c.hub.Time()))
		}
		for _, x := range post.Mirrors {
			topic, payload := topics.Mirror(x)
			c.publish(ctx, p, device, topic, true, payload)
		}
		for _, raw := range post.Gone {
			c.publish(ctx, p, device, topics.Own(device)+"want/"+raw, true, nil)
		}
		if post.Beat > 0 {
			c.publish(ctx, p, device, topics.Own(device)+"lease", false, []byte(fmt.Sprintf("%g", post.Beat.Seconds())))
		}
	}
}

// publish waits until the broker has taken a message, or the connection is gone: then it is told again with the next
// one.
func (c *client) publish(ctx context.Context, p paho.Client, device, topic string, keep bool, payload []byte) {
	tok := p.Publish(topic, 1, keep, payload)
	late := time.NewTimer(publishWait)
	defer late.Stop()
	select {
	case <-tok.Done():
	case <-late.C:
		c.hub.Failed(device, name, topic, "the broker has not acknowledged it; it is told again when the connection is back")
		return
	case <-ctx.Done():
		c.hub.Failed(device, name, topic, "the connection to the broker was lost; it is told again when it is back")
		return
	}
	if tok.Error() != nil {
		c.hub.Failed(device, name, topic, "not sent: "+link.Reason(tok.Error()))
		return
	}
	c.hub.Sent(device, name, topic, payload, "taken by the broker")
}
