package hub

import (
	"context"
	"os"
	"runtime"
	"runtime/metrics"
	"strconv"
	"strings"
	"time"

	"idleember/store"
)

// Measure is something that the hub knows of itself, as it is now.
type Measure struct {
	Name  string // as a signal is called
	Unit  string // UCUM; "": a count
	Help  string
	Total bool // it counts up since the start; else it is a state
	Value float64
}

// Measures returns what the hub knows of itself: for its own signals, and for programs that watch over many.
func (h *Hub) Measures(ctx context.Context) []Measure {
	w := h.store.Work()
	online := 0
	_ = h.ask(ctx, func() error { // where the hub stops there are none
		for id := range h.site.Devices {
			if d, ok := h.engine.Device(id); ok && d.Online {
				online++
			}
		}
		return nil
	})
	list := []Measure{
		{"readings", "", "Readings that were stored.", true, float64(w.Readings)},
		{"commits", "", "Transactions that were written to the disk.", true, float64(w.Commits)},
		{"commit_seconds", "s", "Time that those took together.", true, w.Took.Seconds()},
		{"waiting", "", "What waits for the hub to look at it and for the disk.", false, float64(len(h.inbox) + w.Waiting)},
		{"memory", "By", "Memory that the process holds.", false, float64(resident())},
		{"heap", "By", "Memory that is in use of what the runtime manages.", false, float64(heap())},
		{"goroutines", "", "Things that go on at the same time.", false, float64(runtime.NumGoroutine())},
		{"descriptors", "", "Open files and connections.", false, descriptors()},
		{"readers", "", "Open live streams and scripts.", false, float64(h.live.Readers())},
		{"devices", "", "Devices that are on line.", false, float64(online)},
		{"uptime", "s", "Time since the start.", false, time.Since(h.started).Seconds()},
		{"trouble", "", "1 where nothing can be stored.", false, one(h.Ready() != nil)},
	}
	if used, err := h.store.DiskUsed(); err == nil {
		list = append(list, Measure{"disk_used", "%", "Of the disk that holds the store.", false, used})
	}
	if at, ok := h.backedUp(); ok {
		list = append(list, Measure{"backup_age", "s", "Time since the newest backup.", false, time.Since(at).Seconds()})
	}
	return list
}

func one(is bool) float64 {
	if is {
		return 1
	}
	return 0
}

func heap() uint64 {
	s := []metrics.Sample{{Name: "/memory/classes/heap/objects:bytes"}}
	metrics.Read(s)
	return s[0].Value.Uint64()
}

// descriptors is how many the process has open; -1 where the system does not tell.
func descriptors() float64 {
	list, err := os.ReadDir("/proc/self/fd")
	if err != nil {
		return -1
	}
	return float64(len(list))
}

// resident is the memory that the process holds, in bytes; of what the runtime took where the system does not tell.
func resident() uint64 {
	if b, err := os.ReadFile("/proc/self/statm"); err == nil {
		if f := strings.Fields(string(b)); len(f) > 1 {
			if pages, err := strconv.ParseUint(f[1], 10, 64); err == nil {
				return pages * uint64(os.Getpagesize()) //nolint:gosec // a size of the system's
			}
		}
	}
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return m.Sys
}

// Ready says in a sentence why the hub does not do all that it should, or returns nil.
func (h *Hub) Ready() error {
	select {
	case <-h.quit:
		return ErrStopped
	default:
	}
	h.trouble.Lock()
	defer h.trouble.Unlock()
	if h.trouble.err != nil {
		return store.Unsaved(h.trouble.err)
	}
	return nil
}
