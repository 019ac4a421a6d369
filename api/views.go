package api

import (
	"idleember/core/site"
	"idleember/hub"
)

func each[A, B any](list []A, f func(A) B) []B {
	out := make([]B, len(list))
	for i, x := range list {
		out[i] = f(x)
	}
	return out
}

func status(x hub.Status) HubStatus {
	return HubStatus{Name: x.Name, Zone: x.Zone, Time: x.Time, Version: x.Version, Boot: x.Boot, Trouble: x.Trouble}
}

func snapshot(x hub.Snapshot) Snapshot {
	return Snapshot{Hub: status(x.Hub), Devices: each(x.Devices, device), Signals: each(x.Signals, signal), Controls: each(x.Controls, control),
		Places: each(x.Places, func(p site.Place) Place { return Place{Id: p.ID, Name: p.Name} })}
}

func signal(x hub.Signal) Signal {
	out := Signal{Id: x.ID, Name: x.Name, Device: x.Device, Place: x.Place, Raw: x.Raw, Kind: Kind(x.Kind), Unit: x.Unit,
		Decimals: x.Decimals, Reports: SignalReports(x.Reports), IntervalMs: x.IntervalMS, New: x.New, Guests: SignalGuests(x.Guests),
		State: SignalState(x.State), Version: x.Version, At: x.At, Heard: x.Heard, Quality: SignalQuality(x.Quality),
		RawValue: x.RawValue, Source: x.Source, Calibration: x.Calibration, Sense: x.Sense}
	if x.Value != nil {
		var v Value = *x.Value
		out.Value = &v
	}
	return out
}

func control(x hub.Control) Control {
	return Control{Id: x.ID, Name: x.Name, Device: x.Device, Place: x.Place, Raw: x.Raw, ConfirmAfterMs: x.ConfirmAfterMS,
		ResumeWithinMs: x.ResumeWithinMS, Safe: x.Safe, Dangerous: x.Dangerous, AtDevice: ControlAtDevice(x.AtDevice), Answers: x.Answers,
		Guests: Guests(x.Guests), HasLease: x.HasLease, Version: x.Version, Want: x.Want, WantBy: text(x.WantBy), WantAt: x.WantAt, Is: x.Is, IsAt: x.IsAt,
		IsSince: x.IsSince, Phase: ControlPhase(x.Phase), Held: x.Held, Reason: x.Reason, Rev: x.Rev, Online: x.Online, Source: x.Source,
		Target: x.Target}
}

func device(x hub.Device) Device {
	return Device{Id: x.ID, Name: x.Name, Place: x.Place, LeaseMs: x.LeaseMS, NewSignals: x.NewSignals, Created: x.Created, Version: x.Version, Online: x.Online,
		Since: x.Since, LastHeard: x.LastHeard, From: text(x.From), Why: text(x.Why), Refused: x.Refused, LastReason: text(x.LastReason),
		Link: x.Link, WakesMs: x.WakesMS, Limits: x.Limits, State: DeviceState(x.State), Model: text(x.Model), Asleep: x.Asleep,
		Connections: x.Connections, Replaced: x.Replaced, Messages: x.Messages, PerMinute: x.PerMinute, EveryMs: x.EveryMS, JitterMs: x.JitterMS}
}

func text(s string) *string {
	if s == "" {
		return nil
	}
	return &s
}
