package tests

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	paho "github.com/eclipse/paho.mqtt.golang"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/client"
	"idleember/contract/shown"
	"idleember/core/engine"
	"idleember/core/site"
	"idleember/tests/rig"
)

// obedient is a board that does what the hub wants and says so.
func obedient(r *rig.Rig, id, key string) {
	board := r.Paho(id, key, id)
	answer := func(topic, word string) {
		_, control, _ := strings.Cut(topic, "/want/")
		board.Publish("ember/"+id+"/is/"+control, 1, false, word)
	}
	tok := board.Subscribe("ember/"+id+"/want/+", 1, messageTo(answer))
	require.True(r.T, tok.WaitTimeout(20*time.Second))
}

func TestTakingAwayBeginsWithTheSafeValue(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Device("kiln")
	require.Empty(t, r.Pub("kiln", key, "ember/kiln/is/fan", "off"))
	require.Empty(t, r.Pub("kiln", key, "ember/kiln/r/chamber", "500"))
	obedient(r, "kiln", key)
	on := func() {
		r.Switch("kiln.fan", true)
		r.Soon("on", func() bool { c := r.Control("kiln.fan"); return rig.On(c.State.Is) })
	}
	on()
	d, err := r.Owner.SetDeviceStateWithResponse(t.Context(), "kiln", nil, client.SetDeviceStateJSONRequestBody{})
	require.NoError(t, err)
	assert.Empty(t, d.JSON200.Remarks, "the board confirmed")
	assert.False(t, rig.On(r.Control("kiln.fan").State.Is), "off before it was disabled")
	assert.Nil(t, r.Control("kiln.fan").State.Want, "nothing is wanted of it any more")
	r.Soon("out", func() bool { return !r.Online("kiln") })
	out := r.Pub("kiln", key, "ember/kiln/r/chamber", "600")
	assert.Contains(t, strings.ToLower(out), "not authori")
	assert.Equal(t, 500.0, r.Value("kiln.chamber"))
	_, err = r.Owner.SetDeviceStateWithResponse(t.Context(), "kiln", nil,
		client.SetDeviceStateJSONRequestBody{Enabled: true})
	require.NoError(t, err)
	require.Empty(t, r.Pub("kiln", key, "ember/kiln/r/chamber", "600"))

	obedient(r, "kiln", key)
	on()
	fresh, err := r.Owner.ReplaceKeyWithResponse(t.Context(), "kiln")
	require.NoError(t, err)
	assert.Empty(t, fresh.JSON201.Remarks)
	assert.False(t, rig.On(r.Control("kiln.fan").State.Is))
	key = fresh.JSON201.Key
	assert.Equal(t, 600.0, r.Value("kiln.chamber"), "ids and history stay")
	require.Empty(t, r.Pub("kiln", key, "ember/kiln/r/chamber", "700"))
	assert.Len(t, r.History("kiln.chamber"), 3)

	obedient(r, "kiln", key)
	on()
	gone, err := r.Owner.RemoveDeviceWithResponse(t.Context(), "kiln",
		&client.RemoveDeviceParams{History: client.RemoveDeviceParamsHistoryKeep})
	require.NoError(t, err)
	assert.Empty(t, gone.JSON200.Remarks)
	assert.Equal(t, site.State("removed"), r.Get("kiln").Config.State)
	assert.Len(t, r.History("kiln.chamber"), 3, "its history is kept")
	id := "kiln"
	_, err = r.Owner.AddDevice(t.Context(), rig.Fields{"id": &id, "name": "New kiln", "place": "Shed"})
	assert.ErrorContains(t, err, "its history is kept")
	back, err := r.Owner.ReplaceKeyWithResponse(t.Context(), "kiln")
	require.NoError(t, err)
	require.Empty(t, r.Pub("kiln", back.JSON201.Key, "ember/kiln/r/chamber", "800"), "a new key brings it back")

	r.Switch("kiln.fan", true) // nobody answers now
	gone, err = r.Owner.RemoveDeviceWithResponse(t.Context(), "kiln",
		&client.RemoveDeviceParams{History: client.RemoveDeviceParamsHistoryDelete})
	require.NoError(t, err)
	require.Len(t, gone.JSON200.Remarks, 1, "what was not confirmed is told")
	assert.Contains(t, gone.JSON200.Remarks[0], "look at it")
	_, err = r.Owner.Devices().Get(t.Context(), "kiln")
	assert.Error(t, err)
	r.Device("kiln")
	require.Nil(t, r.Signal("kiln.chamber"))
	j := strings.Join(r.Journal("kiln"), "\n")
	for _, action := range []string{"disable", "enable", "replace key", "remove", "delete"} {
		assert.Contains(t, j, " "+action+" ")
	}
	r.Restart()
	assert.Nil(t, r.Signal("kiln.chamber"), "and it stays so")
}

