package engine

import (
	"fmt"
	"slices"
	"time"

	"idleember/core/access"
	"idleember/core/alert"
	"idleember/core/control"
	"idleember/core/formula"
	"idleember/core/reading"
	"idleember/core/site"
	"idleember/core/words"
)

// liveAlert is one alert at work.
type liveAlert struct {
	cfg         *site.Alert
	cond, early *cond
	marked      bool
	wake        uint64
	wakeAt      time.Duration
	alert.State
}

// AlertAction is what somebody does to an alert.
type AlertAction struct {
	Alert string
	Event alert.Event // Acknowledge, Shelve, Unshelve, Retire or Restore
	Word  string
	Until time.Time
	Actor access.Actor
}

// Learnt brings readings of the past that an alert may have been about.
type Learnt struct {
	Signal  string
	Samples []Sample
}

// Serviced says that a control was serviced: its hours begin anew.
type Serviced struct {
	Control string
	Actor   access.Actor
}

// Health brings what the hub knows of itself, as values of hub.disk_used and so on.
type Health struct{ Values map[string]float64 }

func (AlertAction) input() {}
func (Learnt) input()      {}
func (Serviced) input()    {}
func (Health) input()      {}

// AlertChanged carries an alert's state, to be kept and shown, what became of it, and what is to be told.
type AlertChanged struct {
	State    alert.State
	What     []alert.What
	Value    words.Fact // what it is like now
	By       access.Actor
	Messages []alert.Message
}

// AlertLearnt says that an alert would have been raised, had its readings come in time.
type AlertLearnt struct {
	ID    string
	At    time.Time
	Value words.Fact
}

// AlertGone says that an alert is no more.
type AlertGone struct{ ID string }

func (AlertChanged) effect() {}
func (AlertLearnt) effect()  {}
func (AlertGone) effect()    {}

// buildAlerts makes the liveAlerts of the site; those of before keep their state.
func (e *Engine) buildAlerts(old map[string]*liveAlert) {
	all := e.site.AllAlerts()
	e.routes = e.routes[:0]
	for _, id := range sorted(e.site.Routes) {
		e.routes = append(e.routes, e.site.Routes[id])
	}
	e.alertsOf, e.alertsAt = map[string][]*liveAlert{}, map[string][]*liveAlert{}
	for _, id := range sorted(all) {
		cfg := all[id]
		if cfg.Off {
			continue
		}
		x := &liveAlert{cfg: cfg, State: alert.State{ID: id}}
		if was := old[id]; was != nil {
			x.State = was.State
		}
		c, early := cfg.Condition()
		x.cond = e.condition(c)
		x.cond.liveAlerts = append(x.cond.liveAlerts, x)
		if early != nil {
			x.early = e.condition(*early)
			x.early.liveAlerts = append(x.early.liveAlerts, x)
		}
		e.liveAlerts[id] = x
		e.alertsOf[cfg.Of] = append(e.alertsOf[cfg.Of], x)
		device, _ := site.Split(cfg.Of)
		e.alertsAt[device] = append(e.alertsAt[device], x)
		e.markAlert(x)
	}
	for _, id := range sorted(old) {
		if e.liveAlerts[id] == nil && old[id].Phase() != alert.Normal {
			e.emit(AlertGone{id})
		}
	}
}

func (e *Engine) markAlert(x *liveAlert) {
	if !x.marked {
		x.marked = true
		e.alerted.push(x)
	}
}

func (x *liveAlert) config() alert.Config {
	return alert.Config{Latch: x.cfg.Latch, Rest: site.Millis(x.cfg.RestMS)}
}

