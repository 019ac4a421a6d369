package client

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"maps"
	"net/http"
	"net/url"

	"idleember/contract/shown"
	"idleember/core/site"
)

// Parts are all parts of a kind; C is what their configuration is, S their state.
type Parts[C, S any] struct {
	hub     *Remote
	path    string
	secrets map[string]any
}

// With also enters a secret, as a password, with what is kept next; "" is forgotten.
func (p Parts[C, S]) With(name, secret string) Parts[C, S] {
	secrets := map[string]any{name: secret}
	maps.Copy(secrets, p.secrets)
	p.secrets = secrets
	return p
}

// Sole is a part of which there is one; it is always there.
type Sole[C, S any] struct{ p Parts[C, S] }

// With also enters a secret, as a password, with what is kept next; "" is forgotten.
func (o Sole[C, S]) With(name, secret string) Sole[C, S] { return Sole[C, S]{o.p.With(name, secret)} }

// Get reads the part.
func (o Sole[C, S]) Get(ctx context.Context) (shown.Part[C, S], error) { return o.p.Get(ctx, "") }

// Put changes the part as a whole: match is the version that the change is made from, "" whatever is there.
func (o Sole[C, S]) Put(ctx context.Context, config C, match string) (shown.Part[C, S], error) {
	return o.p.Put(ctx, "", config, match)
}

// Patch changes some fields, by a merge patch (RFC 7396).
func (o Sole[C, S]) Patch(ctx context.Context, patch any, match string) (shown.Part[C, S], error) {
	return o.p.Patch(ctx, "", patch, match)
}

// Hub is what the owner told about the hub.
func (h *Remote) Hub() Sole[site.Hub, shown.HubState] {
	return sole[site.Hub, shown.HubState](h, "hub")
}

// Panel is what is offered to a Modbus panel.
func (h *Remote) Panel() Sole[site.Panel, shown.None] {
	return sole[site.Panel, shown.None](h, "panel")
}

// Messaging is how messages leave the hub.
func (h *Remote) Messaging() Sole[site.Messaging, shown.MessagingState] {
	return sole[site.Messaging, shown.MessagingState](h, "messaging")
}

// Backups is how backups are made.
func (h *Remote) Backups() Sole[site.Backups, shown.BackupsState] {
	return sole[site.Backups, shown.BackupsState](h, "backups")
}

// Rights is who may do what beyond what roles say.
func (h *Remote) Rights() Sole[site.Rights, shown.None] {
	return sole[site.Rights, shown.None](h, "rights")
}

// Automation is what the hub decides of a control; an empty one decides nothing.
func (h *Remote) Automation(control string) Sole[site.Automation, shown.AutomationState] {
	return sole[site.Automation, shown.AutomationState](h, "controls/"+url.PathEscape(control)+"/automation")
}

func sole[C, S any](h *Remote, path string) Sole[C, S] {
	return Sole[C, S]{Parts[C, S]{hub: h, path: path}}
}

// Places are rooms, sheds, cupboards and yards.
func (h *Remote) Places() Parts[site.Place, shown.None] {
	return Parts[site.Place, shown.None]{hub: h, path: "places"}
}

// Devices are boards and what else brings readings.
func (h *Remote) Devices() Parts[site.Device, shown.DeviceState] {
	return Parts[site.Device, shown.DeviceState]{hub: h, path: "devices"}
}

// AddDevice adds a device of which some fields are told, and returns it with its key, which is shown this once.
func (h *Remote) AddDevice(ctx context.Context, fields any) (out DeviceWithKey, err error) {
	return out, h.exchange(ctx, http.MethodPost, "devices", "", fields, &out)
}

// AddFromModel adds devices of a model, of which some fields are told, all or none.
func (h *Remote) AddFromModel(ctx context.Context, model string, devices []any) (out []DeviceWithKey, err error) {
	return out, h.exchange(ctx, http.MethodPost, "models/"+url.PathEscape(model)+"/devices", "",
		map[string]any{"devices": devices}, &out)
}

// Signals are what devices report.
func (h *Remote) Signals() Parts[site.Signal, shown.SignalState] {
	return Parts[site.Signal, shown.SignalState]{hub: h, path: "signals"}
}

// Controls are what can be switched.
func (h *Remote) Controls() Parts[site.Control, shown.ControlState] {
	return Parts[site.Control, shown.ControlState]{hub: h, path: "controls"}
}

// Settings are adjustable values.
func (h *Remote) Settings() Parts[site.Setting, shown.SettingState] {
	return Parts[site.Setting, shown.SettingState]{hub: h, path: "settings"}
}

// Dashboards are one's own and the shared ones.
func (h *Remote) Dashboards() Parts[site.Dashboard, shown.DashboardState] {
	return Parts[site.Dashboard, shown.DashboardState]{hub: h, path: "dashboards"}
}

// Views are views of charts that have a name.
func (h *Remote) Views() Parts[site.View, shown.DashboardState] {
	return Parts[site.View, shown.DashboardState]{hub: h, path: "views"}
}

// Presets are the presets that one may apply.
func (h *Remote) Presets() Parts[site.Preset, shown.AloudState] {
	return Parts[site.Preset, shown.AloudState]{hub: h, path: "presets"}
}

