package door

import (
	"io"
	"net"
	"net/netip"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// pipe is a connection from an address.
type pipe struct {
	net.Conn
	from   string
	closed bool
}

func (p *pipe) RemoteAddr() net.Addr { return at(p.from) }
func (p *pipe) Close() error         { p.closed = true; return nil }

type at string

func (at) Network() string  { return "tcp" }
func (a at) String() string { return string(a) }

func TestWhoStandsAboutLongestMakesRoom(t *testing.T) {
	k := New(Limits{Each: 2, All: 10})
	come := func(from string) (*pipe, *Conn) {
		p := &pipe{from: from}
		return p, k.enter(p)
	}
	first, a := come("192.0.2.1:1")
	second, b := come("192.0.2.1:2")
	b.Busy()
	_, c := come("192.0.2.1:3")
	require.NotNil(t, c)
	assert.True(t, first.closed, "of the same address")
	assert.False(t, second.closed, "it is at work")
	c.Busy()
	_, none := come("192.0.2.1:4")
	assert.Nil(t, none, "all are at work")
	_, other := come("192.0.2.2:1")
	assert.NotNil(t, other, "another address is another matter")
	b.Waits()
	_, d := come("192.0.2.1:5")
	assert.NotNil(t, d)
	assert.True(t, second.closed)
	require.NoError(t, a.Close())
	require.NoError(t, a.Close())
	assert.Equal(t, 3, k.Count())
}

func TestTheCrowdMakesRoomForOthers(t *testing.T) {
	k := New(Limits{Each: 8, All: 10, Kept: 2})
	var crowd []*pipe
	for range 8 {
		p := &pipe{from: "192.0.2.1:1"}
		crowd = append(crowd, p)
		require.NotNil(t, k.enter(p))
	}
	require.NotNil(t, k.enter(&pipe{from: "192.0.2.2:1"}))
	assert.True(t, crowd[0].closed, "eight are for strangers")
	k.Meet("192.0.2.3")
	for range 2 {
		require.NotNil(t, k.enter(&pipe{from: "192.0.2.3:1"}))
	}
	assert.False(t, crowd[1].closed, "there are places for who is known")
	for _, c := range k.from {
		for len(c.waiting) > 0 {
			c.waiting[0].Busy()
		}
	}
	assert.Nil(t, k.enter(&pipe{from: "192.0.2.4:1"}))
	assert.Nil(t, k.enter(&pipe{from: "192.0.2.3:1"}), "all are at work")
	assert.NotContains(t, k.from, netip.MustParseAddr("192.0.2.4"))
}

func TestAnAddressIsANetworkAndAProxyIsMany(t *testing.T) {
	assert.Equal(t, network(netip.MustParseAddr("2001:db8:1:2::1")),
		network(netip.MustParseAddr("2001:db8:1:2:ffff::9%eth0")))
	assert.NotEqual(t, network(netip.MustParseAddr("2001:db8:1:2::1")), network(netip.MustParseAddr("2001:db8:1:3::1")))
	assert.Equal(t, network(netip.MustParseAddr("192.0.2.1")), network(netip.MustParseAddr("::ffff:192.0.2.1")))
	k := New(Limits{Each: 1, All: 10, Own: []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}})
	for range 5 {
		require.NotNil(t, k.enter(&pipe{from: "127.0.0.1:1"}))
	}
	assert.Equal(t, 5, k.Count())
	for i := range mostMet + 10 {
		k.Meet(netip.AddrFrom4([4]byte{10, 0, byte(i >> 8), byte(i)}).String())
	}
	k.Meet("nobody")
	assert.Len(t, k.met, mostMet)
}

// Whatever comes and goes, the books are right and no limit is passed.
func TestBooks(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		k := New(Limits{Each: 3, All: 8, Kept: 2})
		var open []*Conn
		for range rapid.IntRange(0, 80).Draw(t, "steps") {
			i := 0
			if len(open) > 0 {
				i = rapid.IntRange(0, len(open)-1).Draw(t, "which")
			}
			switch what := rapid.IntRange(0, 5).Draw(t, "what"); {
			case what < 3:
				if c := k.enter(&pipe{from: netip.AddrPortFrom(netip.AddrFrom4([4]byte{10, 0, 0,
					byte(rapid.IntRange(0, 4).Draw(t, "from"))}), 1).String()}); c != nil {
					open = append(open, c)
				}
			case len(open) == 0:
			case what == 3:
				open[i].Busy()
			case what == 4:
				open[i].Waits()
			default:
				_ = open[i].Close()
			}
			left, each, waits := 0, map[netip.Addr]int{}, map[netip.Addr]int{}
			for _, c := range open {
				if !c.gone {
					left++
					each[c.at]++
					if c.waits {
						waits[c.at]++
					}
				}
			}
			require.Equal(t, left, k.Count())
			require.LessOrEqual(t, left, 8)
			require.Len(t, k.from, len(each))
			for a, n := range each {
				require.LessOrEqual(t, n, 3)
				require.Equal(t, n, k.from[a].count)
				require.Len(t, k.from[a].waiting, waits[a])
			}
		}
	})
}

func TestAListenerLetsInWhatHasRoom(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	k := New(Limits{Each: 2, All: 2})
	g := k.Guard(l)
	var open sync.WaitGroup
	open.Go(func() {
		for {
			c, err := g.Accept()
			if err != nil {
				return
			}
			open.Go(func() {
				defer func() { _ = c.Close() }()
				if _, err := io.ReadFull(c, make([]byte, 1)); err == nil {
					Of(c).Busy()
					_, _ = c.Write([]byte("x"))
					_, _ = io.Copy(io.Discard, c)
				}
			})
		}
	})
	dial := func() net.Conn {
		c, err := net.Dial("tcp", l.Addr().String())
		require.NoError(t, err)
		require.NoError(t, c.SetDeadline(time.Now().Add(10*time.Second)))
		return c
	}
	silent := []net.Conn{dial(), dial()}
	for range 2 {
		c := dial()
		_, err = c.Write([]byte("x"))
		require.NoError(t, err)
		_, err = io.ReadFull(c, make([]byte, 1))
		require.NoError(t, err, "it gets in however many stand about")
		defer func() { _ = c.Close() }()
	}
	for _, c := range silent {
		_, err = c.Read(make([]byte, 1))
		require.Error(t, err, "shown out")
	}
	late := dial()
	_, err = late.Read(make([]byte, 1))
	require.Error(t, err, "both places are taken by who is at work")
	require.NoError(t, g.Close())
	_ = late.Close()
}
