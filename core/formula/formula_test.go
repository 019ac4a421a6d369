package formula_test

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"idleember/core/calendar"
	"idleember/core/formula"
	"idleember/core/site"
)

type names map[string]formula.Name

func (n names) Name(id string) (formula.Name, []string, bool) {
	x, ok := n[id]
	var all []string
	for id := range n {
		all = append(all, id)
	}
	return x, site.Nearest(id, all), ok
}

var studio = names{
	"drying_room.humidity":    {Kind: site.Number, Unit: "%"},
	"drying_room.temperature": {Kind: site.Number, Unit: "Cel"},
	"drying_room.setpoint":    {Kind: site.Number, Unit: "Cel"},
	"slip_tank.float":         {Kind: site.OnOff},
	"kiln.lid":                {Kind: site.Text},
	"kiln.vent.is":            {Kind: site.OnOff},
}

func eval(t require.TestingT, text string, values map[string]formula.Value, wall time.Time) formula.Value {
	f, err := formula.Parse(text, studio)
	require.NoError(t, err, text)
	env := formula.Env{Clock: formula.Clock{Wall: wall, Sun: calendar.Spot{Latitude: 48.2, Longitude: 9.8}}}
	for _, id := range f.IDs {
		env.Values = append(env.Values, values[id])
		env.Ages = append(env.Ages, 90*time.Second)
	}
	return f.Eval(&env)
}

func TestFormulas(t *testing.T) {
	values := map[string]formula.Value{
		"drying_room.humidity": formula.Number(62), "drying_room.setpoint": formula.Number(24), // the temperature is unknown
		"slip_tank.float": formula.Bool(true), "kiln.lid": formula.Text("shut"),
	}
	wall := time.Date(2026, 11, 23, 20, 40, 0, 0, time.UTC) // a Monday
	yes, no, unknown := formula.Bool(true), formula.Bool(false), formula.Unknown
	for text, want := range map[string]formula.Value{
		`drying_room.humidity > 60 && hour < 21`:                          yes,
		`drying_room.humidity > 60 and hour < 20`:                         no,
		`40 <= drying_room.humidity < 60`:                                 no,
		`drying_room.temperature < 20`:                                    unknown,
		`drying_room.temperature < 20 and not slip_tank.float`:            no,
		`slip_tank.float or drying_room.temperature < 20`:                 yes,
		`not slip_tank.float or drying_room.temperature < 20`:             unknown,
		`(drying_room.temperature ?? drying_room.setpoint) < 24.5`:        yes,
		`kiln.lid == "shut" and slip_tank.float == on`:                    yes,
		`kiln.lid != "shut"`:                                              no,
		`kiln.vent.is`:                                                    unknown,
		`drying_room.temperature > 5 ? slip_tank.float : slip_tank.float`: yes,
		`weekday == 1 and day == 23 and month == 11 and minute == 40`:     yes,
		`now >= at("20:40") and now < at("20:41")`:                        yes,
		`daylight or now < sunrise or now < sunset`:                       no,
		`age(drying_room.temperature) > 1`:                                yes,
		`drying_room.humidity / 0 > 1`:                                    unknown,
		`max(drying_room.humidity, 10, 70) == 70 and round(1.6) == 2`:     yes,
		`-drying_room.humidity + 2 ^ 3 - 10 % 4`:                          formula.Number(-62 + 8 - 2),
		`abs(min(drying_room.setpoint - 30, 3)) * 2`:                      formula.Number(12),
	} {
		assert.Equal(t, want, eval(t, text, values, wall), text)
	}
}

