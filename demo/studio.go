package demo

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/big"
	"os"
	"path/filepath"
	"time"

	"idleember/core/access"
	"idleember/core/site"
	"idleember/hub"
	"idleember/serve"
)

// studio is what the demo must remember between two starts.
type studio struct {
	Keys     map[string]string `json:"keys"` // by device
	Accounts []account         `json:"accounts"`
}

type account struct {
	Account  string      `json:"account"`
	Name     string      `json:"name"`
	Role     access.Role `json:"role"`
	Password string      `json:"password"`
}

const (
	studioFile = "demo.json"
	boardID    = "drying_room"
	zone       = "Europe/Vienna"
)

// words make passwords that one can read aloud.
var words = []string{"amber", "basin", "bisque", "bramble", "clay", "cobalt", "copper", "damp", "ember", "fern", "flint", "glaze", "hazel",
	"kiln", "ladle", "linen", "maple", "moss", "ochre", "pebble", "quartz", "reed", "rowan", "shale", "slip", "thistle", "umber", "willow"}

func phrase() string {
	pick := func(n int) int {
		i, err := rand.Int(rand.Reader, big.NewInt(int64(n)))
		if err != nil {
			return 0 // cannot be: the system's source of randomness never fails
		}
		return int(i.Int64())
	}
	return fmt.Sprintf("%s-%s-%s-%d", words[pick(len(words))], words[pick(len(words))], words[pick(len(words))], 100+pick(900))
}

// open loads the studio, or builds it in a new hub.
func open(ctx context.Context, dir string, s *serve.Service, out io.Writer, past time.Duration) (*studio, *world, error) {
	file := filepath.Join(dir, studioFile)
	b, err := os.ReadFile(file)
	switch {
	case err == nil:
		st := &studio{}
		if err := json.Unmarshal(b, st); err != nil {
			return nil, nil, fmt.Errorf("%s is damaged: %w; delete %s to begin afresh", file, err, dir)
		}
		if st.Keys == nil {
			return nil, nil, fmt.Errorf("%s was made by an earlier idleember; delete %s to begin afresh", file, dir)
		}
		w := newWorld(uint64(time.Now().UnixNano()), time.Now(), s.Hub.Site().Hub.Location())
		w.recall(ctx, s.Hub)
		return st, w, nil
	case !errors.Is(err, os.ErrNotExist):
		return nil, nil, err
	case s.Hub.SetupCode() == "":
		return nil, nil, fmt.Errorf("%s holds a hub that is not the demo's; choose another folder with --data", dir)
	}
	st, w, err := build(ctx, file, s.Hub, out, past)
	if err != nil {
		return nil, nil, fmt.Errorf("the studio was not finished (%w); delete %s and start again", err, dir)
	}
	return st, w, nil
}

func build(ctx context.Context, file string, h *hub.Hub, out io.Writer, past time.Duration) (*studio, *world, error) {
	st := &studio{Keys: map[string]string{}, Accounts: []account{{"mo", "Mo", access.Owner, phrase()}, {"kim", "Kim", access.Member, phrase()},
		{"visitor", "Visitor", access.Guest, phrase()}}}
	me := access.HubActor()
	me.Name = "the demo"
	if err := furnish(ctx, h, me, st); err != nil {
		return nil, nil, err
	}
	if err := automate(ctx, h, me); err != nil {
		return nil, nil, err
	}
	w, err := history(ctx, h, me, out, past)
	if err != nil {
		return nil, nil, err
	}
	owner := st.Accounts[0]
	settings := site.Hub{Name: "Rowan Lane studio", Latitude: 48.21, Longitude: 16.37, Zone: zone}
	if err := h.SetUp(ctx, h.SetupCode(), "the demo", settings, hub.NewMember{Account: owner.Account, Name: owner.Name, Password: owner.Password}); err != nil {
		return nil, nil, err
	}
	for _, a := range st.Accounts[1:] {
		if _, err := h.AddMember(ctx, me, hub.NewMember{Account: a.Account, Name: a.Name, Role: a.Role, Password: a.Password}); err != nil {
			return nil, nil, err
		}
	}
	b, err := json.MarshalIndent(st, "", "  ")
	if err != nil {
		return nil, nil, err
	}
	return st, w, os.WriteFile(file, b, 0o600)
}

// thing is a signal or switch of a board.
type thing struct {
	raw, name, unit string
	kind            site.Kind // empty: a switch
	decimals        int
	open            bool // to guests
	dangerous       bool
}

