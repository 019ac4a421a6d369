// Package mqtt is the link over MQTT 3.1.1 and 5: a broker inside the hub for its devices.
//
// The packet codec is a library's; sessions are kept here, because a hub promises more than a broker: an
// acknowledgement comes only after the commit to the disk and does not hold up the messages behind it, a device sees
// and touches its own topics only, and a want is never queued but always the newest one. Sources: OASIS MQTT Version
// 3.1.1 (2014) and 5.0 (2019).
package mqtt

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"math"
	"net"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/coder/websocket"

	"idleember/core/access"
	"idleember/core/mapping"
	"idleember/core/site"
	"idleember/hub"
	"idleember/link/door"
	"idleember/link/topics"
)

// Limits on what a client may do.
const (
	maxConnect   = 4 << 10  // bytes of a CONNECT packet
	maxPacket    = 64 << 10 // bytes of any later packet
	maxDiscard   = 16 << 20 // bytes of a packet that is too long but still read to its end
	connectWait  = 10 * time.Second
	writeWait    = 20 * time.Second
	maxPerDevice = 8   // sessions, connected or not
	window       = 64  // messages of one client on their way to the disk
	queued       = 100 // messages waiting for one client
	sessionLife  = 24 * time.Hour
)

// Broker accepts devices. Use Listen to get one.
type Broker struct {
	hub       *hub.Hub
	tokens    Tokens
	log       *slog.Logger
	listeners []net.Listener
	maps      mapping.Cache
	next      atomic.Uint64
	open      sync.WaitGroup

	mu      sync.Mutex
	devices map[string]*device
	conns   map[*conn]struct{}
	closed  bool
}

// device is what the broker keeps of a device while it has sessions.
type device struct {
	id       string
	box      *hub.Mailbox
	wants    map[string]message // by topic: what is wanted now
	sessions map[string]*session
	stop     chan struct{}
}

// Options of Listen.
type Options struct {
	TCP string // address for plain MQTT
	// TLS is the address for MQTT over TLS, with its certificate; empty: none.
	TLS         string
	Certificate *tls.Config
	// Door counts the connections; nil: there may be any number.
	Door *door.Keeper
	// Tokens knows whom a token stands for.
	Tokens Tokens
	Log    *slog.Logger
}

// Tokens knows whom a token stands for, and whether it still does.
type Tokens interface {
	Who(token, from string) (access.Actor, error)
	Still(a access.Actor) (access.Actor, bool)
}

// AddressError says which of its addresses a broker could not listen on.
type AddressError struct {
	TLS  bool
	Addr string
	Err  error
}

func (e *AddressError) Error() string { return e.Err.Error() }

// Unwrap returns the reason.
func (e *AddressError) Unwrap() error { return e.Err }

// Listen starts a broker.
func Listen(h *hub.Hub, o Options) (*Broker, error) {
	if o.Door == nil {
		o.Door = door.New(door.Limits{All: math.MaxInt})
	}
	b := &Broker{hub: h, tokens: o.Tokens, log: o.Log, devices: map[string]*device{}, conns: map[*conn]struct{}{}}
	plain, err := net.Listen("tcp", o.TCP)
	if err != nil {
		return nil, &AddressError{false, o.TCP, err}
	}
	b.listeners = append(b.listeners, o.Door.Guard(plain))
	if o.TLS != "" {
		secure, err := net.Listen("tcp", o.TLS)
		if err != nil {
			_ = plain.Close()
			return nil, &AddressError{true, o.TLS, err}
		}
		b.listeners = append(b.listeners, tls.NewListener(o.Door.Guard(secure), o.Certificate))
	}
	for _, l := range b.listeners {
		b.open.Add(1)
		go b.accept(l)
	}
	return b, nil
}

// Addr is the address that the broker listens on.
func (b *Broker) Addr() net.Addr { return b.listeners[0].Addr() }

// SecureAddr is the address that it listens on with TLS, empty where it does not.
func (b *Broker) SecureAddr() string {
	if len(b.listeners) < 2 {
		return ""
	}
	return b.listeners[1].Addr().String()
}

// ServeHTTP speaks MQTT over a WebSocket (MQTT 5, section 6), for boards and pages behind what lets only HTTP through.
func (b *Broker) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	ws, err := websocket.Accept(w, r, &websocket.AcceptOptions{Subprotocols: []string{"mqtt"}})
	if err != nil {
		return // it has answered
	}
	if ws.Subprotocol() != "mqtt" {
		_ = ws.Close(websocket.StatusPolicyViolation, "ask for the subprotocol mqtt")
		return
	}
	ws.SetReadLimit(maxPacket + 5)
	nc := &webConn{Conn: websocket.NetConn(context.WithoutCancel(r.Context()), ws, websocket.MessageBinary),
		from: r.RemoteAddr}
	if c := b.admit(nc, door.From(r.Context())); c != nil {
		c.serve()
	}
}

