package site

import (
	"encoding/json"
	"fmt"
	"reflect"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Parts of any kind are put into a site, and taken out with what they own.
func ExampleSite_Remove() {
	s := (&Site{}).With(
		Put(Device{ID: "kiln", Name: "Kiln"}),
		Put(Signal{ID: "kiln.chamber", Device: "kiln", Name: "Chamber"}),
		Put(&Alert{ID: "hot", Name: "Too hot", Of: "kiln.chamber"}),
		Put(Preset{ID: "leave", Name: "Leave", Actions: []Action{{Kind: DoControl, ID: "kiln.fan"}, {Kind: DoControl,
			ID: "shed.lamp"}}}),
	)
	changes, err := s.Remove(func(string) []string { return nil }, Key{"device", "kiln"})
	for _, c := range changes {
		fmt.Println(c.Key(), c.Put != nil)
	}
	fmt.Println(err)
	// Output:
	// {device kiln} false
	// {signal kiln.chamber} false
	// {alert hot} false
	// {preset leave} true
	// <nil>
}

// house has a part of every kind; all of them but those of the shed hang on the kiln in one way or another.
func house() *Site {
	return (&Site{}).With(
		Put(Hub{Name: "Studio", Zone: "UTC"}), Put(Place{ID: "attic", Name: "Attic"}),
		Put(Device{ID: "kiln", Name: "Kiln", Place: "attic"}), Put(Device{ID: "shed", Name: "Shed", Place: "attic",
			Link: Link{Kind: Outside, Broker: "yard"}}),
		Put(Broker{ID: "yard", Name: "Yard"}), Put(Signal{ID: "kiln.chamber", Device: "kiln"}),
		Put(Control{ID: "kiln.fan", Device: "kiln", Kind: Switch}),
		Put(Control{ID: "shed.lamp", Device: "shed", Kind: Switch, Name: "Lamp"}),
		Put(Control{ID: "shed.pump", Device: "shed", Kind: Switch}), Put(Setting{ID: "kiln.goal", Name: "Goal"}),
		Put(&Automation{Control: "kiln.fan", Demands: []Demand{{Kind: "formula", Condition: Condition{When: "kiln.goal"}}}}),
		Put(&Group{ID: "pair", Members: []GroupMember{{Control: "kiln.fan"}, {Control: "shed.lamp"}}}),
		Put(&Group{ID: "three", Members: []GroupMember{{Control: "kiln.fan"}, {Control: "shed.lamp"},
			{Control: "shed.pump"}}}),
		Put(Preset{ID: "night", Actions: []Action{{Kind: DoSetting, ID: "kiln.goal"}}}),
		Put(&Rule{ID: "wet", Stages: []Stage{{Actions: []Action{{Kind: DoPreset, ID: "night"}, {Kind: DoNote, ID: "kiln"}}},
			{Actions: []Action{{Kind: DoControl, ID: "kiln.fan"}}}}}),
		Put(&Alert{ID: "hot", Of: "kiln.chamber"}), Put(Route{ID: "mo", Person: "mo", Places: []string{"attic"}}),
		Put(Panel{Points: []Point{{ID: "kiln.goal"}}}), Put(Messaging{Say: map[string]string{"kiln": "x", "page": "y",
			"own": "z"}}), Put(Backups{Every: "day"}),
		Put(Rights{Lines: []Right{{Who: "mo", Of: "kiln.fan"}, {Who: "kim", Of: "kiln pictures"}, {Who: "kim", Of: "shed"}}}),
		Put(Model{ID: "oven"}), Put(Dashboard{ID: "page", Shared: Household, By: "mo",
			Tiles: []Tile{{ID: "a", Of: []string{"kiln.chamber"}}, {ID: "b", Of: []string{"night"}}, {ID: "c"}}}),
		Put(Dashboard{ID: "own", By: "mo"}), Put(View{ID: "nights", Shared: true, By: "kim"}))
}

func reads(text string) []string { return []string{text} }

func TestEveryKindIsPutReadAndDropped(t *testing.T) {
	s := house()
	v := reflect.ValueOf(*s)
	for i := range v.NumField() {
		assert.False(t, v.Field(i).IsZero(), "no kind is kept in %s", v.Type().Field(i).Name)
	}
	for _, k := range Catalogue {
		require.NotEmpty(t, k.IDs(s), k.Name)
		for _, id := range k.IDs(s) {
			part := k.Get(s, id)
			require.Equal(t, Key{k.Name, id}, KeyOf(part))
			body, err := json.Marshal(part)
			require.NoError(t, err)
			read := (&Site{}).Clone()
			require.NoError(t, read.Load(k.Name, body))
			assert.Equal(t, part, k.Get(read, id), k.Name)
			next := s.With(Change{Drop: Key{k.Name, id}})
			if !k.Alone {
				assert.Nil(t, k.Get(next, id))
				assert.Equal(t, "other", KeyOf(k.WithID(k.Get(house(), id), "other")).ID)
			}
			assert.Equal(t, part, k.Get(s, id), "the site itself is as it was")
		}
		assert.Error(t, (&Site{}).Clone().Load(k.Name, []byte("{")), k.Name)
	}
	assert.NoError(t, s.Load("of a later version", []byte("[]")))
	assert.Nil(t, KindOf("nothing"))
}

func TestRemove(t *testing.T) {
	for _, c := range []struct {
		about, says string
		keys        []Key
		gone, left  []string // of the changes
	}{
		{about: "a device with all that is its own", keys: []Key{{"device", "kiln"}},
			gone: []string{"device kiln", "signal kiln.chamber", "control kiln.fan", "setting kiln.goal", "automation kiln.fan",
				"group pair", "preset night", "alert hot"},
			left: []string{"dashboard page", "group three", "messaging ", "panel ", "rights ", "rule wet"}},
		{about: "a setting that an automation names", keys: []Key{{"setting", "kiln.goal"}},
			says: "Goal is used by the automation of "},
		{about: "a preset that a rule applies", keys: []Key{{"preset", "night"}}, says: "night is used by the rule "},
		{about: "a broker that a device speaks over", keys: []Key{{"broker", "yard"}},
			says: "Yard is used by the device Shed"},
		{about: "a place in which something is", keys: []Key{{"place", "attic"}}, says: "Attic is used by the device Kiln"},
		{about: "all of a place", keys: []Key{{"place", "attic"}, {"device", "kiln"}, {"device", "shed"}},
			gone: []string{"place attic", "device kiln", "device shed", "signal kiln.chamber", "control kiln.fan",
				"control shed.lamp", "control shed.pump", "setting kiln.goal", "automation kiln.fan", "group pair", "group three",
				"preset night", "alert hot", "route mo"},
			left: []string{"dashboard page", "messaging ", "panel ", "rights ", "rule wet"}},
		{about: "somebody of the household", keys: []Key{{Member, "mo"}}, gone: []string{"route mo", "dashboard own"},
			left: []string{"messaging ", "rights "}},
		{about: "what is not there", keys: []Key{{"rule", "none"}}, gone: []string{"rule none"}},
	} {
		s := house()
		changes, err := s.Remove(reads, c.keys...)
		if c.says != "" {
			assert.ErrorContains(t, err, c.says, c.about)
			continue
		}
		require.NoError(t, err, c.about)
		var gone, left []string
		for _, x := range changes {
			name := x.Key().Kind + " " + x.Key().ID
			if x.Put != nil {
				left = append(left, name)
			} else {
				gone = append(gone, name)
			}
		}
		assert.Equal(t, c.gone, gone, c.about)
		assert.Equal(t, c.left, left, c.about)
		assert.Equal(t, house(), s, "the site itself is as it was")
		next := s.With(changes...)
		for _, k := range c.keys {
			again, err := next.Remove(reads, k)
			require.NoError(t, err)
			assert.Len(t, again, map[bool]int{true: 0, false: 1}[k.Kind == Member], "nothing is left of it: %v", again)
		}
	}
	s := house()
	changes, err := s.Remove(reads, Key{"device", "kiln"})
	require.NoError(t, err)
	next := s.With(changes...)
	assert.Equal(t, []Right{{Who: "kim", Of: "shed"}}, next.Rights.Lines)
	assert.Equal(t, map[string]string{"page": "y", "own": "z"}, next.Messaging.Say)
	assert.Len(t, next.Dashboards["page"].Tiles, 1)
	assert.True(t, next.Rules["wet"].Off, "a stage has nothing to do any more")
	assert.Equal(t, []Action{{Kind: DoNote, ID: "kiln"}}, next.Rules["wet"].Stages[0].Actions)
}

func TestAnInterlockAndAMoverNeedWhatTheyRelyOn(t *testing.T) {
	s := house().With(Put(&Automation{Control: "shed.lamp", Interlocks: []Interlock{{Name: "smoke",
		Condition: Condition{When: "kiln.chamber"}}}}))
	_, err := s.Remove(reads, Key{"device", "kiln"})
	assert.ErrorContains(t, err, "is used by the interlock “smoke” of Lamp, which relies on it; change that first",
		"also where its device goes")
	s = house().With(Put(&Automation{Control: "kiln.fan", Travel: &Travel{Opens: "shed.lamp"}}))
	_, err = s.Remove(reads, Key{"control", "shed.lamp"})
	assert.ErrorContains(t, err, "which it moves")
	_, err = s.Remove(reads, Key{"control", "shed.lamp"}, Key{"device", "kiln"})
	assert.NoError(t, err, "what needs it goes as well")
	assert.True(t, strings.HasPrefix(s.Called(Key{Thing, "kiln.goal"}), "Goal"))
}

// The safe value of a control is written as what the control is told, and read in every form that was ever written.
func TestASafeValueIsWhatAControlIsTold(t *testing.T) {
	for text, want := range map[string]Amount{`{"safe":false}`: 0, `{"safe":1}`: 1, `{"kind":"level","safe":40}`: 40,
		`{"kind":"mover","safe":"stop"}`:                           Stop,
		`{"kind":"choice","options":["low","high"],"safe":"high"}`: 1,
		`{"kind":"choice","options":["low","high"],"safe":1}`:      1, `{}`: 0} {
		read, err := KindOf("control").Read([]byte(text))
		require.NoError(t, err, text)
		c := read.(Control)
		assert.Equal(t, want, c.Safe, text)
		again, err := json.Marshal(c)
		require.NoError(t, err)
		var back Control
		require.NoError(t, json.Unmarshal(again, &back))
		assert.Equal(t, c, back, "%s became %s", text, again)
	}
	for _, text := range []string{`{"safe":"half"}`, `{"safe":{}}`, `{"safe":0,"other":1}`} {
		_, err := KindOf("control").Read([]byte(text))
		assert.Error(t, err, text)
	}
}
