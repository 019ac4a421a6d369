package demo

import (
	"context"
	"fmt"
	"io"
	"maps"
	"math"
	"slices"
	"time"

	"idleember/archive"
	"idleember/core/access"
	"idleember/core/reading"
	"idleember/hub"
	"idleember/store"
)

// sparse is how often the past of everything but the drying room is kept: as often as the boards report.
const sparse = every

// past gathers what the studio's devices would have sent.
type past struct {
	series map[string][]store.Reading
	last   map[string]reading.Value
}

func (p *past) add(name string, at time.Time, v reading.Value) {
	p.series[name] = append(p.series[name], store.Reading{T: at.UnixMilli(), Value: v})
}

// changed adds a value where it is another than before.
func (p *past) changed(name string, at time.Time, v reading.Value) {
	if have, ok := p.last[name]; !ok || have != v {
		p.last[name] = v
		p.add(name, at, v)
	}
}

// history runs the model over the past and stores what its boards would have sent, but for a night on which the drying
// room's was unplugged. It returns the world as it is at the end.
func history(ctx context.Context, h *hub.Hub, old *archive.Archive, me access.Actor, out io.Writer,
	length time.Duration) (*world, error) {
	loc, err := time.LoadLocation(zone)
	if err != nil {
		return nil, err
	}
	now := time.Now().Truncate(time.Second)
	start := now.Add(-length)
	cut := now.Add(-61 * time.Hour)
	gone := away(now, loc)
	w := newWorld(7, start, loc)
	p := &past{series: map[string][]store.Reading{}, last: map[string]reading.Value{}}
	r := w.room
	next := start
	for at := start; at.Before(now); at = at.Add(every) {
		if !at.Before(next) {
			next = at.Add(sparse)
			w.habits(at, now, gone)
			w.step(at, sparse)
			w.note(p, at, now.Sub(at) < gone)
		}
		unplugged := at.After(cut) && at.Before(cut.Add(100*time.Minute))
		r.heater = habit(at, loc) && !unplugged && now.Sub(at) > 30*time.Minute
		p.changed(boardID+".heater.is", at, reading.OnOff(r.heater))
		p.changed(boardID+".heater.want", at, reading.OnOff(r.heater))
		r.step(at, every)
		if unplugged {
			continue
		}
		t, hum, clay := r.sense()
		stamp := at.Add(time.Duration(r.rng.IntN(90)) * time.Millisecond)
		p.add(boardID+".temperature", stamp, reading.Number(t))
		p.add(boardID+".humidity", stamp, reading.Number(hum))
		p.add(boardID+".clay_moisture", stamp, reading.Number(clay))
	}
	names := slices.Sorted(maps.Keys(p.series))
	for i, name := range names {
		_, _ = fmt.Fprintf(out, "\rMaking %d days of history … %d of %d series", int(length.Hours()/24), i, len(names))
		if err := old.Backfill(ctx, me, name, p.series[name]); err != nil {
			return nil, err
		}
	}
	_, _ = fmt.Fprintf(out, "\rMaking %d days of history … done.                \n\n", int(length.Hours()/24))
	r.heater = false
	w.warmer, w.cooler, w.booth = false, false, 0
	w.elements, w.vent, w.blower, w.pump, w.lamp, w.fan = false, false, false, false, false, false
	return w, ctx.Err()
}

// habits are what the potter does by hand with everything but the heater: a firing every fourth day, the vent while it
// cools, the pump when the tank is low, the lamp in the evening. The last half hour is quiet, and the kiln since it is
// gone. Long, because it is one list of what people in the demo do.
func (r *rest) habits(at, now time.Time, gone time.Duration) {
	t := at.In(r.loc)
	quiet := now.Sub(at) < 30*time.Minute
	firing := t.YearDay()%4 == 1
	r.elements = now.Sub(at) > gone && firing && t.Hour() >= 7 && t.Hour() < 18
	r.vent = !quiet && r.chamber > 200 && !r.elements
	r.blower = !quiet && r.monoxide > 30
	r.door = !firing && t.YearDay()%4 == 3 && t.Hour() == 9
	if r.pump = !quiet && (r.level < 25 || r.pump && r.level < 88); quiet && r.level < 40 {
		r.level = 61
	}
	r.lamp = !quiet && r.daylight < 200 && t.Hour() >= 16 && t.Hour() < 22
	if r.booth = 0; !quiet && t.Hour() >= 9 && t.Hour() < 17 {
		r.booth = round(math.Min(100, 50/(1.1*(1-r.dust))), 1) // what a draught of 0.5 m/s takes
	}
	if r.dust > 0.7 {
		r.dust = 0.1 // a new filter
	}
	r.warmer, r.cooler = r.store < 14, r.store > 17
	r.fan = !quiet && t.Hour() >= 9 && t.Hour() < 17
}

// note keeps what the boards would have reported.
func (w *world) note(p *past, at time.Time, gone bool) {
	devices := map[string]map[string]any{"kiln": w.kiln(), "spray_booth": w.spray(), "glaze_store": w.glazes(),
		"kiln_shed": w.shed(), "slip_tank": w.tank(), "yard": w.yard()}
	controls := map[string]bool{"kiln.elements": w.elements, "kiln.vent": w.vent, "kiln_shed.extractor": w.blower,
		"slip_tank.reclaim_pump": w.pump, "yard.lamp": w.lamp, "shelf_fan.fan": w.fan}
	if gone {
		delete(devices, "kiln")
		delete(controls, "kiln.elements")
		delete(controls, "kiln.vent")
	}
	for device, values := range devices {
		for raw, v := range values {
			switch v := v.(type) {
			case float64:
				p.add(device+"."+raw, at, reading.Number(v))
			case bool:
				p.changed(device+"."+raw, at, reading.OnOff(v))
			}
		}
	}
	p.add("shed_battery.battery", at, reading.Number(round(w.battery, 0.01)))
	p.changed("shed_battery.charging", at, reading.OnOff(w.charging))
	p.add("shelf_fan.speed", at, reading.Number(round(w.speed, 1)))
	p.add("shelf_fan.power", at, reading.Number(round(fanWatts*w.speed/fanFull*w.speed/fanFull, 0.1)))
	if at.Second() < 10 {
		p.add("weather.outdoors", at, reading.Number(round(outside(at), 0.1)))
	}
	p.changed("spray_booth.fan.is", at, reading.Number(w.booth))
	for control, on := range controls {
		p.changed(control+".is", at, reading.OnOff(on))
		p.changed(control+".want", at, reading.OnOff(on))
	}
}

// recall puts the world where it was when the demo was last ended, so that live readings go on where history ends.
func (w *world) recall(ctx context.Context, h *hub.Hub) {
	snap, err := h.Now(ctx, access.HubActor())
	if err != nil {
		return
	}
	last := map[string]float64{}
	for _, s := range snap.Signals {
		if s.State.Value != nil {
			last[s.Config.ID] = s.State.Value.Num
		}
	}
	for id, into := range map[string]*float64{boardID + ".temperature": &w.room.air, boardID +
		".clay_moisture": &w.room.clay, "kiln.chamber": &w.chamber,
		"kiln_shed.carbon_monoxide": &w.monoxide, "slip_tank.level": &w.level, "shed_battery.battery": &w.battery,
		"glaze_scale.weight": &w.weight, "glaze_store.temperature": &w.store} {
		if v, ok := last[id]; ok {
			*into = v
		}
	}
	w.room.walls = w.room.air
	if v, ok := last[boardID+".humidity"]; ok {
		w.room.vapour = v / 100 * saturation(w.room.air)
	}
}
