package hub

import (
	"context"
	"encoding/json"
	"fmt"
	"hash/fnv"
	"slices"
	"strconv"
	"strings"
	"time"

	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/core/engine"
	"idleember/core/reading"
	"idleember/core/site"
)

// Status is how the hub itself is.
type Status struct {
	Name    string    `json:"name"`
	Zone    string    `json:"zone"`
	Time    time.Time `json:"time"`
	Version string    `json:"version"`
	Boot    string    `json:"boot"`
	Trouble string    `json:"trouble"` // a sentence where the store does not take writes

	ClockDoubt string `json:"clock_doubt"` // a sentence where the computer's clock is not believed
}

// Signal is a signal with its value now, as everybody sees it.
type Signal struct {
	Version    string         `json:"version"`
	ID         string         `json:"id"`
	Name       string         `json:"name"`
	Device     string         `json:"device"`
	Place      string         `json:"place"`
	Raw        string         `json:"raw"`
	Kind       site.ValueKind `json:"kind"`
	Unit       string         `json:"unit"`
	Decimals   int            `json:"decimals"`
	Reports    site.Reports   `json:"reports"`
	IntervalMS int64          `json:"interval_ms"`
	ProposeMS  int64          `json:"propose_ms,omitempty"`
	New        bool           `json:"new"`
	Guests     site.Guests    `json:"guests"`
	State      string         `json:"state"` // live, stale, unknown
	Value      *reading.Value `json:"value,omitempty"`
	RawValue   *float64       `json:"raw_value,omitempty"`
	At         *time.Time     `json:"at,omitempty"`
	Heard      *time.Time     `json:"heard,omitempty"`
	Quality    string         `json:"quality"`

	Source      site.Source      `json:"source"`
	Calibration site.Calibration `json:"calibration"`
	Sense       site.Sense       `json:"sense"`
	Keep        site.Keep        `json:"keep"`
	AcceptMS    int64            `json:"accept_ms,omitempty"`
}

// Control is a control with what is wanted of it and what it is.
type Control struct {
	Version        string         `json:"version"`
	ID             string         `json:"id"`
	Name           string         `json:"name"`
	Device         string         `json:"device"`
	Place          string         `json:"place"`
	Raw            string         `json:"raw"`
	ConfirmAfterMS int64          `json:"confirm_after_ms"`
	ResumeWithinMS int64          `json:"resume_within_ms"`
	Safe           reading.Value  `json:"safe"`
	Dangerous      bool           `json:"dangerous"`
	AtDevice       site.AtDevice  `json:"at_device"`
	Answers        bool           `json:"answers"`
	Guests         site.Guests    `json:"guests"`
	HasLease       bool           `json:"has_lease"`
	Want           *reading.Value `json:"want,omitempty"`
	WantBy         string         `json:"want_by,omitempty"`
	WantAt         *time.Time     `json:"want_at,omitempty"`
	Is             *reading.Value `json:"is,omitempty"`
	IsAt           *time.Time     `json:"is_at,omitempty"`
	IsSince        *time.Time     `json:"is_since,omitempty"`
	Phase          string         `json:"phase"`
	Held           *reading.Value `json:"held,omitempty"`
	Reason         string         `json:"reason"`
	Rev            int64          `json:"rev"`
	Online         bool           `json:"online"`

	Source site.Source `json:"source"`
	Target site.Target `json:"target"`

	Kind      site.ControlKind `json:"kind"`
	Options   []string         `json:"options,omitempty"`
	Lowest    float64          `json:"lowest,omitempty"`
	Momentary *site.Pulse      `json:"momentary,omitempty"`
	Ask       bool             `json:"ask"`
	Mode      string           `json:"mode,omitempty"` // auto or manual, where there is automation
	HandUntil *time.Time       `json:"hand_until,omitempty"`
	Step      string           `json:"step,omitempty"`
	Service   string           `json:"service,omitempty"`
	Latched   []string         `json:"latched,omitempty"`
	Limit     string           `json:"limit,omitempty"`
	Proof     string           `json:"proof,omitempty"`
	Settings  []string         `json:"settings,omitempty"` // that its demands aim at
	MovedBy   string           `json:"moved_by,omitempty"` // the mover whose output it is
}

