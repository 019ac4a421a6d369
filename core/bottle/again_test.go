package bottle

import (
	"encoding/json"
	"os"
	"regexp"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/core/control"
	"idleember/core/engine"
	"idleember/core/site"
)

// A site that is put in force again as it is decides nothing anew: what an input changed was decided with it, and what
// is built anew goes on as it was.
func TestTheSameSiteDecidesNothingNew(t *testing.T) {
	first, last := uint64(1), uint64(20)
	if n, err := strconv.ParseUint(os.Getenv("SEED"), 10, 64); err == nil {
		first, last = n, n
	}
	for seed := first; seed <= last; seed++ {
		shown := map[string]string{}
		same := true
		hear := func(_ time.Duration, effects []engine.Effect) {
			for _, x := range effects {
				if c, ok := x.(engine.ControlChanged); ok {
					shown[c.State.ID] = decided(t, c.State)
				}
			}
		}
		happen(withoutMeans(t, NewPlan(seed, 5*time.Hour, 12, 6)), listener{effects: hear, looks: func(w *world) {
			if wake, ok := w.hub.wake(); !same || w.now == 0 || ok && wake <= w.now+time.Millisecond { // it has still to decide
				return
			}
			for _, x := range w.hub.engine.Apply(w.hub.time(), engine.SiteChanged{Site: w.hub.site}) {
				switch x := x.(type) {
				case engine.ControlChanged:
					if is := decided(t, x.State); !regulated(w.hub.site, x.State.ID) {
						same = same && assert.Equal(t, shown[x.State.ID], is, "seed %d, %s of %s", seed, clock(w.now), x.State.ID)
						shown[x.State.ID] = is
					}
				case engine.Want:
					same = same && assert.True(t, regulated(w.hub.site, x.Control), "seed %d, %s: %+v", seed, clock(w.now), x)
				case engine.Withdrawn, engine.Message, engine.AlertChanged, engine.SettingChanged:
					same = same && assert.Fail(t, "something new", "seed %d, %s: %T %+v", seed, clock(w.now), x, x)
				}
			}
		}})
	}
}

// decided is what of a control's state must not change by itself.
func decided(t *testing.T, s engine.ControlState) string {
	// why it was switched is told at the moment; looked at again it may have to rest
	s.Demands, s.Limit = nil, control.NoLimit
	return lines(t, worth(s))
}

// regulated reports whether a control follows its signals whenever it is looked at, and not only at each reading.
func regulated(s *site.Site, id string) bool {
	if a := s.Automations[id]; a != nil {
		for _, d := range a.Demands {
			if d.Kind == engine.Regulate {
				return true
			}
		}
	}
	return false
}

// withoutMeans is a plan whose formulas do not look back: what does may have another value whenever it is looked at.
func withoutMeans(t *testing.T, p *Plan) *Plan {
	text, err := json.Marshal(p)
	require.NoError(t, err)
	text = regexp.MustCompile(`mean\(([^,]+), \\"[^)]*\)`).ReplaceAll(text, []byte("$1"))
	var out Plan
	require.NoError(t, json.Unmarshal(text, &out))
	return &out
}
