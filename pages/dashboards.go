package pages

import (
	"context"

	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/core/fault"
	"idleember/core/site"
	"idleember/sight"
)

// ReadyDashboard arranges tiles for everything of a place or device, or for one signal, control, setting or preset.
func (p *Pages) ReadyDashboard(_ context.Context, a access.Actor, id string) (site.Dashboard, error) {
	if err := access.May(a, access.Audit, access.Anything); err != nil {
		return site.Dashboard{}, err
	}
	name, tiles := p.house.Site().Ready(id)
	if len(tiles) == 0 {
		return site.Dashboard{}, fault.NotFound("place, device, signal, control, setting or preset with something to show",
			id)
	}
	return site.Dashboard{Name: name, By: a.ID, Tiles: tiles}, nil
}

// FormulasNow returns what the formulas of a dashboard come to now. One that names what the actor may not see is
// unknown to them.
func (p *Pages) FormulasNow(ctx context.Context, a access.Actor, id string) ([]shown.FormulaNow, error) {
	d, ok := p.house.Site().Dashboards[id]
	if !ok || !sight.MayOpen(a, d) {
		return nil, fault.NotFound("dashboard", id)
	}
	out := []shown.FormulaNow{}
	for _, text := range d.Formulas() {
		got, err := p.house.Evaluate(ctx, text)
		if err != nil {
			return nil, err
		}
		switch {
		case !got.OK:
			got.Value = "unknown"
		case !p.house.Sight(a).Formulas(text):
			got.Value, got.Reason = "unknown", "it names what you may not see"
		}
		out = append(out, shown.FormulaNow{Formula: text, Value: got.Value, Reason: got.Reason})
	}
	return out, nil
}
