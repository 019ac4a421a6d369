package bottle

import (
	"fmt"
	"hash/fnv"
	"iter"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"idleember/core/engine"
)

// seeds are those of a run: some that are always the same and some that are new with each change of the deciding code,
// so that the same tree has the same houses. With IDLEEMBER_PROVE they are new with each run, for half an hour.
func seeds(t *testing.T) iter.Seq[uint64] {
	const fixed, fresh = 20, 20
	if os.Getenv("IDLEEMBER_PROVE") != "" {
		return func(yield func(uint64) bool) {
			for began, seed := time.Now(), uint64(time.Now().UnixNano()); time.Since(began) < 30*time.Minute &&
				yield(seed); seed++ {
			}
		}
	}
	sum := fnv.New64a()
	for _, pattern := range []string{"../control/*.go", "../engine/*.go", "*.go"} {
		files, err := filepath.Glob(pattern)
		require.NoError(t, err)
		for _, f := range files {
			text, err := os.ReadFile(f)
			require.NoError(t, err)
			_, _ = sum.Write(text)
		}
	}
	return func(yield func(uint64) bool) {
		for i := range uint64(fixed + fresh) {
			if i >= fixed {
				i += sum.Sum64()
			}
			if !yield(i + 1) {
				return
			}
		}
	}
}

// houses lets a house of each seed live through its hours.
func houses(t *testing.T, plan func(seed uint64) *Plan) {
	days, rules, lived, failed := time.Duration(0), map[string]int64{}, 0, 0
	for seed := range seeds(t) {
		p := plan(seed)
		r := Run(p)
		lived++
		days += r.Span
		for rule, n := range r.Judged {
			rules[rule] += n
		}
		if len(r.Faults) > 0 {
			failed++
			t.Errorf("seed %d: %s\n%s", seed, r.Faults[0], Shrink(p).Script())
			if os.Getenv("IDLEEMBER_PROVE") == "" {
				break
			}
		}
	}
	t.Logf("%d houses, %.0f house-days, %d houses with a fault", lived, days.Hours()/24, failed)
	t.Logf("judged %v", rules)
	for _, rule := range []string{"interlock", "latch", "confirmed", "motor", "obeyed", "manual", "auto", "pulse", "group",
		"longest", "gone", "why"} {
		require.Positive(t, rules[rule], "nothing was judged by the rule %q", rule)
	}
}

// Whatever happens, the house keeps its promises.
func TestTheHouseKeepsItsPromises(t *testing.T) {
	houses(t, func(seed uint64) *Plan { return NewPlan(seed, 8*time.Hour, 12, 3) })
}

// The same plan gives the same days.
func TestAPlanIsDeterministic(t *testing.T) {
	story := func() (lines []string) {
		happen(NewPlan(7, 6*time.Hour, 12, 4), listener{story: func(of, text string) { lines = append(lines, of+" "+text) }})
		return lines
	}
	one, other := story(), story()
	require.Greater(t, len(one), 1000)
	require.Equal(t, one, other)
}

// A house whose hub was killed and started again goes on as one whose hub was not, once everybody is back.
func TestAKilledHouseGoesOnAsOneThatWasNot(t *testing.T) {
	people := []Kind{Switched, GivenBack, SetTo, Applied, Tuned, Renamed, Latching, Locked, Unlocked}
	for seed := uint64(1); seed <= 25; seed++ {
		p := NewPlan(seed, 3*time.Hour, 12, 6)
		clear(p.Site.Rules) // they act on what became of others meanwhile
		p.Happenings = slices.DeleteFunc(p.Happenings, func(h Happening) bool { return !slices.Contains(people, h.Kind) })
		at := 2*time.Hour + time.Duration(seed)*37*time.Second
		p.Happenings = slices.DeleteFunc(p.Happenings, func(h Happening) bool { return h.At >= at })
		p.Span = at + 15*time.Minute
		killed := *p
		killed.Happenings = append(slices.Clone(p.Happenings), Happening{At: at, Kind: HubKilled, Dice: 1 << 8})
		require.Equal(t, what(p), what(&killed), "seed %d", seed)
	}
}

// what is what people set in a house at its end: how its controls are decided, latches and settings.
func what(p *Plan) (lines []string) {
	happen(p, listener{end: func(w *world) {
		for _, id := range sorted(w.hub.site.Controls) {
			s, _ := w.hub.engine.Control(id)
			hand := string(s.Mode)
			if w.hub.site.Controls[id].Dangerous { // what was wanted of it by hand does not outlast an absence
				hand = "dangerous"
			} else if s.Hand != nil && s.How != engine.HowAway {
				hand = fmt.Sprint(*s.Hand, s.HandUntil.UTC())
			}
			lines = append(lines, fmt.Sprint(id, " ", hand, " ", s.Latched, " ", s.Service))
		}
		for _, id := range sorted(w.hub.site.Settings) {
			s, _ := w.hub.engine.Setting(id)
			lines = append(lines, fmt.Sprint(id, " ", s.Value))
		}
	}})
	return lines
}

// TestSeed runs one seed, SEED=n, and tells the story of one control, OF=id. With KEEP=name it keeps a plan as a case,
// whose ABOUT says what is wrong: shrunk where it fails now, else with the lines of SCRIPT.
func TestSeed(t *testing.T) {
	var seed uint64
	if _, err := fmt.Sscan(os.Getenv("SEED"), &seed); err != nil {
		t.Skip("SEED is not set")
	}
	p := NewPlan(seed, 8*time.Hour, 12, 3)
	var told []string
	r := happen(p, listener{story: func(of, text string) {
		if of == os.Getenv("OF") {
			told = append(told, text)
		}
	}})
	t.Log(strings.Join(told, "\n"))
	t.Log(p.Script(), r.Faults)
	if name := os.Getenv("KEEP"); name != "" {
		keep(t, p, name, os.Getenv("ABOUT"), os.Getenv("SCRIPT"))
	}
}

// BenchmarkHouse is how many days of a house with 20 controls and 40 readings a minute, the oracle included, pass in a
// minute.
func BenchmarkHouse(b *testing.B) {
	days := time.Duration(0)
	for i := range b.N {
		p := NewPlan(uint64(i+1), 24*time.Hour, 20, 1)
		rate := 0.0
		for _, every := range p.Every {
			rate += time.Minute.Seconds() / every.Seconds()
		}
		for id := range p.Every {
			p.Every[id] = time.Duration(float64(p.Every[id]) * rate / 40)
			if g := p.Site.Signals[id]; g.IntervalMS > 0 {
				g.IntervalMS = p.Every[id].Milliseconds()
				p.Site.Signals[id] = g
			}
		}
		days += Run(p).Span
	}
	b.ReportMetric(days.Hours()/24/b.Elapsed().Minutes(), "house-days/min")
}

// TestMutants is what a changed engine has to get past beside its own tests: some houses, always the same.
func TestMutants(t *testing.T) {
	if os.Getenv("IDLEEMBER_MUTANTS") == "" {
		t.Skip("IDLEEMBER_MUTANTS is not set")
	}
	for seed := uint64(1); seed <= 60; seed++ {
		r := Run(NewPlan(seed, 6*time.Hour, 12, 4))
		require.Empty(t, r.Faults, "seed %d", seed)
	}
}
