package bottle

import (
	"math"
	"math/rand/v2"
	"time"

	"idleember/core/engine"
	"idleember/core/reading"
	"idleember/core/site"
)

// board is a device with sensors and outputs, and the link that it speaks through. It does what docs/boards.md asks of
// one.
type board struct {
	w       *world
	id      string
	link    *link
	lease   time.Duration
	sensors []*sensor
	outputs []*output
	copies  []*knob
	on      bool // it has power
	online  bool // for the hub
	boots   int
	beat    time.Duration          // when it heard the hub last
	beaten  bool                   // it heard the hub since it connected
	fell    time.Duration          // when it last came back from that
	fallen  bool                   // to its safe values, since the beats stopped
	waiting map[string]site.Amount // retained, until the first beat
	watch   int
}

// output is what a control physically is.
type output struct {
	b       *board
	id      string
	cfg     site.Control
	actual  site.Amount
	since   time.Duration
	by      engine.By   // why it is so, where the board knows
	told    site.Amount // what it was told last
	late    time.Duration
	deaf    bool          // never obeys
	wrong   bool          // does the opposite
	pressed time.Duration // when somebody last pressed its button
	ever    bool
	drives  *door
}

// knob is a board's copy of a setting, which can be turned there.
type knob struct {
	cfg    site.Setting
	value  site.Amount
	based  int64         // the revision that it was last told
	turned time.Duration // when somebody changed it since; 0: nobody did
}

// sensor is a signal at its source.
type sensor struct {
	b       *board
	id      string
	cfg     site.Signal
	every   time.Duration
	rng     *rand.Rand
	base    float64
	swing   float64
	period  time.Duration
	tau     time.Duration
	noise   float64
	value   float64
	at      time.Duration
	pulls   []pull // outputs that it follows
	door    *door
	end     float64 // the position of the door at which this contact is made
	last    float64
	said    bool
	gen     int
	next    func() // what it does again and again
	trouble trouble
	slower  float64 // each interval is so much longer than the one before
	backlog []sample

	site   *site.Site // that the following is of
	counts bool       // the hub takes its readings
	seen   *seen
}

type sample struct {
	at time.Duration
	v  float64
}

type pull struct {
	of   *output
	gain float64
}

type trouble int

const (
	well trouble = iota
	silent
	stuck
	jumps
)

// door is what a mover moves: 0 is closed, 1 is open.
type door struct {
	at       float64
	since    time.Duration
	speed    float64 // parts of the way a second
	travel   time.Duration
	opens    *output
	closes   *output
	pulses   *output
	next     float64 // a door with one button: where the next pulse goes
	contacts []*sensor
	gen      int
	jammed   bool
}

func newBoard(w *world, d site.Device) *board {
	b := &board{w: w, id: d.ID, lease: d.Lease()}
	b.link = &link{b: b, outside: d.Link.Kind == site.Outside, rng: w.random("link " + d.ID), delay: 30 * time.Millisecond}
	s := w.plan.Site
	signals, controls := s.Of(d.ID)
	for _, id := range controls {
		b.outputs = append(b.outputs, &output{b: b, id: id, cfg: s.Controls[id], late: 50 * time.Millisecond})
	}
	for _, id := range sorted(s.Settings) {
		if owner, _ := site.Split(id); owner == d.ID && s.Settings[id].Mirror != "" {
			b.copies = append(b.copies, &knob{cfg: s.Settings[id], value: s.Settings[id].Default})
		}
	}
	for _, id := range signals {
		g := s.Signals[id]
		rng := w.random("sensor " + id)
		x := &sensor{b: b, id: id, cfg: g, rng: rng, every: w.plan.Every[id], base: 16 + 8*rng.Float64(), swing: 4 +
			8*rng.Float64(),
			period: time.Duration(20+rng.IntN(400)) * time.Minute, tau: time.Duration(1+rng.IntN(20)) * time.Minute,
			noise: 0.2 * rng.Float64()}
		x.value = x.base
		for _, o := range b.outputs {
			if o.cfg.What() != site.Mover && o.cfg.Momentary == nil && rng.IntN(2) == 0 {
				x.pulls = append(x.pulls, pull{o, float64(rng.IntN(2)*2-1) * (3 + 9*rng.Float64())})
			}
		}
		b.sensors = append(b.sensors, x)
	}
	return b
}

