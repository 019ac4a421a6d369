package engine

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/core/control"
	"idleember/core/reading"
	"idleember/core/site"
	"idleember/core/words"
)

// What people and rules tell a control: by hand, pulses, presets, locks, what is given back and taken away.

func TestAPulseHasItsOwnDeadlineAndTheHubPulsesNotTooOften(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		momentary("gate", site.Pulse{ForMS: 100, DeadlineMS: 3000})(s)
		momentary("up", site.Pulse{ForMS: 100})(s)
		s.Rules["ring"] = &site.Rule{ID: "ring", Name: "Ring", Stages: []site.Stage{{When: "h.rain",
			Actions: []site.Action{{Kind: site.DoPulse, ID: "h.gate"}}}}}
	})
	until := func(out []Effect) time.Duration {
		for _, x := range out {
			if w, ok := x.(Want); ok && w.Value > 0 {
				return w.Deadline.Sub(h.now.Wall)
			}
		}
		return 0
	}
	assert.Equal(t, 3*time.Second, until(h.byHand("gate", 1, 0)))
	assert.Equal(t, site.DefaultDeadline, until(h.byHand("up", 1, 0)))
	h.pass(5 * time.Minute)
	pulses := 0
	for range 20 {
		h.is("rain", false)
		h.pass(time.Second)
		pulses += len(wants(h.is("rain", true)))
		h.pass(time.Second)
	}
	assert.Equal(t, site.DefaultChanges, pulses)
	assert.Equal(t, words.Of("pulse.often"), h.state("gate").Pulse.Says)
	h.pass(time.Second)
	assert.Equal(t, []string{"on"}, wants(h.byHand("gate", 1, 0)), "a person may")
	for range 10 {
		h.pass(10 * time.Minute)
		h.is("rain", false)
		assert.Equal(t, []string{"on"}, wants(h.is("rain", true)), "however often, if not at once")
	}
}

func TestWhatIsTakenBackDoesNotComeBackWithItsBoard(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		c := s.Controls["h.fan"]
		c.Dangerous = true
		s.Controls["h.fan"] = c
	})
	h.byHand("fan", 1, 0)
	h.obeys()
	h.do(Offline{Device: "h", Session: "1"})
	h.pass(30 * time.Second)
	h.do(Withdraw{Control: "h.fan"})
	assert.Equal(t, site.Amount(-1), h.wanted("fan"))
	h.pass(time.Hour)
	assert.Nil(t, h.state("fan").Held, "nothing is given up that is not wanted any more")
	assert.Empty(t, wants(h.do(Online{Device: "h", Session: "2"})))
	assert.Empty(t, wants(h.pass(time.Hour)))
}

func TestWhatStaysOffForItsLongestOnIsAutoAgainWhenGivenBack(t *testing.T) {
	h := newHouse(t, auto("fan", site.Automation{Demands: whenever("h.temperature > 20"),
		Limits: site.RunLimits{LongestOnMS: 60_000, RestMS: 30_000}}))
	warm := map[string]float64{"temperature": 25}
	h.lives(20*time.Second, map[string]float64{"temperature": 10})
	h.byHand("fan", 1, 0)
	h.lives(2*time.Minute, warm)
	require.Equal(t, control.LongestOn, h.state("fan").Spent)
	h.do(ToAuto{Control: "h.fan", Actor: kim})
	assert.Equal(t, control.NoLimit, h.state("fan").Spent)
	h.lives(30*time.Second, warm)
	assert.Equal(t, site.Amount(1), h.wanted("fan"))
}

func TestWhatIsOutOfServiceIsNotPulsed(t *testing.T) {
	h := newHouse(t, momentary("gate", site.Pulse{ForMS: 500}))
	h.do(Serve{Control: "h.gate", Service: control.OutSilent, Actor: kim})
	h.pulse(h.controls["h.gate"], kim)
	assert.Equal(t, words.Of("pulse.service"), h.state("gate").Pulse.Says)
	h.do(Serve{Control: "h.gate", Actor: kim})
	h.do(Leave{Controls: []string{"h.gate"}, Actor: kim})
	at := h.state("gate")
	h.do(Leave{Controls: []string{"h.gate"}, Actor: kim})
	assert.Equal(t, at, h.state("gate"), "it is being taken away already")
	h.do(Leave{Controls: []string{"h.gate"}, End: true, Actor: kim})
	assert.Equal(t, []string{"on", "off"}, append(wants(h.byHand("gate", 1, 0)), wants(h.pass(time.Second))...))
}

