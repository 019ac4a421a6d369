package engine

import (
	"slices"
	"time"

	"idleember/core/access"
	"idleember/core/words"
)

// Long, because it is one decision in its order, and each case names the next.
func (e *Engine) online(in Online) {
	d := e.devices[in.Device]
	if d == nil || !e.site.Devices[in.Device].Active() {
		return
	}
	at := slices.IndexFunc(d.sessions, func(s session) bool { return s.id == in.Session })
	anew := at < 0
	if anew {
		d.sessions = append(d.sessions, session{id: in.Session, expires: in.Expires})
		at = len(d.sessions) - 1
	} else if !in.Expires {
		return
	}
	if in.Expires {
		s := &d.sessions[at]
		s.until = e.now.Mono + e.silence(d.ID)
		if s.wake == 0 { // else the wake that is due earlier looks again
			s.wake = e.wakeAt(s.until, wakeExpire, d.ID)
		}
	}
	d.ending = 0
	was, from, slept := d.Online, d.From, d.Asleep
	d.Online, d.From, d.Why, d.Asleep = true, in.From, "", false
	if !was {
		d.Since = e.now.Wall
		e.emit(Journal{Actor: e.deviceActor(d.ID), Action: "online", Object: d.ID, After: "online",
			Reason: words.Of("device.from", "From", in.From)})
	}
	if !was || from != in.From || slept {
		e.emit(DeviceChanged{d.DeviceState})
	}
	back := anew && len(d.sessions) == 1 // beside another one that lives it may be no more than a way to say something
	d.sessions[at].came = d.sessions[at].came || back
	for _, id := range e.controlsOf(d.ID) {
		x := e.controls[id]
		switch {
		case x.Want == nil || x.mover != nil:
		case *x.Want > 0 && x.together() && back:
			e.comesBack(x)
		case was: // a second session of a device that stayed online changes nothing
			continue
		default:
			x.Tries = 0
			e.sendWant(x, true)
			e.startConfirm(x)
		}
		if back && x.lingers() && x.Pulse.ID != "" { // the off of its pulse may have been lost
			x.Pulse.Off = true
		}
		e.pulseOff(x)
	}
	e.startBeats(d)
	if was && anew && e.site.Devices[d.ID].Lease() > 0 {
		e.beat(d) // who came later need not wait for the next one
	}
}

// comesBack waits until a device that may have started anew says what an output is that no broker kept on for it; where
// it is off, it waits for its turn.
func (e *Engine) comesBack(x *controlled) {
	if !x.cfg.Answers {
		e.anew(x)
		return
	}
	x.returns, x.Tries, x.Phase = true, 0, Pending
	e.startConfirm(x)
	x.unkept = true
	e.mark(x)
}

// listening lets a device hear the hub, and what no broker keeps for it. Who begins to listen in a session of its own
// beside others may be the same device that started anew, while its old session is not known to be dead.
func (e *Engine) listening(in Listening) {
	d := e.devices[in.Device]
	if d == nil {
		return
	}
	if at := slices.IndexFunc(d.sessions, func(s session) bool { return s.id == in.Session }); at >= 0 &&
		!d.sessions[at].came {
		d.sessions[at].came = true
		for _, id := range e.controlsOf(d.ID) {
			if x := e.controls[id]; x.Want != nil && x.mover == nil && *x.Want > 0 && x.together() {
				e.comesBack(x)
			}
		}
	}
	e.beat(d)
	for _, id := range e.controlsOf(d.ID) {
		if x := e.controls[id]; x.Want != nil && *x.Want > 0 && x.together() && !x.returns {
			e.emitWant(x, true)
		}
	}
}

// startBeats lets the beats for a device begin, or go on with another lease.
func (e *Engine) startBeats(d *device) {
	lease := e.site.Devices[d.ID].Lease()
	if d.Online && lease > 0 && (d.beats == 0 || d.lease != lease) {
		d.beats = e.wakeAt(e.now.Mono, wakeBeat, d.ID)
	}
}

// silence is how long a session without an end of its own may be silent: three messages may be missing.
func (e *Engine) silence(device string) time.Duration {
	cfg := e.site.Devices[device]
	if cfg.Wakes() > 0 {
		return sleepFor(cfg.Wakes())
	}
	if shortest := e.shortest(device); shortest > 0 {
		return max(3*shortest, 10*time.Second)
	}
	return 3 * time.Minute
}

// shortest is the shortest interval among a device's signals, 0 while none is known.
func (e *Engine) shortest(device string) (shortest time.Duration) {
	for id, cfg := range e.site.Signals {
		if i := e.signals[id].interval(); cfg.Device == device && i > 0 && (shortest == 0 || i < shortest) {
			shortest = i
		}
	}
	return shortest
}

// expireDue ends a session that was silent for too long.
func (e *Engine) expireDue(w wake) {
	d := e.devices[w.id]
	if d == nil {
		return
	}
	at := slices.IndexFunc(d.sessions, func(s session) bool { return s.wake == w.seq })
	if at < 0 {
		return
	}
	if s := &d.sessions[at]; s.until > e.now.Mono {
		s.wake = e.wakeAt(s.until, wakeExpire, d.ID)
		return
	}
	e.offline(Offline{Device: d.ID, Session: d.sessions[at].id, Why: words.Of("device.silent", "For",
		e.silence(d.ID)).String()})
}

