package demo

import (
	"context"

	"idleember/core/access"
	"idleember/core/calendar"
	"idleember/core/engine"
	"idleember/core/site"
	"idleember/hub"
)

const (
	second = int64(1000)
	minute = 60 * second
)

// settings are what the household adjusts.
var settings = []site.Setting{
	{ID: "drying_room.setpoint", Name: "Drying temperature", Kind: site.SetNumber, Unit: "Cel", Decimals: 1, Min: 5,
		Max: 35, Step: 0.5, Default: 23},
	{ID: "drying_room.humid", Name: "Highest humidity", Kind: site.SetNumber, Unit: "%", Min: 30, Max: 90, Step: 1,
		Default: 60},
	{ID: "slip_tank.fill", Name: "Slip level", Kind: site.SetNumber, Unit: "%", Min: 20, Max: 90, Step: 5, Default: 60},
	{ID: "damp_cupboard.keep", Name: "Damp cupboard", Kind: site.SetNumber, Unit: "%", Min: 60, Max: 95, Step: 1,
		Default: 85, Mirror: "keep"},
	{ID: "spray_booth.draught", Name: "Draught", Kind: site.SetNumber, Unit: "m/s", Decimals: 2, Min: 0.2, Max: 0.8,
		Step: 0.05, Default: 0.5},
	{ID: "glaze_store.warm", Name: "Store at least", Kind: site.SetNumber, Unit: "Cel", Decimals: 1, Min: 4, Max: 20,
		Step: 0.5, Default: 14},
	{ID: "glaze_store.cool", Name: "Store at most", Kind: site.SetNumber, Unit: "Cel", Decimals: 1, Min: 10, Max: 26,
		Step: 0.5, Default: 17},
	{ID: "yard.hours", Name: "Hours of light", Kind: site.SetNumber, Unit: "h", Min: 0, Max: 24, Step: 1, Default: 13},
}

// shape makes of some controls what they are: doors, a level, a momentary output.
func shape(c *site.Control) {
	switch c.ID {
	case "glaze_store.door", "yard.gate":
		c.Kind, c.Safe = site.Mover, site.Stop
	case "drying_room.boost":
		c.Momentary = &site.Pulse{ForMS: 2 * second, Times: 2, GapMS: 1500}
	case "spray_booth.fan":
		c.Kind, c.Lowest = site.Level, 15
	case "kiln_shed.duct":
		c.Kind, c.Lowest = site.Level, 20
	case "yard.gate_pulse":
		c.Momentary = &site.Pulse{ForMS: 600}
	}
}

func on() *site.Amount { a := site.Amount(1); return &a }

// exercised is the hour of the day in which the rinse valve is opened for a moment.
const exercised = 5

