package tests

import (
	"fmt"
	"net/http"
	"os"
	"runtime/pprof"
	"testing"
	"time"

	paho "github.com/eclipse/paho.mqtt.golang"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/client"
	"idleember/core/site"
	"idleember/tests/rig"
)

// Things come and go, people sign in and out, strangers guess, pages open and close: what is gone takes no memory. With
// HEAP=file the heap of the end is written there, for go tool pprof.
func TestWhatIsGoneTakesNoMemory(t *testing.T) {
	r := rig.New(t)
	r.Member("kim", "member")
	n := 0
	round := func() {
		n++
		id := fmt.Sprintf("board%d", n) // each time another: names must not pile up
		key := r.Device(id)
		board := r.Connect(id, key, id)
		for i := range 5 {
			board.Publish("ember/"+id+"/r", 1, false, fmt.Sprintf(`{"a":%d,"b":%d.5}`, i, i)).WaitTimeout(10 * time.Second)
		}
		_, err := save(r.Owner, site.Dashboard{ID: id, Name: id, Tiles: []site.Tile{{ID: "a", Kind: site.TileValue,
			Of: []string{id + ".a"}, W: 3, H: 2}}})
		require.NoError(t, err)
		saveAlert(r, site.Alert{ID: id, Name: id, Kind: site.AlertAbove, Of: id + ".a", Limit: 3})
		q, err := http.NewRequestWithContext(t.Context(), "GET", r.URL()+"/api/v1/live", nil)
		require.NoError(t, err)
		token := r.Token(r.Owner)
		q.Header.Set("Authorization", "Bearer "+token)
		live, err := http.DefaultClient.Do(q)
		require.NoError(t, err)
		_, _ = live.Body.Read(make([]byte, 4096))
		_ = live.Body.Close()
		kim := r.Client()
		r.SignIn(kim, "kim")
		_, _ = kim.SignOutWithResponse(t.Context())
		for i := range 5 {
			from := rig.From(fmt.Sprintf("127.0.%d.%d", n%200, i+10))
			_, _ = rig.JSON(t, from, "POST", r.URL()+"/api/v1/session",
				fmt.Sprintf(`{"account":"nobody%d_%d","password":"guessed"}`, n, i))
			from.CloseIdleConnections()
			stranger := paho.NewClient(paho.NewClientOptions().AddBroker("tcp://" +
				r.Service.MQTT).SetClientID(fmt.Sprintf("x%d_%d", n, i)).SetUsername(fmt.Sprintf("x%d_%d", n,
				i)).SetPassword("guessed").SetAutoReconnect(false))
			stranger.Connect().WaitTimeout(5 * time.Second)
		}
		err = r.Owner.Dashboards().Remove(t.Context(), id)
		require.NoError(t, err)
		board.Disconnect(0)
		_, err = r.Owner.RemoveDeviceWithResponse(t.Context(), id, &client.RemoveDeviceParams{History: "delete"})
		require.NoError(t, err)
	}
	for range Count(t, 3, 150) {
		round()
	}
	heap, routines := heapAndRoutines()
	for range Count(t, 5, 300) {
		round()
	}
	after, left := heapAndRoutines()
	t.Logf("heap %d kB before, %d kB after; %d and %d goroutines", heap/1024, after/1024, routines, left)
	if file := os.Getenv("HEAP"); file != "" {
		f, err := os.Create(file)
		require.NoError(t, err)
		require.NoError(t, pprof.WriteHeapProfile(f))
		require.NoError(t, f.Close())
	}
	assert.Less(t, after, heap+heap/2+(8<<20))
	assert.LessOrEqual(t, left, routines+20)
}
