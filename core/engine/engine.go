// Package engine decides. It is a pure state machine: Apply takes the time and one input and returns effects, NextWake
// says when it wants a Tick. It does no I/O and has no clock, so the same inputs in the same order give the same
// effects, whether they come from live devices, from a test or from a recording.
package engine

import (
	"maps"
	"slices"
	"time"

	"idleember/core/calendar"
	"idleember/core/due"
	"idleember/core/formula"
	"idleember/core/reading"
	"idleember/core/site"
)

// Now is the time handed in with an input.
type Now struct {
	Wall    time.Time     `json:"wall"`    // what the journal and people see, to the millisecond
	Mono    time.Duration `json:"mono"`    // since the hub started; never jumps
	Trusted bool          `json:"trusted"` // the wall clock is known to be right
}

// linger is how long a device stays online after its last session ended: boards that connect, push and leave would
// flap.
const (
	linger        = 5 * time.Second
	longestLinger = 15 * time.Minute
)

// Engine is the state machine. Use New to make one.
type Engine struct {
	site       *site.Site
	devices    map[string]*device
	signals    map[string]*signal
	controls   map[string]*controlled
	settings   map[string]*setting
	rules      map[string]*rule
	liveAlerts map[string]*liveAlert
	alertsOf   map[string][]*liveAlert // by what they are about
	alertsAt   map[string][]*liveAlert // by the device of that
	routes     []site.Route
	own        map[string]float64       // what the hub knows of itself
	started    map[string]time.Duration // when a member of a group last went on

	points     map[string]*point
	bounds     map[string]*bound
	order      []*bound // the formulas in the order in which they were first named
	conds      map[string]*cond
	oldConds   map[string]*cond // while a new site is built
	oldBounds  map[string]*bound
	oldWindows map[formula.Need]*window
	queued     queue[*bound]
	judged     queue[*cond]
	locked     queue[*lock]
	marked     queue[*controlled]
	ruled      queue[*rule]
	alerted    queue[*liveAlert]
	zone       *time.Location
	where      calendar.Spot
	grace      time.Duration // until then everybody may come back after a start
	ready      bool          // the state came back, or the first input after the site

	wakes  due.Queue[wake]
	inputs uint64 // how many were taken
	out    []Effect
	stores []Store // what effects of this input point to
	now    Now

	overtaken bool // a want among the effects was overtaken by a later one
}

type device struct {
	DeviceState
	sessions []session
	clock    reading.Clock
	lastBeat time.Duration
	lease    time.Duration // as told with the last beat
	beats    uint64        // the wake of the next beat; 0: none
	ending   uint64        // the wake that will take it offline
	endedAt  time.Time
	silent   time.Duration            // until then it hears nothing of the hub
	resume   map[string]time.Duration // controls whose want is given up at that time
}

// session is one connection of a device. One that expires ends by itself at until.
type session struct {
	id      string
	came    bool // what its device has on was asked for anew since it began
	expires bool
	until   time.Duration
	wake    uint64 // the wake that looks whether it has expired, 0: none
}

type signal struct {
	SignalState
	judge  reading.Judge
	rhythm reading.Rhythm
	heard  time.Duration
	wake   uint64        // the wake that looks whether it is stale, 0: none
	wakeAt time.Duration // when that is
	good   time.Duration // when the last good reading came
	point  *point        // nil: no formula names it

	// What the site says of it.
	cfg    *site.Signal
	device *device
	active bool          // its device takes part
	relied bool          // automation uses it
	asleep time.Duration // how long its device may sleep
}

// New returns an engine for an empty site.
func New() *Engine {
	return &Engine{site: (&site.Site{}).Clone(), devices: map[string]*device{}, signals: map[string]*signal{},
		controls: map[string]*controlled{}, settings: map[string]*setting{}, rules: map[string]*rule{},
		liveAlerts: map[string]*liveAlert{}, own: map[string]float64{}, started: map[string]time.Duration{},
		points: map[string]*point{}, bounds: map[string]*bound{}, conds: map[string]*cond{}, zone: time.UTC}
}

