package tests

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"idleember/client"
	"idleember/core/site"
	"idleember/store"
	"idleember/tests/rig"
)

// BenchmarkAlert has 5,000 alerts on 1,000 signals, and tells how long it takes from a reading that one board sends
// until the alert is told as raised on the live stream, and until a webhook has it.
func BenchmarkAlert(b *testing.B) {
	const boards, signals, each = 20, 50, 5
	r := rig.New(b)
	keys := make([]string, boards)
	whole := map[string]int{}
	for i := range signals {
		whole[fmt.Sprintf("s%d", i)] = 20
	}
	body, err := json.Marshal(whole)
	require.NoError(b, err)
	for i := range boards {
		keys[i] = r.Device(fmt.Sprintf("board%d", i))
		r.Pub(fmt.Sprintf("board%d", i), keys[i], fmt.Sprintf("ember/board%d/r", i), string(body))
	}
	r.Soon("signals", func() bool { return len(r.Now().Signals) == boards*signals })
	arrived := make(chan string, 10)
	hook := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, q *http.Request) {
		var e struct{ Subject string }
		_ = json.NewDecoder(q.Body).Decode(&e)
		arrived <- e.Subject
	}))
	defer hook.Close()
	_, err = r.Owner.Routes().Add(b.Context(), site.Route{ID: "hook", Name: "Hook", Via: "webhook", To: hook.URL,
		Inside: true, Least: site.Info})
	require.NoError(b, err)
	require.NoError(b, r.Service.Close())
	db, err := store.Open(b.Context(), r.Dir, store.Options{})
	require.NoError(b, err)
	var changes []store.Change
	for i := range boards {
		for k := range signals {
			for j := range each {
				of := fmt.Sprintf("board%d.s%d", i, k)
				changes = append(changes, store.Keep(site.Put(&site.Alert{ID: fmt.Sprintf("a%d_%d_%d", i, k, j), Name: of,
					Kind: site.AlertAbove, Of: of, Limit: 100 + 10*float64(j), Band: 1, Severity: site.Warning})))
			}
		}
	}
	require.NoError(b, db.Do(b.Context(), changes...))
	require.NoError(b, db.Close())
	r.Reopen()
	list := make([]func(string, any), boards)
	for i := range boards {
		c := r.Paho(fmt.Sprintf("board%d", i), keys[i], fmt.Sprintf("board%d", i))
		list[i] = func(name string, v any) {
			c.Publish(fmt.Sprintf("ember/board%d/r/%s", i, name), 1, false, fmt.Sprint(v)).Wait()
		}
	}
	raised := make(chan string, 10)
	go func() {
		_ = r.Owner.Live(b.Context(), func(e client.Event) error {
			var a struct{ ID, Phase string }
			if e.Kind == "alert" && json.Unmarshal(e.Data, &a) == nil && a.Phase == "active" {
				raised <- a.ID
			}
			return nil
		}, nil)
	}()
	time.Sleep(2 * time.Second)
	var transitions, sent []time.Duration
	for i := 0; b.Loop(); i++ {
		board, signal := i%boards, fmt.Sprintf("s%d", i/boards%signals)
		begun := time.Now()
		go list[board](signal, 105)
		<-raised
		transitions = append(transitions, time.Since(begun))
		<-arrived
		sent = append(sent, time.Since(begun))
		list[board](signal, 20)
	}
	b.ReportMetric(0, "ns/op")
	for name, d := range map[string][]time.Duration{"raised": transitions, "webhook": sent} {
		slices.Sort(d)
		b.ReportMetric(float64(d[len(d)/2].Microseconds())/1000, name+"-p50-ms")
		b.ReportMetric(float64(d[len(d)*99/100].Microseconds())/1000, name+"-p99-ms")
	}
}