// Rules are what the hub does when something becomes true.
func (h *Remote) Rules() Parts[site.Rule, shown.RuleState] {
	return Parts[site.Rule, shown.RuleState]{hub: h, path: "rules"}
}

// Groups are controls that share something.
func (h *Remote) Groups() Parts[site.Group, shown.AloudState] {
	return Parts[site.Group, shown.AloudState]{hub: h, path: "groups"}
}

// Routes are how people are told of alerts.
func (h *Remote) Routes() Parts[site.Route, shown.None] {
	return Parts[site.Route, shown.None]{hub: h, path: "routes"}
}

// Alerts are all alerts, with those that are there without having been made.
func (h *Remote) Alerts() Parts[site.Alert, shown.AlertState] {
	return Parts[site.Alert, shown.AlertState]{hub: h, path: "alerts"}
}

// Brokers are MQTT brokers elsewhere.
func (h *Remote) Brokers() Parts[site.Broker, shown.BrokerState] {
	return Parts[site.Broker, shown.BrokerState]{hub: h, path: "brokers"}
}

// Models are device models, those that ship and one's own.
func (h *Remote) Models() Parts[site.Model, shown.ModelState] {
	return Parts[site.Model, shown.ModelState]{hub: h, path: "models"}
}

// List reads all parts that one may see, by id.
func (p Parts[C, S]) List(ctx context.Context) (all []shown.Part[C, S], err error) {
	for after := ""; ; {
		var page shown.Page[shown.Part[C, S]]
		if err := p.hub.exchange(ctx, http.MethodGet, p.path+"?limit=1000&after="+url.QueryEscape(after), "", nil,
			&page); err != nil {
			return nil, err
		}
		all = append(all, page.Items...)
		if after = page.Next; after == "" {
			return all, nil
		}
	}
}

// Get reads one part.
func (p Parts[C, S]) Get(ctx context.Context, id string) (out shown.Part[C, S], err error) {
	return out, p.hub.exchange(ctx, http.MethodGet, p.at(id), "", nil, &out)
}

// Add adds a part, and replaces nothing.
func (p Parts[C, S]) Add(ctx context.Context, config C) (out shown.Part[C, S], err error) {
	return out, p.hub.exchange(ctx, http.MethodPost, p.path, "", p.body(config), &out)
}

// Make adds a part of which some fields are told; the others are as they usually are.
func (p Parts[C, S]) Make(ctx context.Context, fields any) (out shown.Part[C, S], err error) {
	return out, p.hub.exchange(ctx, http.MethodPost, p.path, "", fields, &out)
}

// Put keeps a part as a whole: match is the version that it is made from, "" where there is none yet, * whatever is
// there.
func (p Parts[C, S]) Put(ctx context.Context, id string, config C, match string) (out shown.Part[C, S], err error) {
	return out, p.hub.exchange(ctx, http.MethodPut, p.at(id), match, p.body(config), &out)
}

// Save keeps a part whether it is there or not; one without an id is added.
func (p Parts[C, S]) Save(ctx context.Context, config C) (out shown.Part[C, S], err error) {
	var named struct{ ID string }
	b, err := json.Marshal(config)
	if err == nil {
		err = json.Unmarshal(b, &named)
	}
	if err != nil {
		return out, err
	}
	if named.ID == "" {
		return p.Add(ctx, config)
	}
	return p.Put(ctx, named.ID, config, "*")
}

// Patch changes some fields, by a merge patch (RFC 7396).
func (p Parts[C, S]) Patch(ctx context.Context, id string, patch any, match string) (out shown.Part[C, S], err error) {
	return out, p.hub.exchange(ctx, http.MethodPatch, p.at(id), match, p.body(patch), &out)
}

// Remove deletes a part with all that it owns.
func (p Parts[C, S]) Remove(ctx context.Context, id string) error {
	return p.hub.exchange(ctx, http.MethodDelete, p.at(id), "", nil, nil)
}

func (p Parts[C, S]) at(id string) string {
	if id == "" { // there is one
		return p.path
	}
	return p.path + "/" + url.PathEscape(id)
}

// body is what is sent, with secrets where there are some.
func (p Parts[C, S]) body(v any) any {
	if p.secrets == nil {
		return v
	}
	b, err := json.Marshal(v)
	fields := map[string]any{}
	if err == nil {
		err = json.Unmarshal(b, &fields)
	}
	if err != nil { // whoever sends it says what is wrong with it
		return v
	}
	maps.Copy(fields, p.secrets)
	return fields
}

// exchange sends a request with a body as JSON, and reads the answer.
func (h *Remote) exchange(ctx context.Context, method, path, match string, body, answer any) error {
	var send io.Reader
	if body != nil {
		b, err := json.Marshal(body)
		if err != nil {
			return err
		}
		send = bytes.NewReader(b)
	}
	r, err := http.NewRequestWithContext(ctx, method, h.address+"/api/v1/"+path, send)
	if err != nil {
		return err
	}
	if body != nil {
		r.Header.Set("Content-Type", "application/json")
	}
	if match != "" {
		r.Header.Set("If-Match", match)
	}
	if err := h.sign(ctx, r); err != nil {
		return err
	}
	resp, err := h.doer.Do(r)
	if err != nil {
		return err
	}
	defer func() { _ = resp.Body.Close() }()
	if answer == nil {
		return nil
	}
	return json.NewDecoder(resp.Body).Decode(answer)
}