// NextWake returns the monotonic time at which the engine wants a Tick, and false where it waits for nothing.
func (e *Engine) NextWake() (time.Duration, bool) {
	return e.wakes.Next()
}

// Apply takes one input and returns its effects. The slice is valid until the next call. Long, because it is one case
// for each kind.
func (e *Engine) Apply(now Now, in Input) []Effect {
	trusts := now.Trusted != e.now.Trusted
	e.now, e.out, e.stores = now, e.out[:0], e.stores[:0]
	e.inputs++
	_, first := in.(SiteChanged)
	e.ready = e.ready || !first
	if trusts && e.ready {
		e.lookAgain()
	}
	switch in := in.(type) {
	case SiteChanged:
		e.applySite(in.Site)
	case Restored:
		e.restore(in)
	case *Reading:
		e.reading(in)
	case Reading:
		e.reading(&in)
	case Online:
		e.online(in)
	case Listening:
		e.listening(in)
	case Offline:
		e.offline(in)
	case Report:
		e.report(in)
	case Command:
		e.byHand(in.Control, in.To, in.Until, in.Actor, in.How)
	case ToAuto:
		e.toAuto(in.Control, in.Actor)
	case Serve:
		e.serve(in)
	case Leave:
		e.leave(in)
	case Reset:
		e.reset(in)
	case Set:
		e.setSetting(in.Setting, in.To, in.Until, in.Actor)
	case Apply:
		if p, ok := e.site.Presets[in.Preset]; ok {
			e.emit(Journal{Actor: in.Actor, Action: "preset", Object: "preset." + p.ID, After: p.Name})
			e.act(p.Actions, in.Actor, HowPreset, in.Until, 0)
		}
	case Mirrored:
		e.mirrored(in)
	case History:
		e.fill(in)
	case Late:
		e.late(in.Signal)
	case Withdraw:
		e.withdraw(in)
	case AlertAction:
		e.actOn(in)
	case Learnt:
		e.learnLate(in)
	case Serviced:
		e.serviced(in)
	case Health:
		e.health(in)
	case ClockSet:
		e.clockSet(in)
	case recalled:
		e.recall(in)
	case Tick:
	}
	e.fire()
	if e.ready {
		e.settle()
		e.fire()
		e.settle()
		// What became of devices, controls and signals may be what formulas are about.
		for told := 0; told < len(e.out); {
			from := told
			told = len(e.out)
			e.statePoints(from)
			e.settle()
		}
	}
	if e.overtaken {
		e.out, e.overtaken = slices.DeleteFunc(e.out, func(x Effect) bool { return x == nil }), false
	}
	return e.out
}

func (e *Engine) emit(x Effect) { e.out = append(e.out, x) }

// Signal returns the state of a signal.
func (e *Engine) Signal(id string) (SignalState, bool) {
	s := e.signals[id]
	if s == nil {
		return SignalState{}, false
	}
	return s.SignalState, true
}

// Control returns the state of a control.
func (e *Engine) Control(id string) (ControlState, bool) {
	c := e.controls[id]
	if c == nil {
		return ControlState{}, false
	}
	return c.snapshot(), true
}

// Device returns the state of a device.
func (e *Engine) Device(id string) (DeviceState, bool) {
	d := e.devices[id]
	if d == nil {
		return DeviceState{}, false
	}
	return d.DeviceState, true
}

// Peek is Control without a copy: it is the engine's own, to be read until the next Apply; nil: there is none.
func (e *Engine) Peek(id string) *ControlState {
	if x := e.controls[id]; x != nil {
		return &x.ControlState
	}
	return nil
}

// Online reports whether a device is.
func (e *Engine) Online(id string) bool {
	d := e.devices[id]
	return d != nil && d.Online
}

