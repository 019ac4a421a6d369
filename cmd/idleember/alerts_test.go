package main

import (
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/tests"
)

// Killed at any moment while the other side fails, hangs and recovers, the hub loses no message of what was raised,
// sends each route's in order, and gives none another id.
func TestKilledWhileMessagesWait(t *testing.T) {
	t.Parallel()
	p := newProcess(t)
	p.start()
	p.setUp()
	id, key := p.device("Kiln")
	say := func(v string) {
		board, err := p.board(id, key)
		require.NoError(t, err)
		require.True(t, board.Publish("ember/kiln/r/chamber", 1, false, v).WaitTimeout(10*time.Second))
		board.Disconnect(50)
	}
	say("20")
	var mu sync.Mutex
	type told struct {
		ID, What string
		N        int
	}
	var got []told // what was taken, in order
	var mood atomic.Int32
	other := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		var e struct {
			Data struct {
				told
				Others []told
			}
		}
		_ = json.Unmarshal(body, &e)
		switch mood.Load() {
		case 0:
			http.Error(w, "later", http.StatusServiceUnavailable)
		case 1:
			select { // it hangs
			case <-r.Context().Done():
			case <-time.After(2 * time.Second):
			}
			http.Error(w, "later", http.StatusServiceUnavailable)
		default:
			mu.Lock()
			got = append(append(got, e.Data.told), e.Data.Others...) // many that wait come in one
			mu.Unlock()
		}
	}))
	defer other.Close()
	write := func(name, text string) string {
		path := filepath.Join(t.TempDir(), name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	out, exit := p.cli("routes", "save", write("route.json",
		fmt.Sprintf(`{"id":"hook","name":"Hook","via":"webhook","to":%q,"least":"info","inside":true,"ends":true}`,
			other.URL)))
	require.Zero(t, exit, out)
	out, exit = p.cli("alerts", "save", write("alert.json",
		`{"id":"hot","name":"Too hot","kind":"above","of":"kiln.chamber","limit":100,"severity":"critical"}`))
	require.Zero(t, exit, out)
	out, exit = p.cli("alerts", "try", write("trial.json",
		`{"id":"hot","name":"Too hot","kind":"above","of":"kiln.chamber","limit":100,"severity":"critical"}`))
	require.Zero(t, exit, out)
	assert.Contains(t, out, "It would have come 0 times")
	for i := range tests.Count(t, 3, 20) {
		mood.Store(int32(i % 2))
		say("150")
		time.Sleep(time.Duration(rand.IntN(300)) * time.Millisecond)
		say("20")
		time.Sleep(time.Duration(rand.IntN(300)) * time.Millisecond)
		p.kill()
		p.start()
	}
	mood.Store(2)
	require.Eventually(t, func() bool { out, _ := p.cli("alerts"); return !strings.Contains(out, "hot ") }, 20*time.Second,
		200*time.Millisecond)
	story, exit := p.cli("alerts", "history", "--alert", "hot")
	require.Zero(t, exit)
	raised := strings.Count(story, "raised")
	require.Positive(t, raised)
	first := func() (list []string) { // each id where it came first
		mu.Lock()
		defer mu.Unlock()
		ids := map[string]bool{}
		for _, x := range got {
			if !ids[x.ID] {
				list = append(list, fmt.Sprintf("%s %d", x.What, x.N))
			}
			ids[x.ID] = true
		}
		return list
	}
	require.Eventually(t, func() bool { return len(first()) >= 2*raised }, 90*time.Second, 200*time.Millisecond,
		"all are tried again by themselves")
	var want []string
	for n := 1; n <= raised; n++ {
		want = append(want, fmt.Sprintf("raised %d", n), fmt.Sprintf("over %d", n))
	}
	got2 := first()
	assert.ElementsMatch(t, want, got2, "raised and over of each")
	for n := 1; n <= raised; n++ { // what waits comes in one, the worst first
		assert.Less(t, slices.Index(got2, fmt.Sprintf("raised %d", n)), slices.Index(got2, fmt.Sprintf("over %d", n)))
	}
}