// Device is a device with its presence.
type Device struct {
	Version    string     `json:"version"`
	ID         string     `json:"id"`
	Name       string     `json:"name"`
	Place      string     `json:"place"`
	LeaseMS    int64      `json:"lease_ms"`
	NewSignals bool       `json:"new_signals"`
	Created    time.Time  `json:"created"`
	Online     bool       `json:"online"`
	Since      *time.Time `json:"since,omitempty"`
	LastHeard  *time.Time `json:"last_heard,omitempty"`
	From       string     `json:"from,omitempty"`
	Why        string     `json:"why,omitempty"`
	Refused    int64      `json:"refused"`
	LastReason string     `json:"last_reason,omitempty"`
	Clock      string     `json:"clock,omitempty"` // what is wrong with it

	Link        site.Link   `json:"link"`
	WakesMS     int64       `json:"wakes_ms"`
	Limits      site.Limits `json:"limits"`
	State       site.State  `json:"state"`
	Camera      bool        `json:"camera"`
	Model       string      `json:"model,omitempty"`
	Asleep      bool        `json:"asleep"`
	Connections int         `json:"connections"`
	Replaced    int64       `json:"replaced"`
	Messages    int64       `json:"messages"`
	PerMinute   float64     `json:"per_minute"`
	EveryMS     int64       `json:"every_ms"`
	JitterMS    int64       `json:"jitter_ms"`
}

// Snapshot is everything that an actor may see, as it is now.
type Snapshot struct {
	Hub      Status          `json:"hub"`
	Places   []site.Place    `json:"places"`
	Devices  []Device        `json:"devices"`
	Signals  []Signal        `json:"signals"`
	Controls []Control       `json:"controls"`
	Settings []shown.Setting `json:"settings"`
	Presets  []shown.Preset  `json:"presets"`
	Alerts   []shown.Alert   `json:"alerts"` // those that are not quiet
	Locked   []string        `json:"locked"` // controls and settings that one sees and may not switch
}

func (h *Hub) signalView(cfg site.Signal) Signal {
	v := Signal{ID: cfg.ID, Name: cfg.Name, Device: cfg.Device, Place: h.site.Devices[cfg.Device].Place, Raw: cfg.Raw, Kind: cfg.Kind,
		Unit: cfg.Unit, Decimals: cfg.Decimals, Reports: cfg.Reports, IntervalMS: cfg.IntervalMS, New: cfg.New,
		Guests: cfg.Guests, Version: h.versionOf(cfg.ID, cfg), State: string(engine.Unknown), Quality: reading.Good.String(),
		Source: cfg.Source, Calibration: cfg.Calibration, Sense: cfg.Sense, Keep: cfg.Keep, AcceptMS: cfg.AcceptMS}
	if s, ok := h.engine.Signal(cfg.ID); ok && s.Seen {
		v.State, v.Quality = string(s.Fresh), s.Quality.String()
		v.Value, v.RawValue, v.At, v.Heard = &s.Value, s.Raw, &s.At, &s.Heard
		if cfg.IntervalMS == 0 {
			v.IntervalMS = h.engine.Relied(cfg.ID).Milliseconds()
		}
		v.ProposeMS = h.engine.Proposed(cfg.ID).Milliseconds()
	}
	return v
}

