package api

import (
	"context"
	"time"

	"idleember/archive"
)

func (h *handlers) GetSummary(ctx context.Context, r GetSummaryRequestObject) (GetSummaryResponseObject, error) {
	q := archive.Range{Series: r.Params.Series, To: h.s.hub.Time()}
	set(&q.To, r.Params.To)
	q.From = q.To.Add(-24 * time.Hour)
	set(&q.From, r.Params.From)
	x, err := h.s.archive.Summary(ctx, actor(ctx), q)
	if err != nil {
		return nil, err
	}
	out := GetSummary200JSONResponse{Series: x.Series, Name: x.Name, Unit: x.Unit, Kind: Kind(x.Kind),
		Decimals: x.Decimals, From: x.History.From, To: x.History.To,
		Count: x.Count, Bad: x.Bad, Changes: x.Changes, Gaps: len(x.Gaps), GapsMs: x.GapsMS, Bins: []Bin{}}
	held := x.TimeMean == x.TimeMean // not NaN: something held
	if x.Count > 0 && x.Kind != "text" {
		out.First, out.Last, out.Mean = extreme(x.FirstT, x.First), extreme(x.LastT, x.Last), &x.Mean
	}
	if (x.Count > 0 || held) && x.Kind != "text" {
		out.Min, out.Max = extreme(x.MinT, x.Min), extreme(x.MaxT, x.Max)
		out.OnMs = &x.OnMS
		if held {
			out.TimeMean = &x.TimeMean
		}
		for _, b := range x.Bins {
			out.Bins = append(out.Bins, Bin{From: b.From, To: b.To, Ms: b.MS})
		}
	}
	if len(x.Gaps) > 0 {
		out.LongestGap = &[]int64{x.Longest.From, x.Longest.To}
	}
	if !x.SumsBefore.IsZero() {
		out.SumsBefore = &x.SumsBefore
	}
	return out, nil
}

func extreme(t int64, v float64) *Extreme {
	if t == 0 {
		return &Extreme{V: v}
	}
	return &Extreme{T: &t, V: v}
}

func (h *handlers) ListMarks(ctx context.Context, r ListMarksRequestObject) (ListMarksResponseObject, error) {
	got, err := h.s.archive.Marks(ctx, actor(ctx), r.Params.Series)
	return ListMarks200JSONResponse(each(got, func(m archive.Mark) Mark {
		out := Mark{Series: m.Series, Kind: MarkKind(m.Kind), Control: m.Control, Name: m.Name}
		if m.Setting != "" {
			out.Setting = &m.Setting
		} else {
			out.Value = &m.Value
		}
		return out
	})), err
}
