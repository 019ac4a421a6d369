package api

import (
	"context"
	"io"
	"net/http"
	"slices"
	"strconv"
	"time"

	"github.com/labstack/echo/v5"

	"idleember/contract/shown"
	"idleember/core/site"
	"idleember/starter"
)

// listing is the kind of parts that are kept under a path, all of which know the same operations but for those that it
// has of its own.
type listing struct {
	kind string
	own  []string // methods that it answers to itself
}

var lists = map[string]listing{
	"places":     {kind: "place"},
	"devices":    {"device", []string{http.MethodPost, http.MethodDelete}}, // a key is shown, controls are made safe
	"signals":    {kind: "signal"},
	"controls":   {"control", []string{http.MethodDelete}},
	"settings":   {kind: "setting"},
	"presets":    {kind: "preset"},
	"rules":      {kind: "rule"},
	"groups":     {kind: "group"},
	"routes":     {kind: "route"},
	"dashboards": {kind: "dashboard"},
	"alerts":     {kind: "alert"},
	"brokers":    {kind: "broker"},
	"models":     {kind: "model"},
	"views":      {kind: "view"},
}

// What there is one of, of the hub or of a control: it is always there.
var alone = map[string]string{"hub": "hub", "panel": "panel", "messaging": "messaging", "backups": "backups",
	"rights": "rights", "controls/:id/automation": "automation"}

// parts answers to the operations that all kinds share.
func (s *Server) parts(g *echo.Group) {
	for path, l := range lists {
		kind := l.kind
		add := func(method, path string, h echo.HandlerFunc) {
			if !slices.Contains(l.own, method) {
				g.Add(method, path, h)
			}
		}
		add(http.MethodGet, "/"+path, func(c *echo.Context) error {
			limit := 1000
			if n, err := strconv.Atoi(c.QueryParam("limit")); err == nil {
				limit = n
			}
			page, err := s.hub.Parts(c.Request().Context(), actor(c.Request().Context()), kind, c.QueryParam("after"), limit)
			if err != nil {
				return err
			}
			return c.JSON(http.StatusOK, in(c.Request().Context(), s, page))
		})
		add(http.MethodPost, "/"+path, s.keeps(http.StatusCreated, func(ctx context.Context, _ string, body []byte,
			_ *string) (shown.AnyPart, error) {
			return s.hub.KeepPart(ctx, actor(ctx), kind, "", body, saves(nil))
		}))
		s.part(add, "/"+path+"/:id", kind, puts)
	}
	for path, kind := range alone {
		s.part(func(method, path string, h echo.HandlerFunc) {
			if method != http.MethodDelete || kind == "automation" {
				g.Add(method, path, h)
			}
		}, "/"+path, kind, func(match *string) func(any) error {
			return func(before any) error { return unchanged(match, before) }
		})
	}
	g.POST("/devices", s.newDevice)
}

// part answers to the operations on one part. puts says whether one may be put in the place of what is there.
func (s *Server) part(add func(method, path string, h echo.HandlerFunc), path, kind string,
	puts func(match *string) func(before any) error) {
	add(http.MethodGet, path, s.keeps(http.StatusOK, func(ctx context.Context, id string, _ []byte,
		_ *string) (shown.AnyPart, error) {
		return s.hub.Part(ctx, actor(ctx), kind, id)
	}))
	add(http.MethodPut, path, s.keeps(http.StatusOK, func(ctx context.Context, id string, body []byte,
		match *string) (shown.AnyPart, error) {
		return s.hub.KeepPart(ctx, actor(ctx), kind, id, body, puts(match))
	}))
	add(http.MethodPatch, path, s.keeps(http.StatusOK, func(ctx context.Context, id string, body []byte,
		match *string) (shown.AnyPart, error) {
		return s.hub.PatchPart(ctx, actor(ctx), kind, id, body, func(before any) error { return unchanged(match, before) })
	}))
	add(http.MethodDelete, path, func(c *echo.Context) error {
		ctx := c.Request().Context()
		err := s.hub.DropPart(ctx, actor(ctx), kind, c.Param("id"), func(before any) error {
			return unchanged(matching(c), before)
		})
		if err != nil {
			return err
		}
		return c.NoContent(http.StatusNoContent)
	})
}

// keeps answers with one part and its ETag.
func (s *Server) keeps(status int, f func(ctx context.Context, id string, body []byte, match *string) (shown.AnyPart,
	error)) echo.HandlerFunc {
	return func(c *echo.Context) error {
		body, err := io.ReadAll(c.Request().Body)
		if err != nil {
			return invalid(err)
		}
		x, err := f(c.Request().Context(), c.Param("id"), body, matching(c))
		if err != nil {
			return err
		}
		if v, ok := x.Config.(site.Hub); ok {
			x.State = s.hubState(v)
		}
		c.Response().Header().Set("ETag", `"`+x.Version+`"`)
		return c.JSON(status, in(c.Request().Context(), s, x))
	}
}

// hubState is what only whoever listens knows.
func (s *Server) hubState(v site.Hub) shown.HubState {
	st, at := s.hub.Status(), s.o.Addresses
	return shown.HubState{Version: st.Version, Time: st.Time, IdleDays: int(v.Idle() / (24 * time.Hour)), HTTP: at.HTTP,
		MQTT: at.MQTT, HTTPS: at.HTTPS, MQTTS: at.MQTTS, UDP: at.UDP,
		Open: !starter.Loopback(at.HTTP), MQTTOpen: !starter.Loopback(at.MQTT), Zones: zones}
}

func matching(c *echo.Context) *string {
	if m := c.Request().Header.Get("If-Match"); m != "" {
		return &m
	}
	return nil
}

// puts is for what is put under an id: * takes whatever is there, or nothing.
func puts(match *string) func(before any) error {
	if match != nil && *match == "*" {
		return func(any) error { return nil }
	}
	return saves(match)
}
