package tests

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/client"
	"idleember/contract/shown"
	"idleember/tests/rig"
)

// A stream that a page narrowed tells the values of what the page shows, of the rest only that their state changed;
// what the page shows next is told as it is by then.
func TestALiveStreamIsForWhatThePageShows(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Device("kiln")
	send := func(a, b float64) { r.Pub("kiln", key, "ember/kiln/r", fmt.Sprintf(`{"chamber":%g,"power":%g}`, a, b)) }
	send(1, 1)
	r.Soon("signals", func() bool { return len(r.Now().Signals) == 2 })

	var mu sync.Mutex
	got := map[string][]any{}
	stream := ""
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	go func() {
		_ = r.Owner.LiveFrom(ctx, "", func(e client.Event) error {
			mu.Lock()
			defer mu.Unlock()
			var of struct{ ID string }
			var x shown.Signal
			switch e.Kind {
			case "stream":
				_ = json.Unmarshal(e.Data, &of)
				stream = of.ID
			case "signal":
				_ = json.Unmarshal(e.Data, &x)
				got[x.Config.ID] = append(got[x.Config.ID], rig.Plain(x.State.Value))
			}
			return nil
		})
	}()
	seen := func(id string, v float64) func() bool {
		return func() bool {
			mu.Lock()
			defer mu.Unlock()
			list := got[id]
			return len(list) > 0 && list[len(list)-1] == v
		}
	}
	narrow := func(ids ...string) {
		_, err := r.Owner.NarrowLiveWithResponse(t.Context(), stream, client.NarrowLiveJSONRequestBody{Only: &ids})
		require.NoError(t, err)
	}
	r.Soon("its name", func() bool { mu.Lock(); defer mu.Unlock(); return stream != "" })
	send(2, 2)
	r.Soon("everything at first", func() bool { return seen("kiln.chamber", 2)() && seen("kiln.power", 2)() })
	narrow("kiln.chamber")
	send(3, 3)
	send(4, 4)
	r.Soon("what is shown", seen("kiln.chamber", 4))
	assert.True(t, seen("kiln.power", 2)(), "and nothing of the other")
	narrow("kiln.power")
	r.Soon("as it is by now", seen("kiln.power", 4))
	stranger := r.Member("kim", "member")
	_, err := stranger.NarrowLiveWithResponse(t.Context(), stream, client.NarrowLiveJSONRequestBody{})
	assert.ErrorContains(t, err, "live stream", "another's stream is none of one's own")
	_, err = r.Owner.NarrowLiveWithResponse(t.Context(), stream, client.NarrowLiveJSONRequestBody{})
	require.NoError(t, err)
	send(5, 5)
	r.Soon("everything again", func() bool { return seen("kiln.chamber", 5)() && seen("kiln.power", 5)() })
}

// Many new values come as one event that holds nothing else; what else changed comes as before.
func TestNewValuesComeTogether(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Device("kiln")
	r.Pub("kiln", key, "ember/kiln/r", `{"chamber":1,"power":1}`)
	r.Soon("signals", func() bool { return len(r.Now().Signals) == 2 })
	yes := true
	resp, err := r.Owner.GetLive(t.Context(), &client.GetLiveParams{Values: &yes})
	require.NoError(t, err)
	defer func() { _ = resp.Body.Close() }()
	lines := bufio.NewScanner(resp.Body)
	lines.Buffer(nil, 1<<20)
	next := func(kind string) string {
		for lines.Scan() {
			if lines.Text() == "event: "+kind {
				lines.Scan()
				return strings.TrimPrefix(lines.Text(), "data: ")
			}
		}
		return ""
	}
	require.NotEmpty(t, next("reset"))
	r.Pub("kiln", key, "ember/kiln/r", `{"chamber":2,"power":2}`) // after which the page knows all that is not new
	r.Soon("stored", func() bool { return fmt.Sprint(r.Now().Signals[0].State.Value) != "1" })
	time.Sleep(200 * time.Millisecond)
	r.Pub("kiln", key, "ember/kiln/r", `{"chamber":2.5,"power":3}`)
	data := ""
	var list []struct {
		ID    string
		Value float64
	}
	for len(list) == 0 || list[0].Value != 2.5 {
		data, list = next("values"), nil
		require.NotEmpty(t, data)
		require.NoError(t, json.Unmarshal([]byte(data), &list))
	}
	require.Len(t, list, 2, "both in one")
	assert.Equal(t, []any{"kiln.chamber", 2.5, "kiln.power", 3.0}, []any{list[0].ID, list[0].Value, list[1].ID,
		list[1].Value})
	assert.NotContains(t, data, "calibration")
}
