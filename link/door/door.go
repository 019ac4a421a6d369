// Package door lets connections in, so many from one address and so many in all, and shows out who only stands about.
//
// A connection waits while its other end has nothing to say for itself: it sent no request or did not say who it is.
// When there are too many, the one goes that waited longest, of the address that has most of them; what is at work
// stays. So whoever has something to say gets in, however many others say nothing, from his own address even. A part of
// the places is kept for addresses that the house knows.
package door

import (
	"cmp"
	"context"
	"errors"
	"net"
	"net/netip"
	"slices"
	"sync"
	"time"
)

// Limits of a Keeper.
type Limits struct {
	Each    int // connections from one address, of IPv6 from one network of 64 bits; 0: any number
	Waiting int // and of those that wait; 0: any number
	All     int // in all
	Kept    int // and of those, how many only addresses that were met may take
	// Own are addresses from which any number of others speak, as proxies: they are not counted one by one.
	Own []netip.Prefix
}

// Keeper counts the connections of some listeners together. Use New to make one.
type Keeper struct {
	limits Limits

	mu   sync.Mutex
	all  int
	from map[netip.Addr]*visitors
	met  map[netip.Addr]time.Time // addresses that are known, with when they were last met
}

// visitors are the connections of one address.
type visitors struct {
	count   int
	waiting []*Conn // those that wait, longest first
}

// Conn is a connection that was let in.
type Conn struct {
	net.Conn
	k     *Keeper
	at    netip.Addr
	waits bool
	gone  bool
}

// mostMet is how many addresses are remembered as known.
const mostMet = 1024

// New makes a keeper.
func New(l Limits) *Keeper {
	return &Keeper{limits: l, from: map[netip.Addr]*visitors{}, met: map[netip.Addr]time.Time{}}
}

// Guard returns a listener that accepts what the keeper lets in; what it does not is closed.
func (k *Keeper) Guard(l net.Listener) net.Listener { return &guarded{l, k} }

type guarded struct {
	net.Listener
	k *Keeper
}

// Accept implements net.Listener. It waits where the computer has no room for another connection.
func (g *guarded) Accept() (net.Conn, error) {
	for {
		nc, err := g.Listener.Accept()
		if err != nil {
			var at *net.OpError
			if errors.As(err, &at) && at.Temporary() { //nolint:staticcheck // there is no other way to tell
				g.k.makeRoom()
				time.Sleep(20 * time.Millisecond)
				continue
			}
			return nil, err
		}
		if c := g.k.enter(nc); c != nil {
			return c, nil
		}
		_ = nc.Close()
	}
}

// Meet tells that somebody whom the house knows speaks from an address.
func (k *Keeper) Meet(address string) {
	a, err := netip.ParseAddr(address)
	if err != nil {
		return
	}
	a = network(a)
	k.mu.Lock()
	defer k.mu.Unlock()
	if _, ok := k.met[a]; !ok && len(k.met) >= mostMet {
		oldest := netip.Addr{}
		for have, at := range k.met {
			if !oldest.IsValid() || at.Before(k.met[oldest]) {
				oldest = have
			}
		}
		delete(k.met, oldest)
	}
	k.met[a] = time.Now()
}

// Count is how many connections are open.
func (k *Keeper) Count() int {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.all
}

// network is what is counted of an address: itself, or its IPv6 network, of which one computer may have all addresses.
func network(a netip.Addr) netip.Addr {
	a = a.Unmap().WithZone("")
	if a.Is6() {
		if p, err := a.Prefix(64); err == nil {
			return p.Addr()
		}
	}
	return a
}

