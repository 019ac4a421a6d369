package reading

import (
	"encoding/hex"
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/fxamacker/cbor/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The examples of RFC 8428, section 5.1, with the resolved records that its section 5.1.4 gives for one of them; the others
// are resolved by hand after section 4.6.
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
		{"multiple types", senmlTypes, `[{"n":"urn:dev:ow:10e2073a01080063:temp","u":"Cel","v":23.1},
			{"n":"urn:dev:ow:10e2073a01080063:label","vs":"Machine Room"},{"n":"urn:dev:ow:10e2073a01080063:open","vb":false}]`},
		{"collection of resources", senmlCollection, `[{"n":"2001:db8::2/temperature","u":"Cel","t":1320078429,"v":25.2},
			{"n":"2001:db8::2/humidity","u":"%RH","t":1320078429,"v":30},{"n":"2001:db8::1/temperature","u":"Cel","t":1320078429,"v":12.3},
			{"n":"2001:db8::1/humidity","u":"%RH","t":1320078429,"v":67}]`},
	} {
		named, faults, err := JSON([]byte(tt.pack), now)
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
	named, faults, err := SenML([]byte(`[{"n":"a","v":1,"t":-60},{"n":"b","v":2},{"bv":10,"n":"c","v":2.5},{"n":"d","s":4},{"n":"e"},{"n":"f","v":1e999},{"bt":1e15,"n":"g","v":1}]`), now)
	require.NoError(t, err)
	require.Len(t, named, 3)
	assert.Equal(t, now.Add(-time.Minute), named[0].At, "a small time is relative to now")
	assert.True(t, named[1].At.IsZero())
	assert.Equal(t, 12.5, named[2].Value.Num, "the base value is added")
	require.Len(t, faults, 4)
	for i, why := range []string{"only a sum", "no value", "not finite", "not in Unix seconds"} {
		assert.ErrorContains(t, faults[i], why)
	}
	_, _, err = SenML([]byte(`[{"bver":11,"n":"a","v":1}]`), now)
	assert.ErrorContains(t, err, "knows versions up to 10")
	for _, bad := range []string{`[{"n":1}]`, `{`, `[[]]`} {
		_, _, err = SenML([]byte(bad), now)
		assert.Error(t, err, bad)
	}
}
