package tests

import (
	"encoding/json"
	"path/filepath"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"idleember/client"
	"idleember/core/engine"
	"idleember/serve"
	"idleember/store"
	"idleember/tests/rig"
)

// The store takes no writes, because another program holds its lock: nothing is acknowledged, everybody is told, and
// what was decided meanwhile is written when it works again.
func TestStoreThatTakesNoWrites(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Device("kiln")
	board := newRelay(r, key)
	board.Publish("ember/kiln/is/fan", 1, false, "off").Wait()
	r.Switch("kiln.fan", true)
	r.Soon("on", func() bool { return phase(r) == "confirmed" })
	live := watch(t, r.Owner)

	db, err := sqlx.Open("sqlite", filepath.Join(r.Dir, store.File))
	require.NoError(t, err)
	db.SetMaxOpenConns(1)
	_, err = db.Exec(`BEGIN IMMEDIATE`)
	require.NoError(t, err)
	other := r.Paho("kiln", key, "other")
	tok := other.Publish("ember/kiln/r/chamber", 1, false, "412")
	answered := make(chan error, 1)
	go func() {
		_, err := r.Owner.SwitchControlWithResponse(t.Context(), "kiln.fan", nil,
			client.SwitchControlJSONRequestBody{To: false})
		answered <- err
	}()
	r.Soon("off does not wait for the disk", func() bool {
		board.mu.Lock()
		defer board.mu.Unlock()
		return board.got[len(board.got)-1] == "off"
	})
	assert.False(t, tok.WaitTimeout(time.Second), "not stored, so not acknowledged")
	var p *client.ProblemError
	require.ErrorAs(t, <-answered, &p)
	assert.Equal(t, 503, p.Status)
	assert.Contains(t, p.Detail, "does not take writes")
	live.until("hub", "does not take writes")
	assert.NotEmpty(t, r.Now().Hub.Trouble)
	r.Soon("the board is sent away to come back later", func() bool { return !other.IsConnected() })

	_, err = db.Exec(`ROLLBACK`)
	require.NoError(t, err)
	require.NoError(t, db.Close())
	r.Soon("it works again", func() bool {
		return r.Pub("kiln", key, "ember/kiln/r/chamber", "413") == "" && r.Now().Hub.Trouble == ""
	})
	r.Soon("what was decided is written", func() bool {
		r.Pub("kiln", key, "ember/kiln/r/chamber", "414")
		j := r.Journal("kiln.fan")
		return len(j) > 0 && j[0] == "mo switch on>off"
	})
	r.Restart()
	assert.False(t, rig.On(r.Control("kiln.fan").State.Want))
}

// What the hub recorded, given to a fresh engine, leads to the same states.
func TestRecordedInputsReplay(t *testing.T) {
	r := rig.New(t)
	key := r.Device("kiln")
	board := newRelay(r, key)
	board.Publish("ember/kiln/r", 1, false, `{"chamber":412,"lid":"shut"}`).Wait()
	board.Publish("ember/kiln/is/fan", 1, false, "off").Wait()
	for _, on := range []bool{true, false, true} {
		r.Switch("kiln.fan", on)
		r.Soon("confirmed", func() bool { return phase(r) == "confirmed" })
	}
	board.Publish("ember/kiln/is/fan", 1, false, "off").Wait()
	require.NoError(t, r.Service.Close())

	s, err := store.Open(t.Context(), r.Dir, store.Options{})
	require.NoError(t, err)
	tape, err := s.Inputs(t.Context(), time.Time{})
	require.NoError(t, err)
	kept, err := s.State(t.Context())
	require.NoError(t, err)
	require.NoError(t, s.Close())
	e := engine.New()
	n := 0
	for _, row := range tape {
		recorded, err := engine.Unpack(row)
		require.NoError(t, err)
		for _, x := range recorded {
			in, err := x.Input()
			require.NoError(t, err)
			e.Apply(x.Now, in)
			n++
		}
	}
	assert.Greater(t, n, 12)
	require.Len(t, kept.Controls, 1)
	got, ok := e.Control("kiln.fan")
	require.True(t, ok)
	kept.Controls[0].IsAt, got.IsAt = time.Time{}, time.Time{} // a report that changes nothing is not worth a write
	a, err := json.Marshal(kept.Controls[0])
	require.NoError(t, err)
	b, err := json.Marshal(got)
	require.NoError(t, err)
	assert.JSONEq(t, string(a), string(b))
	sig, _ := e.Signal("kiln.chamber")
	assert.Equal(t, 412.0, sig.Value.Num)
	r.Restart()
}

func TestNothingIsLeftRunningAfterClose(t *testing.T) {
	before := goleak.IgnoreCurrent()
	s, err := serve.Start(t.Context(), serve.Options{Data: t.TempDir(), HTTP: "127.0.0.1:0", MQTT: "127.0.0.1:0"})
	require.NoError(t, err)
	require.NoError(t, s.Close())
	goleak.VerifyNone(t, before)
}
