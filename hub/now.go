package hub

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/core/engine"
	"idleember/core/reading"
	"idleember/core/site"
	"idleember/core/words"
	"idleember/live"
	"idleember/store"
)

func (h *Hub) signalView(cfg site.Signal) shown.Signal {
	v := shown.Signal{Config: cfg, Version: h.versionOf(cfg.ID, cfg),
		State: shown.SignalState{Place: h.site.Devices[cfg.Device].Place,
			Fresh: string(engine.Unknown), Quality: reading.Good.String(), IntervalMS: cfg.IntervalMS}}
	x := &v.State
	if s, ok := h.engine.Signal(cfg.ID); ok && s.Seen {
		x.Fresh, x.Quality = string(s.Fresh), s.Quality.String()
		x.Value, x.RawValue, x.At, x.Heard = &s.Value, s.Raw, &s.At, &s.Heard
		if cfg.IntervalMS == 0 {
			x.IntervalMS = h.engine.Relied(cfg.ID).Milliseconds()
		}
		x.ProposeMS = h.engine.Proposed(cfg.ID).Milliseconds()
		x.Needs = shown.NeedsOf(h.engine.SignalNeeds(cfg.ID))
	}
	return v
}

func (h *Hub) controlView(cfg site.Control) shown.Control {
	dev := h.site.Devices[cfg.Device]
	v := shown.Control{Config: cfg, Version: shown.Version(cfg), State: shown.ControlState{Place: dev.Place,
		HasLease: dev.Lease() > 0, Words: cfg.Words()}}
	x := &v.State
	x.Settings, x.MovedBy = h.linksOf(cfg.ID)
	if s, ok := h.engine.Control(cfg.ID); ok {
		x.Phase, x.Reason, x.Rev, x.Mode, x.Step, x.Service = string(s.Phase), words.TextOf(h.engine.Reason(h.now(),
			cfg.ID)), s.Rev,
			string(s.Mode), string(s.Step), string(s.Service)
		x.Limit = string(s.Limit)
		x.Latched, x.Proof, x.HandUntil = h.lockNames(cfg.ID, s.Latched), string(s.Proof), instant(s.HandUntil)
		for to, a := range map[**reading.Value]*site.Amount{&x.Want: s.Want, &x.Is: s.Is, &x.Held: s.Held} {
			if a != nil {
				value := reading.OfControl(cfg, *a)
				*to = &value
			}
		}
		x.WantBy, x.WantAt, x.IsAt, x.IsSince = s.WantBy.Name, instant(s.WantAt), instant(s.IsAt), instant(s.IsSince)
	}
	if d, ok := h.engine.Device(cfg.Device); ok {
		x.Online = d.Online
	}
	says, tone := h.engine.Says(cfg.ID)
	x.Says, x.Tone, x.Needs = shown.SayingOf(says), tone, shown.NeedsOf(h.engine.ControlNeeds(h.now(), cfg.ID))
	return v
}

// lockNames are what the interlocks of a control are called that have these ids.
func (h *Hub) lockNames(control string, ids []string) (names []string) {
	if a := h.site.Automations[control]; a != nil {
		for _, l := range a.Interlocks {
			if slices.Contains(ids, l.ID) {
				names = append(names, l.Name)
			}
		}
	}
	return names
}

func (h *Hub) deviceView(cfg site.Device) shown.Device {
	v := shown.Device{Config: cfg, Version: shown.Version(cfg), State: shown.DeviceState{Limits: cfg.Limits.Filled(),
		Camera: cfg.Camera.Address != "", Password: h.Secret(site.Key{Kind: "device", ID: cfg.ID},
			site.CameraPassword) != ""}}
	x := &v.State
	if d, ok := h.engine.Device(cfg.ID); ok {
		x.Online, x.Since, x.LastHeard, x.From, x.Why, x.Asleep = d.Online, instant(d.Since), instant(d.LastHeard), d.From,
			d.Why, d.Asleep
	}
	says, warn := h.engine.Presence(cfg.ID)
	x.Says, x.Warn, x.Needs = shown.SayingOf(says), warn, shown.NeedsOf(h.engine.DeviceNeeds(cfg.ID))
	t := h.speakerOf(cfg.ID)
	x.Clock = h.clockOf(cfg.ID, t)
	x.Refused, x.LastReason, x.Replaced, x.Connections = t.refused, t.last, t.replaced.Load(), len(t.sessions)
	p := h.meters.Of(cfg.ID).Pulse(h.Time())
	x.Messages, x.PerMinute, x.EveryMS, x.JitterMS = p.Count, p.PerMinute, p.Every.Milliseconds(), p.Jitter.Milliseconds()
	return v
}

// clockOf says what is wrong with a device's clock, as far as the last day shows.
func (h *Hub) clockOf(device string, t *speaker) string {
	if off := h.engine.ClockOff(device); off != 0 {
		which := "behind"
		if off < 0 {
			which = "ahead of"
		}
		return fmt.Sprintf("%s %s the hub's; its times are set right", reading.Long(off.Abs()), which)
	}
	if t.clock != "" && h.Time().Sub(t.clockAt) < 24*time.Hour {
		return t.clock
	}
	return ""
}

// versionOf is the version of a signal's settings. They change seldom and are told with every reading.
func (h *Hub) versionOf(id string, cfg site.Signal) string {
	if h.versionsOf != h.site {
		h.versions, h.versionsOf = map[string]string{}, h.site
	}
	v, ok := h.versions[id]
	if !ok {
		v = shown.Version(cfg)
		h.versions[id] = v
	}
	return v
}

