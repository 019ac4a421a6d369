package reading

import (
	"encoding/hex"
	"encoding/json"
	"math/big"
	"strings"
	"testing"
	"time"

	"github.com/fxamacker/cbor/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The examples of RFC 8428, section 5.1, with the resolved records that its section 5.1.4 gives for one of them; the
// others are resolved by hand after section 4.6.
const (
	senmlSingle   = `[{"n":"urn:dev:ow:10e2073a01080063","u":"Cel","v":23.1}]`
	senmlMultiple = `[
		{"bn":"urn:dev:ow:10e2073a0108006:","bt":1.276020076001e+09,"bu":"A","bver":5,"n":"voltage","u":"V","v":120.1},
		{"n":"current","t":-5,"v":1.2},{"n":"current","t":-4,"v":1.3},{"n":"current","t":-3,"v":1.4},
		{"n":"current","t":-2,"v":1.5},{"n":"current","t":-1,"v":1.6},{"n":"current","v":1.7}]`
	senmlPositions = `[
		{"bn":"urn:dev:ow:10e2073a01080063","bt":1.320067464e+09,"bu":"%RH","v":20},
		{"u":"lon","v":24.30621},{"u":"lat","v":60.07965},{"t":60,"v":20.3},{"u":"lon","t":60,"v":24.30622},
		{"u":"lat","t":60,"v":60.07965},{"t":120,"v":20.7},{"u":"lon","t":120,"v":24.30623},{"u":"lat","t":120,"v":60.07966},
		{"u":"%EL","t":150,"v":98},{"t":180,"v":21.2},{"u":"lon","t":180,"v":24.30628},{"u":"lat","t":180,"v":60.07967}]`
	senmlTypes = `[
		{"bn":"urn:dev:ow:10e2073a01080063:","n":"temp","u":"Cel","v":23.1},
		{"n":"label","vs":"Machine Room"},{"n":"open","vb":false},{"n":"nfv","vd":"aGkgCg"}]`
	senmlCollection = `[
		{"bn":"2001:db8::2/","bt":1.320078429e+09,"n":"temperature","u":"Cel","v":25.2},{"n":"humidity","u":"%RH","v":30},
		{"bn":"2001:db8::1/","n":"temperature","u":"Cel","v":12.3},{"n":"humidity","u":"%RH","v":67}]`
	senmlBase = `[{"bn":"urn:dev:ow:10e2073a01080063:","n":"voltage","u":"V","v":120.1},{"n":"current","u":"A","v":1.2}]`
	// Section 5.1.7: what sets an actuator reads like any other pack.
	senmlSetting   = `[{"bn":"urn:dev:ow:10e2073a01080063:"},{"n":"temp","u":"Cel","v":23.1},{"n":"heat","u":"/","v":1},{"n":"fan","u":"/","v":0}]`
	senmlTwoLights = `[{"bt":1.320078429e+09,"bu":"/","n":"2001:db8::3","v":1},{"n":"2001:db8::4","v":1}]`
	senmlDimming   = `[{"bt":1.320078429e+09,"bu":"/","n":"2001:db8::3","v":0.5},{"n":"2001:db8::4","v":0.5},
		{"n":"2001:db8::3","t":0.1,"v":0},{"n":"2001:db8::4","t":0.1,"v":0}]`
	// Section 6: the second example in CBOR.
	senmlCBOR = `87a721781b75726e3a6465763a6f773a3130653230373361303130383030363a22fb41d303a15b00106223614120050067766f6c74616765` +
		`01615602fb405e066666666666a30067` + `63757272656e74062402fb3ff3333333333333a3006763757272656e74062302fb3ff4cccccccccccda3006763757272656e74` +
		`062202fb3ff6666666666666a3006763757272656e74062102f93e00a3006763757272656e74062002fb3ff999999999999aa3006763757272656e74060002fb3ffb333333333333`
)

// asResolved is a value as a resolved record of RFC 8428.
type asResolved struct {
	N  string   `json:"n"`
	U  string   `json:"u,omitempty"`
	T  float64  `json:"t,omitempty"`
	V  *float64 `json:"v,omitempty"`
	VS string   `json:"vs,omitempty"`
	VB *bool    `json:"vb,omitempty"`
}

func resolvedJSON(t *testing.T, named []Named) string {
	out := []asResolved{}
	for _, n := range named {
		r := asResolved{N: n.FullName, U: n.Unit}
		if !n.At.IsZero() {
			r.T = float64(n.At.UnixMilli()) / 1000
		}
		switch n.Value.Kind {
		case "number":
			r.V = &n.Value.Num
		case "onoff":
			on := n.Value.On()
			r.VB = &on
		default:
			r.VS = n.Value.Text
		}
		out = append(out, r)
	}
	b, err := json.Marshal(out)
	require.NoError(t, err)
	return string(b)
}

func TestSenMLOfTheRFC(t *testing.T) {
	now := time.Date(2026, 3, 2, 9, 0, 0, 0, time.UTC)
	for _, tt := range []struct{ name, pack, want string }{
		{"single datapoint", senmlSingle, senmlSingle},
		{"multiple datapoints", senmlMultiple, `[
			{"n":"urn:dev:ow:10e2073a0108006:voltage","u":"V","t":1276020076.001,"v":120.1},
			{"n":"urn:dev:ow:10e2073a0108006:current","u":"A","t":1276020071.001,"v":1.2},
			{"n":"urn:dev:ow:10e2073a0108006:current","u":"A","t":1276020072.001,"v":1.3},
			{"n":"urn:dev:ow:10e2073a0108006:current","u":"A","t":1276020073.001,"v":1.4},
			{"n":"urn:dev:ow:10e2073a0108006:current","u":"A","t":1276020074.001,"v":1.5},
			{"n":"urn:dev:ow:10e2073a0108006:current","u":"A","t":1276020075.001,"v":1.6},
			{"n":"urn:dev:ow:10e2073a0108006:current","u":"A","t":1276020076.001,"v":1.7}]`},
		{"resolved data, section 5.1.4", senmlPositions, strings.ReplaceAll(`[
			{"n":"NAME","u":"%RH","t":1.320067464e+09,"v":20},{"n":"NAME","u":"lon","t":1.320067464e+09,"v":24.30621},
			{"n":"NAME","u":"lat","t":1.320067464e+09,"v":60.07965},{"n":"NAME","u":"%RH","t":1.320067524e+09,"v":20.3},
			{"n":"NAME","u":"lon","t":1.320067524e+09,"v":24.30622},{"n":"NAME","u":"lat","t":1.320067524e+09,"v":60.07965},
			{"n":"NAME","u":"%RH","t":1.320067584e+09,"v":20.7},{"n":"NAME","u":"lon","t":1.320067584e+09,"v":24.30623},
			{"n":"NAME","u":"lat","t":1.320067584e+09,"v":60.07966},{"n":"NAME","u":"%EL","t":1.320067614e+09,"v":98},
			{"n":"NAME","u":"%RH","t":1.320067644e+09,"v":21.2},{"n":"NAME","u":"lon","t":1.320067644e+09,"v":24.30628},
			{"n":"NAME","u":"lat","t":1.320067644e+09,"v":60.07967}]`, "NAME", "urn:dev:ow:10e2073a01080063")},
		{"two in one base name", senmlBase, `[{"n":"urn:dev:ow:10e2073a01080063:voltage","u":"V","v":120.1},{"n":"urn:dev:ow:10e2073a01080063:current","u":"A","v":1.2}]`},
		{"setting an actuator", senmlSetting, `[{"n":"urn:dev:ow:10e2073a01080063:temp","u":"Cel","v":23.1},
			{"n":"urn:dev:ow:10e2073a01080063:heat","u":"/","v":1},{"n":"urn:dev:ow:10e2073a01080063:fan","u":"/","v":0}]`},
		{"two lights", senmlTwoLights, `[{"n":"2001:db8::3","u":"/","t":1320078429,"v":1},{"n":"2001:db8::4","u":"/","t":1320078429,"v":1}]`},
		{"two lights dimmed, then off", senmlDimming, `[{"n":"2001:db8::3","u":"/","t":1320078429,"v":0.5},{"n":"2001:db8::4","u":"/","t":1320078429,"v":0.5},
			{"n":"2001:db8::3","u":"/","t":1320078429.1,"v":0},{"n":"2001:db8::4","u":"/","t":1320078429.1,"v":0}]`},
		{"multiple types", senmlTypes, `[{"n":"urn:dev:ow:10e2073a01080063:temp","u":"Cel","v":23.1},
			{"n":"urn:dev:ow:10e2073a01080063:label","vs":"Machine Room"},{"n":"urn:dev:ow:10e2073a01080063:open","vb":false}]`},
		{"collection of resources", senmlCollection, `[{"n":"2001:db8::2/temperature","u":"Cel","t":1320078429,"v":25.2},
			{"n":"2001:db8::2/humidity","u":"%RH","t":1320078429,"v":30},{"n":"2001:db8::1/temperature","u":"Cel","t":1320078429,"v":12.3},
			{"n":"2001:db8::1/humidity","u":"%RH","t":1320078429,"v":67}]`},
	} {
		named, faults, err := Message([]byte(tt.pack), now)
		require.NoError(t, err, tt.name)
		assert.JSONEq(t, tt.want, resolvedJSON(t, named), tt.name)
		if tt.pack == senmlTypes {
			require.Len(t, faults, 1)
			assert.ErrorContains(t, faults[0], "binary data (vd) is not kept")
		} else {
			assert.Empty(t, faults, tt.name)
		}
	}
}

func TestSenMLThatMustBeUnderstood(t *testing.T) {
	now := time.Unix(1_800_000_000, 0)
	_, _, err := SenML([]byte(`[{"n":"temp","v":21,"calib_":3},{"n":"hum","v":50}]`), now)
	assert.ErrorContains(t, err, `the label "calib_", which must be understood`)
	body, err := cbor.Marshal([]map[any]any{{0: "temp", 2: 21.5, "calib_": 3}})
	require.NoError(t, err)
	_, _, err = SenMLCBOR(body, now)
	assert.ErrorContains(t, err, `the label "calib_", which must be understood`)
	named, faults, err := SenML([]byte(`[{"n":"my_temp_","v":21,"calib":3}]`), now)
	require.NoError(t, err)
	assert.Empty(t, faults)
	assert.Len(t, named, 1, "names may end so, and other labels are passed over")
}

func TestSenMLInCBOR(t *testing.T) {
	raw, err := hex.DecodeString(senmlCBOR)
	require.NoError(t, err)
	now := time.Now()
	fromCBOR, faults, err := SenMLCBOR(raw, now)
	require.NoError(t, err)
	assert.Empty(t, faults)
	fromJSON, _, err := SenML([]byte(senmlMultiple), now)
	require.NoError(t, err)
	assert.Equal(t, resolvedJSON(t, fromJSON), resolvedJSON(t, fromCBOR), "the same pack in both forms")
	assert.Equal(t, "voltage", fromCBOR[0].Name)
}

func TestSenMLTimesAndFaults(t *testing.T) {
	now := time.Date(2026, 3, 2, 9, 0, 0, 0, time.UTC)
	named, faults, err := SenML([]byte(`[{"n":"a","v":1,"t":-60},{"n":"b","v":2},{"bv":10,"n":"c","v":2.5},{"n":"d","s":"4"},{"n":"e"},{"n":"f","v":1e999},{"bt":1e15,"n":"g","v":1}]`), now)
	require.NoError(t, err)
	require.Len(t, named, 3)
	assert.Equal(t, now.Add(-time.Minute), named[0].At, "a small time is relative to now")
	assert.True(t, named[1].At.IsZero())
	assert.Equal(t, 12.5, named[2].Value.Num, "the base value is added")
	require.Len(t, faults, 4)
	for i, why := range []string{"the sum (s)", "no value", "not finite", "not in Unix seconds"} {
		assert.ErrorContains(t, faults[i], why)
	}
	_, _, err = SenML([]byte(`[{"bver":11,"n":"a","v":1}]`), now)
	assert.ErrorContains(t, err, "knows versions up to 10")
	for _, bad := range []string{`[{"n":1}]`, `{`, `[[]]`, `[{"n":"a","v":1},{"bt":"noon","n":"b","v":1}]`} {
		_, _, err = SenML([]byte(bad), now)
		assert.Error(t, err, bad)
	}
}

func TestSumsOfSenML(t *testing.T) {
	now := time.Unix(1_800_000_000, 0)
	named, faults, err := SenML([]byte(`[{"bn":"meter:","bs":100,"n":"power","u":"W","v":40.5,"s":20},{"n":"flow","u":"l/s","s":3.5},{"n":"load","u":"%","s":1}]`), now)
	require.NoError(t, err)
	assert.Empty(t, faults)
	assert.JSONEq(t, `[{"n":"meter:power","u":"W","v":40.5},{"n":"meter:power_sum","u":"J","v":120},
		{"n":"meter:flow_sum","u":"L","v":103.5},{"n":"meter:load_sum","u":"%.s","v":101}]`, resolvedJSON(t, named), "a value and a sum are two signals")

	named, faults, err = SenML([]byte(`[{"n":"power","v":40,"s":20},{"n":"power_sum","v":7}]`), now)
	require.NoError(t, err)
	require.Len(t, faults, 1)
	assert.ErrorContains(t, faults[0], `a value called "power_sum"`)
	assert.Len(t, named, 2, "what the board itself calls so goes first")
}

func TestNumbersOfCBOR(t *testing.T) {
	now := time.Unix(1_800_000_000, 0)
	fraction := func(exp int, mantissa any) cbor.Tag { return cbor.Tag{Number: 4, Content: []any{exp, mantissa}} }
	huge, _ := new(big.Int).SetString("123456789012345678901234567890", 10)
	body, err := cbor.Marshal([]map[int]any{
		{-3: fraction(-3, int64(1_795_413_600_250)), 0: "a", 2: fraction(-2, 2145)}, {0: "b", 2: float32(23.1)}, {0: "c",
			2: -7}, {0: "d", 2: fraction(3, -2)},
		{0: "e", 2: huge}, {0: "f", 2: fraction(400, 1)}, {0: "g", 2: cbor.Tag{Number: 5, Content: []any{1, 1}}}, {0: "h",
			2: "21"}, {0: "i", 2: fraction(-20, huge)}, {0: "j", 2: fraction(1, "x")}, {0: "k", 2: fraction(1, 2.5)}})
	require.NoError(t, err)
	named, faults, err := Message(body, now)
	require.NoError(t, err)
	var nums []float64
	for _, n := range named {
		nums = append(nums, n.Value.Num)
		assert.EqualValues(t, 1_795_413_600_250, n.At.UnixMilli())
	}
	assert.Equal(t, []float64{21.45, float64(float32(23.1)), -7, -2000, 123456789012345678901234567890, 21,
		1234567890.1234567890}, nums)
	assert.Equal(t, []int{2, 1}, []int{named[0].Decimals, named[1].Decimals})
	require.Len(t, faults, 4)
	for i, why := range []string{"not finite", "the CBOR tag 5 is not known", "does not hold what it says",
		"does not hold what it says"} {
		assert.ErrorContains(t, faults[i], why)
	}
}
