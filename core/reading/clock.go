package reading

import (
	"fmt"
	"slices"
	"time"
)

// Quality says how far a reading can be trusted.
type Quality int

// Good readings feed everything; Suspect and Bad ones are kept and shown, and never feed a demand.
const (
	Good Quality = iota
	Suspect
	Bad
)

// String names the quality.
func (q Quality) String() string { return [...]string{"good", "suspect", "bad"}[q] }

const (
	liveWithin   = 30 * time.Second
	aheadAllowed = 5 * time.Minute
	clockSamples = 8
	clockNeeded  = 4
	clockSpan    = time.Minute      // samples must have arrived over at least this, else it is a backlog sent in one go
	clockSpread  = 30 * time.Second // a clock that is off is off by the same; a backlog is not
)

// Clock learns how far a device's clock is off. The zero value knows nothing and takes the device's clock as right.
type Clock struct {
	arrivals []time.Time
	offs     []time.Duration // arrival minus device time
}

// Offset is what must be added to the device's times, 0 while it is within 30 s or not consistent.
func (c *Clock) Offset() time.Duration {
	n := len(c.offs)
	if n < clockNeeded || c.arrivals[n-1].Sub(c.arrivals[0]) < clockSpan {
		return 0
	}
	lo, hi := slices.Min(c.offs), slices.Max(c.offs)
	if hi-lo > clockSpread || lo.Abs() <= liveWithin {
		return 0
	}
	return lo
}

// Learn takes one message's arrival and the newest device time in it.
func (c *Clock) Learn(arrival, device time.Time) {
	c.arrivals, c.offs = append(c.arrivals, arrival), append(c.offs, arrival.Sub(device))
	if len(c.offs) > clockSamples {
		c.arrivals, c.offs = c.arrivals[1:], c.offs[1:]
	}
}

// Placed is where a reading belongs in time.
type Placed struct {
	At      time.Time
	Live    bool
	Quality Quality
	Ahead   bool // it was stamped with its arrival because its device time was ahead
	Own     bool // At is what the device's own clock said
}

// Place decides the time of a reading that arrived at arrival, was stamped device (zero: not stamped), and whose signal
// usually reports every interval. A stamp more than 5 min ahead is refused unless the device's clock is known to be
// off.
func (c *Clock) Place(arrival, device time.Time, interval time.Duration) (Placed, error) {
	if device.IsZero() {
		return Placed{At: arrival, Live: true}, nil
	}
	off := c.Offset()
	at := device.Add(off)
	behind := arrival.Sub(at)
	switch {
	case behind < -aheadAllowed:
		return Placed{}, fmt.Errorf("its time %s is %s ahead of the hub's clock; set the board's clock, or leave the "+
			"time out",
			device.UTC().Format(time.RFC3339), Long(behind.Abs()))
	case off < -aheadAllowed:
		return Placed{At: arrival, Live: true, Quality: Suspect, Ahead: true}, nil
	case behind < 0:
		return Placed{At: arrival, Live: true, Ahead: true}, nil
	case behind <= max(liveWithin, interval):
		return Placed{At: at, Live: true, Own: off == 0}, nil
	default:
		return Placed{At: at, Own: off == 0}, nil
	}
}

// What OddTime goes by: how old a reading may be before somebody is asked, what the clocks of small boards count from,
// and how far off such a one may be.
const (
	oddAfter    = 10 * 365 * 24 * time.Hour
	from2000    = 946_684_800 * time.Second // 1 January 2000 in Unix time
	neverSet    = 5 * 365 * 24 * time.Hour  // since the clock's beginning: no board runs longer without a stop
	oddDistance = 2 * 24 * time.Hour
)

// OddTime says what is strange about a stamp that is years behind: that the board counts from 2000, or that nobody ever
// set its clock. It is empty for all others. What is kept of old times is for the owner to say.
func OddTime(stamp, now time.Time) string {
	if stamp.IsZero() || now.Sub(stamp) < oddAfter {
		return ""
	}
	said := "its time is " + stamp.UTC().Format(time.RFC3339)
	switch {
	case now.Sub(stamp.Add(from2000)).Abs() < oddDistance:
		return said + ": the board counts from 2000; add 946684800 seconds, or leave the time out"
	case stamp.Before(time.Unix(0, 0).Add(neverSet)) || stamp.Sub(time.Unix(0, 0).Add(from2000)).Abs() < neverSet/5:
		return said + ": the board's clock was never set; set it, or leave the time out"
	}
	return said + ", " + Long(now.Sub(stamp)) + " ago; if that is no reading of the past, set the board's clock"
}