func instant(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}

// Status returns how the hub itself is.
func (h *Hub) Status() shown.Status {
	h.trouble.Lock()
	err := h.trouble.err
	h.trouble.Unlock()
	info := &h.Site().Hub
	s := shown.Status{Name: info.Name, Zone: info.Zone, Time: h.Time(), Version: h.version, Boot: h.boot}
	s.ClockDoubt = h.clockDoubt()
	if err != nil {
		s.Trouble = store.Unsaved(err).Error()
	}
	return s
}

func (h *Hub) publishSignal(id string) {
	cfg := h.site.Signals[id]
	v := h.signalView(cfg)
	now := told{v.State.Fresh, v.State.Quality, len(v.State.Needs) > 0, h.sites}
	h.live.Add(&live.Event{Kind: "signal", Object: h.signalObject(cfg), Routine: h.toldOf[id] == now, Signal: &v}, v)
	h.toldOf[id] = now
}

// told is what a page that does not show a signal has to know of it all the same: for what needs attention.
type told struct {
	state, quality string
	needs          bool
	sites          uint64 // how often the site was changed until then
}

// SignalsNow returns some signals as they are, as far as the actor may see them.
func (h *Hub) SignalsNow(ctx context.Context, a access.Actor, ids []string) (out []shown.Signal, err error) {
	return out, h.ask(ctx, func() error {
		for _, id := range ids {
			if cfg, ok := h.site.Signals[id]; ok && access.May(a, access.Look, h.signalObject(cfg)) == nil {
				out = append(out, h.signalView(cfg))
			}
		}
		return nil
	})
}

func (h *Hub) publishControl(id string) {
	cfg := h.site.Controls[id]
	s := h.site
	h.live.Add(&live.Event{Kind: "control", Object: h.controlObject(cfg), Tailor: func(a access.Actor, data any) any {
		return h.glass.As(s, a).Control(data.(shown.Control))
	}}, h.controlView(cfg))
}

// publishDevice tells a device's presence, which also shows on its controls.
func (h *Hub) publishDevice(id string) {
	cfg := h.site.Devices[id]
	h.live.Add(&live.Event{Kind: "device", Object: h.deviceObject(cfg), ByRole: true, Tailor: func(a access.Actor,
		data any) any {
		return forActor(a, data.(shown.Device))
	}}, h.deviceView(cfg))
	signals, controls := h.site.Of(id)
	for _, c := range controls {
		h.publishControl(c)
	}
	for _, g := range signals { // what is missing of one that is there is told of the signal, else of the device
		if s, ok := h.engine.Signal(g); ok && s.Fresh == engine.Stale {
			h.publishSignal(g)
		}
	}
}

// forActor leaves out of a device what only concerns whoever sets it up, and for guests more than that.
func forActor(a access.Actor, d shown.Device) shown.Device {
	if a.Role != access.Owner {
		d.Config.Camera, d.State.Password = site.Camera{}, false
	}
	if a.Role == access.Guest {
		x := &d.State
		x.From, x.Why, x.LastReason, x.Refused, x.Clock, x.Limits = "", "", "", 0, "", site.Limits{}
		d.Config.Link, d.Config.Model, d.Config.Limits = site.Link{Kind: d.Config.Link.Kind}, "", site.Limits{}
	}
	return d
}

// Now returns everything that the actor may see.
func (h *Hub) Now(ctx context.Context, a access.Actor) (shown.Snapshot, error) {
	var out shown.Snapshot
	err := h.ask(ctx, func() error {
		if err := access.May(a, access.Look, access.Anything); err != nil {
			return err
		}
		out = shown.Snapshot{Hub: h.Status(), Places: []shown.Place{}, Devices: []shown.Device{}, Signals: []shown.Signal{},
			Controls: []shown.Control{}, Settings: []shown.Setting{}, Presets: []shown.Preset{}, Alerts: h.alertsNow(a)}
		sees := h.glass.As(h.site, a)
		places := map[string]bool{}
		for _, cfg := range h.site.Devices {
			if access.May(a, access.Look, h.deviceObject(cfg)) == nil {
				out.Devices = append(out.Devices, forActor(a, h.deviceView(cfg)))
				places[cfg.Place] = true
			}
		}
		for _, cfg := range h.site.Signals {
			if access.May(a, access.Look, h.signalObject(cfg)) == nil {
				out.Signals = append(out.Signals, h.signalView(cfg))
				places[h.site.Devices[cfg.Device].Place] = true
			}
		}
		for _, cfg := range h.site.Controls {
			if access.May(a, access.Look, h.controlObject(cfg)) == nil {
				out.Controls = append(out.Controls, sees.Control(h.controlView(cfg)))
				places[h.site.Devices[cfg.Device].Place] = true
			}
		}
		h.settingsAndPresets(a, &out)
		out.Locked = h.locked(a, &out)
		for _, p := range h.site.Places {
			if places[p.ID] || sees.Place(p.ID) || a.Kind == access.Wall && slices.Contains(a.Sees, p.ID) {
				out.Places = append(out.Places, shown.Place{Version: shown.Version(p), Config: p})
			}
		}
		return nil
	})
	slices.SortFunc(out.Devices, func(a, b shown.Device) int { return strings.Compare(a.Config.ID, b.Config.ID) })
	slices.SortFunc(out.Signals, func(a, b shown.Signal) int { return strings.Compare(a.Config.ID, b.Config.ID) })
	slices.SortFunc(out.Controls, func(a, b shown.Control) int { return strings.Compare(a.Config.ID, b.Config.ID) })
	return out, err
}
