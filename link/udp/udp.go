// Package udp is the link over datagrams. A board sends one text line a datagram with its key,
//
//	k=<key> temperature=21.4 is.fan=on t=1795413600000
//
// and gets datagrams back on the address that it sent from. A controller that cannot send a key is known by the address
// that its owner entered, and its text is taken apart by its mapping.
package udp

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"sync"
	"time"

	"idleember/core/mapping"
	"idleember/core/reading"
	"idleember/core/site"
	"idleember/hub"
	"idleember/link"
)

const (
	maxDatagram  = 1500
	problemsWait = 10 * time.Second // between two problems told to a board
)

// Server takes datagrams. Use Listen to get one.
type Server struct {
	hub  *hub.Hub
	conn *net.UDPConn
	maps mapping.Cache
	done sync.WaitGroup

	mu    sync.Mutex
	peers map[string]*peer // by device; nil: closed
}

// peer is a device that was heard, or whose address is known.
type peer struct {
	device string
	addr   netip.AddrPort
	box    *hub.Mailbox
	stop   chan struct{}
	told   time.Time // when a problem was last told
}

// Listen starts taking datagrams on addr.
func Listen(h *hub.Hub, addr string) (*Server, error) {
	a, err := net.ResolveUDPAddr("udp", addr)
	if err != nil {
		return nil, err
	}
	conn, err := net.ListenUDP("udp", a)
	if err != nil {
		return nil, err
	}
	s := &Server{hub: h, conn: conn, peers: map[string]*peer{}}
	s.done.Add(2)
	go s.read()
	go s.watch()
	return s, nil
}

// Addr is the address that the server listens on.
func (s *Server) Addr() net.Addr { return s.conn.LocalAddr() }

// Close stops taking datagrams.
func (s *Server) Close() {
	_ = s.conn.Close()
	s.mu.Lock()
	for _, p := range s.peers {
		close(p.stop)
	}
	s.peers = nil
	s.mu.Unlock()
	s.done.Wait()
}

func (s *Server) read() {
	defer s.done.Done()
	buf := make([]byte, maxDatagram+1)
	for {
		n, from, err := s.conn.ReadFromUDPAddrPort(buf)
		if err != nil {
			if errors.Is(err, net.ErrClosed) {
				return
			}
			continue // a peer's port was closed
		}
		s.take(buf[:n], netip.AddrPortFrom(from.Addr().Unmap(), from.Port()))
	}
}

// take finds the device that a datagram is of and hands it to the hub.
func (s *Server) take(datagram []byte, from netip.AddrPort) {
	payload := append([]byte(nil), datagram...)
	key, named, faults, err := reading.Line(payload)
	device := ""
	if key != "" {
		device, _ = s.hub.Find(key)
		payload = redacted(payload, key)
	} else {
		device = s.byAddress(from)
	}
	if device == "" || s.hub.Site().Devices[device].Link.Kind != site.UDP && key == "" {
		return // whoever it is gets no answer, so that nobody can make the hub send to others
	}
	p := s.peer(device, from)
	if p == nil || s.hub.Allow(device) > 0 {
		return
	}
	d := hub.Arrival{Session: session(device, from), Topic: "udp", Payload: payload}
	switch mapped := s.maps.For(s.hub.Site(), device).Take("", datagram); {
	case mapped.Matched && len(mapped.Readings)+len(mapped.Reports) > 0:
		d.Mapped(mapped)
	case len(payload) > maxDatagram:
		d.Faults = append(d.Faults, fmt.Sprintf("the datagram is longer than %d bytes; send less at a time", maxDatagram))
	case err != nil:
		d.Faults = append(d.Faults, err.Error())
	default:
		d.Values(named, faults)
	}
	s.hub.Deliver(d)
}

func session(device string, from netip.AddrPort) hub.Session {
	return hub.Session{Device: device, ID: "udp-" + device, Link: "udp", Client: "udp", From: from.Addr().String(),
		Expires: true}
}

