package api

import (
	"context"
	"time"

	"idleember/archive"
	"idleember/core/reading"
	"idleember/store"
)

var qualities = map[reading.Quality]OneReadingQ{reading.Good: "", reading.Suspect: "suspect", reading.Bad: "bad"}

func (h *handlers) ListReadings(ctx context.Context, r ListReadingsRequestObject) (ListReadingsResponseObject, error) {
	p := archive.Page{Series: r.Params.Series, From: time.UnixMilli(store.Earliest), To: h.s.hub.Time().Add(time.Hour)}
	set(&p.From, r.Params.From)
	set(&p.To, r.Params.To)
	set(&p.Limit, r.Params.Limit)
	set(&p.Newest, r.Params.Newest)
	got, err := h.s.archive.Readings(ctx, actor(ctx), p)
	out := ListReadings200JSONResponse{Series: got.Series, Name: got.Name, Unit: got.Unit, Kind: Kind(got.Kind),
		Decimals: got.Decimals, More: got.More, Readings: []OneReading{}}
	for _, x := range got.Readings {
		one := OneReading{T: x.T, V: x.Value, Raw: x.Raw}
		if q := qualities[x.Quality]; q != "" {
			one.Q = &q
		}
		out.Readings = append(out.Readings, one)
	}
	return out, err
}

func (h *handlers) ImportReadings(ctx context.Context, r ImportReadingsRequestObject) (ImportReadingsResponseObject,
	error) {
	out := ImportReadings200JSONResponse{Refused: []RefusedReading{}}
	list := make([]store.Reading, 0, len(r.Body.Readings))
	place := make([]int, 0, len(r.Body.Readings)) // of those in the list
	for i, x := range r.Body.Readings {
		one := store.Reading{T: x.T, Raw: x.Raw}
		v, err := valueOf(x.V)
		if err != nil {
			out.Refused = append(out.Refused, RefusedReading{I: i, Reason: err.Error()})
			continue
		}
		one.Value = v
		place = append(place, i)
		for q, word := range qualities {
			if x.Q != nil && word == *x.Q {
				one.Quality = q
			}
		}
		list = append(list, one)
	}
	got, err := h.s.archive.Import(ctx, actor(ctx), r.Body.Series, list, r.Body.DryRun != nil && *r.Body.DryRun)
	out.Stored, out.Replaced = got.Stored, got.Replaced
	out.Refused = append(out.Refused, each(got.Refused,
		func(x archive.Refused) RefusedReading { return RefusedReading{I: place[x.At], Reason: x.Reason} })...)
	return out, err
}

func (h *handlers) DeleteReadings(ctx context.Context, r DeleteReadingsRequestObject) (DeleteReadingsResponseObject,
	error) {
	n, err := h.s.archive.DeleteReadings(ctx, actor(ctx), r.Params.Series, r.Params.From, r.Params.To)
	return DeleteReadings200JSONResponse{Removed: n}, err
}

func (h *handlers) TidyStorage(ctx context.Context, r TidyStorageRequestObject) (TidyStorageResponseObject, error) {
	got, err := h.s.archive.Tidy(ctx, actor(ctx), r.Body.Series)
	return TidyStorage200JSONResponse{Removed: got.Removed, Joined: got.Joined}, err
}

func (h *handlers) GetStorage(ctx context.Context, _ GetStorageRequestObject) (GetStorageResponseObject, error) {
	v, err := h.s.upkeep.Storage(ctx, actor(ctx))
	return GetStorage200JSONResponse(v), err
}
