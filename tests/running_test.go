package tests

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/client"
	"idleember/core/calendar"
	"idleember/core/engine"
	"idleember/core/site"
	"idleember/tests/rig"
)

// fans is a board with several outputs that does as it is told, and a temperature.
func fans(r *rig.Rig, names ...string) *relays {
	key := r.Device("kiln")
	b := &relays{rig: r, board: newRelay(r, key)}
	for _, name := range names {
		b.board.Publish("ember/kiln/is/"+name, 1, false, "off").Wait()
	}
	b.read("chamber", "20")
	return b
}

type relays struct {
	rig   *rig.Rig
	board *relay
}

func (b *relays) read(name, v string) { b.board.Publish("ember/kiln/r/"+name, 1, false, v).Wait() }
func (b *relays) on(name string) bool { return rig.On(b.rig.Control("kiln." + name).State.Is) }
func (b *relays) change(id string, c rig.Fields) {
	_, err := b.rig.Owner.Controls().Patch(b.rig.T.Context(), id, c, "")
	require.NoError(b.rig.T, err)
}
func (b *relays) reason(id string) string { return b.rig.Control(id).State.Reason.String() }

func whenever(formula string) site.Demand {
	return site.Demand{Kind: engine.Whenever, Condition: site.Condition{When: formula}}
}

// A window that is open now, a day without, a single run, and what comes next.
func TestSchedulesOfTheHub(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	b := fans(r, "fan")
	zone, err := time.LoadLocation("Europe/Vienna")
	require.NoError(t, err)
	now := time.Now().In(zone)
	window := calendar.Window{Start: calendar.Moment{Base: calendar.Clock, Minutes: now.Hour()*60 + now.Minute()},
		ForMS: 3600_000}
	plan := func(s calendar.Schedule) {
		decide(r, "kiln.fan", site.Automation{Demands: []site.Demand{{Kind: engine.Scheduled, Schedule: &s}}})
	}
	plan(calendar.Schedule{Windows: []calendar.Window{window}})
	r.Soon("on in its window", func() bool { return b.on("fan") })
	plan(calendar.Schedule{Windows: []calendar.Window{window}, Except: []string{now.Format(time.DateOnly),
		now.AddDate(0, 0, -1).Format(time.DateOnly)}})
	r.Soon("off on a day without", func() bool { return !b.on("fan") })
	soon := time.Now().Add(2 * time.Second)
	plan(calendar.Schedule{Once: []calendar.Once{{At: soon, ForMS: 2000}, {At: soon.Add(50 * time.Hour), ForMS: 60_000}}})
	r.Soon("a single run", func() bool { return b.on("fan") })
	assert.False(t, time.Now().Before(soon))
	r.Soon("and its end", func() bool { return !b.on("fan") })
	next, err := r.Owner.GetNextWithResponse(t.Context(), nil)
	require.NoError(t, err)
	assert.Contains(t, fmt.Sprint(*next.JSON200), "kiln.fan")
	_, err = r.Owner.Automation("kiln.fan").Put(t.Context(), site.Automation{Control: "kiln.fan",
		Demands: []site.Demand{{Kind: engine.Scheduled, Schedule: &calendar.Schedule{Except: []string{"someday"}}}}}, "")
	assert.ErrorContains(t, err, "the schedule is empty")
}