func (h *Hub) controlView(cfg site.Control) Control {
	dev := h.site.Devices[cfg.Device]
	v := Control{ID: cfg.ID, Name: cfg.Name, Device: cfg.Device, Place: dev.Place, Raw: cfg.Raw,
		ConfirmAfterMS: cfg.ConfirmAfterMS, ResumeWithinMS: cfg.ResumeWithinMS, Safe: ValueOf(cfg, cfg.Safe),
		Dangerous: cfg.Dangerous, AtDevice: cfg.AtDevice, Answers: cfg.Answers, Guests: cfg.Guests, HasLease: dev.Lease() > 0, Version: Version(cfg),
		Source: cfg.Source, Target: cfg.Target, Kind: cfg.What(), Options: cfg.Words(), Lowest: float64(cfg.Lowest), Momentary: cfg.Momentary, Ask: cfg.Ask}
	v.Settings, v.MovedBy = h.linksOf(cfg.ID)
	if s, ok := h.engine.Control(cfg.ID); ok {
		v.Phase, v.Reason, v.Rev, v.Mode, v.Step, v.Service = string(s.Phase), h.engine.Reason(h.now(), cfg.ID), s.Rev, string(s.Mode), string(s.Step), string(s.Service)
		v.Limit = string(s.Limit)
		v.Latched, v.Proof, v.HandUntil = h.lockNames(cfg.ID, s.Latched), string(s.Proof), instant(s.HandUntil)
		for to, a := range map[**reading.Value]*site.Amount{&v.Want: s.Want, &v.Is: s.Is, &v.Held: s.Held} {
			if a != nil {
				value := ValueOf(cfg, *a)
				*to = &value
			}
		}
		v.WantBy, v.WantAt, v.IsAt, v.IsSince = s.WantBy.Name, instant(s.WantAt), instant(s.IsAt), instant(s.IsSince)
	}
	if d, ok := h.engine.Device(cfg.Device); ok {
		v.Online = d.Online
	}
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

func (h *Hub) deviceView(cfg site.Device) Device {
	v := Device{ID: cfg.ID, Name: cfg.Name, Place: cfg.Place, LeaseMS: cfg.LeaseMS, NewSignals: cfg.NewSignals, Created: cfg.Created,
		Version: Version(cfg), Link: cfg.Link, WakesMS: cfg.WakesMS, Limits: cfg.Limits.Filled(), State: cfg.State, Model: cfg.Model, Camera: cfg.Camera.Address != ""}
	if d, ok := h.engine.Device(cfg.ID); ok {
		v.Online, v.Since, v.LastHeard, v.From, v.Why, v.Asleep = d.Online, instant(d.Since), instant(d.LastHeard), d.From, d.Why, d.Asleep
	}
	t := h.trafficOf(cfg.ID)
	v.Clock = h.clockOf(cfg.ID, t)
	v.Refused, v.LastReason, v.Replaced, v.Connections = t.refused, t.last, t.replaced.Load(), len(t.sessions)
	p := h.meters.get(cfg.ID).pulse(h.Time())
	v.Messages, v.PerMinute, v.EveryMS, v.JitterMS = p.Count, p.PerMinute, p.Every.Milliseconds(), p.Jitter.Milliseconds()
	return v
}

// clockOf says what is wrong with a device's clock, as far as the last day shows.
func (h *Hub) clockOf(device string, t *traffic) string {
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
		v = Version(cfg)
		h.versions[id] = v
	}
	return v
}

// Version tells two states of a record's settings apart, for edits that must not undo somebody else's.
func Version(settings any) string {
	sum := fnv.New64a()
	_ = json.NewEncoder(sum).Encode(settings) // plain settings; a hash does not fail
	return strconv.FormatUint(sum.Sum64(), 36)
}

func instant(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}

// Status returns how the hub itself is.
func (h *Hub) Status() Status {
	h.trouble.Lock()
	err := h.trouble.err
	h.trouble.Unlock()
	info := &h.Site().Hub
	s := Status{Name: info.Name, Zone: info.Zone, Time: h.Time(), Version: h.version, Boot: h.boot}
	s.ClockDoubt = h.clockDoubt()
	if err != nil {
		s.Trouble = (&StoreError{err}).Error()
	}
	return s
}

