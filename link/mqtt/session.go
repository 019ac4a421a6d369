package mqtt

import (
	"sync"
	"time"

	"github.com/mochi-mqtt/server/v2/packets"

	"idleember/core/site"
)

// message is something on its way to a client.
type message struct {
	topic   string
	payload []byte
	qos     byte
	want    bool // only the newest of its topic counts
	kept    bool // a fresh subscription gets it as a retained message
}

// session is what outlives a connection: subscriptions and what was not yet acknowledged.
type session struct {
	mu      sync.Mutex
	conn    *conn
	left    time.Time
	life    time.Duration // how long it outlives its connection
	subs    map[string]byte
	waiting []message
	flight  map[uint16]message
	nextID  uint16
	rec     map[uint16]bool // packet ids of QoS 2 messages that came in and are not yet released
}

func newSession() *session {
	return &session{subs: map[string]byte{}, flight: map[uint16]message{}, rec: map[uint16]bool{}}
}

// take gives the session to a connection and returns the one that it had.
func (s *session) take(c *conn) *conn {
	s.mu.Lock()
	defer s.mu.Unlock()
	old := s.conn
	s.conn, s.life = c, c.keep
	return old
}

// release notes that a connection ended and reports whether it was the session's.
func (s *session) release(c *conn) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.conn != c {
		return false
	}
	s.conn, s.left, s.life = nil, time.Now(), c.keep
	return true
}

func (s *session) current() *conn {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.conn
}

func (s *session) away() (time.Time, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.left, s.conn == nil
}

func (s *session) expired() bool {
	left, away := s.away()
	return away && time.Since(left) >= s.life
}

// resume sends again what was not acknowledged. Wants are left out: the caller sends the current ones.
func (s *session) resume() {
	s.mu.Lock()
	defer s.mu.Unlock()
	var again []message
	for _, m := range s.flight {
		if !m.want {
			again = append(again, m)
		}
	}
	for _, m := range s.waiting {
		if !m.want {
			again = append(again, m)
		}
	}
	s.flight, s.waiting = map[uint16]message{}, again
	s.push()
}

// offer sends a message where the session subscribed to it, and reports whether it did.
func (s *session) offer(m message, retained bool) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	qos, ok := byte(0), false
	for filter, q := range s.subs {
		if site.Matches(filter, m.topic) {
			qos, ok = max(qos, q), true
		}
	}
	if !ok {
		return false
	}
	m.qos = min(m.qos, qos)
	if m.qos == 0 {
		if s.conn != nil {
			s.conn.send(publishPacket(m, 0, retained))
		}
		return true
	}
	if retained && s.conn != nil { // sent out of turn: the window of a fresh subscription is open
		s.launch(m, true)
		return true
	}
	if m.want {
		for i, w := range s.waiting {
			if w.topic == m.topic {
				s.waiting = append(s.waiting[:i], s.waiting[i+1:]...)
				break
			}
		}
	}
	if len(s.waiting) >= queued {
		s.waiting = s.waiting[1:]
	}
	s.waiting = append(s.waiting, m)
	s.push()
	return true
}

// push sends as much as the client's window allows. The caller holds the lock.
func (s *session) push() {
	for s.conn != nil && len(s.waiting) > 0 && len(s.flight) < s.conn.window {
		m := s.waiting[0]
		s.waiting = s.waiting[1:]
		s.launch(m, false)
	}
}

func (s *session) launch(m message, retained bool) {
	for {
		s.nextID++
		if _, taken := s.flight[s.nextID]; s.nextID != 0 && !taken {
			break
		}
	}
	s.flight[s.nextID] = m
	s.conn.send(publishPacket(m, s.nextID, retained))
}

// acked takes the client's acknowledgement.
func (s *session) acked(id uint16) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.flight, id)
	s.push()
}

func (s *session) subscribe(filter string, qos byte) (isNew bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	_, had := s.subs[filter]
	s.subs[filter] = qos
	return !had
}

func (s *session) unsubscribe(filter string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	_, had := s.subs[filter]
	delete(s.subs, filter)
	return had
}

func (s *session) has(filter string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	_, ok := s.subs[filter]
	return ok
}

func (s *session) filters() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.subs)
}

func (s *session) hears(topic string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	for f := range s.subs {
		if site.Matches(f, topic) {
			return true
		}
	}
	return false
}

// received notes the packet id of a QoS 2 message and reports whether it is new.
func (s *session) received(id uint16) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.rec[id] {
		return false
	}
	s.rec[id] = true
	return true
}

func (s *session) released(id uint16) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.rec, id)
}

func publishPacket(m message, id uint16, retained bool) packets.Packet {
	return packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Publish, Qos: m.qos, Retain: retained},
		TopicName: m.topic, Payload: m.payload, PacketID: id}
}