// webConn is a WebSocket with the address of who is at its other end.
type webConn struct {
	net.Conn
	from string
}

// RemoteAddr implements net.Conn.
func (c *webConn) RemoteAddr() net.Addr { return webAddr(c.from) }

type webAddr string

func (a webAddr) Network() string { return "websocket" }
func (a webAddr) String() string  { return string(a) }

// ended reports whether the broker was closed.
func (b *Broker) ended() bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.closed
}

// Close ends all connections and waits until they are gone.
func (b *Broker) Close() {
	b.mu.Lock()
	b.closed = true
	conns := make([]*conn, 0, len(b.conns))
	for c := range b.conns {
		conns = append(conns, c)
	}
	b.mu.Unlock()
	for _, l := range b.listeners {
		_ = l.Close()
	}
	for _, c := range conns {
		c.end(codeShuttingDown, "the hub is stopping")
	}
	b.open.Wait()
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, d := range b.devices {
		close(d.stop)
		b.hub.Detach(d.box)
	}
	b.devices = map[string]*device{}
}

func (b *Broker) accept(l net.Listener) {
	defer b.open.Done()
	for {
		nc, err := l.Accept()
		if err != nil {
			if errors.Is(err, net.ErrClosed) {
				return
			}
			time.Sleep(50 * time.Millisecond)
			continue
		}
		if c := b.admit(nc, door.Of(nc)); c != nil {
			go c.serve()
		}
	}
}

// admit enters a connection in the books, unless the broker was closed. Until it says who it is it waits at the door.
func (b *Broker) admit(nc net.Conn, at *door.Conn) *conn {
	at.Waits()
	c := newConn(b, nc, at)
	b.mu.Lock()
	closed := b.closed
	if !closed {
		b.conns[c] = struct{}{}
		b.open.Add(1)
	}
	b.mu.Unlock()
	if closed {
		_ = nc.Close()
		return nil
	}
	return c
}

// join makes or resumes the session of a device's client, ends the connection that it may still have, and returns it.
func (b *Broker) join(ctx context.Context, c *conn, clean bool) (s *session, resumed bool, err error) {
	for range 10 {
		s, resumed, err = b.tryJoin(ctx, c, clean)
		if !errors.Is(err, errGone) {
			break
		}
	}
	return s, resumed, err
}

// errGone says that a device's last session ended between two looks at the books.
var errGone = errors.New("the device's books were closed meanwhile; try again")

func (b *Broker) tryJoin(ctx context.Context, c *conn, clean bool) (s *session, resumed bool, err error) {
	b.mu.Lock()
	d := b.devices[c.device]
	b.mu.Unlock()
	if d == nil {
		box, err := b.hub.Attach(ctx, c.device)
		if err != nil {
			return nil, false, err
		}
		fresh := &device{id: c.device, box: box, wants: map[string]message{}, sessions: map[string]*session{},
			stop: make(chan struct{})}
		b.mu.Lock()
		if d = b.devices[c.device]; d == nil && !b.closed {
			d = fresh
			b.devices[c.device] = d
			b.empty(d)
			go b.drain(d)
		} else {
			b.hub.Detach(box)
		}
		b.mu.Unlock()
	}
	s, old, resumed, err := b.enter(d, c, clean)
	if old != nil {
		b.hub.TakenOver(old.session)
		old.end(codeTakenOver, "the same client id connected again")
	}
	return s, resumed, err
}

// enter puts a connection into the device's books and returns the one that it takes the place of.
func (b *Broker) enter(d *device, c *conn, clean bool) (s *session, old *conn, resumed bool, err error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.closed || d == nil {
		return nil, nil, false, hub.ErrStopped
	}
	if b.devices[d.id] != d {
		return nil, nil, false, errGone
	}
	s = d.sessions[c.client]
	resumed = s != nil && !clean && !s.expired()
	if s == nil {
		if err := d.makeRoom(); err != nil {
			return nil, nil, false, err
		}
	}
	if !resumed {
		before := s
		if before != nil {
			before.ended()
		}
		s = newSession()
		if before != nil {
			s.conn = before.conn // to be taken over
		}
		d.sessions[c.client] = s
	}
	return s, s.take(c), resumed, nil
}

// makeRoom drops the session that was left longest ago where a device has too many.
func (d *device) makeRoom() error {
	if len(d.sessions) < maxPerDevice {
		return nil
	}
	oldest, at := "", time.Now()
	for id, s := range d.sessions {
		if left, away := s.away(); away && left.Before(at) {
			oldest, at = id, left
		}
	}
	if oldest == "" {
		return fmt.Errorf("%s has %d connections already; close some, or give each board a device of its own", d.id,
			len(d.sessions))
	}
	d.sessions[oldest].ended()
	delete(d.sessions, oldest)
	return nil
}

