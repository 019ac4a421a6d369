package engine

import (
	"time"

	"idleember/core/access"
	"idleember/core/control"
	"idleember/core/site"
	"idleember/core/words"
)

// longestWait is the longest time between two tries to get a want confirmed.
const longestWait = 5 * time.Minute

// sendWant tells the links and shows the state.
func (e *Engine) sendWant(x *controlled, again bool) {
	x.Phase = Pending
	if !x.cfg.Answers {
		x.Phase = Sent
	}
	e.show(x)
	e.emitWant(x, again)
}

func (e *Engine) emitWant(x *controlled, again bool) {
	if w, ok := e.outgoing(x); ok && !e.waits(x, w) {
		// nobody will ever say that it is off
		if w.Value == 0 && !x.cfg.Answers && e.devices[x.cfg.Device].Online && x.MayRun && x.offWake == 0 {
			x.offWake = e.wakeAt(e.now.Mono+e.confirmWithin(*x.cfg), wakeOff, x.ID)
		}
		w.Again = again
		if at := x.sent; at.input == e.inputs { // nobody is to hear what was wanted for no time at all
			w.Again = again && e.out[at.index].(Want).Again
			e.out[at.index], e.overtaken = nil, true
		}
		x.sent = sent{e.inputs, len(e.out)}
		e.emit(w)
	}
}

// sent is where among the effects of which input the last want of a control is.
type sent struct {
	input uint64
	index int
}

// waits reports whether a want is one that no broker may keep, for a device that is not there or has not yet said what
// it is: on its return it waits for its turn.
func (e *Engine) waits(x *controlled, w Want) bool {
	return w.Fleeting && (x.returns || !e.devices[x.cfg.Device].Online)
}

// offDue takes a control for off that cannot answer, or whose answer may have been one to an older want: it had the
// time to hear it. Where its device reports by itself, something must have come from it since, or its session may be
// dead.
func (e *Engine) offDue(w wake) {
	x := e.controls[w.id]
	if x == nil || x.offWake != w.seq {
		return
	}
	if x.offWake = 0; x.Want != nil && *x.Want > 0 || x.Is != nil && *x.Is > 0 {
		return
	}
	d := e.devices[x.cfg.Device]
	switch {
	case !d.Online: // it is told when it is back
	case !x.cfg.Answers && d.LastHeard.Before(x.WantAt) && e.shortest(d.ID) > 0 && e.now.Mono < x.offSince+e.silence(d.ID):
		x.offWake = e.wakeAt(e.now.Mono+e.confirmWithin(*x.cfg), wakeOff, x.ID)
	default:
		e.surelyOff(x)
	}
}

// surelyOff notes that an output is off, for the others that wait for it.
func (e *Engine) surelyOff(x *controlled) {
	x.MayRun, x.unkept = false, true
	e.mark(x)
	e.shared(x)
}

// outgoing is what a device is told of a control; ok is false where it is told nothing.
func (e *Engine) outgoing(x *controlled) (w Want, ok bool) {
	if x.Want == nil || x.mover != nil || x.cfg.Momentary != nil || x.Service == control.OutSilent {
		return w, false
	}
	return Want{Device: x.cfg.Device, Control: x.ID, Value: *x.Want, Rev: x.Rev, Fleeting: *x.Want > 0 && x.together(),
		Urgent: *x.Want == x.cfg.Safe || x.dec.Step == control.Interlocked}, true
}

// together reports whether a control has to wait for others before it goes on: nothing of it may be kept by a broker
// while it is on, or boards that come back would switch it on by themselves.
func (x *controlled) together() bool { return len(x.groups) > 0 || x.moves != nil }

// Wants is what is wanted of the controls of a device now, by id.
func (e *Engine) Wants(device string) (list []Want) {
	for _, id := range e.controlsOf(device) {
		if w, ok := e.outgoing(e.controls[id]); ok && !e.waits(e.controls[id], w) {
			list = append(list, w)
		}
	}
	return list
}