// hang builds the doors, when all boards are there.
func (w *world) hang() {
	for _, id := range sorted(w.plan.Doors) {
		p := w.plan.Doors[id]
		d := &door{travel: site.Millis(p.TravelMS), opens: w.output(p.Opens), closes: w.output(p.Closes),
			pulses: w.output(p.Pulses), next: 1}
		for _, o := range []*output{d.opens, d.closes, d.pulses} {
			if o != nil {
				o.drives = d
			}
		}
		for i, c := range []string{p.IsClosed, p.IsOpen} {
			if s := w.sensor(c); s != nil {
				s.door, s.end = d, float64(i)
				d.contacts = append(d.contacts, s)
			}
		}
	}
}

func (w *world) output(id string) *output {
	d, _ := site.Split(id)
	if b := w.boards[d]; b != nil {
		for _, o := range b.outputs {
			if o.id == id {
				return o
			}
		}
	}
	return nil
}

func (w *world) sensor(id string) *sensor {
	d, _ := site.Split(id)
	if b := w.boards[d]; b != nil {
		for _, s := range b.sensors {
			if s.id == id {
				return s
			}
		}
	}
	return nil
}

func (b *board) powerUp() {
	if b.on {
		return
	}
	b.on, b.boots = true, b.boots+1
	b.fallen, b.beaten, b.waiting = true, false, map[string]site.Amount{}
	for _, o := range b.outputs {
		o.be(o.cfg.Safe)
		o.told = o.cfg.Safe
	}
	boot := b.boots
	b.w.in(time.Duration(500+b.link.rng.IntN(3000))*time.Millisecond, func() {
		if b.boots == boot {
			b.link.connect()
		}
	})
	for _, s := range b.sensors {
		s.said, s.slower = false, 0
		if s.begin(); s.every > 0 {
			b.w.in(time.Duration(s.rng.Int64N(int64(s.every))), s.next)
		} else {
			b.w.in(time.Second, s.next)
		}
	}
	b.watch++
	watch := b.watch
	b.w.in(time.Second, func() { b.leaseDue(watch) })
	b.w.in(time.Hour, func() { b.sayHourly(boot) })
}

func (b *board) powerDown() {
	b.on = false
	b.link.drop(true)
	for _, o := range b.outputs {
		o.be(0)
	}
}

// leaseDue lets the outputs fall where the hub was silent for the lease.
func (b *board) leaseDue(watch int) {
	if !b.on || b.watch != watch || b.lease == 0 {
		return
	}
	if !b.fallen && b.w.now-b.beat >= b.lease {
		b.fallen = true
		for _, o := range b.outputs {
			if o.actual != o.cfg.Safe {
				o.be(o.cfg.Safe)
				o.by = engine.ByLease
				b.say(o, engine.ByLease)
			}
		}
	}
	next := b.beat + b.lease
	if b.fallen || next <= b.w.now {
		next = b.w.now + b.lease/3
	}
	b.w.at(next, func() { b.leaseDue(watch) })
}

func (b *board) sayHourly(boot int) {
	if !b.on || b.boots != boot {
		return
	}
	b.sayAll()
	b.w.in(time.Hour, func() { b.sayHourly(boot) })
}

// sayAll tells all signals and what all controls are, as after connecting.
func (b *board) sayAll() {
	for _, s := range b.sensors {
		if s.trouble != silent {
			s.push(s.measure())
		}
	}
	for _, o := range b.outputs {
		b.say(o, o.by)
	}
	for _, k := range b.copies {
		b.has(k)
	}
}

