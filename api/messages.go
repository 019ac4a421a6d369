package api

import (
	"bytes"
	"context"

	"idleember/contract/shown"
	"idleember/store"
)

func (h *handlers) OpenLetter(ctx context.Context, r OpenLetterRequestObject) (OpenLetterResponseObject, error) {
	v, err := h.s.post.Linked(ctx, r.Body.Link, from(ctx))
	return OpenLetter200JSONResponse(in(ctx, h.s, v)), err
}

func (h *handlers) AcknowledgeLetter(ctx context.Context,
	r AcknowledgeLetterRequestObject) (AcknowledgeLetterResponseObject, error) {
	word := ""
	set(&word, r.Body.Word)
	v, err := h.s.post.AcknowledgeLinked(ctx, r.Body.Link, word, from(ctx))
	return AcknowledgeLetter200JSONResponse(in(ctx, h.s, v)), err
}

func (h *handlers) GetDigest(ctx context.Context, r GetDigestRequestObject) (GetDigestResponseObject, error) {
	to := h.s.hub.Time()
	set(&to, r.Params.To)
	begin := to.AddDate(0, 0, -1)
	set(&begin, r.Params.From)
	v, err := h.s.post.Digest(ctx, actor(ctx), begin, to)
	return GetDigest200JSONResponse(v), err
}

func (h *handlers) ListStills(ctx context.Context, r ListStillsRequestObject) (ListStillsResponseObject, error) {
	limit := 50
	set(&limit, r.Params.Limit)
	v, err := h.s.pages.Stills(ctx, actor(ctx), r.Id, limit)
	return ListStills200JSONResponse(v), err
}

func (h *handlers) TakeStill(ctx context.Context, r TakeStillRequestObject) (TakeStillResponseObject, error) {
	v, err := h.s.pages.TakeStill(ctx, actor(ctx), r.Id)
	return TakeStill201JSONResponse(v), err
}

func (h *handlers) GetStill(ctx context.Context, r GetStillRequestObject) (GetStillResponseObject, error) {
	body, _, err := h.s.pages.StillBody(ctx, actor(ctx), r.Id)
	return GetStill200ImagejpegResponse{Body: bytes.NewReader(body), ContentLength: int64(len(body))}, err
}

func (h *handlers) GetPushes(ctx context.Context, _ GetPushesRequestObject) (GetPushesResponseObject, error) {
	v, err := h.s.post.PushInfo(ctx, actor(ctx))
	return GetPushes200JSONResponse(v), err
}

func (h *handlers) Subscribe(ctx context.Context, r SubscribeRequestObject) (SubscribeResponseObject, error) {
	return Subscribe204Response{}, h.s.post.Subscribe(ctx, actor(ctx), store.Subscription{Endpoint: r.Body.Endpoint,
		P256dh: r.Body.P256dh, Auth: r.Body.Auth})
}

func (h *handlers) Unsubscribe(ctx context.Context, r UnsubscribeRequestObject) (UnsubscribeResponseObject, error) {
	return Unsubscribe204Response{}, h.s.post.Unsubscribe(ctx, actor(ctx), r.Body.Endpoint)
}

func (h *handlers) GetBackupsElsewhere(ctx context.Context,
	_ GetBackupsElsewhereRequestObject) (GetBackupsElsewhereResponseObject, error) {
	list, err := h.s.upkeep.BackupsElsewhere(ctx, actor(ctx))
	return GetBackupsElsewhere200JSONResponse(each(list, func(b store.Backup) shown.Backup { return shown.Backup(b) })),
		err
}

func (h *handlers) FetchBackup(ctx context.Context, r FetchBackupRequestObject) (FetchBackupResponseObject, error) {
	b, err := h.s.upkeep.FetchBackup(ctx, actor(ctx), r.Name)
	return FetchBackup201JSONResponse(b), err
}

func (h *handlers) DrillBackup(ctx context.Context, _ DrillBackupRequestObject) (DrillBackupResponseObject, error) {
	return DrillBackup204Response{}, h.s.upkeep.Drill(ctx, actor(ctx))
}

func (h *handlers) BackUp(ctx context.Context, _ BackUpRequestObject) (BackUpResponseObject, error) {
	v, err := h.s.upkeep.BackUp(ctx, actor(ctx))
	return BackUp201JSONResponse(v), err
}
