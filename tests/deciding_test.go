package tests

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/client"
	"idleember/contract/shown"
	"idleember/core/engine"
	"idleember/core/site"
	"idleember/tests/rig"
)

// decide gives a control an automation.
func decide(r *rig.Rig, id string, a site.Automation) {
	a.Control = id
	_, err := r.Owner.Automation(id).Put(r.T.Context(), a, "")
	require.NoError(r.T, err)
}

func setpoint(r *rig.Rig, value float64) {
	_, err := r.Owner.Settings().Add(r.T.Context(), site.Setting{ID: "kiln.setpoint", Name: "Setpoint",
		Kind: site.SetNumber, Unit: "Cel", Min: 5, Max: 40, Default: site.Amount(value), Guests: site.GuestsSee})
	require.NoError(r.T, err)
}

func heating() site.Automation {
	return site.Automation{Demands: []site.Demand{{Kind: engine.HoldAbove, Of: "kiln.chamber", Target: "kiln.setpoint",
		Band: 1}}}
}

// A thermostat from the outside: the board tells its temperature and hears what the hub wants, people set and switch,
// and everything is as before when the hub was restarted.
func TestTheHubHoldsASetpoint(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Device("kiln")
	board := newRelay(r, key)
	board.Publish("ember/kiln/is/fan", 1, false, "off").Wait()
	chamber := func(v string) { board.Publish("ember/kiln/r/chamber", 1, false, v).Wait() }
	chamber("21.0")
	setpoint(r, 22)
	decide(r, "kiln.fan", heating())
	control := func() shown.Control { return r.Control("kiln.fan") }
	is := func(on bool) func() bool { return func() bool { return rig.On(control().State.Is) == on } }

	chamber("20.9")
	r.Soon("on below the setpoint", is(true))
	assert.Contains(t, control().State.Reason.String(), "Chamber 20.9 is below the setpoint 22")
	assert.Equal(t, "auto", string(control().State.Mode))
	_, err := r.Owner.SetSettingWithResponse(t.Context(), "kiln.setpoint", client.SetSettingJSONRequestBody{Value: 18})
	require.NoError(t, err)
	r.Soon("a new setpoint takes effect at once", is(false))
	assert.Contains(t, strings.Join(r.Journal("kiln.setpoint"), "\n"), "set 22 Cel>18 Cel")

	// By hand for a time; the setpoint is locked then, and says so.
	ms := int64(3600_000)
	_, err = r.Owner.SwitchControlWithResponse(t.Context(), "kiln.fan", nil, client.SwitchControlJSONRequestBody{To: true,
		ForMs: &ms})
	require.NoError(t, err)
	r.Soon("by hand", is(true))
	_, err = r.Owner.SetSettingWithResponse(t.Context(), "kiln.setpoint", client.SetSettingJSONRequestBody{Value: 25})
	assert.ErrorContains(t, err, "Fan is by hand; put it in auto to change this")

	r.Restart()
	c := control()
	assert.Equal(t, "manual", string(c.State.Mode), "the mode is as before")
	assert.True(t, rig.On(c.State.Want))
	assert.InDelta(t, 59.5, time.Until(*c.State.HandUntil).Minutes(), 1)
	g, err := r.Owner.Settings().List(t.Context())
	require.NoError(t, err)
	assert.Equal(t, site.Amount(18), g[0].State.Value)
	board = newRelay(r, key)
	chamber("21.0")
	_, err = r.Owner.AutoControlWithResponse(t.Context(), "kiln.fan", nil)
	require.NoError(t, err)
	r.Soon("back in auto the hub takes over at once", is(false))

	why, err := r.Owner.WhyControlWithResponse(t.Context(), "kiln.fan")
	require.NoError(t, err)
	assert.Contains(t, why.JSON200.Lines[1].String(), "Demand 1 asks for nothing")
	series := []string{"kiln.fan.mode", "kiln.setpoint"}
	h, err := r.Owner.GetHistoryWithResponse(t.Context(), &client.GetHistoryParams{Series: series})
	require.NoError(t, err)
	assert.Subset(t, *(*h.JSON200)[0].V, []any{"auto", "manual"}, "modes are kept as history")
	assert.Subset(t, *(*h.JSON200)[1].V, []any{18.0}, "and so are settings")
}