func TestWrongFormulasAreToldWithTheirPlace(t *testing.T) {
	for text, want := range map[string]string{
		"": "the formula is empty",
		"drying_room.humidty > 60": "at character 1: there is no drying_room.humidty; did you mean " +
			"drying_room.humidity?",
		"1 < 2 and drying_room.x > 0":                    "at character 11: there is no drying_room.x",
		"drying_room.humidity > ":                        "end of the formula",
		"drying_room.humidity >> 3":                      "at character 23",
		`kiln.lid > 3`:                                   "at character 1: > needs numbers, and kiln.lid is a text",
		`3 + slip_tank.float`:                            "at character 5",
		`drying_room.humidity and true`:                  "and needs conditions, and drying_room.humidity is a number",
		`not 3`:                                          "not needs a condition",
		`kiln.lid == 3`:                                  "a text cannot be compared with a number",
		`drying_room.humidity > drying_room.temperature`: "% and Cel are different units",
		`drying_room.setpoint + drying_room.humidity`:    "different units",
		`men(drying_room.humidity, "10m")`:               "there is no function men; did you mean mean or min",
		`mean(drying_room.humidity, "10 days")`:          "a span of time is needed",
		`mean(drying_room.humidity, 10)`:                 "stands in quotes",
		`mean(3, "10m")`:                                 "needs an id",
		`on_time(kiln.lid, "1h")`:                        "on or off",
		`rise(slip_tank.float, "1h")`:                    "rise needs a number",
		`hours < 3`:                                      "did you mean hour",
		`drying_room.humidity > 1 / 0`:                   "1 / 0 has no value",
		`drying_room.humidity > 1e308 * 10`:              "1e+308 * 10 has no value",
		`drying_room.humidity > 1e400`:                   "this number is too large",
		`wet`:                                            "text stands in quotes",
		`at("25:00") > now`:                              "no time of day",
		`drying_room.humidity in [1, 2]`:                 "not part of this formula language",
		`[1, 2]`:                                         "not part of this formula language",
		`true ? 1 : "a"`:                                 "both must be of one kind",
		`let x = 3; x > 2`:                               "not part of this formula language",
	} {
		_, err := formula.Parse(text, studio)
		assert.ErrorContains(t, err, want, text)
		var fe *formula.Error
		assert.ErrorAs(t, err, &fe, text)
	}
	_, err := formula.Condition("drying_room.humidity", studio)
	assert.ErrorContains(t, err, "a condition must be true or false, as in drying_room.humidity > 20")
	_, err = formula.Quantity("slip_tank.float", studio)
	assert.ErrorContains(t, err, "a number is needed here")
}

func TestAFormulaTellsWhatItNeeds(t *testing.T) {
	f, err := formula.Condition(`mean(drying_room.humidity, "10m") > 60 and drying_room.humidity > 50 and hour < 3`,
		studio)
	require.NoError(t, err)
	assert.Equal(t, []string{"drying_room.humidity"}, f.IDs)
	assert.Equal(t, []formula.Need{{ID: "drying_room.humidity", Span: 10 * time.Minute}}, f.Needs)
	assert.Equal(t, 10*time.Second, f.Every)
}

// What is unknown never decides: whatever an unknown id may turn out to be, a known outcome stays.
func TestUnknownDecidesNothing(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var build func(depth int) string
		build = func(depth int) string {
			if depth == 0 {
				return rapid.SampledFrom([]string{"slip_tank.float", "kiln.vent.is", "(drying_room.humidity > 50)", "true",
					"false"}).Draw(t, "leaf")
			}
			switch rapid.IntRange(0, 3).Draw(t, "op") {
			case 0:
				return "(" + build(depth-1) + " and " + build(depth-1) + ")"
			case 1:
				return "(" + build(depth-1) + " or " + build(depth-1) + ")"
			case 2:
				return "not " + build(depth-1)
			}
			return "(" + build(depth-1) + " ? " + build(depth-1) + " : " + build(depth-1) + ")"
		}
		text := build(3)
		partly := map[string]formula.Value{"slip_tank.float": formula.Bool(rapid.Bool().Draw(t, "float"))}
		got := eval(t, text, partly, time.Time{})
		if !got.Known {
			return
		}
		for _, vent := range []bool{true, false} {
			for _, humidity := range []float64{40, 60} {
				partly["kiln.vent.is"], partly["drying_room.humidity"] = formula.Bool(vent), formula.Number(humidity)
				assert.Equal(t, got, eval(t, text, partly, time.Time{}), text)
			}
		}
	})
}

