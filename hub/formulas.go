package hub

import (
	"context"
	"maps"
	"slices"
	"time"

	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/core/engine"
	"idleember/core/formula"
	"idleember/core/reading"
	"idleember/core/site"
)

// fillWindow brings the engine what the store holds of a span that a formula looks back on.
func (h *Hub) fillWindow(need formula.Need) {
	ctx, cancel := context.WithTimeout(h.life, time.Minute)
	defer cancel()
	in, err := h.past(ctx, need)
	if err != nil {
		h.log.Error("a formula's past could not be read", "id", need.ID, "error", err)
		return
	}
	h.enqueue(func() { h.apply(in) })
}

// past reads what the store holds of a span until now, and what held before it.
func (h *Hub) past(ctx context.Context, need formula.Need) (engine.History, error) {
	from := h.Time().Add(-need.Span - need.Span/30 - time.Minute)
	in := engine.History{ID: need.ID, Span: need.Span, From: from}
	for r, err := range h.store.Readings(ctx, need.ID, site.Number, from, h.Time().Add(reading.MostApart), true) {
		if err != nil {
			return in, err
		}
		if r.Quality == reading.Good && r.Value.Kind != site.Text {
			in.Samples = append(in.Samples, engine.Sample{At: time.UnixMilli(r.T), Value: r.Value.Num})
		}
	}
	return in, nil
}

// CheckFormula reads a formula and says what it comes to now.
func (h *Hub) CheckFormula(ctx context.Context, a access.Actor, text string) (shown.Checked, error) {
	if err := access.May(a, access.Configure, access.Anything); err != nil {
		return shown.Checked{}, err
	}
	return h.Evaluate(ctx, text)
}

// Evaluate says what a formula comes to now.
func (h *Hub) Evaluate(ctx context.Context, text string) (shown.Checked, error) {
	f, err := formula.Parse(text, engine.Names(h.Site()))
	if err != nil {
		return wrong(err), nil
	}
	var windows []*formula.Window
	for _, need := range f.Needs {
		in, err := h.past(ctx, need)
		if err != nil {
			return shown.Checked{}, err
		}
		w := formula.NewWindow(need.Span)
		w.Known(in.From)
		for _, s := range in.Samples {
			w.Add(s.At, s.Value)
		}
		windows = append(windows, w)
	}
	out := shown.Checked{OK: true, Kind: f.Kind, Unit: f.Unit}
	err = h.ask(ctx, func() error {
		out.Value = sayValue(h.engine.Evaluate(h.now(), f, windows))
		return nil
	})
	return out, err
}

func wrong(err error) shown.Checked {
	out := shown.Checked{Reason: err.Error()}
	if fe, ok := err.(*formula.Error); ok {
		out.From, out.To = fe.From, fe.To
	}
	return out
}

func sayValue(v formula.Value) string {
	switch {
	case !v.Known:
		return "unknown"
	case v.Kind == site.OnOff && v.Num != 0:
		return "true"
	case v.Kind == site.OnOff:
		return "false"
	case v.Kind == site.Text:
		return v.Text
	}
	return reading.Number(v.Num).String()
}

// FormulaWords returns everything that a formula can name.
func (h *Hub) FormulaWords(_ context.Context, a access.Actor) ([]shown.FormulaWord, error) {
	if err := access.May(a, access.Configure, access.Anything); err != nil {
		return nil, err
	}
	s := h.Site()
	list := []shown.FormulaWord{}
	for _, id := range slices.Sorted(maps.Keys(s.Signals)) {
		list = append(list, shown.FormulaWord{Text: id, Kind: "signal", Says: s.Signals[id].Name, Unit: s.Signals[id].Unit})
	}
	for _, id := range slices.Sorted(maps.Keys(s.Controls)) {
		c := s.Controls[id]
		list = append(list, shown.FormulaWord{Text: id + ".is", Kind: "control", Says: c.Name + ": what it is", Unit: ""},
			shown.FormulaWord{Text: id + ".want", Kind: "control", Says: c.Name + ": what is wanted", Unit: ""})
		if s.Automations[id].HasAuto() {
			list = append(list, shown.FormulaWord{Text: id + ".mode", Kind: "control", Says: c.Name + `: "auto" or "manual"`,
				Unit: ""})
		}
	}
	for _, id := range slices.Sorted(maps.Keys(s.Settings)) {
		list = append(list, shown.FormulaWord{Text: id, Kind: "setting", Says: s.Settings[id].Name,
			Unit: s.Settings[id].Unit})
	}
	for _, f := range formula.Functions {
		list = append(list, shown.FormulaWord{Text: f.Name + "(" + f.Arguments + ")", Kind: "function", Says: f.Does,
			Unit: ""})
	}
	for _, f := range formula.Words {
		list = append(list, shown.FormulaWord{Text: f.Name, Kind: "word", Says: f.Does, Unit: ""})
	}
	return list, nil
}
