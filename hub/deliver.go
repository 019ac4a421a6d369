package hub

import (
	"fmt"

	"idleember/core/access"
	"idleember/core/fault"
	"idleember/core/mapping"
	"idleember/core/reading"
	"idleember/core/site"
	"idleember/traffic"
)

// Arrival is one message of a device, taken apart by its link.
type Arrival struct {
	Session  Session
	Device   string // whose topics the message is for; the hub decides whether the session may speak for it
	Topic    string // or path, register, line: where it came in
	Payload  []byte
	Readings []reading.Named
	Reports  []Report
	Copies   []reading.Copy // what it says of settings of which it has a copy
	Faults   []string       // what the link could not take
	Note     string         // what it is, where it holds no values
	// Done is called once everything that could be taken is on the disk. It runs on a goroutine of the hub and must not
	// block.
	Done func(Result)
	// Unacknowledged says that the sender does not wait for Done: it is called before anything is on the disk, and the
	// readings are written when there are more, or a few seconds later.
	Unacknowledged bool
}

// Result is what became of a delivery.
type Result struct {
	Refused []string // what could not be taken, and why
	Remarks []string // what was taken and looks wrong
	Err     error    // why nothing is stored
}

// Report is what a device says that a control is.
type Report struct {
	Name  string
	Value reading.Value
	By    string
}

// Values fills a delivery with what a message without topics holds: its values, reports among them, and its faults.
func (d *Arrival) Values(named []reading.Named, faults []error) {
	readings, reports, copies, wrong := reading.Split(named)
	d.Readings, d.Copies = append(d.Readings, readings...), append(d.Copies, copies...)
	for _, f := range append(faults, wrong...) {
		d.Faults = append(d.Faults, f.Error())
	}
	for _, n := range reports {
		d.Reports = append(d.Reports, Report{Name: n.Name, Value: n.Value})
	}
}

// Mapped fills a delivery with what a device's mapping found in a message.
func (d *Arrival) Mapped(t mapping.Taken) {
	d.Readings = append(d.Readings, t.Readings...)
	d.Faults = append(d.Faults, t.Faults...)
	for _, r := range t.Reports {
		d.Reports = append(d.Reports, Report{Name: r.Name, Value: r.Value})
	}
}

// Deliver takes a message. It waits only while the hub's inbox is full.
func (h *Hub) Deliver(d Arrival) {
	if !h.enqueue(func() { h.deliver(d) }) {
		d.Done(Result{Err: ErrStopped})
	}
}

// deliver is the way of a message, step by step: admit it, name what it brings, value and place it, decide by it, and
// tell what became of it, the store before anybody who waits.
func (h *Hub) deliver(d Arrival) {
	o := outcome{refused: d.Faults}
	dev, known := h.site.Devices[d.Session.Device]
	if d.Device == "" {
		d.Device = dev.ID
	}
	if why := admit(dev, known, &d); why != "" {
		o.refused = append(o.refused, why)
	} else if d.brings() {
		h.take(dev, d, &o)
	}
	for _, why := range o.refused {
		h.refuse(d, why)
	}
	if known {
		h.note(dev, d, &o)
	}
	h.answer(d, &o)
}

// brings reports whether there is anything in a message.
func (d *Arrival) brings() bool { return len(d.Readings)+len(d.Reports)+len(d.Copies) > 0 }

// admit says why nothing of a message is taken, "" where it is: of whom, how much, and about what.
func admit(dev site.Device, known bool, d *Arrival) string {
	most := dev.Limits.Filled().MaxBytes
	switch {
	case !known:
		return "the device is no longer known to the hub"
	case !dev.Active():
		return (&fault.DisabledError{Device: dev.ID}).Error()
	case len(d.Payload) > most:
		return fmt.Sprintf("the message has %d bytes; %s may send %d at a time", len(d.Payload), dev.ID, most)
	case !d.brings():
		return ""
	}
	speaks := access.May(access.DeviceActor(dev.ID, dev.Name, d.Session.From), access.Push,
		access.Object{Device: d.Device, Name: d.Device})
	if speaks != nil {
		return speaks.Error() + "; a board publishes below ember/" + dev.ID + "/"
	}
	return ""
}

// take takes what a message brings.
func (h *Hub) take(dev site.Device, d Arrival, o *outcome) {
	h.hear(d.Session)
	h.takeReadings(dev, d, o)
	for _, r := range d.Reports {
		h.takeReport(dev, d, r, o)
	}
	for _, c := range d.Copies {
		h.takeCopy(dev, c, o)
	}
}

// note keeps what became of a message, for whoever looks at the device's traffic.
func (h *Hub) note(dev site.Device, d Arrival, o *outcome) {
	result := o.String()
	if d.Note != "" && result == nothing {
		result = d.Note
	}
	h.meters.Of(dev.ID).Add(traffic.Message{At: h.Time(), Link: d.Session.Link, Topic: site.Clip(d.Topic, 200),
		Payload: d.Payload, Result: result, Refused: len(o.refused) > 0 && len(o.stored)+o.late == 0})
}

// answer tells the sender what became of the message: after the commit, where they wait for that.
func (h *Hub) answer(d Arrival, o *outcome) {
	switch {
	case d.Done == nil:
	case d.Unacknowledged && h.gather.Others > 0:
		h.outgoing <- func() { d.Done(Result{Refused: o.refused, Remarks: o.remarks()}) }
	default:
		was := h.batch.urgency
		h.batch.after = append(h.batch.after, done{func(err error) { d.Done(Result{o.refused, o.remarks(), err}) },
			len(d.Readings) > 0})
		h.batch.urgency = max(was, soon)
	}
}