// automations are what the studio's hub decides by itself.
var automations = []site.Automation{
	{Control: "drying_room.heater",
		Demands: []site.Demand{{Kind: engine.HoldAbove, Of: "drying_room.temperature", Target: "drying_room.setpoint",
			Band: 0.5},
			{Kind: engine.HoldAbove, Of: "drying_room.temperature", Target: "4", Band: 1, Floor: true, Name: "frost"}},
		Limits: site.RunLimits{ShortestOnMS: 4 * minute}},
	{Control: "shelf_fan.fan",
		Demands: []site.Demand{{Kind: engine.HoldBelow, Of: "drying_room.humidity", Target: "drying_room.humid", Band: 2}},
		Limits:  site.RunLimits{ShortestOnMS: 2 * minute},
		Proof:   &site.Proof{When: "shelf_fan.power > 55", WithinMS: 30 * second, Retries: 1}},
	{Control: "kiln.vent",
		Demands: []site.Demand{{Kind: engine.Whenever, Name: "cooling",
			Condition: site.Condition{When: "kiln.chamber > 120 and kiln.power < 100",
				Until: "kiln.chamber < 80 or kiln.power > 200"}}},
		Permits: []site.Permit{{Name: "door shut", Condition: site.Condition{When: "not kiln.door"}}}},
	{Control: "kiln_shed.extractor",
		Interlocks: []site.Interlock{{Name: "carbon monoxide", To: on(),
			Condition: site.Condition{When: "kiln_shed.carbon_monoxide > 25", Until: "kiln_shed.carbon_monoxide < 12",
				SettleMS: 30 * second}}}},
	{Control: "slip_tank.reclaim_pump",
		Demands:    []site.Demand{{Kind: engine.HoldAbove, Of: "slip_tank.level", Target: "slip_tank.fill", Band: 4}},
		Interlocks: []site.Interlock{{Name: "tank empty", Condition: site.Condition{When: "not slip_tank.float"}}},
		Limits:     site.RunLimits{LongestOnMS: 2 * minute, RestMS: 6 * minute}},
	{Control: "slip_tank.rinse_valve",
		Demands: []site.Demand{{Kind: engine.Exercise, EveryMS: 7 * 24 * 60 * minute, ForMS: 20 * second,
			At: &calendar.Moment{Base: calendar.Clock, Minutes: exercised * 60}}}},
	{Control: "glaze_store.heater",
		Demands: []site.Demand{{Kind: engine.HoldAbove, Of: "glaze_store.temperature", Target: "glaze_store.warm",
			Band: 0.5}}},
	{Control: "glaze_store.cooler",
		Demands: []site.Demand{{Kind: engine.HoldBelow, Of: "glaze_store.temperature", Target: "glaze_store.cool",
			Band: 0.5}},
		Limits: site.RunLimits{ShortestOnMS: 2 * minute, ShortestOffMS: 3 * minute, RestartHurts: true}},
	{Control: "spray_booth.fan",
		Demands: []site.Demand{{Kind: engine.Regulate, Of: "spray_booth.air_speed", Target: "spray_booth.draught", Gain: 60,
			IntegralMS: 20 * second}}},
	{Control: "kiln_shed.duct",
		Demands: []site.Demand{{Kind: engine.Curve, Of: "kiln_shed.carbon_monoxide", Points: [][2]float64{{5, 0}, {15, 30},
			{40, 100}}}}},
	{Control: "damp_cupboard.mister",
		Demands: []site.Demand{{Kind: engine.HoldAbove, Of: "damp_cupboard.humidity", Target: "damp_cupboard.keep", Band: 3},
			{Kind: engine.Scheduled, Name: "mist", Schedule: &calendar.Schedule{Windows: []calendar.Window{
				{Start: calendar.Moment{Base: calendar.Clock, Minutes: 8 * 60}, ForMS: 4 * minute, EveryMS: 240 * minute,
					Times: 3}}}}},
		Limits: site.RunLimits{LongestOnMS: 5 * minute, RestMS: 3 * minute}},
	{Control: "glaze_store.door",
		Demands: []site.Demand{{Kind: engine.Whenever, Name: "day",
			Condition: site.Condition{When: `yard.daylight > 400 and now >= at("10:30")`, Until: "yard.daylight < 200"}}},
		Travel: &site.Travel{Opens: "glaze_store.door_up", Closes: "glaze_store.door_down", IsOpen: "glaze_store.door_open",
			IsClosed: "glaze_store.door_shut", TravelMS: 25_000}},
	{Control: "yard.gate",
		Travel: &site.Travel{Pulses: "yard.gate_pulse", IsOpen: "yard.gate_open", IsClosed: "yard.gate_shut",
			TravelMS: 25_000}},
	{Control: "yard.lamp",
		Demands: []site.Demand{{Kind: engine.DayLength, Daylight: "yard.daylight > 400", Hours: "yard.hours"},
			{Kind: engine.Scheduled, Name: "early firing", Schedule: &calendar.Schedule{Windows: []calendar.Window{
				{Days: []int{1, 3, 5}, Start: calendar.Moment{Base: calendar.Clock, Minutes: 6 * 60}, ForMS: 60 * minute}}}}}},
}

