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
	"idleember/core/reading"
	"idleember/core/site"
	"idleember/hub"
	"idleember/serve"
	"idleember/store"
)

// studio is what the demo must remember between two starts.
type studio struct {
	Key      string    `json:"key"` // of the drying room's board
	Accounts []account `json:"accounts"`
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
func open(ctx context.Context, dir string, s *serve.Service, out io.Writer, past time.Duration) (*studio, *room, error) {
	file := filepath.Join(dir, studioFile)
	b, err := os.ReadFile(file)
	switch {
	case err == nil:
		st := &studio{}
		if err := json.Unmarshal(b, st); err != nil {
			return nil, nil, fmt.Errorf("%s is damaged: %w; delete %s to begin afresh", file, err, dir)
		}
		return st, lastRoom(ctx, s.Hub), nil
	case !errors.Is(err, os.ErrNotExist):
		return nil, nil, err
	case s.Hub.SetupCode() == "":
		return nil, nil, fmt.Errorf("%s holds a hub that is not the demo's; choose another folder with --data", dir)
	}
	st, r, err := build(ctx, file, s.Hub, out, past)
	if err != nil {
		return nil, nil, fmt.Errorf("the studio was not finished (%w); delete %s and start again", err, dir)
	}
	return st, r, nil
}

func build(ctx context.Context, file string, h *hub.Hub, out io.Writer, past time.Duration) (*studio, *room, error) {
	st := &studio{Accounts: []account{{"mo", "Mo", access.Owner, phrase()}, {"kim", "Kim", access.Member, phrase()},
		{"visitor", "Visitor", access.Guest, phrase()}}}
	me := access.HubActor()
	me.Name = "the demo"
	_, key, err := h.AddDevice(ctx, me, site.Device{Name: "Drying room", Place: "Drying room", Lease: 30 * time.Second, NewSignals: true})
	if err != nil {
		return nil, nil, err
	}
	st.Key = key
	signals := []struct{ raw, unit string }{{"temperature", "Cel"}, {"humidity", "%"}, {"clay_moisture", "%"}}
	for _, g := range signals {
		if _, err := h.AddSignal(ctx, me, boardID, g.raw, site.Number, func(s *site.Signal) {
			s.Unit, s.Decimals, s.New, s.Interval = g.unit, 1, false, every
			if g.raw != "clay_moisture" {
				s.Guests = site.GuestsSee
			}
		}); err != nil {
			return nil, nil, err
		}
	}
	if _, err := h.AddControl(ctx, me, boardID, "Heater", func(*site.Control) error { return nil }); err != nil {
		return nil, nil, err
	}
	r, err := history(ctx, h, me, out, past)
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
	return st, r, os.WriteFile(file, b, 0o600)
}

// history runs the model over the past and stores what its board would have sent, but for a night on which it
// was unplugged. It returns the room as it is at the end.
func history(ctx context.Context, h *hub.Hub, me access.Actor, out io.Writer, past time.Duration) (*room, error) {
	loc, err := time.LoadLocation(zone)
	if err != nil {
		return nil, err
	}
	now := time.Now().Truncate(time.Second)
	start := now.Add(-past)
	cut := now.Add(-61 * time.Hour)
	r := newRoom(7, start)
	series := map[string][]store.Reading{}
	add := func(name string, at time.Time, v reading.Value) {
		series[name] = append(series[name], store.Reading{T: at.UnixMilli(), Value: v})
	}
	for at := start; at.Before(now); at = at.Add(every) {
		unplugged := at.After(cut) && at.Before(cut.Add(100*time.Minute))
		on := habit(at, loc) && !unplugged && now.Sub(at) > 30*time.Minute
		if on != r.heater || at.Equal(start) {
			r.heater = on
			add(boardID+".heater.is", at, reading.OnOff(on))
			add(boardID+".heater.want", at, reading.OnOff(on))
		}
		r.step(at, every)
		if unplugged {
			continue
		}
		t, hum, clay := r.sense()
		stamp := at.Add(time.Duration(r.rng.IntN(90)) * time.Millisecond)
		add(boardID+".temperature", stamp, reading.Number(t))
		add(boardID+".humidity", stamp, reading.Number(hum))
		add(boardID+".clay_moisture", stamp, reading.Number(clay))
	}
	done := 0
	for _, name := range []string{"temperature", "humidity", "clay_moisture", "heater.is", "heater.want"} {
		list := series[boardID+"."+name]
		_, _ = fmt.Fprintf(out, "\rMaking %d days of history … %d of 5 series", int(past.Hours()/24), done)
		if err := h.Backfill(ctx, me, boardID+"."+name, list); err != nil {
			return nil, err
		}
		done++
	}
	_, _ = fmt.Fprintf(out, "\rMaking %d days of history … done.          \n\n", int(past.Hours()/24))
	r.heater = false
	return r, ctx.Err()
}

// lastRoom is the room as history left it, so that live readings go on where it ends.
func lastRoom(ctx context.Context, h *hub.Hub) *room {
	now := time.Now()
	r := newRoom(uint64(now.UnixNano()), now)
	snap, err := h.Now(ctx, access.HubActor())
	if err != nil {
		return r
	}
	for _, s := range snap.Signals {
		if s.Value == nil {
			continue
		}
		switch s.ID {
		case boardID + ".temperature":
			r.air, r.walls = s.Value.Num, s.Value.Num
		case boardID + ".clay_moisture":
			r.clay = s.Value.Num
		}
	}
	for _, s := range snap.Signals {
		if s.ID == boardID+".humidity" && s.Value != nil {
			r.vapour = s.Value.Num / 100 * saturation(r.air)
		}
	}
	return r
}
