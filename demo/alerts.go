package demo

import (
	"context"
	"fmt"

	"idleember/core/access"
	"idleember/core/site"
	"idleember/hub"
)

// addAlerts makes what the studio's people want to be told of.
func addAlerts(ctx context.Context, h *hub.Hub, a access.Actor) error {
	for _, x := range []site.Alert{
		{ID: "gas", Name: "Carbon monoxide in the kiln shed", Kind: site.AlertAbove, Of: "kiln_shed.carbon_monoxide",
			Limit: 30, Band: 5, Severity: site.Critical, Text: "Open the gate, leave the shed, look at the extractor."},
		{ID: "kiln_open", Name: "The kiln may be opened", Kind: site.AlertFormula,
			When: `kiln.chamber < 80 and highest(kiln.chamber, "12h") > 200`, Severity: site.Info, Text: "It is cool enough."},
		{ID: "too_cold", Name: "The drying room is cold", Kind: site.AlertBelow, Of: "drying_room.temperature", Limit: 17,
			Band: 1, Severity: site.Warning, Text: "Look whether the heater is on, and whether the door is shut."},
		{ID: "tank_empty", Name: "The slip tank runs empty", Kind: site.AlertTrend, Of: "slip_tank.level", Limit: 10, Band: 2,
			Falls: true, SpanMS: 2 * 3600_000, AfterMS: 60_000, Severity: site.Warning, Text: "Fill the reclaim tub."},
		{ID: "kiln_door", Name: "Somebody opened the kiln", Kind: site.AlertEvent, Of: "kiln.door", Latch: true,
			Severity: site.Warning},
		{ID: "fan_service", Name: "The shelf fan is due for service", Kind: site.AlertService, Of: "shelf_fan.fan",
			Limit: 500, Severity: site.Info, Text: "Clean the blades, then: idleember serviced shelf_fan.fan"},
	} {
		if _, err := h.Keep(ctx, a, &x); err != nil {
			return fmt.Errorf("the alert %s: %w", x.ID, err)
		}
	}
	return nil
}
