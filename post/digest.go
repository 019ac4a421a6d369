package post

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"idleember/archive"
	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/core/alert"
	"idleember/core/calendar"
	"idleember/core/fault"
	"idleember/core/series"
	"idleember/core/site"
	"idleember/core/words"
	"idleember/hub"
	"idleember/sight"
	"idleember/store"
)

// line is a sentence of a digest.
type line = shown.DigestLine

const needsSomebody = "Needs somebody now"

const (
	digestLines   = 12
	longestDigest = 32 * 24 * time.Hour
)

// Digest puts into words what happened in a stretch, as far as an actor may see it.
func (p *Post) Digest(ctx context.Context, a access.Actor, from, to time.Time) (d shown.Digest, err error) {
	if err := access.May(a, access.Audit, access.Anything); err != nil {
		return d, err
	}
	if !from.Before(to) || to.Sub(from) > longestDigest {
		return d, fault.Invalid("to", "a digest is about a stretch of up to a month, which begins before it ends")
	}
	s := p.house.Site()
	d = shown.Digest{From: from, To: to, Hub: s.Hub.Name, Zone: s.Hub.Zone, Sections: []shown.DigestSection{}}
	for _, section := range []struct {
		title string
		lines func(context.Context, access.Actor, *site.Site, time.Time, time.Time) ([]line, error)
	}{{needsSomebody, p.digestNow}, {"Alerts", p.digestAlerts}, {"Away", p.digestAway}, {"Energy", p.digestEnergy}, {"Ran",
		p.digestRuns}, {"Messages that did not arrive", p.digestPosts}} {
		lines, err := section.lines(ctx, a, s, from, to)
		if err != nil {
			return d, err
		}
		lines = sight.Seen(p.house.Sight(a), lines, func(l line) string { return l.Series })
		most := digestLines
		for most < len(lines) && lines[most].Grave { // these are all named
			most++
		}
		if more := len(lines) - most; more > 0 {
			lines = append(lines[:most], line{Text: fmt.Sprintf("and %d more", more)})
		}
		if len(lines) > 0 {
			d.Sections = append(d.Sections, shown.DigestSection{Title: section.title, Lines: lines})
		}
	}
	return d, nil
}

func (p *Post) digestNow(ctx context.Context, a access.Actor, _ *site.Site, _, _ time.Time) (lines []line, err error) {
	list, err := p.house.ActiveAlerts(ctx, a)
	for _, x := range list {
		if x.State.Phase == alert.Active || x.State.Phase == alert.Returned {
			line := line{Text: fmt.Sprintf("%s, for %s", x.Config.Name, words.Duration(p.house.Time().Sub(*x.State.Since))),
				Series: x.Config.Of}
			lines = append(lines, graded(line, x.Config.Severity))
		}
	}
	return worstFirst(lines), err
}

// of marks a line that is about something critical.
func graded(l line, s site.Severity) line {
	if l.Grave = s == site.Critical; l.Grave {
		l.Text = "Critical: " + l.Text
	}
	return l
}

func worstFirst(lines []line) []line {
	slices.SortStableFunc(lines, func(x, y line) int {
		if x.Grave == y.Grave {
			return 0
		}
		return map[bool]int{true: -1, false: 1}[x.Grave]
	})
	return lines
}

// digestAlerts counts how often each alert came, and for how long.
func (p *Post) digestAlerts(ctx context.Context, a access.Actor, s *site.Site, from, to time.Time) (lines []line,
	err error) {
	type tally struct {
		name, of string
		severity site.Severity
		count    int
		lasted   time.Duration
		began    time.Time
	}
	all := map[string]*tally{}
	var learnt []line
	events, err := p.eventsOf(ctx, from, to)
	events = p.house.Sight(a).Events(events)
	for _, e := range events {
		t := all[e.Alert]
		if t == nil {
			t = &tally{name: e.Name}
			all[e.Alert] = t
		}
		switch e.What {
		case string(alert.WasRaised):
			t.count++
			t.began = e.At
			if e.Severity.AtLeast(t.severity) {
				t.severity = e.Severity
			}
		case string(alert.WasOver):
			if t.began.IsZero() { // it came before the stretch
				t.began = from
			}
			t.lasted += e.At.Sub(t.began)
			t.began = time.Time{}
		case "learnt late":
			learnt = append(learnt, line{Text: fmt.Sprintf("%s: learnt late, %s", e.Name, e.Value)})
		}
	}
	active := map[string]bool{}
	if now, err := p.house.ActiveAlerts(ctx, access.HubActor()); err == nil {
		for _, x := range now {
			active[x.Config.ID] = x.State.Phase == alert.Active || x.State.Phase == alert.Acknowledged
		}
	}
	config := s.AllAlerts()
	list := slices.Collect(maps.Keys(all))
	slices.SortFunc(list, func(x, y string) int { return cmp.Or(all[y].count-all[x].count, cmp.Compare(x, y)) })
	for _, id := range list {
		t := all[id]
		if c := config[id]; c != nil {
			t.of = c.Of
		}
		if t.count == 0 {
			continue
		}
		if !t.began.IsZero() && active[id] {
			t.lasted += minTime(to, p.house.Time()).Sub(t.began)
		}
		text := fmt.Sprintf("%s: %s", t.name, times(t.count))
		if t.lasted >= time.Second { // an event that somebody has to clear has no length
			text += fmt.Sprintf(", %s in all", words.Duration(t.lasted))
		}
		lines = append(lines, graded(line{Text: text, Series: t.of}, t.severity))
	}
	return append(worstFirst(lines), learnt...), err
}

