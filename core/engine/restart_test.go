package engine

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"idleember/core/access"
	"idleember/core/control"
	"idleember/core/reading"
	"idleember/core/site"
	"idleember/core/words"
)

// restarts is the house with a new engine after a time, with all that the old one had kept. Its board is not back yet.
func (h *house) restarts(away time.Duration) *house {
	return h.restartsAt(Now{Wall: h.now.Wall.Add(away), Mono: time.Hour, Trusted: true})
}

// restartsAt gives what was kept to a new engine, whose clock may be wrong.
func (h *house) restartsAt(now Now) *house {
	kept := map[[2]string]Keep{}
	for _, x := range h.seen {
		if k, ok := Kept(x); ok {
			kept[[2]string{k.Kind, k.ID}] = k
		}
	}
	state := Restored{Alive: h.now.Wall, Doubted: h.doubted}
	for key, k := range kept {
		if k.State == nil || k.Kind == keptSignal {
			continue
		}
		body, err := k.Body()
		require.NoError(h.t, err)
		require.NoError(h.t, state.Add(key[0], key[1], body))
	}
	for _, id := range sorted(h.site.Signals) {
		s := SignalState{ID: id}
		if k, ok := kept[[2]string{keptSignal, id}]; ok {
			s = k.State.(SignalLearnt).State
		}
		if st, ok := h.last[id]; ok {
			s = s.Read(st)
		}
		state.Signals = append(state.Signals, s)
	}
	next := &house{bench: &bench{Engine: New(), now: now, site: h.site}, t: h.t}
	next.do(SiteChanged{h.site})
	next.do(state)
	return next
}

// comes lets the board connect and say all that it knows.
func (h *house) comes(session string, values map[string]reading.Value, is map[string]site.Amount) {
	h.do(Online{Device: "h", Session: session})
	for _, id := range sorted(values) {
		h.do(Reading{Signal: id, Value: values[id]})
	}
	for _, id := range sorted(is) {
		h.do(Report{Control: id, Session: session, Value: is[id]})
	}
}

// A house that was restarted decides on as one that was not.
func TestARestartedHouseDecidesOn(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		a := newHouse(t, busy)
		a.seen = append(a.seen, a.lives(30*time.Second, map[string]float64{"temperature": 20, "gas": 3, "moisture": 40})...)
		a.is("float", true)
		a.is("rain", false)
		for range rapid.IntRange(0, 30).Draw(rt, "before") {
			a.happen(happening().Draw(rt, "happening"))
		}
		numbers := func() map[string]float64 {
			now := map[string]float64{}
			for _, id := range []string{"temperature", "gas", "moisture"} {
				s, _ := a.Signal("h." + id)
				now[id] = s.Value.Num
			}
			return now
		}
		a.lives(30*time.Second, numbers()) // what nobody has answered yet is not known after a restart
		b := a.restarts(0)
		values, is := map[string]reading.Value{}, map[string]site.Amount{}
		for id := range a.site.Signals {
			if s, _ := a.Signal(id); s.Seen {
				values[id] = s.Value
			}
		}
		for id := range a.site.Controls {
			if c, _ := a.Control(id); c.Is != nil && c.Want != nil && a.site.Controls[id].Momentary == nil {
				is[id] = *c.Want
			}
		}
		a.comes("2", values, is)
		b.comes("2", values, is)
		for range rapid.IntRange(5, 30).Draw(rt, "after") {
			x := happening().Draw(rt, "happening")
			if _, ok := x.(Report); ok { // whether that is followed depends on what is still unanswered
				continue
			}
			if d, ok := x.(time.Duration); ok { // what falls silent has a grace after a restart
				now := numbers()
				a.lives(d, now)
				b.lives(d, now)
				continue
			}
			a.happen(x)
			b.happen(x)
		}
		for range 12 { // what was still to settle
			a.lives(10*time.Second, map[string]float64{"temperature": 20, "gas": 3, "moisture": 40})
			b.lives(10*time.Second, map[string]float64{"temperature": 20, "gas": 3, "moisture": 40})
		}
		for _, id := range sorted(a.site.Controls) {
			was, _ := a.Control(id)
			is, _ := b.Control(id)
			if was.Damped != nil || is.Damped != nil { // how often it changed before is not kept, only what came of it
				continue
			}
			// when it was last changed is not kept
			if cfg := a.site.Controls[id]; cfg.What() == site.Level && was.Want != nil && is.Want != nil {
				require.InDelta(rt, float64(*was.Want), float64(*is.Want), 3)
			} else {
				require.Equal(rt, was.Want, is.Want, "%s: %s; %s", id, a.Reason(a.now, id), b.Reason(b.now, id))
			}
			require.Equal(rt, was.Mode, is.Mode, id)
			require.Equal(rt, was.Hand, is.Hand, id)
			require.Equal(rt, was.HandUntil.UTC(), is.HandUntil.UTC(), id)
			require.Equal(rt, was.Latched, is.Latched, id)
		}
	})
}

