package hub

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/core/alert"
	"idleember/core/calendar"
	"idleember/core/engine"
	"idleember/core/series"
	"idleember/core/site"
	"idleember/store"
)

// alertChanged keeps what became of an alert, puts what is to be told on its way, and tells those who look on.
func (h *Hub) alertChanged(now engine.Now, x engine.AlertChanged) {
	h.remember(x)
	_, cfg, _, ok := h.engine.Alert(x.State.ID)
	if !ok {
		return
	}
	value := x.Value
	for _, w := range x.What {
		if w == alert.WasRaised || w == alert.WasNear {
			value = x.State.Value
		}
		h.writeState(store.AddAlertEvent(store.AlertEvent{At: now.Wall, Alert: x.State.ID, Name: cfg.Name, Place: h.placeOf(cfg.Of), Severity: cfg.Severity,
			N: x.State.N, What: string(w), Value: value, By: x.By.Name, Word: x.State.Word}))
	}
	h.lookOn(x, cfg)
	for _, m := range x.Messages {
		if !h.mayHear(m.Route, func(v sight) bool { return v.alert(cfg) }) {
			continue
		}
		h.send(now.Wall, m.Route, x.State.ID, h.notice(now.Wall, m, x, cfg))
	}
	h.publishAlert(x.State.ID)
}

// alertLearnt notes what would have raised an alert, had it come in time.
func (h *Hub) alertLearnt(now engine.Now, x engine.AlertLearnt) {
	_, cfg, _, _ := h.engine.Alert(x.ID)
	h.writeState(store.AddAlertEvent(store.AlertEvent{At: now.Wall, Alert: x.ID, Name: cfg.Name, Place: h.placeOf(cfg.Of), Severity: cfg.Severity,
		What: "learnt late", Value: strings.TrimSpace(x.Value) + " at " + x.At.In(h.site.Hub.Location()).Format("2 Jan 15:04"), By: access.HubActor().Name}))
	h.journal(now.Wall, access.HubActor(), "alert", "alert."+x.ID, "", "learnt late", strings.TrimSpace(x.Value)+" at "+x.At.In(h.site.Hub.Location()).Format("2 Jan 2006 15:04"))
}

func (h *Hub) placeOf(id string) string { return placeOf(h.site, id) }

func (h *Hub) alertView(id string) (shown.Alert, *site.Alert) {
	s, cfg, value, ok := h.engine.Alert(id)
	if !ok { // it is not looked at
		if cfg = h.site.AllAlerts()[id]; cfg == nil {
			return shown.Alert{}, nil
		}
	}
	_, made := h.site.Alerts[id]
	v := shown.Alert{ID: id, Version: Version(*cfg), Config: *cfg, BuiltIn: !made, Place: h.placeOf(cfg.Of), Phase: s.Phase(), Value: value, Limit: limitWords(cfg, h.site), N: s.N}
	if owner, _ := site.Split(cfg.Of); h.site.Devices[owner].ID != "" {
		v.Device = owner
	}
	moment := func(t time.Time) *time.Time {
		if t.IsZero() {
			return nil
		}
		return &t
	}
	v.Ended = moment(s.Ended)
	switch v.Phase {
	case alert.Active, alert.Acknowledged, alert.Returned:
		v.Was, v.Since, v.Times = s.Value, moment(s.Since), s.Times
		v.By, v.Word = s.AckedBy, s.Word
	case alert.Shelved:
		v.By, v.Until = s.ShelvedBy, moment(s.ShelvedUntil)
	case alert.OutOfService:
		v.By, v.Since = s.OutBy, moment(s.OutAt)
	}
	for _, id := range slices.Sorted(maps.Keys(s.Told)) {
		r := h.site.Routes[id]
		v.Told = append(v.Told, shown.AlertTold{Route: id, Name: r.Name, Who: h.nameOf(r.Person), Via: r.Via, At: s.Told[id].At, Count: s.Told[id].Count, State: h.undelivered[way{v.ID, id}]})
	}
	return v, cfg
}

