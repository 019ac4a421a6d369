package reading

import (
	"encoding/json"
	"math"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"idleember/core/site"
)

func TestParse(t *testing.T) {
	for payload, want := range map[string]Value{
		"21.4": Number(21.4), " -3 ": Number(-3), "1e3": Number(1000), "5e-324": Number(5e-324),
		"on": OnOff(true), "OFF": OnOff(false), "true": OnOff(true), "wet": Text("wet"), "0x10": Number(16),
		"größer": Text("größer"),
	} {
		got, err := Parse([]byte(payload))
		if assert.NoError(t, err, payload) && payload != "0x10" {
			assert.Equal(t, want, got, payload)
		}
	}
	for payload, why := range map[string]string{
		"": "empty", "  ": "empty", "NaN": "not finite", "nan": "not finite", "Inf": "not finite", "-infinity": "not finite",
		"1e999":  "not finite",
		"a\x00b": "control characters", "\xff\xfe": "UTF-8", strings.Repeat("x", 300): "at most 256",
	} {
		_, err := Parse([]byte(payload))
		assert.ErrorContains(t, err, why, payload)
	}
}

func TestAs(t *testing.T) {
	v, err := Number(1).As(site.OnOff)
	require.NoError(t, err)
	assert.True(t, v.On())
	_, err = Number(7).As(site.OnOff)
	assert.ErrorContains(t, err, "expected on, off")
	_, err = Text("wet").As(site.Number)
	assert.ErrorContains(t, err, `"wet" is not a number`)
	v, err = Number(3.5).As(site.Text)
	require.NoError(t, err)
	assert.Equal(t, "3.5", v.Text)
}

func TestObject(t *testing.T) {
	named, at, faults, err := Object([]byte(`{"temperature":21.40,"lid":"shut","fan":true,"x":null,"y":[1],"t":1795413600}`))
	require.NoError(t, err)
	assert.Equal(t, []Named{{Name: "temperature", Value: Number(21.4), Decimals: 2}, {Name: "lid", Value: Text("shut")},
		{Name: "fan", Value: OnOff(true)}}, named)
	assert.Equal(t, int64(1795413600_000), at.UnixMilli())
	assert.Len(t, faults, 2, "what is wrong with single values loses nothing else")
	_, at, _, err = Object([]byte(`{"a":1,"t":1795413600123}`))
	require.NoError(t, err)
	assert.Equal(t, int64(1795413600123), at.UnixMilli())
	for payload, why := range map[string]string{`[1]`: "no JSON object", `{"a":1`: "not closed", `{"a":`: "breaks off",
		`{"a":1}x`:     "something follows",
		`{"t":"noon"}`: "expected Unix seconds", `{"t":-1,"a":1}`: "expected Unix seconds", ``: "no JSON object"} {
		_, _, _, err := Object([]byte(payload))
		assert.ErrorContains(t, err, why, payload)
	}
}

func TestReport(t *testing.T) {
	v, by, err := Report([]byte(`{"v":"on","by":"hand"}`))
	require.NoError(t, err)
	assert.Equal(t, OnOff(true), v)
	assert.Equal(t, "hand", by)
	for payload, want := range map[string]Value{"0": Number(0), "off": OnOff(false), "half": Text("half"),
		`{"v":40}`: Number(40)} {
		v, _, err = Report([]byte(payload))
		require.NoError(t, err)
		assert.Equal(t, want, v)
	}
	for _, bad := range []string{"", `{"v":"on","by":"wind"}`, `{"by":"hand"}`, `{`} {
		_, _, err = Report([]byte(bad))
		assert.Error(t, err, bad)
	}
}

func FuzzMessages(f *testing.F) {
	for _, s := range []string{"21.4", `{"a":1,"t":1795413600}`, `{"v":"on"}`, "NaN", "\xff", `{"a":{"b":[1,2`, ""} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		if v, err := Parse(b); err == nil {
			assert.False(t, math.IsNaN(v.Num) || math.IsInf(v.Num, 0))
		}
		named, _, _, err := Object(b)
		for _, n := range named {
			assert.True(t, err != nil || !math.IsNaN(n.Value.Num) && !math.IsInf(n.Value.Num, 0))
		}
		_, _, _ = Report(b)
	})
}