func TestAProofGoesOnOverARestart(t *testing.T) {
	h := newHouse(t, auto("fan", site.Automation{Proof: &site.Proof{When: "h.power > 50", WithinMS: 30_000}}))
	h.reads("power", 3)
	h.byHand("fan", 1, 0)
	h.pass(20 * time.Second)
	h = h.restarts(time.Second)
	h.comes("2", map[string]reading.Value{"h.power": reading.Number(3)}, map[string]site.Amount{"h.fan": 1})
	assert.Equal(t, ProofWaiting, h.state("fan").Proof)
	h.lives(25*time.Second, map[string]float64{"power": 3})
	assert.Equal(t, ProofWaiting, h.state("fan").Proof, "it has the whole time anew")
	out := h.lives(10*time.Second, map[string]float64{"power": 3})
	assert.Equal(t, ProofMissing, h.state("fan").Proof)
	assert.Len(t, messages(out), 1)
}

func TestAPulseIsTriedAgainWhereItsProofSaysSoButNotAfterARestart(t *testing.T) {
	make := func() *house {
		h := newHouse(t, func(s *site.Site) {
			momentary("gate", site.Pulse{ForMS: 500})(s)
			s.Automations["h.gate"] = &site.Automation{Proof: &site.Proof{When: "h.open", WithinMS: 10_000, Retries: 2}}
		})
		h.is("open", false)
		h.do(Command{Control: "h.gate", To: 1, Actor: kim})
		return h
	}
	pulses := func(list []Effect) (n int) {
		for _, x := range list {
			if w, ok := x.(Want); ok && w.Pulse != "" && w.Value > 0 {
				n++
			}
		}
		return n
	}
	h := make()
	assert.Equal(t, 2, pulses(h.pass(time.Minute)), "twice again")
	assert.Equal(t, ProofMissing, h.state("gate").Proof)

	h.is("open", true)
	assert.Equal(t, ProofSeen, h.state("gate").Proof, "it came late")
	assert.Equal(t, "its effect came late: h.open", h.read(h.state("gate").Reason))
	h = make()
	h.pass(5 * time.Second)
	h.is("open", true)
	assert.Equal(t, ProofSeen, h.state("gate").Proof)
	assert.Zero(t, pulses(h.pass(time.Minute)), "what had its effect is not tried again")

	h = make()
	h.pass(5 * time.Second)
	h = h.restarts(time.Second)
	h.comes("2", map[string]reading.Value{"h.open": reading.OnOff(false)}, nil)
	assert.Zero(t, pulses(h.pass(time.Minute)))
	assert.Equal(t, ProofMissing, h.state("gate").Proof)

	h = make().restarts(time.Second)
	p, rev := h.state("gate").Pulse, h.state("gate").Rev
	assert.Equal(t, Unconfirmed, h.state("gate").Phase)
	assert.Equal(t, "ended by a restart of the hub", h.read(h.state("gate").Reason))
	assert.True(t, slices.ContainsFunc(h.seen, func(x Effect) bool {
		j, ok := x.(Journal)
		return ok && j.Action == "pulse" && j.After == "off"
	}), "and the journal has it")
	h.comes("2", nil, nil)
	assert.Greater(t, h.state("gate").Rev, rev, "so that it counts as newer than what it ends")
	assert.False(t, h.state("gate").Pulse.Off, "off was sent")
	h.do(Offline{Device: "h", Session: "2"})
	assert.Empty(t, wants(h.do(Online{Device: "h", Session: "3"})), "once")
	assert.Equal(t, PulseState{ID: p.ID, By: kim, At: p.At, Off: true, Says: words.Of("pulse.restart")}, p)
}