func TestRemovingSignalsAndControls(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Device("kiln")
	require.Empty(t, r.Pub("kiln", key, "ember/kiln/r", `{"a":1,"is":{"fan":"off"}}`))
	err := r.Owner.Signals().Remove(t.Context(), "kiln.a")
	require.NoError(t, err)
	assert.Nil(t, r.Signal("kiln.a"))
	require.Empty(t, r.Pub("kiln", key, "ember/kiln/r/a", "2"))
	assert.Len(t, r.History("kiln.a"), 1, "it begins anew")
	_, err = r.Owner.RemoveControlWithResponse(t.Context(), "kiln.fan", nil)
	require.NoError(t, err)
	_, err = r.Owner.Controls().Get(t.Context(), "kiln.fan")
	assert.Error(t, err)
	err = r.Owner.Signals().Remove(t.Context(), "kiln.b")
	assert.ErrorContains(t, err, "there is no signal")
}

func TestCalibrationOfHistory(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Linked("shed", client.Link{Kind: site.UDP}) // its key works over MQTT as well
	now := time.Now().Truncate(time.Second)
	csv := "t,adc\n"
	for i := range 50 {
		csv += fmt.Sprintf("%d,%d\n", now.Add(time.Duration(i-50)*time.Minute).Unix(), 600+i)
	}
	push(r, "shed", "-u", "shed:"+key, "-H", "Content-Type: text/csv", "--data-binary", csv)
	require.Len(t, r.History("shed.adc"), 50)
	cal := client.Calibration{Method: "divider", Divider: &client.Divider{R1: 100_000, R2: 22_000, Reference: 3.3,
		Counts: 1023, Highest: 15, Limit: 3.3}}
	tried, err := r.Owner.TryCalibrationWithResponse(t.Context(), client.TryCalibrationJSONRequestBody{Calibration: cal,
		Raw: []float64{0, 1023}})
	require.NoError(t, err)
	assert.InDelta(t, 18.3, tried.JSON200.Values[1], 1e-9)
	assert.InDelta(t, 0.017888, tried.JSON200.Factor, 1e-6)
	assert.Empty(t, tried.JSON200.Warning)
	risky := *cal.Divider
	risky.R1 = 47_000
	tried, err = r.Owner.TryCalibrationWithResponse(t.Context(),
		client.TryCalibrationJSONRequestBody{Calibration: client.Calibration{Method: "divider", Divider: &risky},
			Raw: []float64{1}})
	require.NoError(t, err)
	assert.Contains(t, tried.JSON200.Warning,
		"the pin would see 4.78 V, more than the 3.3 V that it stands: make R1 larger than 78 kΩ")

	_, err = r.Owner.Signals().Patch(t.Context(), "shed.adc", rig.Fields{"calibration": &cal}, "")
	require.NoError(t, err)
	push(r, "shed", "-u", "shed:"+key, "-H", "Content-Type: text/csv", "--data-binary",
		fmt.Sprintf("t,adc\n%d,700\n%d,710\n", now.Add(-2*time.Hour).Unix(), now.Unix()))
	s := r.Signal("shed.adc")
	assert.InDelta(t, 710*0.0178885, s.State.Value.Num, 0.01)
	assert.Equal(t, 710.0, *s.State.RawValue, "raw → value")
	assert.InDelta(t, 700*0.0178885, r.History("shed.adc")[now.Add(-2*time.Hour).UnixMilli()], 0.01,
		"readings of the past are calibrated as well")
	assert.Equal(t, 610.0, r.History("shed.adc")[now.Add(-40*time.Minute).UnixMilli()], "what was stored before stays")
	n, err := r.Owner.RecalibrateWithResponse(t.Context(), "shed.adc",
		client.RecalibrateJSONRequestBody{From: now.Add(-30*time.Minute - time.Second), To: now})
	require.NoError(t, err)
	assert.Equal(t, 30, n.JSON200.Changed)
	assert.Equal(t, 610.0, r.History("shed.adc")[now.Add(-40*time.Minute).UnixMilli()],
		"outside the stretch nothing changes")
	assert.InDelta(t, 630*0.0178885, r.History("shed.adc")[now.Add(-20*time.Minute).UnixMilli()], 0.01)
	_, err = r.Owner.Signals().Patch(t.Context(), "shed.adc", rig.Fields{"calibration": nil}, "")
	require.NoError(t, err)
	_, err = r.Owner.RecalibrateWithResponse(t.Context(), "shed.adc",
		client.RecalibrateJSONRequestBody{From: now.Add(-3 * time.Hour), To: now.Add(time.Hour)})
	require.NoError(t, err)
	assert.Equal(t, 630.0, r.History("shed.adc")[now.Add(-20*time.Minute).UnixMilli()],
		"from raw it can be done again, or undone")
	assert.Contains(t, strings.Join(r.Journal("shed.adc"), "\n"), "recalibrate >30 readings")
	for _, bad := range []client.Calibration{{Method: "two_point", Points: [][2]float64{{1, 1}}}, {Method: "divider"},
		{Method: "table", Points: [][2]float64{{2, 1}, {1, 2}}}, {Invert: true}} {
		_, err := r.Owner.Signals().Patch(t.Context(), "shed.adc", rig.Fields{"calibration": &bad}, "")
		assert.Error(t, err)
	}
}