func TestAPulseSaysHowFarItCame(t *testing.T) {
	for answers, says := range map[bool]string{false: "sent, by Kim",
		true: "sent; the device did not say that it pulsed, by Kim"} {
		h := newHouse(t, func(s *site.Site) {
			momentary("gate", site.Pulse{ForMS: 500})(s)
			c := s.Controls["h.gate"]
			c.Answers = answers
			s.Controls["h.gate"] = c
		})
		assert.Empty(t, wants(h.byHand("gate", 0, 0)), "there is nothing to be off")
		h.byHand("gate", 1, 0)
		h.pass(time.Second)
		assert.Equal(t, says, h.read(h.state("gate").Reason))
		assert.Equal(t, map[bool]Phase{false: Sent, true: Unconfirmed}[answers], h.state("gate").Phase)
	}
}

func TestWhatIsInsistedOnWhileLockedIsSentAtOnce(t *testing.T) {
	h := newHouse(t, auto("fan", site.Automation{Demands: whenever("h.temperature > 20"), Changes: 1}))
	h.lives(20*time.Second, map[string]float64{"temperature": 10})
	h.do(Serve{Control: "h.fan", Service: control.OutAndSafe, Actor: kim})
	h.obeys()
	for range 5 { // however often it is pressed: locked at its safe value it is told off each time
		h.pass(time.Second)
		assert.Equal(t, []string{"off"}, wants(h.do(Report{Control: "h.fan", Session: "1", Value: 1, By: ByHand})))
		h.do(Report{Control: "h.fan", Session: "1", Value: 0})
	}
	h.do(Serve{Control: "h.fan", Actor: kim})
	h.do(Leave{Controls: []string{"h.fan"}, Actor: kim})
	h.do(Report{Control: "h.fan", Session: "1", Value: 0})
	for range 5 {
		h.pass(time.Second)
		assert.Equal(t, []string{"off"}, wants(h.do(Report{Control: "h.fan", Session: "1", Value: 1, By: ByHand})))
		h.do(Report{Control: "h.fan", Session: "1", Value: 0})
	}
}

func TestAPulseWithoutEffectIsTriedAsOftenAsItsOwnerSays(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		momentary("gate", site.Pulse{ForMS: 500})(s)
		s.Automations["h.gate"] = &site.Automation{Proof: &site.Proof{When: "h.power > 50", WithinMS: 20_000, Retries: 2}}
	})
	h.reads("power", 3)
	out := h.byHand("gate", 1, 0)
	out = append(out, h.lives(5*time.Minute, map[string]float64{"power": 3})...)
	assert.Equal(t, []string{"on", "off", "on", "off", "on", "off"}, wants(out))
	assert.Equal(t, ProofMissing, h.state("gate").Proof)
	tries := 0
	for _, x := range out {
		if j, ok := x.(Journal); ok && j.Action == "retry" {
			tries++
			assert.Contains(t, j.Reason.String(), "try "+string(rune('1'+tries))+" of 3")
		}
	}
	assert.Equal(t, 2, tries)
}

func TestALatchThatIsResetWhileItsBoardIsDisabledStaysFree(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		auto("fan", site.Automation{Interlocks: []site.Interlock{{ID: "hot", Name: "hot", Latch: true,
			Condition: site.Condition{When: "k.heat > 30"}}}})(s)
		s.Devices["k"] = site.Device{ID: "k", Name: "Other"}
		s.Signals["k.heat"] = site.Signal{ID: "k.heat", Device: "k", Name: "Heat", Kind: site.Number, Reports: site.Periodic,
			IntervalMS: 10_000}
	})
	heat := func(v float64) { h.do(Reading{Signal: "k.heat", Value: reading.Number(v)}) }
	h.do(Online{Device: "k", Session: "1"})
	heat(40)
	require.Equal(t, []string{"hot"}, h.state("fan").Latched)
	board := h.site.Devices["h"]
	board.State = site.Disabled
	h.edits(func(s *site.Site) {
		s.Devices["h"] = board
	})
	heat(10)
	h.pass(time.Minute)
	heat(10)
	h.do(Reset{Control: "h.fan", Actor: kim})
	require.Empty(t, h.state("fan").Latched)
	h = h.restarts(time.Second)
	assert.Empty(t, h.state("fan").Latched, "a person's word is kept")
}

func TestWhatPeopleWantEndsWhatAPresetWouldGiveBack(t *testing.T) {
	h := newHouse(t, nil)
	preset := func(to site.Amount) {
		h.do(Command{Control: "h.fan", To: to, Until: h.now.Wall.Add(time.Minute), Actor: kim, How: HowPreset})
	}
	h.byHand("fan", 0, 0)
	preset(1)
	h.byHand("fan", 1, 0)
	preset(0)
	h.lives(2*time.Minute, nil)
	assert.Equal(t, site.Amount(1), h.wanted("fan"), "what was wanted last")
}

