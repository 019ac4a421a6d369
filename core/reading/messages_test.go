package reading

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"idleember/core/site"
)

func TestCSVAsItIsWrittenElsewhere(t *testing.T) {
	at := time.Date(2026, 11, 23, 10, 0, 2, 0, time.UTC)
	for name, table := range map[string]string{
		"a byte order mark":  "\xef\xbb\xbft,temperature,lid\n2026-11-23T10:00:02Z,21.5,open\n",
		"semicolons":         "t;temperature;lid\n2026-11-23T10:00:02Z;21,5;open\n",
		"its separator told": "\xef\xbb\xbfsep=;\r\nt;temperature;lid\r\n2026-11-23T10:00:02Z;21,5;open\r\n",
		"comments": "# of the shed; not of the yard\nt,temperature,lid\n# noon, roughly\n" +
			"2026-11-23T10:00:02Z,21.5,open\n",
		"a space for the T":    "t,temperature,lid\n2026-11-23 11:00:02+01:00,21.5,open\n",
		"milliseconds as well": "t,temperature,lid\n2026-11-23 10:00:02.000Z,21.5,open\n",
	} {
		named, faults, err := CSV([]byte(table))
		require.NoError(t, err, name)
		assert.Empty(t, faults, name)
		require.Len(t, named, 2, name)
		assert.Equal(t, []string{"temperature", "lid"}, []string{named[0].Name, named[1].Name}, name)
		assert.Equal(t, Number(21.5), named[0].Value, name)
		assert.True(t, named[0].At.Equal(at), "%s: %s", name, named[0].At)
	}
	_, faults, err := CSV([]byte("sep=;\nt;temperature\n1795413600;21,5\n1795413601;2,1,5\n"))
	require.NoError(t, err)
	assert.Empty(t, faults, "a text")
	_, faults, err = CSV([]byte("sep=;\n# shed\nt;temperature\nnoon;21,5\n1795413601;3\n"))
	require.NoError(t, err)
	require.Len(t, faults, 1)
	assert.ErrorContains(t, faults[0], "line 4: ")
}

func TestCSV(t *testing.T) {
	named, faults, err := CSV([]byte("t,temperature,lid\n1795413600,21.40,shut\n1795413600500,,open\n" +
		"2026-11-23T10:00:02Z,21.5,\nnoon,1,1\n1795413603,1\n1795413604,NaN,x\n"))
	require.NoError(t, err)
	require.Len(t, named, 5)
	assert.Equal(t, Named{Name: "temperature", Value: Number(21.4), Decimals: 2, At: time.UnixMilli(1795413600_000)},
		named[0])
	assert.Equal(t, int64(1795413600_500), named[2].At.UnixMilli())
	assert.Equal(t, "2026-11-23T10:00:02Z", named[3].At.UTC().Format(time.RFC3339))
	require.Len(t, faults, 3, "what is wrong with one line loses nothing else")
	assert.ErrorContains(t, faults[0], "line 5")
	assert.ErrorContains(t, faults[1], "has 2 cells")
	assert.ErrorContains(t, faults[2], "not finite")
	for _, bad := range []string{"", "a,b\n"} {
		_, _, err := CSV([]byte(bad))
		assert.Error(t, err, bad)
	}
}

func TestLine(t *testing.T) {
	key, named, faults, err := Line([]byte("k=abc temperature=21.4 is.fan=on has.sp=24,7,120 has.x=24 lid=shut nonsense " +
		"t=1795413600123"))
	require.NoError(t, err)
	assert.Equal(t, "abc", key)
	readings, reports, copies, wrong := Split(named)
	assert.Len(t, readings, 2)
	assert.Equal(t, []Copy{{Name: "sp", Value: Number(24), Based: 7, Age: 2 * time.Minute}}, copies)
	assert.Len(t, wrong, 1)
	require.Len(t, reports, 1)
	assert.Equal(t, "fan", reports[0].Name)
	assert.Equal(t, int64(1795413600123), Newest(named).UnixMilli())
	require.Len(t, faults, 1)
	assert.ErrorContains(t, faults[0], "no name=value")
	for _, bad := range []string{"", "k=abc", "\xff\xfe", "a=1 t=yesterday"} {
		_, _, _, err := Line([]byte(bad))
		assert.Error(t, err, bad)
	}
}

func TestBacklogInJSON(t *testing.T) {
	named, faults, err := Message([]byte(`[{"temperature":20.1,"t":1795413600},{"temperature":20.2,"t":1795413610,"is":{"heater":"on"}},7]`), time.Now())
	require.NoError(t, err)
	assert.Len(t, named, 3)
	assert.Equal(t, "is.heater", named[2].Name)
	assert.Len(t, faults, 1)
	for _, bad := range []string{`[`, `[]`, ``, `[{"a":1}`} {
		_, _, err := Message([]byte(bad), time.Now())
		assert.Error(t, err, bad)
	}
}

