package api

import (
	"bufio"
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	mathrand "math/rand/v2"
	"net/http"
	"sync"
	"time"

	"github.com/labstack/echo/v5"

	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/core/fault"
	"idleember/core/words"
	"idleember/live"
)

// signOfLife is how often a quiet stream tells the hub's time, so that a page notices a lost connection.
const signOfLife = 10 * time.Second

// gathers is for how long a reader of values waits for more of them. With many readers it is longer: a small computer
// has more to do than telling all of them of each value; and not for all the same, or it had to tell all at once.
func (s *Server) gathers() time.Duration {
	const least, most, few = 40 * time.Millisecond, 400 * time.Millisecond, 40
	readers := s.hub.Readers()
	if readers <= few { // all at the same moments, so that they tell the same, which is written as JSON once
		wait := least
		if readers > few/4 {
			wait = 2 * least
		}
		return wait - time.Duration(time.Now().UnixNano())%wait
	}
	wait := min(time.Duration(readers)*2*time.Millisecond, most)
	return wait/2 + mathrand.N(wait)
}

// stream is a response that lasts. It implements the contract's response type.
type stream struct {
	s          *Server
	ctx        context.Context
	pass       string
	lastID     string
	values     bool // many routine changes in one event
	credential func() (access.Actor, bool)
}

// VisitGetLiveResponse writes events until the reader leaves, its right ends, or the hub stops. Long, because it is
// one loop with what it sends.
func (x stream) VisitGetLiveResponse(w http.ResponseWriter) error {
	rc := http.NewResponseController(w)
	watch := x.s.hub.Watch(x.lastID, x.credential)
	defer watch.Close()
	name, ok := x.s.streams.add(watch, x.pass)
	if !ok {
		return echo.NewHTTPError(http.StatusTooManyRequests,
			fmt.Sprintf("%d live streams are open with this session or token; close some pages", mostStreams))
	}
	defer x.s.streams.remove(name)
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("X-Accel-Buffering", "no")
	w.WriteHeader(http.StatusOK)
	_ = rc.SetReadDeadline(time.Time{})
	out := bufio.NewWriterSize(w, 32<<10) // what is told at once goes out at once
	flush := func() bool { return out.Flush() == nil && rc.Flush() == nil }
	var b []byte
	routine := [][]byte{[]byte("[")}
	// sendText writes what is JSON already, so that many readers of the same cost little each.
	sendText := func(id, kind string, text ...[]byte) error {
		if b = b[:0]; cap(b) > 64<<10 { // a snapshot was in it
			b = nil
		}
		if id != "" {
			b = append(append(append(b, "id: "...), id...), '\n')
		}
		b = append(append(append(b, "event: "...), kind...), "\ndata: "...)
		for _, t := range text {
			b = append(b, t...)
		}
		_, err := out.Write(append(b, "\n\n"...))
		return err
	}
	send := func(id, kind string, data any) error {
		text, err := json.Marshal(data)
		if err != nil {
			return err
		}
		return sendText(id, kind, text)
	}
	tick := time.NewTicker(signOfLife)
	defer tick.Stop()
	if _, err := fmt.Fprint(out, "retry: 2000\n\n"); err != nil {
		return nil
	}
	if send("", "stream", map[string]string{"id": name}) != nil {
		return nil
	}
	for {
		events, last, reset, ok, changed := watch.NextFew()
		if !ok {
			return nil
		}
		if reset {
			actor, _ := x.credential()
			snap, err := x.s.hub.Now(x.ctx, actor)
			if err != nil {
				return nil
			}
			if send(watch.ID(last), "reset", shown.In(snap, x.reader(), x.s.hub.Time())) != nil {
				return nil
			}
		}
		if ids := watch.Late(); len(ids) > 0 {
			actor, _ := x.credential()
			late, err := x.s.hub.SignalsNow(x.ctx, actor, ids)
			if err != nil {
				return nil
			}
			for _, v := range late {
				if send("", "signal", shown.In(v, x.reader(), x.s.hub.Time())) != nil {
					return nil
				}
			}
		}
		reader := words.English
		if len(events) > 0 {
			reader = x.reader()
		}
		for i, e := range events {
			if x.values && e.Routine {
				if routine = append(routine, e.Short()); i < len(events)-1 && events[i+1].Routine {
					routine = append(routine, []byte(","))
					continue
				}
				if sendText(watch.ID(e.Seq), "values", append(routine, []byte("]"))...) != nil {
					return nil
				}
				routine = routine[:1]
				continue
			}
			if sendText(watch.ID(e.Seq), e.Kind, e.Data(reader)) != nil {
				return nil
			}
		}
		if !flush() {
			return nil
		}
		select {
		case <-changed:
			select { // what comes in the same moment comes together
			case <-time.After(x.s.gathers()):
			case <-x.ctx.Done():
				return nil
			}
		case <-watch.Poked():
		case <-tick.C:
			if send("", "hub", x.s.hub.Status()) != nil || !flush() {
				return nil
			}
		case <-x.ctx.Done():
			return nil
		case <-x.s.quit:
			return nil
		}
	}
}

// reader is how whoever looks on reads now.
func (x stream) reader() words.Reader {
	actor, _ := x.credential()
	return x.s.reader(x.ctx, actor)
}

// streams are the open live streams by their names, so that a page can say what it shows now without beginning anew.
type streams struct {
	mu  sync.Mutex
	all map[string]openStream
}

// mostStreams is how many a session, a token or a wall may have open: one for each page.
const mostStreams = 32

type openStream struct {
	watch *live.Watch
	pass  string
}

// add enters a stream, unless its pass has too many; then ok is false.
func (x *streams) add(w *live.Watch, pass string) (name string, ok bool) {
	x.mu.Lock()
	defer x.mu.Unlock()
	n := 0
	for _, s := range x.all {
		if s.pass == pass {
			n++
		}
	}
	if n >= mostStreams {
		return "", false
	}
	if x.all == nil {
		x.all = map[string]openStream{}
	}
	name = rand.Text()
	x.all[name] = openStream{w, pass}
	return name, true
}

func (x *streams) remove(name string) {
	x.mu.Lock()
	defer x.mu.Unlock()
	delete(x.all, name)
}

func (x *streams) get(name, pass string) (*live.Watch, bool) {
	x.mu.Lock()
	defer x.mu.Unlock()
	s, ok := x.all[name]
	return s.watch, ok && s.pass == pass
}

func (h *handlers) NarrowLive(ctx context.Context, r NarrowLiveRequestObject) (NarrowLiveResponseObject, error) {
	w, ok := h.s.streams.get(r.Stream, actor(ctx).Pass)
	if !ok {
		return nil, fault.NotFound("live stream", r.Stream)
	}
	if r.Body.Only == nil {
		w.Only(nil)
	} else {
		w.Only(append([]string{}, *r.Body.Only...))
	}
	return NarrowLive204Response{}, nil
}
