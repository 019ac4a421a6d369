package mapping

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/core/reading"
	"idleember/core/site"
)

func TestValue(t *testing.T) {
	const nested = `{"StatusSNS":{"Time":"x","probe":[{"temp":21.45,"state":"OPEN"}],"a/b":{"m~n":7}},"relay":"ON"}`
	for _, tt := range []struct {
		name, payload string
		kind          site.ValueKind
		src           site.Source
		want          reading.Value
		why           string
	}{
		{name: "pointer", payload: nested, kind: site.Number, src: site.Source{Pointer: "/StatusSNS/probe/0/temp"},
			want: reading.Number(21.45)},
		{name: "escaped pointer", payload: nested, kind: site.Number, src: site.Source{Pointer: "/StatusSNS/a~1b/m~0n"},
			want: reading.Number(7)},
		{name: "words at a pointer", payload: nested, kind: site.OnOff, src: site.Source{Pointer: "/StatusSNS/probe/0/state",
			On: []string{"open"}, Off: []string{"shut"}}, want: reading.OnOff(true)},
		{name: "neither word", payload: nested, kind: site.OnOff, src: site.Source{Pointer: "/relay", On: []string{"1"},
			Off: []string{"0"}}, why: "is neither 1 nor 0"},
		{name: "only on is named", payload: "7", kind: site.OnOff, src: site.Source{On: []string{"1"}},
			want: reading.OnOff(false)},
		{name: "numbers as words", payload: " 1.0 ", kind: site.OnOff, src: site.Source{On: []string{"1"},
			Off: []string{"0"}}, want: reading.OnOff(true)},
		{name: "nothing there", payload: nested, kind: site.Number, src: site.Source{Pointer: "/x/y"},
			why: "nothing lies at /x/y"},
		{name: "an object there", payload: nested, kind: site.Number, src: site.Source{Pointer: "/StatusSNS"},
			why: "is no value"},
		{name: "no JSON", payload: "21.4 C", kind: site.Number, src: site.Source{Pointer: "/a"}, why: "no JSON"},
		{name: "named group", payload: "T: 21.40 C H: 60", kind: site.Number, src: site.Source{Pattern: `H: (?P<value>\d+)`},
			want: reading.Number(60)},
		{name: "first group", payload: "T: 21.40 C H: 60", kind: site.Number, src: site.Source{Pattern: `T: ([0-9.]+)`},
			want: reading.Number(21.4)},
		{name: "whole match", payload: "it is wet", kind: site.Text, src: site.Source{Pattern: `wet|dry`},
			want: reading.Text("wet")},
		{name: "no match", payload: "x", kind: site.Number, src: site.Source{Pattern: `\d+`}, why: "matches nothing"},
		{name: "column by name", payload: "time,rain\n1,0.1\n2,0.4\n", kind: site.Number, src: site.Source{Column: "rain"},
			want: reading.Number(0.4)},
		{name: "column by number", payload: "5 x\n", kind: site.Text, src: site.Source{Column: "1"},
			want: reading.Text("5 x")},
		{name: "no such column", payload: "a,b\n1,2\n", kind: site.Number, src: site.Source{Column: "c"}, why: "no column"},
		{name: "whole payload", payload: "21.4", kind: site.Number, src: site.Source{Topic: "x"}, want: reading.Number(21.4)},
		{name: "wrong kind", payload: "wet", kind: site.Number, src: site.Source{Topic: "x"}, why: "not a number"},
		{"decimal comma", "T=21,4 C", site.Number, site.Source{Pattern: `T=(\S+)`}, reading.Number(21.4), ""},
		{"decimal comma in JSON", `{"t":"-0,5"}`, site.Number, site.Source{Pointer: "/t"}, reading.Number(-0.5), ""},
		{"a comma that can be either", "T=1,250 C", site.Number, site.Source{Pattern: `T=(\S+)`}, reading.Value{},
			"1,250 can be 1.250 or 1250"},
		{"said to be decimal", "T=1,250 C", site.Number, site.Source{Pattern: `T=(\S+)`, Comma: site.DecimalComma},
			reading.Number(1.25), ""},
		{"said to be decimal, a point for thousands", "T=1.250 C", site.Number, site.Source{Pattern: `T=(\S+)`,
			Comma: site.DecimalComma}, reading.Number(1250), ""},
		{"said to be for thousands", "T=1,250 C", site.Number, site.Source{Pattern: `T=(\S+)`, Comma: site.ThousandsComma},
			reading.Number(1250), ""},
		{"plainly for thousands", "T=1,250.5 C", site.Number, site.Source{Pattern: `T=(\S+)`}, reading.Number(1250.5), ""},
		{"plainly with points for thousands", "T=1.250,5 C", site.Number, site.Source{Pattern: `T=(\S+)`},
			reading.Number(1250.5), ""},
		{"a text keeps its commas", "T=21,4 C", site.Text, site.Source{Pattern: `T=(\S+)`}, reading.Text("21,4"), ""},
		{"a page with semicolons", "\ufeffsep=;\n# made up\ntime;t\n1;20,5\n2;21,4\n", site.Number, site.Source{Column: "t"},
			reading.Number(21.4), ""},
		{"a page with tabs", "time\tt\n1\t20.5\n", site.Number, site.Source{Column: "t"}, reading.Number(20.5), ""},
	} {
		require.NoError(t, tt.src.Validate(), tt.name)
		e, err := compile(Entry{Kind: tt.kind, Source: tt.src})
		require.NoError(t, err)
		_, v, err := e.Value([]byte(tt.payload))
		if tt.why != "" {
			assert.ErrorContains(t, err, tt.why, tt.name)
			continue
		}
		require.NoError(t, err, tt.name)
		assert.Equal(t, tt.want, v, tt.name)
	}
}