var presets = []site.Preset{
	{ID: "all_off", Name: "All off", Ask: true, Actions: []site.Action{{Kind: site.DoControl, ID: "drying_room.heater"},
		{Kind: site.DoControl, ID: "shelf_fan.fan"},
		{Kind: site.DoControl, ID: "kiln.elements"}, {Kind: site.DoControl, ID: "kiln.vent"}, {Kind: site.DoControl,
			ID: "slip_tank.reclaim_pump"}, {Kind: site.DoControl, ID: "yard.lamp"}}},
	{ID: "work", Name: "Back to work", Actions: []site.Action{{Kind: site.DoAuto, ID: "drying_room.heater"},
		{Kind: site.DoAuto, ID: "shelf_fan.fan"}, {Kind: site.DoAuto, ID: "kiln.vent"},
		{Kind: site.DoAuto, ID: "slip_tank.reclaim_pump"}, {Kind: site.DoAuto, ID: "yard.lamp"}, {Kind: site.DoSetting,
			ID: "drying_room.setpoint", To: 23}}},
	{ID: "holidays", Name: "Holidays", Ends: true, Actions: []site.Action{{Kind: site.DoSetting,
		ID: "drying_room.setpoint", To: 10}, {Kind: site.DoSetting, ID: "glaze_store.warm", To: 6},
		{Kind: site.DoSetting, ID: "yard.hours"}}},
	{ID: "leave", Name: "Leave", Actions: []site.Action{{Kind: site.DoSetting, ID: "drying_room.setpoint", To: 16},
		{Kind: site.DoSetting, ID: "yard.hours"}}},
}

var rules = []site.Rule{
	{ID: "damp_rush", Name: "Damp rush", RestMS: 20 * minute, Stages: []site.Stage{
		{When: `rise(drying_room.humidity, "10m") > 6`, If: "hour >= 6 and hour < 22", Actions: []site.Action{
			{Kind: site.DoPulse, ID: "drying_room.boost"}, {Kind: site.DoNote, ID: "drying_room",
				Text: "wet boards, {drying_room.humidity}"}}}}},
	{ID: "kiln_cools", Name: "Kiln cools", RestMS: 40 * minute, Stages: []site.Stage{
		{When: "kiln.chamber < 200 and kiln.power < 100", Actions: []site.Action{{Kind: site.DoMessage, ID: "kiln.chamber",
			Text: "The kiln is cooling: {kiln.chamber}."}, {Kind: site.DoNote, ID: "kiln.chamber", Text: "cooling begins"}}},
		{When: "kiln.chamber < 60", AfterMS: 5 * minute, Actions: []site.Action{{Kind: site.DoMessage, ID: "kiln.chamber",
			Text: "The kiln is safe to open: {kiln.chamber}."}}}}},
}

// groups are what hangs on one circuit of the kiln shed, and what must not run together.
var groups = []site.Group{
	{ID: "shed_circuit", Name: "Shed circuit", Limit: 3700, PauseMS: 5 * second, Members: []site.GroupMember{
		{Control: "kiln.elements", Watts: 3600}, {Control: "kiln_shed.extractor", Watts: 60}, {Control: "kiln.vent",
			Watts: 35}}},
	{ID: "store_climate", Name: "Store climate", PauseMS: 60 * second,
		Members: []site.GroupMember{{Control: "glaze_store.heater"}, {Control: "glaze_store.cooler"}}},
}

// automate tells a new studio's hub what it decides.
func automate(ctx context.Context, h *hub.Hub, me access.Actor) error {
	for _, g := range settings {
		if _, err := h.Keep(ctx, me, g); err != nil {
			return err
		}
	}
	for _, a := range automations {
		if _, err := h.Keep(ctx, me, &a); err != nil {
			return err
		}
	}
	for _, p := range presets {
		if _, err := h.Keep(ctx, me, p); err != nil {
			return err
		}
	}
	for _, r := range rules {
		if _, err := h.Keep(ctx, me, &r); err != nil {
			return err
		}
	}
	for _, g := range groups {
		if _, err := h.Keep(ctx, me, &g); err != nil {
			return err
		}
	}
	return nil
}
