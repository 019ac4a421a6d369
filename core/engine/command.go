package engine

import (
	"fmt"
	"time"

	"idleember/core/access"
	"idleember/core/control"
	"idleember/core/site"
	"idleember/core/words"
)

// byHand lets a person, a preset or a rule decide of a control. A zero end means: as the owner chose for the control.
// Long, because it is one decision in its order, and each case names the next.
func (e *Engine) byHand(id string, to site.Amount, until time.Time, by access.Actor, how How) {
	x := e.controls[id]
	if x == nil || !e.takesHand(x, to) {
		return
	}
	if x.cfg.Momentary != nil {
		if to > 0 {
			e.pulse(x, by)
		}
		return
	}
	until = e.handEnd(x, to, until)
	under := x.Phase == Confirmed || x.Phase == Pending || x.Phase == Assumed && x.mover == nil // it is so, or on its way
	if by.Kind != access.TheHub {
		x.calmed()
	}
	if x.Spent != control.NoLimit {
		x.Spent = control.NoLimit
		e.mark(x)
	}
	if x.Hand != nil && *x.Hand == to && x.HandUntil.Equal(until) && x.Held == nil && x.How == how && under &&
		x.Want != nil && *x.Want == to {
		return
	}
	entry := Journal{Actor: by, Action: "switch", Object: x.ID, Before: said1(x), After: x.cfg.Say(to)}
	if !until.IsZero() {
		entry.Reason = words.Of("want.until", "Until", e.local(until))
	}
	e.emit(entry)
	switch {
	case until.IsZero() || how != HowPreset || x.auto.HasAuto():
		x.Before = nil
	case x.Before == nil:
		x.Before = x.Hand
	}
	x.Hand, x.HandBy, x.HandAt, x.HandUntil, x.How, x.Held = &to, by, e.now.Wall, until, how, nil
	if x.auto.HasAuto() {
		x.Mode = Manual
		e.controlPoints(x)
	}
	x.again = x.again || x.Want != nil && *x.Want == to && !under || x.Mover != nil && x.Mover.Stayed != nil
	x.shown, x.unkept = false, true
	e.mark(x)
}

// said1 is what a control was before, for the journal: its mode where it has one, else what was wanted.
func said1(x *controlled) string {
	if x.Mode == Auto {
		return "auto"
	}
	return wanted(x)
}

// toAuto gives a control back to the hub.
func (e *Engine) toAuto(id string, by access.Actor) {
	x := e.controls[id]
	if x == nil || !x.auto.HasAuto() || x.leaving {
		return
	}
	if by.Kind != access.TheHub {
		x.calmed()
	}
	if x.Spent != control.NoLimit {
		x.Spent = control.NoLimit
	}
	if x.Mover != nil {
		x.Mover.Stayed = nil
	}
	e.mark(x)
	if x.Mode == Auto {
		return
	}
	e.emit(Journal{Actor: by, Action: "auto", Object: x.ID, Before: wanted(x), After: "auto"})
	x.Hand, x.HandUntil, x.How, x.Held, x.Before, x.Mode = nil, time.Time{}, HowPerson, nil, nil, Auto
	delete(e.devices[x.cfg.Device].resume, x.ID)
	x.shown, x.unkept = false, true
	e.controlPoints(x)
}

// takesHand reports whether somebody may decide of a control now.
func (e *Engine) takesHand(x *controlled, to site.Amount) bool {
	if x.mover != nil && x.mover.pulses != nil && to == site.Stop {
		return false // it has one button, which would start it as well
	}
	return e.site.Devices[x.cfg.Device].Active() && x.moves == nil && x.cfg.Check(to) == nil && !x.leaving &&
		x.Service == control.InService
}

// handEnd is when the time by hand is over: as told, else as the owner chose.
func (e *Engine) handEnd(x *controlled, to site.Amount, until time.Time) time.Time {
	switch {
	case !until.IsZero() || to == x.cfg.Safe:
	case x.auto != nil && x.auto.HandMS > 0:
		return e.now.Wall.Add(site.Millis(x.auto.HandMS))
	case x.cfg.Dangerous:
		return e.now.Wall.Add(site.DefaultHandDangerous)
	}
	return until
}

