package hub

import (
	"context"
	"slices"
	"strings"
	"time"

	"idleember/core/access"
	"idleember/core/mapping"
	"idleember/core/site"
)

// Broker is a broker elsewhere with how the hub gets along with it.
type Broker struct {
	site.Broker
	Version     string
	HasPassword bool
	Connected   bool
	Since       time.Time
	Why         string // why it is away
}

// BrokerState is what the link says of a broker.
type BrokerState struct {
	Connected bool
	Since     time.Time
	Why       string
}

// SetBrokerState tells how the link gets along with a broker.
func (h *Hub) SetBrokerState(id string, s BrokerState) {
	h.enqueue(func() {
		was, known := h.brokers[id]
		if known && was.Connected == s.Connected && was.Why == s.Why {
			return
		}
		h.brokers[id] = s
		if known && was.Connected == s.Connected {
			return
		}
		state := map[bool]string{true: "connected", false: "away"}
		before := ""
		if known {
			before = state[was.Connected]
		}
		h.journal(h.Time(), access.HubActor(), "broker", id, before, state[s.Connected], s.Why)
		h.lookAgain()
	})
}

// BrokerPassword is for the link that speaks with the broker.
func (h *Hub) BrokerPassword(ctx context.Context, id string) (password string, err error) {
	return h.vault.get(site.Key{Kind: "broker", ID: id}, site.Password), nil
}

// Brokers returns all brokers elsewhere.
func (h *Hub) Brokers(ctx context.Context, a access.Actor) (out []Broker, err error) {
	err = h.ask(ctx, func() error {
		if err := access.May(a, access.Configure, access.Anything); err != nil {
			return err
		}
		for _, b := range h.site.Brokers {
			out = append(out, h.brokerView(b))
		}
		return nil
	})
	slices.SortFunc(out, func(a, b Broker) int { return strings.Compare(a.ID, b.ID) })
	return out, err
}

func (h *Hub) brokerView(b site.Broker) Broker {
	s := h.brokers[b.ID]
	return Broker{Broker: b, Version: Version(b), HasPassword: h.vault.get(site.KeyOf(b), site.Password) != "", Connected: s.Connected, Since: s.Since, Why: s.Why}
}

// SaveBroker adds a broker elsewhere or changes it. A nil password leaves the one that is kept.
func (h *Hub) SaveBroker(ctx context.Context, a access.Actor, b site.Broker, password *string) (view Broker, err error) {
	err = h.do(ctx, func() error {
		if b.ID == "" {
			for id, x := range h.site.Brokers {
				if strings.EqualFold(x.Name, b.Name) {
					return &ExistsError{"broker", id, x.Name}
				}
			}
		}
		saved, err := h.keep(a, edit{part: b, secrets: map[string]*string{site.Password: password}})
		if err != nil {
			return err
		}
		view = h.brokerView(saved.(site.Broker))
		return nil
	})
	return view, err
}

// RemoveBroker forgets a broker that no device uses any more.
func (h *Hub) RemoveBroker(ctx context.Context, a access.Actor, id string) error {
	return h.drop(ctx, a, "broker", id)
}

// Panel returns what is offered to a Modbus panel.
func (h *Hub) Panel(_ context.Context, a access.Actor) (site.Panel, error) {
	return h.Site().Panel, access.May(a, access.Configure, access.Anything)
}

// SavePanel changes what is offered to a Modbus panel. check is asked with what it is before.
func (h *Hub) SavePanel(ctx context.Context, a access.Actor, p site.Panel, check func(site.Panel) error) error {
	return h.do(ctx, func() error {
		_, err := h.keep(a, edit{part: p, check: func(before any) error { return check(before.(site.Panel)) }})
		return err
	})
}

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
func (h *Hub) Try(_ context.Context, a access.Actor, t Trial) ([]Tried, error) {
	if err := access.May(a, access.Configure, access.Anything); err != nil {
		return nil, err
	}
	s := h.Site().Clone()
	if _, ok := s.Devices[t.Device]; !ok {
		return nil, &NotFoundError{What: "device", ID: t.Device}
	}
	for id, src := range t.Signals {
		g, ok := s.Signals[id]
		if !ok {
			g = site.Signal{ID: id, Device: t.Device, Kind: site.Text}
		}
		g.Source = src
		if err := src.Validate(); err != nil {
			return nil, &InvalidError{"signals", id + ": " + err.Error()}
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
			return nil, &InvalidError{"controls", id + ": " + err.Error()}
		}
		s.Controls[id] = c
	}
	return tried(mapping.For(s, t.Device), s, t), nil
}

func tried(m *mapping.Map, s *site.Site, t Trial) []Tried {
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