func TestADelayGoesOnOverARestart(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		s.Automations["h.fan"] = &site.Automation{Demands: []site.Demand{{Kind: Whenever,
			Condition: site.Condition{When: "h.temperature > 20", AfterMS: 60_000, SettleMS: 35_000}}}}
		s.Automations["h.pump"] = &site.Automation{Interlocks: []site.Interlock{{ID: "gas", Name: "gas",
			To: ptr(site.Amount(1)), Condition: site.Condition{When: "h.gas > 30", AfterMS: 60_000, SettleMS: 60_000}}}}
	})
	h.lives(2*time.Minute, map[string]float64{"temperature": 15, "gas": 3})
	on := map[string]float64{"temperature": 25, "gas": 40}
	h.lives(40*time.Second, on)
	require.Zero(t, h.wanted("fan"))
	require.Zero(t, h.wanted("pump"))
	back := map[string]reading.Value{"h.temperature": reading.Number(25), "h.gas": reading.Number(40)}
	h = h.restarts(time.Second)
	h.comes("2", back, nil)
	h.lives(10*time.Second, on)
	assert.Zero(t, h.wanted("fan"))
	assert.Zero(t, h.wanted("pump"))
	h.lives(20*time.Second, on)
	assert.Equal(t, site.Amount(1), h.wanted("fan"), "a minute after it began")
	assert.Equal(t, site.Amount(1), h.wanted("pump"))

	off := map[string]float64{"temperature": 15, "gas": 3}
	h.lives(40*time.Second, off)
	back = map[string]reading.Value{"h.temperature": reading.Number(15), "h.gas": reading.Number(3)}
	h = h.restarts(time.Second)
	h.comes("3", back, nil)
	h.lives(10*time.Second, off)
	assert.Equal(t, site.Amount(1), h.wanted("pump"))
	assert.Zero(t, h.wanted("fan"), "it settles sooner")
	h.lives(20*time.Second, off)
	assert.Zero(t, h.wanted("pump"))
	assert.Zero(t, h.wanted("fan"))
}

func TestWithoutARightClockADelayBeginsAnewAfterARestart(t *testing.T) {
	h := newHouse(t, auto("fan", site.Automation{Demands: []site.Demand{{Kind: Whenever,
		Condition: site.Condition{When: "h.temperature > 20", AfterMS: 60_000}}},
		Interlocks: []site.Interlock{{ID: "gas", Name: "gas", Condition: site.Condition{When: "h.gas > 30",
			SettleMS: 60_000}}}}))
	h.lives(time.Minute, map[string]float64{"temperature": 15, "gas": 3})
	h.lives(40*time.Second, map[string]float64{"temperature": 25, "gas": 3})
	kept := h.seen
	h = h.restarts(time.Hour)
	*h = house{bench: &bench{Engine: New(), now: Now{Wall: h.now.Wall, Mono: time.Hour}, site: h.site}, t: t}
	state := Restored{}
	for _, x := range kept {
		if k, ok := Kept(x); ok && k.Kind != keptSignal {
			body, err := k.Body()
			require.NoError(t, err)
			state.Conditions = nil
			require.NoError(t, state.Add(k.Kind, k.ID, body))
		}
	}
	h.do(SiteChanged{h.site})
	h.do(state)
	h.comes("2", map[string]reading.Value{"h.temperature": reading.Number(25), "h.gas": reading.Number(3)}, nil)
	h.lives(50*time.Second, map[string]float64{"temperature": 25, "gas": 3})
	assert.Zero(t, h.wanted("fan"), "how long the hub was away nobody knows")
	h.lives(20*time.Second, map[string]float64{"temperature": 25, "gas": 3})
	assert.Equal(t, site.Amount(1), h.wanted("fan"))
}

