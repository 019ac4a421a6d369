package api

import (
	"context"
	"encoding/json"
	"strings"
	"time"

	"github.com/getkin/kin-openapi/openapi3"

	"idleember/core/site"
	"idleember/hub"
	"idleember/starter"
)

// longestPoll is how long a request waits for new traffic.
const longestPoll = 25 * time.Second

func (h *handlers) ListDevices(ctx context.Context, _ ListDevicesRequestObject) (ListDevicesResponseObject, error) {
	snap, err := h.s.hub.Now(ctx, actor(ctx))
	return ListDevices200JSONResponse(each(snap.Devices, device)), err
}

// newDevice fills a device with what a request says of it. Over MQTT it has a lease unless the request says otherwise.
func newDevice(b NewDevice) site.Device {
	d := site.Device{Name: b.Name, Place: b.Place, NewSignals: true, Link: site.Link{Kind: site.MQTT}}
	set(&d.Link, b.Link)
	if d.Link.Kind == site.MQTT {
		d.LeaseMS = site.DefaultLease.Milliseconds()
	}
	set(&d.ID, b.Id)
	set(&d.NewSignals, b.NewSignals)
	set(&d.LeaseMS, b.LeaseMs)
	set(&d.WakesMS, b.WakesMs)
	set(&d.Limits, b.Limits)
	return d
}

func (h *handlers) AddDevice(ctx context.Context, r AddDeviceRequestObject) (AddDeviceResponseObject, error) {
	v, key, err := h.s.hub.AddDevice(ctx, actor(ctx), newDevice(*r.Body))
	return AddDevice201JSONResponse(h.withKey(v, key, nil)), err
}

func (h *handlers) GetDevice(ctx context.Context, r GetDeviceRequestObject) (GetDeviceResponseObject, error) {
	v, err := h.s.hub.Device(ctx, actor(ctx), r.Id)
	return GetDevice200JSONResponse(device(v)), err
}

func (h *handlers) ChangeDevice(ctx context.Context, r ChangeDeviceRequestObject) (ChangeDeviceResponseObject, error) {
	v, err := h.s.hub.ChangeDevice(ctx, actor(ctx), r.Id, func(d *site.Device) error {
		if err := unchanged(r.Params.IfMatch, *d); err != nil {
			return err
		}
		set(&d.Name, r.Body.Name)
		set(&d.Place, r.Body.Place)
		set(&d.LeaseMS, r.Body.LeaseMs)
		set(&d.WakesMS, r.Body.WakesMs)
		set(&d.NewSignals, r.Body.NewSignals)
		set(&d.Link, r.Body.Link)
		set(&d.Limits, r.Body.Limits)
		return nil
	})
	return ChangeDevice200JSONResponse(device(v)), err
}

func (h *handlers) ReplaceKey(ctx context.Context, r ReplaceKeyRequestObject) (ReplaceKeyResponseObject, error) {
	key, remarks, err := h.s.hub.ReplaceKey(ctx, actor(ctx), r.Id)
	if err != nil {
		return nil, err
	}
	v, err := h.s.hub.Device(ctx, actor(ctx), r.Id)
	return ReplaceKey201JSONResponse(h.withKey(v, key, remarks)), err
}

// withKey adds what one pastes into a board or a shell.
func (h *handlers) withKey(v hub.Device, key string, remarks []string) DeviceWithKey {
	s := h.s.hub.Site()
	how := starter.How(s, s.Devices[v.ID], h.s.o.Addresses, key)
	row := func(r starter.Row) Labelled { return Labelled{Label: r.Label, Value: r.Value} }
	return DeviceWithKey{Device: device(v), Key: key, Remarks: list(remarks),
		Connect: Connect{Rows: each(how.Rows, row), Examples: each(how.Examples, row), Remark: text(how.Remark)}}
}

func yes(b *bool) bool { return b != nil && *b }

// list is never null.
func list[T any](l []T) []T {
	if l == nil {
		return []T{}
	}
	return l
}

