package engine

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/core/access"
	"idleember/core/alert"
	"idleember/core/reading"
	"idleember/core/site"
)

// became lists what became of alerts, as "id what".
func became(effects []Effect) (out []string) {
	for _, e := range effects {
		if x, ok := e.(AlertChanged); ok {
			for _, w := range x.What {
				out = append(out, x.State.ID+" "+string(w))
			}
		}
	}
	return out
}

// watched is a house with alerts; the built-in ones are off, so that each test sees its own.
func watched(t *testing.T, list ...site.Alert) *house {
	return newHouse(t, func(s *site.Site) {
		for id := range s.AllAlerts() {
			s.Alerts[id] = &site.Alert{ID: id, Off: true, Kind: site.AlertFormula, When: "on"}
		}
		for _, a := range list {
			if a.Severity == "" {
				a.Severity = site.Warning
			}
			require.NoError(t, a.Validate(s), a.ID)
			s.Alerts[a.ID] = &a
		}
	})
}

func (h *house) says(id string, v float64) []Effect {
	return h.do(Reading{Signal: "h." + id, Newest: true, Value: reading.Number(v)})
}

// Each kind of condition comes and goes where it should.
func TestEachKindOfAlert(t *testing.T) {
	minute := time.Minute.Milliseconds()
	steady := func(h *house, id string, v, slope float64, n int) (out []Effect) {
		for i := range n {
			out = append(out, h.says(id, v+slope*float64(i))...)
			out = append(out, h.pass(10*time.Second)...)
		}
		return out
	}
	for name, x := range map[string]struct {
		a    site.Alert
		do   func(h *house) []Effect
		want []string
	}{
		"above": {site.Alert{ID: "a", Kind: site.AlertAbove, Of: "h.gas", Limit: 30, Band: 5}, func(h *house) []Effect {
			return append(append(append(h.says("gas", 20), h.says("gas", 31)...), h.says("gas", 26)...), h.says("gas", 25)...)
		}, []string{"a raised", "a over"}},
		"below": {site.Alert{ID: "a", Kind: site.AlertBelow, Of: "h.gas", Limit: 30}, func(h *house) []Effect {
			return append(h.says("gas", 29), h.says("gas", 30)...)
		}, []string{"a raised", "a over"}},
		"outside": {site.Alert{ID: "a", Kind: site.AlertOutside, Of: "h.temperature", Limit: 10, Upper: 20, Band: 1},
			func(h *house) []Effect {
				return append(append(append(h.says("temperature", 21), h.says("temperature", 19.5)...), h.says("temperature",
					9)...), h.says("temperature", 15)...)
			}, []string{"a raised", "a over"}},
		"after a delay": {site.Alert{ID: "a", Kind: site.AlertAbove, Of: "h.gas", Limit: 30, AfterMS: minute,
			SettleMS: minute}, func(h *house) []Effect {
			return append(append(steady(h, "gas", 31, 0, 3), steady(h, "gas", 29, 0, 3)...), append(steady(h, "gas", 31, 0, 8),
				steady(h, "gas", 29, 0, 8)...)...)
		}, []string{"a raised", "a over"}},
		"getting there": {site.Alert{ID: "a", Kind: site.AlertBelow, Of: "h.gas", Limit: 30, Early: "50"},
			func(h *house) []Effect {
				return append(append(h.says("gas", 60), h.says("gas", 45)...), h.says("gas", 20)...)
			}, []string{"a near", "a raised"}},
		"an event": {site.Alert{ID: "a", Kind: site.AlertEvent, Of: "h.open", Latch: true}, func(h *house) []Effect {
			return append(h.do(Reading{Signal: "h.open", Newest: true, Value: reading.OnOff(true)}),
				h.do(Reading{Signal: "h.open", Newest: true, Value: reading.OnOff(false)})...)
		}, []string{"a raised", "a returned"}},
		"stale": {site.Alert{ID: "a", Kind: site.AlertStale, Of: "h.gas"}, func(h *house) []Effect {
			return append(append(h.says("gas", 20), h.pass(5*time.Minute)...), h.says("gas", 20)...)
		}, []string{"a raised", "a over"}},
		"silent": {site.Alert{ID: "a", Kind: site.AlertSilent, Of: "h.gas", SpanMS: 3 * minute}, func(h *house) []Effect {
			return append(append(h.says("gas", 20), h.pass(2*time.Minute)...), append(h.pass(3*time.Minute),
				append(h.says("gas", 20), h.pass(time.Minute)...)...)...)
		}, []string{"a raised", "a over"}},
		"away": {site.Alert{ID: "a", Kind: site.AlertOffline, Of: "h", AfterMS: minute}, func(h *house) []Effect {
			out := append(h.do(Offline{Device: "h", Session: "1", Why: "the plug"}), h.pass(3*time.Minute)...)
			return append(out, append(h.do(Online{Device: "h", Session: "2"}), h.pass(time.Second)...)...)
		}, []string{"a raised", "a over"}},
		"not confirmed": {site.Alert{ID: "a", Kind: site.AlertUnconfirmed, Of: "h.fan"}, func(h *house) []Effect {
			h.do(Report{Control: "h.fan", Session: "1", Value: 0})
			out := append(h.do(Command{Control: "h.fan", To: 1, Actor: access.HubActor()}), h.pass(time.Minute)...)
			return append(out, h.do(Report{Control: "h.fan", Session: "1", Value: 1})...)
		}, []string{"a raised", "a over"}},
		"a formula": {site.Alert{ID: "a", Kind: site.AlertFormula, When: "h.gas > 10 and h.humidity > 60"},
			func(h *house) []Effect {
				return append(append(h.says("gas", 20), h.says("humidity", 70)...), h.says("humidity", 50)...)
			}, []string{"a raised", "a over"}},
		"due for service": {site.Alert{ID: "a", Kind: site.AlertService, Of: "h.fan", Limit: 2}, func(h *house) []Effect {
			h.do(Report{Control: "h.fan", Session: "1", Value: 0})
			out := append(h.do(Command{Control: "h.fan", To: 1, Actor: access.HubActor()}),
				h.do(Report{Control: "h.fan", Session: "1", Value: 1})...)
			out = append(out, h.pass(90*time.Minute)...)
			require.Empty(h.t, became(out))
			out = append(out, h.pass(45*time.Minute)...)
			return append(out, append(h.do(Serviced{Control: "h.fan", Actor: access.HubActor()}), h.pass(time.Minute)...)...)
		}, []string{"a raised", "a over"}},
		"only at night": {site.Alert{ID: "a", Kind: site.AlertEvent, Of: "h.open", From: "22:00", To: "06:00"},
			func(h *house) []Effect {
				out := h.do(Reading{Signal: "h.open", Newest: true, Value: reading.OnOff(true)}) // at 10:00
				require.Empty(h.t, became(out))
				return append(h.pass(12*time.Hour), h.pass(9*time.Hour)...)
			}, []string{"a raised", "a over"}},
		"the hub's own disk": {site.Alert{ID: "a", Kind: site.AlertFormula, When: "hub.disk_used > 90",
			Until: "hub.disk_used < 88"}, func(h *house) []Effect {
			say := func(v float64) []Effect { return h.do(Health{map[string]float64{"hub.disk_used": v}}) }
			return append(append(say(91), say(89)...), say(80)...)
		}, []string{"a raised", "a over"}},
	} {
		t.Run(name, func(t *testing.T) {
			h := watched(t, x.a)
			assert.Equal(t, x.want, became(x.do(h)))
		})
	}
}

