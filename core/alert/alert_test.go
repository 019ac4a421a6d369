package alert

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"idleember/core/series"
	"idleember/core/site"
)

var noon = time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)

// Each line of the table in docs/alerts.md.
func TestLifeCycle(t *testing.T) {
	type step struct {
		in   Event
		want []What
		then Phase
	}
	latch, rest := Config{Latch: true}, Config{Rest: time.Hour}
	for name, x := range map[string]struct {
		cfg   Config
		steps []step
	}{
		"comes and goes": {Config{}, []step{{Came, []What{WasRaised}, Active}, {Went, []What{WasOver}, Normal}}},
		"acknowledged": {Config{}, []step{{Came, []What{WasRaised}, Active}, {Acknowledge, []What{WasAcked},
			Acknowledged}, {Went, []What{WasOver}, Normal}}},
		"again after that": {Config{}, []step{{Came, []What{WasRaised}, Active}, {Acknowledge, []What{WasAcked},
			Acknowledged}, {Went, []What{WasOver}, Normal}, {Came, []What{WasRaised}, Active}}},
		"latched": {latch, []step{{Came, []What{WasRaised}, Active}, {Went, []What{WasReturned}, Returned},
			{Acknowledge, []What{WasCleared}, Normal}}},
		"latched and acknowledged": {latch, []step{{Came, []What{WasRaised}, Active}, {Acknowledge, []What{WasAcked},
			Acknowledged}, {Went, []What{WasOver}, Normal}}},
		"latched comes again": {latch, []step{{Came, []What{WasRaised}, Active}, {Went, []What{WasReturned}, Returned},
			{Came, []What{WasAgain}, Active}, {Went, []What{WasReturned}, Returned}}},
		"shelved while up": {Config{}, []step{{Came, []What{WasRaised}, Active}, {Shelve, []What{WasShelved},
			Shelved}, {Unshelve, []What{WasUnshelved, WasRaised}, Active}}},
		"over on the shelf": {Config{}, []step{{Came, []What{WasRaised}, Active}, {Shelve, []What{WasShelved},
			Shelved}, {Went, nil, Shelved}, {Unshelve, []What{WasUnshelved}, Normal}}},
		"comes on the shelf": {Config{}, []step{{Shelve, []What{WasShelved}, Shelved}, {Came, nil, Shelved}, {Unshelve,
			[]What{WasUnshelved, WasRaised}, Active}}},
		"out of service": {Config{}, []step{{Came, []What{WasRaised}, Active}, {Retire, []What{WasRetired},
			OutOfService}, {Went, nil, OutOfService}, {Came, nil, OutOfService}, {Restore, []What{WasRestored, WasRaised},
			Active}}},
		"rests": {rest, []step{{Came, []What{WasRaised}, Active}, {Went, []What{WasOver}, Normal}, {Came,
			nil, Normal}, {Due, nil, Normal}}},
		"near, then there": {Config{}, []step{{Nears, []What{WasNear}, Normal}, {Nears, nil, Normal}, {Came,
			[]What{WasRaised}, Active}}},
		"near, and away, and again": {Config{}, []step{{Nears, []What{WasNear}, Normal}, {Parts, nil, Normal}, {Nears,
			[]What{WasNear}, Normal}}},
	} {
		t.Run(name, func(t *testing.T) {
			s := State{ID: "damp"}
			for i, x0 := range x.steps {
				got, err := s.Apply(x.cfg, noon.Add(time.Duration(i)*time.Minute), Input{Event: x0.in, By: "Mo",
					Until: noon.Add(2 * time.Hour)})
				require.NoError(t, err)
				assert.Equal(t, x0.want, got, "step %d", i)
				assert.Equal(t, x0.then, s.Phase(), "step %d", i)
			}
		})
	}
}

func TestWhatCannotBeDoneIsTold(t *testing.T) {
	for in, words := range map[Event]string{Acknowledge: "nothing to acknowledge: the alert is quiet",
		Unshelve: "bring back from the shelf", Restore: "put back in service"} {
		_, err := (&State{}).Apply(Config{}, noon, Input{Event: in})
		assert.ErrorContains(t, err, words)
	}
	_, err := (&State{}).Apply(Config{}, noon, Input{Event: Shelve, Until: noon})
	assert.Error(t, err, "a shelf that is over")
}