// has tells the hub of a copy.
func (b *board) has(k *knob) {
	in := engine.Mirrored{Setting: k.cfg.ID, Value: k.value, Based: k.based}
	if k.turned > 0 {
		in.Age = max(b.w.now-k.turned, time.Second)
	}
	b.link.up(func(h *hub, _ string) { h.apply(in) })
}

// told takes what the hub says of a setting.
func (b *board) told(m engine.Mirror) {
	for _, k := range b.copies {
		if k.cfg.ID == m.Setting && m.Rev >= k.based {
			k.value, k.based, k.turned = m.Value, m.Rev, 0
			b.has(k)
		}
	}
}

func (b *board) say(o *output, by engine.By) {
	if o.cfg.Answers {
		v := o.actual
		b.w.tell(o.id, "the board says %v by %q", v, by)
		b.link.up(func(h *hub, session string) {
			h.apply(engine.Report{Control: o.id, Session: session, Value: v, By: by})
		})
	}
}

// heardBeat is the hub's sign of life.
func (b *board) heardBeat(lease time.Duration) {
	b.beat, b.lease = b.w.now, lease
	if b.fallen {
		b.fallen, b.fell = false, b.w.now
	}
	if !b.beaten {
		b.beaten = true
		for _, id := range sorted(b.waiting) {
			if o := b.w.output(id); o != nil {
				o.obey(b.waiting[id])
			}
		}
		clear(b.waiting)
	}
}

// want is what the hub wants, as a link brings it.
func (b *board) want(id string, a site.Amount, retained bool) {
	if !b.on {
		return
	}
	o := b.w.output(id)
	if o == nil {
		return
	}
	b.w.tell(id, "the board hears %v, kept %v, beaten %v, fallen %v", a, retained, b.beaten, b.fallen)
	if b.lease > 0 && !b.beaten && a != o.cfg.Safe {
		b.waiting[id] = a // what is retained counts from the first beat on
		return
	}
	delete(b.waiting, id)
	o.obey(a)
}

func (o *output) obey(a site.Amount) {
	boot := o.b.boots
	o.told, o.by = a, engine.ByNothing
	late := o.late
	do := func() {
		if !o.b.on || o.b.boots != boot || o.told != a {
			return
		}
		switch {
		case o.deaf:
		case o.wrong && o.cfg.What() == site.Switch:
			o.be(1 - a)
		default:
			if o.b.fallen && o.b.lease > 0 && a != o.cfg.Safe {
				break
			}
			o.be(a)
		}
		o.b.say(o, engine.ByNothing)
	}
	if late == 0 {
		do()
		return
	}
	o.b.w.in(late, do)
}

// be makes an output something.
func (o *output) be(a site.Amount) {
	if o.actual == a && o.ever {
		return
	}
	was := o.actual
	o.actual, o.since, o.ever = a, o.b.w.now, true
	if o.drives != nil {
		o.drives.driven(o.b.w, o, was)
	}
	o.b.w.tell(o.id, "physically %v", a)
	o.b.w.oracle.physical(o, was)
}

// press is a hand at the board's own button.
func (o *output) press(a site.Amount, marked bool) {
	if !o.b.on || o.cfg.Momentary != nil || !o.cfg.Answers {
		return
	}
	o.pressed = o.b.w.now
	o.b.w.oracle.pressed(o)
	o.be(a)
	o.told, o.by = a, engine.ByNothing
	by := engine.ByNothing
	if marked {
		by = engine.ByHand
	}
	o.b.say(o, by)
}

// measure is the physical value now.
func (s *sensor) measure() float64 {
	now := s.b.w.now
	if s.door != nil {
		s.value = 0
		if math.Abs(s.door.where(now)-s.end) < 0.001 {
			s.value = 1
		}
		return s.value
	}
	goal := s.base + s.swing*math.Sin(2*math.Pi*float64(now)/float64(s.period))
	for _, p := range s.pulls {
		full := 1.0
		if p.of.cfg.What() == site.Level {
			full = 100
		}
		goal += p.gain * float64(p.of.actual) / full
	}
	dt := now - s.at
	s.at = now
	s.value += (goal - s.value) * (1 - math.Exp(-float64(dt)/float64(s.tau)))
	if s.cfg.Kind == site.OnOff {
		if s.value > s.base {
			return 1
		}
		return 0
	}
	return math.Round((s.value+s.noise*s.rng.NormFloat64())*10) / 10
}

