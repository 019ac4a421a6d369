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
)

// What doors and blinds do: motors, contacts, one button, and what stops them.

func TestADoorOnItsWayStandsStillAfterARestart(t *testing.T) {
	for _, automatic := range []bool{false, true} {
		h := newHouse(t, func(s *site.Site) {
			door(false)(s)
			s.Automations["h.gate"].Interlocks = nil
			if automatic {
				s.Automations["h.gate"].Demands = whenever("h.temperature > 20")
			}
		})
		h.is("rain", false)
		h.lives(20*time.Second, map[string]float64{"temperature": 15})
		h.byHand("gate", site.Open, 0)
		h.lives(3*time.Second, nil)
		require.Equal(t, [2]site.Amount{1, 0}, h.motors())
		h = h.restarts(time.Second)
		h.comes("2", map[string]reading.Value{"h.rain": reading.OnOff(false), "h.temperature": reading.Number(15)},
			map[string]site.Amount{"h.up": 0, "h.down": 0})
		h.lives(20*time.Second, map[string]float64{"temperature": 15})
		assert.Zero(t, h.motors()[0], "nobody saw how far it came")
		assert.Zero(t, h.motors()[1])
		assert.Equal(t, Unconfirmed, h.state("gate").Phase)
		assert.Contains(t, h.read(h.state("gate").Reason), "the hub was started anew")
		h.byHand("gate", site.Open, 0)
		h.lives(2*time.Second, nil)
		assert.Equal(t, [2]site.Amount{1, 0}, h.motors(), "somebody wants it anew")
		h.lives(time.Minute, nil)
		h.edits(nil)
		assert.Equal(t, site.Open, h.state("gate").Mover.Goal)
	}
}

func TestADoorThatStayedGoesOnWhenItIsGivenBack(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		door(false)(s)
		s.Automations["h.gate"].Demands = []site.Demand{{Kind: Whenever,
			Condition: site.Condition{When: "h.temperature > 20"}}}
	})
	warm := map[string]float64{"temperature": 25}
	h.is("rain", false)
	h.lives(2*time.Second, warm)
	require.Equal(t, site.Amount(1), h.motors()[0])
	h.is("rain", true)
	h.obeys()
	h.is("rain", false)
	h.lives(3*time.Second, warm)
	require.Equal(t, [2]site.Amount{0, 0}, h.motors(), "it stays where it was stopped")
	again := h.restarts(time.Second)
	again.comes("2", map[string]reading.Value{"h.rain": reading.OnOff(false), "h.temperature": reading.Number(25)},
		map[string]site.Amount{"h.up": 0, "h.down": 0})
	again.lives(time.Minute, warm)
	assert.Equal(t, [2]site.Amount{0, 0}, again.motors(), "and over a restart")
	h.do(ToAuto{Control: "h.gate", Actor: kim})
	h.obeys()
	assert.Equal(t, site.Amount(1), h.motors()[0])
}

func TestADoorSaysTheNumbersOfNow(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		door(false)(s)
		s.Automations["h.gate"].Demands = whenever("h.temperature > 20")
	})
	h.is("rain", false)
	h.lives(2*time.Second, map[string]float64{"temperature": 25})
	h.reads("temperature", 27)
	assert.Contains(t, h.read(h.Reason(h.now, "h.gate")), "Temperature 27")
}

func TestADoorWhoseTravelIsEditedAwayStands(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		door(false)(s)
		s.Automations["h.gate"].Demands = whenever("h.temperature > 20")
	})
	h.is("rain", false)
	h.lives(3*time.Second, map[string]float64{"temperature": 25})
	require.Equal(t, site.Amount(1), h.motors()[0])
	h.edits(func(s *site.Site) {
		gate := *s.Automations["h.gate"]
		gate.Travel = nil
		s.Automations["h.gate"] = &gate
	})
	assert.Equal(t, [2]site.Amount{0, 0}, h.motors())
	assert.Nil(t, h.state("gate").Mover)
}

