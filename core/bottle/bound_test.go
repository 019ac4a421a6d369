package bottle

import (
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"idleember/core/access"
	"idleember/core/control"
	"idleember/core/engine"
	"idleember/core/reading"
	"idleember/core/site"
)

// storm gives an engine inputs of every sort at random, with readings most of all, as fast and as late as it comes.
type storm struct {
	rng      *rand.Rand
	site     *site.Site
	engine   *engine.Engine
	now      engine.Now
	devices  []string
	signals  []string
	controls []string
	settings []string
	presets  []string
}

func newStorm(seed uint64) *storm {
	p := NewPlan(seed, time.Hour, 200, 1)
	s := &storm{rng: random(seed, "storm"), site: p.Site, engine: engine.New(), now: engine.Now{Wall: epoch.Add(p.Offset),
		Trusted: true},
		devices: sorted(p.Site.Devices), signals: sorted(p.Site.Signals), controls: sorted(p.Site.Controls),
		settings: sorted(p.Site.Settings), presets: sorted(p.Site.Presets)}
	s.engine.Apply(s.now, engine.SiteChanged{Site: p.Site})
	s.engine.Apply(s.now, engine.Restored{})
	for _, id := range s.devices {
		s.engine.Apply(s.now, engine.Online{Device: id, Session: "1"})
		s.engine.Apply(s.now, engine.Listening{Device: id, Session: "1"})
	}
	return s
}

func (s *storm) one(ids []string) string { return ids[s.rng.IntN(len(ids))] }

// passes lets time go by: mostly an instant, sometimes hours.
func (s *storm) passes() {
	d := time.Duration(s.rng.ExpFloat64() * float64(200*time.Millisecond))
	switch n := s.rng.IntN(20000); {
	case n == 0:
		d = time.Duration(s.rng.IntN(30)) * time.Hour
	case n < 20:
		d = time.Duration(s.rng.IntN(600)) * time.Second
	}
	s.now.Mono += d
	s.now.Wall = epoch.Add(s.now.Wall.Sub(epoch) + d)
}

func (s *storm) input() engine.Input {
	amount := func(c site.Control) site.Amount {
		switch c.What() {
		case site.Level:
			return site.Amount(s.rng.IntN(101))
		case site.Mover:
			return site.Amount(s.rng.IntN(3))
		}
		return site.Amount(s.rng.IntN(2))
	}
	who := access.Actor{Kind: access.Person, ID: "1", Name: "Ada"}
	id := s.one(s.controls)
	device := s.one(s.devices)
	switch n := s.rng.IntN(1000); {
	case n < 700:
		g := s.site.Signals[s.one(s.signals)]
		v := reading.Number(math.Round(s.rng.NormFloat64()*80+180) / 10)
		if g.Kind == site.OnOff {
			v = reading.OnOff(s.rng.IntN(2) == 0)
		}
		in := &engine.Reading{Signal: g.ID, Newest: true, Value: v}
		if s.rng.IntN(50) == 0 {
			in.Stamp = s.now.Wall.Add(-time.Duration(s.rng.IntN(7200)) * time.Second)
		}
		return in
	case n < 850:
		return engine.Report{Control: id, Session: "1", Value: amount(s.site.Controls[id]), By: []engine.By{engine.ByNothing,
			engine.ByHand, engine.ByLease}[s.rng.IntN(3)]}
	case n < 900:
		return engine.Command{Control: id, To: amount(s.site.Controls[id]), Actor: who}
	case n < 920:
		return engine.ToAuto{Control: id, Actor: who}
	case n < 935:
		return engine.Set{Setting: s.one(s.settings), To: site.Amount(s.rng.IntN(41)), Actor: who}
	case n < 945:
		return engine.Apply{Preset: s.one(s.presets), Actor: who}
	case n < 955:
		return engine.Offline{Device: device, Session: "1"}
	case n < 970:
		return engine.Online{Device: device, Session: "1"}
	case n < 980:
		return engine.Listening{Device: device, Session: "1"}
	case n < 985:
		return engine.Serve{Control: id, Service: []control.Service{control.InService, control.OutSilent,
			control.OutAndSafe}[s.rng.IntN(3)], Actor: who}
	case n < 988:
		return engine.Reset{Control: id, Actor: who}
	case n < 990:
		return engine.Leave{Controls: []string{id}, End: s.rng.IntN(4) > 0, Actor: who}
	case n < 991:
		return engine.ClockSet{From: s.now.Wall.Add(-time.Hour), By: time.Duration(s.rng.IntN(3600)-1800) * time.Second}
	case n < 993:
		return engine.Late{Signal: s.one(s.signals)}
	}
	return engine.Tick{}
}

// Whatever comes, what one input brings about is bounded.
func TestOneInputHasBoundedEffects(t *testing.T) {
	const houses = 5
	inputs := 20_000
	if os.Getenv("IDLEEMBER_PROVE") != "" {
		inputs = 200_000
	}
	for seed := range uint64(houses) {
		s := newStorm(seed + 1)
		most, worst, told := 0, "", map[string]bool{}
		began := heap()
		for range inputs {
			s.passes()
			in := s.input()
			effects := s.engine.Apply(s.now, in)
			if n := len(effects); n > most {
				most, worst = n, fmt.Sprintf("%T", in)
			}
			require.LessOrEqual(t, most, 5000, worst)
			clear(told)
			for _, x := range effects {
				if w, ok := x.(engine.Want); ok && w.Pulse == "" {
					require.False(t, told[w.Control], "%s is told twice by one %T", w.Control, in)
					told[w.Control] = true
				}
			}
		}
		grown := float64(heap()-began) / (1 << 20)
		runtime.KeepAlive(s)
		t.Logf("house %d: at most %d effects, of %s; %.1f MB more than at first", seed+1, most, worst, grown)
		require.Less(t, grown, 32.0, "what is remembered of so many inputs has a bound")
	}
}

// heap is how many bytes are in use.
func heap() int64 {
	var m runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&m)
	return int64(m.HeapAlloc)
}

// BenchmarkWorstInput is how long the worst of a million inputs takes. What else the machine does is not the engine's:
// the same inputs are given four times over, and each counts by its fastest.
func BenchmarkWorstInput(b *testing.B) {
	const inputs = 1_000_000
	took := make([]int32, inputs)
	kinds := make([]string, inputs)
	for range b.N {
		for i := range took {
			took[i] = math.MaxInt32
		}
		for range 4 {
			s := newStorm(1)
			for i := range inputs {
				s.passes()
				in := s.input()
				began := time.Now()
				s.engine.Apply(s.now, in)
				if d := int32(time.Since(began)); d < took[i] {
					took[i] = d
				}
				if kinds[i] == "" {
					kinds[i] = fmt.Sprintf("%T", in)
				}
			}
		}
		worst, sum := 0, 0.0
		for i, d := range took {
			sum += float64(d)
			if d > took[worst] {
				worst = i
			}
		}
		b.Logf("the worst is input %d, %s", worst, kinds[worst])
		b.ReportMetric(float64(took[worst])/1e6, "worst-ms")
		b.ReportMetric(sum/inputs/1e3, "mean-µs")
	}
}