func TestModels(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	list, err := r.Owner.Models().List(t.Context())
	require.NoError(t, err)
	assert.GreaterOrEqual(t, len(list), 5)
	var ten []any
	for i := range 10 {
		ten = append(ten, rig.Fields{"name": fmt.Sprintf("Shelf %d", i+1), "place": "Shelves"})
	}
	made, err := r.Owner.AddFromModel(t.Context(), "climate_board", ten)
	require.NoError(t, err)
	require.Len(t, made, 10)
	require.Empty(t, r.Pub("shelf_7", made[6].Key, "ember/shelf_7/r", `{"temperature":19.5,"humidity":140}`))
	assert.Equal(t, 19.5, r.Value("shelf_7.temperature"))
	assert.Equal(t, "bad", r.Signal("shelf_7.humidity").State.Quality, "the model says what can be true")
	ten[0] = rig.Fields{"name": "Shelf 11", "place": "Shelves"}
	_, err = r.Owner.AddFromModel(t.Context(), "climate_board", ten)
	assert.ErrorContains(t, err, "the device shelf_2 (Shelf 2) is there already")
	_, err = r.Owner.Devices().Get(t.Context(), "shelf_11")
	assert.Error(t, err, "all or none")

	_, err = r.Owner.Signals().Patch(t.Context(), "shelf_7.humidity", rig.Fields{"name": ptr("Moist air")}, "")
	require.NoError(t, err)
	saved, err := r.Owner.SaveAsModelWithResponse(t.Context(), "shelf_7",
		client.SaveAsModelJSONRequestBody{Name: "My shelf", About: ptr("two sensors")})
	require.NoError(t, err)
	assert.Equal(t, "my_shelf", saved.JSON201.Config.ID)
	other := rig.New(t)
	file, err := r.Owner.Models().Get(t.Context(), "my_shelf")
	require.NoError(t, err)
	assert.Equal(t, "Moist air", file.Config.Signals[0].Name)
	_, err = other.Owner.TryModelWithResponse(t.Context(), file.Config)
	require.NoError(t, err)
	_, err = other.Owner.Models().Get(t.Context(), "my_shelf")
	assert.Error(t, err, "a preview keeps nothing")
	_, err = other.Owner.Models().Add(t.Context(), file.Config)
	require.NoError(t, err)
	_, err = other.Owner.Models().Add(t.Context(), file.Config)
	assert.ErrorContains(t, err, "is there already")
	other.Restart()
	back, err := other.Owner.Models().Get(t.Context(), "my_shelf")
	require.NoError(t, err)
	assert.Equal(t, file.Config, back.Config, "a model survives sharing and restart unchanged")
	text, err := json.Marshal(file.Config)
	require.NoError(t, err)
	for body, why := range map[string]string{
		`{"format":"other/1","id":"x","name":"X","link":{"kind":"mqtt"},"signals":[],"controls":[]}`: "format",
		strings.Replace(string(text), `"my_shelf"`, `"climate_board"`,
			1): "is there already",
		strings.Replace(string(text), `"kind":"number"`, `"kind":"colour"`,
			1): "kind",
		`{"format":"idleember-device-model/1","id":"x","name":"X","link":{"kind":"mqtt"},"signals":[{"id":"a","name":"A","kind":"text","unit":1}],"controls":[]}`: "unit",
	} {
		_, err := other.Owner.Models().Make(t.Context(), json.RawMessage(body))
		assert.ErrorContains(t, err, why)
	}
	err = other.Owner.Models().Remove(t.Context(), "climate_board")
	assert.ErrorContains(t, err, "stays")
	err = other.Owner.Models().Remove(t.Context(), "my_shelf")
	require.NoError(t, err)
}

