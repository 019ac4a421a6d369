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

	"idleember/archive"
	"idleember/core/access"
	"idleember/core/reading"
	"idleember/core/site"
	"idleember/household"
	"idleember/hub"
	"idleember/pages"
	"idleember/serve"
	"idleember/store"
)

// studio is what the demo must remember between two starts.
type studio struct {
	Keys     map[string]string `json:"keys"` // by device
	Accounts []account         `json:"accounts"`
	// Where the hub listened last, and where its devices are that it asks.
	MQTT  string   `json:"mqtt,omitempty"`
	UDP   string   `json:"udp,omitempty"`
	Peers []string `json:"peers,omitempty"`
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
var words = []string{"amber", "basin", "bisque", "bramble", "clay", "cobalt", "copper", "damp", "ember", "fern",
	"flint", "glaze", "hazel",
	"kiln", "ladle", "linen", "maple", "moss", "ochre", "pebble", "quartz", "reed", "rowan", "shale", "slip", "thistle",
	"umber", "willow"}

func phrase() string {
	pick := func(n int) int {
		i, err := rand.Int(rand.Reader, big.NewInt(int64(n)))
		if err != nil {
			return 0 // cannot be: the system's source of randomness never fails
		}
		return int(i.Int64())
	}
	return fmt.Sprintf("%s-%s-%s-%d", words[pick(len(words))], words[pick(len(words))], words[pick(len(words))],
		100+pick(900))
}

// load reads the studio of a folder; it is nil where there is none yet.
func load(dir string) (*studio, error) {
	b, err := os.ReadFile(filepath.Join(dir, studioFile))
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	st := &studio{}
	if err := json.Unmarshal(b, st); err != nil {
		return nil, fmt.Errorf("%s in %s is damaged: %w; delete the folder to begin afresh", studioFile, dir, err)
	}
	if st.Keys["spray_booth"] == "" {
		return nil, fmt.Errorf("%s was made by an earlier idleember; delete it to begin afresh", dir)
	}
	return st, nil
}

func (st *studio) save(dir string) error {
	b, err := json.MarshalIndent(st, "", "  ")
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(dir, studioFile), b, 0o600)
}

// away is how long before now the kiln's board lost its power, with the elements switched on by hand. It is not in the
// hour in which the rinse valve is exercised: the hub of then would end with the valve open, and three days of that
// would be its past.
func away(now time.Time, loc *time.Location) time.Duration {
	const usual = 73 * time.Hour
	if now.Add(-usual).In(loc).Hour() == exercised {
		return usual + 2*time.Hour
	}
	return usual
}

// build makes the studio in a new folder: a hub of three days ago, in which everything was set up and the kiln was left
// on, with a longer history beside it.
func build(ctx context.Context, dir string, o serve.Options, out io.Writer, past time.Duration) (*studio, *world,
	error) {
	db, err := store.Open(ctx, dir, store.Options{Log: o.Log, NoSync: o.NoSync})
	if err != nil {
		return nil, nil, err
	}
	defer func() { _ = db.Close() }()
	loc, err := time.LoadLocation(zone)
	if err != nil {
		return nil, nil, err
	}
	ago := away(time.Now(), loc)
	h, people, err := household.Start(ctx, db, hub.Options{Log: o.Log, Version: serve.Version,
		Now: func() time.Time { return time.Now().Add(-ago) }})
	if err != nil {
		return nil, nil, err
	}
	defer h.Stop()
	if people.SetupCode() == "" {
		return nil, nil, fmt.Errorf("%s holds a hub that is not the demo's; choose another folder with --data", dir)
	}
	st, w, err := settle(ctx, &rooms{h, people, pages.New(h, db, nil, o.Log), archive.New(h, db, o.Log)}, out, past)
	if err == nil {
		err = st.save(dir)
	}
	if err != nil {
		return nil, nil, fmt.Errorf("the studio was not finished (%w); delete %s and start again", err, dir)
	}
	return st, w, nil
}

// rooms are those of the house that the studio is furnished through.
type rooms struct {
	hub     *hub.Hub
	people  *household.People
	pages   *pages.Pages
	archive *archive.Archive
}