// Heater and cooler never run together; with little power one waits for the other.
func TestGroupsOfControls(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	b := fans(r, "heater", "cooler", "oven")
	for _, name := range []string{"heater", "cooler", "oven"} {
		decide(r, "kiln."+name, site.Automation{Demands: []site.Demand{whenever(`kiln.chamber > 30`)}})
	}
	group := func(limit float64, members ...site.GroupMember) {
		_, err := r.Owner.Groups().Save(t.Context(), site.Group{ID: "pair", Name: "Pair", Limit: limit, Members: members})
		require.NoError(t, err)
	}
	group(0, site.GroupMember{Control: "kiln.heater"}, site.GroupMember{Control: "kiln.cooler"})
	b.read("chamber", "40")
	r.Soon("the first one", func() bool { return b.on("heater") && b.on("oven") })
	assert.False(t, b.on("cooler"))
	assert.Contains(t, b.reason("kiln.cooler"), "Heater")
	decide(r, "kiln.heater", site.Automation{Demands: []site.Demand{whenever(`kiln.chamber > 90`)}})
	r.Soon("then the other", func() bool { return !b.on("heater") && b.on("cooler") })
	group(3000, site.GroupMember{Control: "kiln.oven", Watts: 2000}, site.GroupMember{Control: "kiln.cooler", Watts: 1500})
	r.Soon("shed by priority", func() bool { return b.on("oven") && !b.on("cooler") })
	why, err := r.Owner.WhyControlWithResponse(t.Context(), "kiln.cooler")
	require.NoError(t, err)
	assert.Contains(t, fmt.Sprint(why.JSON200.Lines, why.JSON200.Reason), "3000 W")
	_, err = r.Owner.Groups().Add(t.Context(), site.Group{ID: "alone", Name: "Alone",
		Members: []site.GroupMember{{Control: "kiln.heater"}}})
	assert.ErrorContains(t, err, "2 to 50 controls")
}

// A blind with two outputs: from end to end, confirmed by its contact; unconfirmed, stopped and told where none comes.
func TestMoverWithTwoOutputs(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	b := fans(r, "up", "down")
	b.read("top", "off")
	b.read("bottom", "on")
	r.AddControl("kiln", "blind", client.Source{}, client.Target{})
	mover, safe := "mover", client.Value("stop")
	b.change("kiln.blind", rig.Fields{"kind": &mover, "safe": &safe})
	decide(r, "kiln.blind", site.Automation{Travel: &site.Travel{Opens: "kiln.up", Closes: "kiln.down", IsOpen: "kiln.top",
		IsClosed: "kiln.bottom", TravelMS: 2000}})
	move := func(to string) {
		_, err := r.Owner.SwitchControlWithResponse(t.Context(), "kiln.blind", nil,
			client.SwitchControlJSONRequestBody{To: to})
		require.NoError(t, err)
	}
	is := func() string { return fmt.Sprint(*r.Control("kiln.blind").State.Is) }
	move("open")
	r.Soon("it moves up", func() bool { return b.on("up") && !b.on("down") })
	b.read("bottom", "off")
	b.read("top", "on")
	r.Soon("it is open and stands", func() bool { return is() == "open" && !b.on("up") })
	move("closed")
	r.Soon("it moves down", func() bool { return b.on("down") && !b.on("up") })
	b.read("top", "off")
	r.Soon("no contact comes: it stops and says so", func() bool {
		return !b.on("down") && r.Control("kiln.blind").State.Phase == "unconfirmed"
	})
	r.Soon("people are told", func() bool {
		m, err := r.Owner.ListMessagesWithResponse(t.Context())
		require.NoError(t, err)
		return strings.Contains(fmt.Sprint(*m.JSON200), "blind did not get to close")
	})
	_, err := r.Owner.SwitchControlWithResponse(t.Context(), "kiln.up", nil, client.SwitchControlJSONRequestBody{To: true})
	assert.ErrorContains(t, err, "moved by blind; switch that")
}