func (h *Hub) publishAlert(id string) {
	if v, cfg := h.alertView(id); cfg != nil {
		s := h.site
		h.live.add(&Event{Kind: "alert", obj: access.Anything, tailor: func(a access.Actor, data any) any {
			sees := h.sightOf(s, a)
			if x := data.(shown.Alert); sees.alert(&x.Config) {
				return sees.told(x)
			}
			return nil
		}}, v)
	}
}

// Alerts returns the alerts that an actor may see, by id; only those that are not quiet where active is true.
func (h *Hub) Alerts(ctx context.Context, a access.Actor, active bool) (list []shown.Alert, err error) {
	err = h.ask(ctx, func() error {
		list = h.alerts(a, active)
		return nil
	})
	return list, err
}

func (h *Hub) alerts(a access.Actor, active bool) []shown.Alert {
	list := []shown.Alert{}
	sees := h.sightOf(h.site, a)
	ids := h.engine.Alerts()
	if !active {
		ids = slices.Sorted(maps.Keys(h.site.AllAlerts()))
	}
	for _, id := range ids {
		if s, cfg, _, ok := h.engine.Alert(id); active && (!ok || s.Phase() == alert.Normal || !sees.alert(cfg)) {
			continue
		}
		if v, cfg := h.alertView(id); cfg != nil && sees.alert(cfg) {
			list = append(list, sees.told(v))
		}
	}
	return list
}

// SaveAlert adds or changes an alert. One with the id of a built-in one tunes that.
func (h *Hub) SaveAlert(ctx context.Context, a access.Actor, x site.Alert, check func(any) error) (view shown.Alert, err error) {
	err = h.do(ctx, func() error {
		saved, err := h.keep(a, edit{part: &x, check: check})
		if err != nil {
			return err
		}
		view, _ = h.alertView(saved.(*site.Alert).ID)
		return nil
	})
	return view, err
}

// RemoveAlert takes an alert away; a built-in one becomes as it was.
func (h *Hub) RemoveAlert(ctx context.Context, a access.Actor, id string) error {
	return h.drop(ctx, a, "alert", id)
}

// AlertAction is what somebody does to alerts.
type AlertAction struct {
	IDs   []string
	Event alert.Event
	Word  string
	Until time.Time
}

// ActOnAlerts acknowledges, shelves or retires alerts, or takes that back. The first that cannot be is told, and nothing is done.
func (h *Hub) ActOnAlerts(ctx context.Context, a access.Actor, x AlertAction) (list []shown.Alert, err error) {
	err = h.do(ctx, func() error {
		need := access.Tend
		if x.Event == alert.Retire || x.Event == alert.Restore {
			need = access.Configure
		}
		if err := access.May(a, need, access.Anything); err != nil {
			return err
		}
		if x.Event == alert.Shelve && (x.Until.Before(h.Time()) || x.Until.After(h.Time().Add(31*24*time.Hour))) {
			return &InvalidError{"for_ms", "an alert is shelved for up to a month; to be rid of it for longer, take it out of service"}
		}
		for _, id := range x.IDs {
			s, cfg, _, ok := h.engine.Alert(id)
			if !ok || !h.sightOf(h.site, a).alert(cfg) {
				return &NotFoundError{"alert", id, site.Nearest(id, h.engine.Alerts())}
			}
			if _, err := s.Apply(alert.Config{Latch: cfg.Latch}, h.now().Wall, alert.Input{Event: x.Event, Until: x.Until}); err != nil {
				return &InvalidError{"id", cfg.Name + ": " + err.Error()}
			}
		}
		for _, id := range x.IDs {
			h.apply(engine.AlertAction{Alert: id, Event: x.Event, Word: clip(strings.TrimSpace(x.Word), 200), Until: x.Until, Actor: a})
			v, _ := h.alertView(id)
			list = append(list, v)
		}
		return nil
	})
	return list, err
}

// AlertEvents returns what became of alerts, newest first.
func (h *Hub) AlertEvents(ctx context.Context, a access.Actor, f store.AlertFilter) ([]store.AlertEvent, error) {
	if err := access.May(a, access.Audit, access.Anything); err != nil {
		return nil, err
	}
	list, err := h.store.AlertEvents(ctx, f)
	return h.sight(a).events(list), err
}

