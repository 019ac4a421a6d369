package bottle

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"time"

	"idleember/core/site"
)

// Plan is everything that a bottle is made from.
type Plan struct {
	Seed       uint64
	Offset     time.Duration // when in the year it begins, after the first of January
	Span       time.Duration
	Site       *site.Site
	Every      map[string]time.Duration // how often each periodic signal is told
	Doors      map[string]site.Travel   // by mover; the doors stay what they are, whatever becomes of the site
	Happenings []Happening
	Ignore     []string // rules that are not judged
}

// Happening is one disturbance or one thing that somebody does.
type Happening struct {
	At   time.Duration
	Kind Kind
	Of   string        // a device, signal, control, setting, preset …
	For  time.Duration // how long it lasts
	N    float64
	Dice uint64 // what is chosen at random is chosen by this
}

// Kind says what happens.
type Kind string

// What can happen.
const (
	LinkDown  Kind = "loses its link"
	LinkEnds  Kind = "loses its session"
	LinkSlow  Kind = "has a slow link"
	LinkLossy Kind = "has a link that loses messages"
	LinkTwice Kind = "has a link that doubles messages"
	LinkMixed Kind = "has a link that mixes up messages"

	BoardOff    Kind = "has no power"
	BoardReboot Kind = "starts anew"
	HouseOff    Kind = "all boards have no power"

	SensorSilent Kind = "is silent"
	SensorStuck  Kind = "is stuck"
	SensorJumps  Kind = "jumps"
	SensorDies   Kind = "reports ever less often"
	OutputDeaf   Kind = "does not obey"
	OutputLate   Kind = "obeys late"
	OutputWrong  Kind = "does the opposite"
	DoorJams     Kind = "jams"
	Press        Kind = "is switched at the board"
	Turned       Kind = "has its copy of a setting turned"

	HubKilled Kind = "the hub is killed"
	HubSlow   Kind = "the disk is slow"
	ClockOff  Kind = "the hub starts with a wrong clock"
	ClockSet  Kind = "the hub's clock is set"

	Switched   Kind = "is switched"
	GivenBack  Kind = "is given back to auto"
	SetTo      Kind = "is set"
	Applied    Kind = "is applied"
	Locked     Kind = "is taken out of service"
	Unlocked   Kind = "is put back in service"
	ResetLatch Kind = "has its interlocks reset"

	Edited   Kind = "gets other automation"
	Tuned    Kind = "gets another limit"
	Renamed  Kind = "is renamed"
	Latching Kind = "gets a latching interlock"
	Disabled Kind = "is disabled"
	Enabled  Kind = "is enabled"
	Replaced Kind = "gets a new board"
	Deleted  Kind = "is deleted"
)

// kinds are all that can happen, with how often it does.
var kinds = []struct {
	Kind
	weight int
}{{LinkDown, 6}, {LinkEnds, 6}, {LinkSlow, 3}, {LinkLossy, 2}, {LinkTwice, 2}, {LinkMixed, 2}, {BoardOff, 3},
	{BoardReboot, 4}, {HouseOff, 2},
	{SensorSilent, 3}, {SensorStuck, 1}, {SensorJumps, 2}, {SensorDies, 2}, {OutputDeaf, 2}, {OutputLate, 2}, {OutputWrong,
		1}, {DoorJams, 1}, {Press, 6},
	{HubKilled, 8}, {HubSlow, 2}, {ClockOff, 1}, {ClockSet, 2}, {Turned, 4}, {Switched, 14}, {GivenBack, 8}, {SetTo, 6},
	{Applied, 3}, {Locked, 4}, {Unlocked, 4}, {ResetLatch, 4},
	{Edited, 4}, {Tuned, 4}, {Renamed, 4}, {Latching, 3}, {Disabled, 2}, {Enabled, 3}, {Replaced, 2}, {Deleted, 1}}