// A fan must draw power, or it is told that it has no effect; a PI regulator turns another as far as it needs.
func TestProofAndRegulator(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	b := fans(r, "fan")
	b.read("power", "0")
	decide(r, "kiln.fan", site.Automation{Proof: &site.Proof{When: "kiln.power > 55", WithinMS: 1000, Retries: 1}})
	r.Switch("kiln.fan", true)
	r.Soon("no effect", func() bool {
		m, err := r.Owner.ListMessagesWithResponse(t.Context())
		return err == nil && strings.Contains(fmt.Sprint(*m.JSON200), "no effect")
	})
	b.read("power", "61")
	r.Soon("it came late", func() bool { return strings.Contains(b.reason("kiln.fan"), "its effect came late") })

	r.AddControl("kiln", "duct", client.Source{}, client.Target{})
	level := "level"
	b.change("kiln.duct", rig.Fields{"kind": &level})
	decide(r, "kiln.duct", site.Automation{Demands: []site.Demand{{Kind: engine.Regulate, Of: "kiln.chamber", Target: "30",
		Gain: 5, IntegralMS: 5000, Cools: true}}})
	want := func() float64 {
		if w := r.Control("kiln.duct").State.Want; w != nil {
			return w.Num
		}
		return -1
	}
	b.read("chamber", "34")
	r.Soon("at once what the difference is worth", func() bool { return want() >= 20 })
	r.Soon("and more while it lasts", func() bool { b.read("chamber", "34"); return want() > 25 })
	b.read("chamber", "20")
	r.Soon("nothing when it is cool", func() bool { return want() == 0 })
	assert.Contains(t, b.reason("kiln.duct"), "30")
}

// What automation relies on is told how often it must come; what nobody would miss is warned of.
func TestAutomationFixesIntervalsAndWarns(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	b := fans(r, "fan")
	for range 6 {
		b.read("chamber", "20")
	}
	interval := func() int64 { return r.Signal("kiln.chamber").State.IntervalMS }
	assert.Less(t, interval(), int64(5000), "learnt")
	decide(r, "kiln.fan", site.Automation{Demands: []site.Demand{whenever("kiln.chamber > 30")}})
	assert.Equal(t, (5 * time.Minute).Milliseconds(), interval(),
		"what automation relies on does not follow what was learnt in a moment")

	key := r.Linked("shed", client.Link{Kind: site.HTTP})
	push(r, "shed", "-u", "shed:"+key, "-H", "Content-Type: application/json", "-d", `{"float":true}`)
	a := site.Automation{Control: "kiln.fan", Interlocks: []site.Interlock{{Name: "dry",
		Condition: site.Condition{When: "not shed.float"}}}}
	saved, err := r.Owner.Automation("kiln.fan").Put(t.Context(), a, "")
	require.NoError(t, err)
	assert.Contains(t, strings.Join(saved.State.Remarks, "\n"),
		"the interlock dry relies on Float, which reports on change only")
	push(r, "shed", "-u", "shed:"+key, "-H", "Content-Type: application/json", "-d", `{"level":3.5}`)
	saved, err = r.Owner.Automation("kiln.fan").Put(t.Context(), a, "")
	require.NoError(t, err)
	assert.Empty(t, saved.State.Remarks)
}

// A preset with an end of its own: it is not applied without one, and all goes back by itself.
func TestHolidaysUntilADate(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	b := fans(r, "fan")
	setpoint(r, 20)
	decide(r, "kiln.fan", heating())
	_, err := r.Owner.Presets().Add(t.Context(), site.Preset{ID: "holidays", Name: "Holidays", Ends: true,
		Actions: []site.Action{{Kind: site.DoSetting, ID: "kiln.setpoint", To: 8}}})
	require.NoError(t, err)
	b.read("chamber", "15")
	r.Soon("warm", func() bool { return b.on("fan") })
	_, err = r.Owner.ApplyPresetWithResponse(t.Context(), "holidays", client.ApplyPresetJSONRequestBody{})
	assert.ErrorContains(t, err, "Holidays needs an end")
	until := time.Now().Add(2 * time.Second)
	_, err = r.Owner.ApplyPresetWithResponse(t.Context(), "holidays", client.ApplyPresetJSONRequestBody{Until: &until})
	require.NoError(t, err)
	r.Soon("the holidays' setpoint", func() bool { return !b.on("fan") && valueOf(r, "kiln.setpoint") == "8 Cel" })
	r.Soon("and home again", func() bool { return b.on("fan") && valueOf(r, "kiln.setpoint") == "20 Cel" })
}