// judgeAlert brings an alert up to date with its conditions and its times, and finds out whom to tell. Long, because
// it is one decision in its order, and each case names the next.
func (e *Engine) judgeAlert(x *liveAlert) {
	var what []alert.What
	do := func(ev alert.Event) {
		in := alert.Input{Event: ev}
		if ev != alert.Went && ev != alert.Parts {
			in.Value = e.alertFact(x)
		}
		w, _ := x.Apply(x.config(), e.now.Wall, in)
		what = append(what, w...)
	}
	was, early := x.Is, x.Early
	switch is := x.cond.Is; {
	case is == control.True && e.causedElsewhere(x):
		if x.Is {
			do(alert.Went)
		}
	case is == control.True && !x.Is && e.now.Mono < e.grace && x.aboutPresence(): // everybody may come back first
	case is == control.True && !x.Is:
		do(alert.Came)
	case is == control.False && x.Is:
		do(alert.Went)
	}
	if x.early != nil {
		switch is := x.early.Is; {
		case is == control.True && !x.Early && !x.Is:
			do(alert.Nears)
		case is == control.False && x.Early:
			do(alert.Parts)
		}
	}
	if next := x.Next(); !next.IsZero() && !e.now.Wall.Before(next) {
		do(alert.Due)
	}
	e.alertChanged(x, what, access.HubActor(), was != x.Is || early != x.Early)
}

// alertChanged lets out what became of an alert, and has it looked at again when somebody is to be told.
func (e *Engine) alertChanged(x *liveAlert, what []alert.What, by access.Actor, keep bool) {
	list, next := x.Tell(e.routesNow(), x.cfg.Severity, e.placeOf(x.cfg.Of), e.now.Wall.In(e.zone))
	if own := x.Next(); !own.IsZero() && (next.IsZero() || own.Before(next)) {
		next = own
	}
	if next.IsZero() {
		x.wake = 0
	} else if at := e.mono(next); x.wake == 0 || at != x.wakeAt {
		x.wake, x.wakeAt = e.wakeAt(at, wakeAlarm, x.ID), at
	}
	if keep || len(what) > 0 || len(list) > 0 {
		e.emit(AlertChanged{State: x.State, What: what, Value: e.alertFact(x), By: by, Messages: list})
	}
}

// routesNow are the routes; while nobody knows the time none has quiet hours.
func (e *Engine) routesNow() []site.Route {
	if e.now.Trusted {
		return e.routes
	}
	awake := slices.Clone(e.routes)
	for i := range awake {
		awake[i].From, awake[i].Until = "", ""
	}
	return awake
}

// aboutPresence reports whether an alert is about somebody who may just not have come back after the hub's own start.
func (x *liveAlert) aboutPresence() bool {
	about, _ := x.cfg.Absence()
	return about
}

// causedElsewhere reports whether a device is away of which something is missing or does not answer: its own alert
// tells that.
func (e *Engine) causedElsewhere(x *liveAlert) bool {
	if _, elsewhere := x.cfg.Absence(); !elsewhere {
		return false
	}
	id, _ := site.Split(x.cfg.Of)
	d := e.devices[id]
	return d != nil && !d.Online
}

func (e *Engine) alertDue(w wake) {
	if x := e.liveAlerts[w.id]; x != nil && x.wake == w.seq {
		x.wake = 0
		e.markAlert(x)
	}
}

// actOn does to an alert what somebody asked for.
func (e *Engine) actOn(in AlertAction) {
	x := e.liveAlerts[in.Alert]
	if x == nil {
		return
	}
	what, err := x.Apply(x.config(), e.now.Wall, alert.Input{Event: in.Event, By: in.Actor.Name, ByID: in.Actor.ID,
		Word: in.Word, Until: in.Until, Value: e.alertFact(x)})
	if err != nil {
		return
	}
	for _, w := range what {
		e.emit(Journal{Actor: in.Actor, Action: "alert", Object: "alert." + x.ID, After: string(w),
			Reason: words.Said(in.Word)})
	}
	e.alertChanged(x, what, in.Actor, true)
}