// Of a device that is away nothing else is told: its own alert says it.
func TestOneCauseOneAlert(t *testing.T) {
	h := watched(t, site.Alert{ID: "away", Kind: site.AlertOffline, Of: "h"}, site.Alert{ID: "stale",
		Kind: site.AlertStale, Of: "h.gas"}, site.Alert{ID: "way", Kind: site.AlertUnconfirmed, Of: "h.fan"})
	h.says("gas", 20)
	h.do(Report{Control: "h.fan", Session: "1", Value: 0})
	h.do(Offline{Device: "h", Session: "1"})
	h.do(Command{Control: "h.fan", To: 1, Actor: access.HubActor()})
	assert.Equal(t, []string{"away raised"}, became(h.pass(20*time.Minute)))
}

// A restarted engine knows what was up; whoever was there before is waited for.
func TestAlertsOverARestart(t *testing.T) {
	h := watched(t, site.Alert{ID: "gas", Kind: site.AlertAbove, Of: "h.gas", Limit: 30}, site.Alert{ID: "away",
		Kind: site.AlertOffline, Of: "h"})
	h.says("gas", 40)
	h.do(AlertAction{Alert: "gas", Event: alert.Acknowledge, Word: "I look", Actor: access.HubActor()})
	gas, _, _, _ := h.Alert("gas")
	b := &bench{Engine: New(), now: Now{Wall: h.now.Wall.Add(time.Minute), Trusted: true}, site: h.site}
	b.do(SiteChanged{h.site})
	b.do(Restored{Alive: h.now.Wall, Alerts: []alert.State{gas}, Devices: []DeviceState{{ID: "h", Online: true,
		Since: start}}})
	again, _, _, _ := b.Alert("gas")
	assert.Equal(t, alert.Acknowledged, again.Phase())
	assert.Empty(t, became(b.pass(30*time.Second)), "everybody may come back first")
	assert.Equal(t, []string{"away raised"}, became(b.pass(2*time.Minute)))
	assert.Equal(t, "gas acknowledged by the hub", fmt.Sprintf("gas %s by %s", again.Phase(), again.AckedBy))
}