// serve takes a control out of service, or puts it back.
func (e *Engine) serve(in Serve) {
	x := e.controls[in.Control]
	if x == nil || x.Service == in.Service {
		return
	}
	says := map[control.Service]string{control.InService: "in service", control.OutSilent: "out of service, told nothing",
		control.OutAndSafe: "out of service at its safe value"}
	e.emit(Journal{Actor: in.Actor, Action: "service", Object: x.ID, Before: says[x.Service], After: says[in.Service]})
	if in.Service != control.InService {
		e.putAside(x)
	}
	x.Service, x.ServiceBy, x.ServiceAt = in.Service, in.Actor, e.now.Wall
	x.again = in.Service == control.InService && x.Want != nil
	e.stands(x)
	x.shown, x.unkept = false, true
	e.mark(x)
}

// putAside ends what moves before a control is locked or taken away: a door is stopped, and so is the door whose motor
// it is.
func (e *Engine) putAside(x *controlled) {
	if x.moves != nil && x.moves.mover != nil {
		e.halt(x.moves)
		e.mark(x.moves)
		if x.driven = 0; x.Want != nil && *x.Want > 0 {
			e.want(x, 0, access.HubActor())
			e.sendWant(x, false)
		}
	}
	if x.mover != nil {
		for _, o := range []*controlled{x.mover.opens, x.mover.closes} {
			if o != nil && o.Service == control.InService {
				e.mark(o)
			}
		}
	}
}

// leave begins to take controls away, or ends that.
func (e *Engine) leave(in Leave) {
	for _, id := range in.Controls {
		x := e.controls[id]
		if x == nil || x.leaving == !in.End && !x.gone {
			continue
		}
		x.gone = false
		if !in.End {
			e.putAside(x)
		}
		// it may have stayed on
		if !in.End && x.cfg.Momentary != nil && x.Phase == Unconfirmed && x.Service != control.OutSilent {
			x.Pulse.Off = x.Pulse.Off || !x.Pulse.Running
			e.pulseOff(x)
		}
		x.leaving, x.stays = !in.End, in.Stay && !in.End
		x.again = !in.End && x.Want != nil && x.Phase != Confirmed
		e.stands(x)
		x.shown, x.unkept = false, true
		e.mark(x)
	}
}

// PulseState is the last pulse of a momentary control.
type PulseState struct {
	ID      string       `json:"id"`
	By      access.Actor `json:"by"`
	At      time.Time    `json:"at"`
	Left    int          `json:"left"`          // how often it still goes on, the present time included
	On      bool         `json:"on"`            // it is on now, as far as the hub wants
	Running bool         `json:"running"`       // the sequence goes on
	Heard   bool         `json:"heard"`         // the device said that it was on
	Tries   int          `json:"tries"`         // how often it was tried again for want of an effect
	Says    words.Fact   `json:"says"`          // how it ended
	Off     bool         `json:"off,omitempty"` // the hub was restarted in its midst: off is still to be sent
	// how often off was sent again, because the device said that it is still on
	Offs int `json:"offs,omitempty"`
}

// pulse begins the sequence of a momentary control. It is sent once: never again because of a reconnect, a restart or a
// missing answer.
func (e *Engine) pulse(x *controlled, by access.Actor) {
	m := x.cfg.Momentary
	if m == nil || x.Pulse.Running {
		return
	}
	times := max(1, m.Times)
	x.Rev++
	x.Pulse = PulseState{ID: fmt.Sprintf("%s-%d", x.ID, x.Rev), By: by, At: e.now.Wall, Left: times}
	p := &x.Pulse
	var refuse words.Fact
	for _, l := range x.interlocks {
		if l.holds() {
			refuse = words.Of("pulse.interlock", "Name", l.cfg.Name)
		}
	}
	switch {
	case x.Service != control.InService || x.leaving:
		refuse = words.Of("pulse.service")
	case refuse.Empty() && by.Kind == access.TheHub && (e.held(x) || e.count(x)):
		refuse = words.Of("pulse.often")
	case refuse.Empty() && !e.devices[x.cfg.Device].Online:
		refuse = words.Of("pulse.offline")
	}
	e.emit(Journal{Actor: by, Action: "pulse", Object: x.ID, After: "pulse", Reason: refuse})
	if !refuse.Empty() {
		p.Says = refuse
		x.Phase, x.Reason = Unconfirmed, refuse
		e.show(x)
		return
	}
	p.Running = true
	x.Phase, x.Reason = Pending, words.Of("pulse.by", "By", by.Name)
	e.pulseOn(x)
	e.startProof(x)
}