// startConfirm begins to wait for the answer. What cannot answer is told again all the same, now and then: what was
// lost on the way, or fell to its safe value for want of beats, is put right. A device that sleeps fetches what is
// wanted when it wakes.
func (e *Engine) startConfirm(x *controlled) {
	if x.mover == nil && (x.cfg.Answers || e.site.Devices[x.cfg.Device].Wakes() == 0) {
		x.confirm = e.wakeAt(e.now.Mono+e.confirmWithin(*x.cfg), wakeConfirm, x.ID)
	}
}

// confirmWithin is how long a want may wait for its answer; for a device that sleeps it may miss one time to wake.
func (e *Engine) confirmWithin(cfg site.Control) time.Duration {
	return cfg.ConfirmAfter() + 2*e.site.Devices[cfg.Device].Wakes()
}

// expire takes back what a person wanted and a sleeping device did not fetch in time: it must not act on an old wish
// when it wakes.
func (e *Engine) expire(x *controlled) {
	was := wanted(x)
	back := x.cfg.Safe
	if x.Is != nil {
		back = *x.Is
	}
	x.Hand = &back
	x.Want, x.WantBy, x.WantAt, x.Phase = &back, access.HubActor(), e.now.Wall, Unconfirmed
	x.Rev++
	x.Reason = words.Of("want.expired", "Was", was, "To", x.cfg.Told(back))
	e.emit(Journal{Actor: access.HubActor(), Action: "not delivered", Object: x.ID, Before: was, After: x.cfg.Say(back),
		Reason: words.Of("want.slept")})
	e.show(x)
	e.emitWant(x, false)
}

// withdraw ends what is wanted of a control for good.
func (e *Engine) withdraw(in Withdraw) {
	x := e.controls[in.Control]
	if x == nil {
		return
	}
	x.gone = true
	e.takeBack(x)
	if in.Doubt {
		e.fallSilent(x)
	}
}

// takeBack ends what is wanted of a control now.
func (e *Engine) takeBack(x *controlled) {
	x.Want, x.Held, x.Phase, x.Tries, x.confirm, x.Reason = nil, nil, Idle, 0, 0, words.Fact{}
	x.leaving, x.again = false, false
	if x.Service == control.InService {
		x.Hand, x.HandUntil, x.Before, x.How, x.Spent = nil, time.Time{}, nil, HowPerson, control.NoLimit
		if x.auto.HasAuto() && x.cfg.Momentary == nil { // whatever comes in its place, the hub decides afresh
			x.Mode = Auto
		}
	}
	x.Rev++
	e.controlPoints(x)
	e.show(x)
	e.emit(Withdrawn{Device: x.cfg.Device, Control: x.ID, Rev: x.Rev})
}

// fallSilent lets a device hear nothing of the hub for a lease and a beat, so that what it did not confirm falls back.
func (e *Engine) fallSilent(x *controlled) {
	d := e.devices[x.cfg.Device]
	lease := e.site.Devices[x.cfg.Device].Lease()
	if d == nil || lease <= 0 {
		return
	}
	d.silent = e.now.Mono + lease + lease/3
	e.emit(Journal{Actor: access.HubActor(), Action: "silent", Object: d.ID, Reason: words.Of("want.silence",
		"Name", x.cfg.Name, "Safe", x.cfg.Told(x.cfg.Safe), "For", lease+lease/3)})
}