// A shelf and a rest end by themselves, and what still holds is raised then.
func TestTimesEndByThemselves(t *testing.T) {
	s := State{}
	_, _ = s.Apply(Config{}, noon, Input{Event: Came})
	_, _ = s.Apply(Config{}, noon, Input{Event: Shelve, Until: noon.Add(time.Hour)})
	assert.Equal(t, noon.Add(time.Hour), s.Next())
	what, _ := s.Apply(Config{}, noon.Add(time.Hour), Input{Event: Due})
	assert.Equal(t, []What{WasUnshelved, WasRaised}, what)
	rest := Config{Rest: time.Hour}
	_, _ = s.Apply(rest, noon.Add(2*time.Hour), Input{Event: Went})
	_, _ = s.Apply(rest, noon.Add(2*time.Hour), Input{Event: Came})
	assert.Equal(t, noon.Add(3*time.Hour), s.Next())
	what, _ = s.Apply(rest, noon.Add(3*time.Hour), Input{Event: Due})
	assert.Equal(t, []What{WasRaised}, what)
}

// Whom it is told, how often, and when it is quiet.
func TestTelling(t *testing.T) {
	phone := site.Route{ID: "phone", Person: "mo", Least: site.Warning, From: "22:00", Until: "07:00",
		RemindMS: 30 * 60_000, Ends: true}
	neighbour := site.Route{ID: "neighbour", Least: site.Warning, AfterMS: 45 * 60_000}
	log := site.Route{ID: "log", Least: site.Info, Places: []string{"kiln_shed"}}
	routes := []site.Route{log, neighbour, phone}
	s := State{ID: "damp"}
	tell := func(at time.Time, severity site.Severity) (out []string) {
		list, _ := s.Tell(routes, severity, "drying_room", at)
		for _, m := range list {
			out = append(out, m.Route+" "+string(m.What))
		}
		return out
	}
	act := func(at time.Time, e Event) { _, _ = s.Apply(Config{}, at, Input{Event: e, By: "Mo", ByID: "mo"}) }
	act(noon, Came)
	assert.Equal(t, []string{"phone raised"}, tell(noon, site.Warning))
	assert.Empty(t, tell(noon.Add(time.Minute), site.Warning), "once")
	assert.Equal(t, []string{"phone reminder"}, tell(noon.Add(30*time.Minute), site.Warning))
	assert.Equal(t, []string{"neighbour raised"}, tell(noon.Add(45*time.Minute), site.Warning), "nobody acknowledged")
	act(noon.Add(50*time.Minute), Acknowledge)
	assert.Equal(t, []string{"neighbour acknowledged"}, tell(noon.Add(50*time.Minute), site.Warning),
		"the others who were told, once")
	assert.Empty(t, tell(noon.Add(2*time.Hour), site.Warning), "somebody knows")
	act(noon.Add(3*time.Hour), Went)
	assert.Equal(t, []string{"phone over"}, tell(noon.Add(3*time.Hour), site.Warning))
	assert.Empty(t, tell(noon.Add(4*time.Hour), site.Warning))

	night := noon.Add(11 * time.Hour)
	act(night, Came)
	assert.Empty(t, tell(night, site.Warning), "quiet hours")
	_, next := s.Tell(routes, site.Warning, "drying_room", night)
	assert.Equal(t, night.Add(45*time.Minute), next, "the neighbour's turn")
	assert.Equal(t, []string{"neighbour raised", "phone raised"}, tell(night.Add(8*time.Hour), site.Warning),
		"what still holds in the morning")
	act(night.Add(24*time.Hour), Went)
	assert.Empty(t, tell(night.Add(24*time.Hour), site.Warning), "nor that it is over, at night")
	assert.Equal(t, []string{"phone over"}, tell(night.Add(33*time.Hour), site.Warning))
	s = State{ID: "gas"}
	act(night, Came)
	assert.Equal(t, []string{"phone raised"}, tell(night, site.Critical), "critical ones come at night")
	s = State{ID: "gas"}
	act(noon, Came)
	list, _ := s.Tell(routes, site.Warning, "kiln_shed", noon)
	assert.Equal(t, []string{"log", "phone"}, []string{list[0].Route, list[1].Route})
	assert.Empty(t, tell(noon, site.Info), "too little for anybody here")
}

