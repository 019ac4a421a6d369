package tests

import (
	"fmt"
	"net/http"
	"runtime"
	"testing"
	"time"

	paho "github.com/eclipse/paho.mqtt.golang"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/tests/rig"
)

// Boards that come and go, report, are switched and watched: memory and goroutines do not grow.
func TestSoak(t *testing.T) {
	r := rig.New(t)
	boards := 10
	keys := map[string]string{}
	for i := range boards {
		id := fmt.Sprintf("board%d", i)
		keys[id] = r.Device(id)
	}
	round := func() {
		for id, key := range keys {
			c := r.Connect(id, key, id)
			c.Subscribe("ember/"+id+"/#", 1, func(c paho.Client, m paho.Message) {
				if m.Topic() == "ember/"+id+"/want/relay" {
					c.Publish("ember/"+id+"/is/relay", 1, false, m.Payload())
				}
			}).Wait()
			c.Publish("ember/"+id+"/is/relay", 1, false, "off").Wait()
			for n := range 20 {
				require.True(t, c.Publish("ember/"+id+"/r", 1, false, fmt.Sprintf(`{"a":%d,"b":%d.5}`, n,
					n)).WaitTimeout(10*time.Second))
			}
			r.Switch(id+".relay", true)
			r.Soon("confirmed", func() bool { return r.Control(id+".relay").State.Phase == "confirmed" })
			r.Switch(id+".relay", false)
			r.Soon("confirmed", func() bool { return r.Control(id+".relay").State.Phase == "confirmed" })
			c.Disconnect(0)
		}
	}
	for range Count(t, 2, 25) { // in full, until the ring of live events is
		round()
	}
	heap, routines := heapAndRoutines()
	for range Count(t, 3, 300) {
		round()
	}
	after, left := heapAndRoutines()
	t.Logf("heap %d kB before, %d kB after; %d and %d goroutines", heap/1024, after/1024, routines, left)
	assert.Less(t, after, heap+heap/2+(8<<20))
	assert.LessOrEqual(t, left, routines+10)
}

// heapAndRoutines is what is left when all that is garbage has gone.
func heapAndRoutines() (heap uint64, routines int) {
	http.DefaultClient.CloseIdleConnections()
	runtime.GC()
	time.Sleep(300 * time.Millisecond)
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return m.HeapAlloc, runtime.NumGoroutine()
}
