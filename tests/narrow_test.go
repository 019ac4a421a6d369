package tests

import (
	"context"
	"encoding/json"
	"fmt"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/client"
	"idleember/tests/rig"
)

// A stream that a page narrowed tells the values of what the page shows, of the rest only that their state changed; what the
// page shows next is told as it is by then.
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
			var x struct {
				ID    string `json:"id"`
				Value any    `json:"value"`
			}
			switch e.Kind {
			case "stream":
				_ = json.Unmarshal(e.Data, &x)
				stream = x.ID
			case "signal":
				_ = json.Unmarshal(e.Data, &x)
				got[x.ID] = append(got[x.ID], x.Value)
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
