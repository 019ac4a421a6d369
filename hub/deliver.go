package hub

import (
	"context"
	"fmt"
	"time"

	"idleember/core/access"
	"idleember/core/engine"
	"idleember/core/mapping"
	"idleember/core/reading"
	"idleember/core/site"
	"idleember/store"
)

// Session is a device's connection through a link.
type Session struct {
	Device string
	ID     string // unique for the life of the hub
	Link   string // mqtt, http, udp and so on
	Client string // what the device calls itself
	From   string // its address
	// Expires marks a session without an end of its own: it ends when three messages are missing.
	Expires bool
}

// Delivery is one message of a device, taken apart by its link.
type Delivery struct {
	Session  Session
	Device   string // whose topics the message is for; the hub decides whether the session may speak for it
	Topic    string // or path, register, line: where it came in
	Payload  []byte
	Readings []reading.Named
	Reports  []Report
	Copies   []reading.Copy // what it says of settings of which it has a copy
	Faults   []string       // what the link could not take
	Note     string         // what it is, where it holds no values
	// Done is called once everything that could be taken is on the disk. It runs on a goroutine of the hub and must not block.
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
func (d *Delivery) Values(named []reading.Named, faults []error) {
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
func (d *Delivery) Mapped(t mapping.Taken) {
	d.Readings = append(d.Readings, t.Readings...)
	d.Faults = append(d.Faults, t.Faults...)
	for _, r := range t.Reports {
		d.Reports = append(d.Reports, Report{Name: r.Name, Value: r.Value})
	}
}

// RefuseKey notes that somebody came with a device's id and a wrong key.
func (h *Hub) RefuseKey(s Session) {
	h.enqueue(func() {
		if _, ok := h.site.Devices[s.Device]; ok {
			h.refuse(Delivery{Session: s, Topic: "connect"}, "a wrong key came from "+s.From+" (client id "+clip(s.Client, 60)+"); check the key on the board, or give the device a new one")
		}
	})
}

// Attach gives a link a mailbox for a device, with all current wants in it.
func (h *Hub) Attach(ctx context.Context, device string) (*Mailbox, error) {
	m := &Mailbox{Device: device, now: h.Time, ready: make(chan struct{}, 1)}
	err := h.ask(ctx, func() error {
		for id, c := range h.site.Controls {
			if c.Device != device {
				continue
			}
			m.box.Name(id, c.Raw)
		}
		for _, w := range h.engine.Wants(device) {
			m.box.Want(w)
		}
		for _, x := range h.engine.Mirrors(device) {
			m.box.Mirror(x)
		}
		h.boxes.add(m)
		m.Again()
		return nil
	})
	return m, err
}

// Detach takes a mailbox back.
func (h *Hub) Detach(m *Mailbox) { h.boxes.remove(m) }

// Online says that a session began; Offline that it ended.
func (h *Hub) Online(s Session) {
	h.enqueue(func() {
		t := h.trafficOf(s.Device)
		t.sessions[s.ID] = fmt.Sprintf("%s at %s", s.Client, s.From)
		h.apply(engine.Online{Device: s.Device, Session: s.ID, From: s.From, Expires: s.Expires})
	})
}

// Listening says that a device can hear the lease from now on.
func (h *Hub) Listening(s Session) {
	h.enqueue(func() { h.apply(engine.Listening{Device: s.Device, Session: s.ID}) })
}

// Offline says that a session ended, and why; bye that the device said so itself.
func (h *Hub) Offline(s Session, why string, bye bool) {
	h.enqueue(func() {
		t := h.trafficOf(s.Device)
		delete(t.sessions, s.ID)
		for name, by := range t.publisher {
			if by == s.ID {
				delete(t.publisher, name)
			}
		}
		h.apply(engine.Offline{Device: s.Device, Session: s.ID, Why: why, Bye: bye})
	})
}

// TakenOver says that a session was pushed out by a new one with the same client id.
func (h *Hub) TakenOver(s Session) {
	h.enqueue(func() {
		t, now := h.trafficOf(s.Device), h.Time()
		recent := append(t.taken[s.Client], now)
		for len(recent) > 0 && now.Sub(recent[0]) > time.Minute {
			recent = recent[1:]
		}
		t.taken = map[string][]time.Time{s.Client: recent}
		if len(recent) >= 3 {
			h.clash(s, "takeover", "two boards push each other out with the client id "+clip(s.Client, 60)+"; give each board a device and key of its own")
		}
	})
}

// Deliver takes a message. It waits only while the hub's inbox is full.
func (h *Hub) Deliver(d Delivery) {
	if !h.enqueue(func() { h.deliver(d) }) {
		d.Done(Result{Err: ErrStopped})
	}
}

func (h *Hub) enqueue(f func()) bool {
	select {
	case h.inbox <- f:
		return true
	case <-h.loopEnd:
		return false
	}
}

func (h *Hub) deliver(d Delivery) {
	var o outcome
	o.refused = d.Faults
	dev, ok := h.site.Devices[d.Session.Device]
	if d.Device == "" {
		d.Device = dev.ID
	}
	speaks := access.May(access.DeviceActor(dev.ID, dev.Name, d.Session.From), access.Push, access.Object{Device: d.Device, Name: d.Device})
	limits := dev.Limits.Filled()
	switch {
	case !ok:
		o.refused = append(o.refused, "the device is no longer known to the hub")
	case !dev.Active():
		o.refused = append(o.refused, (&DisabledError{dev.ID}).Error())
	case len(d.Payload) > limits.MaxBytes:
		o.refused = append(o.refused, fmt.Sprintf("the message has %d bytes; %s may send %d at a time", len(d.Payload), dev.ID, limits.MaxBytes))
	case len(d.Readings)+len(d.Reports)+len(d.Copies) == 0:
	case speaks != nil:
		o.refused = append(o.refused, speaks.Error()+"; a board publishes below ember/"+dev.ID+"/")
	default:
		h.hear(d.Session)
		h.takeReadings(dev, d, &o)
		for _, r := range d.Reports {
			h.takeReport(dev, d, r, &o)
		}
		for _, c := range d.Copies {
			h.takeCopy(dev, c, &o)
		}
	}
	for _, why := range o.refused {
		h.refuse(d, why)
	}
	if ok {
		result := o.String()
		if d.Note != "" && result == nothing {
			result = d.Note
		}
		h.meters.get(dev.ID).add(Message{At: h.Time(), Link: d.Session.Link, Topic: clip(d.Topic, 200), Payload: d.Payload, Result: result,
			Refused: len(o.refused) > 0 && len(o.stored)+o.late == 0})
	}
	switch {
	case d.Done == nil:
	case d.Unacknowledged && h.gather.Others > 0:
		h.outbox <- func() { d.Done(Result{Refused: o.refused, Remarks: o.remarks()}) }
	default:
		was := h.batch.urgency
		h.batch.after = append(h.batch.after, done{func(err error) { d.Done(Result{o.refused, o.remarks(), err}) }, len(d.Readings) > 0})
		h.batch.urgency = max(was, soon)
	}
}

// hear tells the engine of a session without an end of its own, at most once a second.
func (h *Hub) hear(s Session) {
	if !s.Expires {
		return
	}
	t, now := h.trafficOf(s.Device), h.Time()
	if now.Sub(t.heard) < time.Second && t.sessions[s.ID] != "" {
		return
	}
	t.heard, t.sessions[s.ID] = now, "a message from "+s.From
	h.apply(engine.Online{Device: s.Device, Session: s.ID, From: s.From, Expires: true})
}

// Heard says that a device without connections gave a sign of life.
func (h *Hub) Heard(s Session) { h.enqueue(func() { h.hear(s) }) }

// Wants returns what is wanted of a device's controls now, and its lease.
func (h *Hub) Wants(ctx context.Context, device string) (wants []Outgoing, mirrors []engine.Mirror, lease time.Duration, err error) {
	err = h.ask(ctx, func() error {
		mirrors = h.engine.Mirrors(device)
		lease = h.site.Devices[device].Lease()
		for _, w := range h.engine.Wants(device) {
			wants = append(wants, Outgoing{Control: w.Control, Raw: h.site.Controls[w.Control].Raw, Value: w.Value})
		}
		return nil
	})
	return wants, mirrors, lease, err
}

// takeReadings takes the values of a message. Those of the past go to the store without passing the engine: they can
// change no decision.
func (h *Hub) takeReadings(dev site.Device, d Delivery, o *outcome) {
	h.keepApart(dev, d.Readings)
	h.meetSignals(dev, d.Readings)
	now, newest := h.now(), reading.Newest(d.Readings)
	known := map[string]*target{}
	for i, r := range d.Readings {
		x := known[r.Name]
		if x == nil {
			id, why := h.signalFor(dev, r)
			if why != "" {
				o.refused = append(o.refused, why)
				continue
			}
			x = &target{id: id, cfg: h.site.Signals[id], past: h.engine.Past(now, id)}
			known[r.Name] = x
			h.comesFrom(d.Session, dev.ID, id, r.Name)
		}
		id, cfg := x.id, &x.cfg
		v, err := r.Value.As(cfg.Kind)
		if err == nil && r.Unit != "" && cfg.Kind == site.Number && !cfg.Calibration.Set() { // what is calibrated comes in a unit of its own
			v, err = v.In(r.Unit, cfg.Unit)
		}
		if err != nil {
			o.refused = append(o.refused, id+": "+err.Error())
			continue
		}
		if why := reading.OddTime(r.At, now.Wall); why != "" && now.Trusted {
			h.oddTime(dev, r.At, why, x.past, o)
		}
		if !r.At.IsZero() && !r.At.Equal(newest) {
			at, late, err := x.past(r.At)
			var cal reading.Value
			if err == nil && late {
				cal, err = reading.Calibrate(cfg.Calibration, v)
			}
			if err != nil {
				o.refused = append(o.refused, id+": "+err.Error())
				continue
			}
			if late {
				o.late++
				x.late = append(x.late, store.Reading{T: at.UnixMilli(), Value: cal, Quality: reading.Plausible(cfg.Sense, cal), Raw: engine.Raw(*cfg, v)})
				continue
			}
		}
		last := r.At.IsZero() && i == len(d.Readings)-1 || !r.At.IsZero() && r.At.Equal(newest)
		whys := h.apply(engine.Reading{Signal: id, Stamp: r.At, Newest: last, Value: v})
		for _, why := range whys {
			o.refused = append(o.refused, id+": "+why)
		}
		if len(whys) == 0 {
			if cal, err := reading.Calibrate(cfg.Calibration, v); err == nil {
				v = cal
			}
			o.took(id, v, cfg.Decimals)
		}
	}
	for _, x := range known {
		if len(x.late) > 0 {
			h.stampedItself(x.id, timesOf(x.late)...)
			h.writeReadings(store.AddReadings(x.id, x.late, h.replacedBy(dev.ID)))
			if len(h.engine.Windows(x.id)) > 0 {
				h.apply(engine.Late{Signal: x.id})
			}
			if h.engine.Watched(x.id) {
				h.learn(x.id, x.late)
			}
		}
	}
}

// oddTime says that a reading was stamped with a time that its board's clock hardly means, where nothing sets it right.
func (h *Hub) oddTime(dev site.Device, stamp time.Time, why string, past func(time.Time) (time.Time, bool, error), o *outcome) {
	if at, _, err := past(stamp); err != nil || !at.Equal(stamp) {
		return
	}
	o.odd++
	o.oddTime = why
	t := h.trafficOf(dev.ID)
	shown := t.clock != "" && h.Time().Sub(t.clockAt) < time.Minute
	if t.clock = why; !shown {
		t.clockAt = h.Time()
		h.publishDevice(dev.ID)
	}
}

// target is a signal that readings of a message are of, and those of them that belong to the past.
type target struct {
	id   string
	cfg  site.Signal
	past func(stamp time.Time) (at time.Time, late bool, err error)
	late []store.Reading
}

// replacedBy counts readings that took the place of differing ones. It is called by the store.
func (h *Hub) replacedBy(device string) func(int) {
	t := h.trafficOf(device)
	return func(n int) { t.replaced.Add(int64(n)) }
}

// comesFrom notes through which session a signal comes and tells where two boards share one key.
func (h *Hub) comesFrom(s Session, device, id, raw string) {
	t := h.trafficOf(device)
	by, ok := t.publisher[raw]
	if ok && by == s.ID {
		return
	}
	if ok && t.sessions[by] != "" {
		h.clash(s, "clash", fmt.Sprintf("%s comes from two connections at once, %s and %s; give each board a device and key of its own",
			id, t.sessions[by], t.sessions[s.ID]))
	}
	t.publisher[raw] = s.ID
}

// named finds what a device calls by a name, or makes the id for something new.
func (h *Hub) named(dev site.Device, raw string) (id string, known bool, why string) {
	t := h.trafficOf(dev.ID)
	if t.namesOf != h.site {
		t.names, t.namesOf = map[string]string{}, h.site
	}
	if id := t.names[raw]; id != "" {
		return id, true, ""
	}
	id, known, why = h.nameAnew(dev, raw)
	if known && why == "" {
		t.names[raw] = id
	}
	return id, known, why
}

func (h *Hub) nameAnew(dev site.Device, raw string) (id string, known bool, why string) {
	for id, s := range h.site.Signals {
		if s.Device == dev.ID && s.Raw == raw {
			return id, true, ""
		}
	}
	for id, c := range h.site.Controls {
		if c.Device == dev.ID && c.Raw == raw {
			return id, true, ""
		}
	}
	slug, err := site.Slug(raw)
	if err != nil {
		return "", false, err.Error()
	}
	id = dev.ID + "." + slug
	have := ""
	if s, ok := h.site.Signals[id]; ok {
		have, known = s.Raw, true
	}
	if c, ok := h.site.Controls[id]; ok {
		have, known = c.Raw, true
	}
	if known && have != raw {
		return "", false, fmt.Sprintf("%q becomes the id %s, which %q already has; rename one of them on the board", clip(raw, 40), id, have)
	}
	if !known {
		switch {
		case !dev.NewSignals:
			return "", false, fmt.Sprintf("%q is unknown, and %s may not bring new signals; allow it on the device's page", clip(raw, 40), dev.ID)
		case h.roomFor(dev) <= 0:
			return "", false, fmt.Sprintf("%q would be one more than the %d names that %s may bring; use fewer names, or raise the limit on the device's page",
				clip(raw, 40), dev.Limits.Filled().MaxNames, dev.ID)
		}
	}
	return id, known, ""
}

// roomFor is how many names a device may still bring.
func (h *Hub) roomFor(dev site.Device) int {
	n := dev.Limits.Filled().MaxNames
	for _, s := range h.site.Signals {
		if s.Device == dev.ID {
			n--
		}
	}
	for _, c := range h.site.Controls {
		if c.Device == dev.ID {
			n--
		}
	}
	return n
}

// keepApart names readings by their full names where several of them, with other base names (RFC 8428), have the same short one. Who
// came first keeps the short one.
func (h *Hub) keepApart(dev site.Device, list []reading.Named) {
	var known map[string]bool
	for i, r := range list {
		if r.FullName == "" || r.FullName == r.Name {
			continue
		}
		if len(r.FullName) > longestFull { // not remembered; whether it can be a name at all is found out below
			list[i].Name = r.FullName
			continue
		}
		if known == nil {
			known = map[string]bool{}
			for _, s := range h.site.Signals {
				if s.Device == dev.ID {
					known[s.Raw] = true
				}
			}
		}
		t := h.trafficOf(dev.ID)
		first, met := t.full[r.Name]
		if !met && len(t.full) < mostFull {
			if t.full == nil {
				t.full = map[string]string{}
			}
			if first = r.FullName; !known[r.FullName] {
				t.full[r.Name] = first
			}
		}
		if known[r.FullName] || first != r.FullName {
			list[i].Name = r.FullName
		}
	}
}

// How many full names of a device are remembered, and how long ones, in bytes.
const mostFull, longestFull = 1000, 200

// meetSignals adds the signals that a message brings for the first time, all in one change of the site.
func (h *Hub) meetSignals(dev site.Device, list []reading.Named) {
	made := map[string]site.Signal{}
	var changes []site.Change
	var firsts []string
	for _, r := range list {
		id, known, why := h.named(dev, r.Name)
		if _, again := made[id]; known || why != "" || again || len(made) >= h.roomFor(dev) {
			continue
		}
		s := newSignal(dev, id, r.Name, r.Value.Kind)
		if r.Unit != "" && len(r.Unit) <= 20 {
			s.Unit = site.OneLine(reading.UnitOf(r.Unit), "·")
		}
		if s.Kind == site.Number {
			s.Decimals = r.Decimals
		}
		made[id] = s
		changes = append(changes, site.Put(s))
		firsts = append(firsts, id, "first reading: "+clip(r.Value.String(), 40))
	}
	if len(made) == 0 {
		return
	}
	h.changeSite(changes...)
	for i := 0; i < len(firsts); i += 2 {
		h.journal(h.Time(), h.deviceActor(dev), "add", firsts[i], "", "signal", firsts[i+1])
	}
}

func (h *Hub) signalFor(dev site.Device, r reading.Named) (id, why string) {
	id, _, why = h.named(dev, r.Name)
	if why != "" {
		return "", why
	}
	if _, ok := h.site.Signals[id]; !ok {
		return "", id + " is a control, not a signal; report what it is with ember/" + dev.ID + "/is/" + r.Name + ", or the name is." + r.Name
	}
	return id, ""
}

func (h *Hub) takeReport(dev site.Device, d Delivery, r Report, o *outcome) {
	id, known, why := h.named(dev, r.Name)
	if why != "" {
		o.refused = append(o.refused, why)
		return
	}
	if !known {
		_, slug := site.Split(id)
		c := site.NewControl(dev.ID, slug, r.Name, site.Title(r.Name))
		if _, err := r.Value.As(site.OnOff); err != nil {
			c.Kind = site.Level
			if _, err := mapping.Amount(c, r.Value); err != nil {
				o.refused = append(o.refused, fmt.Sprintf("is.%s: %s is not on or off, nor a level from 0 to 100; add the control on the device's page", r.Name, clip(r.Value.String(), 40)))
				return
			}
		}
		h.changeSite(site.Put(c))
		h.journal(h.Time(), h.deviceActor(dev), "add", id, "", string(c.What()), "first report")
	} else if _, ok := h.site.Controls[id]; !ok {
		o.refused = append(o.refused, id+" is a signal, not a control; send it as a reading")
		return
	}
	amount, err := mapping.Amount(h.site.Controls[id], r.Value)
	if err != nil {
		o.refused = append(o.refused, "is."+r.Name+": "+err.Error())
		return
	}
	h.apply(engine.Report{Control: id, Session: d.Session.ID, Value: amount, By: engine.By(r.By)})
	o.took(id+" is", r.Value, 0)
}

func (h *Hub) takeCopy(dev site.Device, c reading.Copy, o *outcome) {
	for id, g := range h.site.Settings {
		if owner, _ := site.Split(id); owner != dev.ID || g.Mirror != c.Name {
			continue
		}
		amount, err := g.AmountOf(c.Value.String())
		if g.Kind != site.SetChoice && c.Value.Kind != site.Text {
			amount, err = site.Amount(c.Value.Num), g.Check(site.Amount(c.Value.Num))
		}
		if err != nil {
			o.refused = append(o.refused, id+": "+err.Error())
			return
		}
		h.apply(engine.Mirrored{Setting: id, Value: amount, Based: c.Based, Age: c.Age})
		o.took(id, c.Value, g.Decimals)
		return
	}
	o.refused = append(o.refused, fmt.Sprintf("%s has no setting with a copy called %q at the device; an owner can add one", dev.ID, clip(c.Name, 40)))
}

// refuse counts and keeps what could not be taken, and tells the device.
func (h *Hub) refuse(d Delivery, why string) {
	const kept = 200
	t := h.trafficOf(d.Session.Device)
	t.refused++
	t.last = why
	payload := d.Payload
	if len(payload) > kept {
		payload = payload[:kept]
	}
	now := h.Time()
	h.write(store.AddRefusal(store.Refusal{Device: d.Session.Device, N: t.refused, At: now.UnixMilli(), Link: d.Session.Link,
		Topic: clip(d.Topic, 200), Payload: append([]byte{}, payload...), Bytes: len(d.Payload), Reason: why}))
	p := Problem{At: now.UTC().Truncate(time.Millisecond), Topic: clip(d.Topic, 200), Reason: why}
	h.boxes.each(d.Session.Device, func(b *Mailbox) { b.problem(p) })
	if t.refused < 10 || t.refused%100 == 0 { // a board that is wrong a thousand times a second must not drown the console
		h.publishDevice(d.Session.Device)
	}
}

// clash tells about two boards that use one key, at most once a minute.
func (h *Hub) clash(s Session, kind, why string) {
	t := h.trafficOf(s.Device)
	if h.Time().Sub(t.told[kind]) < time.Minute {
		return
	}
	t.told[kind] = h.Time()
	h.refuse(Delivery{Session: s, Topic: "connect"}, why)
}

func newSignal(dev site.Device, id, raw string, kind site.ValueKind) site.Signal {
	s := site.Signal{ID: id, Device: dev.ID, Raw: raw, Name: site.OneLine(site.Title(raw), "·"), Kind: kind, Reports: site.Periodic, New: true,
		Guests: site.GuestsNothing, Unit: guessUnit(raw)}
	if kind != site.Number {
		s.Reports = site.OnChange
	}
	return s
}

// guessUnit guesses the unit of what boards usually call so.
func guessUnit(raw string) string {
	slug, _ := site.Slug(raw)
	for _, g := range []struct{ word, unit string }{{"temp", "Cel"}, {"humid", "%"}, {"moist", "%"}, {"pressure", "hPa"},
		{"volt", "V"}, {"power", "W"}, {"current", "A"}} {
		if len(slug) >= len(g.word) && slug[:len(g.word)] == g.word {
			return g.unit
		}
	}
	return ""
}

func clip(s string, n int) string {
	if len(s) > n {
		s = s[:n] + "…"
	}
	return site.OneLine(s, "·")
}
