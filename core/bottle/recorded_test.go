package bottle

import (
	"encoding/json"
	"fmt"
	"hash/fnv"
	"os"
	"reflect"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"idleember/core/engine"
	"idleember/core/words"
)

// A day that was lived before is lived again to the letter: testdata/days.txt has a sum for each hour of some houses,
// over all that their hubs decided and told, but for the wording. It does not say what is right, as the oracle does; it
// says that a change that was not to change anything did. Where one was to, RECORD=1 writes the sums anew.
func TestDaysAreLivedAsRecorded(t *testing.T) {
	const houses, hours = 40, 6
	const file = "testdata/days.txt"
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	recorded := strings.Split(string(text), "\n")
	again := os.Getenv("RECORD") != ""
	var b strings.Builder
	for seed := uint64(1); seed <= houses; seed++ {
		line := fmt.Sprintf("house %d:", seed)
		for _, sum := range sums(seed, hours) {
			line += fmt.Sprintf(" %04x", sum&0xffff)
		}
		b.WriteString(line + "\n")
		if !again {
			require.Equal(t, recorded[seed-1], line, "SEED=%d OF=control go test ./core/bottle -run Seed -v tells what "+
				"happens there; RECORD=1 if it is meant", seed)
		}
	}
	if again {
		require.NoError(t, os.WriteFile(file, []byte(b.String()), 0o600))
	}
}

// sums are of all that the hub of a house decides, hour by hour.
func sums(seed uint64, hours int) []uint64 {
	p := NewPlan(seed, time.Duration(hours)*time.Hour, 12, 4)
	out := make([]uint64, hours)
	sum := fnv.New64a()
	coder := json.NewEncoder(sum)
	happen(p, listener{effects: func(at time.Duration, effects []engine.Effect) {
		for _, x := range effects {
			switch y := x.(type) {
			case *engine.Store, engine.Keep, engine.AlertChanged, engine.SignalChanged:
				continue
			case engine.ControlChanged:
				y.State.Reason, y.State.Demands, y.State.Pulse.Says = words.Fact{}, nil, words.Fact{}
				x = y
			case engine.Journal:
				y.Reason = words.Fact{}
				x = y
			case engine.Message:
				y.Text = words.Fact{}
				x = y
			case engine.AlertLearnt:
				y.Value = words.Fact{}
				x = y
			}
			_ = coder.Encode(x)
		}
		out[min(int(at/time.Hour), hours-1)] = sum.Sum64()
	}})
	return out
}

// What is kept of a control is what is so: a hub that is killed at any moment finds it all again.
func TestWhatIsKeptIsWhatIs(t *testing.T) {
	for seed := uint64(1); seed <= 30; seed++ {
		happen(NewPlan(seed, 5*time.Hour, 12, 6), listener{looks: func(w *world) {
			if w.hub.commits > 0 {
				return
			}
			for _, x := range w.oracle.order {
				id := x.id
				kept, ok := w.hub.disk.state[[2]string{"control", id}]
				if !ok || t.Failed() || !x.active {
					continue
				}
				is, _ := w.hub.engine.Control(id)
				if was := worth(kept.State.(engine.ControlChanged).State); !reflect.DeepEqual(was, worth(is)) {
					require.Equal(t, lines(t, was), lines(t, worth(is)), "seed %d, %s of %s", seed, clock(w.now), id)
				}
			}
		}})
	}
}

// worth is what of a control's state is worth a write.
func worth(s engine.ControlState) engine.ControlState {
	s.IsAt, s.Reason, s.Tries = time.Time{}, words.Fact{}, 0
	return s
}

func lines(t *testing.T, x any) string {
	text, err := json.MarshalIndent(x, "", " ")
	require.NoError(t, err)
	return string(text)
}