func TestWhatOthersSawOfAnOutputCountsAfterARestart(t *testing.T) {
	pair := func(s *site.Site) {
		s.Groups["pair"] = &site.Group{ID: "pair", Name: "Pair", Members: []site.GroupMember{{Control: "h.heater"},
			{Control: "h.cooler"}}}
	}
	for _, x := range []struct {
		is   site.Amount
		want site.Amount
	}{{0, 1}, {1, 0}} {
		h := newHouse(t, pair)
		h.byHand("heater", 1, 0)
		h.obeys()
		h.byHand("heater", 0, 0)
		h.do(Report{Control: "h.heater", Session: "1", Value: x.is})
		h = h.restarts(time.Second)
		h.do(Online{Device: "h", Session: "2"})
		h.byHand("cooler", 1, 0)
		assert.Equal(t, x.want, h.wanted("cooler"), "the heater said %v", x.is)
	}
}

func TestAPositionOfEarlierVersionsIsByHand(t *testing.T) {
	h := newHouse(t, auto("fan", site.Automation{Demands: whenever("h.temperature > 20")}))
	full := site.Amount(1)
	h.do(Restored{Controls: []ControlState{{ID: "h.fan", Hand: &full, Want: &full, HandBy: kim}, {ID: "h.pump",
		Hand: &full, Want: &full, HandBy: kim}}})
	assert.Equal(t, Manual, h.state("fan").Mode)
	assert.Equal(t, NoMode, h.state("pump").Mode)
}

func TestWhatIsPutBackInServiceIsToldWhatIsWanted(t *testing.T) {
	h := newHouse(t, nil)
	h.byHand("fan", 0, 0)
	h.obeys()
	h.do(Report{Control: "h.fan", Session: "1", Value: 0})
	h.do(Serve{Control: "h.fan", Service: control.OutAndSafe, Actor: kim})
	require.Equal(t, Confirmed, h.state("fan").Phase)
	out := h.do(Serve{Control: "h.fan", Actor: kim})
	assert.Equal(t, []string{"off"}, wants(out), "it is told once more, though that is what it was told before")
	assert.Equal(t, Pending, h.state("fan").Phase)
}

func TestWhatNobodyWantsIsFollowed(t *testing.T) {
	h := newHouse(t, nil)
	h.do(Report{Control: "h.fan", Session: "1", Value: 1})
	assert.Equal(t, access.Kind(""), h.state("fan").HandBy.Kind, "as it came up, it is nobody's wish")
	h.do(Report{Control: "h.fan", Session: "1", Value: 0})
	h.do(Report{Control: "h.fan", Session: "1", Value: 1})
	assert.Equal(t, on(true), h.state("fan").Hand)
	assert.Equal(t, "switched on at the board", h.read(h.state("fan").Reason))
	out := h.do(Report{Control: "h.pump", Session: "1", Value: 1, By: ByHand})
	assert.Equal(t, on(true), h.state("pump").Hand, "marked, it is at once")
	assert.NotEmpty(t, out)
}

func TestAnInsistenceIsTriedAsOftenAsAnyWant(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		c := s.Controls["h.fan"]
		c.AtDevice = site.Insist
		s.Controls["h.fan"] = c
	})
	h.byHand("fan", 1, 0)
	h.pass(30 * time.Second) // it is tried again and again
	h.obeys()
	tries := h.state("fan").Tries
	h.do(Report{Control: "h.fan", Session: "1", Value: 0})
	require.Equal(t, Pending, h.state("fan").Phase)
	assert.Zero(t, h.state("fan").Tries)
	assert.GreaterOrEqual(t, tries, 0)
	assert.Equal(t, "switched at the board; the hub insists on on", h.read(h.state("fan").Reason))
}

func TestAFallToTheSafeValueIsNamed(t *testing.T) {
	h := newHouse(t, nil)
	h.byHand("fan", 1, 0)
	h.obeys()
	h.do(Report{Control: "h.fan", Session: "1", Value: 0, By: ByLease})
	assert.Contains(t, h.read(h.state("fan").Reason), "fell to its safe value when the hub was silent")
	h.obeys()
	h.do(Online{Device: "h", Session: "2"})
	h.do(Report{Control: "h.fan", Session: "2", Value: 1})
	h.do(Offline{Device: "h", Session: "1"})
	h.do(Online{Device: "h", Session: "3"})
	h.do(Report{Control: "h.fan", Session: "3", Value: 0})
	assert.NotContains(t, h.read(h.state("fan").Reason), "fell to its safe value")
}

