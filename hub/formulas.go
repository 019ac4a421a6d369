package hub

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

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

// Checked is what the hub thinks of a formula.
type Checked struct {
	OK     bool           `json:"ok"`
	Kind   site.ValueKind `json:"kind,omitempty"`
	Unit   string         `json:"unit,omitempty"`
	Value  string         `json:"value,omitempty"` // what it comes to now
	Reason string         `json:"reason,omitempty"`
	From   int            `json:"from"` // what is wrong, in characters
	To     int            `json:"to"`
}

// CheckFormula reads a formula and says what it comes to now.
func (h *Hub) CheckFormula(ctx context.Context, a access.Actor, text string) (Checked, error) {
	if err := access.May(a, access.Configure, access.Anything); err != nil {
		return Checked{}, err
	}
	return h.checkFormula(ctx, text)
}

func (h *Hub) checkFormula(ctx context.Context, text string) (Checked, error) {
	f, err := formula.Parse(text, engine.Names(h.Site()))
	if err != nil {
		return wrong(err), nil
	}
	var windows []*formula.Window
	for _, need := range f.Needs {
		in, err := h.past(ctx, need)
		if err != nil {
			return Checked{}, err
		}
		w := formula.NewWindow(need.Span)
		w.Known(in.From)
		for _, s := range in.Samples {
			w.Add(s.At, s.Value)
		}
		windows = append(windows, w)
	}
	out := Checked{OK: true, Kind: f.Kind, Unit: f.Unit}
	err = h.ask(ctx, func() error {
		out.Value = sayValue(h.engine.Evaluate(h.now(), f, windows))
		return nil
	})
	return out, err
}

func wrong(err error) Checked {
	out := Checked{Reason: err.Error()}
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

// formulasOf checks all formulas of a part of a site.
func formulasOf(s *site.Site, each func(func(place, text string, quantity bool))) (err error) {
	each(func(place, text string, quantity bool) {
		if err != nil {
			return
		}
		parse := formula.Condition
		if quantity {
			parse = formula.Quantity
		}
		if _, e := parse(text, engine.Names(s)); e != nil {
			err = &InvalidError{place, fmt.Sprintf("%s, “%s”: %s", place, text, e)}
		}
	})
	return err
}

// FormulaWord is something that a formula can name.
type FormulaWord struct {
	Text string `json:"text"`
	Kind string `json:"kind"` // signal, control, setting, function, word
	Says string `json:"says"`
	Unit string `json:"unit,omitempty"`
}

// FormulaWords returns everything that a formula can name.
func (h *Hub) FormulaWords(_ context.Context, a access.Actor) ([]FormulaWord, error) {
	if err := access.May(a, access.Configure, access.Anything); err != nil {
		return nil, err
	}
	s := h.Site()
	list := []FormulaWord{}
	for _, id := range slices.Sorted(maps.Keys(s.Signals)) {
		list = append(list, FormulaWord{id, "signal", s.Signals[id].Name, s.Signals[id].Unit})
	}
	for _, id := range slices.Sorted(maps.Keys(s.Controls)) {
		c := s.Controls[id]
		list = append(list, FormulaWord{id + ".is", "control", c.Name + ": what it is", ""}, FormulaWord{id + ".want", "control", c.Name + ": what is wanted", ""})
		if s.Automations[id].HasAuto() {
			list = append(list, FormulaWord{id + ".mode", "control", c.Name + `: "auto" or "manual"`, ""})
		}
	}
	for _, id := range slices.Sorted(maps.Keys(s.Settings)) {
		list = append(list, FormulaWord{id, "setting", s.Settings[id].Name, s.Settings[id].Unit})
	}
	for _, f := range formula.Functions {
		list = append(list, FormulaWord{f.Name + "(" + f.Arguments + ")", "function", f.Does, ""})
	}
	for _, f := range formula.Words {
		list = append(list, FormulaWord{f.Name, "word", f.Does, ""})
	}
	return list, nil
}
