package bottle

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"time"

	"idleember/core/access"
	"idleember/core/control"
	"idleember/core/engine"
	"idleember/core/mailbox"
	"idleember/core/site"
)

var people = []access.Actor{{Kind: access.Person, ID: "kim", Name: "Kim", Role: access.Owner}, {Kind: access.Person,
	ID: "mo", Name: "Mo", Role: access.Member}}

// happen lets one thing of the plan happen.
func (w *world) happen(x *Happening) {
	w.oracle.happens(x)
	switch x.Kind {
	case HubKilled, HubSlow, ClockOff, ClockSet:
		w.happenToHub(x)
	case HouseOff:
		for _, id := range w.order {
			b := w.boards[id]
			b.powerDown()
			w.in(x.For, b.powerUp)
		}
	case DoorJams:
		if t, ok := w.plan.Doors[x.Of]; ok {
			o := w.output(t.Opens)
			if o == nil {
				o = w.output(t.Pulses)
			}
			if o != nil && o.drives != nil {
				d := o.drives
				d.jammed = true
				d.driven(w, o, o.actual)
				w.in(x.For, func() { d.jammed = false; d.driven(w, o, o.actual) })
			}
		}
	default:
		device, _ := site.Split(x.Of)
		switch b := w.boards[device]; {
		case b != nil && w.happenToLink(x, b), b != nil && w.happenToBoard(x, b):
		default:
			w.hub.people(x, people[x.Dice>>40%2])
		}
	}
}

func (w *world) happenToLink(x *Happening, b *board) bool {
	l := b.link
	switch x.Kind {
	case LinkDown:
		l.broken++
		l.drop(x.Dice&1 == 0)
		w.in(x.For, func() { l.broken--; l.connect() })
		l.connect()
	case LinkEnds:
		l.drop(x.Dice&1 == 0)
		w.in(time.Duration(x.N*float64(2*time.Second)), l.connect)
	case LinkSlow:
		l.delay = 4 * time.Second
		w.in(x.For, func() { l.delay = 30 * time.Millisecond })
	case LinkLossy:
		l.lossy = 0.2
		w.in(x.For, func() { l.lossy = 0 })
	case LinkTwice:
		l.doubles = 0.3
		w.in(x.For, func() { l.doubles = 0 })
	case LinkMixed:
		l.reorders = 0.3
		w.in(x.For, func() { l.reorders = 0 })
	default:
		return false
	}
	return true
}

// Long, because it is one case for each thing that happens to a board.
func (w *world) happenToBoard(x *Happening, b *board) bool {
	s, o := w.sensor(x.Of), w.output(x.Of)
	trouble := func(t trouble) {
		s.trouble = t
		w.in(x.For, func() { s.trouble = well })
	}
	switch {
	case x.Kind == BoardOff:
		b.powerDown()
		w.in(x.For, b.powerUp)
	case x.Kind == BoardReboot:
		b.powerDown()
		w.in(200*time.Millisecond, b.powerUp)
	case x.Kind == SensorSilent && s != nil:
		trouble(silent)
	case x.Kind == SensorStuck && s != nil:
		trouble(stuck)
	case x.Kind == SensorJumps && s != nil:
		trouble(jumps)
	case x.Kind == SensorDies && s != nil:
		s.slower = 1
		w.in(6*x.For, func() {
			if s.slower = 0; s.every > 0 {
				s.begin()
				s.next()
			}
		})
	case x.Kind == OutputDeaf && o != nil:
		o.deaf = true
		w.in(x.For, func() { o.deaf = false })
	case x.Kind == OutputLate && o != nil:
		o.late = 8 * time.Second
		w.in(x.For, func() { o.late = 50 * time.Millisecond })
	case x.Kind == OutputWrong && o != nil:
		o.wrong = true
		w.in(x.For, func() { o.wrong = false })
	case x.Kind == Turned:
		if len(b.copies) > 0 && b.on {
			k := b.copies[int(x.Dice%uint64(len(b.copies)))]
			k.value, k.turned = site.Amount(10+int(x.N*20)), w.now
			b.has(k)
		}
	case x.Kind == Press && o != nil:
		if o.drives == nil && o.cfg.What() != site.Mover {
			a := site.Amount(0)
			if o.actual == 0 {
				a = o.cfg.Full()
			}
			o.press(a, x.Dice&1 == 0)
		}
	default:
		return false
	}
	return true
}