func (e *Engine) offline(in Offline) {
	d := e.devices[in.Device]
	if d == nil {
		return
	}
	at := slices.IndexFunc(d.sessions, func(s session) bool { return s.id == in.Session })
	if at < 0 {
		return // an old session's end cannot undo a newer one
	}
	expires := d.sessions[at].expires
	d.sessions = slices.Delete(d.sessions, at, at+1)
	if len(d.sessions) > 0 {
		return
	}
	d.Why, d.endedAt = in.Why, e.now.Wall
	wait := e.linger(d.ID, in.Bye)
	if expires { // it was waited for already
		wait = 0
	}
	if wakes := e.site.Devices[d.ID].Wakes(); wakes > 0 && wait > 0 {
		d.Asleep = true
		e.emit(DeviceChanged{d.DeviceState})
	}
	d.ending = e.wakeAt(e.now.Mono+wait, wakeOffline, d.ID)
}

// linger is how long a device stays online after its last session ended. One that says good-bye after each message
// stays until three of its messages are missing.
func (e *Engine) linger(device string, bye bool) time.Duration {
	wait := max(linger, sleepFor(e.site.Devices[device].Wakes()))
	if bye {
		wait = max(wait, min(3*e.shortest(device), longestLinger))
	}
	return wait
}

func (e *Engine) offlineDue(w wake) {
	d := e.devices[w.id]
	if d == nil || d.ending != w.seq {
		return
	}
	e.goOffline(d)
}

func (e *Engine) goOffline(d *device) {
	d.Online, d.Asleep, d.Since = false, false, d.endedAt
	e.emit(DeviceChanged{d.DeviceState})
	e.emit(Journal{Actor: e.deviceActor(d.ID), Action: "offline", Object: d.ID, Before: "online", After: "offline",
		Reason: words.Said(d.Why)})
	var ids []string
	for id, s := range e.site.Signals {
		if s.Device == d.ID {
			ids = append(ids, id)
		}
	}
	slices.Sort(ids)
	for _, id := range ids {
		s := e.signals[id]
		e.lose(s)
		if s.Fresh == Live {
			s.Fresh = Stale
			e.emit(SignalChanged{s.SignalState})
		}
	}
	for _, id := range e.controlsOf(d.ID) {
		e.giveUpAfter(d, e.controls[id], linger)
	}
}

func (e *Engine) beat(d *device) {
	if d.silent > e.now.Mono {
		return
	}
	d.lastBeat, d.lease = e.now.Mono, e.site.Devices[d.ID].Lease()
	e.emit(Beat{Device: d.ID, Lease: d.lease})
	if d.silent == 0 {
		return
	}
	d.silent = 0 // the others on it fell as well; what can answer says so
	for _, id := range e.controlsOf(d.ID) {
		if x := e.controls[id]; x.Want != nil && !x.cfg.Answers {
			e.emitWant(x, true)
		}
	}
}

func (e *Engine) beatDue(w wake) {
	d := e.devices[w.id]
	if d == nil || d.beats != w.seq {
		return
	}
	lease := e.site.Devices[w.id].Lease()
	if !d.Online || lease <= 0 {
		d.beats = 0
		return
	}
	if d.silent > e.now.Mono {
		d.beats = e.wakeAt(d.silent, wakeBeat, w.id)
		return
	}
	e.beat(d)
	d.beats = e.wakeAt(e.now.Mono+lease/3, wakeBeat, w.id)
}

// giveUpAfter lets what a person wants of a device that was not heard for away be kept for the rest of the time that
// its owner allows, and ends in the safe value then. The links are told at that time, not when the device is back: a
// broker's retained message would be there first. It tells whether that is at once. Auto needs no such end: it decides
// afresh.
func (e *Engine) giveUpAfter(d *device, x *controlled, away time.Duration) (gaveUp bool) {
	if !x.holdsOn() {
		return false
	}
	left := x.cfg.Resume() - away
	if left <= 0 {
		e.giveUp(x)
		return true
	}
	d.resume[x.ID] = e.now.Mono + left
	e.wakeAt(e.now.Mono+left, wakeGiveUp, x.ID)
	return false
}

func (e *Engine) giveUpDue(w wake) {
	x := e.controls[w.id]
	if x == nil {
		return
	}
	d := e.devices[x.cfg.Device]
	if due, waiting := d.resume[w.id]; !waiting || due > e.now.Mono || d.Online {
		return
	}
	delete(d.resume, w.id)
	if x.holdsOn() { // it may have been given back to auto meanwhile
		e.giveUp(x)
	}
}

// holdsOn reports whether a person wants something of the control that is not to be wanted for ever while it is away.
func (x *controlled) holdsOn() bool {
	return x.Want != nil && x.Hand != nil && *x.Hand != x.cfg.Safe && x.moves == nil && x.mover == nil
}

func (e *Engine) giveUp(x *controlled) {
	held, safe := *x.Hand, x.cfg.Safe
	x.Held, x.Hand, x.HandBy, x.HandAt, x.How = &held, &safe, access.HubActor(), e.now.Wall, HowAway
	e.emit(Journal{Actor: access.HubActor(), Action: "switch", Object: x.ID, Before: x.cfg.Say(held),
		After:  x.cfg.Say(safe),
		Reason: words.Of("want.given_up", "For", x.cfg.Resume())})
	x.again = true
	e.mark(x)
}

func (e *Engine) deviceActor(id string) access.Actor {
	return access.DeviceActor(id, e.site.Devices[id].Name, e.devices[id].From)
}