func TestWhatIsByHandLastsAsItsOwnerSays(t *testing.T) {
	h := newHouse(t, auto("fan", site.Automation{Demands: whenever("h.temperature > 20"), FollowMS: 60_000,
		HandMS: 120_000}))
	cold := map[string]float64{"temperature": 10}
	h.lives(time.Minute, cold)
	h.do(Report{Control: "h.fan", Session: "1", Value: 1, By: ByHand})
	assert.Equal(t, h.now.Wall.Add(time.Minute), h.state("fan").HandUntil, "at the board")
	h.lives(70*time.Second, cold)
	assert.Zero(t, h.wanted("fan"))
	h.byHand("fan", 1, 0)
	assert.Equal(t, h.now.Wall.Add(2*time.Minute), h.state("fan").HandUntil)
	h.lives(130*time.Second, cold)
	assert.Zero(t, h.wanted("fan"))
	h.byHand("fan", 1, 0)
	h.obeys()
	h.do(ToAuto{Control: "h.nobody", Actor: kim})
	h.do(Serve{Control: "h.nobody", Service: control.OutSilent, Actor: kim})
	h.do(Reset{Control: "h.nobody", Actor: kim})
	h.do(Withdraw{Control: "h.nobody"})
	assert.Equal(t, site.Amount(1), h.wanted("fan"))
}

func TestAPulseThatItsBoardSawIsConfirmed(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		momentary("gate", site.Pulse{ForMS: 1000})(s)
		s.Rules["r"] = &site.Rule{ID: "r", Name: "R", Stages: []site.Stage{{When: "h.rain",
			Actions: []site.Action{{Kind: site.DoAuto, ID: "h.fan"}}}}}
		s.Automations["h.fan"] = &site.Automation{Demands: whenever("h.temperature > 20")}
	})
	h.byHand("gate", 1, 0)
	h.do(Report{Control: "h.gate", Session: "1", Value: 1})
	h.pass(2 * time.Second)
	h.do(Report{Control: "h.gate", Session: "1", Value: 0})
	assert.Equal(t, Confirmed, h.state("gate").Phase)
	assert.Equal(t, "pulsed, by Kim", h.read(h.state("gate").Reason))
	h.do(Report{Control: "h.gate", Session: "1", Value: 1})
	assert.False(t, h.state("gate").Pulse.Running, "one that nobody sent is none")

	h.is("rain", false)
	h.byHand("fan", 1, 0)
	h.is("rain", true)
	assert.Equal(t, Auto, h.state("fan").Mode)
}

func TestWhatIsLockedAndOnIsNotLeftBehind(t *testing.T) {
	h := newHouse(t, nil)
	h.do(Report{Control: "h.fan", Session: "1", Value: 1})
	h.do(Serve{Control: "h.fan", Service: control.OutSilent, Actor: kim})
	h.do(Leave{Controls: []string{"h.fan"}, Actor: kim})
	assert.False(t, h.Left([]string{"h.fan"}), "out of service it is told nothing, and it is on")
	h.do(Report{Control: "h.fan", Session: "1", Value: 0})
	assert.True(t, h.Left([]string{"h.fan", "h.nobody"}))
}

func TestWhatIsGivenUpSaysSo(t *testing.T) {
	h := newHouse(t, nil)
	h.byHand("fan", 1, 0)
	h.obeys()
	h.do(Offline{Device: "h", Session: "1"})
	out := h.pass(site.DefaultResume - 31*time.Second)
	assert.Equal(t, site.Amount(1), h.wanted("fan"))
	out = append(out, h.pass(time.Minute)...)
	assert.Zero(t, h.wanted("fan"))
	assert.Equal(t, HowAway, h.state("fan").How)
	said := map[string]int{}
	for _, x := range out {
		if j, ok := x.(Journal); ok {
			said[j.Action+" "+j.Reason.String()]++
		}
	}
	assert.Equal(t, 1, said["switch away for longer than 24 h; the safe value holds until somebody resumes"])
	assert.Equal(t, 1, said["offline "])
	h.do(Online{Device: "h", Session: "2"})
	h.do(Report{Control: "h.fan", Session: "2", Value: 0})
	assert.Equal(t, Confirmed, h.state("fan").Phase)
}

