package engine

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/core/site"
	"idleember/core/words"
)

// Sessions, leases and boards that are away.

func TestWhatABoardSaidIsStaleOnceItIsAway(t *testing.T) {
	h := newHouse(t, nil)
	h.reads("temperature", 20)
	var stale []string
	for _, x := range append(h.do(Offline{Device: "h", Session: "1"}), h.pass(time.Minute)...) {
		if s, ok := x.(SignalChanged); ok && s.State.Fresh == Stale {
			stale = append(stale, s.State.ID)
		}
	}
	assert.Equal(t, []string{"h.temperature"}, stale)
}

func TestWhatIsEditedAwayIsForgotten(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		door(false)(s)
		momentary("pump", site.Pulse{ForMS: 1000, Times: 5, GapMS: 1000})(s)
		s.Automations["h.heater"] = &site.Automation{Interlocks: []site.Interlock{{ID: "gas", Name: "gas", Latch: true,
			Condition: site.Condition{When: "h.gas > 30"}}}}
		s.Automations["h.fan"] = &site.Automation{Demands: whenever("h.humidity > 60"),
			Proof: &site.Proof{When: "h.power > 55", WithinMS: 20_000}}
		s.Automations["h.duct"] = &site.Automation{Demands: whenever("h.humidity > 60")}
	})
	h.byHand("duct", 30, 0)
	h.is("rain", false)
	h.lives(40*time.Second, map[string]float64{"gas": 40, "humidity": 70, "power": 2})
	require.Equal(t, []string{"gas"}, h.state("heater").Latched)
	require.Equal(t, ProofMissing, h.state("fan").Proof)
	h.byHand("gate", site.Open, 0)
	h.lives(2*time.Second, nil)
	require.Equal(t, site.Amount(1), h.motors()[0])
	h.byHand("pump", 1, 0)
	require.True(t, h.state("pump").Pulse.Running)

	h.site = h.site.Clone()
	for _, id := range []string{"gate", "heater", "fan", "duct"} {
		delete(h.site.Automations, "h."+id)
	}
	pump := h.site.Controls["h.pump"]
	pump.Momentary = nil
	h.site.Controls["h.pump"] = pump
	delete(h.site.Settings, "h.hours")
	assert.True(t, slices.ContainsFunc(h.do(SiteChanged{h.site}), func(x Effect) bool {
		c, ok := x.(ControlChanged)
		return ok && c.State.ID == "h.duct" && c.State.Mode == NoMode && *c.State.Hand == 30
	}), "what is by hand stays, and has no mode any more")
	assert.Equal(t, [2]site.Amount{0, 0}, h.motors(), "nobody would end it")
	assert.Nil(t, h.state("gate").Mover)
	assert.Empty(t, h.state("heater").Latched)
	assert.Empty(t, h.state("heater").Locks)
	assert.Equal(t, NoProof, h.state("fan").Proof)
	assert.Equal(t, ptr(site.Amount(0)), h.state("fan").Hand, "off, until somebody wants something else")
	assert.False(t, h.state("pump").Pulse.Running)
	assert.Equal(t, words.Of("pulse.ended", "Why", words.Of("pulse.plain")), h.state("pump").Pulse.Says)
	_, ok := h.Setting("h.hours")
	assert.False(t, ok)
	assert.Zero(t, h.Started("h.nobody"))
	h.pass(time.Hour)
	assert.Equal(t, NoProof, h.state("fan").Proof)
}

func TestADangerousControlIsNotWantedOfABoardThatIsAway(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		c := s.Controls["h.heater"]
		c.Dangerous = true
		s.Controls["h.heater"] = c
	})
	h.do(Offline{Device: "h", Session: "1"})
	h.pass(time.Minute)
	out := h.byHand("heater", 1, 0)
	assert.NotContains(t, wants(out), "on")
	assert.Zero(t, h.wanted("heater"))
	assert.Equal(t, ptr(site.Amount(1)), h.state("heater").Held)
}