// redacted takes the key out of what is shown in the traffic.
func redacted(payload []byte, key string) []byte {
	return bytes.ReplaceAll(payload, []byte("k="+key), []byte("k=…"))
}

// byAddress finds the device whose owner entered the address that a datagram came from.
func (s *Server) byAddress(from netip.AddrPort) string {
	for id, d := range s.hub.Site().Devices {
		if d.Link.Kind == site.UDP && d.Link.Address != "" && d.Active() {
			if a, err := netip.ParseAddrPort(d.Link.Address); err == nil && a.Addr().Unmap() == from.Addr() &&
				(a.Port() == from.Port() || a.Port() == 0) {
				return id
			}
		}
	}
	return ""
}

// peer returns the books of a device, with the address that it is heard from.
func (s *Server) peer(device string, from netip.AddrPort) *peer {
	s.mu.Lock()
	p := s.peers[device]
	if p != nil {
		p.addr = from
	}
	closed := s.peers == nil
	s.mu.Unlock()
	if p != nil || closed {
		return p
	}
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	box, err := s.hub.Attach(ctx, device)
	if err != nil {
		return nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if p := s.peers[device]; p != nil || s.peers == nil {
		s.hub.Detach(box)
		return p
	}
	p = &peer{device: device, addr: from, box: box, stop: make(chan struct{})}
	s.peers[device] = p
	s.done.Add(1)
	go s.drain(p)
	return p
}

// watch opens the books of devices whose address is known, so that they can be told before they were heard.
func (s *Server) watch() {
	defer s.done.Done()
	for {
		changed := s.hub.Changed()
		for id, d := range s.hub.Site().Devices {
			if d.Link.Kind == site.UDP && d.Link.Address != "" && d.Active() {
				if a, err := netip.ParseAddrPort(d.Link.Address); err == nil {
					s.peer(id, a)
				}
			}
		}
		s.mu.Lock()
		closed := s.peers == nil
		s.mu.Unlock()
		if closed {
			return
		}
		select {
		case <-changed:
		case <-time.After(time.Second):
		}
	}
}

// drain sends what the hub wants of a device to where it was last heard from.
func (s *Server) drain(p *peer) {
	defer s.done.Done()
	defer s.hub.Detach(p.box)
	for {
		select {
		case <-p.box.Ready():
		case <-p.stop:
			return
		}
		post := p.box.Take()
		now := s.hub.Time()
		controls := s.hub.Site().Controls
		for _, w := range post.Wants {
			c := controls[w.Control]
			text := mapping.Payload(c, w.Value, now)
			if !c.Target.Set() {
				text = []byte(w.Raw + "=" + string(text))
			}
			s.send(p, text)
		}
		for _, x := range post.Mirrors {
			s.send(p, []byte(link.Copy(x)))
		}
		if post.Beat > 0 {
			s.send(p, []byte(fmt.Sprintf("lease=%g", post.Beat.Seconds())))
		}
		if n := len(post.Problems); n > 0 && now.Sub(p.told) > problemsWait &&
			s.hub.Site().Devices[p.device].Link.Address == "" {
			p.told = now
			s.send(p, []byte("problem="+post.Problems[n-1].Reason))
		}
		if post.Ended {
			s.mu.Lock()
			if s.peers[p.device] == p {
				delete(s.peers, p.device)
			}
			s.mu.Unlock()
			s.hub.Offline(session(p.device, p.addr), "it has a new key or was taken away", true)
			return
		}
	}
}

func (s *Server) send(p *peer, text []byte) {
	s.mu.Lock()
	to := p.addr
	s.mu.Unlock()
	if _, err := s.conn.WriteToUDPAddrPort(text, to); err != nil {
		s.hub.Failed(p.device, "udp", to.String(), err.Error())
		return
	}
	s.hub.Sent(p.device, "udp", to.String(), text, "sent; datagrams are not acknowledged")
}