// eventsOf returns what became of alerts in a stretch, oldest first.
func (p *Post) eventsOf(ctx context.Context, from, to time.Time) (all []store.AlertEvent, err error) {
	const page, most = 1000, 20_000
	f := store.AlertFilter{From: from, To: to, Limit: page}
	for len(all) < most {
		list, err := p.store.AlertEvents(ctx, f)
		if err != nil {
			return nil, err
		}
		all = append(all, list...)
		if len(list) < page {
			break
		}
		f.Before = list[page-1].ID
	}
	slices.Reverse(all)
	return all, nil
}

// digestAway tells the longest time that each device was away.
func (p *Post) digestAway(ctx context.Context, a access.Actor, s *site.Site, from, to time.Time) (lines []line,
	err error) {
	type outage struct {
		name           string
		longest, total time.Duration
		at             time.Time
		count          int
	}
	var list []outage
	for _, id := range slices.Sorted(maps.Keys(s.Devices)) {
		d := s.Devices[id]
		if !d.Active() || access.May(a, access.Look, sight.OfDevice(s, d)) != nil {
			continue
		}
		gone, err := p.past.Away(ctx, id, from, to)
		if err != nil {
			return nil, err
		}
		o := outage{name: d.Name}
		for _, g := range gone {
			if lasted := time.Duration(g.To-g.From) * time.Millisecond; lasted >= time.Minute {
				o.count++
				o.total += lasted
				if lasted > o.longest {
					o.longest, o.at = lasted, time.UnixMilli(g.From)
				}
			}
		}
		if o.count > 0 {
			list = append(list, o)
		}
	}
	slices.SortStableFunc(list, func(x, y outage) int { return cmp.Compare(y.longest, x.longest) })
	for _, o := range list {
		text := fmt.Sprintf("%s: %s, from %s", o.name, words.Duration(o.longest),
			o.at.In(s.Hub.Location()).Format("Mon 15:04"))
		if o.at.UnixMilli() == from.UnixMilli() {
			text = fmt.Sprintf("%s: %s of it, and from before", o.name, words.Duration(o.longest))
		}
		if o.count > 1 {
			text += fmt.Sprintf("; %s, %s in all", times(o.count), words.Duration(o.total))
		}
		lines = append(lines, line{Text: text})
	}
	return lines, nil
}

// digestEnergy adds up what was used: from meters that count, else from power over time. Long, because it is one list
// of what is worth a line.
func (p *Post) digestEnergy(ctx context.Context, _ access.Actor, s *site.Site, from, to time.Time) (lines []line,
	err error) {
	type used struct {
		line
		kWh float64
	}
	var list []used
	kilo := map[string]float64{"W": 1e-3, "kW": 1, "W.h": 1e-3, "kW.h": 1, "MW.h": 1e3}
	for _, id := range slices.Sorted(maps.Keys(s.Signals)) {
		g := s.Signals[id]
		factor := kilo[g.Unit]
		if factor == 0 || g.Kind != site.Number || !s.Devices[g.Device].Active() {
			continue
		}
		hold := max(3*g.Interval(), 3*time.Minute)
		if g.Reports != site.Periodic {
			hold = 0
		}
		hours := hourly(from, to)
		buckets, gaps, err := p.store.Buckets(ctx, id, hours, hold, p.house.Time())
		if err != nil {
			return nil, err
		}
		sum, last, some := 0.0, 0.0, false
		for _, b := range buckets {
			switch {
			case b.Count == 0 && b.TimeMean != b.TimeMean: // nothing was known
			case g.Unit == "W" || g.Unit == "kW":
				if b.TimeMean == b.TimeMean {
					sum += b.TimeMean * float64(known(b, gaps, p.house.Time().UnixMilli())) / 3.6e6
					some = true
				}
			case b.Count > 0:
				if some && b.Last > last { // a meter that was changed begins anew
					sum += b.Last - last
				} else if !some && b.Last > b.First {
					sum += b.Last - b.First
				}
				last, some = b.Last, true
			}
		}
		if kWh := sum * factor; some && kWh >= 0.05 {
			list = append(list, used{line{Text: fmt.Sprintf("%s: %.1f kWh", called(s, g.Device, g.Name), kWh), Series: id}, kWh})
		}
	}
	slices.SortStableFunc(list, func(x, y used) int { return cmp.Compare(y.kWh, x.kWh) })
	for _, u := range list {
		lines = append(lines, u.line)
	}
	return lines, nil
}

