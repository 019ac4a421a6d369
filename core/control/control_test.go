package control_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"idleember/core/control"
	"idleember/core/site"
)

const (
	on, off       = site.Amount(1), site.Amount(0)
	no, yes       = control.False, control.True
	unknown       = control.Unknown
	sec           = int64(1000)
	decided       = 1000 * time.Second
	secondsOfRest = 60
)

func ptr[T any](v T) *T { return &v }

// pump returns the facts of a switch with one interlock, one permit and one demand, none of which wants anything.
func pump() *control.Facts {
	return &control.Facts{Now: decided, Config: &site.Control{Name: "Pump"},
		Auto: &site.Automation{Demands: make([]site.Demand, 1), Permits: make([]site.Permit, 1),
			Interlocks: make([]site.Interlock, 1)},
		Interlocks: []control.Tri{no}, Permits: []control.Tri{yes}, Demands: []control.Demanded{{Is: no, To: on}}}
}

func TestTheFirstStepThatAppliesDecides(t *testing.T) {
	for _, x := range []struct {
		name string
		with func(*control.Facts)
		want site.Amount
		step control.Step
	}{
		{"no demand", func(*control.Facts) {}, off, control.Idle},
		{"a demand", func(f *control.Facts) { f.Demands[0].Is = yes }, on, control.Demanding},
		{"a demand and no permit", func(f *control.Facts) { f.Demands[0].Is, f.Permits[0] = yes, no }, off,
			control.NotAllowed},
		{"a missing permit decides, whatever else is unknown", func(f *control.Facts) {
			f.Demands[0].Is, f.Permits[0] = unknown, no
		}, off, control.NotAllowed},
		{"no demand decides, whatever the permit", func(f *control.Facts) { f.Permits[0] = unknown }, off, control.Idle},
		{"an unknown demand", func(f *control.Facts) { f.Demands[0].Is = unknown }, off, control.FellBack},
		{"an unknown permit", func(f *control.Facts) { f.Demands[0].Is, f.Permits[0] = yes, unknown }, off, control.FellBack},
		{"its own fallback", func(f *control.Facts) { f.Demands[0].Is, f.Auto.Fallback = unknown, ptr(on) }, on,
			control.FellBack},
		{"unknown shortly after a start", func(f *control.Facts) {
			f.Demands[0].Is, f.Grace, f.Last = unknown, true, ptr(on)
		}, on, control.Waiting},
		{"back, but not for long", func(f *control.Facts) { f.Demands[0].Is, f.SettledAt = yes, decided+1 }, off,
			control.Settling},
		{"by hand", func(f *control.Facts) { f.Hand, f.Demands[0].Is = ptr(on), unknown }, on, control.ByHand},
		{"an interlock against by hand", func(f *control.Facts) { f.Hand, f.Interlocks[0] = ptr(on), yes }, off,
			control.Interlocked},
		{"an unknown interlock", func(f *control.Facts) { f.Hand, f.Interlocks[0] = ptr(on), unknown }, off,
			control.Interlocked},
		{"an interlock with its own value", func(f *control.Facts) {
			f.Interlocks[0], f.Auto.Interlocks[0].To, f.Hand = yes, ptr(on), ptr(off)
		}, on, control.Interlocked},
		{"out of service", func(f *control.Facts) { f.Service, f.Interlocks[0], f.Hand = control.OutAndSafe, yes, ptr(on) },
			off, control.OutOfWork},
		{"taken away", func(f *control.Facts) {
			f.Leaving, f.Hand, f.Interlocks[0], f.Auto.Interlocks[0].To = true, ptr(on), yes, ptr(on)
		}, off, control.Leaving},
		{"taken away, and what is forced stays", func(f *control.Facts) {
			f.Leaving, f.Stays, f.Interlocks[0], f.Auto.Interlocks[0].To = true, true, yes, ptr(on)
		}, on, control.Leaving},
		{"taken away, with nothing that is forced", func(f *control.Facts) {
			f.Leaving, f.Stays, f.Config.Safe = true, true, on
		}, on, control.Leaving},
		{"a floor against a preset", func(f *control.Facts) {
			f.Auto.Demands[0].Floor, f.Demands[0].Is, f.Hand, f.ByPreset = true, yes, ptr(off), true
		}, on, control.Protected},
		{"a floor against a person", func(f *control.Facts) {
			f.Auto.Demands[0].Floor, f.Demands[0].Is, f.Hand = true, yes, ptr(off)
		}, off, control.ByHand},
		{"a floor needs no permit", func(f *control.Facts) {
			f.Auto.Demands[0].Floor, f.Demands[0].Is, f.Permits[0] = true, yes, no
		}, on, control.Demanding},
	} {
		f := pump()
		x.with(f)
		d := control.Decide(f)
		assert.True(t, d.Has, x.name)
		assert.Equal(t, x.want, d.Value, x.name)
		assert.Equal(t, x.step, d.Step, x.name)
	}
	f := pump()
	f.Service = control.OutSilent
	assert.False(t, control.Decide(f).Has, "a silent control is told nothing")
	assert.False(t, control.Decide(&control.Facts{Config: f.Config}).Has, "nor one that nobody ever told anything")
}

