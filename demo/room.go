// Package demo is a made-up pottery studio: boards that run a small physical model and speak real protocols over
// loopback, with a few weeks of history made by the same model.
package demo

import (
	"math"
	"math/rand/v2"
	"time"
)

// room is the drying room: air and walls as two heat stores, moist air, and pieces of clay that dry.
type room struct {
	air, walls float64 // °C
	vapour     float64 // partial pressure of water, Pa
	clay       float64 // water in the clay, % of its dry mass
	heater     bool
	// The old dehumidifier has one button for everything: two presses in a row start it for ten minutes.
	boost, boostWas bool
	press, dry      float64 // seconds since the last press, and that it still runs
	rng             *rand.Rand
}

// The room's constants: made up, plausible for 30 m³ behind a stone wall.
const (
	airStore   = 70e3   // J/K: air and light shelves
	wallStore  = 2.4e6  // J/K
	airToWall  = 140.0  // W/K
	wallToYard = 22.0   // W/K
	wallToHome = 46.0   // W/K, to the house behind
	home       = 19.0   // °C
	airToYard  = 14.0   // W/K, through the gaps of the door
	heaterW    = 1500.0 // W
	airChange  = 0.35 / 3600
	drying     = 3.4e-7 // share of the clay's water that goes per second and Pa of vapour deficit, scaled below
	soak       = 0.16   // Pa per second that wet clay adds per Pa of deficit and share of water
)

func newRoom(seed uint64, at time.Time) *room {
	return &room{press: 60, air: 15, walls: 15, vapour: 0.6 * saturation(15), clay: 22,
		rng: rand.New(rand.NewPCG(seed, 1))}
}

// saturation is the saturation vapour pressure over water in Pa at t °C, by the Magnus form of Alduchov and Eskridge,
// "Improved Magnus form approximation of saturation vapor pressure", J. Appl. Meteor. 35 (1996).
func saturation(t float64) float64 { return 610.94 * math.Exp(17.625*t/(t+243.04)) }

// outside is the yard's temperature in °C: a day's swing, and weather that changes over days.
func outside(at time.Time) float64 {
	day := float64(at.UnixMilli()) / 86_400_000
	return 7 - 4.5*math.Cos(2*math.Pi*(day-0.12)) + 2.6*math.Sin(2*math.Pi*day/5.3) + 1.4*math.Sin(2*math.Pi*day/2.1)
}

// step lets d pass.
func (r *room) step(at time.Time, d time.Duration) {
	yard := outside(at)
	yardVapour := 0.78 * saturation(yard)
	r.button(d.Seconds())
	for left := d.Seconds(); left > 0; left -= 2 {
		s := math.Min(left, 2)
		heat := airToWall*(r.walls-r.air) + airToYard*(yard-r.air)
		if r.heater {
			heat += heaterW
		}
		r.walls += s * (airToWall*(r.air-r.walls) + wallToYard*(yard-r.walls) + wallToHome*(home-r.walls)) / wallStore
		r.air += s * heat / airStore
		deficit := saturation(r.air) - r.vapour
		water := math.Max(0, r.clay-1.5) / 25
		r.vapour += s * (soak*deficit*water*1e-3 + airChange*(yardVapour-r.vapour))
		if r.dry > 0 {
			r.vapour -= s * 0.9
		}
		r.vapour = math.Max(150, math.Min(r.vapour, 0.98*saturation(r.air)))
		r.clay -= s * drying * math.Max(0, deficit) * water * 60 / 10
		if r.clay < 2.2 { // the shelves are cleared and loaded afresh
			r.clay = 21.5 + 2*r.rng.Float64()
		}
	}
}

// button is the dehumidifier's.
func (r *room) button(s float64) {
	r.press, r.dry = r.press+s, math.Max(0, r.dry-s)
	if r.boost && !r.boostWas {
		if r.press < 10 {
			r.dry = 600
		}
		r.press = 0
	}
	r.boostWas = r.boost
}

// hang puts boards with wet clay on the shelves: it becomes damp at once.
func (r *room) hang() {
	r.clay = 23
	r.vapour = math.Min(r.vapour+0.14*saturation(r.air), 0.97*saturation(r.air))
}

// measure is what the board reports.
func (r *room) measure() map[string]any {
	t, h, clay := r.sense()
	return map[string]any{"temperature": t, "humidity": h, "clay_moisture": clay}
}

// sense is what the board's sensors make of it: noise, and steps as a cheap sensor has them.
func (r *room) sense() (temperature, humidity, clay float64) {
	noise := func(s float64) float64 { return r.rng.NormFloat64() * s }
	round := func(v, step float64) float64 { return math.Round(v/step) * step }
	temperature = round(r.air+noise(0.04), 0.1)
	humidity = round(math.Min(100, 100*r.vapour/saturation(r.air)+noise(0.25)), 0.5)
	clay = round(r.clay+noise(0.03), 0.1)
	return math.Round(temperature*10) / 10, humidity, math.Round(clay*10) / 10
}

// habit says whether the potter would have the heater on: mornings and late afternoons, never quite on time.
func habit(at time.Time, loc *time.Location) bool {
	t := at.In(loc)
	day := t.YearDay()
	jitter := func(n int) time.Duration { return time.Duration((day*7919*n)%50-25) * time.Minute }
	midnight := time.Date(t.Year(), t.Month(), t.Day(), 0, 0, 0, 0, loc)
	within := func(from, length time.Duration) bool {
		d := t.Sub(midnight)
		return d >= from && d < from+length
	}
	if t.Weekday() == time.Sunday {
		return within(10*time.Hour+jitter(3), 70*time.Minute)
	}
	return within(6*time.Hour+40*time.Minute+jitter(1), 110*time.Minute+jitter(2)) || within(16*time.Hour+jitter(5),
		150*time.Minute+jitter(7))
}