func (e *Engine) pulseOn(x *controlled) {
	p := &x.Pulse
	p.On = true
	x.Rev++
	deadline := site.DefaultDeadline
	if x.cfg.Momentary.DeadlineMS > 0 {
		deadline = site.Millis(x.cfg.Momentary.DeadlineMS)
	}
	e.show(x)
	e.emit(Want{Device: x.cfg.Device, Control: x.ID, Value: 1, Rev: x.Rev, Pulse: p.ID,
		Deadline: e.now.Wall.Add(deadline)})
	x.pulseWake = e.wakeAt(e.now.Mono+site.Millis(x.cfg.Momentary.ForMS), wakePulse, x.ID)
}

func (e *Engine) pulseDue(w wake) {
	x := e.controls[w.id]
	if x == nil || x.pulseWake != w.seq || x.cfg.Momentary == nil {
		return
	}
	p := &x.Pulse
	if !p.Running {
		e.offAgain(x)
		return
	}
	if !p.On {
		e.pulseOn(x)
		return
	}
	p.On = false
	p.Left--
	x.Rev++
	e.emit(Want{Device: x.cfg.Device, Control: x.ID, Value: 0, Rev: x.Rev, Pulse: p.ID})
	if p.Left > 0 {
		x.pulseWake = e.wakeAt(e.now.Mono+site.Millis(x.cfg.Momentary.GapMS), wakePulse, x.ID)
		e.show(x)
		return
	}
	p.Running = false
	e.watchOff(x)
	switch {
	case p.Heard:
		x.Phase, p.Says = Confirmed, words.Of("pulse.done")
	case x.cfg.Answers:
		x.Phase, p.Says = Unconfirmed, words.Of("pulse.unsaid")
	default:
		x.Phase, p.Says = Sent, words.Of("pulse.sent")
	}
	x.Reason = words.Of("pulse.ended_by", "How", p.Says, "By", p.By.Name)
	e.show(x)
}

const mostOffs = 5 // again, after the one of the pulse

// watchOff looks a little later whether what was pulsed let go.
func (e *Engine) watchOff(x *controlled) {
	if x.cfg.Answers {
		x.pulseWake = e.wakeAt(e.now.Mono+e.confirmWithin(*x.cfg), wakePulse, x.ID)
	}
}

// lingers reports whether a momentary control is on though no pulse of it goes on.
func (x *controlled) lingers() bool {
	return x.cfg.Momentary != nil && !x.Pulse.Running && x.Is != nil && *x.Is > 0 && x.Service != control.OutSilent
}

// offAgain sends off again where the device says that it is still on: what was sent before was lost.
func (e *Engine) offAgain(x *controlled) {
	p := &x.Pulse
	if !x.lingers() || !e.devices[x.cfg.Device].Online { // where it is away it is told when it comes back
		p.Off = p.Off || x.lingers()
		return
	}
	x.Phase, x.Reason = Unconfirmed, words.Of("pulse.lingers")
	if p.Offs++; p.Offs > mostOffs {
		x.Reason = words.Of("pulse.deaf")
		e.emit(Message{Object: x.ID, Grave: true, Text: words.Of("pulse.message", "Name", x.cfg.Name, "Why", x.Reason)})
		e.show(x)
		return
	}
	x.Rev++
	e.emit(Want{Device: x.cfg.Device, Control: x.ID, Value: 0, Rev: x.Rev, Pulse: p.ID})
	e.watchOff(x)
	e.show(x)
}

// cutPulse ends a sequence in its midst: it is off, and goes on no more.
func (e *Engine) cutPulse(x *controlled, why words.Fact) {
	p := &x.Pulse
	p.Running, p.Left = false, 0
	p.Says = words.Of("pulse.ended", "Why", why)
	x.Phase, x.Reason = Unconfirmed, p.Says
	if p.On {
		p.On = false
		x.Rev++
		e.emit(Want{Device: x.cfg.Device, Control: x.ID, Value: 0, Rev: x.Rev, Pulse: p.ID})
	}
	e.watchOff(x)
	e.emit(Journal{Actor: access.HubActor(), Action: "pulse", Object: x.ID, Before: "pulse", After: "off", Reason: p.Says})
	x.unkept = true
	e.mark(x)
}

// endPulse ends a sequence that a restart interrupted: nothing of it is sent again, but off is.
func (e *Engine) endPulse(x *controlled) {
	if p := &x.Pulse; p.Running {
		p.Running, p.On, p.Left, p.Off = false, false, 0, true
		p.Says = words.Of("pulse.restart")
		x.Phase, x.Reason = Unconfirmed, p.Says
		e.emit(Journal{Actor: access.HubActor(), Action: "pulse", Object: x.ID, Before: "pulse", After: "off",
			Reason: p.Says})
	}
}