// The table of run limits, row by row.
func TestRunLimits(t *testing.T) {
	auto := func(is control.Tri) func(*control.Facts) {
		return func(f *control.Facts) { f.Demands[0].Is = is }
	}
	hand := func(a site.Amount) func(*control.Facts) { return func(f *control.Facts) { f.Hand = &a } }
	lock := func(a site.Amount) func(*control.Facts) {
		return func(f *control.Facts) { f.Interlocks[0], f.Auto.Interlocks[0].To = yes, &a }
	}
	longest := site.RunLimits{LongestOnMS: 120 * sec, RestMS: secondsOfRest * sec}
	shortOn, shortOff := site.RunLimits{ShortestOnMS: 120 * sec}, site.RunLimits{ShortestOffMS: 120 * sec}
	hurts := site.RunLimits{ShortestOffMS: 120 * sec, RestartHurts: true}
	for _, x := range []struct {
		name    string
		limits  site.RunLimits
		last    site.Amount
		since   time.Duration // before now
		rest    time.Duration // left
		asks    func(*control.Facts)
		want    site.Amount
		limited control.Limit
		next    time.Duration // from now, 0: never
	}{
		{"longest on, not yet", longest, on, 100 * time.Second, 0, auto(yes), on, control.NoLimit, 20 * time.Second},
		{"longest on binds auto", longest, on, 120 * time.Second, 0, auto(yes), off, control.LongestOn,
			secondsOfRest * time.Second},
		{"longest on binds by hand", longest, on, 120 * time.Second, 0, hand(on), off, control.LongestOn,
			secondsOfRest * time.Second},
		{"longest on does not bind an interlock", longest, on, 500 * time.Second, 0, lock(on), on, control.NoLimit, 0},
		{"a rest alone binds nothing", site.RunLimits{RestMS: secondsOfRest * sec}, off, 10 * time.Second, 0, auto(yes), on,
			control.NoLimit, 0},
		{"the rest binds auto", longest, off, 10 * time.Second, 50 * time.Second, auto(yes), off, control.Rest,
			50 * time.Second},
		{"the rest binds by hand", longest, off, 10 * time.Second, 50 * time.Second, hand(on), off, control.Rest,
			50 * time.Second},
		{"the rest does not bind an interlock", longest, off, 10 * time.Second, 50 * time.Second, lock(on), on,
			control.NoLimit, 0},
		{"the rest is over", longest, off, 70 * time.Second, 0, auto(yes), on, control.NoLimit, 0},
		{"shortest on binds auto", shortOn, on, 20 * time.Second, 0, auto(no), on, control.ShortestOn, 100 * time.Second},
		{"shortest on never delays a person", shortOn, on, 20 * time.Second, 0, hand(off), off, control.NoLimit, 0},
		{"shortest on never delays an interlock", shortOn, on, 20 * time.Second, 0, lock(off), off, control.NoLimit, 0},
		{"shortest on never delays the fallback", shortOn, on, 20 * time.Second, 0, auto(unknown), off, control.NoLimit, 0},
		{"shortest off binds auto", shortOff, off, 20 * time.Second, 0, auto(yes), off, control.ShortestOff,
			100 * time.Second},
		{"shortest off binds by hand", shortOff, off, 20 * time.Second, 0, hand(on), off, control.ShortestOff,
			100 * time.Second},
		{"shortest off does not bind an interlock", shortOff, off, 20 * time.Second, 0, lock(on), on, control.NoLimit, 0},
		{"unless a restart hurts", hurts, off, 20 * time.Second, 0, lock(on), off, control.ShortestOff, 100 * time.Second},
	} {
		f := pump()
		f.Auto.Limits, f.Last = x.limits, &x.last
		f.OnSince, f.OffSince, f.RestUntil = decided-x.since, decided-x.since, decided+x.rest
		x.asks(f)
		d := control.Decide(f)
		assert.Equal(t, x.want, d.Value, x.name)
		assert.Equal(t, x.limited, d.Limit, x.name)
		assert.Equal(t, x.limited == control.LongestOn, d.Rests, x.name)
		if x.next > 0 {
			x.next += decided
		}
		assert.Equal(t, x.next, d.Next, x.name)
	}
}