func TestInterlockAndSafeValueWhenAutomationGoes(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Device("kiln")
	board := newRelay(r, key)
	board.Publish("ember/kiln/is/fan", 1, false, "off").Wait()
	board.Publish("ember/kiln/r/chamber", 1, false, "20").Wait()
	setpoint(r, 30)
	a := heating()
	a.Interlocks = []site.Interlock{{Name: "too hot", Latch: true, Condition: site.Condition{When: "kiln.chamber > 60"}}}
	decide(r, "kiln.fan", a)
	r.Soon("on", func() bool { return rig.On(r.Control("kiln.fan").State.Is) })
	board.Publish("ember/kiln/r/chamber", 1, false, "61").Wait()
	r.Soon("forced off", func() bool { return !rig.On(r.Control("kiln.fan").State.Is) })
	board.Publish("ember/kiln/r/chamber", 1, false, "20").Wait()
	_, err := r.Owner.ResetControlWithResponse(t.Context(), "kiln.fan")
	require.NoError(t, err)
	r.Soon("on again after the reset", func() bool { return rig.On(r.Control("kiln.fan").State.Is) })
	_, err = r.Owner.Automation("kiln.fan").Put(t.Context(), site.Automation{Control: "kiln.fan"}, "")
	require.NoError(t, err)
	r.Soon("off", func() bool { return !rig.On(r.Control("kiln.fan").State.Is) })

	// Out of service: nothing is sent, and nobody may switch.
	_, err = r.Owner.ServeControlWithResponse(t.Context(), "kiln.fan",
		client.ServeControlJSONRequestBody{Service: "silent"})
	require.NoError(t, err)
	_, err = r.Owner.SwitchControlWithResponse(t.Context(), "kiln.fan", nil, client.SwitchControlJSONRequestBody{To: true})
	assert.ErrorContains(t, err, "out of service")
}

// What cannot be is told with its place, and keeps nothing.
func TestWrongAutomationIsRefused(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Device("kiln")
	r.Pub("kiln", key, "ember/kiln/is/fan", "off")
	r.Pub("kiln", key, "ember/kiln/r/chamber", "20")
	for want, a := range map[string]site.Automation{
		"did you mean kiln.chamber?": {Demands: []site.Demand{{Kind: engine.Whenever,
			Condition: site.Condition{When: "kiln.chambre > 3"}}}},
		"at character 1: > needs numbers": {Interlocks: []site.Interlock{{Name: "x",
			Condition: site.Condition{When: "kiln.fan.is > 3"}}}},
		"demand 1: tell what is held":     {Demands: []site.Demand{{Kind: engine.HoldAbove}}},
		"a rest comes after a longest on": {Limits: site.RunLimits{RestMS: 1000}},
		"This comes back to itself": {Demands: []site.Demand{{Kind: engine.Whenever,
			Condition: site.Condition{When: "not kiln.fan.want"}}}},
		"a curve demand needs one": {Demands: []site.Demand{{Kind: engine.Curve}}},
		"Fan is no mover":          {Travel: &site.Travel{TravelMS: 1000}},
		"this comes to a number": {Permits: []site.Permit{{Condition: site.Condition{When: "kiln.chamber"}}},
			Demands: []site.Demand{{Kind: engine.Whenever, Condition: site.Condition{When: "kiln.chamber > 3"}}}},
	} {
		a.Control = "kiln.fan"
		_, err := r.Owner.Automation("kiln.fan").Put(t.Context(), a, "")
		assert.ErrorContains(t, err, want)
	}
	have, err := r.Owner.Automation("kiln.fan").Get(t.Context())
	require.NoError(t, err)
	assert.Equal(t, site.Automation{Control: "kiln.fan"}, have.Config)

	_, err = r.Owner.Automation("kiln.fan").Put(t.Context(), heating(), `"old"`)
	assert.ErrorContains(t, err, "changed")
	kim := r.Member("kim", "member")
	_, err = kim.Automation("kiln.fan").Put(t.Context(), heating(), "")
	assert.ErrorContains(t, err, "member")
	c, err := r.Owner.CheckFormulaWithResponse(t.Context(),
		client.CheckFormulaJSONRequestBody{Text: `mean(kiln.chamber, "10m") > 10 and hour >= 0`})
	require.NoError(t, err)
	assert.Equal(t, "true", c.JSON200.Value)
	tried, err := r.Owner.TryAutomationWithResponse(t.Context(), "kiln.fan",
		client.TryAutomationJSONRequestBody{Values: map[string]client.Value{"kiln.chamber": 3},
			Automation: &site.Automation{Control: "kiln.fan", Demands: []site.Demand{{Kind: engine.Whenever,
				Condition: site.Condition{When: "kiln.chamber < 5"}}}}})
	require.NoError(t, err)
	assert.Equal(t, "on", tried.JSON200.Want.String())
	assert.Nil(t, r.Control("kiln.fan").State.Want, "nothing was switched")
}