// learnLate tells of what would have raised an alert, had it come in time. It raises none.
func (e *Engine) learnLate(in Learnt) {
	for _, x := range e.alertsOf[in.Signal] {
		holds := x.cfg.Holds()
		if holds == nil {
			continue
		}
		for _, s := range in.Samples {
			known := x.N > 0 && !s.At.Before(x.Since) && (x.Up || !s.At.After(x.Ended))
			if known || !holds(s.Value) || s.At.Sub(x.Late) < time.Hour {
				continue
			}
			x.Late = s.At
			value := Told(e.site.Signals[in.Signal], reading.Number(s.Value))
			e.emit(AlertLearnt{ID: x.ID, At: s.At, Value: value})
			e.emit(AlertChanged{State: x.State, By: access.HubActor(), Value: e.alertFact(x)})
			break
		}
	}
}

// Watched reports whether any alert looks at the limits of a signal.
func (e *Engine) Watched(signal string) bool {
	return slices.ContainsFunc(e.alertsOf[signal], func(x *liveAlert) bool { return x.cfg.Holds() != nil })
}

// Alert returns the state of an alert, its configuration, and in words what it is about now.
func (e *Engine) Alert(id string) (state alert.State, cfg *site.Alert, value words.Fact, ok bool) {
	x := e.liveAlerts[id]
	if x == nil {
		return alert.State{}, nil, words.Fact{}, false
	}
	return x.State, x.cfg, e.alertFact(x), true
}

// Alerts returns the ids of all alerts that are looked at, in order.
func (e *Engine) Alerts() []string { return sorted(e.liveAlerts) }

// placeOf is where a signal, control, setting or device is.
func (e *Engine) placeOf(id string) string {
	owner, _ := site.Split(id)
	if d, ok := e.site.Devices[owner]; ok {
		return d.Place
	}
	return owner
}

// alertFact is what an alert tells of, as it is now.
func (e *Engine) alertFact(x *liveAlert) words.Fact {
	of := x.cfg.Of
	switch x.cfg.Tells() {
	case site.TellsPresence:
		d := e.devices[of]
		switch {
		case d == nil || d.Online:
			return words.Of("alert.online")
		case d.Since.IsZero():
			return words.Of("alert.never_seen")
		case d.Why == "":
			return words.Of("alert.away", "At", e.local(d.Since))
		}
		return words.Of("alert.away_why", "At", e.local(d.Since), "Why", d.Why)
	case site.TellsReading:
		s := e.signals[of]
		if s == nil || !s.Seen {
			return words.Of("alert.never_seen")
		}
		return words.Of("alert.last", "Value", e.told(of), "At", e.local(s.Heard))
	case site.TellsWant:
		if c := e.controls[of]; c != nil && c.Want != nil {
			said := words.Of("alert.not_known")
			if c.Is != nil {
				said = c.cfg.Told(*c.Is)
			}
			return words.Of("alert.want", "Want", c.cfg.Told(*c.Want), "Is", said)
		}
		return words.Of("alert.no_want")
	case site.TellsHours:
		if c := e.controls[of]; c != nil {
			return words.Of("alert.ran", "Hours", words.Quantity{Num: e.hours(c), Unit: "h"})
		}
	case site.TellsFormula:
		var values words.Row
		for _, p := range x.cond.when.points {
			if p.value.Kind == site.Text && p.value.Text == "" { // a state that says nothing
				continue
			}
			values = append(values, words.Of("formula.value", "Name", e.nameOf(p.id), "Value", e.pointFact(p)))
		}
		if len(values) == 0 {
			return words.Fact{}
		}
		return words.Of("all", "All", values)
	}
	return e.told(of)
}

func (e *Engine) pointFact(p *point) words.Fact {
	switch {
	case !p.value.Known:
		return words.Of("unknown")
	case p.value.Kind == site.Text:
		return words.Said(p.value.Text)
	case p.value.Kind == site.OnOff:
		return onOff(p.value.True())
	}
	if _, ok := e.site.Signals[p.id]; ok {
		return e.told(p.id)
	}
	return words.Amount(words.Quantity{Num: p.value.Num, Decimals: words.Short})
}

