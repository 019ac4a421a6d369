package api

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"time"

	"idleember/core/access"
)

// signOfLife is how often a quiet stream tells the hub's time, so that a page notices a lost connection.
const signOfLife = 10 * time.Second

// stream is a response that lasts. It implements the contract's response type.
type stream struct {
	s          *Server
	ctx        context.Context
	lastID     string
	credential func() (access.Actor, bool)
}

// VisitGetLiveResponse writes events until the reader leaves, its right ends, or the hub stops.
func (x stream) VisitGetLiveResponse(w http.ResponseWriter) error {
	rc := http.NewResponseController(w)
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("X-Accel-Buffering", "no")
	w.WriteHeader(http.StatusOK)
	_ = rc.SetReadDeadline(time.Time{})
	watch := x.s.hub.Watch(x.lastID, x.credential)
	send := func(id, kind string, data any) error {
		b, err := json.Marshal(data)
		if err != nil {
			return err
		}
		_ = rc.SetWriteDeadline(time.Now().Add(20 * time.Second)) // a reader that is stuck is let go
		if id != "" {
			id = "id: " + id + "\n"
		}
		_, err = fmt.Fprintf(w, "%sevent: %s\ndata: %s\n\n", id, kind, b)
		return err
	}
	tick := time.NewTicker(signOfLife)
	defer tick.Stop()
	if _, err := fmt.Fprint(w, "retry: 2000\n\n"); err != nil {
		return nil
	}
	for {
		events, last, reset, ok, changed := watch.Next()
		if !ok {
			return nil
		}
		if reset {
			actor, _ := x.credential()
			snap, err := x.s.hub.Now(x.ctx, actor)
			if err != nil {
				return nil
			}
			if send(watch.ID(last), "reset", snapshot(snap)) != nil {
				return nil
			}
		}
		for _, e := range events {
			if send(watch.ID(e.Seq), e.Kind, e.Data) != nil {
				return nil
			}
		}
		if rc.Flush() != nil {
			return nil
		}
		select {
		case <-changed:
		case <-tick.C:
			if send("", "hub", status(x.s.hub.Status())) != nil || rc.Flush() != nil {
				return nil
			}
		case <-x.ctx.Done():
			return nil
		case <-x.s.quit:
			return nil
		}
	}
}