func TestTheHighestLevelDemandedCounts(t *testing.T) {
	f := pump()
	f.Config = &site.Control{Name: "Fan", Kind: site.Level}
	f.Auto.Demands = make([]site.Demand, 3)
	f.Demands = []control.Demanded{{Is: yes, To: 30}, {Is: yes, To: 70}, {Is: no, To: 100}}
	assert.Equal(t, site.Amount(70), control.Decide(f).Value)
	f.Config = &site.Control{Name: "Damper", Kind: site.Choice, Options: []string{"shut", "half", "open"}}
	f.Demands = []control.Demanded{{Is: no, To: 2}, {Is: yes, To: 1}, {Is: yes, To: 2}}
	assert.Equal(t, site.Amount(1), control.Decide(f).Value, "of a choice the first in order")
}

// facts draws anything that can be.
func facts(t *rapid.T) *control.Facts {
	f := pump()
	tri := rapid.SampledFrom([]control.Tri{unknown, no, yes})
	times := rapid.Custom(func(t *rapid.T) time.Duration {
		return time.Duration(rapid.IntRange(0, 2000).Draw(t, "s")) * time.Second
	})
	ms := rapid.Custom(func(t *rapid.T) int64 {
		return rapid.SampledFrom([]int64{0, 0, 5, 100, 900}).Draw(t, "limit") * sec
	})
	f.Interlocks[0], f.Permits[0], f.Demands[0].Is = tri.Draw(t, "interlock"), tri.Draw(t, "permit"), tri.Draw(t, "demand")
	value := rapid.SampledFrom([]*site.Amount{nil, ptr(on), ptr(off)})
	f.Hand, f.Last, f.Auto.Fallback = value.Draw(t, "hand"), value.Draw(t, "last"), value.Draw(t, "fallback")
	f.ByPreset, f.Grace = rapid.Bool().Draw(t, "preset"), rapid.Bool().Draw(t, "grace")
	f.OnSince, f.OffSince = min(decided, times.Draw(t, "on")), min(decided, times.Draw(t, "off"))
	f.RestUntil, f.SettledAt = times.Draw(t, "rest"), times.Draw(t, "settled")
	f.Auto.Limits = site.RunLimits{LongestOnMS: ms.Draw(t, "longest"), ShortestOnMS: ms.Draw(t, "shortest on"),
		ShortestOffMS: ms.Draw(t, "shortest off")}
	if f.Auto.Limits.LongestOnMS > 0 {
		f.Auto.Limits.RestMS = 60 * sec
	}
	f.Auto.Demands[0].Floor = rapid.Bool().Draw(t, "floor")
	return f
}

func TestWhatAlwaysHolds(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		f := facts(t)
		d := control.Decide(f)
		started := d.Value > 0 && (f.Last == nil || *f.Last == 0)
		if f.Interlocks[0] != no {
			assert.Equal(t, off, d.Value, "an interlock that holds it off is stronger than anything")
		} else if f.Hand != nil && *f.Hand == off && !f.ByPreset {
			assert.Equal(t, off, d.Value, "off by hand wins over auto")
		}
		if f.Interlocks[0] == no && f.Hand != nil && *f.Hand == on && d.Value == off {
			assert.NotEqual(t, control.NoLimit, d.Limit, "on by hand gives way to run limits only")
		}
		if started && f.Hand == nil && f.Demands[0].Is != yes {
			assert.True(t, d.Step == control.FellBack || d.Step == control.Settling,
				"nothing but the fallback starts without a demand")
		}
		if started && (f.Demands[0].Is == unknown || f.Permits[0] == unknown && !f.Auto.Demands[0].Floor) && f.Hand == nil {
			assert.NotNil(t, f.Auto.Fallback, "what is unknown starts nothing but the fallback")
		}
		if l := f.Auto.Limits; l.LongestOnMS > 0 && f.Last != nil && *f.Last == on &&
			f.Now-f.OnSince >= site.Millis(l.LongestOnMS) {
			assert.Equal(t, off, d.Value, "it never runs longer than its longest on")
		}
		assert.True(t, d.Next == 0 || d.Next > f.Now, "it is not looked at again at once, for ever")
		assert.Equal(t, d, control.Decide(f), "the same facts give the same decision")
	})
}