// A window comes to what adding everything up by hand comes to.
func TestWindowsAgainstPlainSums(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		span := time.Duration(rapid.IntRange(60, 7200).Draw(t, "span")) * time.Second
		pane := max(time.Second, (span / 60).Truncate(time.Second))
		w := formula.NewWindow(span)
		start := time.UnixMilli(1_795_413_600_000)
		w.Known(start.Add(-time.Hour * 300))
		type point struct {
			at time.Time
			v  float64
		}
		var all []point
		at := start
		for range rapid.IntRange(1, 200).Draw(t, "n") {
			v := float64(rapid.IntRange(0, 3).Draw(t, "v"))
			all = append(all, point{at, v})
			w.Add(at, v)
			at = at.Add(time.Duration(rapid.IntRange(1, 90_000).Draw(t, "gap")) * time.Millisecond)
		}
		begin := at.Add(-span)
		begin = begin.Add(-time.Duration(begin.UnixMilli()%pane.Milliseconds()) * time.Millisecond)
		var area, on float64
		low, high, first, covered := math.Inf(1), math.Inf(-1), math.NaN(), 0.0
		for i, p := range all {
			end := at
			if i+1 < len(all) {
				end = all[i+1].at
			}
			if end.Before(begin) || end.Equal(begin) && i+1 < len(all) {
				continue
			}
			from := p.at
			if from.Before(begin) {
				from = begin
			}
			if math.IsNaN(first) {
				first = p.v
			}
			ms := float64(end.Sub(from).Milliseconds())
			area, covered = area+p.v*ms, covered+ms
			if p.v != 0 {
				on += ms
			}
			low, high = min(low, p.v), max(high, p.v)
		}
		ask := func(f string) formula.Value {
			x, err := formula.Quantity(f+`(drying_room.humidity, "`+span.String()+`")`, studio)
			require.NoError(t, err)
			return x.Eval(&formula.Env{Values: []formula.Value{formula.Number(0)}, Windows: []*formula.Window{w},
				Clock: formula.Clock{Wall: at}})
		}
		if covered > 0 {
			assert.InDelta(t, area/covered, ask("mean").Num, 1e-9)
		}
		assert.Equal(t, all[len(all)-1].v-first, ask("rise").Num)
		assert.Equal(t, low, ask("lowest").Num)
		assert.Equal(t, high, ask("highest").Num)
	})
}

func TestAWindowThatIsNotYetFilledIsUnknown(t *testing.T) {
	f, err := formula.Quantity(`mean(drying_room.humidity, "10m")`, studio)
	require.NoError(t, err)
	w := formula.NewWindow(10 * time.Minute)
	at := func(m int) time.Time { return time.Unix(1_795_413_600, 0).Add(time.Duration(m) * time.Minute) }
	env := func(m int) *formula.Env {
		return &formula.Env{Values: []formula.Value{formula.Number(5)}, Windows: []*formula.Window{w},
			Clock: formula.Clock{Wall: at(m)}}
	}
	assert.False(t, f.Eval(env(0)).Known)
	w.Add(at(0), 5)
	assert.False(t, f.Eval(env(5)).Known, "the store was not asked yet")
	w.Add(at(5), 7)
	assert.Equal(t, formula.Number(6), f.Eval(env(10)))
	w = formula.NewWindow(10 * time.Minute)
	w.Known(at(-10))
	w.Add(at(0), 5)
	assert.Equal(t, formula.Number(5), f.Eval(env(1)))
	stale := env(1)
	stale.Values[0] = formula.Unknown
	assert.False(t, f.Eval(stale).Known, "of a stale signal nothing over time is known")
}

func BenchmarkEval(b *testing.B) {
	f, err := formula.Condition(`drying_room.temperature < drying_room.setpoint - 0.5 and not slip_tank.float`, studio)
	require.NoError(b, err)
	env := &formula.Env{Values: []formula.Value{formula.Number(20), formula.Number(24), formula.Bool(false)}}
	b.ReportAllocs()
	for b.Loop() {
		f.Eval(env)
	}
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{`drying_room.humidity > 60`, `mean(kiln.lid, "10m")`, `not not (1 ? 2 : 3)`, "a.b.c.d", `"`,
		"max()"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		x, err := formula.Parse(text, studio)
		if err != nil {
			var fe *formula.Error
			require.ErrorAs(t, err, &fe)
			return
		}
		env := formula.Env{Values: make([]formula.Value, len(x.IDs)), Ages: make([]time.Duration, len(x.IDs))}
		for _, n := range x.Needs {
			env.Windows = append(env.Windows, formula.NewWindow(n.Span))
		}
		x.Eval(&env)
	})
}