// A model carries what the hub decides of its device, with its settings; what names anything else is left out, and that
// is said.
func TestAModelDecides(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	ctx := t.Context()
	made, err := r.Owner.AddFromModel(ctx, "climate_board", []any{rig.Fields{"name": "Kiln", "place": "Shed"},
		rig.Fields{"name": "Rack", "place": "Shed"}})
	require.NoError(t, err)
	require.Len(t, made, 2)
	_, err = r.Owner.Settings().Add(ctx, site.Setting{ID: "kiln.setpoint", Name: "Setpoint", Kind: site.SetNumber, Max: 40,
		Default: 21})
	require.NoError(t, err)
	auto := site.Automation{Control: "kiln.heater",
		Demands: []site.Demand{{Kind: engine.HoldAbove, Of: "kiln.temperature", Target: "kiln.setpoint", Band: 1}},
		Interlocks: []site.Interlock{{Name: "damp",
			Condition: site.Condition{When: "kiln.humidity > 90 or kiln.humidity.state == \"kiln.x\""}}},
		Proof: &site.Proof{When: "kiln.temperature > kiln.setpoint - 5", WithinMS: 600_000}}
	_, err = r.Owner.Automation("kiln.heater").Put(ctx, auto, "")
	require.NoError(t, err)
	saved, err := r.Owner.SaveAsModelWithResponse(ctx, "kiln", client.SaveAsModelJSONRequestBody{Name: "Kiln board"})
	require.NoError(t, err)
	assert.Nil(t, saved.JSON201.State.LeftOut)
	require.Len(t, saved.JSON201.Config.Automations, 1)
	assert.Equal(t, "this.temperature", saved.JSON201.Config.Automations[0].Demands[0].Of)

	_, err = r.Owner.AddFromModel(ctx, "kiln_board", []any{rig.Fields{"name": "Second", "place": "Shed"}})
	require.NoError(t, err)
	got, err := r.Owner.Automation("second.heater").Get(ctx)
	require.NoError(t, err)
	is := got.Config
	assert.Equal(t, "second.temperature", is.Demands[0].Of)
	assert.Equal(t, "second.setpoint", is.Demands[0].Target)
	assert.Equal(t, "second.humidity > 90 or second.humidity.state == \"kiln.x\"", is.Interlocks[0].When,
		"a text stays what it is")
	assert.Equal(t, "second.temperature > second.setpoint - 5", is.Proof.When)
	settings, err := r.Owner.Settings().List(ctx)
	require.NoError(t, err)
	i := slices.IndexFunc(settings, func(s shown.Setting) bool { return s.Config.ID == "second.setpoint" })
	require.GreaterOrEqual(t, i, 0)
	assert.EqualValues(t, 21, settings[i].State.Value)
	r.Restart()
	_, err = r.Owner.Automation("second.heater").Get(ctx)
	require.NoError(t, err)

	auto.Permits = []site.Permit{{Condition: site.Condition{When: "rack.temperature < 30"}}}
	_, err = r.Owner.Automation("kiln.heater").Put(ctx, auto, "")
	require.NoError(t, err)
	saved, err = r.Owner.SaveAsModelWithResponse(ctx, "kiln", client.SaveAsModelJSONRequestBody{Name: "Kiln board",
		Replace: ptr(true)})
	require.NoError(t, err)
	require.NotNil(t, saved.JSON201.State.LeftOut)
	assert.Contains(t, saved.JSON201.State.LeftOut[0], "Heater is not part of the model")
	assert.Empty(t, saved.JSON201.Config.Automations)

	for automations, why := range map[string]string{
		`[{"control":"heater","demands":[{"kind":"formula","when":"kiln.temperature > 3"}]}]`: "does not begin with",
		`[{"control":"heater","idle":1},{"control":"heater","idle":0}]`:                       "another one of its control",
		`[{"control":"fan","demands":[]}]`:                                                    "no control of the model",
		`[{"control":"heater","demands":[{"kind":"formula","when":"this.nothing > 3"}]}]`:     "try.nothing",
		`[{"control":"heater","demands":[{"kind":"formula","when":"not this.heater.want"}]}]`: "comes back to itself",
	} {
		body := `{"format":"idleember-device-model/1","id":"x","name":"X","link":{"kind":"mqtt"},"signals":[],"controls":[{"id":"heater","name":"H"}],"automations":` + automations + `}`
		_, err := r.Owner.Models().Make(ctx, json.RawMessage(body))
		assert.ErrorContains(t, err, why)
	}
}

