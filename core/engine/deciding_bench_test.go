package engine

import (
	"fmt"
	"testing"
	"time"

	"idleember/core/reading"
	"idleember/core/site"
)

// crowd is a site with 200 controls and 500 conditions over 400 signals.
func crowd() *site.Site {
	s := (&site.Site{}).Clone()
	for i := range 200 {
		dev := fmt.Sprintf("d%d", i)
		s.Devices[dev] = site.Device{ID: dev, Name: dev}
		for _, what := range []string{"temperature", "gas"} {
			id := dev + "." + what
			s.Signals[id] = site.Signal{ID: id, Device: dev, Name: what, Kind: site.Number, Reports: site.Periodic,
				IntervalMS: 10_000}
		}
		s.Settings[dev+".setpoint"] = site.Setting{ID: dev + ".setpoint", Name: "Setpoint", Kind: site.SetNumber, Max: 40,
			Default: 22}
		c := site.NewControl(dev, "heater", "heater", "Heater")
		s.Controls[c.ID] = c
		s.Automations[c.ID] = &site.Automation{Control: c.ID,
			Demands: []site.Demand{{Kind: HoldAbove, Of: dev + ".temperature", Target: dev + ".setpoint", Band: 1}},
			Interlocks: []site.Interlock{{Name: "gas", Condition: site.Condition{When: dev + ".gas > 30", Until: dev +
				".gas < 15"}}}}
		if i < 100 {
			s.Automations[c.ID].Permits = []site.Permit{{Condition: site.Condition{When: fmt.Sprintf(
				"d%d.gas < 25 and %s.temperature < 35", (i+1)%200, dev)}}}
		}
	}
	return s
}

// BenchmarkReadings lets readings come to an engine with 200 controls and 500 conditions. Changing ones differ every
// time, steady ones do not; neither makes anything switch.
func BenchmarkReadings(b *testing.B) {
	for _, kind := range []string{"changing", "steady"} {
		b.Run(kind, func(b *testing.B) {
			e := New()
			now := Now{Wall: start, Trusted: true}
			s := crowd()
			e.Apply(now, SiteChanged{s})
			e.Apply(now, Restored{})
			for dev := range s.Devices {
				e.Apply(now, Online{Device: dev, Session: "1"})
			}
			ids := sorted(s.Signals)
			in := make([]*Reading, len(ids))
			for i, id := range ids {
				in[i] = &Reading{Signal: id, Value: reading.Number(10)}
				e.Apply(now, in[i])
			}
			got := len(e.conds)
			for _, x := range e.controls {
				got += len(x.interlocks)
			}
			if got < 500 {
				b.Fatalf("%d conditions", got)
			}
			b.ReportAllocs()
			b.ResetTimer()
			for i := range b.N {
				x := in[i%len(in)]
				if kind == "changing" {
					x.Value.Num = 10 + float64(i&3)
				}
				if i%len(in) == 0 {
					now.Mono += 5 * time.Second
					now.Wall = now.Wall.Add(5 * time.Second)
				}
				e.Apply(now, x)
			}
			b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "readings/s")
		})
	}
}