func TestCalibrate(t *testing.T) {
	lo, hi := 0.0, 100.0
	for _, tt := range []struct {
		name string
		c    site.Calibration
		raw  float64
		want float64
	}{
		{"none", site.Calibration{}, 512, 512},
		{"two points", site.Calibration{Method: "two_point", Points: [][2]float64{{812, 0}, {362, 100}}}, 587, 50},
		{"two points beyond", site.Calibration{Method: "two_point", Points: [][2]float64{{0, 0}, {10, 5}}}, 20, 10},
		{"one reference", site.Calibration{Method: "gain", Points: [][2]float64{{500, 4.1}}}, 1000, 8.2},
		{"divider", site.Calibration{Method: "divider", Divider: &site.Divider{R1: 100_000, R2: 22_000, Reference: 3.3,
			Counts: 1023}}, 1023, 18.3},
		{"no resistors", site.Calibration{Method: "divider", Divider: &site.Divider{Reference: 5, Counts: 1000}}, 500, 2.5},
		{"table", site.Calibration{Method: "table", Points: [][2]float64{{0, 0}, {10, 100}, {20, 120}}}, 15, 110},
		{"table beyond", site.Calibration{Method: "table", Points: [][2]float64{{0, 0}, {10, 100}, {20, 120}}}, 30, 140},
		{"clamped", site.Calibration{Method: "gain", Points: [][2]float64{{1, 3}}, Min: &lo, Max: &hi}, 60, 100},
		{"offset", site.Calibration{Offset: -1.5}, 20, 18.5},
	} {
		require.NoError(t, tt.c.Validate(site.Number), tt.name)
		got, err := Calibrate(tt.c, Number(tt.raw))
		require.NoError(t, err, tt.name)
		assert.InDelta(t, tt.want, got.Num, 1e-9, tt.name)
	}
	on, err := Calibrate(site.Calibration{Invert: true}, OnOff(true))
	require.NoError(t, err)
	assert.False(t, on.On())
	_, err = Calibrate(site.Calibration{Method: "gain", Points: [][2]float64{{1e-300, 1e300}}}, Number(1e300))
	assert.ErrorContains(t, err, "no finite number")
}

// A table of points gives each of them back, and two points are a table of two.
func TestCalibrationProperties(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		raw := rapid.SliceOfNDistinct(rapid.Float64Range(-1e6, 1e6), 2, 8, rapid.ID).Draw(t, "raw")
		var points [][2]float64
		for i, r := range sortedFloats(raw) {
			points = append(points, [2]float64{r, float64(i) * 10})
		}
		table := site.Calibration{Method: "table", Points: points}
		for _, p := range points {
			v, err := Calibrate(table, Number(p[0]))
			if err != nil || math.Abs(v.Num-p[1]) > 1e-6 {
				t.Fatalf("%v gives %v instead of %v (%v)", p[0], v, p[1], err)
			}
		}
		two := points[:2]
		x := rapid.Float64Range(-1e6, 1e6).Draw(t, "x")
		if two[1][0]-two[0][0] < 1e-3 {
			return
		}
		a, _ := Calibrate(site.Calibration{Method: "two_point", Points: two}, Number(x))
		b, _ := Calibrate(site.Calibration{Method: "table", Points: two}, Number(x))
		if math.Abs(a.Num-b.Num) > 1e-6*(1+math.Abs(a.Num)) {
			t.Fatalf("%v and %v differ", a, b)
		}
	})
}

func sortedFloats(f []float64) []float64 {
	out := append([]float64(nil), f...)
	for i := range out {
		for j := i; j > 0 && out[j] < out[j-1]; j-- {
			out[j], out[j-1] = out[j-1], out[j]
		}
	}
	return out
}

func TestQuality(t *testing.T) {
	lo, hi := -20.0, 60.0
	s := site.Sense{Lowest: &lo, Highest: &hi, Spike: 5, StuckMS: 60_000}
	var j Judge
	at := time.Duration(0)
	next := func(v float64) Quality {
		at += 10 * time.Second
		return j.Quality(s, Number(v), at)
	}
	for _, v := range []float64{20, 20.1, 20.2, 20.3} {
		assert.Equal(t, Good, next(v))
	}
	assert.Equal(t, Suspect, next(29), "a spike against its neighbours")
	assert.Equal(t, Good, next(20.4))
	assert.Equal(t, Bad, next(85), "outside the plausible range")
	for range 6 {
		assert.Equal(t, Good, next(21))
	}
	assert.Equal(t, Suspect, next(21), "unchanged for longer than a sensor can be")
	assert.Equal(t, Good, next(21.1))
}

func FuzzForms(f *testing.F) {
	for _, s := range []string{senmlMultiple, senmlTypes, "t,a\n1,2\n", "k=x a=1 t=5", `[{"a":1,"t":1795413600}]`,
		"\x87\xa7\x21", "[[]]"} {
		f.Add([]byte(s))
	}
	now := time.Unix(1795413600, 0)
	f.Fuzz(func(t *testing.T, b []byte) {
		finite := func(named []Named, _ []error, err error) {
			for _, n := range named {
				assert.True(t, err != nil || !math.IsNaN(n.Value.Num) && !math.IsInf(n.Value.Num, 0))
			}
		}
		finite(Message(b, now))
		finite(SenML(b, now))
		finite(SenMLCBOR(b, now))
		finite(CSV(b))
		_, named, faults, err := Line(b)
		finite(named, faults, err)
	})
}

// A quote that is not closed costs its line and no other.
func TestAQuoteThatIsNotClosed(t *testing.T) {
	named, faults, err := CSV([]byte("t,chamber,note\n1772442000,20,\"wet\n1772442060,21,dry\n" +
		"1772442120,22,\"d\"\"ry\"\n1772442180,23\n"))
	require.NoError(t, err)
	require.Len(t, faults, 2)
	assert.ErrorContains(t, faults[0], "line 2: ")
	assert.ErrorContains(t, faults[1], "line 5: it has 2 cells, and the header has 3")
	require.Len(t, named, 4)
	assert.Equal(t, []any{21.0, "dry", 22.0, `d"ry`}, []any{named[0].Value.Num, named[1].Value.Text, named[2].Value.Num,
		named[3].Value.Text})
}