func TestFormulasSeeModesAndDoorsInWords(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		door(false)(s)
		s.Automations["h.gate"].Interlocks = nil
		s.Automations["h.heater"] = &site.Automation{Demands: whenever("h.temperature < 18")}
		s.Automations["h.fan"] = &site.Automation{Demands: whenever(`h.heater.mode == "manual"`)}
		s.Automations["h.pump"] = &site.Automation{Demands: whenever(`h.gate.want == "open"`)}
		s.Automations["h.duct"] = &site.Automation{Demands: []site.Demand{{Kind: Whenever,
			Condition: site.Condition{When: "h.temperature > 30"}, To: ptr(site.Amount(60))}}}
	})
	h.lives(20*time.Second, map[string]float64{"temperature": 25})
	assert.Zero(t, h.wanted("fan"))
	h.byHand("heater", 0, 0)
	assert.Equal(t, site.Amount(1), h.wanted("fan"))
	h.do(ToAuto{Control: "h.heater", Actor: kim})
	assert.Zero(t, h.wanted("fan"), "and back")
	h.byHand("gate", site.Open, 0)
	assert.Equal(t, site.Amount(1), h.wanted("pump"))
	h.byHand("gate", site.Stop, 0)
	assert.Zero(t, h.wanted("pump"))
	h.reads("temperature", 35)
	assert.Equal(t, site.Amount(60), h.wanted("duct"), "what the demand asks for")
}

func TestADoorDoesNotGoOnByItselfWhenItIsGivenBack(t *testing.T) {
	for name, give := range map[string][2]Input{
		"in service": {Serve{Control: "h.door", Service: control.OutSilent, Actor: kim}, Serve{Control: "h.door",
			Actor: kim}},
		"its motor": {Serve{Control: "h.up", Service: control.OutSilent, Actor: kim}, Serve{Control: "h.up", Actor: kim}},
		"made safe": {Serve{Control: "h.door", Service: control.OutAndSafe, Actor: kim}, Serve{Control: "h.door",
			Actor: kim}},
		"not deleted": {Leave{Controls: []string{"h.door"}, Actor: kim}, Leave{Controls: []string{"h.door"}, End: true,
			Actor: kim}},
	} {
		for _, buttons := range []int{1, 2} {
			if name == "its motor" && buttons == 1 {
				continue
			}
			h := newHouse(t, func(s *site.Site) {
				c := site.NewControl("h", "door", "door", "Door")
				c.Kind, c.Safe = site.Mover, site.Stop
				s.Controls[c.ID] = c
				s.Automations[c.ID] = &site.Automation{Travel: &site.Travel{Opens: "h.up", Closes: "h.down", IsOpen: "h.open",
					TravelMS: 20_000}}
				if buttons == 1 {
					momentary("gate", site.Pulse{ForMS: 500})(s)
					s.Automations[c.ID] = &site.Automation{Travel: &site.Travel{Pulses: "h.gate", IsOpen: "h.open", TravelMS: 20_000}}
				}
			})
			h.is("open", false)
			h.byHand("door", site.Open, 0)
			h.lives(3*time.Second, nil)
			h.do(give[0])
			h.lives(10*time.Second, nil)
			out := h.do(give[1])
			assert.NotContains(t, wants(append(out, h.lives(time.Minute, nil)...)), "on", "%s, %d", name, buttons)
			assert.Equal(t, control.Stays, h.state("door").Limit, name)
			assert.Contains(t, h.read(h.Reason(h.now, "h.door")), "it was stopped, and stays where it is", name)
			h = h.restarts(time.Second)
			h.comes("2", map[string]reading.Value{"h.open": reading.OnOff(false)}, map[string]site.Amount{"h.up": 0,
				"h.down": 0})
			assert.NotContains(t, wants(h.lives(time.Minute, nil)), "on", "%s, %d", name, buttons)
			out = h.byHand("door", site.Open, 0)
			assert.Contains(t, wants(append(out, h.lives(3*time.Second, nil)...)), "on", "%s, %d: it is wanted anew", name,
				buttons)
		}
	}
}

