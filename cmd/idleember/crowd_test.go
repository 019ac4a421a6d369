package main

import (
	"context"
	"fmt"
	"io"
	"net"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/tests"
)

// crowd keeps connections open from many addresses: some say nothing, some half of something, some do not read what
// they asked for. Those that the hub ends come again. It returns when the first of each have been opened; stop ends
// them all.
func crowd(t *testing.T, p *process, addresses, each int) (stop func(), held *atomic.Int64) {
	slow := "GET /api/openapi.yaml HTTP/1.1\r\nHost: hub\r\n\r\n"
	kinds := []struct{ at, say string }{{p.mqtt, ""}, {p.mqtt, "\x10\x20\x00\x04MQ"}, {p.http, ""}, {p.http,
		"GET / HTTP/1.1\r\nHost: h"}, {p.http, slow + slow + slow + slow + slow + slow}}
	ctx, end := context.WithCancel(t.Context())
	held = &atomic.Int64{}
	var all, first sync.WaitGroup
	turns := time.NewTicker(2 * time.Millisecond) // who only dials all the time takes its own processor from the board
	for i := range addresses {
		from := &net.Dialer{LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 0, 1+byte(i/250), 1+byte(i%250))},
			Timeout: 2 * time.Second}
		for j := range each {
			kind := kinds[(i+j)%len(kinds)]
			first.Add(1)
			all.Go(func() {
				for told := false; ctx.Err() == nil; {
					if told {
						select {
						case <-turns.C:
						case <-ctx.Done():
							return
						}
					}
					c, err := from.DialContext(ctx, "tcp", kind.at)
					if err == nil {
						_ = c.(*net.TCPConn).SetReadBuffer(4096)
						_, _ = io.WriteString(c, kind.say)
						held.Add(1)
					}
					if !told {
						told = true
						first.Done()
					}
					if err != nil {
						continue
					}
					gone := context.AfterFunc(ctx, func() { _ = c.Close() })
					one := make([]byte, 1)
					if kind.say == slow+slow+slow+slow+slow+slow {
						for ctx.Err() == nil { // a byte now and then
							_ = c.SetReadDeadline(time.Now().Add(time.Minute))
							if _, err := c.Read(one); err != nil {
								break
							}
							select {
							case <-time.After(5 * time.Second):
							case <-ctx.Done():
							}
						}
					} else {
						_, _ = io.Copy(io.Discard, c)
					}
					gone()
					_ = c.Close()
					held.Add(-1)
				}
			})
		}
	}
	first.Wait()
	return func() { end(); all.Wait(); turns.Stop() }, held
}

// A board is heard as soon as ever while a crowd stands about at the limit of descriptors of the unit that is shipped.
// Whether it is twice as long at most is asked where all is measured, in pairs.
func TestABoardIsHeardInACrowd(t *testing.T) {
	addresses, each, limit := tests.Count(t, 20, 300), tests.Count(t, 30, 50), tests.Count(t, 512, 16384)
	p := newProcess(t)
	p.start("sh", "-c", fmt.Sprintf(`ulimit -n %d; exec "$@"`, limit), "sh")
	p.setUp()
	id, key := p.device("Kiln")
	board, err := p.board(id, key)
	require.NoError(t, err)
	measure := func() time.Duration {
		var took []time.Duration
		for i := range tests.Count(t, 20, 1000) + 1 {
			begun := time.Now()
			told := board.Publish("ember/kiln/r/chamber", 1, false, fmt.Sprint(i))
			require.True(t, told.WaitTimeout(20*time.Second) && told.Error() == nil, "it was not heard")
			if i > 0 { // the first waits for others, as little is going on
				took = append(took, time.Since(begun))
			}
			time.Sleep(5 * time.Millisecond)
		}
		slices.Sort(took)
		return took[len(took)*99/100]
	}
	var ratios []float64
	for range tests.Count(t, 1, 8) {
		quiet := measure()
		stop, held := crowd(t, p, addresses, each)
		flooded := measure()
		out, exit := p.cli("now")
		require.Zero(t, exit, out)
		fresh, err := p.board(id, key)
		require.NoError(t, err, "a board that comes meanwhile gets in")
		board.Disconnect(0)
		board = fresh
		t.Logf("99th percentile of an acknowledgement: quiet %s, with %d connections open %s",
			quiet.Round(100*time.Microsecond), held.Load(), flooded.Round(100*time.Microsecond))
		ratios = append(ratios, float64(flooded)/float64(quiet))
		stop()
	}
	slices.Sort(ratios)
	t.Logf("in the median %.2f times as long", (ratios[(len(ratios)-1)/2]+ratios[len(ratios)/2])/2)
	if len(ratios) > 1 {
		assert.LessOrEqual(t, (ratios[3]+ratios[4])/2, 2.0)
	}
}