func settle(ctx context.Context, r *rooms, out io.Writer, past time.Duration) (*studio, *world, error) {
	h := r.hub
	st := &studio{Keys: map[string]string{}, Accounts: []account{{"mo", "Mo", access.Owner, phrase()}, {"kim", "Kim",
		access.Member, phrase()}, {"visitor", "Visitor", access.Guest, phrase()}}}
	me := access.HubActor()
	me.Name = "the demo"
	if err := furnish(ctx, h, me, st); err != nil {
		return nil, nil, err
	}
	if err := automate(ctx, h, me); err != nil {
		return nil, nil, err
	}
	owner := st.Accounts[0]
	settings := site.Hub{Name: "Rowan Lane studio", Latitude: 48.21, Longitude: 16.37, Zone: zone}
	if err := r.people.SetUp(ctx, r.people.SetupCode(), "the demo", settings, household.NewMember{Account: owner.Account,
		Name: owner.Name, Password: owner.Password}); err != nil {
		return nil, nil, err
	}
	for _, a := range st.Accounts[1:] {
		if _, err := r.people.AddMember(ctx, me, household.NewMember{Account: a.Account, Name: a.Name, Role: a.Role,
			Password: a.Password}); err != nil {
			return nil, nil, err
		}
	}
	if err := arrange(ctx, h, r.pages, owner); err != nil {
		return nil, nil, err
	}
	if err := leaveOn(ctx, h); err != nil {
		return nil, nil, err
	}
	w, err := history(ctx, h, r.archive, me, out, past)
	return st, w, err
}

// leaveOn lets Mo switch the kiln on by hand, and its board lose its power.
func leaveOn(ctx context.Context, h *hub.Hub) error {
	s := hub.Session{Device: "kiln", ID: "demo-kiln", Link: "mqtt", Client: "kiln", From: "127.0.0.1"}
	h.Online(s)
	say := func(on bool) {
		done := make(chan struct{})
		h.Deliver(hub.Arrival{Session: s, Topic: "ember/kiln/is/elements", Reports: []hub.Report{{Name: "elements",
			Value: reading.OnOff(on)}}, Done: func(hub.Result) { close(done) }})
		<-done
	}
	say(false)
	mo := access.Actor{Kind: access.Person, ID: "mo", Name: "Mo", Role: access.Owner}
	if _, err := h.Switch(ctx, mo, "kiln.elements", reading.OnOff(true), time.Now().Add(7*24*time.Hour)); err != nil {
		return err
	}
	say(true)
	h.Offline(s, "its connection broke", false)
	return nil
}

// thing is a signal or switch of a board.
type thing struct {
	raw, name, unit string
	kind            site.ValueKind // empty: a switch
	decimals        int
	open            bool // to guests
	dangerous       bool
}

// boards are the devices of the studio that speak MQTT, beside those that are made from a model.
var boards = []struct {
	name, place string
	things      []thing
}{
	{"Kiln", "Kiln shed", []thing{{raw: "chamber", name: "Kiln chamber", unit: "Cel", kind: site.Number}, {raw: "power",
		name: "Kiln power", unit: "W", kind: site.Number},
		{raw: "door", name: "Kiln door open", kind: site.OnOff}, {raw: "elements", name: "Elements", dangerous: true},
		{raw: "vent", name: "Vent fan"}}},
	{"Kiln shed", "Kiln shed", []thing{{raw: "carbon_monoxide", name: "Carbon monoxide", unit: "[ppm]", kind: site.Number},
		{raw: "extractor", name: "Extractor"}, {raw: "duct", name: "Duct"}}},
	{"Slip tank", "Slip room", []thing{{raw: "level", name: "Level", unit: "%", kind: site.Number, decimals: 1},
		{raw: "float", name: "Float above empty", kind: site.OnOff},
		{raw: "reclaim_pump", name: "Reclaim pump"}, {raw: "rinse_valve", name: "Rinse valve"}}},
	{"Yard", "Yard", []thing{{raw: "daylight", name: "Daylight", unit: "lx", kind: site.Number, open: true}, {raw: "lamp",
		name: "Yard lamp", open: true},
		{raw: "gate_open", name: "Gate open", kind: site.OnOff}, {raw: "gate_shut", name: "Gate shut", kind: site.OnOff},
		{raw: "gate_pulse", name: "Gate pulse"}, {raw: "gate", name: "Gate"}}},
	{"Glaze store", "Glaze room", []thing{{raw: "door_open", name: "Store door open", kind: site.OnOff}, {raw: "door_shut",
		name: "Store door shut", kind: site.OnOff},
		{raw: "door_up", name: "Door up"}, {raw: "door_down", name: "Door down"}, {raw: "door", name: "Store door"},
		{raw: "temperature", name: "Store temperature", unit: "Cel", kind: site.Number, decimals: 1}, {raw: "heater",
			name: "Store heater"}, {raw: "cooler", name: "Store cooler"}}},
	{"Spray booth", "Glaze room", []thing{{raw: "air_speed", name: "Air speed", unit: "m/s", kind: site.Number,
		decimals: 2}, {raw: "fan", name: "Booth fan"}}},
	{"Damp cupboard", "Damp cupboard", []thing{{raw: "humidity", name: "Humidity", unit: "%", kind: site.Number,
		decimals: 1}, {raw: "mister", name: "Mister"}}},
}