func TestTheGraceIsThatOfAControlsOwnInputs(t *testing.T) {
	slow := func(s *site.Site) {
		g := s.Signals["h.humidity"]
		g.IntervalMS = 60_000
		s.Signals["h.humidity"] = g
		s.Automations["h.fan"] = &site.Automation{Demands: whenever("h.humidity > 60")}
		s.Automations["h.pump"] = &site.Automation{Demands: whenever("h.temperature > 20")}
	}
	h := newHouse(t, slow)
	h.lives(time.Minute, map[string]float64{"humidity": 70, "temperature": 25})
	h = h.restarts(10 * time.Minute)
	h.do(Online{Device: "h", Session: "2"})
	h.pass(61 * time.Second)
	assert.Zero(t, h.wanted("pump"), "a minute, for what reports every 10 s")
	assert.Equal(t, site.Amount(1), h.wanted("fan"), "three intervals, for what reports every minute")
	h.pass(2 * time.Minute)
	assert.Zero(t, h.wanted("fan"))
}

func TestWhatIsWantedWhileItIsAwayIsGivenUpInTheEnd(t *testing.T) {
	h := newHouse(t, nil)
	h.do(Offline{Device: "h", Session: "1"})
	h.pass(time.Hour)
	h.byHand("fan", 1, 100*time.Hour)
	h.pass(23 * time.Hour)
	assert.Nil(t, h.state("fan").Held)
	h.pass(2 * time.Hour)
	assert.Equal(t, on(true), h.state("fan").Held)
	assert.Zero(t, h.wanted("fan"))
	assert.Contains(t, h.read(h.Reason(h.now, "h.fan")), "was on by hand when it went away; tap to resume")
	assert.NotContains(t, h.read(h.Reason(h.now, "h.fan")), "resume until", "that is not what the time was for")

	h = newHouse(t, nil)
	h.byHand("fan", 1, 100*time.Hour)
	h.do(Offline{Device: "h", Session: "1"})
	h.pass(10 * time.Hour)
	h = h.restartsAt(Now{Wall: h.now.Wall.Add(30 * time.Hour), Mono: time.Hour}) // by a clock that may be wrong
	h.pass(23 * time.Hour)
	assert.Nil(t, h.state("fan").Held)
	h.pass(2 * time.Hour)
	assert.Equal(t, on(true), h.state("fan").Held)
}

// A delay of an interlock, starts and damping that a wrong clock stamped are neither over nor forgotten by the clock
// being set, or by a restart with the right one.
func TestADelayIsNotOverBecauseTheClockWasWrong(t *testing.T) {
	begin := func() *house {
		h := newHouse(t, auto("fan", site.Automation{Interlocks: []site.Interlock{{ID: "i", Name: "i",
			To: ptr(site.Amount(1)), Condition: site.Condition{When: "h.gas > 10", SettleMS: 60_000}}}}))
		h.doubts(true)
		h.lives(time.Minute, map[string]float64{"gas": 20})
		require.EqualValues(t, 1, h.wanted("fan"))
		h.lives(30*time.Second, map[string]float64{"gas": 5})
		require.EqualValues(t, 1, h.wanted("fan"), "it settles")
		return h
	}
	holds := func(h *house) bool { return h.state("fan").Locks[0].Is == control.True }

	h := begin()
	from := h.now.Wall.Add(-time.Hour)
	h.now.Trusted = true
	h.set(from, 26*24*time.Hour)
	next := h.restarts(2 * time.Second)
	assert.True(t, holds(next), "the clock was set while the hub ran")
	next.lives(80*time.Second, map[string]float64{"gas": 5})
	assert.False(t, holds(next))

	h = begin()
	h.doubted = true
	next = h.restarts(26 * 24 * time.Hour)
	assert.True(t, holds(next), "the computer started anew with the right time")
	next.lives(50*time.Second, map[string]float64{"gas": 5})
	assert.True(t, holds(next), "it settles again in full")
	next.lives(20*time.Second, map[string]float64{"gas": 5})
	assert.False(t, holds(next))
}