func TestTrafficTellsWhatBecameOfIt(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Device("kiln")
	waiting := make(chan string, 1)
	go func() {
		wait := true
		x, err := r.Owner.ListTrafficWithResponse(t.Context(), "kiln", &client.ListTrafficParams{Wait: &wait})
		if err == nil && len(*x.JSON200) > 0 {
			waiting <- (*x.JSON200)[0].Result
		}
	}()
	time.Sleep(200 * time.Millisecond)
	require.Empty(t, r.Pub("kiln", key, "ember/kiln/r", `{"chamber":500,"door":"NaN here","x#":1}`))
	select {
	case got := <-waiting:
		assert.Contains(t, got, "stored chamber 500, door NaN here; refused: ")
	case <-time.After(10 * time.Second):
		t.Error("nobody who waits was told")
	}
	require.Empty(t, r.Pub("kiln", key, "ember/kiln/is/fan", "off"))
	r.Switch("kiln.fan", true)
	sub := r.Sub("kiln", key, "ember/kiln/want/#")
	r.Soon("delivered", func() bool { return strings.Contains(sub.String(), "on") })
	r.Switch("kiln.fan", false)
	r.Soon("both ways", func() bool {
		s := strings.Join(r.Traffic("kiln"), "\n")
		return strings.Contains(s, "in ember/kiln/is/fan off: stored fan is off") && strings.Contains(s,
			"out ember/kiln/want/fan off: sent")
	})
	for i := range 320 {
		push(r, "kiln", "-u", "kiln:"+key, "-d", fmt.Sprintf("n=%d", i))
		if i == 3 {
			break // curl is slow; the rest is sent by one connection
		}
	}
	c := &http.Client{}
	for i := range 330 {
		req, err := http.NewRequest("POST", r.URL()+"/push/kiln", strings.NewReader(fmt.Sprintf(`{"n":%d}`, i)))
		require.NoError(t, err)
		req.SetBasicAuth("kiln", key)
		resp, err := c.Do(req)
		require.NoError(t, err)
		_ = resp.Body.Close()
	}
	assert.Len(t, r.Traffic("kiln"), 300, "the last few hundred are kept")
	assert.Greater(t, r.Get("kiln").State.Messages, int64(330))
	assert.Greater(t, r.Get("kiln").State.PerMinute, 100.0)
}