func TestPresetsRulesAndRights(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Device("kiln")
	board := newRelay(r, key)
	board.Publish("ember/kiln/is/fan", 1, false, "off").Wait()
	board.Publish("ember/kiln/r/chamber", 1, false, "20").Wait()
	setpoint(r, 20)
	_, err := r.Owner.Presets().Add(t.Context(), site.Preset{ID: "leave", Name: "Leave", Role: "owner",
		Actions: []site.Action{{Kind: site.DoControl, ID: "kiln.fan", To: 1}, {Kind: site.DoSetting, ID: "kiln.setpoint",
			To: 8}}})
	require.NoError(t, err)
	_, err = r.Owner.Rules().Add(t.Context(), site.Rule{ID: "hot", Name: "Hot",
		Stages: []site.Stage{{When: "kiln.chamber > 500", Actions: []site.Action{
			{Kind: site.DoMessage, ID: "kiln.chamber", Text: "The kiln is at {kiln.chamber}."}, {Kind: site.DoNote, ID: "kiln",
				Text: "hot"}, {Kind: site.DoPreset, ID: "leave"}}}}})
	require.NoError(t, err)
	kim := r.Member("kim", "member")
	_, err = kim.ApplyPresetWithResponse(t.Context(), "leave", client.ApplyPresetJSONRequestBody{})
	assert.ErrorContains(t, err, "preset Leave", "limited to owners")
	assert.Empty(t, r.Snapshot(kim).Presets)
	until := time.Now().Add(time.Hour)
	_, err = r.Owner.ApplyPresetWithResponse(t.Context(), "leave", client.ApplyPresetJSONRequestBody{Until: &until})
	require.NoError(t, err)
	r.Soon("applied", func() bool { return rig.On(r.Control("kiln.fan").State.Is) })
	next, err := r.Owner.GetNextWithResponse(t.Context(), nil)
	require.NoError(t, err)
	said := fmt.Sprint(*next.JSON200)
	assert.Contains(t, said, "back to 20 °C")
	assert.Contains(t, said, "off, the time by hand is over")
	board.Publish("ember/kiln/r/chamber", 1, false, "612").Wait()
	r.Soon("told", func() bool {
		m, err := r.Owner.ListMessagesWithResponse(t.Context())
		return err == nil && len(*m.JSON200) == 1 && (*m.JSON200)[0].Text == "The kiln is at 612."
	})
	n, err := r.Owner.ListNotesWithResponse(t.Context(), nil)
	require.NoError(t, err)
	assert.Equal(t, "hot", (*n.JSON200)[0].Text)
	err = r.Owner.Presets().Remove(t.Context(), "leave")
	assert.ErrorContains(t, err, "used by the rule Hot")
	_, err = r.Owner.RemoveDeviceWithResponse(t.Context(), "kiln",
		&client.RemoveDeviceParams{History: client.RemoveDeviceParamsHistoryDelete})
	require.NoError(t, err)
}

// A momentary want goes out once, is kept nowhere, and is told as not delivered where nobody was there.
func TestMomentaryWantsOverMQTT(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Device("kiln")
	r.Pub("kiln", key, "ember/kiln/is/fan", "off")
	pulse := site.Pulse{ForMS: 300}
	_, err := r.Owner.Controls().Patch(t.Context(), "kiln.fan", rig.Fields{"momentary": &pulse}, "")
	require.NoError(t, err)
	sub := r.Sub("kiln", key, "ember/kiln/#", "-F", "%t %p %r")
	r.Soon("listening", func() bool { return strings.Contains(sub.String(), "lease 60") })
	r.Switch("kiln.fan", true)
	r.Soon("on and off, not retained", func() bool {
		return strings.Contains(sub.String(), "ember/kiln/want/fan on 0\nember/kiln/want/fan off 0")
	})
	again := r.Sub("kiln", key, "ember/kiln/want/#", "-F", "%p %r")
	time.Sleep(300 * time.Millisecond)
	assert.Empty(t, again.String(), "nothing waits for those who come later")
}

