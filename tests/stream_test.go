package tests

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/client"
	"idleember/contract/shown"
	"idleember/tests/rig"
)

// stream collects live events.
type stream struct {
	t      testing.TB
	mu     sync.Mutex
	events []client.Event
	end    chan struct{}
	cancel context.CancelFunc
}

func watch(t testing.TB, c *client.Remote) *stream {
	ctx, cancel := context.WithCancel(context.Background())
	s := &stream{t: t, end: make(chan struct{}), cancel: cancel}
	t.Cleanup(cancel)
	go func() {
		defer close(s.end)
		_ = c.Live(ctx, func(e client.Event) error {
			s.mu.Lock()
			defer s.mu.Unlock()
			s.events = append(s.events, e)
			return nil
		}, nil)
	}()
	s.until("reset", "")
	return s
}

func (s *stream) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	var b strings.Builder
	for _, e := range s.events {
		b.WriteString(e.Kind + " " + string(e.Data) + "\n")
	}
	return b.String()
}

func (s *stream) find(kind, text string) (client.Event, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, e := range s.events {
		if e.Kind == kind && strings.Contains(string(e.Data), text) {
			return e, true
		}
	}
	return client.Event{}, false
}

func (s *stream) until(kind, text string) client.Event {
	s.t.Helper()
	rig.Soon(s.t, "event "+kind+" with "+text, func() bool { _, ok := s.find(kind, text); return ok })
	e, _ := s.find(kind, text)
	return e
}

func (s *stream) ended() {
	s.t.Helper()
	rig.Soon(s.t, "the stream's end", func() bool {
		select {
		case <-s.end:
			return true
		default:
			return false
		}
	})
}

// once reads events from a single connection, until one of the kind came.
func once(t *testing.T, c *client.Remote, last, kind string) (out []client.Event) {
	ctx, cancel := context.WithTimeout(t.Context(), 10e9)
	defer cancel()
	done := errors.New("done")
	err := c.LiveFrom(ctx, last, func(e client.Event) error {
		if e.Kind != "stream" {
			out = append(out, e)
		}
		if e.Kind == kind {
			return done
		}
		return nil
	})
	require.ErrorIs(t, err, done)
	return out
}

func TestLiveResumesWhereItBroke(t *testing.T) {
	r := rig.New(t)
	key := r.Device("kiln")
	r.Pub("kiln", key, "ember/kiln/r/chamber", "1")
	s := watch(t, r.Owner)
	r.Pub("kiln", key, "ember/kiln/r/chamber", "2")
	last := s.until("signal", `"value":2`)
	s.cancel()
	r.Pub("kiln", key, "ember/kiln/r/chamber", "3")
	r.Pub("kiln", key, "ember/kiln/r/chamber", "4")
	r.Pub("kiln", key, "ember/kiln/is/fan", "off")
	var values []any
	for _, e := range once(t, r.Owner, last.ID, "control") {
		assert.NotEqual(t, "reset", e.Kind, "nothing was missed, so no snapshot is needed")
		if e.Kind == "signal" {
			var x shown.Signal
			require.NoError(t, json.Unmarshal(e.Data, &x))
			values = append(values, rig.Plain(x.State.Value))
		}
	}
	assert.Equal(t, []any{3.0, 4.0}, values)
	for _, unknown := range []string{"", "other-5", "nonsense", last.ID[:strings.Index(last.ID, "-")] + "-99999999"} {
		e := once(t, r.Owner, unknown, "reset")
		var snap client.Snapshot
		require.NoError(t, json.Unmarshal(e[0].Data, &snap))
		assert.Equal(t, 4.0, rig.Plain(snap.Signals[0].State.Value))
	}
}

func TestSlowReaderStartsAfreshFromASnapshot(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Device("kiln")
	r.Pub("kiln", key, "ember/kiln/r/chamber", "0")
	first := once(t, r.Owner, "", "reset")[0]
	board := r.Paho("kiln", key, "kiln")
	for i := range 420 { // 20 signals each: more events than the ring holds
		var all []string
		for k := range 20 {
			all = append(all, fmt.Sprintf(`"n%d":%d`, k, i))
		}
		tok := board.Publish("ember/kiln/r", 1, false, "{"+strings.Join(all, ",")+"}")
		if i%20 == 19 {
			tok.Wait()
		}
	}
	rig.Soon(t, "the ring went round", func() bool {
		return once(t, r.Owner, first.ID, "reset")[0].Kind == "reset"
	})
}