func TestADoorThatWasThereStaysThereWhenItIsGivenBack(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		door(false)(s)
		gate := s.Automations["h.gate"]
		gate.Travel.IsOpen, gate.Travel.IsClosed, gate.Interlocks = "", "", nil
	})
	h.byHand("gate", site.Open, 0)
	h.lives(5*time.Second, nil)
	h.lives(10*time.Second, nil)
	require.Equal(t, Assumed, h.state("gate").Phase)
	h.do(Serve{Control: "h.gate", Service: control.OutSilent, Actor: kim})
	h.lives(10*time.Second, nil)
	out := h.do(Serve{Control: "h.gate", Actor: kim})
	assert.NotContains(t, wants(append(out, h.lives(time.Minute, nil)...)), "on", "its motor is not run again")
	assert.Equal(t, site.Open, h.wanted("gate"))
	assert.NotEqual(t, control.Stays, h.state("gate").Limit, "nothing stopped it")
}

func TestADoorThatStoodWhileItWasByHandIsDecidedAfreshAfterwards(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		door(false)(s)
		s.Automations["h.gate"].Demands = []site.Demand{{Kind: Whenever,
			Condition: site.Condition{When: "h.temperature > 20"}, To: ptr(site.Close)}}
	})
	h.is("rain", false)
	warm := map[string]float64{"temperature": 25}
	h.byHand("gate", site.Close, 10*time.Minute)
	h.lives(3*time.Second, warm)
	h.do(Serve{Control: "h.gate", Service: control.OutSilent, Actor: kim})
	h.do(Serve{Control: "h.gate", Actor: kim})
	h.lives(5*time.Minute, warm)
	require.Equal(t, control.Stays, h.state("gate").Limit)
	h.lives(6*time.Minute, warm)
	assert.Equal(t, Auto, h.state("gate").Mode)
	assert.Equal(t, site.Close, h.wanted("gate"))
	assert.NotEqual(t, control.Stays, h.state("gate").Limit)
}

func TestFormulasSeeWhereADoorIsAndALockedDoorIsNotConfirmedForEver(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		door(false)(s)
		gate := *s.Automations["h.gate"]
		travel := *gate.Travel
		travel.IsOpen, travel.IsClosed = "h.open", "h.closed"
		gate.Travel, gate.Interlocks = &travel, nil
		s.Automations["h.gate"] = &gate
		s.Automations["h.pump"] = &site.Automation{Demands: whenever(`h.gate.is == "open"`)}
	})
	h.is("open", false)
	h.is("closed", false)
	h.byHand("gate", site.Open, 0)
	h.lives(3*time.Second, nil)
	h.is("open", true)
	assert.Equal(t, site.Amount(1), h.wanted("pump"))
	require.Equal(t, Confirmed, h.state("gate").Phase)
	h.do(Serve{Control: "h.gate", Service: control.OutSilent, Actor: kim})
	require.Equal(t, Confirmed, h.state("gate").Phase)
	out := h.is("open", false)
	assert.Zero(t, h.wanted("pump"))
	assert.Equal(t, Unconfirmed, h.state("gate").Phase, "somebody moved it while it is locked")
	assert.True(t, slices.ContainsFunc(out, func(x Effect) bool {
		s, ok := x.(ControlChanged)
		return ok && s.State.ID == "h.gate" && s.State.Phase == Unconfirmed
	}), "and that is shown")
}

func TestFormulasSeeWhereADoorIsTakenToBe(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		door(false)(s)
		gate := s.Automations["h.gate"]
		gate.Travel.IsOpen, gate.Travel.IsClosed, gate.Interlocks = "", "", nil
		s.Automations["h.pump"] = &site.Automation{Demands: whenever(`h.gate.is == "open"`)}
	})
	h.byHand("gate", site.Open, 0)
	h.lives(5*time.Second, nil)
	assert.NotEqual(t, site.Amount(1), h.wanted("pump"))
	h.lives(10*time.Second, nil)
	assert.Equal(t, Assumed, h.state("gate").Phase)
	assert.Equal(t, site.Amount(1), h.wanted("pump"))
}