func TestWhoOnlySaysSomethingInASessionOfItsOwnStartsNothingAnew(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		door(false)(s)
		s.Groups["climate"] = &site.Group{ID: "climate", Name: "Climate", Members: []site.GroupMember{{Control: "h.heater"},
			{Control: "h.cooler"}}}
	})
	h.do(Listening{Device: "h", Session: "1"})
	h.is("rain", false)
	h.byHand("heater", 1, 0)
	h.byHand("gate", site.Open, 0)
	h.obeys()
	require.Equal(t, Confirmed, h.state("heater").Phase)
	require.Equal(t, site.Amount(1), h.wanted("up"))
	for i := range 3 { // as a script does that publishes with the device's key
		session := string(rune('a' + i))
		h.do(Online{Device: "h", Session: session})
		h.reads("temperature", 20)
		h.do(Offline{Device: "h", Session: session, Bye: true})
		assert.Empty(t, wants(h.pass(time.Second)))
		assert.Equal(t, Confirmed, h.state("heater").Phase)
		assert.Equal(t, site.Amount(1), h.wanted("up"))
	}
	// the board itself, by another name, while its old session is not known to be dead
	h.do(Online{Device: "h", Session: "2"})
	h.do(Listening{Device: "h", Session: "2"})
	assert.Equal(t, Pending, h.state("heater").Phase)
	assert.Empty(t, wants(h.byHand("heater", 1, 0)), "it says what it is before it is told anything")
	assert.Empty(t, wants(h.do(Report{Control: "h.heater", Session: "2", Value: 1})))
	assert.Equal(t, Confirmed, h.state("heater").Phase)
	h.do(Listening{Device: "h", Session: "2"})
	assert.Equal(t, Confirmed, h.state("heater").Phase, "once for each session")
	h.do(Online{Device: "h", Session: "3"})
	h.do(Offline{Device: "h", Session: "1"})
	h.do(Offline{Device: "h", Session: "2"})
	assert.Equal(t, Confirmed, h.state("heater").Phase)
	h.do(Listening{Device: "h", Session: "3"})
	assert.Equal(t, Pending, h.state("heater").Phase, "whichever sessions there were before")
}

func TestASessionThatSaysGoodByeStaysForThreeOfItsMessages(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		for _, id := range []string{"temperature", "humidity", "gas", "power", "moisture"} {
			g := s.Signals["h."+id]
			g.IntervalMS = 60_000
			s.Signals["h."+id] = g
		}
	})
	online := func() bool { d, _ := h.Device("h"); return d.Online }
	h.do(Offline{Device: "h", Session: "1", Bye: true})
	h.pass(3*time.Minute - time.Second)
	assert.True(t, online())
	h.pass(2 * time.Second)
	assert.False(t, online())
	h.do(Online{Device: "h", Session: "2"})
	h.do(Offline{Device: "h", Session: "2"})
	h.pass(linger - time.Second)
	assert.True(t, online(), "one that broke off stays for a little, as a short gap is none")
	h.pass(2 * time.Second)
	assert.False(t, online())
	h.do(Offline{Device: "h", Session: "2"})
	h.do(Offline{Device: "nobody", Session: "2"})
	h.do(Online{Device: "nobody", Session: "2"})
	h.do(Listening{Device: "h", Session: "3"})
	h.do(Listening{Device: "nobody", Session: "3"})
}

func TestAnotherLeaseIsToldAtOnce(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		d := s.Devices["h"]
		d.LeaseMS = 60_000
		s.Devices["h"] = d
	})
	leases := func(out []Effect) (list []time.Duration) {
		for _, x := range out {
			if b, ok := x.(Beat); ok {
				list = append(list, b.Lease)
			}
		}
		return list
	}
	assert.Equal(t, []time.Duration{time.Minute, time.Minute, time.Minute}, leases(h.pass(time.Minute)),
		"every third of it")
	d := h.site.Devices["h"]
	d.LeaseMS = 30_000
	h.site = h.site.Clone()
	h.site.Devices["h"] = d
	out := append(h.do(SiteChanged{h.site}), h.pass(time.Millisecond)...)
	assert.Equal(t, []time.Duration{30 * time.Second}, leases(out))
	assert.Len(t, leases(h.pass(30*time.Second)), 3)
	h.do(Offline{Device: "h", Session: "1"})
	h.pass(time.Minute)
	assert.Empty(t, leases(h.pass(time.Minute)), "nobody hears it")
}

func TestAfterASilenceOnlyWhatCannotAnswerIsToldAnew(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		d, c := s.Devices["h"], s.Controls["h.fan"]
		d.LeaseMS, c.Answers = 60_000, false
		s.Devices["h"], s.Controls["h.fan"] = d, c
	})
	for _, id := range []string{"fan", "heater", "pump"} {
		h.byHand(id, 1, 0)
	}
	h.obeys()
	h.pass(30 * time.Minute)
	h.obeys()
	h.do(Withdraw{Control: "h.pump", Doubt: true})
	told := map[string]bool{}
	for _, x := range h.pass(80*time.Second + time.Millisecond) {
		if w, ok := x.(Want); ok {
			told[w.Control] = true
		}
	}
	assert.Equal(t, map[string]bool{"h.fan": true}, told)
}

func TestWhatLosesItsAutomationStaysOffOverARestart(t *testing.T) {
	h := newHouse(t, auto("fan", site.Automation{Demands: whenever("h.temperature > 20")}))
	h.lives(time.Minute, map[string]float64{"temperature": 15})
	require.Zero(t, h.wanted("fan"))
	h.edits(func(s *site.Site) { delete(s.Automations, "h.fan") })
	h = h.restarts(time.Second)
	assert.Equal(t, ptr(site.Amount(0)), h.state("fan").Hand)
	assert.Equal(t, NoMode, h.state("fan").Mode)
}