// Starter code works when pasted: the shell script reports, obeys wants and the lease, and keeps its wants.
func TestStarterCodeForTheShell(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	id, lease := "kiln", int64(3000)
	d, err := r.Owner.AddDevice(t.Context(), rig.Fields{"id": &id, "name": "Kiln", "place": "Shed", "lease_ms": &lease})
	require.NoError(t, err)
	r.AddControl("kiln", "fan", client.Source{}, client.Target{})
	dir := t.TempDir()
	script := starter(r, "kiln", "shell", d.Key, dir)
	out := r.Start("env", "EMBER_MEMORY="+filepath.Join(dir, "wants"), "bash", script)
	r.Soon("its first reading", func() bool { return r.Value("kiln.temperature") == 21.4 })
	r.Switch("kiln.fan", true)
	r.Soon("it obeys and says so", func() bool {
		return r.Control("kiln.fan").State.Phase == "confirmed" && strings.Contains(out.String(), "output fan is on")
	})
	require.NoError(t, r.Service.Close())
	r.Soon("without the hub's beat it falls to the safe value", func() bool {
		_, after, _ := strings.Cut(out.String(), "output fan is on")
		return strings.Contains(after, "output fan is off")
	})
	kept, err := os.ReadFile(filepath.Join(dir, "wants"))
	require.NoError(t, err)
	assert.Contains(t, string(kept), "on", "and remembers what was wanted")
	out.Stop()
}

func TestStarterCodeWithCurl(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Linked("shed", client.Link{Kind: site.HTTP})
	r.AddControl("shed", "fan", client.Source{}, client.Target{})
	script := starter(r, "shed", "curl", key, t.TempDir())
	text, err := os.ReadFile(script)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(script, []byte(strings.Replace(string(text), "every=10", "every=1", 1)), 0o600))
	out := r.Start("bash", script)
	r.Soon("its first reading", func() bool { return r.Value("shed.temperature") == 21.4 })
	r.Switch("shed.fan", true)
	r.Soon("it obeys and says so", func() bool { return r.Control("shed.fan").State.Phase == "confirmed" })
	assert.Contains(t, out.String(), "output fan is on")
}

// starter writes a device's starter code, with its key, to a file.
func starter(r *rig.Rig, device, kind, key, dir string) string {
	list, err := r.Owner.ListStartersWithResponse(r.T.Context(), device)
	require.NoError(r.T, err)
	for _, s := range *list.JSON200 {
		if s.Id == kind {
			file := filepath.Join(dir, s.File)
			require.NoError(r.T, os.WriteFile(file, []byte(strings.ReplaceAll(s.Code, "DEVICE-KEY", key)), 0o600))
			return file
		}
	}
	r.T.Fatal("no starter code called " + kind)
	return ""
}

// The C++ is compiled against stand-ins of the board's headers, the MicroPython run with stand-ins of its modules.
func TestStarterCodeForBoards(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Device("kiln")
	r.AddSignal("kiln", "chamber", "number", client.Source{})
	r.AddControl("kiln", "fan", client.Source{}, client.Target{})
	bare := r.Device("bare")
	for device, key := range map[string]string{"kiln": key, "bare": bare} {
		dir := t.TempDir()
		ino := starter(r, device, "wifi", key, dir)
		out, err := exec.Command("g++", "-std=c++17", "-Wall", "-Wextra", "-Werror", "-fsyntax-only", "-I", "peers/board",
			"-include", "Arduino.h", "-x", "c++", ino).CombinedOutput()
		assert.NoError(t, err, string(out))
		py := starter(r, device, "micropython", key, dir)
		out, err = exec.Command("/usr/bin/python3", "peers/board/run.py", py).CombinedOutput()
		require.NoError(t, err, string(out))
		assert.Contains(t, string(out), "published ember/"+device+"/r")
		if device == "kiln" {
			assert.Contains(t, string(out), `kept`)
			assert.Contains(t, string(out), "published ember/kiln/is/fan on")
			assert.Contains(t, string(out), `published ember/kiln/is/fan {"v": "off", "by": "lease"}`)
		}
	}
}

