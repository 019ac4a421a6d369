package hub

import (
	"idleember/core/engine"
	"idleember/core/reading"
	"idleember/store"
)

// The id of a device names a series too: whether it was online. What its switches were while it was away, nobody knows.

// recordPresence keeps when a device came and went.
func (h *Hub) recordPresence(d engine.DeviceState) {
	if was, known := h.present[d.ID]; known && was == d.Online || d.Since.IsZero() {
		return
	}
	h.present[d.ID] = d.Online
	h.writeReadings(store.AddReading(d.ID, store.Reading{T: d.Since.UnixMilli(), Value: reading.OnOff(d.Online)}, nil))
}

// restorePresence ends what was online when the hub went away, at that time.
func (h *Hub) restorePresence(state engine.Restored) {
	for _, d := range state.Devices {
		h.present[d.ID] = d.Online
		if d.Online && !state.Alive.IsZero() {
			h.recordPresence(engine.DeviceState{ID: d.ID, Since: state.Alive})
		}
	}
}
