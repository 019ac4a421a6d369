package demo

import (
	"context"
	_ "embed" // for the drawing
	"time"

	"idleember/core/access"
	"idleember/core/site"
	"idleember/hub"
	"idleember/pages"
)

//go:embed drawings/slip_circuit.svg
var slipCircuit []byte

func number(v float64) *float64 { return &v }

// dashboards are what the owner arranged: a page for the workshop's tablet, the slip circuit as a drawing, and a page
// for the screen by the door.
func dashboards(picture string) []site.Dashboard {
	day := (24 * time.Hour).Milliseconds()
	return []site.Dashboard{
		{ID: "workshop", Name: "Workshop tablet", Shared: site.Household, Tiles: []site.Tile{
			{ID: "warmth", Kind: site.TileSpark, Of: []string{"drying_room.temperature"}, X: 0, Y: 0, W: 3, H: 2},
			{ID: "damp", Kind: site.TileGauge, Of: []string{"drying_room.humidity"}, X: 3, Y: 0, W: 3, H: 2, Low: number(20),
				High: number(100),
				Ranges: []site.Range{{From: 35, To: 60, Tone: "well"}, {From: 60, To: 75, Tone: "warn"}, {From: 75, To: 100,
					Tone: "critical"}}},
			{ID: "heater", Kind: site.TileControl, Of: []string{"drying_room.heater"}, X: 6, Y: 0, W: 6, H: 2},
			{ID: "kiln", Kind: site.TileValue, Of: []string{"kiln.chamber"}, Name: "Kiln", X: 0, Y: 2, W: 2, H: 1},
			{ID: "elements", Kind: site.TileTimer, Of: []string{"kiln.elements"}, Name: "Elements", X: 2, Y: 2, W: 4, H: 1},
			{ID: "attention", Kind: site.TileAlerts, X: 6, Y: 2, W: 6, H: 2},
			{ID: "cooling", Kind: site.TilePreset, Of: []string{"leave"}, X: 0, Y: 3, W: 2, H: 1},
			{ID: "monoxide", Kind: site.TileGauge, Of: []string{"kiln_shed.carbon_monoxide"}, X: 2, Y: 3, W: 4, H: 2,
				Low: number(0), High: number(60),
				Ranges: []site.Range{{From: 12, To: 25, Tone: "warn"}, {From: 25, To: 60, Tone: "critical"}}},
			{ID: "clock", Kind: site.TileClock, X: 0, Y: 4, W: 2, H: 1},
			{ID: "ran", Kind: site.TileStrip, Of: []string{"drying_room.heater", "shelf_fan.fan", "slip_tank.reclaim_pump",
				"damp_cupboard.mister"}, X: 6, Y: 4, W: 6, H: 2},
			{ID: "draught", Kind: site.TileSetpoint, Of: []string{"drying_room.setpoint"}, X: 0, Y: 5, W: 3, H: 1},
			{ID: "door", Kind: site.TileLamp, Of: []string{"kiln.door"}, Name: "Kiln door", X: 3, Y: 5, W: 3, H: 1},
			{ID: "day", Kind: site.TileChart, Of: []string{"drying_room.temperature", "drying_room.humidity",
				"drying_room.heater"}, Name: "Drying room", X: 0, Y: 6, W: 12, H: 6, SpanMS: day},
		}},
		{ID: "slip_circuit", Name: "Slip circuit", Shared: site.Household, Tiles: []site.Tile{
			{ID: "circuit", Kind: site.TilePicture, Picture: picture, X: 0, Y: 0, W: 8, H: 5,
				Pins: []site.Pin{{ID: "switch", Kind: site.TileControl, Of: "slip_tank.reclaim_pump", X: 47, Y: 50}},
				Parts: []site.Part{
					{Element: "pump", Does: "fill", Of: "slip_tank.reclaim_pump", Start: "sheet", End: "ember"},
					{Element: "rotor", Does: "turn", Of: "slip_tank.reclaim_pump", Start: "0", End: "60"},
					{Element: "flow", Does: "show", Of: "slip_tank.reclaim_pump"},
					{Element: "slip", Does: "level", Of: "slip_tank.level", Low: 0, High: 100},
					{Element: "reading", Does: "text", Of: "slip_tank.level"},
					{Element: "float", Does: "opacity", Of: "slip_tank.float", Start: "0.25", End: "1"},
					{Element: "empty", Does: "show", Formula: "not slip_tank.float"},
				}},
			{ID: "level", Kind: site.TileSpark, Of: []string{"slip_tank.level"}, X: 8, Y: 0, W: 4, H: 2},
			{ID: "fill", Kind: site.TileSetpoint, Of: []string{"slip_tank.fill"}, X: 8, Y: 2, W: 4, H: 1},
			{ID: "pumped", Kind: site.TileTimer, Of: []string{"slip_tank.reclaim_pump"}, Name: "Pump", X: 8, Y: 3, W: 4, H: 1},
			{ID: "notes", Kind: site.TileNotes, X: 8, Y: 4, W: 4, H: 1},
		}},
		{ID: "door", Name: "By the door", Shared: site.Household, Tiles: []site.Tile{
			{ID: "clock", Kind: site.TileClock, X: 0, Y: 0, W: 4, H: 2},
			{ID: "outdoors", Kind: site.TileSpark, Of: []string{"weather.outdoors"}, X: 4, Y: 0, W: 4, H: 2},
			{ID: "kiln", Kind: site.TileSpark, Of: []string{"kiln.chamber"}, Name: "Kiln", X: 8, Y: 0, W: 4, H: 2},
			{ID: "warmth", Kind: site.TileSpark, Of: []string{"drying_room.temperature"}, X: 0, Y: 2, W: 4, H: 2},
			{ID: "damp", Kind: site.TileSpark, Of: []string{"drying_room.humidity"}, X: 4, Y: 2, W: 4, H: 2},
			{ID: "lamp", Kind: site.TileControl, Of: []string{"yard.lamp"}, X: 8, Y: 2, W: 4, H: 2},
			{ID: "yard", Kind: site.TileStill, Of: []string{"kiln_shed"}, Name: "The yard", X: 0, Y: 4, W: 6, H: 4},
		}},
	}
}

// arrange makes the owner's dashboards.
func arrange(ctx context.Context, h *hub.Hub, drawings *pages.Pages, owner account) error {
	me := access.Actor{Kind: access.Person, ID: owner.Account, Name: owner.Name, Role: access.Owner, From: "the demo"}
	id, _, err := drawings.AddPicture(ctx, me, "slip_circuit.svg", slipCircuit)
	if err != nil {
		return err
	}
	for _, d := range dashboards(id) {
		if _, err := h.Keep(ctx, me, d); err != nil {
			return err
		}
	}
	return addAlerts(ctx, h, me)
}