func (w *world) happenToHub(x *Happening) {
	h := w.hub
	switch x.Kind {
	case HubSlow:
		h.slow = 700 * time.Millisecond
		w.in(x.For, func() { h.slow = 0 })
	case HubKilled:
		h.loses = x.loses()
		w.in(x.away(), func() {
			if h.kill(); !h.up {
				h.start()
			}
		})
		if h.dieAfter = x.effects(); h.dieAfter == 0 {
			h.kill()
		}
	case ClockSet: // by hand, or from the network: a little or by hours, and back again
		if by := time.Duration((x.N - 0.5) * float64([]time.Duration{10 * time.Second, 20 * time.Minute,
			6 * time.Hour}[x.Dice%3])); h.up && h.trusted {
			h.set(by)
			w.in(x.For, func() {
				if h.up && h.trusted {
					h.set(-by)
				}
			})
		}
	case ClockOff:
		if !h.up {
			break
		}
		h.kill()
		h.wrong, h.trusted = -time.Duration(x.N*float64(30*24*time.Hour)), false
		w.in(10*time.Second, func() {
			h.start()
			since := h.wall()
			w.in(x.For, func() {
				if !h.up { // the computer started anew with the right time
					h.wrong, h.trusted, h.doubted = 0, true, true
					return
				}
				by := -h.wrong
				h.wrong, h.trusted = 0, true
				h.apply(engine.ClockSet{From: since, By: by})
			})
		})
	}
}

// set puts the clock on by a difference; what was stamped in this life of the hub goes along.
func (h *hub) set(by time.Duration) {
	since := h.time().Wall.Add(-(h.w.now - h.booted))
	h.wrong += by
	h.apply(engine.ClockSet{From: since, By: by})
}

// people do something at the hub. Long, because it is one case for each thing that people do.
func (h *hub) people(x *Happening, who access.Actor) {
	if !h.up {
		return
	}
	rng := rand.New(rand.NewPCG(x.Dice, 1))
	id := x.Of
	c, ok := h.site.Controls[id]
	active := ok && h.site.Devices[c.Device].Active()
	state, _ := h.engine.Control(id)
	switch x.Kind {
	case Switched:
		if !active || state.Service != control.InService || h.w.moves(id) {
			return
		}
		to := []site.Amount{0, c.Full()}[rng.IntN(2)]
		switch {
		case c.What() == site.Mover:
			to = site.Amount(rng.IntN(3))
		case c.What() == site.Level && rng.IntN(2) == 0:
			to = 50
		case c.Momentary != nil:
			to = 1
		}
		var until time.Time
		if rng.IntN(3) == 0 {
			until = h.wall().Add(x.For)
		}
		h.w.oracle.commands(id, to, until)
		h.apply(engine.Command{Control: id, To: to, Until: until, Actor: who})
	case GivenBack:
		h.apply(engine.ToAuto{Control: id, Actor: who})
	case SetTo:
		h.apply(engine.Set{Setting: id, To: site.Amount(12 + rng.IntN(16)), Actor: who})
	case Applied:
		h.apply(engine.Apply{Preset: id, Actor: who})
	case Locked:
		if active {
			h.w.oracle.locks(id)
			h.apply(engine.Serve{Control: id, Service: []control.Service{control.OutSilent, control.OutAndSafe}[rng.IntN(2)],
				Actor: who})
		}
	case Unlocked:
		for _, id := range sorted(h.site.Controls) { // whatever is locked: somebody comes round
			if s, _ := h.engine.Control(id); h.up && s.Service != control.InService {
				h.w.oracle.unlocks(id)
				h.apply(engine.Serve{Control: id, Service: control.InService, Actor: who})
			}
		}
	case ResetLatch:
		for _, id := range sorted(h.site.Controls) {
			if s, _ := h.engine.Control(id); h.up && len(s.Latched) > 0 {
				h.w.oracle.resets(id)
				h.apply(engine.Reset{Control: id, Actor: who})
			}
		}
	default:
		h.edit(x, rng, who)
	}
}