func TestTheSameByHandTwiceIsOneEntry(t *testing.T) {
	h := newHouse(t, auto("fan", site.Automation{Demands: whenever("h.temperature > 20")}))
	entries := func(out []Effect) (n int) {
		for _, x := range out {
			if j, ok := x.(Journal); ok && j.Object == "h.fan" {
				n++
			}
		}
		return n
	}
	h.lives(20*time.Second, map[string]float64{"temperature": 10})
	assert.Equal(t, 1, entries(h.byHand("fan", 1, 0)))
	h.obeys()
	assert.Zero(t, entries(h.byHand("fan", 1, 0)), "it is so already")
	assert.Equal(t, 1, entries(h.byHand("fan", 1, time.Hour)), "but for another time it is news")
	assert.Equal(t, h.now.Wall.Add(time.Hour), h.state("fan").HandUntil)
	assert.Contains(t, h.read(h.state("fan").Reason), "until 11:00")
	assert.Equal(t, []string{"on"}, wants(h.do(Report{Control: "h.fan", Session: "1", Value: 0, By: ByLease})),
		"what fell is sent again")
	assert.Empty(t, wants(h.byHand("fan", 1, time.Hour)), "it is on its way")
	h.pass(10 * time.Second)
	assert.NotEmpty(t, wants(h.byHand("fan", 1, time.Hour)), "where nobody confirmed it, a tap sends it")
	out := h.do(ToAuto{Control: "h.fan", Actor: kim})
	assert.Equal(t, 2, entries(out), "given back, and switched off")
	assert.Zero(t, entries(h.do(ToAuto{Control: "h.fan", Actor: kim})))
	h.do(Command{Control: "h.fan", To: 7, Actor: kim})
	assert.Equal(t, Auto, h.state("fan").Mode, "what it cannot be is not noted")
	h.do(Command{Control: "h.nobody", To: 1, Actor: kim})
}

func TestWhatIsSwitchedOffAtTheBoardBeforeItAnsweredIsFollowed(t *testing.T) {
	h := newHouse(t, nil)
	h.do(Report{Control: "h.fan", Session: "1", Value: 0})
	h.byHand("fan", 1, 0)
	h.do(Report{Control: "h.fan", Session: "1", Value: 0, By: ByHand})
	assert.Zero(t, h.wanted("fan"))
	assert.Equal(t, Confirmed, h.state("fan").Phase)
}

func TestWhatIsByHandIsAutoOnceItHasAutomation(t *testing.T) {
	h := newHouse(t, nil)
	h.reads("temperature", 10)
	h.byHand("heater", 0, 0)
	h.edits(auto("heater", site.Automation{Demands: whenever("h.temperature < 18")}))
	assert.Equal(t, Auto, h.state("heater").Mode)
	assert.Nil(t, h.state("heater").Hand)
	assert.Equal(t, site.Amount(1), h.wanted("heater"))
}

func TestALockIsKeptOfWhatNobodyWants(t *testing.T) {
	h := newHouse(t, nil)
	h.do(Serve{Control: "h.fan", Service: control.OutSilent, Actor: kim})
	h = h.restarts(time.Second)
	assert.Equal(t, control.OutSilent, h.state("fan").Service)
}

func TestWhatIsMadeSafeIsToldAgainWhereItWentOnAndNotAtEachReport(t *testing.T) {
	h := newHouse(t, nil)
	h.byHand("fan", 1, 0)
	h.obeys()
	require.Equal(t, []string{"off"}, wants(h.do(Serve{Control: "h.fan", Service: control.OutAndSafe, Actor: kim})))
	assert.Empty(t, wants(h.do(Report{Control: "h.fan", Session: "1", Value: 1})), "it did not hear of it yet")
	h.obeys()
	assert.Equal(t, Confirmed, h.state("fan").Phase)
	assert.Equal(t, []string{"off"}, wants(h.do(Report{Control: "h.fan", Session: "1", Value: 1})))
}

func TestStartsAreRememberedForAnHourAndNoMoreThanThereMayBe(t *testing.T) {
	h := newHouse(t, nil)
	for range 100 {
		h.byHand("fan", 1, 0)
		h.byHand("fan", 0, 0)
	}
	assert.Equal(t, startsKept, h.Started("h.fan"))
	h.pass(2 * time.Hour)
	assert.Zero(t, h.Started("h.fan"))
}

