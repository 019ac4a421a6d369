package api

import (
	"bytes"
	"context"
	"io"
	"strings"

	"github.com/getkin/kin-openapi/openapi3filter"

	"idleember/contract/shown"
	"idleember/core/site"
	"idleember/household"
)

func init() { // pictures are read by the hub, not by the contract's checker
	for _, t := range []string{"image/png", "image/jpeg", "image/svg+xml"} {
		openapi3filter.RegisterBodyDecoder(t, openapi3filter.FileBodyDecoder)
	}
}

func (h *handlers) ReadyDashboard(ctx context.Context, r ReadyDashboardRequestObject) (ReadyDashboardResponseObject,
	error) {
	d, err := h.s.pages.ReadyDashboard(ctx, actor(ctx), r.Params.Of)
	return ReadyDashboard200JSONResponse(d), err
}

func (h *handlers) FormulasNow(ctx context.Context, r FormulasNowRequestObject) (FormulasNowResponseObject, error) {
	list, err := h.s.pages.FormulasNow(ctx, actor(ctx), r.Id)
	return FormulasNow200JSONResponse(list), err
}

func (h *handlers) ListWalls(ctx context.Context, r ListWallsRequestObject) (ListWallsResponseObject, error) {
	list, err := h.s.people.Walls(actor(ctx), r.Id)
	return ListWalls200JSONResponse(list), err
}

func (h *handlers) AddWall(ctx context.Context, r AddWallRequestObject) (AddWallResponseObject, error) {
	w := shown.Wall{Name: r.Body.Name, Dashboard: r.Id}
	set(&w.Switches, r.Body.Switches)
	set(&w.DimFrom, r.Body.DimFrom)
	set(&w.DimUntil, r.Body.DimUntil)
	key, w, err := h.s.people.AddWall(ctx, actor(ctx), w)
	return AddWall201JSONResponse{Key: key, Wall: w}, err
}

func (h *handlers) EndWall(ctx context.Context, r EndWallRequestObject) (EndWallResponseObject, error) {
	return EndWall204Response{}, h.s.people.EndWall(ctx, actor(ctx), r.Id, r.Wall)
}

func (h *handlers) OpenWall(ctx context.Context, r OpenWallRequestObject) (OpenWallResponseObject, error) {
	key := ""
	if set(&key, r.Body.Key); key == "" {
		key, _ = ctx.Value(wallKey{}).(string)
	}
	w, a, err := h.s.people.WallOf(key, from(ctx))
	if err != nil {
		return nil, err
	}
	d, err := h.s.hub.Part(ctx, a, "dashboard", a.ID)
	if err != nil {
		return nil, err
	}
	out := OpenWall200JSONResponse{Headers: OpenWall200ResponseHeaders{SetCookie: cookieOf(ctx, wallCookie, key,
		household.SessionLife)}}
	out.Body.Wall = w
	out.Body.Dashboard = shown.Dashboard{Version: d.Version, Config: d.Config.(site.Dashboard),
		State: d.State.(shown.DashboardState)}
	return out, nil
}

func (h *handlers) AddPicture(ctx context.Context, r AddPictureRequestObject) (AddPictureResponseObject, error) {
	body, err := io.ReadAll(r.Body)
	if err != nil {
		return nil, err
	}
	name := ""
	set(&name, r.Params.Name)
	id, p, err := h.s.pages.AddPicture(ctx, actor(ctx), strings.TrimSpace(name), body)
	if p.Left == nil {
		p.Left = []string{}
	}
	return AddPicture201JSONResponse{Id: id, Type: p.Type, Width: float32(p.Width), Height: float32(p.Height),
		LeftOut: p.Left}, err
}

func (h *handlers) GetPicture(ctx context.Context, r GetPictureRequestObject) (GetPictureResponseObject, error) {
	p, err := h.s.pages.Picture(ctx, actor(ctx), r.Id)
	keep, nothing := "private, max-age=31536000, immutable",
		"default-src 'none'; style-src 'unsafe-inline'; img-src data:; sandbox"
	return GetPicture200ImageResponse{Body: bytes.NewReader(p.Body), ContentType: p.Type,
		ContentLength: int64(len(p.Body)),
		Headers:       GetPicture200ResponseHeaders{CacheControl: &keep, ContentSecurityPolicy: &nothing}}, err
}