// A formula that was read before is read again where what it names is something else now.
func TestFormulasFollowWhatTheyName(t *testing.T) {
	h := watched(t, site.Alert{ID: "warm", Name: "Warm", Kind: site.AlertFormula, When: "h.temperature > 25"})
	change := func(kind site.ValueKind) {
		s := h.site.Clone()
		g := s.Signals["h.temperature"]
		g.Kind = kind
		s.Signals["h.temperature"] = g
		h.site = s
		h.do(SiteChanged{s})
	}
	assert.Equal(t, []string{"warm raised"}, became(h.says("temperature", 30)))
	assert.Equal(t, []string{"warm over"}, became(h.says("temperature", 20)))
	change(site.Text)
	assert.Empty(t, became(h.do(Reading{Signal: "h.temperature", Newest: true, Value: reading.Text("hot")})))
	change(site.Number)
	assert.Equal(t, []string{"warm raised"}, became(h.says("temperature", 30)))
}

// alerting is a site with 5,000 alerts on 1,000 signals.
func alerting() *site.Site {
	s := (&site.Site{}).Clone()
	s.Devices["h"] = site.Device{ID: "h", Name: "House"}
	for i := range 1000 {
		id := fmt.Sprintf("h.s%d", i)
		s.Signals[id] = site.Signal{ID: id, Device: "h", Kind: site.Number, Reports: site.Periodic, IntervalMS: 3600_000}
		for j := range 5 {
			a := site.Alert{ID: fmt.Sprintf("a%d_%d", i, j), Kind: site.AlertAbove, Of: id, Limit: 30 + float64(j), Band: 1,
				Severity: site.Warning}
			s.Alerts[a.ID] = &a
		}
	}
	return s
}

// A reading that changes nothing costs little, however many alerts look at other things.
func BenchmarkReadingWithAlerts(b *testing.B) {
	s := alerting()
	e := New()
	now := Now{Wall: start, Trusted: true}
	e.Apply(now, SiteChanged{s})
	e.Apply(now, Restored{})
	e.Apply(now, Online{Device: "h", Session: "1"})
	in := &Reading{Newest: true}
	for i := 0; b.Loop(); i++ {
		now.Mono += time.Millisecond
		in.Signal, in.Value = "h.s7", reading.Number(20+float64(i%2)) // five conditions look at it
		e.Apply(now, in)
	}
	b.ReportMetric(b.Elapsed().Seconds()*1e9/float64(b.N)/5, "ns/condition")
}

// BenchmarkSiteChangedWithAlerts changes a name in a site with 5,000 alerts: every condition is looked at again.
func BenchmarkSiteChangedWithAlerts(b *testing.B) {
	s, e, now := alerting(), New(), Now{Wall: start, Trusted: true}
	e.Apply(now, SiteChanged{s})
	e.Apply(now, Restored{})
	for b.Loop() {
		s = s.Clone()
		d := s.Devices["h"]
		d.Name += "x"
		s.Devices["h"] = d
		e.Apply(now, SiteChanged{s})
	}
}