// Long, because it is one list of all that a changed site touches.
func (e *Engine) applySite(s *site.Site) {
	e.site, e.zone = s, s.Hub.Location()
	e.where = calendar.Spot{Latitude: s.Hub.Latitude, Longitude: s.Hub.Longitude}.Remembering()
	for id := range s.Devices {
		if e.devices[id] == nil {
			e.devices[id] = &device{DeviceState: DeviceState{ID: id}, resume: map[string]time.Duration{}}
		}
	}
	for id := range s.Signals {
		if e.signals[id] == nil {
			e.signals[id] = &signal{SignalState: SignalState{ID: id, Fresh: Unknown}}
		}
	}
	for id, c := range s.Controls {
		x := e.controls[id]
		if x == nil {
			x = &controlled{ControlState: ControlState{ID: id}}
			e.controls[id] = x
		}
		x.gone = x.gone && s.Devices[c.Device].Active() // when it is enabled again it is there
	}
	for _, id := range slices.Sorted(maps.Keys(s.Devices)) {
		if d := e.devices[id]; d.Online && !s.Devices[id].Active() {
			d.sessions, d.ending = nil, 0
			d.Why, d.endedAt = string(s.Devices[id].State), e.now.Wall
			e.goOffline(d)
		}
		e.startBeats(e.devices[id])
	}
	for id := range e.devices {
		if _, ok := s.Devices[id]; !ok {
			delete(e.devices, id)
		}
	}
	for id := range e.signals {
		if _, ok := s.Signals[id]; !ok {
			delete(e.signals, id)
		}
	}
	for id := range e.controls {
		if _, ok := s.Controls[id]; !ok {
			delete(e.controls, id)
		}
	}
	for id, cfg := range s.Signals {
		dev := s.Devices[cfg.Device]
		g := e.signals[id]
		g.cfg, g.device, g.active, g.asleep = &cfg, e.devices[cfg.Device], dev.Active(), sleepFor(dev.Wakes())
	}
	e.build()
	// it may be late by now: it reports more often, or is to report at all
	for _, id := range slices.Sorted(maps.Keys(e.signals)) {
		if g := e.signals[id]; g.Fresh == Live && g.cfg.Reports == site.Periodic {
			e.watch(g)
		}
	}
}

// Long, because it is one decision in its order, and each case names the next.
func (e *Engine) reading(in *Reading) {
	s := e.signals[in.Signal]
	if s == nil || !s.active {
		return
	}
	d, cfg := s.device, s.cfg
	interval := s.interval()
	placed, err := d.place(e.now, in.Stamp, interval)
	var v reading.Value
	if err == nil {
		err = cfg.Keep.Takes(placed.At, e.now.Wall)
	}
	if err == nil {
		v, err = reading.Calibrate(cfg.Calibration, in.Value)
	}
	if err != nil {
		e.emit(Refused{Device: cfg.Device, Signal: in.Signal, Reason: err.Error()})
		if in.Newest {
			d.clock.Learn(e.now.Wall, in.Stamp)
		}
		return
	}
	if in.Newest && !in.Stamp.IsZero() {
		d.clock.Learn(e.now.Wall, in.Stamp)
	}
	d.LastHeard = e.now.Wall
	if s.Seen && (in.Stamp.IsZero() || placed.Ahead) {
		placed.At = reading.Apart(placed.At, s.At)
	}
	// While the hub's clock is not to be trusted a board's own time may be ahead of it; what just came is the newest all
	// the same.
	justCame := in.Stamp.IsZero() && !e.now.Trusted
	live := placed.Live && (!s.Seen || justCame || !placed.At.Before(s.newest()))
	quality := placed.Quality
	if live {
		quality = max(quality, s.judge.Quality(cfg.Sense, v, e.now.Mono))
	} else {
		quality = max(quality, reading.Plausible(cfg.Sense, v))
	}
	raw := Raw(*cfg, in.Value)
	e.store(Store{Signal: in.Signal, At: placed.At, Value: v, Raw: raw, Quality: quality, Live: live, Own: placed.Own})
	if !live {
		e.late(in.Signal)
		return
	}
	s.rhythm.Heard(e.now.Mono)
	s.heard = e.now.Mono
	if quality == reading.Good {
		s.good = s.heard
	}
	s.Seen, s.At, s.Heard, s.Value, s.Raw, s.Quality = true, placed.At, e.now.Wall, v, raw, quality
	if learnt := s.rhythm.Interval(); learnt > 0 && (s.Interval == 0 || (learnt-s.Interval).Abs() > s.Interval/4) {
		s.Interval = learnt
		e.emit(SignalLearnt{s.SignalState})
	}
	if fixed := s.rhythm.Fixed(); fixed > 0 && s.Fixed == 0 {
		s.Fixed = min(max(fixed.Round(time.Second), shortestFixed), longestFixed)
		e.emit(SignalLearnt{s.SignalState})
	}
	if s.Fresh != Live {
		s.Fresh = Live
		e.emit(SignalChanged{s.SignalState})
	}
	e.signalPoint(s, placed.At, v, quality)
	if cfg.Reports == site.Periodic {
		e.watch(s)
	} else if quality != reading.Good {
		e.lose(s)
	}
}