// furnish puts the studio's devices into a new hub.
func furnish(ctx context.Context, h *hub.Hub, me access.Actor, st *studio) error {
	nowhere := map[string]string{"modbus_fan": "127.0.0.1:1", "line_scale": "127.0.0.1:1"} // until they are introduced
	fromModel := func(model, name, place string) (string, error) {
		made, err := h.AddFromModel(ctx, me, model, []site.Device{{Name: name, Place: place,
			Link: site.Link{Address: nowhere[model]}}})
		if err != nil {
			return "", err
		}
		st.Keys[made[0].Device.Config.ID] = made[0].Key
		return made[0].Device.Config.ID, nil
	}
	if _, err := fromModel("climate_board", "Drying room", "Drying room"); err != nil {
		return err
	}
	if err := hub.Change(ctx, h, me, boardID, func(d *site.Device) { d.LeaseMS = 30_000 }); err != nil {
		return err
	}
	if _, err := h.Keep(ctx, me, site.Signal{ID: boardID + ".clay_moisture", Device: boardID, Raw: "clay_moisture",
		Name: "Clay moisture", Kind: site.Number, Reports: site.Periodic, Unit: "%", Decimals: 1}); err != nil {
		return err
	}
	for _, raw := range []string{"temperature", "humidity", "clay_moisture"} {
		if err := hub.Change(ctx, h, me, boardID+"."+raw, func(s *site.Signal) {
			s.Decimals, s.IntervalMS = 1, every.Milliseconds()
			if raw != "clay_moisture" {
				s.Guests = site.GuestsSee
			}
		}); err != nil {
			return err
		}
	}
	if err := equip(ctx, h, me, boardID, []thing{{raw: "boost", name: "Dehumidifier's button"}}); err != nil {
		return err
	}
	for _, b := range boards {
		d, key, err := h.AddDevice(ctx, me, site.Device{Name: b.name, Place: b.place, LeaseMS: 30_000})
		if err != nil {
			return err
		}
		st.Keys[d.Config.ID] = key
		if err := equip(ctx, h, me, d.Config.ID, b.things); err != nil {
			return err
		}
	}
	for _, m := range []struct{ model, name, place string }{{"modbus_fan", "Shelf fan", "Drying room"}, {"battery_monitor",
		"Shed battery", "Yard"}, {"line_scale", "Glaze scale", "Glaze room"}, {"weather_page", "Weather", "Yard"}} {
		if _, err := fromModel(m.model, m.name, m.place); err != nil {
			return err
		}
	}
	return nil
}

func equip(ctx context.Context, h *hub.Hub, me access.Actor, device string, things []thing) error {
	for _, x := range things {
		if x.kind == "" {
			c := site.NewControl(device, x.raw, x.raw, x.name)
			c.Dangerous = x.dangerous
			shape(&c)
			if x.open {
				c.Guests = site.GuestsSwitch
			}
			if _, err := h.Keep(ctx, me, c); err != nil {
				return fmt.Errorf("%s: %w", c.ID, err)
			}
			continue
		}
		s := site.Signal{ID: device + "." + x.raw, Device: device, Raw: x.raw, Name: x.name, Kind: x.kind,
			Reports: site.OnChange, Unit: x.unit, Decimals: x.decimals}
		if s.Kind == site.Number {
			s.Reports, s.IntervalMS = site.Periodic, every.Milliseconds()
		}
		if x.open {
			s.Guests = site.GuestsSee
		}
		if _, err := h.Keep(ctx, me, s); err != nil {
			return err
		}
	}
	return nil
}
