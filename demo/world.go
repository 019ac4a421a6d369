package demo

import (
	"context"
	"math"
	"math/rand/v2"
	"sync"
	"time"
)

// world is the whole studio as a physical model. Its parts are guarded by mu.
type world struct {
	mu   sync.Mutex
	room *room
	rest
}

// rest is everything but the drying room: simple models, good enough for heaters that warm and tanks that empty.
type rest struct {
	rng *rand.Rand
	loc *time.Location
	// the kiln and its shed
	chamber, monoxide            float64 // °C, ppm
	elements, vent, door, blower bool    // blower: the shed's extractor
	// the slip tank
	level float64 // %
	pump  bool
	// the yard
	daylight float64 // lux
	lamp     bool
	// the damp cupboard, which keeps its humidity by itself too
	damp, keep float64 // %, and the setpoint that its board has a copy of
	mister     bool
	// the glaze store's door: 0 is shut, 1 is open
	storeDoor        float64
	doorUp, doorDown bool
	// the yard's gate, which one pulse sets in motion and the next one stops
	gate             float64
	gateWay, gateWas float64 // where it moves to, where it last moved to
	gatePulse        bool
	gateHeld         bool
	// the shed's duct, %
	duct float64
	// the spray booth: its fan in %, the dust in its filter from 0 to 1, the air's speed in m/s
	booth, dust, draught float64
	// the glaze store's air, °C
	store          float64
	warmer, cooler bool
	// the valve that rinses the slip tank's sieve
	rinse bool
	// the fan at the shelves
	fan          bool
	speed, motor float64 // per minute, °C
	watchdog     float64 // seconds since the hub's last beat
	// the shed's battery
	battery  float64 // V
	charging bool
	// the glaze scale
	weight, load float64 // g; load is what is being poured
	scaleLamp    bool
}

// The constants are made up.
const (
	kilnStore = 9e3    // J/K
	kilnLoss  = 1.6    // W/K
	kilnVent  = 1.1    // W/K more with the vent open
	kilnPower = 3600.0 // W
	fanFull   = 1380.0 // per minute
	fanWatts  = 62.0
)

func newWorld(seed uint64, at time.Time, loc *time.Location) *world {
	return &world{room: newRoom(seed, at), rest: rest{rng: rand.New(rand.NewPCG(seed, 2)), loc: loc, chamber: 340,
		monoxide: 4, level: 64, battery: 12.7, motor: 18, damp: 82, keep: 85, dust: 0.25, store: 15}}
}

// run lets time pass until the context ends.
func (w *world) run(ctx context.Context) {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for last := time.Now(); ; {
		select {
		case <-ctx.Done():
			return
		case now := <-tick.C:
			w.mu.Lock()
			w.room.step(now, now.Sub(last))
			w.step(now, now.Sub(last))
			w.mu.Unlock()
			last = now
		}
	}
}

func (r *rest) noise(s float64) float64 { return r.rng.NormFloat64() * s }

// sun is how high the sun stands, from -1 to 1: a day of about the season's length, at an invented place.
func (r *rest) sun(at time.Time) float64 {
	t := at.In(r.loc)
	hour := float64(t.Hour()) + float64(t.Minute())/60
	season := 0.4 * math.Cos(2*math.Pi*float64(t.YearDay()-172)/365)
	return math.Sin(2*math.Pi*(hour-6.2)/24) - 0.1 + 0.4*season
}

// step lets d pass.
func (r *rest) step(at time.Time, d time.Duration) {
	s := d.Seconds()
	power := 0.0
	if r.elements && r.chamber < 1260 {
		power = kilnPower
	}
	loss := kilnLoss
	if r.vent {
		loss += kilnVent
	}
	if r.door {
		loss += 6
	}
	r.chamber += s * (power - loss*(r.chamber-16)) / kilnStore
	source := 0.02
	if r.elements {
		source = 0.5
	}
	air := 1.0/900 + r.duct/100/300
	if r.blower {
		air = 1.0 / 60
	}
	r.monoxide = math.Max(0, r.monoxide+s*(source-r.monoxide*air))
	use := 100.0 / (26 * 3600) // the studio draws slip all day
	if h := at.In(r.loc).Hour(); h < 8 || h > 18 {
		use = 0
	}
	if r.pump {
		use -= 100.0 / 480
	}
	r.level = math.Max(2, math.Min(98, r.level-s*use))
	r.daylight = math.Max(0, 42_000*r.sun(at)) * (0.8 + 0.2*math.Sin(float64(at.Unix())/700))
	r.openings(s)
	r.dust = math.Min(0.75, r.dust+s*r.booth/100*0.5/(21*24*3600))
	r.draught += (r.booth/100*1.1*(1-r.dust) - r.draught) * math.Min(1, s/6)
	r.store += s * (outside(at) + 8 - r.store) / (3 * 3600)
	if r.warmer {
		r.store += s * 4 / 3600
	}
	if r.cooler {
		r.store -= s * 5 / 3600
	}
	r.damp += s * (62 - r.damp) / 2400
	if r.mister {
		r.damp = math.Min(97, r.damp+s*0.12)
	}
	want := 0.0
	if r.fan {
		want = fanFull
	}
	r.speed += (want - r.speed) * math.Min(1, s/4)
	r.motor += s * ((16 + 22*r.speed/fanFull) - r.motor) / 240
	r.watchdog += s
	r.charging = r.sun(at) > 0.25
	if r.charging {
		r.battery += s * (13.9 - r.battery) / 9000
	} else {
		r.battery += s * (11.6 - r.battery) / 160_000
	}
	switch {
	case r.load > 0:
		pour := math.Min(r.load, 9*s)
		r.weight, r.load = r.weight+pour, r.load-pour
	case r.weight > 1400:
		r.weight = 0
	case r.rng.Float64() < s/45:
		r.load = 120 + 300*r.rng.Float64()
	}
}

