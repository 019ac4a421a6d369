package engine

import (
	"fmt"
	"time"

	"idleember/core/access"
	"idleember/core/site"
)

// longestWait is the longest time between two tries to get a want confirmed.
const longestWait = 5 * time.Minute

func (e *Engine) command(in Command) {
	c, cfg := e.controls[in.Control], e.site.Controls[in.Control]
	if c == nil || !e.site.Devices[cfg.Device].Active() {
		return
	}
	if c.Want != nil && *c.Want == in.On && c.Held == nil && (c.Phase == Confirmed || c.Phase == Pending) {
		return // it is so, or on its way
	}
	e.emit(Journal{Actor: in.Actor, Action: "switch", Object: c.ID, Before: wanted(c), After: onOff(in.On)})
	e.want(c, in.On, in.Actor)
	c.Reason = "switched " + onOff(in.On) + " by " + in.Actor.Name
	if d := e.devices[cfg.Device]; !d.Online {
		c.Reason += "; the board is offline and gets it when it is back"
		e.giveUpAfter(d, c, 0)
	} else if wakes := e.site.Devices[cfg.Device].Wakes; wakes > 0 {
		c.Reason += fmt.Sprintf("; the board sleeps and wakes every %s, it waits until %s at the latest", said(wakes),
			e.now.Wall.Add(e.confirmWithin(cfg)).In(e.site.Hub.Location()).Format("15:04"))
	}
	if c.Want != nil && *c.Want == in.On {
		e.sendWant(c, false)
		e.startConfirm(c)
	}
}

func (e *Engine) want(c *control, on bool, by access.Actor) {
	c.Want, c.WantBy, c.WantAt = &on, by, e.now.Wall
	c.Held, c.Tries = nil, 0
	c.Rev++
}

// sendWant tells the links and shows the state.
func (e *Engine) sendWant(c *control, again bool) {
	cfg := e.site.Controls[c.ID]
	c.Phase = Pending
	if !cfg.Answers {
		c.Phase = Sent
	}
	e.emit(ControlChanged{c.ControlState})
	e.emit(Want{Device: cfg.Device, Control: c.ID, On: *c.Want, Again: again, Rev: c.Rev})
}

func (e *Engine) startConfirm(c *control) {
	cfg := e.site.Controls[c.ID]
	if cfg.Answers {
		c.wake = e.wakeAt(e.now.Mono+e.confirmWithin(cfg), wakeConfirm, c.ID)
	}
}

// confirmWithin is how long a want may wait for its answer; for a device that sleeps it may miss one time to wake.
func (e *Engine) confirmWithin(cfg site.Control) time.Duration {
	return cfg.ConfirmAfter + 2*e.site.Devices[cfg.Device].Wakes
}

// expire takes back a want that a sleeping device did not fetch in time: it must not act on an old wish when it wakes.
func (e *Engine) expire(c *control, cfg site.Control) {
	was := onOff(*c.Want)
	back := cfg.Safe
	if c.Is != nil {
		back = *c.Is
	}
	c.Want, c.WantBy, c.WantAt, c.Phase = &back, access.HubActor(), e.now.Wall, Unconfirmed
	c.Rev++
	c.Reason = was + " was not delivered: the board did not wake in time; taken back to " + onOff(back)
	e.emit(Journal{Actor: access.HubActor(), Action: "not delivered", Object: c.ID, Before: was, After: onOff(back), Reason: "the board did not wake in time"})
	e.emit(ControlChanged{c.ControlState})
	e.emit(Want{Device: cfg.Device, Control: c.ID, On: back, Rev: c.Rev})
}

// withdraw ends what is wanted of a control for good.
func (e *Engine) withdraw(in Withdraw) {
	c, cfg := e.controls[in.Control], e.site.Controls[in.Control]
	if c == nil {
		return
	}
	c.Want, c.Held, c.Phase, c.Tries, c.wake, c.Reason = nil, nil, Idle, 0, 0, ""
	c.Rev++
	if d := e.devices[cfg.Device]; d != nil {
		delete(d.resume, c.ID)
	}
	e.emit(ControlChanged{c.ControlState})
	e.emit(Withdrawn{Device: cfg.Device, Control: c.ID})
}

