package hub

import (
	"context"
	"encoding/json"
	"maps"
	"slices"
	"strings"
	"time"

	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/core/alert"
	"idleember/core/engine"
	"idleember/core/fault"
	"idleember/core/site"
	"idleember/core/words"
	"idleember/live"
	"idleember/sight"
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
		h.writeState(store.AddAlertEvent(store.AlertEvent{At: now.Wall, Alert: x.State.ID, Name: cfg.Name,
			Place: h.placeOf(cfg.Of), Severity: cfg.Severity,
			N: x.State.N, What: string(w), Value: h.inWords(value), By: x.By.Name, Word: x.State.Word}))
	}
	if onRaised := h.onRaised.Load(); onRaised != nil && slices.Contains(x.What, alert.WasRaised) {
		(*onRaised)(cfg, x.State.N, x.State.Since)
	}
	for _, m := range x.Messages {
		if !h.mayHear(m.Route, func(v sight.Sight) bool { return v.Alert(cfg) }) {
			continue
		}
		h.send(now.Wall, m.Route, x.State.ID, h.noticeOf(now.Wall, m, x, cfg))
	}
	h.publishAlert(x.State.ID)
}

// alertLearnt notes what would have raised an alert, had it come in time.
func (h *Hub) alertLearnt(now engine.Now, x engine.AlertLearnt) {
	_, cfg, _, _ := h.engine.Alert(x.ID)
	h.writeState(store.AddAlertEvent(store.AlertEvent{At: now.Wall, Alert: x.ID, Name: cfg.Name, Place: h.placeOf(cfg.Of),
		Severity: cfg.Severity,
		What:     "learnt late", Value: h.inWords(x.Value) + " at " +
			x.At.In(h.site.Hub.Location()).Format("2 Jan 15:04"), By: access.HubActor().Name}))
	h.journal(now.Wall, access.HubActor(), "alert", "alert."+x.ID, "", "learnt late",
		h.inWords(x.Value)+" at "+x.At.In(h.site.Hub.Location()).Format("2 Jan 2006 15:04"))
}

func (h *Hub) placeOf(id string) string { return sight.PlaceOf(h.site, id) }

func (h *Hub) alertView(id string) (shown.Alert, *site.Alert) {
	s, cfg, value, ok := h.engine.Alert(id)
	if !ok { // it is not looked at
		if cfg = h.site.AllAlerts()[id]; cfg == nil {
			return shown.Alert{}, nil
		}
	}
	_, made := h.site.Alerts[id]
	v := shown.Alert{Version: shown.Version(*cfg), Config: *cfg, State: shown.AlertState{BuiltIn: !made,
		Place: h.placeOf(cfg.Of), Phase: s.Phase(), Value: words.TextOf(value), Limit: words.TextOf(limitFact(cfg, h.site)),
		Says: shown.SayingOf(engine.AlertSays(&s, value, limitFact(cfg, h.site))), N: s.N}}
	x := &v.State
	if owner, _ := site.Split(cfg.Of); h.site.Devices[owner].ID != "" {
		x.Device = owner
	}
	moment := func(t time.Time) *time.Time {
		if t.IsZero() {
			return nil
		}
		return &t
	}
	x.Ended = moment(s.Ended)
	switch x.Phase {
	case alert.Active, alert.Acknowledged, alert.Returned:
		x.Was, x.Since, x.Times = words.TextOf(s.Value), moment(s.Since), s.Times
		x.By, x.Word = s.AckedBy, s.Word
	case alert.Shelved:
		x.By, x.Until = s.ShelvedBy, moment(s.ShelvedUntil)
	case alert.OutOfService:
		x.By, x.Since = s.OutBy, moment(s.OutAt)
	}
	for _, id := range slices.Sorted(maps.Keys(s.Told)) {
		r := h.site.Routes[id]
		x.Told = append(x.Told, shown.AlertTold{Route: id, Name: r.Name, Who: h.nameOf(r.Person), Via: r.Via,
			At: s.Told[id].At, Count: s.Told[id].Count, State: h.undelivered[way{cfg.ID, id}]})
	}
	return v, cfg
}

func (h *Hub) publishAlert(id string) {
	if v, cfg := h.alertView(id); cfg != nil {
		s := h.site
		h.live.Add(&live.Event{Kind: "alert", Object: access.Anything, Tailor: func(a access.Actor, data any) any {
			sees := h.glass.As(s, a)
			if x := data.(shown.Alert); sees.Alert(&x.Config) {
				return sees.Told(x)
			}
			return nil
		}}, v)
	}
}