// Publishing to a hub that hangs does not keep the shell starter from letting go.
func TestAShellBoardLetsGoWhileTheHubHangs(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Device("kiln")
	r.AddControl("kiln", "fan", client.Source{}, client.Target{})
	dir := t.TempDir()
	hangs := filepath.Join(dir, "hangs")
	for name, does := range map[string]string{"mosquitto_pub": "[ ! -e " + hangs + " ] || exec sleep 60",
		"mosquitto_sub": "echo ember/kiln/lease 3; sleep 1; touch " + hangs +
			"; echo ember/kiln/want/fan on; exec sleep 60"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte("#!/bin/sh\n"+does+"\n"), 0o700))
	}
	run := r.Start("env", "PATH="+dir+":"+os.Getenv("PATH"), "EMBER_MEMORY="+filepath.Join(dir, "memory"), "bash",
		starter(r, "kiln", "shell", key, dir))
	r.Soon("on", func() bool { return strings.Contains(run.String(), "output fan is on") })
	r.Soon("let go", func() bool { return strings.HasSuffix(strings.TrimSpace(run.String()), "output fan is off") })
}

func TestSleepingBoard(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	id, wakes, none := "yard", int64(10_000), int64(0)
	d, err := r.Owner.AddDevice(t.Context(), rig.Fields{"id": &id, "name": "Yard", "place": "Yard", "wakes_ms": &wakes,
		"lease_ms": &none})
	require.NoError(t, err)
	key := d.Key
	require.Empty(t, r.Pub("yard", key, "ember/yard/is/lamp", "off"))
	require.Empty(t, r.Pub("yard", key, "ember/yard/r/daylight", "7"))
	time.Sleep(6 * time.Second) // another board would be offline by now
	dev := r.Get("yard")
	assert.True(t, dev.State.Online)
	assert.True(t, dev.State.Asleep)
	c := r.Switch("yard.lamp", true)
	assert.Contains(t, c.State.Reason.String(), "sleeps and wakes every 10 s")
	out, err := r.Mosquitto("mosquitto_sub", "yard", key, "-t", "ember/yard/want/#", "-q", "1", "-C", "1", "-W", "5", "-v")
	require.NoError(t, err)
	assert.Contains(t, out, "ember/yard/want/lamp on", "it fetches the want when it wakes")
	require.Empty(t, r.Pub("yard", key, "ember/yard/is/lamp", "on"))
	assert.Equal(t, "confirmed", r.Control("yard.lamp").State.Phase)
}

// Over MQTT a board that sends more than it may is read more slowly: nothing is lost, and both sides are told.
func TestTooManyMessagesAreTakenMoreSlowly(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Device("kiln")
	_, err := r.Owner.Devices().Patch(t.Context(), "kiln", rig.Fields{"limits": &client.Limits{PerSecond: 5}}, "")
	require.NoError(t, err)
	board := r.Paho("kiln", key, "kiln")
	told := make(chan string, 10)
	require.True(t, board.Subscribe("ember/kiln/problem", 0, messageTo(func(_, payload string) {
		told <- payload
	})).WaitTimeout(20*time.Second))
	var sent []paho.Token
	for i := range 60 {
		sent = append(sent, board.Publish(fmt.Sprintf("ember/kiln/r/n%d", i%3), 1, false, fmt.Sprint(i)))
	}
	for _, x := range sent {
		require.True(t, x.WaitTimeout(30*time.Second))
	}
	assert.Equal(t, 59.0, r.Value("kiln.n2"), "the last one was taken")
	select {
	case why := <-told:
		assert.Contains(t, why, "more than 5 messages a second came; they are taken more slowly")
	case <-time.After(5 * time.Second):
		t.Error("the board was not told")
	}
	assert.Contains(t, r.Refusals("kiln")[0].Reason, "raise the limit on the device's page")
}