// confirmDue ends the confirm time, or sends the want once more with a growing wait.
func (e *Engine) confirmDue(w wake) {
	c, cfg := e.controls[w.id], e.site.Controls[w.id]
	if c == nil || c.wake != w.seq || c.Want == nil || c.Phase == Confirmed || c.Phase == Sent {
		return
	}
	d := e.devices[cfg.Device]
	if e.site.Devices[cfg.Device].Wakes > 0 {
		e.expire(c, cfg)
		return
	}
	if c.Phase == Pending {
		c.Phase = Unconfirmed
		why := "the board has not answered within " + said(cfg.ConfirmAfter)
		if !d.Online {
			why = "the board is offline"
		}
		e.emit(ControlChanged{c.ControlState})
		e.emit(Journal{Actor: access.HubActor(), Action: "unconfirmed", Object: c.ID, Before: is(c), After: onOff(*c.Want), Reason: why})
	}
	if !d.Online {
		return // coming online sends it again
	}
	c.Tries++
	if c.Tries > 1 {
		e.emit(Want{Device: cfg.Device, Control: c.ID, On: *c.Want, Again: true, Rev: c.Rev})
	}
	wait := longestWait
	if c.Tries < 10 {
		wait = min(longestWait, cfg.ConfirmAfter<<(c.Tries-1))
	}
	c.wake = e.wakeAt(e.now.Mono+wait, wakeConfirm, c.ID)
}

// report takes what a device says that a control is.
func (e *Engine) report(in Report) {
	c, cfg := e.controls[in.Control], e.site.Controls[in.Control]
	if c == nil || !e.site.Devices[cfg.Device].Active() {
		return
	}
	d := e.devices[cfg.Device]
	d.LastHeard = e.now.Wall
	first, changed := c.session != in.Session || c.Is == nil, c.Is == nil || *c.Is != in.On
	c.session = in.Session
	before := is(c)
	on := in.On
	c.Is, c.IsAt = &on, e.now.Wall
	if changed {
		c.IsSince = e.now.Wall
	}
	switch {
	case c.Want == nil:
		if changed && !first {
			e.follow(c, in, before)
			return
		}
		c.Reason = "as the board came up"
	case *c.Want == in.On:
		if c.Phase != Confirmed && cfg.Answers {
			c.Phase, c.Tries, c.wake = Confirmed, 0, 0
			changed = true
		}
	case in.By == ByHand || changed && !first && c.Phase == Confirmed && in.By != ByLease && !e.leaseRanOut(d):
		if cfg.AtDevice == "insist" {
			e.insist(c, in, "switched at the board; the hub insists on "+onOff(*c.Want))
			return
		}
		e.follow(c, in, before)
		return
	case c.Phase == Confirmed || c.Phase == Sent:
		why := "the board came back with " + onOff(in.On) + "; sent again"
		if in.By == ByLease || e.leaseRanOut(d) {
			why = "the board fell to its safe value when the hub was silent; sent again"
		}
		e.insist(c, in, why)
		return
	}
	if changed {
		e.emit(ControlChanged{c.ControlState})
	}
}

// leaseRanOut tells a board's fall to its safe value from somebody pressing a button, where the board does not say.
func (e *Engine) leaseRanOut(d *device) bool {
	lease := e.site.Devices[d.ID].Lease
	return lease > 0 && e.now.Mono-d.lastBeat > lease
}

func (e *Engine) follow(c *control, in Report, before string) {
	cfg := e.site.Controls[c.ID]
	actor := e.deviceActor(cfg.Device)
	e.want(c, in.On, actor)
	c.Reason = "switched " + onOff(in.On) + " at the board"
	e.emit(Journal{Actor: actor, Action: "switch", Object: c.ID, Before: before, After: onOff(in.On), Reason: "switched at the board"})
	e.sendWant(c, false)
	if cfg.Answers {
		c.Phase, c.wake = Confirmed, 0
		e.emit(ControlChanged{c.ControlState})
	}
}

func (e *Engine) insist(c *control, in Report, why string) {
	c.Reason = why
	c.Tries = 0
	e.emit(Journal{Actor: access.HubActor(), Action: "insist", Object: c.ID, Before: onOff(in.On), After: onOff(*c.Want), Reason: why})
	e.sendWant(c, true)
	e.startConfirm(c)
}

func onOff(on bool) string {
	if on {
		return "on"
	}
	return "off"
}

func wanted(c *control) string {
	if c.Want == nil {
		return ""
	}
	return onOff(*c.Want)
}

func is(c *control) string {
	if c.Is == nil {
		return ""
	}
	return onOff(*c.Is)
}

// said puts a duration into the words of a household.
func said(d time.Duration) string {
	switch {
	case d < time.Minute:
		return fmt.Sprintf("%d s", int(d.Seconds()))
	case d < time.Hour:
		return fmt.Sprintf("%d min", int(d.Minutes()))
	default:
		return fmt.Sprintf("%d h", int(d.Hours()))
	}
}
