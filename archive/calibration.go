package archive

import (
	"context"
	"fmt"
	"time"

	"idleember/core/access"
	"idleember/core/fault"
	"idleember/core/reading"
	"idleember/core/site"
	"idleember/hub"
	"idleember/sight"
	"idleember/store"
)

// Calibrated is what a calibration makes of raw numbers.
type Calibrated struct {
	Values  []float64
	Factor  float64 // value for one count, of a divider or gain; else 0
	Warning string
}

// TryCalibration calibrates raw numbers without keeping anything.
func (ar *Archive) TryCalibration(_ context.Context, a access.Actor, c site.Calibration, raw []float64) (Calibrated,
	error) {
	if err := access.May(a, access.Configure, access.Anything); err != nil {
		return Calibrated{}, err
	}
	if err := c.Validate(site.Number); err != nil {
		return Calibrated{}, fault.Invalid("calibration", "%v", err)
	}
	out := Calibrated{Values: []float64{}}
	switch c.Method {
	case "divider":
		out.Factor, out.Warning = c.Divider.Factor(), c.Divider.Warning()
	case "gain":
		out.Factor = c.Points[0][1] / c.Points[0][0]
	}
	for _, r := range raw {
		v, err := reading.Calibrate(c, reading.Number(r))
		if err != nil {
			return out, fault.Invalid("raw", "%v", err)
		}
		out.Values = append(out.Values, v.Num)
	}
	return out, nil
}

// Recalibrate applies a signal's calibration to a stretch of its history, from what came raw. It tells progress, a
// number of readings, now and then, and may be stopped by the context; what is done stays done and can be done again.
func (ar *Archive) Recalibrate(ctx context.Context, a access.Actor, id string, from, to time.Time) (changed int,
	err error) {
	now := ar.house.Site()
	cfg, ok := now.Signals[id]
	if !ok || access.May(a, access.Look, sight.OfSignal(now, cfg)) != nil {
		return 0, fault.NotFound("signal", id, site.Nearest(id, ar.house.Sight(a).IDs(true, false))...)
	}
	if err := access.May(a, access.Configure, sight.OfSignal(now, cfg)); err != nil {
		return 0, err
	}
	switch {
	case cfg.Kind == site.Text:
		return 0, fault.Invalid("id", "texts have no calibration")
	case !to.After(from):
		return 0, fault.Invalid("to", "to (%s) is not after from (%s)", to.Format(time.RFC3339), from.Format(time.RFC3339))
	}
	var portion []store.Reading
	keep := func() error {
		if len(portion) == 0 {
			return nil
		}
		list := portion
		portion = nil
		if err := ar.store.Do(ctx, store.Replace(id, list)); err != nil {
			return store.Unsaved(err)
		}
		return nil
	}
	for r, err := range ar.store.Readings(ctx, id, cfg.Kind, from, to, false) {
		if err != nil {
			return changed, err
		}
		raw := r.Value
		if r.Raw != nil {
			raw.Num = *r.Raw
		}
		v, err := reading.Calibrate(cfg.Calibration, raw)
		if err != nil {
			return changed, fault.Invalid("calibration", "%v", err)
		}
		next := store.Reading{T: r.T, Value: v, Quality: reading.Plausible(cfg.Sense, v)}
		if cfg.Calibration.Set() {
			n := raw.Num
			next.Raw = &n
		}
		if next.Value == r.Value && next.Quality == r.Quality && same(next.Raw, r.Raw) {
			continue
		}
		changed++
		if portion = append(portion, next); len(portion) == 2000 {
			if err := keep(); err != nil {
				return changed, err
			}
		}
	}
	if err := keep(); err != nil {
		return changed, err
	}
	zone := ar.house.Site().Hub.Location()
	err = ar.house.Do(ctx, func(t hub.Turn) error {
		t.Journal(a, "recalibrate", id, "", fmt.Sprintf("%d readings", changed),
			fmt.Sprintf("from %s to %s", from.In(zone).Format("2 Jan 2006 15:04"), to.In(zone).Format("2 Jan 2006 15:04")))
		return nil
	})
	ar.house.PastChanged(id)
	return changed, err
}

func same(a, b *float64) bool { return a == b || a != nil && b != nil && *a == *b }