// confirmDue ends the confirm time, or sends the want once more with a growing wait.
func (e *Engine) confirmDue(w wake) {
	x := e.controls[w.id]
	if x == nil || x.confirm != w.seq || x.Want == nil || x.Phase == Confirmed {
		return
	}
	d := e.devices[x.cfg.Device]
	if e.site.Devices[x.cfg.Device].Wakes() > 0 && x.Hand != nil {
		e.expire(x)
		return
	}
	if x.Phase == Pending {
		x.Phase = Unconfirmed
		why := words.Of("want.unanswered", "Within", x.cfg.ConfirmAfter())
		if !d.Online {
			why = words.Of("want.offline")
		}
		e.show(x)
		e.emit(Journal{Actor: access.HubActor(), Action: "unconfirmed", Object: x.ID, Before: is(x), After: wanted(x),
			Reason: why})
	}
	if !d.Online {
		return // coming online sends it again
	}
	if x.returns { // its device did not say what it is
		e.anew(x)
	}
	x.Tries++
	if x.Tries > 1 {
		e.emitWant(x, true)
	}
	x.confirm = e.wakeAt(e.now.Mono+min(longestWait, x.cfg.ConfirmAfter()<<min(x.Tries-1, 16)), wakeConfirm, x.ID)
}

// report takes what a device says that a control is.
func (e *Engine) report(in Report) {
	x := e.controls[in.Control]
	if x == nil || !e.site.Devices[x.cfg.Device].Active() || x.mover != nil {
		return
	}
	d := e.devices[x.cfg.Device]
	d.LastHeard = e.now.Wall
	first, changed := x.session != in.Session || x.Is == nil, x.Is == nil || *x.Is != in.Value
	x.session = in.Session
	before := is(x)
	e.heardIs(x, in.Value, changed)
	if x.returns && e.isBack(x, in.Value) {
		return
	}
	e.judgeReport(x, d, in, before, first, changed)
}

// heardIs keeps what a device says that a control is.
func (e *Engine) heardIs(x *controlled, value site.Amount, changed bool) {
	x.Is, x.IsAt = &value, e.now.Wall
	switch off := value == 0 && (x.Want == nil || *x.Want == 0); {
	case !off || !x.MayRun:
	case e.now.Mono < x.unsure: // what was wanted before may still be on its way to it
		x.offWake = e.wakeAt(x.unsure, wakeOff, x.ID)
	default:
		e.surelyOff(x)
	}
	if changed {
		x.IsSince = e.now.Wall
		e.controlPoints(x)
		e.shared(x)
		e.mark(x)
	}
}

// isBack takes the first report of what its device was away with, and reports whether that settles it.
func (e *Engine) isBack(x *controlled, value site.Amount) bool {
	x.returns = false
	if x.Want == nil || same(x.cfg, *x.Want, value) {
		return false
	}
	if value == 0 {
		e.anew(x)
		x.Phase = Confirmed
	} else { // it is on, but not as it is wanted
		e.sendWant(x, true)
		e.startConfirm(x)
	}
	return true
}

// judgeReport makes of a report a confirmation, something to follow, or something to insist against. Long, because it
// is one decision in its order.
func (e *Engine) judgeReport(x *controlled, d *device, in Report, before string, first, changed bool) {
	value := in.Value
	switch {
	case x.Service == control.OutSilent:
	case x.Service == control.OutAndSafe || x.leaving: // nothing that is done at the board is followed, nor afterwards
		if x.Want != nil && !same(x.cfg, *x.Want, value) && x.cfg.Momentary == nil {
			if x.Phase == Confirmed || x.Phase == Sent {
				e.insist(x, in, words.Of("want.serviced"))
			}
			break
		}
		if x.Want != nil && x.Phase != Confirmed && x.cfg.Answers && x.cfg.Momentary == nil {
			x.Phase, x.Tries, x.confirm = Confirmed, 0, 0
			changed = true
		}
	case x.cfg.Momentary != nil:
		switch p := &x.Pulse; {
		case p.Running && value > 0 && !p.Heard:
			p.Heard, changed = true, true
		case p.Offs > 0 && value == 0:
			p.Offs, x.Phase, x.Reason, changed = 0, Confirmed, words.Of("pulse.ended_by", "How", p.Says, "By",
				p.By.Name), true
		}
	case x.Want == nil:
		if changed && (!first || in.By == ByHand) {
			e.follow(x, in.Value, before, words.Of("want.at_board"))
			return
		}
		x.Reason = words.Of("want.came_up")
	case same(x.cfg, *x.Want, value):
		if x.Phase != Confirmed && x.cfg.Answers {
			x.Phase, x.Tries, x.confirm = Confirmed, 0, 0
			changed = true
		}
	case in.By == ByNothing && x.Phase == Confirmed && e.now.Mono < x.unsure:
		// An answer to what was wanted before; so what seemed to confirm the present want was one to a still older one.
		x.Phase = Pending
		x.confirm = e.wakeAt(x.unsure, wakeConfirm, x.ID)
	case in.By == ByHand || changed && !first && x.Phase == Confirmed && in.By != ByLease && !e.leaseRanOut(d):
		if x.cfg.AtDevice == site.Insist || x.moves != nil {
			e.insist(x, in, words.Of("want.insists", "Want", x.cfg.Told(*x.Want)))
			return
		}
		e.follow(x, in.Value, before, words.Of("want.at_board"))
		return
	case x.Phase == Confirmed || x.Phase == Sent || x.Phase == Idle:
		why := words.Of("want.came_back", "Is", x.cfg.Told(value))
		if in.By == ByLease || e.leaseRanOut(d) {
			why = words.Of("want.fell")
		}
		e.insist(x, in, why)
		return
	}
	if changed {
		e.show(x)
	}
}