// known is for how many milliseconds of a bucket there were readings that held.
func known(b series.Bucket, gaps []series.Span, now int64) int64 {
	ms := min(b.To, now) - b.From
	for _, g := range gaps {
		ms -= max(0, min(g.To, b.To, now)-max(g.From, b.From))
	}
	return max(0, ms)
}

// hourly are bounds at whole hours, and at both ends.
func hourly(from, to time.Time) []int64 {
	bounds := []int64{from.UnixMilli()}
	for t := from.Truncate(time.Hour).Add(time.Hour); t.Before(to); t = t.Add(time.Hour) {
		bounds = append(bounds, t.UnixMilli())
	}
	return append(bounds, to.UnixMilli())
}

// digestRuns tells how long each switch was on.
func (p *Post) digestRuns(ctx context.Context, a access.Actor, s *site.Site, from, to time.Time) (lines []line,
	err error) {
	type run struct {
		line
		ms int64
	}
	var list []run
	for _, id := range slices.Sorted(maps.Keys(s.Controls)) {
		c := s.Controls[id]
		if c.Momentary != nil || !s.Devices[c.Device].Active() || c.SeriesKind() == site.Text || access.May(a, access.Look,
			sight.OfControl(s, c)) != nil {
			continue
		}
		x, err := p.past.History(ctx, a, archive.Range{Series: id + ".is", From: from, To: to, Points: max(1,
			int(to.Sub(from)/time.Hour)), Buckets: true})
		if err != nil {
			return nil, err
		}
		on := int64(0)
		for _, b := range x.Buckets {
			on += b.OnMS
		}
		if on >= time.Minute.Milliseconds() {
			list = append(list, run{line{Text: fmt.Sprintf("%s: %s", called(s, c.Device, c.Name),
				words.Duration(site.Millis(on))), Series: id + ".is"}, on})
		}
	}
	slices.SortStableFunc(list, func(x, y run) int { return cmp.Compare(y.ms, x.ms) })
	for _, r := range list {
		lines = append(lines, r.line)
	}
	return lines, nil
}

func (p *Post) digestPosts(ctx context.Context, _ access.Actor, s *site.Site, from, to time.Time) (lines []line,
	err error) {
	failed, err := p.store.FailedDeliveries(ctx, from, to)
	for route, n := range failed {
		name := route
		if r, ok := s.Routes[route]; ok {
			name = r.Name
		}
		lines = append(lines, line{Text: fmt.Sprintf("%s: %d", name, n)})
	}
	slices.SortFunc(lines, func(x, y line) int { return cmp.Compare(x.Text, y.Text) })
	return lines, err
}

// called is a name with that of its place, where it does not say so itself.
func called(s *site.Site, device, name string) string {
	p, ok := s.Place(s.Devices[device].Place)
	if !ok || strings.Contains(strings.ToLower(name), strings.ToLower(p.Name)) {
		return name
	}
	return p.Name + ": " + name
}

func times(n int) string {
	if n == 1 {
		return "once"
	}
	return fmt.Sprintf("%d times", n)
}

func minTime(a, b time.Time) time.Time {
	if a.Before(b) {
		return a
	}
	return b
}

// tellDigest puts a digest that is due on its way. What was due while the hub was away comes when it is back; of before
// the owner wished for one, none does.
func (p *Post) tellDigest(ctx context.Context, now time.Time) error {
	s := p.house.Site()
	cfg := s.Messaging.Digest
	if cfg.Every == "" {
		return nil
	}
	due, from := calendar.LastDue(cfg.Every, cfg.At, now, s.Hub.Location())
	until, of, err := p.store.DigestTold(ctx)
	if err != nil {
		return err
	}
	if of != cfg || !due.After(until) {
		return nil
	}
	d, err := p.Digest(ctx, access.HubActor(), from, due)
	if err != nil {
		return err
	}
	n := hub.Notice{ID: hub.MessageID(), What: "digest", At: now, Name: "What happened in the last " + cfg.Every,
		Severity: site.Info, Hub: s.Hub.Name, Zone: s.Hub.Zone, Digest: &d}
	if len(d.Sections) > 0 && d.Sections[0].Title == needsSomebody && d.Sections[0].Lines[0].Grave {
		n.Name, n.Severity = strings.TrimPrefix(d.Sections[0].Lines[0].Text,
			"Critical: ")+"; and what happened in the last "+cfg.Every, site.Critical
	}
	if err := p.store.Do(ctx, store.AddDelivery(store.Delivery{MID: n.ID, Route: digestRoute, At: now.UnixMilli(),
		Body: raw(n)}), store.MarkDigest(due, cfg)); err != nil {
		return err
	}
	p.Poke()
	return nil
}