// leave notes that a connection ended; its session stays only where the client asked for that.
func (b *Broker) leave(c *conn) {
	b.mu.Lock()
	defer b.mu.Unlock()
	d := b.devices[c.device]
	if d == nil || c.sess == nil {
		return
	}
	if c.sess.release(c) && c.keep == 0 && d.sessions[c.client] == c.sess {
		delete(d.sessions, c.client)
	}
	for id, s := range d.sessions {
		if s.expired() {
			delete(d.sessions, id)
		}
	}
	if len(d.sessions) == 0 {
		delete(b.devices, c.device)
		close(d.stop)
		b.hub.Detach(d.box)
	}
}

// drain carries what the hub puts in a device's mailbox to the device's sessions.
func (b *Broker) drain(d *device) {
	for {
		select {
		case <-d.box.Ready():
			b.mu.Lock()
			b.empty(d)
			b.mu.Unlock()
		case <-d.stop:
			return
		}
	}
}

func (b *Broker) empty(d *device) {
	post := d.box.Take()
	now, own := b.hub.Time(), topics.Own(d.id)
	controls := b.hub.Site().Controls
	for _, w := range post.Wants {
		cfg, ok := controls[w.Control]
		if !ok {
			continue
		}
		topic, keep := topics.Want(cfg)
		m := message{topic: topic, payload: mapping.Payload(cfg, w.Value, now), qos: 1, want: w.Pulse == "", kept: keep &&
			w.Pulse == "" && !w.Fleeting}
		switch {
		case w.Fleeting: // whoever subscribes next is told anew, when it is its turn
			delete(d.wants, topic)
		case w.Pulse == "":
			d.wants[topic] = m
		case w.Value != cfg.Safe:
			m.qos = 0 // at most once: no session keeps it for later, and none sends it twice
		}
		d.tell(b, m, true)
	}
	for _, x := range post.Mirrors {
		topic, payload := topics.Mirror(x)
		m := message{topic: topic, payload: payload, qos: 1, want: true, kept: true}
		d.wants[topic] = m
		d.tell(b, m, true)
	}
	for _, raw := range post.Gone {
		for topic, m := range d.wants {
			if strings.HasSuffix(topic, "/want/"+raw) || controlOf(controls, d.id, raw).Target.Topic == topic {
				delete(d.wants, topic)
				if m.kept {
					m.payload = nil // an empty message takes a kept one back
					d.tell(b, m, true)
				}
			}
		}
	}
	if post.Beat > 0 {
		d.tell(b, message{topic: own + "lease", payload: []byte(fmt.Sprintf("%g", post.Beat.Seconds()))}, false)
	}
	for _, p := range post.Problems {
		if payload, err := json.Marshal(p); err == nil {
			d.tell(b, message{topic: own + "problem", payload: payload}, false)
		}
	}
	if post.Ended {
		for _, s := range d.sessions {
			if c := s.current(); c != nil {
				go c.end(codeNotAuthorized, "the device has a new key or was taken away")
			}
		}
		d.sessions = map[string]*session{}
	}
}

func controlOf(controls map[string]site.Control, device, raw string) site.Control {
	for _, c := range controls {
		if c.Device == device && c.Raw == raw {
			return c
		}
	}
	return site.Control{}
}

// tell routes what the hub says to a device and notes it.
func (d *device) tell(b *Broker, m message, always bool) {
	n := d.route(m)
	result := fmt.Sprintf("sent to %d subscriptions", n)
	switch {
	case n == 1:
		result = "sent"
	case n == 0 && m.kept:
		result = "kept until the board subscribes"
	case n == 0:
		result = "no subscription to it"
	}
	if n > 0 || always {
		b.hub.Sent(d.id, "mqtt", m.topic, m.payload, result)
	}
}

// route gives a message to every session of the device that subscribed to it, and counts them. The caller holds the
// broker's lock.
func (d *device) route(m message) (n int) {
	for _, s := range d.sessions {
		if s.offer(m, false) {
			n++
		}
	}
	return n
}

// publish routes what a device published to its own other subscriptions.
func (b *Broker) publish(device string, m message) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if d := b.devices[device]; d != nil {
		d.route(m)
	}
}

// tellWants gives a session the current wants of its device, those of a filter where there is one. No newer want can
// overtake them: that would leave the device with the older one.
func (b *Broker) tellWants(device string, s *session, filter string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if d := b.devices[device]; d != nil {
		for _, m := range d.wants {
			if filter == "" || site.Matches(filter, m.topic) {
				s.offer(m, filter != "" && m.kept)
			}
		}
	}
}