func studio() *site.Site {
	s := (&site.Site{}).Clone()
	s.Devices["plug"] = site.Device{ID: "plug", Link: site.Link{Kind: site.MQTT,
		Presence: &site.Source{Topic: "bought/plug/there"}}}
	s.Signals["plug.power"] = site.Signal{ID: "plug.power", Device: "plug", Raw: "power", Kind: site.Number,
		Source: site.Source{Topic: "bought/plug/+/report", Pointer: "/energy/power"}}
	s.Signals["plug.total"] = site.Signal{ID: "plug.total", Device: "plug", Raw: "total", Kind: site.Number,
		Source: site.Source{Topic: "bought/plug/+/report", Pointer: "/energy/total"}}
	s.Signals["plug.own"] = site.Signal{ID: "plug.own", Device: "plug", Raw: "own", Kind: site.Number}
	s.Controls["plug.relay"] = site.Control{ID: "plug.relay", Device: "plug", Raw: "relay",
		Source: site.Source{Topic: "bought/plug/0/report", Pointer: "/relay"},
		Target: site.Target{Topic: "bought/plug/do", On: "ON", Off: "OFF", Template: `{"relay":"{value}","t":{t}}`}}
	return s
}

func TestMessage(t *testing.T) {
	var cache Cache
	m := cache.For(studio(), "plug")
	got := m.Take("bought/plug/0/report", []byte(`{"energy":{"power":41.5},"relay":"ON"}`))
	assert.True(t, got.Matched)
	assert.Equal(t, []reading.Named{{Name: "power", Value: reading.Number(41.5), Decimals: 1}}, got.Readings,
		"what the message does not speak of is no fault")
	assert.Equal(t, []reading.Named{{Name: "relay", Value: reading.OnOff(true)}}, got.Reports,
		"the words of the wants are those of the reports")
	assert.Empty(t, got.Faults)
	got = m.Take("bought/plug/0/report", []byte(`{"other":1}`))
	assert.Len(t, got.Faults, 3, "where nothing is found, everything says why")
	assert.True(t, got.Silent)
	assert.False(t, m.Take("bought/lamp/0/report", []byte(`{}`)).Matched)
	for payload, want := range map[string]bool{"Online": true, "offline": false} {
		online, told, err := m.Presence("bought/plug/there", []byte(payload))
		require.NoError(t, err)
		assert.True(t, told)
		assert.Equal(t, want, online)
	}
	_, _, err := m.Presence("bought/plug/there", []byte("perhaps"))
	assert.ErrorContains(t, err, "neither")
	assert.Equal(t, []string{"bought/plug/+/report", "bought/plug/0/report", "bought/plug/there"}, m.Topics())
}

func TestPayload(t *testing.T) {
	at := time.UnixMilli(1795413600123)
	c := studio().Controls["plug.relay"]
	assert.Equal(t, `{"relay":"ON","t":1795413600123}`, string(Payload(c, 1, at)))
	assert.Equal(t, `{"relay":"OFF","t":1795413600123}`, string(Payload(c, 0, at)))
	assert.Equal(t, "on", string(Payload(site.Control{}, 1, at)))
	assert.Equal(t, "0", string(Payload(site.Control{Target: site.Target{On: "1", Off: "0"}}, 0, at)))
}

// Levels, choices and movers go out and come back in the device's own numbers and words.
func TestAmounts(t *testing.T) {
	fan := site.Control{Name: "Fan", Kind: site.Level, Target: site.Target{Full: 255}}
	damper := site.Control{Name: "Damper", Kind: site.Choice, Options: []string{"shut", "half", "wide"},
		Target: site.Target{Words: []string{"0", "50", "100"}}}
	door := site.Control{Name: "Door", Kind: site.Mover}
	for _, x := range []struct {
		c      site.Control
		amount site.Amount
		word   string
		report reading.Value
	}{
		{fan, 40, "102", reading.Number(102)}, {fan, 0, "0", reading.OnOff(false)}, {fan, 100, "255", reading.OnOff(true)},
		{site.Control{Kind: site.Level}, 12.5, "12.5", reading.Number(12.5)},
		{damper, 1, "50", reading.Number(50)}, {damper, 2, "100", reading.Text("wide")},
		{door, site.Open, "open", reading.Text("OPEN")}, {door, site.Close, "close", reading.Text("closed")},
		{site.Control{}, 1, "on", reading.Number(1)},
	} {
		assert.Equal(t, x.word, Word(x.c, x.amount))
		back, err := Amount(x.c, x.report)
		require.NoError(t, err)
		assert.Equal(t, x.amount, back, x.word)
	}
	_, err := Amount(fan, reading.Number(300))
	assert.ErrorContains(t, err, "0 to 100 %")
	_, err = Amount(damper, reading.Text("ajar"))
	assert.ErrorContains(t, err, "one of shut, half, wide")
}

func FuzzMapping(f *testing.F) {
	f.Add("/a/0", "(\\d+)", "b", []byte(`{"a":[1]}`))
	f.Add("", "", "1", []byte("1,2\n\"3"))
	f.Fuzz(func(t *testing.T, pointer, pattern, column string, payload []byte) {
		for _, src := range []site.Source{{Pointer: pointer}, {Pattern: pattern}, {Column: column}} {
			if src.Validate() != nil {
				continue
			}
			e, err := compile(Entry{Kind: site.Number, Source: src})
			if err != nil {
				continue
			}
			_, v, err := e.Value(payload)
			if err == nil {
				assert.Equal(t, site.Number, v.Kind)
			}
		}
	})
}