// hours is for how long a control ran since its last service.
func (e *Engine) hours(x *controlled) float64 {
	ran := x.RanMS - x.ServicedMS
	if x.ran && running(x) {
		ran += (e.now.Mono - x.onSince).Milliseconds()
	}
	return float64(ran) / 3600_000
}

// running reports whether a control is on by what is wanted of it.
func running(x *controlled) bool { return x.Want != nil && *x.Want != 0 }

func (e *Engine) serviced(in Serviced) {
	x := e.controls[in.Control]
	if x == nil {
		return
	}
	before := e.hours(x)
	x.ServicedMS = x.RanMS
	if x.ran && running(x) {
		x.ServicedMS += (e.now.Mono - x.onSince).Milliseconds()
	}
	e.show(x)
	e.emit(Journal{Actor: in.Actor, Action: "service", Object: x.ID, Before: fmt.Sprintf("%.1f h", before), After: "0 h"})
	if p := e.points[x.ID+".hours"]; p != nil {
		e.touch(p)
	}
}

// health gives the hub's own values to their points.
func (e *Engine) health(in Health) {
	for _, id := range sorted(in.Values) {
		e.own[id] = in.Values[id]
		if p := e.points[id]; p != nil {
			p.ever, p.heard = true, e.now.Mono
			e.set(p, formula.Number(in.Values[id]))
		}
	}
}

// statePoints gives what is told of devices, controls and signals to the points that formulas name them by.
func (e *Engine) statePoints(from int) {
	text := func(id, v string) {
		if p := e.points[id]; p != nil {
			e.set(p, formula.Text(v))
		}
	}
	for _, x := range e.out[from:] {
		switch x := x.(type) {
		case SignalChanged:
			text(x.State.ID+".state", string(x.State.Fresh))
		case ControlChanged:
			text(x.State.ID+".phase", string(x.State.Phase))
			text(x.State.ID+".proof", string(x.State.Proof))
			text(x.State.ID+".limit", string(x.State.Limit))
			text(x.State.ID+".floor", x.State.Floor)
		case DeviceChanged:
			if p := e.points[x.State.ID+".online"]; p != nil {
				e.set(p, presence(x.State))
			}
			for _, a := range e.alertsAt[x.State.ID] {
				e.markAlert(a)
			}
		}
	}
}

// presence is unknown of a device that never came.
func presence(d DeviceState) formula.Value {
	if !d.Online && d.Since.IsZero() {
		return formula.Unknown
	}
	return formula.Bool(d.Online)
}

// refreshStates gives all such points their values.
func (e *Engine) refreshStates() {
	for _, id := range sorted(e.signals) {
		if p := e.points[id+".state"]; p != nil {
			p.value = formula.Text(string(e.signals[id].Fresh))
		}
	}
	for _, id := range sorted(e.controls) {
		x := e.controls[id]
		if p := e.points[id+".phase"]; p != nil {
			p.value = formula.Text(string(x.Phase))
		}
		if p := e.points[id+".proof"]; p != nil {
			p.value = formula.Text(string(x.Proof))
		}
		if p := e.points[id+".limit"]; p != nil {
			p.value = formula.Text(string(x.Limit))
		}
		if p := e.points[id+".floor"]; p != nil {
			p.value = formula.Text(x.Floor)
		}
		if p := e.points[id+".hours"]; p != nil {
			p.live = func() formula.Value { return formula.Number(e.hours(x)) }
		}
	}
	for _, id := range sorted(e.devices) {
		if p := e.points[id+".online"]; p != nil {
			p.value = presence(e.devices[id].DeviceState)
		}
	}
	for id, v := range e.own {
		if p := e.points[id]; p != nil {
			p.value = formula.Number(v)
		}
	}
}
