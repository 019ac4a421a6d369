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

	from  *session            // whose client published it, nil: the hub says it
	props *packets.Properties // of version 5, as its publisher sent them
	again bool                // it goes out as a retained message
}

// subscription is what a client asked for with a filter.
type subscription struct {
	qos     byte
	noLocal bool // not what this client publishes itself
}

// session is what outlives a connection: subscriptions and what was not yet acknowledged.
type session struct {
	mu      sync.Mutex
	conn    *conn
	left    time.Time
	life    time.Duration // how long it outlives its connection
	subs    map[string]subscription
	waiting []message
	fresh   map[string]message // by topic: what fresh subscriptions are still to get, before what waits
	order   []string           // of their topics
	will    *time.Timer        // tells the client's will when it fires
	over    bool               // another session is in its place
	flight  map[uint16]message
	nextID  uint16
	rec     map[uint16]bool // packet ids of QoS 2 messages that came in and are not yet released
}

func newSession() *session {
	return &session{subs: map[string]subscription{}, fresh: map[string]message{}, flight: map[uint16]message{},
		rec: map[uint16]bool{}}
}

// take gives the session to a connection and returns the one that it had.
func (s *session) take(c *conn) *conn {
	s.mu.Lock()
	defer s.mu.Unlock()
	old := s.conn
	s.conn, s.life = c, c.keep
	if s.will != nil {
		s.will.Stop() // it is back in time
		s.will = nil
	}
	return old
}

// testament has tell run after a delay, unless the client is back by then (MQTT 5, section 3.1.3.2.2). Where the
// session belongs to another connection already, nobody is to be told.
func (s *session) testament(delay time.Duration, tell func()) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.over {
		delay = 0
	}
	if s.conn == nil {
		s.will = time.AfterFunc(delay, tell)
	}
}

// ended tells the will at once where the session ends before its delay is over.
func (s *session) ended() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.over = true; s.will != nil {
		s.will.Reset(0)
	}
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
	s.flight, s.waiting, s.fresh, s.order = map[uint16]message{}, again, map[string]message{}, nil
	s.push()
}

// offer sends a message where the session subscribed to it, and reports whether it did.
func (s *session) offer(m message, retained bool) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	qos, ok := byte(0), false
	for filter, sub := range s.subs {
		if !(sub.noLocal && m.from == s) && site.Matches(filter, m.topic) {
			qos, ok = max(qos, sub.qos), true
		}
	}
	if !ok {
		return false
	}
	m.qos, m.again = min(m.qos, qos), retained
	if m.qos == 0 {
		if s.conn != nil {
			s.conn.send(publishPacket(m, 0))
		}
		return true
	}
	_, still := s.fresh[m.topic]
	if retained && s.conn != nil && !still {
		s.order = append(s.order, m.topic)
		still = true
	}
	if still { // the newer one, if it comes before the kept one could go out
		s.fresh[m.topic] = m
		s.push()
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
	for s.conn != nil && len(s.flight) < s.conn.window {
		switch {
		case len(s.order) > 0:
			topic := s.order[0]
			s.order = s.order[1:]
			s.launch(s.fresh[topic])
			delete(s.fresh, topic)
		case len(s.waiting) > 0:
			m := s.waiting[0]
			s.waiting = s.waiting[1:]
			s.launch(m)
		default:
			return
		}
	}
}

func (s *session) launch(m message) {
	for {
		s.nextID++
		if _, taken := s.flight[s.nextID]; s.nextID != 0 && !taken {
			break
		}
	}
	s.flight[s.nextID] = m
	s.conn.send(publishPacket(m, s.nextID))
}

// acked takes the client's acknowledgement.
func (s *session) acked(id uint16) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.flight, id)
	s.push()
}

func (s *session) subscribe(filter string, sub subscription) (isNew bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	_, had := s.subs[filter]
	s.subs[filter] = sub
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

func publishPacket(m message, id uint16) packets.Packet {
	pk := packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Publish, Qos: m.qos, Retain: m.again},
		TopicName: m.topic, Payload: m.payload, PacketID: id}
	if p := m.props; p != nil { // what must arrive unaltered (MQTT 5, section 3.3.2.3)
		pk.Properties = packets.Properties{PayloadFormat: p.PayloadFormat, PayloadFormatFlag: p.PayloadFormatFlag,
			ContentType: p.ContentType, ResponseTopic: p.ResponseTopic,
			CorrelationData: p.CorrelationData, User: p.User, MessageExpiryInterval: p.MessageExpiryInterval}
	}
	return pk
}
