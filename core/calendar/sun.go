// Package calendar knows when things are due: times of day, days of the week, sunrise and sunset, and what summer time
// does to them. It is pure; every time is handed in.
package calendar

import (
	"math"
	"time"
)

// Spot is a place on the earth, in degrees; north and east are positive.
type Spot struct {
	Latitude, Longitude float64

	days map[time.Time]sunDay // what was computed of it; nil: nothing is remembered
}

// sunDay is what Day returns.
type sunDay struct {
	rise, set time.Time
	up        bool
}

// Remembering is the same place with a memory of its last days, for whoever asks again and again, one at a time.
func (s Spot) Remembering() Spot {
	s.days = map[time.Time]sunDay{}
	return s
}

// daysRemembered bounds the memory: a schedule looks at some days back and a week ahead.
const daysRemembered = 64

// The sun's place is computed after J. Meeus, Astronomical Algorithms, second edition (1998): chapter 25 (low accuracy,
// 0.01°), chapter 12 (sidereal time) and chapter 15 (rising and setting, with a standard altitude of −0°50′ for
// refraction and the half diameter). The result is within a minute up to 65° of latitude; the height of the place and
// of its horizon are not taken into account.
const standardAltitude = -0.8333

func sin(deg float64) float64 { return math.Sin(deg * math.Pi / 180) }
func cos(deg float64) float64 { return math.Cos(deg * math.Pi / 180) }

// sun returns right ascension and declination in degrees.
func sun(jd float64) (ascension, declination float64) {
	t := (jd - 2451545) / 36525
	l := 280.46646 + 36000.76983*t + 0.0003032*t*t
	m := 357.52911 + 35999.05029*t - 0.0001537*t*t
	c := (1.914602-0.004817*t-0.000014*t*t)*sin(m) + (0.019993-0.000101*t)*sin(2*m) + 0.000289*sin(3*m)
	omega := 125.04 - 1934.136*t
	lambda := l + c - 0.00569 - 0.00478*sin(omega)
	epsilon := 23.439291 - 0.0130042*t + 0.00256*cos(omega)
	ascension = math.Atan2(cos(epsilon)*sin(lambda), cos(lambda)) * 180 / math.Pi
	declination = math.Asin(sin(epsilon)*sin(lambda)) * 180 / math.Pi
	return ascension, declination
}

// altitude is the height of the sun's centre above the horizon in degrees, without refraction.
func (s Spot) altitude(t time.Time) float64 {
	jd := julian(t)
	ascension, declination := sun(jd + deltaT/86400)
	d := jd - 2451545
	sidereal := 280.46061837 + 360.98564736629*d + 0.000387933*(d/36525)*(d/36525)
	hour := sidereal + s.Longitude - ascension
	return math.Asin(sin(s.Latitude)*sin(declination)+cos(s.Latitude)*cos(declination)*cos(hour)) * 180 / math.Pi
}

// deltaT is how far the earth's turning lags behind atomic time, in seconds. It changes by less than a second a year;
// the sun moves far less than a hundredth of a degree in it.
const deltaT = 70

func julian(t time.Time) float64 { return float64(t.UnixMilli())/86_400_000 + 2440587.5 }

// Up reports whether the sun is up.
func (s Spot) Up(t time.Time) bool { return s.altitude(t) >= standardAltitude }

// Day returns sunrise and sunset of the day on which t falls in its time zone, to the second. In polar day and night,
// and on days without the one or the other, that one is zero; up then says whether the sun is up at noon.
func (s Spot) Day(t time.Time) (rise, set time.Time, up bool) {
	begin := Midnight(t)
	if d, ok := s.days[begin]; ok {
		return d.rise, d.set, d.up
	}
	rise, set, up = s.day(begin)
	if s.days != nil {
		if len(s.days) >= daysRemembered {
			clear(s.days)
		}
		s.days[begin] = sunDay{rise, set, up}
	}
	return rise, set, up
}

func (s Spot) day(begin time.Time) (rise, set time.Time, up bool) {
	end := Midnight(begin.Add(36 * time.Hour))
	// The sun is never up or down for less than a step, but within minutes of polar day and night. Its height bends by
	// less than 4° an hour squared, so that within an hour at whose ends it is a degree up or down it crosses the horizon
	// once at most.
	const step, stride = 10 * time.Minute, time.Hour
	was := s.altitude(begin) - standardAltitude
	for from := begin; from.Before(end); {
		to := from.Add(stride)
		if to.After(end) {
			to = end
		}
		is := s.altitude(to) - standardAltitude
		if (was >= 0) != (is >= 0) || math.Abs(was) < 1 || math.Abs(is) < 1 {
			up := was >= 0
			for at := from; at.Before(to); at = at.Add(step) {
				next := at.Add(step)
				if next.After(to) {
					next = to
				}
				up = s.step(at, next, up, &rise, &set)
			}
		}
		from, was = to, is
	}
	return rise, set, s.Up(begin.Add(12 * time.Hour))
}

// step notes whether the sun comes up or goes down between two times, and returns whether it is up then.
func (s Spot) step(at, next time.Time, was bool, rise, set *time.Time) bool {
	is := s.Up(next)
	switch {
	case is == was:
	case is && rise.IsZero():
		*rise = s.crossing(at, next, is)
	case !is:
		*set = s.crossing(at, next, is)
	}
	return is
}

// crossing halves the stretch in which the sun comes up or goes down until a second is left.
func (s Spot) crossing(from, to time.Time, rising bool) time.Time {
	for to.Sub(from) > time.Second {
		mid := from.Add(to.Sub(from) / 2)
		if s.Up(mid) == rising {
			to = mid
		} else {
			from = mid
		}
	}
	return to.Truncate(time.Second)
}

// Midnight is the first instant of t's day in its time zone.
func Midnight(t time.Time) time.Time {
	y, m, d := t.Date()
	return Instant(y, m, d, 0, t.Location())
}

// Instant is when a clock in loc first shows the given minute of a day. In an hour that summer time skips it is the
// first instant after the gap; in one that comes twice, the first of the two.
func Instant(year int, month time.Month, day, minute int, loc *time.Location) time.Time {
	t := time.Date(year, month, day, 0, minute, 0, 0, loc)
	// As if no offset ever changed: what the clock should show.
	shown := func(x time.Time) time.Time {
		_, offset := x.Zone()
		return x.Add(time.Duration(offset) * time.Second).UTC()
	}
	want := time.Date(year, month, day, 0, minute, 0, 0, time.UTC)
	if got := shown(t); !got.Equal(want) { // skipped
		begin, end := t.ZoneBounds()
		if got.Before(want) {
			return end
		}
		return begin
	}
	begin, _ := t.ZoneBounds()
	if begin.IsZero() {
		return t
	}
	_, now := t.Zone()
	_, before := begin.Add(-time.Second).Zone()
	if first := t.Add(time.Duration(now-before) * time.Second); first.Before(begin) && shown(first).Equal(want) {
		return first
	}
	return t
}