// MostApart is how far ahead of its arrival a reading is put at most so that it takes no other's place.
const MostApart = time.Second

// Apart is the time of a reading that is stamped with its arrival while the newest of its signal is of last: a
// millisecond later than that where several arrive in one. Past MostApart they do take each other's place.
func Apart(arrival, last time.Time) time.Time {
	most := arrival.Add(MostApart)
	if last.Before(arrival) || last.After(most) {
		return arrival
	}
	if next := last.Add(time.Millisecond); next.Before(most) {
		return next
	}
	return most
}

// mostAhead bounds what is believed of a device while nobody knows the time: the hub was not switched off for longer.
const mostAhead = 20 * 365 * 24 * time.Hour

// PlaceUnset is Place while the hub's own clock is not to be trusted and arrival does no more than keep the order: a
// device's time that is later is kept as it is. It is live once the device has shown that it does not bring a backlog:
// its clock has gone on evenly with the hub's for a while.
func (c *Clock) PlaceUnset(arrival, device time.Time, interval time.Duration) (Placed, error) {
	ahead := device.Sub(arrival)
	if device.IsZero() || ahead <= 0 || ahead > mostAhead {
		return c.Place(arrival, device, interval)
	}
	n := len(c.offs)
	even := n >= clockNeeded && c.arrivals[n-1].Sub(c.arrivals[0]) >= clockSpan &&
		max(slices.Max(c.offs), -ahead)-min(slices.Min(c.offs), -ahead) <= clockSpread
	return Placed{At: device, Live: even, Own: true}, nil
}

// Move takes along what was learnt of arrivals since from when the hub's own clock is set by a difference.
func (c *Clock) Move(from time.Time, by time.Duration) {
	for i := range c.arrivals {
		if !c.arrivals[i].Before(from) {
			c.arrivals[i], c.offs[i] = c.arrivals[i].Add(by), c.offs[i]+by
		}
	}
}

// Rhythm learns how often a signal reports. The zero value knows nothing.
type Rhythm struct {
	last  time.Duration
	gaps  []time.Duration
	mid   time.Duration // their median
	seen  bool
	even  time.Duration // since when the gaps agree
	count int           // how many do
}

// What it takes for gaps to agree: so many, over such a time, none of them further off from the others than this
// factor.
const (
	evenGaps   = 8
	evenSpan   = 2 * time.Minute
	evenFactor = 1.5
)

const rhythmSamples = 9

// Heard takes the arrival of a live reading, on a monotonic clock.
func (r *Rhythm) Heard(mono time.Duration) {
	if r.seen && mono > r.last {
		if len(r.gaps) == rhythmSamples {
			copy(r.gaps, r.gaps[1:])
			r.gaps = r.gaps[:rhythmSamples-1]
		}
		gap := mono - r.last
		r.gaps = append(r.gaps, gap)
		r.mid = r.middle()
		if middle := float64(r.mid); float64(gap) > middle*evenFactor || float64(gap) < middle/evenFactor {
			r.even, r.count = mono, 0
		} else {
			r.count++
		}
	} else if !r.seen {
		r.even = mono
	}
	r.last, r.seen = mono, true
}

// Fixed is the median of the last gaps where enough of them agree over a while, else 0.
func (r *Rhythm) Fixed() time.Duration {
	if r.count < evenGaps || r.last-r.even < evenSpan {
		return 0
	}
	return r.mid
}

// Interval is the median of the last gaps, or 0 while fewer than three are known.
func (r *Rhythm) Interval() time.Duration {
	if len(r.gaps) < 3 {
		return 0
	}
	return r.mid
}

func (r *Rhythm) middle() time.Duration {
	var sorted [rhythmSamples]time.Duration
	n := copy(sorted[:], r.gaps)
	slices.Sort(sorted[:n])
	return sorted[n/2]
}

// Long words a duration, in whole days or years where it has many.
func Long(d time.Duration) string {
	if d > 200*365*24*time.Hour { // more than a Duration tells
		return "centuries"
	}
	if d > 1000*24*time.Hour {
		return fmt.Sprintf("%d years", int(d.Hours()/24/365.25+0.5))
	}
	if d > 48*time.Hour {
		return fmt.Sprintf("%d days", int(d.Hours()/24))
	}
	return d.Round(time.Second).String()
}
