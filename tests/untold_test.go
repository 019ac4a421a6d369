package tests

import (
	"encoding/json"
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/client"
	"idleember/core/site"
	"idleember/tests/rig"
)

// told is what came over a webhook, as What: Name, also of what came in one.
func (w *webhook) told() (out []string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, b := range w.bodies {
		var x struct {
			Data struct {
				What, Name string
				Others     []struct{ What, Name string }
			}
		}
		if json.Unmarshal([]byte(b), &x) != nil {
			continue
		}
		out = append(out, x.Data.What+": "+x.Data.Name)
		for _, o := range x.Data.Others {
			out = append(out, o.What+": "+o.Name)
		}
	}
	return out
}

// What is told in one moment, and what has the id of something that was taken away, comes all the same.
func TestNoMessageStandsInForAnother(t *testing.T) {
	t.Parallel()
	r, l, say := hotKiln(t)
	w := newWebhook(t)
	require.NoError(t, saveRoute(r, site.Route{ID: "log", Via: "webhook", To: w.URL, Inside: true}))
	_, err := r.Owner.SaveRuleWithResponse(t.Context(), nil, site.Rule{ID: "say", Name: "Say", Stages: []site.Stage{{When: "kiln.chamber > 500", Actions: []site.Action{
		{Kind: site.DoMessage, ID: "kiln", Text: "one"}, {Kind: site.DoMessage, ID: "kiln", Text: "two"}, {Kind: site.DoMessage, ID: "kiln", Text: "three"}}}}})
	require.NoError(t, err)
	say("600")
	r.Soon("the alert, and the rule's three", func() bool { return len(w.told()) == 4 })
	assert.ElementsMatch(t, []string{"raised: Too hot", "message: one", "message: two", "message: three"}, w.told())

	var links []string
	for i := range 2 {
		_, err := r.Owner.RemoveAlertWithResponse(t.Context(), "hot")
		require.NoError(t, err)
		require.NoError(t, saveRoute(r, site.Route{ID: "mo", Via: "mail", To: "mo@studio.example", Person: "mo"}))
		say("20")
		saveAlert(r, site.Alert{ID: "hot", Name: "Too hot", Kind: site.AlertAbove, Of: "kiln.chamber", Limit: 100})
		say("150")
		r.Soon("it is told", func() bool { return len(w.told()) == 5+i && len(l.mails()) == 1+i })
		links = append(links, letterLink.FindStringSubmatch(l.mails()[i].text)[1])
	}
	body, _ := json.Marshal(map[string]string{"link": links[0]})
	status, got := rig.JSON(t, http.DefaultClient, "POST", r.URL()+"/api/v1/letters/acknowledge", string(body))
	assert.Equal(t, 400, status, got)
	assert.Equal(t, []string{"hot active"}, alerts(r, r.Owner), "its message was about the one before")
	d, err := r.Owner.ListDeliveriesWithResponse(t.Context(), &client.ListDeliveriesParams{})
	require.NoError(t, err)
	ids := map[string]bool{}
	for _, x := range *d.JSON200 {
		assert.False(t, ids[x.Message], "%s twice", x.Message)
		ids[x.Message] = true
	}
}