// store emits an effect without an allocation of its own.
func (e *Engine) store(x Store) {
	if len(e.stores) == cap(e.stores) { // effects point into the old one
		e.stores = make([]Store, 0, 2*cap(e.stores)+4)
	}
	e.stores = append(e.stores, x)
	e.emit(&e.stores[len(e.stores)-1])
}

// Raw is what is kept of a raw value beside the calibrated one: nothing where there is no calibration.
func Raw(cfg site.Signal, v reading.Value) *float64 {
	if !cfg.Calibration.Set() || v.Kind == site.Text {
		return nil
	}
	raw := v.Num
	return &raw
}

// ClockOff is what is added to the times that a device tells, because its clock is off by so much.
func (e *Engine) ClockOff(device string) time.Duration {
	if d := e.devices[device]; d != nil {
		return d.clock.Offset()
	}
	return 0
}

// Past places readings of a signal that may belong to the past, without changing anything. For a stamp that does, late
// is true and at tells when it was; all others must go through Apply.
func (e *Engine) Past(now Now, id string) func(stamp time.Time) (at time.Time, late bool, err error) {
	s := e.signals[id]
	if s == nil {
		return func(time.Time) (at time.Time, late bool, err error) { return at, false, nil }
	}
	d, cfg := s.device, s.cfg
	interval := s.interval()
	return func(stamp time.Time) (time.Time, bool, error) {
		placed, err := d.place(now, stamp, interval)
		if err == nil {
			err = cfg.Keep.Takes(placed.At, now.Wall)
		}
		return placed.At, err == nil && (!placed.Live || s.Seen && placed.At.Before(s.newest())), err
	}
}

// watch makes sure that somebody looks when the signal would be stale. Mostly an earlier wake will do, which then looks
// again: so a reading that changes nothing costs nothing here.
func (e *Engine) watch(s *signal) {
	patience := s.patience()
	due := s.heard + patience
	if good := s.good + patience; s.point != nil && good > e.now.Mono {
		due = good
	}
	if s.wake == 0 || due < s.wakeAt {
		s.wake, s.wakeAt = e.wakeAt(due, wakeStale, s.ID), due
	}
}

// arrived reports whether the newest reading was stamped with its arrival.
func (s *signal) arrived() bool {
	apart := s.At.Sub(s.Heard)
	return apart >= 0 && apart <= reading.MostApart
}

// newest is what no reading may be older than to be live; that some were put apart makes none late.
func (s *signal) newest() time.Time {
	if s.arrived() {
		return s.Heard
	}
	return s.At
}

// interval is how often the signal reports: as told, else as learnt, else 0.
func (s *signal) interval() time.Duration {
	if s.cfg.IntervalMS > 0 {
		return s.cfg.Interval()
	}
	return s.Interval
}

// The interval of a signal that automation uses is fixed: were it learnt on, a board that fails slowly would never be
// late.
const (
	shortestFixed = 5 * time.Second
	longestFixed  = 15 * time.Minute
	unlearnt      = 5 * time.Minute // while it is not known
)

// Relied is the interval by which a signal is missed: as told, else as fixed where automation uses it, else as learnt;
// 0: none is known.
func (e *Engine) Relied(id string) time.Duration {
	s := e.signals[id]
	if s == nil {
		return 0
	}
	return s.relies()
}