// A device with a copy of a setting hears of changes and tells its own; the newer one wins.
func TestMirroredSettingOverMQTT(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Device("kiln")
	r.Pub("kiln", key, "ember/kiln/r/chamber", "20")
	_, err := r.Owner.Settings().Add(t.Context(), site.Setting{ID: "kiln.setpoint", Name: "Setpoint", Kind: site.SetNumber,
		Min: 5, Max: 40, Default: 20, Mirror: "sp"})
	require.NoError(t, err)
	sub := r.Sub("kiln", key, "ember/kiln/set/#", "-F", "%t %p")
	_, err = r.Owner.SetSettingWithResponse(t.Context(), "kiln.setpoint", client.SetSettingJSONRequestBody{Value: 24})
	require.NoError(t, err)
	r.Soon("told", func() bool { return strings.Contains(sub.String(), `ember/kiln/set/sp {"rev":1,"v":24}`) })
	r.Pub("kiln", key, "ember/kiln/has/sp", `{"v":17,"rev":1,"age":2}`)
	value := func() site.Amount {
		g, _ := r.Owner.Settings().List(t.Context())
		return g[0].State.Value
	}
	r.Soon("changed at the device", func() bool { return value() == 17 })
	r.Pub("kiln", key, "ember/kiln/has/sp", `{"v":30,"rev":1,"age":9999}`)
	r.Soon("the older change loses, and that is told", func() bool {
		m, _ := r.Owner.ListMessagesWithResponse(t.Context())
		return value() == 17 && len(*m.JSON200) == 1 && strings.Contains((*m.JSON200)[0].Text, "changed on both sides")
	})
	assert.Contains(t, r.Pub("kiln", key, "ember/kiln/has/other", `{"v":1}`, "-V", "5"), "")
	r.Soon("a copy of nothing is refused", func() bool {
		list := r.Refusals("kiln")
		return len(list) > 0 && strings.Contains(list[0].Reason, "no setting with a copy called")
	})
}

// A level goes out in the device's own numbers, and comes back as per cent.
func TestLevelsAndChoices(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Device("kiln")
	r.AddControl("kiln", "duct", client.Source{}, client.Target{})
	level, low, full := "level", 20.0, client.Target{Full: 255}
	_, err := r.Owner.Controls().Patch(t.Context(), "kiln.duct", rig.Fields{"kind": &level, "lowest": &low,
		"target": &full}, "")
	require.NoError(t, err)
	sub := r.Sub("kiln", key, "ember/kiln/want/duct", "-F", "%p")
	_, err = r.Owner.SwitchControlWithResponse(t.Context(), "kiln.duct", nil, client.SwitchControlJSONRequestBody{To: 10})
	assert.ErrorContains(t, err, "does not run below 20 %")
	_, err = r.Owner.SwitchControlWithResponse(t.Context(), "kiln.duct", nil, client.SwitchControlJSONRequestBody{To: 40})
	require.NoError(t, err)
	r.Soon("in its own numbers", func() bool { return strings.HasPrefix(sub.String(), "102\n") })
	r.Pub("kiln", key, "ember/kiln/is/duct", "102")
	r.Soon("confirmed", func() bool { return string(r.Control("kiln.duct").State.Phase) == "confirmed" })
	b, err := json.Marshal(r.Control("kiln.duct").State.Is)
	require.NoError(t, err)
	assert.Equal(t, "40", string(b))
	_, err = r.Owner.SwitchControlWithResponse(t.Context(), "kiln.duct", nil,
		client.SwitchControlJSONRequestBody{To: "much"})
	assert.ErrorContains(t, err, "expected a number from 0 to 100")
}

