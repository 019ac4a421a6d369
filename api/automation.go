package api

import (
	"context"
	"encoding/json"
	"time"

	"idleember/contract/shown"
	deciding "idleember/core/control"
	"idleember/core/fault"
	"idleember/core/reading"
	"idleember/store"
)

func valueOf(v Value) (reading.Value, error) {
	b, err := json.Marshal(v)
	if err != nil {
		return reading.Value{}, err
	}
	out, err := reading.FromJSON(b)
	if err != nil {
		return out, fault.Invalid("to", "%v", err)
	}
	return out, nil
}

func instant(t *time.Time) time.Time {
	if t == nil {
		return time.Time{}
	}
	return *t
}

// settled waits for a control's confirmation where the caller wants that.
func (h *handlers) settled(ctx context.Context, wait *bool, v shown.Control, err error) (shown.Control, error) {
	if err != nil || wait == nil || !*wait {
		return v, err
	}
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	return h.s.hub.Settle(ctx, actor(ctx), v.Config.ID, v.State.Rev)
}

func (h *handlers) SwitchControl(ctx context.Context, r SwitchControlRequestObject) (SwitchControlResponseObject,
	error) {
	to, err := valueOf(r.Body.To)
	if err != nil {
		return nil, err
	}
	until := instant(r.Body.Until)
	if ms := r.Body.ForMs; ms != nil {
		until = h.s.hub.Time().Add(time.Duration(min(max(*ms, -1), 1<<40)) * time.Millisecond)
	}
	v, err := h.s.hub.Switch(ctx, actor(ctx), r.Id, to, until)
	v, err = h.settled(ctx, r.Params.Wait, v, err)
	return SwitchControl200JSONResponse(in(ctx, h.s, v)), err
}

func (h *handlers) AutoControl(ctx context.Context, r AutoControlRequestObject) (AutoControlResponseObject, error) {
	v, err := h.s.hub.ToAuto(ctx, actor(ctx), r.Id)
	v, err = h.settled(ctx, r.Params.Wait, v, err)
	return AutoControl200JSONResponse(in(ctx, h.s, v)), err
}

func (h *handlers) ResetControl(ctx context.Context, r ResetControlRequestObject) (ResetControlResponseObject, error) {
	v, err := h.s.hub.ResetInterlocks(ctx, actor(ctx), r.Id)
	return ResetControl200JSONResponse(in(ctx, h.s, v)), err
}

func (h *handlers) ServeControl(ctx context.Context, r ServeControlRequestObject) (ServeControlResponseObject, error) {
	v, err := h.s.hub.Serve(ctx, actor(ctx), r.Id, deciding.Service(r.Body.Service))
	return ServeControl200JSONResponse(in(ctx, h.s, v)), err
}

func (h *handlers) WhyControl(ctx context.Context, r WhyControlRequestObject) (WhyControlResponseObject, error) {
	v, err := h.s.hub.Why(ctx, actor(ctx), r.Id)
	return WhyControl200JSONResponse(in(ctx, h.s, v)), err
}

func (h *handlers) TryAutomation(ctx context.Context, r TryAutomationRequestObject) (TryAutomationResponseObject,
	error) {
	values := map[string]reading.Value{}
	for id, v := range r.Body.Values {
		var err error
		if values[id], err = valueOf(v); err != nil {
			return nil, err
		}
	}
	v, err := h.s.hub.TryAutomation(ctx, actor(ctx), r.Id, r.Body.Automation, values, instant(r.Body.At))
	return TryAutomation200JSONResponse(in(ctx, h.s, v)), err
}

func (h *handlers) SetSetting(ctx context.Context, r SetSettingRequestObject) (SetSettingResponseObject, error) {
	to, err := valueOf(r.Body.Value)
	if err != nil {
		return nil, err
	}
	v, err := h.s.hub.Set(ctx, actor(ctx), r.Id, to.String(), instant(r.Body.Until))
	return SetSetting200JSONResponse(v), err
}

func (h *handlers) ApplyPreset(ctx context.Context, r ApplyPresetRequestObject) (ApplyPresetResponseObject, error) {
	var until time.Time
	if r.Body != nil {
		until = instant(r.Body.Until)
	}
	return ApplyPreset204Response{}, h.s.hub.ApplyPreset(ctx, actor(ctx), r.Id, until)
}

func (h *handlers) GetNext(ctx context.Context, r GetNextRequestObject) (GetNextResponseObject, error) {
	until := h.s.hub.Time().Add(7 * 24 * time.Hour)
	if r.Params.Until != nil {
		until = *r.Params.Until
	}
	v, err := h.s.hub.Next(ctx, actor(ctx), until)
	return GetNext200JSONResponse(in(ctx, h.s, v)), err
}

func (h *handlers) CheckFormula(ctx context.Context, r CheckFormulaRequestObject) (CheckFormulaResponseObject, error) {
	v, err := h.s.hub.CheckFormula(ctx, actor(ctx), r.Body.Text)
	return CheckFormula200JSONResponse(v), err
}

func (h *handlers) FormulaWords(ctx context.Context, _ FormulaWordsRequestObject) (FormulaWordsResponseObject, error) {
	v, err := h.s.hub.FormulaWords(ctx, actor(ctx))
	return FormulaWords200JSONResponse(v), err
}

const remarksShown = 200

func (h *handlers) ListNotes(ctx context.Context, r ListNotesRequestObject) (ListNotesResponseObject, error) {
	from, to := time.UnixMilli(store.Earliest), h.s.hub.Time().Add(48*time.Hour)
	set(&from, r.Params.From)
	set(&to, r.Params.To)
	v, err := h.s.archive.Notes(ctx, actor(ctx), from, to, remarksShown)
	return ListNotes200JSONResponse(each(v, remark)), err
}

func (h *handlers) AddNote(ctx context.Context, r AddNoteRequestObject) (AddNoteResponseObject, error) {
	v, err := h.s.archive.AddNote(ctx, actor(ctx), store.Remark{At: r.Body.At, Until: r.Body.Until, Object: r.Body.Object,
		Text: r.Body.Text})
	return AddNote201JSONResponse(remark(v)), err
}

func (h *handlers) RemoveNote(ctx context.Context, r RemoveNoteRequestObject) (RemoveNoteResponseObject, error) {
	return RemoveNote204Response{}, h.s.archive.RemoveNote(ctx, actor(ctx), r.Note)
}

func (h *handlers) ListMessages(ctx context.Context, _ ListMessagesRequestObject) (ListMessagesResponseObject, error) {
	v, err := h.s.archive.Messages(ctx, actor(ctx), remarksShown)
	return ListMessages200JSONResponse(each(v, remark)), err
}

func remark(r store.Remark) shown.Remark {
	return shown.Remark{ID: r.ID, At: r.At, Object: r.Object, Text: r.Text, Grave: r.Grave, By: r.By, Until: r.Until}
}