func TestValueJSONRoundTrip(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		v := rapid.OneOf(rapid.Map(rapid.Float64(), Number), rapid.Map(rapid.Bool(), OnOff), rapid.Map(rapid.String(),
			Text)).Draw(t, "v")
		if v.Kind == site.Text && len(v.Text) > MaxText || strings.ContainsFunc(v.Text,
			func(r rune) bool { return r < ' ' || r >= 0x7f && r < 0xa0 || r == 0xfffd }) {
			return
		}
		b, err := v.MarshalJSON()
		require.NoError(t, err)
		var back Value
		require.NoError(t, back.UnmarshalJSON(b))
		require.Equal(t, math.Float64bits(v.Num), math.Float64bits(back.Num))
		require.Equal(t, v, back)
	})
}

func TestClock(t *testing.T) {
	now := time.Date(2026, 3, 2, 9, 0, 0, 0, time.UTC)
	place := func(c *Clock, off time.Duration) (Placed, error) { return c.Place(now, now.Add(off), 10*time.Second) }
	var fresh Clock
	p, err := place(&fresh, -20*time.Second)
	require.NoError(t, err)
	assert.Equal(t, Placed{At: now.Add(-20 * time.Second), Live: true, Own: true}, p)
	p, err = place(&fresh, -2*time.Hour)
	require.NoError(t, err)
	assert.Equal(t, Placed{At: now.Add(-2 * time.Hour), Own: true}, p, "late: stored in its place, not live")
	p, err = place(&fresh, 4*time.Minute)
	require.NoError(t, err)
	assert.Equal(t, Placed{At: now, Live: true, Ahead: true}, p, "a little ahead: stamped with the arrival")
	_, err = place(&fresh, 6*time.Minute)
	assert.ErrorContains(t, err, "ahead of the hub's clock")

	var behind, ahead, backlog Clock
	for i := range 6 {
		at := now.Add(time.Duration(i-6) * 30 * time.Second)
		behind.Learn(at, at.Add(-56*365*24*time.Hour))
		ahead.Learn(at, at.Add(48*time.Hour))
		backlog.Learn(now, now.Add(time.Duration(i)*time.Minute-3*time.Hour))
	}
	p, err = place(&behind, -56*365*24*time.Hour)
	require.NoError(t, err)
	assert.Equal(t, Placed{At: now, Live: true}, p, "a clock that is always off by the same is learnt")
	p, err = place(&ahead, 48*time.Hour)
	require.NoError(t, err)
	assert.Equal(t, Placed{At: now, Live: true, Quality: Suspect, Ahead: true}, p)
	assert.Zero(t, backlog.Offset(), "a backlog sent in one go is no clock that is off")
}

func TestApart(t *testing.T) {
	now := time.Date(2026, 3, 2, 9, 0, 0, 0, time.UTC)
	for _, tt := range []struct{ last, want time.Duration }{
		{-time.Hour, 0},
		{-time.Millisecond, 0},
		{0, time.Millisecond},
		{300 * time.Millisecond, 301 * time.Millisecond},
		{MostApart - time.Millisecond, MostApart},
		{MostApart, MostApart}, // more in a second than it has milliseconds
		{time.Hour, 0},         // the newest was stamped by another clock
	} {
		assert.Equal(t, now.Add(tt.want), Apart(now, now.Add(tt.last)), "the newest %s after the arrival", tt.last)
	}
}

func TestRhythm(t *testing.T) {
	var r Rhythm
	at := time.Duration(0)
	for _, gap := range []int{0, 10, 10, 11} {
		at += time.Duration(gap) * time.Second
		r.Heard(at)
	}
	assert.Equal(t, 10*time.Second, r.Interval())
	r.Heard(at + time.Hour)
	assert.Equal(t, 11*time.Second, r.Interval(), "one long pause does not change the rhythm")
}

// NaN and infinities are refused of whatever link they come, and one that an earlier version kept does not spoil what
// it stands in.
func TestNotFinite(t *testing.T) {
	for _, v := range []float64{math.NaN(), math.Inf(1), math.Inf(-1)} {
		for _, kind := range []site.ValueKind{site.Number, site.OnOff, site.Text} {
			_, err := Number(v).As(kind)
			assert.ErrorIs(t, err, errNotFinite)
		}
		_, err := Calibrate(site.Calibration{}, Number(v))
		assert.ErrorIs(t, err, errNotFinite)
		b, err := json.Marshal(map[string]any{"a": Number(v), "b": Number(1)})
		require.NoError(t, err)
		assert.JSONEq(t, `{"a":null,"b":1}`, string(b))
	}
}