// What somebody relies on is not taken away without a word, and what cannot be done is said instead of ignored.
func TestWhatIsReliedOnIsNotTakenAway(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	b := fans(r, "fan", "bell")
	decide(r, "kiln.fan", site.Automation{Interlocks: []site.Interlock{{Name: "hot",
		Condition: site.Condition{When: "kiln.chamber > 50"}}}})
	err := r.Owner.Signals().Remove(t.Context(), "kiln.chamber")
	assert.ErrorContains(t, err, "the interlock “hot” of Fan")
	b.change("kiln.bell", rig.Fields{"momentary": &site.Pulse{ForMS: 300}})
	until := time.Now().Add(time.Hour)
	_, err = r.Owner.SwitchControlWithResponse(t.Context(), "kiln.bell", nil, client.SwitchControlJSONRequestBody{To: true,
		Until: &until})
	assert.ErrorContains(t, err, "Bell is momentary")
	_, err = r.Owner.Rules().Add(t.Context(), site.Rule{ID: "ring", Name: "Ring",
		Stages: []site.Stage{{When: "kiln.chamber > 500", Actions: []site.Action{{Kind: site.DoPulse, ID: "kiln.fan"}}}}})
	assert.ErrorContains(t, err, "it cannot be pulsed")
	b.read("chamber", "60")
	r.Soon("an interlock holds it", func() bool { return strings.Contains(b.reason("kiln.fan"), "interlock “hot”") })
	a, err := r.Owner.Automation("kiln.fan").Get(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "i1", a.Config.Interlocks[0].ID, "its state is kept by an id of the hub's")
}

// Of what is on in a group the broker keeps nothing: boards that come back after a power cut wait for their turn.
func TestNothingOfAGroupIsKeptWhileItIsOn(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Device("kiln")
	for _, name := range []string{"fan", "bell"} {
		r.Pub("kiln", key, "ember/kiln/is/"+name, "off")
	}
	_, err := r.Owner.Groups().Add(t.Context(), site.Group{ID: "one", Name: "One",
		Members: []site.GroupMember{{Control: "kiln.fan"}, {Control: "kiln.bell"}}})
	require.NoError(t, err)
	first := r.Sub("kiln", key, "ember/kiln/want/#", "-F", "%t %p %r", "-i", "one")
	r.Switch("kiln.fan", true)
	r.Soon("told", func() bool { return strings.Contains(first.String(), "want/fan on 0") })
	first.Stop()
	board := newRelay(r, key)
	r.Soon("it says that it is off, and is told anew", func() bool {
		board.Publish("ember/kiln/is/fan", 1, false, "off").Wait()
		return rig.On(r.Control("kiln.fan").State.Want)
	})
	r.Switch("kiln.fan", false)
	r.Soon("off", func() bool { return !rig.On(r.Control("kiln.fan").State.Want) })
	again := r.Sub("kiln", key, "ember/kiln/want/#", "-F", "%t %p %r", "-i", "two")
	r.Soon("off is kept", func() bool { return strings.Contains(again.String(), "want/fan off 1") })
	assert.NotContains(t, again.String(), "want/fan on 1")
}

// A script that publishes with the device's key, in a session of its own each time, is not the board that comes back.
func TestASessionThatOnlySaysSomethingStartsNothingAnew(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Device("kiln")
	for _, name := range []string{"fan", "bell"} {
		r.Pub("kiln", key, "ember/kiln/is/"+name, "off")
	}
	_, err := r.Owner.Groups().Add(t.Context(), site.Group{ID: "one", Name: "One",
		Members: []site.GroupMember{{Control: "kiln.fan"}, {Control: "kiln.bell"}}})
	require.NoError(t, err)
	board := newRelay(r, key)
	r.Switch("kiln.fan", true)
	r.Soon("confirmed", func() bool { return phase(r) == "confirmed" })
	told, written := board.heard(), len(r.Journal("kiln.fan"))
	for range 4 {
		r.Pub("kiln", key, "ember/kiln/r/chamber", "20", "-i", "script")
		assert.Equal(t, "confirmed", phase(r))
		time.Sleep(2 * time.Second) // in all longer than an answer may take
	}
	assert.Equal(t, told, board.heard())
	assert.Len(t, r.Journal("kiln.fan"), written)
	r.Sub("kiln", key, "ember/kiln/#", "-i", "other")
	r.Soon("who listens anew may be the board that started anew", func() bool { return phase(r) != "confirmed" })
}
