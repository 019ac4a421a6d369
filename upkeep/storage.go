package upkeep

import (
	"context"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"

	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/hub"
)

// Storage tells what is kept, by series.
func (k *Keeper) Storage(ctx context.Context, a access.Actor) (shown.Storage, error) {
	if err := access.May(a, access.Audit, access.Anything); err != nil {
		return shown.Storage{}, err
	}
	out := shown.Storage{WrittenBytes: written(), Since: k.started, DatabaseBytes: k.store.Size(),
		RecordedBytes: k.store.TapeBytes(), RecordedMost: hub.TapeMost, Series: []shown.KeptSeries{}}
	s := k.house.Site()
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
	for _, id := range slices.Sorted(maps.Keys(names)) {
		if !k.house.Sight(a).Sees(id) {
			continue
		}
		e, err := k.store.Extent(ctx, id)
		if err != nil {
			return out, err
		}
		if e.Count > 0 {
			out.Series = append(out.Series, shown.KeptSeries{Series: id, Name: names[id], Count: e.Count, Bytes: e.Bytes,
				From: e.From, To: e.To})
		}
	}
	return out, nil
}

// written is what the kernel counts of this process (proc(5), /proc/self/io), nil where there is no such thing.
func written() *int64 {
	text, err := os.ReadFile("/proc/self/io")
	if err != nil {
		return nil
	}
	for line := range strings.Lines(string(text)) {
		var n int64
		if k, _ := fmt.Sscanf(line, "write_bytes: %d", &n); k == 1 {
			return &n
		}
	}
	return nil
}
