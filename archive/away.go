package archive

import (
	"cmp"
	"context"
	"slices"
	"time"

	"idleember/core/series"
	"idleember/core/site"
)

// Away is when a device was not online in a stretch.
func (ar *Archive) Away(ctx context.Context, device string, from, to time.Time) (gone []series.Span, err error) {
	end := min(to.UnixMilli(), ar.house.Time().UnixMilli())
	left, off := int64(0), false
	add := func(until int64) {
		if left = max(left, from.UnixMilli()); off && left < until {
			gone = append(gone, series.Span{From: left, To: until})
		}
	}
	for r, err := range ar.store.Readings(ctx, device, site.OnOff, from, to, true) {
		if err != nil {
			return nil, err
		}
		if on := r.Value.Num != 0; on == off { // it changed
			add(r.T)
			left, off = r.T, !on
		}
	}
	add(end)
	return gone, nil
}

// leaveOut adds to the gaps of a series that holds until its next reading when its device was away, and takes that time
// from its time on.
func (ar *Archive) leaveOut(ctx context.Context, out *History) error {
	if out.Hold > 0 || out.device == "" {
		return nil
	}
	gone, err := ar.Away(ctx, out.device, out.From, out.To)
	if err != nil || len(gone) == 0 {
		return err
	}
	out.Gaps = append(out.Gaps, gone...)
	slices.SortFunc(out.Gaps, func(a, b series.Span) int { return cmp.Compare(a.From, b.From) })
	if out.Kind != site.OnOff || out.Buckets == nil {
		return nil
	}
	// A switch does not change while nobody hears of it: within each piece it was what it was at the beginning.
	bounds, took := []int64{}, []int{}
	i := 0
	for _, g := range gone {
		for ; i < len(out.Buckets) && out.Buckets[i].To <= g.From; i++ {
		}
		for k := i; k < len(out.Buckets) && out.Buckets[k].From < g.To; k++ {
			if a := max(g.From, out.Buckets[k].From); len(bounds) == 0 || bounds[len(bounds)-1] < a {
				bounds, took = append(bounds, a), append(took, -1)
			}
			took[len(took)-1] = k
			bounds, took = append(bounds, min(g.To, out.Buckets[k].To)), append(took, -1)
		}
	}
	pieces, _, err := ar.store.Buckets(ctx, out.Series, bounds, 0, ar.house.Time())
	for j, p := range pieces {
		if k := took[j]; k >= 0 {
			out.Buckets[k].OnMS -= p.OnMS
		}
	}
	return err
}