// boards are the devices of the studio that speak MQTT, beside those that are made from a model.
var boards = []struct {
	name, place string
	things      []thing
}{
	{"Kiln", "Kiln shed", []thing{{raw: "chamber", name: "Kiln chamber", unit: "Cel", kind: site.Number}, {raw: "power", name: "Kiln power", unit: "W", kind: site.Number},
		{raw: "door", name: "Kiln door open", kind: site.OnOff}, {raw: "elements", name: "Elements", dangerous: true}, {raw: "vent", name: "Vent fan"}}},
	{"Kiln shed", "Kiln shed", []thing{{raw: "carbon_monoxide", name: "Carbon monoxide", unit: "[ppm]", kind: site.Number}, {raw: "extractor", name: "Extractor"}, {raw: "duct", name: "Duct"}}},
	{"Slip tank", "Slip room", []thing{{raw: "level", name: "Level", unit: "%", kind: site.Number, decimals: 1}, {raw: "float", name: "Float above empty", kind: site.OnOff},
		{raw: "reclaim_pump", name: "Reclaim pump"}}},
	{"Yard", "Yard", []thing{{raw: "daylight", name: "Daylight", unit: "lx", kind: site.Number, open: true}, {raw: "lamp", name: "Yard lamp", open: true},
		{raw: "gate_open", name: "Gate open", kind: site.OnOff}, {raw: "gate_shut", name: "Gate shut", kind: site.OnOff}, {raw: "gate_pulse", name: "Gate pulse"}, {raw: "gate", name: "Gate"}}},
	{"Glaze store", "Glaze room", []thing{{raw: "door_open", name: "Store door open", kind: site.OnOff}, {raw: "door_shut", name: "Store door shut", kind: site.OnOff},
		{raw: "door_up", name: "Door up"}, {raw: "door_down", name: "Door down"}, {raw: "door", name: "Store door"}}},
	{"Damp cupboard", "Damp cupboard", []thing{{raw: "humidity", name: "Humidity", unit: "%", kind: site.Number, decimals: 1}, {raw: "mister", name: "Mister"}}},
}

// furnish puts the studio's devices into a new hub.
func furnish(ctx context.Context, h *hub.Hub, me access.Actor, st *studio) error {
	nowhere := map[string]string{"modbus_fan": "127.0.0.1:1", "line_scale": "127.0.0.1:1"} // until they are introduced
	fromModel := func(model, name, place string) (string, error) {
		made, err := h.AddFromModel(ctx, me, model, []site.Device{{Name: name, Place: place, Link: site.Link{Address: nowhere[model]}}})
		if err != nil {
			return "", err
		}
		st.Keys[made[0].Device.ID] = made[0].Key
		return made[0].Device.ID, nil
	}
	if _, err := fromModel("climate_board", "Drying room", "Drying room"); err != nil {
		return err
	}
	if _, err := h.ChangeDevice(ctx, me, boardID, func(d *site.Device) error { d.Lease = 30 * time.Second; return nil }); err != nil {
		return err
	}
	if _, err := h.AddSignal(ctx, me, boardID, "clay_moisture", site.Number, func(s *site.Signal) { s.Unit, s.Decimals = "%", 1 }); err != nil {
		return err
	}
	for _, raw := range []string{"temperature", "humidity", "clay_moisture"} {
		if _, err := h.ChangeSignal(ctx, me, boardID+"."+raw, func(s *site.Signal) error {
			s.Decimals, s.Interval = 1, every
			if raw != "clay_moisture" {
				s.Guests = site.GuestsSee
			}
			return nil
		}); err != nil {
			return err
		}
	}
	for _, b := range boards {
		d, key, err := h.AddDevice(ctx, me, site.Device{Name: b.name, Place: b.place, Lease: 30 * time.Second})
		if err != nil {
			return err
		}
		st.Keys[d.ID] = key
		if err := equip(ctx, h, me, d.ID, b.things); err != nil {
			return err
		}
	}
	for _, m := range []struct{ model, name, place string }{{"modbus_fan", "Shelf fan", "Drying room"}, {"battery_monitor", "Shed battery", "Yard"},
		{"line_scale", "Glaze scale", "Glaze room"}, {"weather_page", "Weather", "Yard"}} {
		if _, err := fromModel(m.model, m.name, m.place); err != nil {
			return err
		}
	}
	return nil
}

func equip(ctx context.Context, h *hub.Hub, me access.Actor, device string, things []thing) error {
	for _, x := range things {
		if x.kind == "" {
			c, err := h.AddControl(ctx, me, device, x.raw, func(c *site.Control) error {
				c.Name, c.Dangerous = x.name, x.dangerous
				shape(c)
				if x.open {
					c.Guests = site.GuestsSwitch
				}
				return nil
			})
			if err != nil {
				return fmt.Errorf("%s: %w", c.ID, err)
			}
			continue
		}
		if _, err := h.AddSignal(ctx, me, device, x.raw, x.kind, func(s *site.Signal) {
			s.Name, s.Unit, s.Decimals = x.name, x.unit, x.decimals
			if s.Kind == site.Number {
				s.Interval = every
			}
			if x.open {
				s.Guests = site.GuestsSee
			}
		}); err != nil {
			return err
		}
	}
	return nil
}
