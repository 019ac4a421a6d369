package hub

import (
	"context"
	"crypto/sha256"
	"crypto/subtle"
	"fmt"
	"time"

	"idleember/core/access"
	"idleember/core/engine"
	"idleember/core/reading"
	"idleember/core/site"
	"idleember/store"
)

// maxSignals is how many signals and controls a device may bring by itself.
const maxSignals = 64

// Session is a device's connection through a link.
type Session struct {
	Device string
	ID     string // unique for the life of the hub
	Link   string // mqtt
	Client string // what the device calls itself
	From   string // its address
}

// Delivery is one message of a device, taken apart by its link.
type Delivery struct {
	Session  Session
	Device   string // whose topics the message is for; the hub decides whether the session may speak for it
	Topic    string // or path, register, line: where it came in
	Payload  []byte
	Readings []reading.Named
	Stamp    time.Time // of all readings; zero: none
	Reports  []Report
	Faults   []string // what the link could not take
	// Done is called once everything that could be taken is on the disk, with what was refused, or with why nothing is
	// stored. It runs on a goroutine of the hub and must not block.
	Done func(refused []string, err error)
}

// Report is what a device says that a control is.
type Report struct {
	Name string
	On   bool
	By   string
}

// Admit checks a device's key. Its answers do not tell a wrong key from a wrong id.
func (h *Hub) Admit(ctx context.Context, device, key string) error {
	sum := sha256.Sum256([]byte(key))
	return h.ask(ctx, func() error {
		have, ok := h.keys[device]
		if !ok || subtle.ConstantTimeCompare(have, sum[:]) != 1 {
			return fmt.Errorf("no device has the id %q and this key", clip(device, 60))
		}
		return nil
	})
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
	m := &Mailbox{Device: device, wants: map[string]Outgoing{}, ready: make(chan struct{}, 1)}
	err := h.ask(ctx, func() error {
		for id, c := range h.site.Controls {
			if c.Device != device {
				continue
			}
			m.wants[id] = Outgoing{Control: id, Raw: c.Raw, rev: -1}
			if s, ok := h.engine.Control(id); ok && s.Want != nil {
				m.want(id, *s.Want, s.Rev)
			}
		}
		h.boxes.add(m)
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
		h.apply(engine.Online{Device: s.Device, Session: s.ID, From: s.From})
	})
}

// Listening says that a device can hear the lease from now on.
func (h *Hub) Listening(s Session) {
	h.enqueue(func() { h.apply(engine.Listening{Device: s.Device}) })
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
		t, now := h.trafficOf(s.Device), time.Now()
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
		d.Done(nil, ErrStopped)
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
	refused := d.Faults
	dev, ok := h.site.Devices[d.Session.Device]
	speaks := access.May(access.DeviceActor(dev.ID, dev.Name, d.Session.From), access.Push, access.Object{Device: d.Device, Name: d.Device})
	switch {
	case !ok:
		refused = append(refused, "the device is no longer known to the hub")
	case len(d.Readings)+len(d.Reports) == 0:
	case speaks != nil:
		refused = append(refused, speaks.Error()+"; a board publishes below ember/"+dev.ID+"/")
	default:
		for i, r := range d.Readings {
			refused = append(refused, h.takeReading(dev, d, r, i == len(d.Readings)-1)...)
		}
		for _, r := range d.Reports {
			refused = append(refused, h.takeReport(dev, d, r)...)
		}
	}
	for _, why := range refused {
		h.refuse(d, why)
	}
	h.later(func(err error) { d.Done(refused, err) })
}

func (h *Hub) takeReading(dev site.Device, d Delivery, r reading.Named, newest bool) []string {
	id, why := h.signalFor(dev, r)
	if why != "" {
		return []string{why}
	}
	v, err := r.Value.As(h.site.Signals[id].Kind)
	if err != nil {
		return []string{id + ": " + err.Error()}
	}
	t := h.trafficOf(dev.ID)
	if by, ok := t.publisher[r.Name]; ok && by != d.Session.ID && t.sessions[by] != "" {
		h.clash(d.Session, "clash", fmt.Sprintf("%s comes from two connections at once, %s and %s; give each board a device and key of its own",
			id, t.sessions[by], t.sessions[d.Session.ID]))
	}
	t.publisher[r.Name] = d.Session.ID
	var out []string
	for _, why := range h.apply(engine.Reading{Signal: id, Stamp: d.Stamp, Newest: newest, Value: v}) {
		out = append(out, id+": "+why)
	}
	return out
}

// named finds what a device calls by a name, or makes the id for something new.
func (h *Hub) named(dev site.Device, raw string) (id string, known bool, why string) {
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
		n := 0
		for _, s := range h.site.Signals {
			if s.Device == dev.ID {
				n++
			}
		}
		for _, c := range h.site.Controls {
			if c.Device == dev.ID {
				n++
			}
		}
		switch {
		case !dev.NewSignals:
			return "", false, fmt.Sprintf("%q is unknown, and %s may not bring new signals; allow it on the device's page", clip(raw, 40), dev.ID)
		case n >= maxSignals:
			return "", false, fmt.Sprintf("%q would be one more than the %d names that %s may bring; use fewer names", clip(raw, 40), maxSignals, dev.ID)
		}
	}
	return id, known, ""
}

func (h *Hub) signalFor(dev site.Device, r reading.Named) (id, why string) {
	id, known, why := h.named(dev, r.Name)
	if why != "" {
		return "", why
	}
	if known {
		if _, ok := h.site.Signals[id]; !ok {
			return "", id + " is a control, not a signal; report it on ember/" + dev.ID + "/is/" + r.Name
		}
		return id, ""
	}
	s := newSignal(dev, id, r.Name, r.Value.Kind)
	if s.Kind == site.Number {
		s.Decimals = r.Decimals
	}
	h.changeSite(func(c *site.Site) { c.Signals[id] = s }, store.SaveSignal(s))
	h.journal(time.Now(), h.deviceActor(dev), "add", id, "", "signal", "first reading: "+clip(r.Value.String(), 40))
	return id, ""
}

func (h *Hub) takeReport(dev site.Device, d Delivery, r Report) []string {
	id, known, why := h.named(dev, r.Name)
	if why != "" {
		return []string{why}
	}
	if !known {
		_, slug := site.Split(id)
		c := site.NewControl(dev.ID, slug, r.Name, site.Title(r.Name))
		h.changeSite(func(s *site.Site) { s.Controls[id] = c }, store.SaveControl(c))
		h.journal(time.Now(), h.deviceActor(dev), "add", id, "", "switch", "first report")
	} else if _, ok := h.site.Controls[id]; !ok {
		return []string{id + " is a signal, not a control; send it on ember/" + dev.ID + "/r/" + r.Name}
	}
	h.apply(engine.Report{Control: id, Session: d.Session.ID, On: r.On, By: engine.By(r.By)})
	return nil
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
	now := time.Now()
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
	if time.Since(t.told[kind]) < time.Minute {
		return
	}
	t.told[kind] = time.Now()
	h.refuse(Delivery{Session: s, Topic: "connect"}, why)
}

func newSignal(dev site.Device, id, raw string, kind site.Kind) site.Signal {
	s := site.Signal{ID: id, Device: dev.ID, Raw: raw, Name: site.Title(raw), Kind: kind, Reports: site.Periodic, New: true,
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
		return s[:n] + "…"
	}
	return s
}
