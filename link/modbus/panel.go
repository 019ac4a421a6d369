package modbus

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"math"
	"net"
	"slices"
	"time"

	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/core/reading"
	"idleember/core/site"
	"idleember/hub"
	"idleember/link"
	"idleember/link/door"
)

const panelWait = 3 * time.Second

// RunPanel offers what the owner chose to a panel, while that is switched on, until the context ends. Readings that are
// not live are told as not a number, or as the type's lowest value (signed) or highest value (unsigned).
func RunPanel(ctx context.Context, h *hub.Hub, log *slog.Logger) {
	link.Keep(ctx, h, func(s *site.Site) map[string]string {
		if !s.Panel.On {
			return nil
		}
		b, _ := json.Marshal(s.Panel) // plain settings
		return map[string]string{"panel": string(b)}
	}, func(ctx context.Context, _ string) { servePanel(ctx, h, log) })
}

// panelDoor lets no panel take all connections from the others; one that lost some of its own gets new ones.
func panelDoor() *door.Keeper { return door.New(door.Limits{Each: mostClients / 4, All: mostClients}) }

func servePanel(ctx context.Context, h *hub.Hub, log *slog.Logger) {
	p := h.Site().Panel
	wait := link.Backoff{First: time.Second, Most: time.Minute}
	for {
		l, err := net.Listen("tcp", p.Address)
		if err == nil {
			s := Serve(panelDoor().Guard(l), &panel{hub: h, points: p.Points}, allowed(p.Allow))
			<-ctx.Done()
			s.Close()
			return
		}
		log.Warn("the panel's address cannot be listened on", "address", p.Address, "error", err)
		if !link.Sleep(ctx, wait.Failed()) {
			return
		}
	}
}

// allowed says whether an address is on the owner's list.
func allowed(list []string) func(net.Addr) bool {
	return func(a net.Addr) bool {
		host, _, err := net.SplitHostPort(a.String())
		ip := net.ParseIP(host)
		if err != nil || ip == nil {
			return false
		}
		for _, entry := range list {
			if _, network, err := net.ParseCIDR(entry); err == nil && network.Contains(ip) {
				return true
			}
			if one := net.ParseIP(entry); one != nil && one.Equal(ip) {
				return true
			}
		}
		return false
	}
}

// panel is the hub as a Bank.
type panel struct {
	hub    *hub.Hub
	points []site.Point
}

func (p *panel) actor() access.Actor {
	return access.Actor{Kind: access.Panel, ID: "panel", Name: "the panel", From: "modbus"}
}

// Read implements Bank. Every register that is asked for must be offered.
func (p *panel) Read(_ byte, t site.Table, address, n int) ([]uint16, error) {
	out, known := make([]uint16, n), make([]bool, n)
	ctx, cancel := context.WithTimeout(context.Background(), panelWait)
	defer cancel()
	snap, err := p.hub.Now(ctx, p.actor())
	if err != nil {
		return nil, err
	}
	for _, pt := range p.points {
		r := pt.Register
		if r.Table != t || r.Address >= address+n || r.Address+r.Words() <= address {
			continue
		}
		for i, w := range words(r, current(snap, pt.ID)) {
			if at := r.Address + i - address; at >= 0 && at < n {
				out[at], known[at] = w, true
			}
		}
	}
	for _, k := range known {
		if !k {
			return nil, IllegalAddress
		}
	}
	return out, nil
}

// current is the value of a signal or control now, NaN where it is not known.
func current(snap shown.Snapshot, id string) float64 {
	for _, s := range snap.Signals {
		if s.Config.ID == id && s.State.Fresh == "live" && s.State.Value != nil && s.Config.Kind != site.Text {
			return s.State.Value.Num
		}
	}
	for _, c := range snap.Controls {
		v := c.State.Is
		if v == nil {
			v = c.State.Want
		}
		if c.Config.ID == id && v != nil {
			if v.Kind == site.Text {
				return float64(slices.Index(c.State.Words, v.Text))
			}
			return v.Num
		}
	}
	for _, g := range snap.Settings {
		if g.Config.ID == id {
			return float64(g.State.Value)
		}
	}
	return math.NaN()
}

// words are a value's words, or those that stand for none.
func words(r site.Register, v float64) []uint16 {
	if math.IsNaN(v) {
		switch r.Type {
		case "f32":
			return pair(r, math.Float32bits(float32(math.NaN())))
		case "s16":
			return []uint16{0x8000}
		case "s32":
			return pair(r, 0x80000000)
		case "u32":
			return pair(r, math.MaxUint32)
		}
		if r.Bit() {
			return []uint16{0}
		}
		return []uint16{0xffff}
	}
	if w, err := encode(r, v); err == nil {
		return w
	}
	return words(r, math.NaN())
}

// Write implements Bank: it sets controls and settings. All of them must be offered for writing, else none is set.
func (p *panel) Write(_ byte, t site.Table, address int, given []uint16) error {
	wants := map[string]float64{}
	for i := 0; i < len(given); {
		pt, ok := p.at(t, address+i)
		if !ok || i+pt.Register.Words() > len(given) {
			return IllegalAddress
		}
		v := decode(pt.Register, given[i:i+pt.Register.Words()])
		if !p.possible(pt.ID, v) {
			return IllegalValue
		}
		wants[pt.ID] = v
		i += pt.Register.Words()
	}
	ctx, cancel := context.WithTimeout(context.Background(), panelWait)
	defer cancel()
	for id, v := range wants {
		if err := p.write(ctx, id, v); err != nil {
			return fmt.Errorf("%s: %w", id, err)
		}
	}
	return nil
}

// possible reports whether a control or setting can be what a panel wrote.
func (p *panel) possible(id string, v float64) bool {
	s := p.hub.Site()
	if g, ok := s.Settings[id]; ok {
		return g.Check(site.Amount(v)) == nil
	}
	c := s.Controls[id]
	return c.Check(site.Amount(v)) == nil
}

func (p *panel) write(ctx context.Context, id string, v float64) error {
	s := p.hub.Site()
	if g, ok := s.Settings[id]; ok {
		_, err := p.hub.Set(ctx, p.actor(), id, g.Say(site.Amount(v)), time.Time{})
		return err
	}
	_, err := p.hub.Switch(ctx, p.actor(), id, reading.OfControl(s.Controls[id], site.Amount(v)), time.Time{})
	return err
}

func (p *panel) at(t site.Table, address int) (site.Point, bool) {
	for _, pt := range p.points {
		if pt.Write && pt.Register.Table == t && pt.Register.Address == address {
			return pt, true
		}
	}
	return site.Point{}, false
}
