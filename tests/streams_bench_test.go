package tests

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"idleember/client"
	"idleember/tests/rig"
)

// BenchmarkStreams compares how many readings a second 20 boards get acknowledged, with 20 messages on the way each,
// alone and while 20 live streams are open, of the console's form and of the plain one; in turns, since test machines
// have good and bad moments.
func BenchmarkStreams(b *testing.B) {
	const boards, streams, flight, each = 20, 20, 20, 2000
	for name, form := range map[string]string{"consoles": "?values=true", "plain": ""} {
		b.Run(name, func(b *testing.B) {
			x := newBencher(b, false, boards)
			owner, err := client.New("http://"+x.s.HTTP, "")
			require.NoError(b, err)
			_, err = owner.SetUpWithResponse(b.Context(), client.Setup{Code: x.s.People.SetupCode(), Name: "Studio",
				Zone: "Europe/Vienna", Account: "mo", Password: rig.Password})
			require.NoError(b, err)
			made, err := owner.AddTokenWithResponse(b.Context(), client.AddTokenJSONRequestBody{Name: "screens",
				Scopes: []client.Scope{client.ScopeRead}})
			require.NoError(b, err)
			list := x.publishers(boards)
			rate := func() float64 {
				begun := time.Now()
				var all sync.WaitGroup
				for _, p := range list {
					all.Go(func() { p.send(each, flight) })
				}
				all.Wait()
				return float64(each*boards) / time.Since(begun).Seconds()
			}
			watched := func() float64 {
				ctx, stop := context.WithCancel(b.Context())
				var open sync.WaitGroup
				for i := range streams {
					q, err := http.NewRequestWithContext(ctx, "GET", "http://"+x.s.HTTP+"/api/v1/live"+form, nil)
					require.NoError(b, err)
					q.Header.Set("Authorization", "Bearer "+made.JSON201.Token)
					resp, err := rig.From(fmt.Sprintf("127.0.1.%d", i%4+1)).Do(q)
					require.NoError(b, err)
					open.Go(func() { _, _ = io.Copy(io.Discard, resp.Body); _ = resp.Body.Close() })
				}
				time.Sleep(300 * time.Millisecond) // what is there is told first
				r := rate()
				stop()
				open.Wait()
				return r
			}
			rate()
			var part []float64
			alone := 0.0
			b.ResetTimer()
			for range max(b.N, 8) {
				a, w := rate(), watched()
				part, alone = append(part, w/a), max(alone, a)
			}
			slices.Sort(part)
			b.ReportMetric(100*(1-part[len(part)/2]), "%-lost-median")
			b.ReportMetric(alone, "best-acks/s")
			b.ReportMetric(0, "ns/op")
		})
	}
}
