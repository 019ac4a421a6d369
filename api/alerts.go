package api

import (
	"context"
	"encoding/json"
	"time"

	"idleember/contract/shown"
	"idleember/core/alert"
	"idleember/core/site"
	"idleember/hub"
	"idleember/post"
	"idleember/store"
)

var alertEvents = map[ActOnAlertsJSONBodyAction]alert.Event{"acknowledge": alert.Acknowledge, "shelve": alert.Shelve,
	"unshelve": alert.Unshelve, "retire": alert.Retire, "restore": alert.Restore}

func (h *handlers) ActOnAlerts(ctx context.Context, r ActOnAlertsRequestObject) (ActOnAlertsResponseObject, error) {
	x := hub.AlertAction{IDs: r.Body.Ids, Event: alertEvents[r.Body.Action]}
	set(&x.Word, r.Body.Word)
	span := int64(4 * 3600_000)
	set(&span, r.Body.ForMs)
	x.Until = h.s.hub.Time().Add(site.Millis(span))
	v, err := h.s.hub.ActOnAlerts(ctx, actor(ctx), x)
	return ActOnAlerts200JSONResponse(in(ctx, h.s, v)), err
}

const month = 30 * 24 * time.Hour

func (h *handlers) TryAlert(ctx context.Context, r TryAlertRequestObject) (TryAlertResponseObject, error) {
	to := h.s.hub.Time()
	set(&to, r.Body.To)
	from := to.Add(-month)
	set(&from, r.Body.From)
	v, err := h.s.archive.TryAlert(ctx, actor(ctx), r.Body.Alert, from, to)
	out := AlertTrial{From: v.From, To: v.To, Count: len(v.Occurrences), Readings: v.Readings}
	for _, o := range v.Occurrences {
		out.ActiveMs += o.To - o.From
		out.LongestMs = max(out.LongestMs, o.To-o.From)
	}
	out.Occurrences = append([]alert.Occurrence{}, v.Occurrences[max(0, len(v.Occurrences)-200):]...)
	return TryAlert200JSONResponse(out), err
}

func (h *handlers) ListAlertEvents(ctx context.Context, r ListAlertEventsRequestObject) (ListAlertEventsResponseObject,
	error) {
	f := store.AlertFilter{Limit: 100}
	set(&f.Alert, r.Params.Alert)
	set(&f.Place, r.Params.Place)
	set(&f.What, r.Params.What)
	set(&f.From, r.Params.From)
	set(&f.To, r.Params.To)
	set(&f.Before, r.Params.Before)
	set(&f.Limit, r.Params.Limit)
	if r.Params.Severity != nil {
		f.Severity = site.Severity(*r.Params.Severity)
	}
	v, err := h.s.archive.AlertEvents(ctx, actor(ctx), f)
	return ListAlertEvents200JSONResponse(each(v, alertEvent)), err
}

func (h *handlers) ListDeliveries(ctx context.Context, r ListDeliveriesRequestObject) (ListDeliveriesResponseObject,
	error) {
	about, limit := "", 100
	set(&about, r.Params.Alert)
	set(&limit, r.Params.Limit)
	v, err := h.s.post.Deliveries(ctx, actor(ctx), about, limit)
	return ListDeliveries200JSONResponse(each(v, delivery)), err
}

func delivery(d store.Delivery) Delivery {
	out := Delivery{Id: d.ID, Message: d.MID, Route: d.Route, Alert: d.Alert, At: time.UnixMilli(d.At),
		State: DeliveryState(d.State), Tries: d.Tries, Answer: d.Answer}
	if d.State == store.Waiting && d.Tries > 0 {
		next := time.UnixMilli(d.Next)
		out.Next = &next
	}
	if d.Done > 0 {
		done := time.UnixMilli(d.Done)
		out.Done = &done
	}
	var n hub.Notice
	if json.Unmarshal([]byte(d.Body), &n) == nil {
		out.Subject = n.Name
		if n.What != "raised" {
			out.Subject += ": " + n.What
		}
	}
	return out
}

func (h *handlers) TestRoute(ctx context.Context, r TestRouteRequestObject) (TestRouteResponseObject, error) {
	answer, err := h.s.post.TestRoute(ctx, actor(ctx), r.Id)
	if post.Ours(err) {
		return nil, err
	}
	if err != nil {
		return TestRoute200JSONResponse{Sent: false, Answer: err.Error()}, nil
	}
	return TestRoute200JSONResponse{Sent: true, Answer: answer}, nil
}

func (h *handlers) Serviced(ctx context.Context, r ServicedRequestObject) (ServicedResponseObject, error) {
	return Serviced204Response{}, h.s.hub.Serviced(ctx, actor(ctx), r.Id)
}

func (h *handlers) Say(ctx context.Context, r SayRequestObject) (SayResponseObject, error) {
	v, err := h.s.hub.Say(ctx, actor(ctx), r.Params.About)
	return Say200JSONResponse{Sentence: h.s.reader(ctx, actor(ctx)).Say(v, h.s.hub.Time())}, err
}

func alertEvent(e store.AlertEvent) shown.AlertEvent {
	return shown.AlertEvent{ID: e.ID, At: e.At, Alert: e.Alert, Name: e.Name, Place: e.Place, Severity: e.Severity, N: e.N,
		What: e.What, Value: e.Value, By: e.By, Word: e.Word}
}