func (h *handlers) RemoveDevice(ctx context.Context, r RemoveDeviceRequestObject) (RemoveDeviceResponseObject, error) {
	remarks, err := h.s.hub.RemoveDevice(ctx, actor(ctx), r.Id, r.Params.History == RemoveDeviceParamsHistoryKeep, yes(r.Params.Stay))
	return RemoveDevice200JSONResponse{Remarks: list(remarks)}, err
}

func (h *handlers) SetDeviceState(ctx context.Context, r SetDeviceStateRequestObject) (SetDeviceStateResponseObject, error) {
	state := site.Disabled
	if r.Body.Enabled {
		state = site.Active
	}
	v, remarks, err := h.s.hub.SetState(ctx, actor(ctx), r.Id, state, yes(r.Params.Stay))
	return SetDeviceState200JSONResponse{Device: device(v), Remarks: list(remarks)}, err
}

func (h *handlers) AddControl(ctx context.Context, r AddControlRequestObject) (AddControlResponseObject, error) {
	v, err := h.s.hub.AddControl(ctx, actor(ctx), r.Id, r.Body.Name, func(c *site.Control) error {
		b := r.Body
		shape := controlShape{(*ControlChangeKind)(b.Kind), b.Options, b.Lowest, b.Momentary, b.Ask, b.Safe}
		if err := shape.apply(c); err != nil {
			return err
		}
		set(&c.Answers, b.Answers)
		set(&c.Source, r.Body.Source)
		set(&c.Target, r.Body.Target)
		return nil
	})
	return AddControl201JSONResponse(control(v)), err
}

func (h *handlers) RemoveControl(ctx context.Context, r RemoveControlRequestObject) (RemoveControlResponseObject, error) {
	remarks, err := h.s.hub.RemoveControl(ctx, actor(ctx), r.Id, yes(r.Params.Stay))
	return RemoveControl200JSONResponse{Remarks: list(remarks)}, err
}

func (h *handlers) AddSignal(ctx context.Context, r AddSignalRequestObject) (AddSignalResponseObject, error) {
	b := r.Body
	v, err := h.s.hub.AddSignal(ctx, actor(ctx), r.Id, b.Name, site.ValueKind(b.Kind), func(s *site.Signal) {
		set(&s.Unit, b.Unit)
		set(&s.Decimals, b.Decimals)
		set(&s.Reports, (*site.Reports)(b.Reports))
		set(&s.IntervalMS, b.IntervalMs)
		set(&s.Source, b.Source)
		set(&s.Calibration, b.Calibration)
		set(&s.Sense, b.Sense)
	})
	return AddSignal201JSONResponse(signal(v)), err
}

func (h *handlers) RemoveSignal(ctx context.Context, r RemoveSignalRequestObject) (RemoveSignalResponseObject, error) {
	return RemoveSignal204Response{}, h.s.hub.RemoveSignal(ctx, actor(ctx), r.Id)
}

func (h *handlers) Recalibrate(ctx context.Context, r RecalibrateRequestObject) (RecalibrateResponseObject, error) {
	n, err := h.s.hub.Recalibrate(ctx, actor(ctx), r.Id, r.Body.From, r.Body.To)
	return Recalibrate200JSONResponse{Changed: n}, err
}

func (h *handlers) TryCalibration(ctx context.Context, r TryCalibrationRequestObject) (TryCalibrationResponseObject, error) {
	v, err := h.s.hub.TryCalibration(ctx, actor(ctx), r.Body.Calibration, r.Body.Raw)
	return TryCalibration200JSONResponse{Values: list(v.Values), Factor: v.Factor, Warning: v.Warning}, err
}

func (h *handlers) ListTraffic(ctx context.Context, r ListTrafficRequestObject) (ListTrafficResponseObject, error) {
	after, wait := int64(0), false
	set(&after, r.Params.After)
	set(&wait, r.Params.Wait)
	if wait {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(ctx, longestPoll)
		defer cancel()
	}
	got, err := h.s.hub.Traffic(ctx, actor(ctx), r.Id, uint64(after), wait)
	return ListTraffic200JSONResponse(each(got, func(m hub.Message) Message {
		return Message{Seq: int64(m.Seq), At: m.At, Out: m.Out, Link: m.Link, Topic: strings.ToValidUTF8(m.Topic, "�"),
			Payload: strings.ToValidUTF8(string(m.Payload), "�"), Bytes: m.Bytes, Result: m.Result, Refused: m.Refused}
	})), err
}

