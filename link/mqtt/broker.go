// Package mqtt is the link over MQTT 3.1.1 and 5: a broker inside the hub for its devices.
//
// The packet codec is a library's; sessions are kept here, because a hub promises more than a broker: an acknowledgement
// comes only after the commit to the disk and does not hold up the messages behind it, a device sees and touches its own
// topics only, and a want is never queued but always the newest one. Sources: OASIS MQTT Version 3.1.1 (2014) and 5.0 (2019).
package mqtt

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"sync"
	"sync/atomic"
	"time"

	"idleember/hub"
)

// Limits on what a client may do.
const (
	maxConnect     = 4 << 10  // bytes of a CONNECT packet
	maxPacket      = 64 << 10 // bytes of any later packet
	maxDiscard     = 16 << 20 // bytes of a packet that is too long but still read to its end
	connectWait    = 10 * time.Second
	writeWait      = 20 * time.Second
	maxConnections = 4096
	maxUnknown     = 128 // connections that have not said who they are
	maxPerDevice   = 8   // sessions, connected or not
	window         = 64  // messages of one client on their way to the disk
	queued         = 100 // messages waiting for one client
	sessionLife    = 24 * time.Hour
)

// Broker accepts devices. Use Listen to get one.
type Broker struct {
	hub      *hub.Hub
	log      *slog.Logger
	listener net.Listener
	unknown  chan struct{}
	next     atomic.Uint64
	open     sync.WaitGroup

	mu      sync.Mutex
	devices map[string]*device
	conns   map[*conn]struct{}
	closed  bool
}

// device is what the broker keeps of a device while it has sessions.
type device struct {
	id       string
	box      *hub.Mailbox
	retained map[string][]byte // want topics
	sessions map[string]*session
	stop     chan struct{}
}

// Listen starts a broker on addr.
func Listen(h *hub.Hub, addr string, log *slog.Logger) (*Broker, error) {
	l, err := net.Listen("tcp", addr)
	if err != nil {
		return nil, err
	}
	b := &Broker{hub: h, log: log, listener: l, unknown: make(chan struct{}, maxUnknown), devices: map[string]*device{}, conns: map[*conn]struct{}{}}
	b.open.Add(1)
	go b.accept()
	return b, nil
}

// Addr is the address that the broker listens on.
func (b *Broker) Addr() net.Addr { return b.listener.Addr() }

// Close ends all connections and waits until they are gone.
func (b *Broker) Close() {
	b.mu.Lock()
	b.closed = true
	conns := make([]*conn, 0, len(b.conns))
	for c := range b.conns {
		conns = append(conns, c)
	}
	b.mu.Unlock()
	_ = b.listener.Close()
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

func (b *Broker) accept() {
	defer b.open.Done()
	for {
		nc, err := b.listener.Accept()
		if err != nil {
			if errors.Is(err, net.ErrClosed) {
				return
			}
			time.Sleep(50 * time.Millisecond) // out of file descriptors, perhaps: let some end
			continue
		}
		c := newConn(b, nc)
		b.mu.Lock()
		full := b.closed || len(b.conns) >= maxConnections
		if !full {
			b.conns[c] = struct{}{}
			b.open.Add(1)
		}
		b.mu.Unlock()
		if full {
			_ = nc.Close()
			continue
		}
		select {
		case b.unknown <- struct{}{}:
			go c.serve()
		default: // too many that say nothing: this one goes, the known ones stay
			c.gone()
		}
	}
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
		fresh := &device{id: c.device, box: box, retained: map[string][]byte{}, sessions: map[string]*session{}, stop: make(chan struct{})}
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
		s = newSession(d)
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
		return fmt.Errorf("%s has %d connections already; close some, or give each board a device of its own", d.id, len(d.sessions))
	}
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
	prefix := "ember/" + d.id + "/"
	for _, w := range post.Wants {
		payload := []byte("off")
		if w.On {
			payload = []byte("on")
		}
		topic := prefix + "want/" + w.Raw
		d.retained[topic] = payload
		d.route(message{topic: topic, payload: payload, qos: 1, want: true})
	}
	if post.Beat > 0 {
		d.route(message{topic: prefix + "lease", payload: []byte(fmt.Sprintf("%g", post.Beat.Seconds()))})
	}
	for _, p := range post.Problems {
		if payload, err := json.Marshal(p); err == nil {
			d.route(message{topic: prefix + "problem", payload: payload})
		}
	}
	if post.Ended {
		for _, s := range d.sessions {
			if c := s.current(); c != nil {
				go c.end(codeNotAuthorized, "the device has a new key")
			}
		}
		d.sessions = map[string]*session{}
	}
}

// route gives a message to every session of the device that subscribed to it. The caller holds the broker's lock.
func (d *device) route(m message) {
	for _, s := range d.sessions {
		s.offer(m, false)
	}
}

// publish routes what a device published to its own other subscriptions.
func (b *Broker) publish(device string, m message) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if d := b.devices[device]; d != nil {
		d.route(m)
	}
}

// wants returns the current wants of a device as retained messages.
func (b *Broker) wants(device string) []message {
	b.mu.Lock()
	defer b.mu.Unlock()
	var out []message
	if d := b.devices[device]; d != nil {
		for topic, payload := range d.retained {
			out = append(out, message{topic: topic, payload: payload, qos: 1, want: true})
		}
	}
	return out
}
