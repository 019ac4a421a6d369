package api

import (
	"bytes"
	"context"
	"fmt"
	"log/slog"
	"net/http"
	"strconv"
	"strings"

	"github.com/labstack/echo/v5"

	"idleember/core/access"
	"idleember/core/fault"
	"idleember/hub"
)

// ready answers programs that watch over others: 200 where the hub does all that it should, else 503 and why.
func (s *Server) ready(c *echo.Context) error {
	if err := s.hub.Ready(); err != nil {
		return c.String(http.StatusServiceUnavailable, err.Error()+"\n")
	}
	return c.String(http.StatusOK, "ready\n")
}

const openMetrics = "application/openmetrics-text; version=1.0.0; charset=utf-8"

// metrics tells what the hub knows of itself in the text format of OpenMetrics 1.0, to whoever may read the journal.
func (s *Server) metrics(c *echo.Context) error {
	actor, err := s.people.Who(credential(c.Request()), address(c.Request()))
	if err == nil {
		err = access.May(actor, access.Audit, access.Anything)
	}
	if err != nil {
		return err
	}
	var b bytes.Buffer
	for _, m := range s.hub.Measures(c.Request().Context()) {
		name, kind, sample := "ember_"+m.Name, "gauge", ""
		unit := map[string]string{"s": "seconds", "By": "bytes", "%": "percent"}[m.Unit]
		if unit != "" && !strings.HasSuffix(name, "_"+unit) {
			name += "_" + unit
		}
		if m.Total {
			kind, sample = "counter", "_total"
		}
		_, _ = fmt.Fprintf(&b, "# TYPE %s %s\n", name, kind)
		if unit != "" {
			_, _ = fmt.Fprintf(&b, "# UNIT %s %s\n", name, unit)
		}
		_, _ = fmt.Fprintf(&b, "# HELP %s %s\n%s%s %s\n", name, m.Help, name, sample, strconv.FormatFloat(m.Value, 'g', -1,
			64))
	}
	_, _ = fmt.Fprintf(&b, "# TYPE ember info\n# HELP ember The program.\nember_info{version=%q} 1\n# EOF\n",
		s.hub.Status().Version)
	return c.Blob(http.StatusOK, openMetrics, b.Bytes())
}

func (h *handlers) GetClock(ctx context.Context, _ GetClockRequestObject) (GetClockResponseObject, error) {
	now, err := h.s.hub.ClockNow(ctx)
	return GetClock200JSONResponse(clockView(now)), err
}

func (h *handlers) TrustClock(ctx context.Context, _ TrustClockRequestObject) (TrustClockResponseObject, error) {
	now, err := h.s.hub.TrustClock(ctx, actor(ctx))
	return TrustClock200JSONResponse(clockView(now)), err
}

func clockView(x hub.ClockNow) Clock {
	return Clock{Time: x.Time, Shows: x.Shows, Zone: x.Zone, Doubt: x.Doubt}
}

func (h *handlers) GetLog(context.Context, GetLogRequestObject) (GetLogResponseObject, error) {
	if h.s.o.Level == nil {
		return nil, fault.NotFound("log of this hub", "log")
	}
	return GetLog200JSONResponse{Level: LogLevel(strings.ToLower(h.s.o.Level.Level().String()))}, nil
}

func (h *handlers) SetLog(ctx context.Context, r SetLogRequestObject) (SetLogResponseObject, error) {
	var level slog.Level
	if h.s.o.Level == nil {
		return nil, fault.Invalid("level", "this hub does not log")
	}
	if err := level.UnmarshalText([]byte(r.Body.Level)); err != nil {
		return nil, fault.Invalid("level", "%v", err)
	}
	before := h.s.o.Level.Level()
	h.s.o.Level.Set(level)
	h.s.hub.Record(actor(ctx), "change", "hub.log", strings.ToLower(before.String()), strings.ToLower(level.String()), "")
	return SetLog200JSONResponse{Level: r.Body.Level}, nil
}