// pulseOff sends the off that a restart left open.
func (e *Engine) pulseOff(x *controlled) {
	if p := &x.Pulse; p.Off {
		p.Off = false
		x.Rev++
		e.emit(Want{Device: x.cfg.Device, Control: x.ID, Value: 0, Rev: x.Rev, Pulse: p.ID})
		e.watchOff(x)
		e.show(x)
	}
}

// Proved says how far the proof of a control's effect has come.
type Proved string

// The states of a proof.
const (
	NoProof      Proved = ""
	ProofWaiting Proved = "waiting"
	ProofSeen    Proved = "seen"
	ProofMissing Proved = "missing"
)

// startProof begins to wait for the effect of what was switched on, and forgets that of what was switched off.
func (e *Engine) startProof(x *controlled) {
	if x.proof == nil {
		return
	}
	was := x.Proof
	defer func() {
		if x.Proof != was {
			x.unkept = true
			e.mark(x)
		}
	}()
	if on := x.Want != nil && *x.Want > 0 || x.Pulse.Running; !on {
		if x.Spent == control.NoEffect {
			return // it was switched off because of that
		}
		x.Proof, x.ProofTries, x.proofWake = NoProof, 0, 0
		return
	}
	x.Proof = ProofWaiting
	x.proofWake = e.wakeAt(e.now.Mono+site.Millis(x.auto.Proof.WithinMS), wakeProof, x.ID)
	e.checkProof(x)
}

// checkProof looks whether the effect is there.
func (e *Engine) checkProof(x *controlled) {
	if x.proof != nil && (x.Proof == ProofWaiting || x.Proof == ProofMissing) && x.proof.Is == control.True {
		if x.Proof == ProofMissing {
			x.Reason = words.Of("proof.late", "When", x.auto.Proof.When)
		}
		x.Proof, x.ProofTries, x.proofWake = ProofSeen, 0, 0
		e.show(x)
	}
}

func (e *Engine) proofDue(w wake) {
	x := e.controls[w.id]
	if x == nil || x.proofWake != w.seq || x.Proof != ProofWaiting || x.proof == nil {
		return
	}
	within := site.Millis(x.auto.Proof.WithinMS)
	if x.ProofTries < x.auto.Proof.Retries {
		x.ProofTries++
		why := words.Of("proof.retry", "Within", within, "Try", count(x.ProofTries+1), "Most", count(x.auto.Proof.Retries+1))
		e.emit(Journal{Actor: access.HubActor(), Action: "retry", Object: x.ID, After: wanted(x), Reason: why})
		if x.cfg.Momentary != nil {
			by, tries := x.Pulse.By, x.ProofTries
			e.pulse(x, by)
			x.ProofTries = tries
			return
		}
		x.Tries = 0
		e.sendWant(x, true)
		e.startConfirm(x)
		e.startProof(x)
		return
	}
	x.Proof = ProofMissing
	if x.auto.Proof.SwitchOff && x.cfg.Momentary == nil {
		x.Spent, x.shown = control.NoEffect, false
		e.mark(x)
	}
	x.Reason = words.Of("proof.missing", "When", x.auto.Proof.When, "Within", within)
	e.show(x)
	e.emit(Journal{Actor: access.HubActor(), Action: "no effect", Object: x.ID, After: wanted(x), Reason: x.Reason})
	e.emit(Message{Object: x.ID, Grave: true, Text: words.Of("proof.message", "Name", x.cfg.Name, "To", wantedOrPulse(x),
		"Why", x.Reason)})
}

func wantedOrPulse(x *controlled) words.Fact {
	if x.cfg.Momentary != nil || x.Want == nil {
		return words.Of("proof.moment")
	}
	return x.cfg.Told(*x.Want)
}

// Left reports whether controls that are taken away are at the value that they are left with, as far as their device
// can say.
func (e *Engine) Left(controls []string) bool {
	for _, id := range controls {
		x := e.controls[id]
		if x == nil || !x.leaving || x.mover != nil {
			continue
		}
		if x.Want == nil {
			if x.running() { // out of service it is told nothing, and it is on
				return false
			}
			continue
		}
		// it has its time to hear it
		if x.Phase != Confirmed && x.Phase != Sent || x.Phase == Sent && *x.Want == 0 && x.MayRun {
			return false
		}
	}
	return true
}
