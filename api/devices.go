package api

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"strings"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/labstack/echo/v5"

	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/core/fault"
	"idleember/core/mapping"
	"idleember/core/site"
	"idleember/core/words"
	"idleember/hub"
	"idleember/starter"
	"idleember/traffic"
)

// longestPoll is how long a request waits for new traffic.
const longestPoll = 25 * time.Second

func (s *Server) newDevice(c *echo.Context) error {
	body, err := io.ReadAll(c.Request().Body)
	if err != nil {
		return invalid(err)
	}
	v, key, err := s.hub.NewDevice(c.Request().Context(), actor(c.Request().Context()), body)
	if err != nil {
		return err
	}
	c.Response().Header().Set("ETag", `"`+v.Version+`"`)
	return c.JSON(http.StatusCreated, (&handlers{s}).withKey(v, key, nil))
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
func (h *handlers) withKey(v shown.Device, key string, remarks []string) DeviceWithKey {
	s := h.s.hub.Site()
	how := starter.How(s, s.Devices[v.Config.ID], h.s.o.Addresses, key)
	row := func(r starter.Row) Labelled { return Labelled{Label: r.Label, Value: r.Value} }
	return DeviceWithKey{Device: shown.In(v, words.Reader{Zone: s.Hub.Zone}, h.s.hub.Time()), Key: key,
		Remarks: list(remarks),
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
	remarks, err := h.s.hub.RemoveDevice(ctx, actor(ctx), r.Id, r.Params.History == RemoveDeviceParamsHistoryKeep,
		yes(r.Params.Stay))
	return RemoveDevice200JSONResponse{Remarks: list(remarks)}, err
}

func (h *handlers) SetDeviceState(ctx context.Context, r SetDeviceStateRequestObject) (SetDeviceStateResponseObject,
	error) {
	state := site.Disabled
	if r.Body.Enabled {
		state = site.Active
	}
	v, remarks, err := h.s.hub.SetState(ctx, actor(ctx), r.Id, state, yes(r.Params.Stay))
	return SetDeviceState200JSONResponse{Device: v, Remarks: list(remarks)}, err
}

func (h *handlers) RemoveControl(ctx context.Context, r RemoveControlRequestObject) (RemoveControlResponseObject,
	error) {
	remarks, err := h.s.hub.RemoveControl(ctx, actor(ctx), r.Id, yes(r.Params.Stay))
	return RemoveControl200JSONResponse{Remarks: list(remarks)}, err
}

func (h *handlers) Recalibrate(ctx context.Context, r RecalibrateRequestObject) (RecalibrateResponseObject, error) {
	n, err := h.s.archive.Recalibrate(ctx, actor(ctx), r.Id, r.Body.From, r.Body.To)
	return Recalibrate200JSONResponse{Changed: n}, err
}

func (h *handlers) TryCalibration(ctx context.Context, r TryCalibrationRequestObject) (TryCalibrationResponseObject,
	error) {
	v, err := h.s.archive.TryCalibration(ctx, actor(ctx), r.Body.Calibration, r.Body.Raw)
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
	return ListTraffic200JSONResponse(each(got, func(m traffic.Message) Message {
		return Message{Seq: int64(m.Seq), At: m.At, Out: m.Out, Link: m.Link, Topic: strings.ToValidUTF8(m.Topic, "�"),
			Payload: strings.ToValidUTF8(string(m.Payload), "�"), Bytes: m.Bytes, Result: m.Result, Refused: m.Refused}
	})), err
}

func (h *handlers) TryMessage(ctx context.Context, r TryMessageRequestObject) (TryMessageResponseObject, error) {
	t := mapping.Trial{Device: r.Id, Payload: []byte(r.Body.Payload)}
	set(&t.Topic, r.Body.Topic)
	set(&t.Signals, r.Body.Signals)
	set(&t.Controls, r.Body.Controls)
	got, err := h.tryMessage(ctx, t)
	return TryMessage200JSONResponse(each(got, func(x mapping.Tried) Tried {
		return Tried{Id: x.ID, Text: x.Text, Value: x.Value, Why: x.Why}
	})), err
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

func (h *handlers) TryModel(_ context.Context, r TryModelRequestObject) (TryModelResponseObject, error) {
	if err := r.Body.Validate(); err != nil {
		return nil, fault.Invalid("model", "%v", err)
	}
	return TryModel204Response{}, nil
}

func (h *handlers) SaveAsModel(ctx context.Context, r SaveAsModelRequestObject) (SaveAsModelResponseObject, error) {
	about, replace := "", false
	set(&about, r.Body.About)
	set(&replace, r.Body.Replace)
	m, err := h.s.hub.ModelFrom(ctx, actor(ctx), r.Id, r.Body.Name, about, replace)
	return SaveAsModel201JSONResponse(m), err
}

func (h *handlers) AddFromModel(ctx context.Context, r AddFromModelRequestObject) (AddFromModelResponseObject, error) {
	devices := make([]site.Device, len(r.Body.Devices))
	for i, b := range r.Body.Devices {
		devices[i] = site.Device{ID: b.ID, Name: b.Name, Place: b.Place, Link: b.Link}
	}
	made, err := h.s.hub.AddFromModel(ctx, actor(ctx), r.Id, devices)
	return AddFromModel201JSONResponse(each(made, func(m hub.Made) DeviceWithKey {
		return h.withKey(m.Device, m.Key, nil)
	})), err
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
	top["$schema"], top["title"], top["$defs"] = "https://json-schema.org/draft/2020-12/schema", "Idle Ember device model",
		used
	out, _ := json.MarshalIndent(top, "", "  ") // plain maps
	return []byte(strings.ReplaceAll(string(out), "#/components/schemas/", "#/$defs/") + "\n")
}

func (h *handlers) tryMessage(ctx context.Context, t mapping.Trial) ([]mapping.Tried, error) {
	if err := access.May(actor(ctx), access.Configure, access.Anything); err != nil {
		return nil, err
	}
	return mapping.Try(h.s.hub.Site(), t)
}
