package api

import (
	"idleember/contract/shown"
	"idleember/core/reading"
	"idleember/hub"
	"idleember/store"
)

func each[A, B any](list []A, f func(A) B) []B {
	out := make([]B, len(list))
	for i, x := range list {
		out[i] = f(x)
	}
	return out
}

func status(x hub.Status) HubStatus {
	return HubStatus{Name: x.Name, Zone: x.Zone, Time: x.Time, Version: x.Version, Boot: x.Boot, Trouble: x.Trouble, ClockDoubt: x.ClockDoubt}
}

func snapshot(x hub.Snapshot) Snapshot {
	return Snapshot{Hub: status(x.Hub), Devices: each(x.Devices, device), Signals: each(x.Signals, signal), Controls: each(x.Controls, control),
		Settings: x.Settings, Presets: x.Presets, Alerts: x.Alerts, Locked: x.Locked,
		Places: x.Places}
}

func signal(x hub.Signal) Signal {
	out := Signal{Id: x.ID, Name: x.Name, Device: x.Device, Place: x.Place, Raw: x.Raw, Kind: Kind(x.Kind), Unit: x.Unit,
		Decimals: x.Decimals, Reports: SignalReports(x.Reports), IntervalMs: x.IntervalMS, New: x.New, Guests: SignalGuests(x.Guests),
		State: SignalState(x.State), Version: x.Version, At: x.At, Heard: x.Heard, Quality: SignalQuality(x.Quality),
		RawValue: x.RawValue, Source: x.Source, Calibration: x.Calibration, Sense: x.Sense, Keep: x.Keep, AcceptMs: &x.AcceptMS}
	if x.ProposeMS > 0 {
		out.ProposeMs = &x.ProposeMS
	}
	out.Value = value(x.Value)
	return out
}

func control(x hub.Control) Control {
	out := Control{Id: x.ID, Name: x.Name, Device: x.Device, Place: x.Place, Raw: x.Raw, ConfirmAfterMs: x.ConfirmAfterMS,
		ResumeWithinMs: x.ResumeWithinMS, Safe: x.Safe, Dangerous: x.Dangerous, AtDevice: ControlAtDevice(x.AtDevice), Answers: x.Answers,
		Guests: Guests(x.Guests), HasLease: x.HasLease, Version: x.Version, WantBy: text(x.WantBy), WantAt: x.WantAt, IsAt: x.IsAt,
		IsSince: x.IsSince, Phase: ControlPhase(x.Phase), Reason: x.Reason, Rev: x.Rev, Online: x.Online, Source: x.Source,
		Target: x.Target, Kind: ControlKind(x.Kind), Momentary: x.Momentary, Ask: x.Ask, HandUntil: x.HandUntil, Step: text(x.Step), MovedBy: text(x.MovedBy),
		Mode: word[ControlMode](x.Mode), Service: word[ControlService](x.Service), Proof: word[ControlProof](x.Proof), Want: value(x.Want), Is: value(x.Is), Held: value(x.Held)}
	if len(x.Options) > 0 {
		out.Options = &x.Options
	}
	if x.Lowest > 0 {
		out.Lowest = &x.Lowest
	}
	out.Limit = text(x.Limit)
	if len(x.Latched) > 0 {
		out.Latched = &x.Latched
	}
	if len(x.Settings) > 0 {
		out.Settings = &x.Settings
	}
	return out
}

func value(v *reading.Value) *Value {
	if v == nil {
		return nil
	}
	var out Value = *v
	return &out
}

func word[T ~string](s string) *T {
	if s == "" {
		return nil
	}
	t := T(s)
	return &t
}

func device(x hub.Device) Device {
	return Device{Id: x.ID, Name: x.Name, Place: x.Place, LeaseMs: x.LeaseMS, NewSignals: x.NewSignals, Created: x.Created, Version: x.Version, Online: x.Online,
		Since: x.Since, LastHeard: x.LastHeard, From: text(x.From), Why: text(x.Why), Refused: x.Refused, LastReason: text(x.LastReason), Clock: text(x.Clock),
		Link: x.Link, WakesMs: x.WakesMS, Limits: x.Limits, State: DeviceState(x.State), Camera: x.Camera, Model: text(x.Model), Asleep: x.Asleep,
		Connections: x.Connections, Replaced: x.Replaced, Messages: x.Messages, PerMinute: x.PerMinute, EveryMs: x.EveryMS, JitterMs: x.JitterMS}
}

func text(s string) *string {
	if s == "" {
		return nil
	}
	return &s
}

func remark(r store.Remark) shown.Remark {
	return shown.Remark{ID: r.ID, At: r.At, Object: r.Object, Text: r.Text, Grave: r.Grave, By: r.By, Until: r.Until}
}

func backup(b store.Backup) shown.Backup { return shown.Backup(b) }

func alertEvent(e store.AlertEvent) shown.AlertEvent {
	return shown.AlertEvent{ID: e.ID, At: e.At, Alert: e.Alert, Name: e.Name, Place: e.Place, Severity: e.Severity, N: e.N, What: e.What, Value: e.Value, By: e.By, Word: e.Word}
}
