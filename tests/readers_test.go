package tests

import (
	"context"
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/client"
	"idleember/contract/shown"
	"idleember/core/engine"
	"idleember/core/site"
	"idleember/tests/rig"
)

// Two look on at once, and each hears why in their own units and with their own decimal mark, also after a change of
// mind and a restart. What is written down stays in the hub's words.
func TestEachHearsInTheirOwnWay(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	board := r.Connect("kiln", r.Device("kiln"), "board")
	board.Publish("ember/kiln/r/temperature", 1, false, "20.5").Wait()
	r.AddControl("kiln", "fan", client.Source{}, client.Target{})
	decide(r, "kiln.fan", site.Automation{Demands: []site.Demand{{Kind: engine.HoldBelow, Of: "kiln.temperature",
		Target: "18"}}})
	kim := r.Member("kim", client.RoleMember)
	likes := func(p client.Preferences) {
		_, err := kim.SavePreferencesWithResponse(t.Context(), p)
		require.NoError(t, err)
	}
	why := func(c *client.Remote) string {
		got, err := c.WhyControlWithResponse(t.Context(), "kiln.fan")
		require.NoError(t, err)
		return got.JSON200.Reason.String()
	}
	says := func(c *client.Remote, words string) bool { return strings.Contains(why(c), words) }
	hears := func(c *client.Remote) func(words string) bool {
		ctx, stop := context.WithTimeout(t.Context(), 30*time.Second)
		t.Cleanup(stop)
		heard := make(chan string, 100)
		go func() {
			_ = c.Live(ctx, func(e client.Event) error {
				var x shown.Control
				if e.Kind == "control" && json.Unmarshal(e.Data, &x) == nil {
					heard <- x.State.Reason.String()
				}
				return nil
			}, func(error) {})
		}()
		return func(words string) bool {
			select {
			case x := <-heard:
				return strings.Contains(x, words)
			default:
				return false
			}
		}
	}
	likes(client.Preferences{Units: "customary", Comma: true})
	assert.True(t, says(kim, "68,9 °F"), why(kim))
	assert.True(t, says(r.Owner, "20.5 °C"), why(r.Owner))
	kims, owners := hears(kim), hears(r.Owner)
	r.Soon("both look on", func() bool { return r.Service.Hub.Readers() == 2 })
	board.Publish("ember/kiln/r/temperature", 1, false, "10").Wait()
	r.Soon("one in °F", func() bool { return kims("50 °F") })
	r.Soon("one in °C", func() bool { return owners("10 °C") })
	likes(client.Preferences{})
	assert.True(t, says(kim, "10 °C"), why(kim))
	likes(client.Preferences{Units: "customary"})
	for _, line := range r.Journal("kiln.fan") {
		assert.NotContains(t, line, "°F")
	}
	r.Restart()
	kim = r.Client()
	r.SignIn(kim, "kim")
	r.Soon("after a restart", func() bool { return says(kim, "°F") })
}
