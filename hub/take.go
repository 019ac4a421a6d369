package hub

import (
	"fmt"
	"time"

	"idleember/core/engine"
	"idleember/core/mapping"
	"idleember/core/reading"
	"idleember/core/site"
	"idleember/store"
)

// takeReadings takes the values of a message. Those of the past go to the store without passing the engine: they can
// change no decision.
func (h *Hub) takeReadings(dev site.Device, d Arrival, o *outcome) {
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
		v, err := valued(x.cfg, r)
		if err == nil {
			if why := reading.OddTime(r.At, now.Wall); why != "" && now.Trusted {
				h.oddTime(dev, r.At, why, x.past, o)
			}
		}
		late := false
		if err == nil {
			late, err = x.place(r, v, newest)
		}
		switch {
		case err != nil:
			o.refused = append(o.refused, x.id+": "+err.Error())
		case late:
			o.late++
		default:
			last := r.At.IsZero() && i == len(d.Readings)-1 || !r.At.IsZero() && r.At.Equal(newest)
			h.decideBy(x, engine.Reading{Signal: x.id, Stamp: r.At, Newest: last, Value: v}, o)
		}
	}
	for _, x := range known {
		if len(x.late) > 0 {
			h.keepLate(dev, x)
		}
	}
}

// place puts a reading among those of its signal. One of the past is kept apart: it reports true.
func (x *target) place(r reading.Named, v reading.Value, newest time.Time) (late bool, err error) {
	if r.At.IsZero() || r.At.Equal(newest) {
		return false, nil
	}
	at, late, err := x.past(r.At)
	if err != nil || !late {
		return false, err
	}
	cal, err := reading.Calibrate(x.cfg.Calibration, v)
	if err != nil {
		return false, err
	}
	x.late = append(x.late, store.Reading{T: at.UnixMilli(), Value: cal,
		Quality: reading.Plausible(x.cfg.Sense, cal),
		Raw:     engine.Raw(x.cfg, v)})
	return true, nil
}

// decideBy gives a reading to the engine.
func (h *Hub) decideBy(x *target, in engine.Reading, o *outcome) {
	whys := h.apply(in)
	for _, why := range whys {
		o.refused = append(o.refused, x.id+": "+why)
	}
	if len(whys) > 0 {
		return
	}
	v := in.Value
	if cal, err := reading.Calibrate(x.cfg.Calibration, v); err == nil {
		v = cal
	}
	o.took(x.id, v, x.cfg.Decimals)
}

// keepLate keeps readings of the past, and has looked anew what such readings are looked at for.
func (h *Hub) keepLate(dev site.Device, x *target) {
	h.stampedItself(x.id, store.Times(x.late)...)
	h.writeReadings(store.AddReadings(x.id, x.late, h.replacedBy(dev.ID)))
	if len(h.engine.Windows(x.id)) > 0 {
		h.apply(engine.Late{Signal: x.id})
	}
	if h.engine.Watched(x.id) {
		h.learn(x.id, x.late)
	}
}

// valued is a reading as a value of its signal: of its kind, in its unit. What is calibrated has a unit of its own.
func valued(cfg site.Signal, r reading.Named) (reading.Value, error) {
	v, err := r.Value.As(cfg.Kind)
	if err == nil && r.Unit != "" && cfg.Kind == site.Number && !cfg.Calibration.Set() {
		v, err = v.In(r.Unit, cfg.Unit)
	}
	return v, err
}

// oddTime says that a reading was stamped with a time that its board's clock hardly means, where nothing sets it right.
func (h *Hub) oddTime(dev site.Device, stamp time.Time, why string, past func(time.Time) (time.Time, bool, error),
	o *outcome) {
	if at, _, err := past(stamp); err != nil || !at.Equal(stamp) {
		return
	}
	o.odd++
	o.oddTime = why
	t := h.speakerOf(dev.ID)
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
	t := h.speakerOf(device)
	return func(n int) { t.replaced.Add(int64(n)) }
}

func (h *Hub) takeReport(dev site.Device, d Arrival, r Report, o *outcome) {
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
				o.refused = append(o.refused, fmt.Sprintf("is.%s: %s is not on or off, nor a level from 0 to 100; add the "+
					"control on the device's page", r.Name, site.Clip(r.Value.String(), 40)))
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
	o.refused = append(o.refused, fmt.Sprintf(
		"%s has no setting with a copy called %q at the device; an owner can add one", dev.ID, site.Clip(c.Name, 40)))
}