// AlertFor is an alert, and when it was raised last, for whoever a message about it came to.
func (h *Hub) AlertFor(ctx context.Context, a access.Actor, id string) (v shown.Alert, raised time.Time, err error) {
	err = h.ask(ctx, func() error {
		var cfg *site.Alert
		if v, cfg = h.alertView(id); cfg == nil || access.May(a, access.Look, sight.OfAlert(h.site, cfg)) != nil {
			return fault.NotFound("alert", id)
		}
		s, _, _, _ := h.engine.Alert(id)
		raised = s.Since
		return nil
	})
	return v, raised, err
}

// Reader is who reads what a route carries of an alert: the person whom the route is for, as they are now; else whoever
// looks at the other end of it.
func (h *Hub) Reader(route, alert, from string) (access.Actor, error) {
	s := h.Site()
	r, ok := s.Routes[route]
	if !ok {
		return access.Actor{}, fault.Invalid("link",
			"the route that this message came by was taken away; open the console instead")
	}
	if r.Person != "" {
		m, ok := h.people.Member(r.Person)
		if !ok || !m.Active(h.Time()) {
			return access.Actor{}, fault.Invalid("link", "the person whom this message was for is no longer of this household")
		}
		return h.ActorOf(m, access.Person, from), nil
	}
	cfg := s.AllAlerts()[alert]
	if cfg == nil {
		return access.Actor{}, fault.NotFound("alert", alert)
	}
	return access.Actor{Kind: access.Letter, ID: r.ID, Name: r.Name, From: from,
		Sees: []string{sight.OfAlert(s, cfg).Name}}, nil
}

// ActiveAlerts are alertsNow, for who asks from outside the loop.
func (h *Hub) ActiveAlerts(ctx context.Context, a access.Actor) (list []shown.Alert, err error) {
	return list, h.ask(ctx, func() error { list = h.alertsNow(a); return nil })
}

// alertsNow are the alerts that are not quiet and that an actor may see, by id.
func (h *Hub) alertsNow(a access.Actor) []shown.Alert {
	list := []shown.Alert{}
	sees := h.glass.As(h.site, a)
	for _, id := range h.engine.Alerts() {
		if s, cfg, _, ok := h.engine.Alert(id); !ok || s.Phase() == alert.Normal || !sees.Alert(cfg) {
			continue
		}
		v, _ := h.alertView(id)
		list = append(list, sees.Told(v))
	}
	return list
}

// AlertAction is what somebody does to alerts.
type AlertAction struct {
	IDs   []string
	Event alert.Event
	Word  string
	Until time.Time
}

// ActOnAlerts acknowledges, shelves or retires alerts, or takes that back. The first that cannot be is told, and
// nothing is done.
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
			return fault.Invalid("for_ms", "an alert is shelved for up to a month; to be rid of it for longer, take it out of "+
				"service")
		}
		for _, id := range x.IDs {
			s, cfg, _, ok := h.engine.Alert(id)
			if !ok || !h.glass.As(h.site, a).Alert(cfg) {
				return fault.NotFound("alert", id, site.Nearest(id, h.engine.Alerts())...)
			}
			if _, err := s.Apply(alert.Config{Latch: cfg.Latch}, h.now().Wall, alert.Input{Event: x.Event,
				Until: x.Until}); err != nil {
				return &fault.InvalidError{Field: "id", Reason: cfg.Name + ": " + err.Error()}
			}
		}
		for _, id := range x.IDs {
			h.apply(engine.AlertAction{Alert: id, Event: x.Event, Word: site.Clip(strings.TrimSpace(x.Word), 200),
				Until: x.Until, Actor: a})
			v, _ := h.alertView(id)
			list = append(list, v)
		}
		return nil
	})
	return list, err
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

// noticeOf is what a message about an alert holds.
func (h *Hub) noticeOf(at time.Time, m alert.Message, x engine.AlertChanged, cfg *site.Alert) Notice {
	n := Notice{What: string(m.What), At: at, Alert: cfg.ID, N: x.State.N, Name: cfg.Name, Severity: cfg.Severity,
		Value: h.inWords(x.Value), Was: h.inWords(x.State.Value), Since: x.State.Since,
		Do: cfg.Text, Hub: h.site.Hub.Name, Zone: h.site.Hub.Zone, Limit: h.inWords(limitFact(cfg, h.site))}
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

// limitFact says what an alert is compared with; nothing where its name says it all.
func limitFact(a *site.Alert, s *site.Site) words.Fact {
	g := s.Signals[a.Of]
	return a.LimitFact(func(f float64) words.Quantity {
		return words.Quantity{Num: f, Unit: g.Unit, Decimals: g.Decimals}
	})
}

// inWords is a fact as it is written down: in the hub's own words, which are for all.
func (h *Hub) inWords(f words.Fact) string {
	return words.Reader{Zone: h.site.Hub.Zone}.Say(f, h.Time())
}

func raw(v any) string {
	b, _ := json.Marshal(v) // plain records
	return string(b)
}
