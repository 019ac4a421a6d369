package words

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var noon = time.Date(2026, 3, 2, 12, 0, 0, 0, time.UTC)

func TestAFactComesBackAsItWasKept(t *testing.T) {
	f := All(Of("hand.until", "What", Of("hand.switched", "To", Of("on"), "By", "Kim"), "Until", noon),
		Of("hand.starts", "N", 3, "Most", Quantity{Num: 2}),
		Of("state.hand_left", "Is", Amount(Quantity{Num: 40.5, Unit: "%", Decimals: Short}), "Left", Left),
		Of("all", "All", Row{Said("a"), Said("b")}), Of("all", "All", Run{Said("c"), Said("d")}),
		Of("say.rising", "What", Of("on"), "By", Quantity{Num: 5, Unit: "Cel", Apart: true}),
		Of("for.both", "Hours", 90*time.Minute, "Minutes", time.Second))
	b, err := json.Marshal(f)
	require.NoError(t, err)
	var back Fact
	require.NoError(t, json.Unmarshal(b, &back))
	assert.True(t, f.Equal(back), "%s", b)
	assert.True(t, back.Has(Of("hand.switched", "To", Of("on"), "By", "Kim")))
	assert.False(t, back.Has(Of("hand.switched", "To", Of("on"), "By", "Mo")))
	assert.Equal(t, "switched on by Kim until 12:00; mind: it was started 3 times within an hour, 2 are allowed; 40.5 %, "+
		"by hand for {left} more; a, b; cd; on, rising 5 °C an hour; 1 h 30 min 1 s", English.Say(back, noon))
	for text, want := range map[string]string{`"as it was said"`: "as it was said", `""`: "",
		`{"code":"of.tomorrow","with":[{"name":"A","text":"b"}]}`: "of.tomorrow"} {
		require.NoError(t, json.Unmarshal([]byte(text), &back))
		assert.Equal(t, want, back.String())
	}
	b, err = json.Marshal(struct {
		A, B, C Text
	}{TextOf(f), TextOf(Of("on")).In(English, noon), Text{}})
	require.NoError(t, err)
	assert.Contains(t, string(b), `"B":"on","C":""}`)
}

func TestEachReadsInTheirOwnWay(t *testing.T) {
	warm := Quantity{Num: 20.5, Unit: "Cel", Decimals: 1}
	for want, r := range map[string]Reader{"20.5 °C": {}, "20,5 °C": {Comma: true}, "68.9 °F": {Units: Customary},
		"68,9 °F": {Units: Customary, Comma: true}} {
		assert.Equal(t, want, r.Quantity(warm))
	}
	assert.Equal(t, "9 °F", Reader{Units: Customary}.Quantity(Quantity{Num: 5, Unit: "Cel", Decimals: -1, Apart: true}))
	assert.Equal(t, "0.00 inHg", Reader{Units: Customary}.Quantity(Quantity{Num: -0.01, Unit: "hPa"}))
	vienna := Reader{Zone: "Europe/Vienna", Clock12: true}
	for want, at := range map[string]time.Time{"1:05 pm": noon.Add(5 * time.Minute), "Sun 1:00 pm": noon.AddDate(0, 0, -1),
		"2026-02-02 1:00 pm": noon.AddDate(0, -1, 0)} {
		assert.Equal(t, want, vienna.Time(at, noon))
	}
	for want, d := range map[string]time.Duration{"0 s": -time.Second, "1 s": time.Second, "1 min": 90 * time.Second,
		"1 h": time.Hour, "2 h 10 min": 130 * time.Minute, "47 h": 47 * time.Hour, "2 days": 60 * time.Hour} {
		assert.Equal(t, want, Duration(d))
	}
	since := noon.Add(-12 * time.Minute)
	assert.Equal(t, "on for 12 min, {left}", English.Fill("on for {age}, {left}", &since, nil, noon))
}