// enter lets a connection in, if need be in the place of one that waits; nil: there is no room.
func (k *Keeper) enter(nc net.Conn) *Conn {
	at := netip.Addr{}
	if a, err := netip.ParseAddrPort(nc.RemoteAddr().String()); err == nil {
		at = network(a.Addr())
	}
	c := &Conn{Conn: nc, k: k, at: at, waits: true}
	k.mu.Lock()
	v := k.from[at]
	if v == nil {
		v = &visitors{}
		k.from[at] = v
	}
	var out []*Conn
	ok := true
	if each, waiting := k.limits.Each, k.limits.Waiting; !k.own(at) && (each > 0 && v.count >= each || waiting > 0 &&
		len(v.waiting) >= waiting) {
		out, ok = k.show(out, v)
	}
	room := k.limits.All
	if _, known := k.met[at]; !known {
		room -= k.limits.Kept
	}
	if ok && k.all-len(out) >= room {
		out, ok = k.show(out, k.crowd())
	}
	if ok {
		v.count++
		v.waiting = append(v.waiting, c)
		k.all++
		k.from[at] = v
	}
	if v.count == 0 {
		delete(k.from, at)
	}
	k.mu.Unlock()
	for _, x := range out {
		_ = x.Conn.Close()
	}
	if !ok {
		return nil
	}
	return c
}

// own reports whether an address is one from which others speak.
func (k *Keeper) own(at netip.Addr) bool {
	return slices.ContainsFunc(k.limits.Own, func(p netip.Prefix) bool { return p.Contains(at) })
}

// crowd is who has most connections that wait.
func (k *Keeper) crowd() *visitors {
	var most *visitors
	for _, v := range k.from {
		if most == nil || cmp.Compare(len(v.waiting), len(most.waiting)) > 0 {
			most = v
		}
	}
	return most
}

// show takes the connection out of the books that waited longest, if one does.
func (k *Keeper) show(out []*Conn, v *visitors) ([]*Conn, bool) {
	if v == nil || len(v.waiting) == 0 {
		return out, false
	}
	c := v.waiting[0]
	k.leave(c)
	return append(out, c), true
}

// makeRoom ends a connection that waits, because the computer has no room for another.
func (k *Keeper) makeRoom() {
	k.mu.Lock()
	out, _ := k.show(nil, k.crowd())
	k.mu.Unlock()
	for _, x := range out {
		_ = x.Conn.Close()
	}
}

// leave takes a connection out of the books. The caller holds the lock.
func (k *Keeper) leave(c *Conn) {
	if c.gone {
		return
	}
	c.gone = true
	k.all--
	v := k.from[c.at]
	v.without(c)
	if v.count--; v.count == 0 {
		delete(k.from, c.at)
	}
}

func (v *visitors) without(c *Conn) {
	if i := slices.Index(v.waiting, c); i >= 0 {
		v.waiting = slices.Delete(v.waiting, i, i+1)
	}
}

// Busy says that a connection is at work, and not to be ended for others. Of none it says nothing.
func (c *Conn) Busy() { c.turn(false) }

// Waits says that a connection waits for its other end to say something.
func (c *Conn) Waits() { c.turn(true) }

func (c *Conn) turn(waits bool) {
	if c == nil {
		return
	}
	c.k.mu.Lock()
	defer c.k.mu.Unlock()
	if c.gone || c.waits == waits {
		return
	}
	c.waits = waits
	v := c.k.from[c.at]
	if v.without(c); waits {
		v.waiting = append(v.waiting, c)
	}
}

// Close implements net.Conn.
func (c *Conn) Close() error {
	c.k.mu.Lock()
	c.k.leave(c)
	c.k.mu.Unlock()
	return c.Conn.Close()
}

type key struct{}

// In returns a context that has a connection with it.
func In(ctx context.Context, nc net.Conn) context.Context {
	return context.WithValue(ctx, key{}, Of(nc))
}

// From returns the connection of a context; nil: it has none.
func From(ctx context.Context) *Conn {
	c, _ := ctx.Value(key{}).(*Conn)
	return c
}

// Of returns the connection of this package that is within another one, as TLS is around it; nil: none is.
func Of(nc net.Conn) *Conn {
	for nc != nil {
		if c, ok := nc.(*Conn); ok {
			return c
		}
		within, ok := nc.(interface{ NetConn() net.Conn })
		if !ok {
			return nil
		}
		nc = within.NetConn()
	}
	return nil
}
