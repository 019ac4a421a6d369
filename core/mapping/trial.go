package mapping

import (
	"idleember/core/fault"
	"idleember/core/reading"
	"idleember/core/site"
)

// Trial is a message that is tried on a device's mapping.
type Trial struct {
	Device   string
	Topic    string
	Payload  []byte
	Signals  map[string]site.Source // drafts by id, in the place of what is saved
	Controls map[string]site.Source
}

// Tried is what the mapping makes of a message.
type Tried struct {
	ID    string
	Text  string
	Value string
	Why   string // why there is no value
}

// Try maps a message without keeping anything.
func Try(now *site.Site, t Trial) ([]Tried, error) {
	s := now.Clone()
	if _, ok := s.Devices[t.Device]; !ok {
		return nil, fault.NotFound("device", t.Device)
	}
	for id, src := range t.Signals {
		g, ok := s.Signals[id]
		if !ok {
			g = site.Signal{ID: id, Device: t.Device, Kind: site.Text}
		}
		g.Source = src
		if err := src.Validate(); err != nil {
			return nil, &fault.InvalidError{Field: "signals", Reason: id + ": " + err.Error()}
		}
		s.Signals[id] = g
	}
	for id, src := range t.Controls {
		c, ok := s.Controls[id]
		if !ok {
			c = site.Control{ID: id, Device: t.Device}
		}
		c.Source = src
		if err := src.Validate(); err != nil {
			return nil, &fault.InvalidError{Field: "controls", Reason: id + ": " + err.Error()}
		}
		s.Controls[id] = c
	}
	return tried(For(s, t.Device), s, t), nil
}

func tried(m *Map, s *site.Site, t Trial) []Tried {
	out := []Tried{}
	for _, f := range m.Message(t.Topic, t.Payload) {
		x := Tried{ID: f.Entry.ID, Text: f.Text}
		if f.Err != nil {
			x.Why = f.Err.Error()
		} else {
			x.Value = f.Value.String()
		}
		if g, ok := s.Signals[f.Entry.ID]; ok && f.Err == nil && g.Calibration.Set() {
			x.Value = calibrated(g.Calibration, f.Value)
		}
		out = append(out, x)
	}
	if online, told, err := m.Presence(t.Topic, t.Payload); told {
		x := Tried{ID: t.Device, Text: string(t.Payload), Value: map[bool]string{true: "online", false: "offline"}[online]}
		if err != nil {
			x.Value, x.Why = "", err.Error()
		}
		out = append(out, x)
	}
	return out
}

func calibrated(c site.Calibration, v reading.Value) string {
	cal, err := reading.Calibrate(c, v)
	if err != nil {
		return err.Error()
	}
	return cal.String()
}
