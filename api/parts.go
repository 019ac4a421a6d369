package api

import (
	"context"
	"io"
	"net/http"
	"strconv"

	"github.com/labstack/echo/v5"

	"idleember/hub"
)

// The kinds of parts that are kept under ids, by the name of their list: all know the same operations.
var lists = map[string]string{"places": "place", "settings": "setting", "dashboards": "dashboard", "presets": "preset", "rules": "rule", "groups": "group", "routes": "route"}

// parts answers to the operations that all kinds share.
func (s *Server) parts(g *echo.Group) {
	for list, kind := range lists {
		g.GET("/"+list, func(c *echo.Context) error {
			limit := 1000
			if n, err := strconv.Atoi(c.QueryParam("limit")); err == nil {
				limit = n
			}
			page, err := s.hub.Parts(c.Request().Context(), actor(c.Request().Context()), kind, c.QueryParam("after"), limit)
			if err != nil {
				return err
			}
			return c.JSON(http.StatusOK, page)
		})
		g.POST("/"+list, s.keeps(http.StatusCreated, func(ctx context.Context, _ string, body []byte, _ *string) (hub.Shown, error) {
			return s.hub.KeepPart(ctx, actor(ctx), kind, "", body, saves(nil))
		}))
		g.GET("/"+list+"/:id", s.keeps(http.StatusOK, func(ctx context.Context, id string, _ []byte, _ *string) (hub.Shown, error) {
			return s.hub.Part(ctx, actor(ctx), kind, id)
		}))
		g.PUT("/"+list+"/:id", s.keeps(http.StatusOK, func(ctx context.Context, id string, body []byte, match *string) (hub.Shown, error) {
			return s.hub.KeepPart(ctx, actor(ctx), kind, id, body, puts(match))
		}))
		g.PATCH("/"+list+"/:id", s.keeps(http.StatusOK, func(ctx context.Context, id string, body []byte, match *string) (hub.Shown, error) {
			return s.hub.PatchPart(ctx, actor(ctx), kind, id, body, func(before any) error { return unchanged(match, before) })
		}))
		g.DELETE("/"+list+"/:id", func(c *echo.Context) error {
			ctx := c.Request().Context()
			err := s.hub.DropPart(ctx, actor(ctx), kind, c.Param("id"), func(before any) error { return unchanged(matching(c), before) })
			if err != nil {
				return err
			}
			return c.NoContent(http.StatusNoContent)
		})
	}
}

// keeps answers with one part and its ETag.
func (s *Server) keeps(status int, f func(ctx context.Context, id string, body []byte, match *string) (hub.Shown, error)) echo.HandlerFunc {
	return func(c *echo.Context) error {
		body, err := io.ReadAll(c.Request().Body)
		if err != nil {
			return invalid(err)
		}
		x, err := f(c.Request().Context(), c.Param("id"), body, matching(c))
		if err != nil {
			return err
		}
		c.Response().Header().Set("ETag", `"`+x.Version+`"`)
		return c.JSON(status, x)
	}
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