func TestWhatIsInsistedOnTooOftenIsShownAsUnconfirmed(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		c := s.Controls["h.fan"]
		c.AtDevice, c.Safe = site.Insist, 1
		s.Controls["h.fan"] = c
		s.Automations["h.fan"] = &site.Automation{Changes: 2}
	})
	h.byHand("fan", 1, 0)
	h.obeys()
	for range 3 {
		out := h.do(Report{Control: "h.fan", Session: "1", Value: 0, By: ByHand})
		if len(wants(out)) == 0 {
			assert.True(t, slices.ContainsFunc(out, func(x Effect) bool {
				s, ok := x.(ControlChanged)
				return ok && s.State.Phase == Unconfirmed
			}))
			return
		}
		h.do(Report{Control: "h.fan", Session: "1", Value: 1})
	}
	t.Fatal("it is told again and again")
}

func TestALeaseHasRunOutOnceItIsOver(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		d := s.Devices["h"]
		d.LeaseMS = 60_000
		s.Devices["h"] = d
	})
	d := h.devices["h"]
	for ago, out := range map[time.Duration]bool{0: false, time.Minute: false, time.Minute + 1: true} {
		d.lastBeat = h.now.Mono - ago
		assert.Equal(t, out, h.leaseRanOut(d), ago)
	}
}

func TestAPulseThatWasCutEndsNoLaterOne(t *testing.T) {
	h := newHouse(t, momentary("gate", site.Pulse{ForMS: 5000}))
	h.byHand("gate", 1, 0)
	h.pass(time.Second)
	h.do(Serve{Control: "h.gate", Service: control.OutSilent, Actor: kim})
	require.False(t, h.state("gate").Pulse.Running)
	h.do(Serve{Control: "h.gate", Actor: kim})
	h.pass(time.Second)
	h.byHand("gate", 1, 0)
	h.pass(4 * time.Second)
	assert.True(t, h.state("gate").Pulse.On, "5 s are not over")
	h.pass(2 * time.Second)
	assert.False(t, h.state("gate").Pulse.On)
}

func TestWhatIsNotTakenAwayAfterAllIsToldNothingNew(t *testing.T) {
	h := newHouse(t, nil)
	h.byHand("fan", 0, 0)
	assert.Equal(t, []string{"off"}, wants(h.do(Leave{Controls: []string{"h.fan"}, Actor: kim})),
		"nobody confirmed it yet")
	assert.Empty(t, wants(h.do(Leave{Controls: []string{"h.fan"}, End: true, Actor: kim})))
}

// An off that was lost on its way is sent again as long as the board says that it is on, and where it is taken away or
// the hub was restarted meanwhile.
func TestAPulseWhoseOffWasLostLetsGo(t *testing.T) {
	pulsed := func() *house {
		h := newHouse(t, momentary("gate", site.Pulse{ForMS: 500}))
		h.byHand("gate", 1, 0)
		h.do(Report{Control: "h.gate", Session: "1", Value: 1})
		return h
	}
	h := pulsed()
	assert.Equal(t, []string{"off"}, wants(h.pass(time.Second)))
	gate := h.site.Controls["h.gate"]
	within := gate.ConfirmAfter() + time.Second
	assert.Equal(t, []string{"off"}, wants(h.pass(within)))
	assert.Equal(t, Unconfirmed, h.state("gate").Phase)
	assert.Equal(t, "its board says that it is still on; off was sent again", h.read(h.state("gate").Reason))
	h.do(Report{Control: "h.gate", Session: "1", Value: 0})
	assert.Equal(t, Confirmed, h.state("gate").Phase)
	assert.Equal(t, "pulsed, by Kim", h.read(h.state("gate").Reason))
	assert.Empty(t, wants(h.pass(time.Hour)))

	h = pulsed()
	offs := wants(h.pass(time.Hour))
	assert.Len(t, offs, 1+mostOffs)
	assert.Contains(t, h.read(h.state("gate").Reason), "however often")
	assert.Empty(t, wants(h.pass(time.Hour)))

	h = pulsed()
	h.pass(time.Second)
	assert.Equal(t, []string{"off"}, wants(h.do(Leave{Controls: []string{"h.gate"}, Actor: kim})))
	assert.False(t, h.Left([]string{"h.gate"}))
	h.do(Report{Control: "h.gate", Session: "1", Value: 0})
	assert.True(t, h.Left([]string{"h.gate"}))

	h = pulsed()
	h.pass(time.Second)
	h.do(Offline{Device: "h", Session: "1"})
	h.pass(time.Minute)
	assert.Equal(t, []string{"off"}, wants(h.do(Online{Device: "h", Session: "2"})))
	h = pulsed()
	h.pass(time.Second)
	h = h.restarts(time.Minute)
	assert.Equal(t, []string{"off"}, wants(h.do(Online{Device: "h", Session: "2"})))
}