func (h *handlers) TryMessage(ctx context.Context, r TryMessageRequestObject) (TryMessageResponseObject, error) {
	t := hub.Trial{Device: r.Id, Payload: []byte(r.Body.Payload)}
	set(&t.Topic, r.Body.Topic)
	set(&t.Signals, r.Body.Signals)
	set(&t.Controls, r.Body.Controls)
	got, err := h.s.hub.Try(ctx, actor(ctx), t)
	return TryMessage200JSONResponse(each(got, func(x hub.Tried) Tried { return Tried{Id: x.ID, Text: x.Text, Value: x.Value, Why: x.Why} })), err
}

func (h *handlers) ListStarters(ctx context.Context, r ListStartersRequestObject) (ListStartersResponseObject, error) {
	if _, err := h.s.hub.Device(ctx, actor(ctx), r.Id); err != nil {
		return nil, err
	}
	s := h.s.hub.Site()
	codes, err := starter.For(s, s.Devices[r.Id], h.s.o.Addresses)
	return ListStarters200JSONResponse(each(codes, func(c starter.Code) Starter {
		return Starter{Id: c.ID, Name: c.Name, About: c.About, File: c.File, Code: c.Text}
	})), err
}

func modelEntry(m hub.Model) ModelEntry {
	e := ModelEntry{Model: m.Model, Shipped: m.Shipped, Devices: m.Devices}
	if len(m.LeftOut) > 0 {
		e.LeftOut = &m.LeftOut
	}
	return e
}

func (h *handlers) ListModels(ctx context.Context, _ ListModelsRequestObject) (ListModelsResponseObject, error) {
	got, err := h.s.hub.Models(ctx, actor(ctx))
	return ListModels200JSONResponse(each(got, modelEntry)), err
}

func (h *handlers) GetModel(ctx context.Context, r GetModelRequestObject) (GetModelResponseObject, error) {
	m, err := h.s.hub.Model(ctx, actor(ctx), r.Id)
	return GetModel200JSONResponse(m.Model), err
}

func (h *handlers) ImportModel(ctx context.Context, r ImportModelRequestObject) (ImportModelResponseObject, error) {
	preview, replace := false, false
	set(&preview, r.Params.Preview)
	set(&replace, r.Params.Replace)
	if preview {
		if err := r.Body.Validate(); err != nil {
			return nil, &hub.InvalidError{Field: "model", Reason: err.Error()}
		}
		return ImportModel201JSONResponse{Model: *r.Body}, nil
	}
	m, err := h.s.hub.SaveModel(ctx, actor(ctx), *r.Body, replace)
	return ImportModel201JSONResponse(modelEntry(m)), err
}

func (h *handlers) RemoveModel(ctx context.Context, r RemoveModelRequestObject) (RemoveModelResponseObject, error) {
	return RemoveModel204Response{}, h.s.hub.RemoveModel(ctx, actor(ctx), r.Id)
}

func (h *handlers) SaveAsModel(ctx context.Context, r SaveAsModelRequestObject) (SaveAsModelResponseObject, error) {
	about, replace := "", false
	set(&about, r.Body.About)
	set(&replace, r.Body.Replace)
	m, err := h.s.hub.ModelFrom(ctx, actor(ctx), r.Id, r.Body.Name, about, replace)
	return SaveAsModel201JSONResponse(modelEntry(m)), err
}