// leaseRanOut tells a board's fall to its safe value from somebody pressing a button, where the board does not say.
func (e *Engine) leaseRanOut(d *device) bool {
	lease := e.site.Devices[d.ID].Lease()
	return lease > 0 && e.now.Mono-d.lastBeat > lease
}

// follow makes what was switched at the device the value by hand. Whether it stays is decided like any other value by
// hand: an interlock and the longest on hold in any case.
func (e *Engine) follow(x *controlled, value site.Amount, before string, why words.Fact) {
	actor := e.deviceActor(x.cfg.Device)
	x.Hand, x.HandBy, x.HandAt, x.HandUntil, x.How, x.Held = &value, actor, e.now.Wall, time.Time{}, HowDevice, nil
	if x.auto.HasAuto() {
		x.Mode = Manual
		x.HandUntil = e.now.Wall.Add(site.DefaultFollow)
		if x.auto.FollowMS > 0 {
			x.HandUntil = e.now.Wall.Add(site.Millis(x.auto.FollowMS))
		}
		e.controlPoints(x)
	}
	e.emit(Journal{Actor: actor, Action: "switch", Object: x.ID, Before: before, After: x.cfg.Say(value), Reason: why})
	x.reported, x.again = true, true
	e.mark(x)
}

func (e *Engine) insist(x *controlled, in Report, why words.Fact) {
	// it is told again, and no more often than may be
	if x.Service == control.InService && !x.leaving && (e.held(x) || e.count(x)) {
		x.Phase = Unconfirmed
		x.confirm = e.wakeAt(e.now.Mono+time.Minute/site.DefaultChanges, wakeConfirm, x.ID)
		e.show(x)
		return
	}
	x.Reason = why
	x.Tries = 0
	e.emit(Journal{Actor: access.HubActor(), Action: "insist", Object: x.ID, Before: x.cfg.Say(in.Value), After: wanted(x),
		Reason: why})
	e.sendWant(x, true)
	e.startConfirm(x)
}

// anew has a control start again whose device came back without it: within its limits, and when its group lets it.
func (e *Engine) anew(x *controlled) {
	e.want(x, 0, access.HubActor())
	if x.MayRun = !x.cfg.Answers; x.MayRun { // it may be on, and nobody would say so
		e.emitWant(x, false)
	}
	x.Phase, x.confirm = Idle, 0
	x.shown = false
	e.mark(x)
}

func wanted(x *controlled) string {
	if x.Want == nil {
		return ""
	}
	return x.cfg.Say(*x.Want)
}

func is(x *controlled) string {
	if x.Is == nil {
		return ""
	}
	return x.cfg.Say(*x.Is)
}