// NewPlan makes a plan from a seed: a site of a size, and so many happenings an hour on some days.
func NewPlan(seed uint64, span time.Duration, controls int, anHour float64) *Plan {
	rng := random(seed, "plan")
	p := &Plan{Seed: seed, Span: span, Offset: time.Duration(rng.IntN(364)) * 24 * time.Hour,
		Every: map[string]time.Duration{}, Doors: map[string]site.Travel{}}
	p.makeSite(random(seed, "site"), controls)
	total := 0
	for _, k := range kinds {
		total += k.weight
	}
	for at := 10 * time.Minute; ; {
		at += time.Duration(rng.ExpFloat64() / anHour * float64(time.Hour))
		if at >= span-20*time.Minute {
			break
		}
		n := rng.IntN(total)
		for _, k := range kinds {
			if n -= k.weight; n < 0 {
				p.Happenings = append(p.Happenings, p.happening(rng, k.Kind, at))
				break
			}
		}
	}
	return p
}

// happening chooses whom something happens to.
func (p *Plan) happening(rng *rand.Rand, kind Kind, at time.Duration) Happening {
	h := Happening{At: at.Truncate(time.Millisecond), Kind: kind, N: rng.Float64(), Dice: rng.Uint64(),
		For: time.Duration(5+rng.ExpFloat64()*600) * time.Second}
	of := func(ids []string) string { return ids[rng.IntN(len(ids))] }
	switch kind {
	case LinkDown, LinkEnds, LinkSlow, LinkLossy, LinkTwice, LinkMixed, BoardOff, BoardReboot, Disabled, Enabled, Replaced,
		Turned:
		h.Of = of(sorted(p.Site.Devices))
	case SensorSilent, SensorStuck, SensorJumps, SensorDies:
		h.Of = of(sorted(p.Site.Signals))
	case SetTo:
		h.Of = of(sorted(p.Site.Settings))
	case Applied:
		h.Of = of(sorted(p.Site.Presets))
	case Renamed:
		h.Of = of(append(sorted(p.Site.Signals), sorted(p.Site.Automations)...))
	case DoorJams:
		if len(p.Doors) > 0 {
			h.Of = of(sorted(p.Doors))
		}
	case HouseOff, HubKilled, HubSlow, ClockOff, ClockSet:
	default:
		h.Of = of(sorted(p.Site.Controls))
	}
	return h
}

// Words say what happens in a line.
func (h Happening) Words() string {
	var b strings.Builder
	b.WriteString(clock(h.At) + " " + strings.TrimSpace(h.Of+" "+string(h.Kind)))
	switch h.Kind {
	case LinkDown, LinkSlow, LinkLossy, LinkTwice, LinkMixed, BoardOff, HouseOff, SensorSilent, SensorStuck, SensorJumps,
		SensorDies, OutputDeaf, OutputLate, OutputWrong, DoorJams, HubSlow:
		fmt.Fprintf(&b, " for %s", h.For.Truncate(time.Second))
	case HubKilled:
		if n := h.effects(); n > 0 {
			fmt.Fprintf(&b, " after %d effects of the next input", n)
		}
		if h.loses() {
			b.WriteString(", what was not kept yet is lost")
		}
		fmt.Fprintf(&b, ", and started after %s", h.away())
	}
	return b.String()
}

// effects is after how many effects of the next input the hub is killed; 0: at once.
func (h Happening) effects() int { return int(h.Dice % 6) }

func (h Happening) loses() bool { return h.Dice>>8&1 == 0 }

// away is how long a killed hub stays away.
func (h Happening) away() time.Duration {
	switch n := h.Dice >> 16 % 10; {
	case n < 6:
		return 2 * time.Second
	case n < 9:
		return h.For
	}
	return 25 * time.Hour
}

// Script is a plan in words.
func (p *Plan) Script() string {
	var b strings.Builder
	fmt.Fprintf(&b, "seed %d, %d devices, %d controls, %s\n", p.Seed, len(p.Site.Devices), len(p.Site.Controls), p.Span)
	for _, h := range p.Happenings {
		b.WriteString("  " + h.Words() + "\n")
	}
	return b.String()
}