// However events come: nobody is told of a time more often than once but for reminders, and over only what was raised.
func TestToldOnce(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		cfg := Config{Latch: rapid.Bool().Draw(t, "latch"), Rest: time.Duration(rapid.IntRange(0, 3).Draw(t,
			"rest")) * time.Minute}
		routes := []site.Route{{ID: "a", Least: site.Info, Ends: true}, {ID: "b", Least: site.Info, AfterMS: 120_000}}
		s, now := State{ID: "x"}, noon
		raised := map[string]int{}
		for range rapid.IntRange(1, 60).Draw(t, "steps") {
			now = now.Add(time.Duration(rapid.IntRange(0, 180).Draw(t, "wait")) * time.Second)
			before := s.N
			_, _ = s.Apply(cfg, now, Input{Event: Event(rapid.IntRange(0, int(Due)).Draw(t, "event")),
				Until: now.Add(2 * time.Minute)})
			require.GreaterOrEqual(t, s.N, before)
			list, next := s.Tell(routes, site.Warning, "", now)
			require.True(t, next.IsZero() || next.After(now), "what is due is told")
			for _, m := range list {
				key := fmt.Sprint(m.Route, s.N)
				switch m.What {
				case WasRaised:
					raised[key]++
					require.Equal(t, 1, raised[key])
				case WasOver:
					require.NotZero(t, raised[key], "over without having been raised")
				}
			}
			if phase := s.Phase(); phase == Shelved || phase == OutOfService {
				require.Empty(t, list)
			}
		}
	})
}

func columns(step int64, v ...float64) *series.Columns {
	c := &series.Columns{Kind: site.Number}
	for i, x := range v {
		c.T, c.V = append(c.T, int64(i)*step), append(c.V, x)
	}
	return c
}

// A trial over the past comes to what the alert would have done.
func TestTrial(t *testing.T) {
	try := func(a site.Alert, v ...float64) []Occurrence {
		x := NewTrial(&a, 0, time.UTC)
		x.Add(columns(60_000, v...), 0, len(v))
		return x.Finish(int64(len(v)) * 60_000)
	}
	above := site.Alert{Kind: site.AlertAbove, Limit: 60}
	assert.Equal(t, []Occurrence{{From: 120_000, To: 240_000, Worst: 63}}, try(above, 50, 60, 61, 63, 60, 50))
	above.Band = 5
	assert.Equal(t, []Occurrence{{From: 60_000, To: 240_000, Worst: 61}}, try(above, 50, 61, 57, 56, 55, 50),
		"until it is out of the dead band")
	above.AfterMS = 120_000
	assert.Equal(t, []Occurrence{{From: 300_000, To: 360_000, Worst: 62}}, try(above, 50, 61, 50, 61, 62, 62, 50),
		"only what lasts")
	above.AfterMS, above.Band, above.RestMS = 0, 0, 180_000
	assert.Len(t, try(above, 50, 61, 50, 61, 50, 50, 61, 50), 2, "one within the rest is left out")
	below := site.Alert{Kind: site.AlertBelow, Limit: 5, SettleMS: 120_000}
	assert.Equal(t, []Occurrence{{From: 60_000, To: 360_000, Worst: 3}}, try(below, 9, 4, 9, 3, 9, 9, 9, 9),
		"over when it was over for long enough")
	band := site.Alert{Kind: site.AlertOutside, Limit: 10, Upper: 20}
	assert.Equal(t, []Occurrence{{From: 60_000, To: 120_000, Worst: 21}, {From: 180_000, To: 240_000, Worst: 9}}, try(band,
		15, 21, 15, 9, 15))
	assert.Equal(t, []Occurrence{{From: 60_000, To: 120_000, Worst: 21, Open: true}}, try(band, 15, 21))
	night := site.Alert{Kind: site.AlertAbove, Limit: 60, From: "00:02", To: "00:04"}
	assert.Equal(t, []Occurrence{{From: 120_000, To: 240_000, Worst: 70}}, try(night, 70, 70, 70, 70, 70),
		"only at that time of day")
	silent := site.Alert{Kind: site.AlertSilent, SpanMS: 90_000}
	x := NewTrial(&silent, 0, time.UTC)
	x.Add(&series.Columns{Kind: site.Number, T: []int64{0, 60_000, 300_000}, V: []float64{1, 1, 1}}, 0, 3)
	assert.Equal(t, []Occurrence{{From: 150_000, To: 300_000}, {From: 390_000, To: 500_000, Open: true}},
		x.Finish(500_000))
	assert.Nil(t, NewTrial(&site.Alert{Kind: site.AlertOffline}, 0, time.UTC))
}

func BenchmarkTrial(b *testing.B) {
	v := make([]float64, 260_000) // a month, every ten seconds
	for i := range v {
		v[i] = 50 + float64(i%200)/10
	}
	c := columns(10_000, v...)
	a := site.Alert{Kind: site.AlertAbove, Limit: 65, Band: 1, AfterMS: 60_000}
	for b.Loop() {
		t := NewTrial(&a, 0, time.UTC)
		t.Add(c, 0, len(v))
		t.Finish(c.T[len(v)-1])
	}
	b.ReportMetric(float64(len(v))*float64(b.N)/b.Elapsed().Seconds()/1e6, "Mreadings/s")
}