func (h *handlers) AddFromModel(ctx context.Context, r AddFromModelRequestObject) (AddFromModelResponseObject, error) {
	devices := make([]site.Device, len(r.Body.Devices))
	for i, b := range r.Body.Devices {
		devices[i] = site.Device{Name: b.Name, Place: b.Place}
		set(&devices[i].ID, b.Id)
		set(&devices[i].Link, b.Link)
	}
	made, err := h.s.hub.AddFromModel(ctx, actor(ctx), r.Id, devices)
	return AddFromModel201JSONResponse(each(made, func(m hub.Made) DeviceWithKey { return h.withKey(m.Device, m.Key, nil) })), err
}

func broker(b hub.Broker) Broker {
	out := Broker{Id: b.ID, Name: b.Name, Address: b.Address, User: b.User, ClientId: b.ClientID, Share: b.Share, Ca: b.CA, Alive: b.Alive,
		HasPassword: b.HasPassword, Connected: b.Connected, Why: b.Why, Version: b.Version}
	if !b.Since.IsZero() {
		out.Since = &b.Since
	}
	return out
}

func (h *handlers) ListBrokers(ctx context.Context, _ ListBrokersRequestObject) (ListBrokersResponseObject, error) {
	got, err := h.s.hub.Brokers(ctx, actor(ctx))
	return ListBrokers200JSONResponse(each(got, broker)), err
}

func (h *handlers) SaveBroker(ctx context.Context, r SaveBrokerRequestObject) (SaveBrokerResponseObject, error) {
	b := site.Broker{Name: r.Body.Name, Address: r.Body.Address}
	set(&b.ID, r.Body.Id)
	set(&b.User, r.Body.User)
	set(&b.ClientID, r.Body.ClientId)
	set(&b.Share, r.Body.Share)
	set(&b.CA, r.Body.Ca)
	set(&b.Alive, r.Body.Alive)
	v, err := h.s.hub.SaveBroker(ctx, actor(ctx), b, r.Body.Password)
	return SaveBroker201JSONResponse(broker(v)), err
}

func (h *handlers) RemoveBroker(ctx context.Context, r RemoveBrokerRequestObject) (RemoveBrokerResponseObject, error) {
	return RemoveBroker204Response{}, h.s.hub.RemoveBroker(ctx, actor(ctx), r.Id)
}

func panel(p site.Panel) PanelState {
	version := hub.Version(p)
	p.Allow, p.Points = list(p.Allow), list(p.Points)
	return PanelState{Panel: p, Version: version}
}

func (h *handlers) GetPanel(ctx context.Context, _ GetPanelRequestObject) (GetPanelResponseObject, error) {
	p, err := h.s.hub.Panel(ctx, actor(ctx))
	return GetPanel200JSONResponse(panel(p)), err
}

func (h *handlers) SavePanel(ctx context.Context, r SavePanelRequestObject) (SavePanelResponseObject, error) {
	err := h.s.hub.SavePanel(ctx, actor(ctx), *r.Body, func(p site.Panel) error { return unchanged(r.Params.IfMatch, p) })
	return SavePanel200JSONResponse(panel(*r.Body)), err
}

// modelSchema is the JSON Schema of device model files: the contract's own, with what it refers to.
func modelSchema(doc *openapi3.T) []byte {
	used := map[string]any{}
	var need func(name string)
	need = func(name string) {
		if used[name] != nil {
			return
		}
		raw, err := json.Marshal(doc.Components.Schemas[name].Value)
		if err != nil {
			return
		}
		var v map[string]any
		if json.Unmarshal(raw, &v) != nil {
			return
		}
		delete(v, "x-go-type")
		delete(v, "x-go-type-import")
		used[name] = v
		for _, part := range strings.Split(string(raw), `"#/components/schemas/`)[1:] {
			other, _, _ := strings.Cut(part, `"`)
			need(other)
		}
	}
	need("Model")
	top, _ := used["Model"].(map[string]any)
	delete(used, "Model")
	top["$schema"], top["title"], top["$defs"] = "https://json-schema.org/draft/2020-12/schema", "Idle Ember device model", used
	out, _ := json.MarshalIndent(top, "", "  ") // plain maps
	return []byte(strings.ReplaceAll(string(out), "#/components/schemas/", "#/$defs/") + "\n")
}
