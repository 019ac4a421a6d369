package hub

import (
	"time"

	"idleember/core/engine"
	"idleember/core/reading"
	"idleember/core/site"
	"idleember/store"
)

// learn tells the engine of readings of the past that an alert may have been about.
func (h *Hub) learn(signal string, late []store.Reading) {
	in := engine.Learnt{Signal: signal}
	for _, r := range late {
		if r.Quality == reading.Good && r.Value.Kind != site.Text {
			in.Samples = append(in.Samples, engine.Sample{At: time.UnixMilli(r.T), Value: r.Value.Num})
		}
	}
	if len(in.Samples) > 0 {
		h.apply(in)
	}
}