func (h *Hub) publishSignal(id string) {
	cfg := h.site.Signals[id]
	v := h.signalView(cfg)
	now := told{v.State, v.Quality, h.sites}
	h.live.add(&Event{Kind: "signal", obj: h.signalObject(cfg), Routine: h.toldOf[id] == now, signal: &v}, v)
	h.toldOf[id] = now
}

// told is what a page that does not show a signal has to know of it all the same: for what needs attention.
type told struct {
	state, quality string
	sites          uint64 // how often the site was changed until then
}

// SignalsNow returns some signals as they are, as far as the actor may see them.
func (h *Hub) SignalsNow(ctx context.Context, a access.Actor, ids []string) (out []Signal, err error) {
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
	h.live.add(&Event{Kind: "control", obj: h.controlObject(cfg), tailor: func(a access.Actor, data any) any {
		return h.sightOf(s, a).control(data.(Control))
	}}, h.controlView(cfg))
}

// publishDevice tells a device's presence, which also shows on its controls.
func (h *Hub) publishDevice(id string) {
	cfg := h.site.Devices[id]
	v := h.deviceView(cfg)
	obj := h.deviceObject(cfg)
	h.live.add(&Event{Kind: "device", obj: obj, whom: notGuests}, v)
	h.live.add(&Event{Kind: "device", obj: obj, whom: onlyGuests}, forGuests(v))
	for _, c := range h.site.Controls {
		if c.Device == id {
			h.publishControl(c.ID)
		}
	}
}

// forGuests leaves out of a device what only concerns its owner.
func forGuests(d Device) Device {
	d.From, d.Why, d.LastReason, d.Refused, d.Clock = "", "", "", 0, ""
	d.Link, d.Model, d.Limits = site.Link{Kind: d.Link.Kind}, "", site.Limits{}
	return d
}

// Now returns everything that the actor may see.
func (h *Hub) Now(ctx context.Context, a access.Actor) (Snapshot, error) {
	var out Snapshot
	err := h.ask(ctx, func() error {
		if err := access.May(a, access.Look, access.Anything); err != nil {
			return err
		}
		out = Snapshot{Hub: h.Status(), Places: []site.Place{}, Devices: []Device{}, Signals: []Signal{}, Controls: []Control{}, Settings: []shown.Setting{}, Presets: []shown.Preset{}, Alerts: h.alerts(a, true)}
		sees := h.sightOf(h.site, a)
		places := map[string]bool{}
		for _, cfg := range h.site.Devices {
			if access.May(a, access.Look, h.deviceObject(cfg)) == nil {
				v := h.deviceView(cfg)
				if a.Role == access.Guest {
					v = forGuests(v)
				}
				out.Devices = append(out.Devices, v)
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
				out.Controls = append(out.Controls, sees.control(h.controlView(cfg)))
				places[h.site.Devices[cfg.Device].Place] = true
			}
		}
		h.settingsAndPresets(a, &out)
		out.Locked = h.locked(a, &out)
		for _, p := range h.site.Places {
			if places[p.ID] || sees.place(p.ID) || a.Kind == access.Wall && slices.Contains(a.Sees, p.ID) {
				out.Places = append(out.Places, p)
			}
		}
		return nil
	})
	slices.SortFunc(out.Devices, func(a, b Device) int { return strings.Compare(a.ID, b.ID) })
	slices.SortFunc(out.Signals, func(a, b Signal) int { return strings.Compare(a.ID, b.ID) })
	slices.SortFunc(out.Controls, func(a, b Control) int { return strings.Compare(a.ID, b.ID) })
	return out, err
}

// ids returns all ids that the actor may see, for guessing what a misspelt one meant.
func (h *Hub) ids(a access.Actor, signals, controls bool) []string {
	var out []string
	if signals {
		for id, s := range h.site.Signals {
			if access.May(a, access.Look, h.signalObject(s)) == nil {
				out = append(out, id)
			}
		}
	}
	if controls {
		for id, c := range h.site.Controls {
			if access.May(a, access.Look, h.controlObject(c)) == nil {
				out = append(out, id)
			}
		}
	}
	slices.Sort(out)
	return out
}