func TestADoorSomebodyMovedIsNotConfirmed(t *testing.T) {
	h := newHouse(t, door(false))
	for _, id := range []string{"rain", "open", "closed"} {
		h.is(id, false)
	}
	h.byHand("gate", site.Open, 0)
	h.lives(3*time.Second, nil)
	h.is("open", true)
	h.obeys()
	require.Equal(t, Confirmed, h.state("gate").Phase)
	h.do(Serve{Control: "h.up", Service: control.OutSilent, Actor: kim}) // it cannot go there again by itself
	h.is("open", false)
	assert.Equal(t, Unconfirmed, h.state("gate").Phase)
	assert.Equal(t, "Up is out of service", h.read(h.state("gate").Reason))
	h.do(Serve{Control: "h.up", Actor: kim})
	h.do(Leave{Controls: []string{"h.down"}, Actor: kim})
	h.obeys()
	assert.Equal(t, "Down is being taken away", h.read(h.state("gate").Reason))
}

func TestADoorWhoseMotorsCannotAnswerIsSentAStop(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		door(false)(s)
		for _, id := range []string{"h.up", "h.down"} {
			c := s.Controls[id]
			c.Answers = false
			s.Controls[id] = c
		}
	})
	h.is("rain", false)
	h.byHand("gate", site.Open, 0)
	h.lives(3*time.Second, nil)
	h.byHand("gate", site.Stop, 0)
	h.lives(3*time.Second, nil)
	assert.Equal(t, Sent, h.state("gate").Phase)
}

func TestADoorWaitsUntilItsOtherMotorIsOff(t *testing.T) {
	h := newHouse(t, door(false))
	for _, id := range []string{"rain", "open", "closed"} {
		h.is(id, false)
	}
	h.byHand("gate", site.Open, 0)
	h.lives(3*time.Second, nil)
	require.Equal(t, [2]site.Amount{1, 0}, h.motors())
	h.byHand("gate", site.Close, 0)
	h.pass(5 * time.Second)
	assert.Equal(t, [2]site.Amount{0, 0}, h.motors(), "nobody said that it is off")
	assert.Equal(t, Pending, h.state("gate").Phase)
	h.obeys()
	assert.Equal(t, [2]site.Amount{0, 1}, h.motors())
}

func TestAMotorThatIsLockedIsToldOnce(t *testing.T) {
	h := newHouse(t, door(false))
	h.is("rain", false)
	h.byHand("gate", site.Open, 0)
	h.lives(2*time.Second, nil)
	told := 0
	for _, x := range h.do(Serve{Control: "h.up", Service: control.OutSilent, Actor: kim}) {
		if w, ok := x.(Want); ok {
			told++
			assert.Zero(t, w.Value)
			assert.False(t, w.Again)
		}
	}
	assert.Equal(t, 1, told)
}

func TestADoorThatGetsOtherMotorsLetsGoOfTheOldOnes(t *testing.T) {
	h := newHouse(t, door(false))
	h.is("rain", false)
	h.byHand("gate", site.Open, 0)
	h.lives(2*time.Second, nil)
	require.Equal(t, site.Amount(1), h.wanted("up"))
	opens := func(id string) {
		h.edits(func(s *site.Site) {
			gate := *s.Automations["h.gate"]
			travel := *gate.Travel
			travel.Opens, gate.Travel = id, &travel
			s.Automations["h.gate"] = &gate
		})
		h.obeys()
	}
	opens("h.pump")
	assert.Zero(t, h.wanted("up"))
	assert.NotEqual(t, site.Amount(1), h.wanted("pump"), "nobody wanted it of that one")
	opens("h.up")
	assert.Zero(t, h.wanted("up"))
	h.byHand("gate", site.Open, 0)
	h.lives(2*time.Second, nil)
	assert.Equal(t, site.Amount(1), h.wanted("up"))
}

