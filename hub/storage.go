package hub

import (
	"context"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"time"

	"idleember/core/access"
	"idleember/store"
)

// Storage says what the hub keeps and what it wrote to the disk.
type Storage struct {
	DatabaseBytes int64
	TapeBytes     int64 // what the hub was given, for finding out why; and the most that it takes
	TapeMost      int64
	// WrittenBytes is what the system counts as written by this process since Since; -1 where it does not tell.
	WrittenBytes int64
	Since        time.Time
	Series       []SeriesExtent
}

// SeriesExtent is how much is kept of one series.
type SeriesExtent struct {
	Series, Name string
	store.Extent
}

// Storage tells what is kept, by series.
func (h *Hub) Storage(ctx context.Context, a access.Actor) (Storage, error) {
	if err := access.May(a, access.Audit, access.Anything); err != nil {
		return Storage{}, err
	}
	out := Storage{WrittenBytes: written(), Since: h.started, DatabaseBytes: h.store.Size(), TapeBytes: h.store.TapeBytes(), TapeMost: tapeMost}
	s := h.Site()
	names := map[string]string{}
	for id, g := range s.Signals {
		names[id] = g.Name
	}
	for id, c := range s.Controls {
		for _, what := range []string{"is", "want", "mode"} {
			names[id+"."+what] = c.Name + " (" + what + ")"
		}
	}
	for id, g := range s.Settings {
		names[id] = g.Name
	}
	sees := h.sight(a)
	for _, id := range slices.Sorted(maps.Keys(names)) {
		if !sees.sees(id) {
			continue
		}
		e, err := h.store.Extent(ctx, id)
		if err != nil {
			return out, err
		}
		if e.Count > 0 {
			out.Series = append(out.Series, SeriesExtent{id, names[id], e})
		}
	}
	return out, nil
}

// Seal brings what is recent into blocks, which else happens by itself.
func (h *Hub) Seal(ctx context.Context) error { return h.store.Seal(ctx) }

// written is what the kernel counts of this process (proc(5), /proc/self/io), -1 where there is no such thing.
func written() int64 {
	text, err := os.ReadFile("/proc/self/io")
	if err != nil {
		return -1
	}
	for line := range strings.Lines(string(text)) {
		var n int64
		if k, _ := fmt.Sscanf(line, "write_bytes: %d", &n); k == 1 {
			return n
		}
	}
	return -1
}