// Proposed is the interval that should be relied on instead, because the signal came to report twice as often or half
// as often as that; 0: it is as it should be, or nobody knows.
func (e *Engine) Proposed(id string) time.Duration {
	s := e.signals[id]
	if s == nil || s.cfg.Reports != site.Periodic || s.cfg.IntervalMS == 0 && (!s.relied || s.Fixed == 0) {
		return 0
	}
	is, relied := s.rhythm.Interval().Round(time.Second), s.relies()
	if is > 0 && (is >= 2*relied || 2*is <= relied) {
		return is
	}
	return 0
}

func (s *signal) relies() time.Duration {
	switch {
	case s.cfg.IntervalMS > 0:
		return s.cfg.Interval()
	case !s.relied:
		return s.Interval
	case s.Fixed > 0:
		return s.Fixed
	}
	return unlearnt
}

// patience is how late a reading may be before the signal is stale.
func (s *signal) patience() time.Duration {
	if i := s.relies(); i > 0 {
		return max(3*i, 3*time.Second, s.asleep)
	}
	return max(3*time.Minute, s.asleep)
}

// sleepFor is how long a device that wakes by a schedule may be silent: it may miss one time.
func sleepFor(wakes time.Duration) time.Duration { return wakes * 5 / 2 }

// fire runs everything that is due. Long, because it is one case for each kind.
func (e *Engine) fire() {
	for {
		at, ok := e.wakes.Next()
		if !ok || at > e.now.Mono {
			return
		}
		_, seq, w := e.wakes.Pop()
		w.seq = seq
		switch w.kind {
		case wakeStale:
			e.staleDue(w)
		case wakeBeat:
			e.beatDue(w)
		case wakeOffline:
			e.offlineDue(w)
		case wakeConfirm:
			e.confirmDue(w)
		case wakeLook:
			e.lookDue(w)
		case wakeCond:
			e.condDue(w)
		case wakeOff:
			e.offDue(w)
		case wakeLock:
			e.lockDue(w)
		case wakeDecide:
			e.decideDue(w)
		case wakeMover:
			e.moverDue(w)
		case wakeRule:
			e.ruleDue(w)
		case wakeSetting:
			e.settingDue(w)
		case wakePulse:
			e.pulseDue(w)
		case wakeProof:
			e.proofDue(w)
		case wakeGrace:
			e.graceDue()
		case wakeGiveUp:
			e.giveUpDue(w)
		case wakeExpire:
			e.expireDue(w)
		case wakeAlarm:
			e.alertDue(w)
		}
	}
}

func (e *Engine) staleDue(w wake) {
	s := e.signals[w.id]
	if s == nil || s.wake != w.seq {
		return
	}
	s.wake = 0
	if s.Fresh != Live && s.point != nil && s.good+s.patience() <= e.now.Mono {
		e.lose(s)
	}
	if s.Fresh != Live || s.cfg.Reports != site.Periodic {
		return
	}
	if s.good+s.patience() <= e.now.Mono {
		e.lose(s) // what comes is not good
	}
	if s.heard+s.patience() > e.now.Mono {
		e.watch(s)
		return
	}
	s.Fresh = Stale
	e.lose(s)
	e.emit(SignalChanged{s.SignalState})
}

type wakeKind uint8

const (
	wakeStale wakeKind = iota
	wakeBeat
	wakeOffline
	wakeConfirm
	wakeGiveUp
	wakeExpire
	wakeLook
	wakeCond
	wakeLock
	wakeOff
	wakeDecide
	wakeMover
	wakeRule
	wakeSetting
	wakePulse
	wakeProof
	wakeGrace
	wakeAlarm
)

type wake struct {
	seq  uint64 // what a newer wake of the same kind is told apart by
	kind wakeKind
	id   string
}

func (e *Engine) wakeAt(at time.Duration, kind wakeKind, id string) uint64 {
	return e.wakes.Push(at, wake{kind: kind, id: id})
}

// controlsOf returns the ids of a device's controls in order, so that effects come in the same order every time.
func (e *Engine) controlsOf(device string) []string {
	var ids []string
	for id, c := range e.site.Controls {
		if c.Device == device {
			ids = append(ids, id)
		}
	}
	slices.Sort(ids)
	return ids
}
