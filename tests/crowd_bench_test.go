package tests

import (
	"fmt"
	"io"
	"net/http"
	"runtime"
	"slices"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"idleember/client"
	"idleember/core/access"
	"idleember/core/site"
	"idleember/tests/rig"
)

// BenchmarkCrowd has 1,000 boards connected, of which 100 send a reading a second, and 200 consoles open; then one
// board more floods, with 50 messages on the way at all times. It tells how long the others' acknowledgements take
// before and meanwhile, what came of the flood, and the memory of both ends.
func BenchmarkCrowd(b *testing.B) {
	const boards, busy, consoles = 1000, 100, 200
	x := newBencher(b, false, boards)
	owner, err := client.New("http://"+x.s.HTTP, "")
	require.NoError(b, err)
	_, err = owner.SetUpWithResponse(b.Context(), client.Setup{Code: x.s.People.SetupCode(), Name: "Studio",
		Zone: "Europe/Vienna", Account: "mo", Password: rig.Password})
	require.NoError(b, err)
	_, key, err := x.s.Hub.AddDevice(b.Context(), access.HubActor(), site.Device{ID: "flood", Name: "Flood",
		Place: "Studio", NewSignals: true})
	require.NoError(b, err)
	list := x.publishers(boards)
	var events atomic.Int64
	token, screens := "", http.DefaultClient
	for i := range consoles {
		if i%20 == 0 { // people at computers of their own
			made, err := owner.AddTokenWithResponse(b.Context(), client.AddTokenJSONRequestBody{Name: fmt.Sprint("consoles ", i),
				Scopes: []client.Scope{client.ScopeRead}})
			require.NoError(b, err)
			token, screens = made.JSON201.Token, rig.From(fmt.Sprintf("127.0.1.%d", i/20+1))
		}
		q, err := http.NewRequestWithContext(b.Context(), "GET", "http://"+x.s.HTTP+"/api/v1/live?values=true", nil)
		require.NoError(b, err)
		q.Header.Set("Authorization", "Bearer "+token)
		resp, err := screens.Do(q)
		require.NoError(b, err)
		go func() {
			defer func() { _ = resp.Body.Close() }()
			buf := make([]byte, 64<<10)
			for {
				n, err := resp.Body.Read(buf)
				events.Add(int64(n))
				if err == io.EOF || err != nil {
					return
				}
			}
		}()
	}
	for _, p := range list[:busy] {
		p.send(1, 1)
	}
	measure := func(n int) []time.Duration { return paced(list[:busy], n, time.Second/busy, func(int) {}) }
	p99 := func(took []time.Duration) time.Duration {
		slices.Sort(took)
		return took[len(took)*99/100]
	}
	measure(300)
	flood := dialPublisher(b, x.s.MQTT, "flood", key, "ember/flood/r/x")
	var before, during []time.Duration
	var flooded int
	var lasted time.Duration
	for range 8 { // in turns, since the disks of test machines have good and bad moments
		before = append(before, measure(300)...)
		stop, ended := make(chan struct{}), make(chan int)
		go func() {
			sent := 0
			for {
				select {
				case <-stop:
					ended <- sent
					return
				default:
					flood.send(50, 50)
					sent += 50
				}
			}
		}()
		begun := time.Now()
		during = append(during, measure(300)...)
		close(stop)
		flooded += <-ended
		lasted += time.Since(begun)
	}
	quiet, meanwhile, rate := p99(before), p99(during), float64(flooded)/lasted.Seconds()
	_ = flood.conn.Close()
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	b.ReportMetric(float64(quiet.Microseconds())/1000, "quiet-p99-ms")
	b.ReportMetric(float64(meanwhile.Microseconds())/1000, "flooded-p99-ms")
	b.ReportMetric(float64(meanwhile)/float64(quiet), "times")
	b.ReportMetric(rate, "flood-acks/s")
	b.ReportMetric(float64(m.HeapInuse+m.StackInuse)/1e6, "MB")
	b.ReportMetric(0, "ns/op")
	b.Logf("%s of events to %d consoles", fmt.Sprintf("%.1f MB", float64(events.Load())/1e6), consoles)
}