// begin has a sensor measure from now on, in place of what it did before.
func (s *sensor) begin() {
	s.gen++
	gen, look := s.gen, s.watch
	if s.every > 0 {
		look = s.sample
	}
	s.next = func() {
		if s.gen == gen && s.b.on {
			look()
		}
	}
}

// sample tells a periodic signal's value.
func (s *sensor) sample() {
	v := s.measure()
	switch s.trouble {
	case silent:
	case jumps:
		if s.rng.IntN(3) == 0 {
			v += 300
		}
		s.push(v)
	case stuck:
		s.push(s.last)
	default:
		s.push(v)
	}
	every := s.every
	if s.slower > 0 {
		s.slower *= 1.3
		every = time.Duration(float64(every) * min(s.slower, 2000))
	}
	s.b.w.in(every, s.next)
}

// watch looks once a while whether a signal that reports on change has changed; a contact tells it at once.
func (s *sensor) watch() {
	if v := s.measure(); s.trouble == well && (v != s.last || !s.said) {
		s.push(v)
	}
	s.b.w.in(20*time.Second, s.next)
}

func (s *sensor) push(v float64) {
	s.last, s.said = v, true
	b := s.b
	if !b.link.connected {
		if s.every > 0 && len(s.backlog) < 50 {
			s.backlog = append(s.backlog, sample{b.w.now, v})
		}
		return
	}
	b.link.upReading(s, v, time.Time{})
}

// catchUp sends what was kept while nobody listened, with its times.
func (s *sensor) catchUp() {
	log := s.backlog
	s.backlog = nil
	for _, x := range log {
		s.b.link.upReading(s, x.v, epoch.Add(s.b.w.plan.Offset+x.at))
	}
}

func (d *door) where(now time.Duration) float64 {
	return min(max(d.at+d.speed*(now-d.since).Seconds(), 0), 1)
}

// driven moves the door where its outputs drive it.
func (d *door) driven(w *world, o *output, was site.Amount) {
	d.at, d.since = d.where(w.now), w.now
	full := 1 / d.travel.Seconds()
	switch {
	case d.pulses != nil:
		if o.actual > 0 && was == 0 { // it starts, or stops, as such doors do
			if d.speed != 0 {
				d.speed = 0
				break
			}
			d.speed = full * (2*d.next - 1)
			d.next = 1 - d.next
		}
	case d.opens.actual > 0 && d.closes.actual > 0:
		d.speed = 0
	case d.opens.actual > 0:
		d.speed = full
	case d.closes.actual > 0:
		d.speed = -full
	default:
		d.speed = 0
	}
	if d.jammed {
		d.speed = 0
	}
	d.gen++
	gen := d.gen
	d.tell(w)
	if d.speed != 0 {
		left := d.at
		if d.speed > 0 {
			left = 1 - d.at
		}
		w.in(time.Duration(left*float64(d.travel))+10*time.Millisecond, func() {
			if d.gen == gen {
				d.at, d.since, d.speed = math.Round(d.where(w.now)), w.now, 0
				d.tell(w)
			}
		})
		w.in(time.Second, func() { d.tell(w) })
	}
}

// tell lets the contacts report where they changed.
func (d *door) tell(w *world) {
	for _, c := range d.contacts {
		if v := c.measure(); c.b.on && c.trouble == well && (v != c.last || !c.said) {
			c.push(v)
		}
	}
}

func (s *sensor) reading(v float64) reading.Value {
	if s.cfg.Kind == site.OnOff {
		return reading.OnOff(v != 0)
	}
	return reading.Number(v)
}