func TestADoorWithOneButtonThatGotThereDoesNotMove(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		momentary("up", site.Pulse{ForMS: 500})(s)
		door(false)(s)
		s.Automations["h.gate"].Travel = &site.Travel{Pulses: "h.up", IsClosed: "h.closed", IsOpen: "h.open",
			TravelMS: 15_000}
	})
	for _, id := range []string{"rain", "open", "closed"} {
		h.is(id, false)
	}
	out := h.do(Command{Control: "h.gate", To: site.Open, Actor: kim, Until: h.now.Wall.Add(time.Hour)})
	assert.True(t, slices.ContainsFunc(out, func(x Effect) bool {
		j, ok := x.(Journal)
		return ok && j.Action == "switch" && h.read(j.Reason) == "until 11:00"
	}), "%v", out)
	require.True(t, h.state("gate").Mover.Moving)
	h.pass(5 * time.Second)
	h.is("open", true)
	require.False(t, h.state("gate").Mover.Moving)
	h.is("rain", true)
	assert.False(t, h.state("gate").Mover.Moving)
}

func TestADoorWithOneContactIsWhereItSays(t *testing.T) {
	for contact, at := range map[string][2]site.Amount{"closed": {site.Close, site.Open}, "open": {site.Open,
		site.Close}} {
		h := newHouse(t, func(s *site.Site) {
			door(false)(s)
			travel := s.Automations["h.gate"].Travel
			if contact == "closed" {
				travel.IsOpen = ""
			} else {
				travel.IsClosed = ""
			}
		})
		h.is("rain", false)
		h.is(contact, true)
		assert.Equal(t, at[0], *h.state("gate").Is)
		h.byHand("gate", at[1], 0)
		h.lives(2*time.Second, nil)
		h.is(contact, false)
		assert.Equal(t, site.Stop, *h.state("gate").Is, "on its way")
		h.lives(20*time.Second, nil)
		assert.Equal(t, at[1], *h.state("gate").Is, "the other end is not that one")
		assert.Equal(t, Assumed, h.state("gate").Phase)
		h.byHand("gate", at[0], 0)
		h.lives(4*time.Second, nil)
		h.is(contact, true)
		h.obeys()
		assert.Equal(t, Confirmed, h.state("gate").Phase)
	}
}

func TestAMotorThatDoesNotAnswerLeavesItsDoorInDoubt(t *testing.T) {
	for _, to := range []site.Amount{site.Open, site.Close} {
		h := newHouse(t, func(s *site.Site) {
			door(false)(s)
			s.Automations["h.gate"].Travel.IsOpen, s.Automations["h.gate"].Travel.IsClosed = "", ""
		})
		h.is("rain", false)
		h.byHand("gate", to, 0)
		out := h.pass(30 * time.Second)
		assert.Equal(t, Unconfirmed, h.state("gate").Phase)
		assert.Contains(t, h.read(h.state("gate").Reason), "its motor did not answer")
		assert.Len(t, messages(out), 1)
	}
}

func TestADoorThatIsSentToAndFroIsHeld(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		door(false)(s)
		s.Automations["h.gate"].Demands = whenever("h.temperature > 20")
		s.Automations["h.gate"].Changes = 3
	})
	h.is("rain", false)
	for i := range 12 {
		h.pass(3 * time.Second)
		h.reads("temperature", float64(15+10*(i%2)))
		h.obeys()
	}
	assert.Equal(t, control.Chatters, h.state("gate").Limit)
	assert.Equal(t, site.Stop, h.wanted("gate"))
}

func TestTheButtonOfADoorThatIsLockedSaysThatItWasCut(t *testing.T) {
	h := newHouse(t, func(s *site.Site) {
		momentary("up", site.Pulse{ForMS: 5000})(s)
		door(false)(s)
		s.Automations["h.gate"].Travel = &site.Travel{Pulses: "h.up", IsClosed: "h.closed", TravelMS: 15_000}
	})
	h.is("rain", false)
	h.byHand("gate", site.Open, 0)
	require.True(t, h.state("up").Pulse.Running)
	out := h.do(Serve{Control: "h.gate", Service: control.OutSilent, Actor: kim})
	assert.True(t, slices.ContainsFunc(out, func(x Effect) bool {
		c, ok := x.(ControlChanged)
		return ok && c.State.ID == "h.up" && !c.State.Pulse.Running
	}))
}