// AlertTrial is how an alert would have been in a stretch.
type AlertTrial struct {
	From, To    time.Time
	Occurrences []alert.Occurrence
	Readings    int
}

// TryAlert runs an alert over what its signal, or what its formulas name, was.
func (h *Hub) TryAlert(ctx context.Context, a access.Actor, x site.Alert, from, to time.Time) (out AlertTrial, err error) {
	if x.Kind == site.AlertFormula {
		return h.tryFormula(ctx, a, x, from, to)
	}
	q := Range{Series: x.Of, From: from, To: to}
	if err := q.check(); err != nil {
		return out, err
	}
	what := History{Series: x.Of}
	if err := h.ask(ctx, func() error { return h.describe(a, &what) }); err != nil {
		return out, err
	}
	t := alert.NewTrial(&x, what.Hold, h.Site().Hub.Location())
	if t == nil {
		return out, &InvalidError{"kind", "only alerts about a limit, a band, an event, silence or a formula can be tried on the past"}
	}
	out.From, out.To = from, to
	if err := h.store.Columns(ctx, x.Of, from.UnixMilli(), to.UnixMilli(), func(c *series.Columns, i, j int) {
		t.Add(c, i, j)
		out.Readings += j - i
	}); err != nil {
		return out, err
	}
	out.Occurrences = t.Finish(min(to.UnixMilli(), h.Time().UnixMilli()))
	return out, nil
}

// Serviced says that a control was serviced.
func (h *Hub) Serviced(ctx context.Context, a access.Actor, id string) error {
	return h.do(ctx, func() error {
		if _, err := h.control(a, access.Tend, id); err != nil {
			return err
		}
		if err := access.May(a, access.Tend, access.Anything); err != nil {
			return err
		}
		h.apply(engine.Serviced{Control: id, Actor: a})
		return nil
	})
}

// notice is what a message about an alert holds.
func (h *Hub) notice(at time.Time, m alert.Message, x engine.AlertChanged, cfg *site.Alert) Notice {
	n := Notice{What: string(m.What), At: at, Alert: cfg.ID, N: x.State.N, Name: cfg.Name, Severity: cfg.Severity, Value: x.Value, Was: x.State.Value, Since: x.State.Since,
		Do: cfg.Text, Hub: h.site.Hub.Name, Zone: h.site.Hub.Zone, Limit: limitWords(cfg, h.site)}
	if m.What == alert.WasAcked {
		n.By, n.Word = x.State.AckedBy, x.State.Word
	}
	if p, ok := h.site.Place(h.placeOf(cfg.Of)); ok {
		n.Place = p.Name
	}
	if g, ok := h.site.Signals[cfg.Of]; ok && g.Kind != site.Text {
		n.Series = g.ID
	} else if _, ok := h.site.Controls[cfg.Of]; ok {
		n.Series = cfg.Of + ".is"
	}
	return n
}

// limitWords says what an alert is compared with; nothing where its name says it all.
func limitWords(a *site.Alert, s *site.Site) string {
	g := s.Signals[a.Of]
	num := func(f float64) string {
		return strings.TrimSpace(fmt.Sprintf("%.*f %s", g.Decimals, f, site.UnitSign(g.Unit)))
	}
	span, goes := calendar.Words(site.Millis(a.SpanMS)), "rises"
	if a.Falls {
		goes = "falls"
	}
	switch a.Kind {
	case site.AlertAbove:
		return "above " + num(a.Limit)
	case site.AlertBelow:
		return "below " + num(a.Limit)
	case site.AlertOutside:
		return "outside " + num(a.Limit) + " to " + num(a.Upper)
	case site.AlertFaster:
		return goes + " by more than " + num(a.Limit) + " in " + span
	case site.AlertTrend:
		return goes + " to " + num(a.Limit) + " within " + span
	case site.AlertSilent:
		return "no reading for " + span
	case site.AlertUnchanged:
		return "unchanged for " + span
	case site.AlertService:
		return fmt.Sprintf("due at %g h", a.Limit)
	}
	return ""
}

func raw(v any) string {
	b, _ := json.Marshal(v) // plain records
	return string(b)
}