func round(v, step float64) float64 {
	n := math.Round(v/step) * step
	return math.Round(n*1000) / 1000
}

func (r *rest) kiln() map[string]any {
	power := 0.0
	if r.elements && r.chamber < 1260 {
		power = kilnPower + r.noise(20)
	}
	return map[string]any{"chamber": round(r.chamber+r.noise(0.4), 0.5), "power": round(power, 1), "door": r.door}
}

func (r *rest) shed() map[string]any {
	return map[string]any{"carbon_monoxide": round(math.Max(0, r.monoxide+r.noise(0.4)), 1)}
}

func (r *rest) tank() map[string]any {
	return map[string]any{"level": round(r.level+r.noise(0.1), 0.1), "float": r.level > 12}
}

func (r *rest) yard() map[string]any {
	return map[string]any{"daylight": round(math.Max(0, r.daylight*(1+r.noise(0.01))), 1), "gate_open": r.gate >= 1,
		"gate_shut": r.gate <= 0}
}

// travel is how long the glaze store's door and the gate need from end to end, in seconds.
const travel = 12.0

const (
	firstVisit = 30 * time.Second
	nextVisit  = 5 * time.Hour
	visitLasts = 20 * time.Second
)

// visits are of somebody who looks into the kiln now and then, so that there is something to be told of soon.
func (w *world) visits(ctx context.Context) {
	door := func(open bool) {
		w.mu.Lock()
		w.door = open
		w.mu.Unlock()
	}
	for wait := firstVisit; ; wait = nextVisit {
		for _, open := range []bool{true, false} {
			select {
			case <-ctx.Done():
				return
			case <-time.After(wait):
			}
			door(open)
			wait = visitLasts
		}
	}
}

// openings lets the door and the gate move.
func (r *rest) openings(s float64) {
	switch {
	case r.doorUp && !r.doorDown:
		r.storeDoor = math.Min(1, r.storeDoor+s/travel)
	case r.doorDown && !r.doorUp:
		r.storeDoor = math.Max(0, r.storeDoor-s/travel)
	}
	if r.gatePulse && !r.gateHeld {
		if r.gateWay != 0 {
			r.gateWay = 0 // a pulse on the way stops it
		} else {
			r.gateWay = 1
			if r.gate >= 1 || r.gate > 0 && r.gateWas > 0 {
				r.gateWay = -1
			}
			r.gateWas = r.gateWay
		}
	}
	r.gateHeld = r.gatePulse
	r.gate = math.Min(1, math.Max(0, r.gate+r.gateWay*s/travel))
	if r.gate == 0 && r.gateWay < 0 || r.gate == 1 && r.gateWay > 0 {
		r.gateWay = 0
	}
}

func (r *rest) cupboard() map[string]any {
	return map[string]any{"humidity": round(r.damp+r.noise(0.2), 0.5)}
}

func (r *rest) glazes() map[string]any {
	return map[string]any{"door_open": r.storeDoor >= 1, "door_shut": r.storeDoor <= 0,
		"temperature": round(r.store+r.noise(0.03), 0.1)}
}

func (r *rest) spray() map[string]any {
	return map[string]any{"air_speed": round(math.Max(0, r.draught*(1+r.noise(0.01))), 0.01)}
}

// counts are what a 10-bit converter makes of the battery behind its divider.
func (r *rest) counts() int {
	pin := r.battery * 22_000 / 122_000
	return int(math.Round(pin / 3.3 * 1023))
}