// moves reports whether a control is the output of a door.
func (w *world) moves(id string) bool {
	for _, t := range w.plan.Doors {
		if slices.Contains([]string{t.Opens, t.Closes, t.Pulses}, id) {
			return true
		}
	}
	return false
}

// edit changes the site as its pages do. Long, because it is one case for each edit that people make.
func (h *hub) edit(x *Happening, rng *rand.Rand, who access.Actor) {
	id := x.Of
	c := h.site.Controls[id]
	a := h.site.Automations[id]
	save := func(next *site.Automation) {
		if c.ID == "" || next == nil || engine.CheckAutomation(h.site, c, next) != nil {
			return
		}
		next.Identify(a)
		h.change(func(s *site.Site) { s.Automations[id] = next })
	}
	switch x.Kind {
	case Edited:
		m := &maker{rng, h.site, h.w.plan}
		if c.ID != "" {
			save(m.automation(c))
		}
	case Tuned:
		if a == nil || len(a.Interlocks)+len(a.Demands) == 0 {
			return
		}
		next := *a
		next.Demands = slices.Clone(a.Demands)
		for i := range next.Demands {
			if d := &next.Demands[i]; d.Kind == engine.HoldAbove || d.Kind == engine.HoldBelow {
				d.Target = fmt.Sprint(12 + rng.IntN(16))
			}
		}
		next.SettleMS = 1000 * int64(10+rng.IntN(40))
		save(&next)
	case Latching:
		if a == nil || c.Momentary != nil {
			return
		}
		next := *a
		m := &maker{rng, h.site, h.w.plan}
		l := m.interlock(c, 0)
		l.Latch, l.Name = true, fmt.Sprintf("added %d", rng.IntN(1000))
		next.Interlocks = append(slices.Clone(a.Interlocks), l)
		if rng.IntN(3) == 0 {
			slices.Reverse(next.Interlocks)
		}
		save(&next)
	case Renamed:
		if g, ok := h.site.Signals[id]; ok {
			g.Name = fmt.Sprintf("Signal %s %d", id, rng.IntN(100))
			h.change(func(s *site.Site) { s.Signals[id] = g })
		} else if a != nil && len(a.Interlocks) > 0 {
			next := *a
			next.Interlocks = slices.Clone(a.Interlocks)
			l := &next.Interlocks[rng.IntN(len(next.Interlocks))]
			l.Name = strings.TrimSuffix(l.Name, " renamed") + " renamed"
			save(&next)
		}
	case Disabled:
		h.takeAway(id, who, false, func() { h.setState(id, site.Disabled) })
	case Enabled:
		for _, id := range sorted(h.site.Devices) {
			h.setState(id, site.Active)
		}
	case Replaced:
		h.takeAway(id, who, false, func() {
			if b := h.w.boards[id]; b != nil {
				_, controls := h.site.Of(id)
				h.apply(engine.Leave{Controls: controls, End: true, Actor: who})
				h.put(id, func(box *mailbox.Box) { box.End() })
				b.powerDown()
				h.w.in(3*time.Second, b.powerUp)
			}
		})
	case Deleted:
		if c.ID != "" && !h.w.moves(id) {
			h.deleteControl(id, who)
		}
	}
}

func (h *hub) setState(id string, state site.State) {
	d, ok := h.site.Devices[id]
	if !ok || d.State == state || !h.up {
		return
	}
	d.State = state
	h.change(func(s *site.Site) { s.Devices[id] = d })
	if !h.up {
		return
	}
	if state != site.Active {
		h.put(id, func(box *mailbox.Box) { box.End() })
		h.w.boards[id].link.broken++
	} else {
		h.attach(id)
		h.w.boards[id].link.broken--
		h.w.boards[id].link.connect()
	}
}
