package tests

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/emersion/go-message/mail"
	"github.com/emersion/go-smtp"
	"github.com/stretchr/testify/require"

	"idleember/archive"
	"idleember/core/access"
	"idleember/core/alert"
	"idleember/core/reading"
	"idleember/core/site"
	"idleember/household"
	"idleember/hub"
	"idleember/pages"
	"idleember/post"
	"idleember/store"
)

// Stories of alerts: days in which values go up and down, people acknowledge and shelve, alerts are taken away and made
// again, rules speak, the hub is restarted and killed, and whoever takes mail or webhooks is out for hours. A whole hub
// lives through them in virtual time and sends to a real mail server and a real web server; what arrived there is held
// against what docs/alerts.md promises, as told by a plain simulation second by second: nothing is missing, nothing
// comes twice, and of what comes in one the worst stands first.
func TestAlertStories(t *testing.T) {
	t.Parallel()
	first, n := rand.Uint64(), Count(t, 20, 1000)
	if seed := os.Getenv("STORY"); seed != "" { // tells one of them again
		_, err := fmt.Sscan(seed, &first)
		require.NoError(t, err)
		n = 1
	}
	const side = 2
	for k := range min(side, n) {
		t.Run(fmt.Sprint(k), func(t *testing.T) {
			t.Parallel()
			s := newSinks(t)
			houses := []string{storyHouse(t, s, storyDays[0]), storyHouse(t, s, storyDays[1])}
			for i := k; i < n; i += side {
				seed := first + uint64(i)
				synctest.Test(t, newStory(seed, s, houses[seed%2], storyDays[seed%2]).live)
			}
		})
	}
}

// sinks take mail and webhooks and write down what came, by route. A route that is out refuses for now.
type sinks struct {
	web  *httptest.Server
	port int
	mu   sync.Mutex
	out  map[string]bool
	got  map[string][]string
	bad  []string // what is wrong with how many came in one
}

func newSinks(t *testing.T) *sinks {
	s := &sinks{}
	s.web = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		var x struct{ Data hub.Notice }
		if err := json.NewDecoder(q.Body).Decode(&x); err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		var list []told
		for _, n := range append([]hub.Notice{x.Data}, x.Data.Others...) {
			list = append(list, told{n.What, n.Name, n.Value, n.Severity == site.Critical})
		}
		if !s.take(strings.TrimPrefix(q.URL.Path, "/"), list) {
			http.Error(w, "not now", http.StatusServiceUnavailable)
		}
	}))
	t.Cleanup(s.web.Close)
	at, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	s.port = at.Addr().(*net.TCPAddr).Port
	server := smtp.NewServer(smtp.BackendFunc(func(*smtp.Conn) (smtp.Session, error) { return &mailSink{s: s}, nil }))
	server.Domain = "studio.example"
	go func() { _ = server.Serve(at) }()
	t.Cleanup(func() { _ = server.Close() })
	return s
}

// told is one thing that somebody is told.
type told struct {
	what, name, value string
	grave             bool
}

func (x told) weight() int {
	switch {
	case x.what == "over" || x.what == "acknowledged":
		return 0
	case x.grave:
		return 3
	}
	return 1 // of the others it is not said in a mail how grave they are
}

// key is what is counted: for a mail does not say everything, no more than that.
func (x told) key() string {
	if x.what == "acknowledged" {
		x.value = ""
	}
	return x.what + " " + x.name + " " + x.value
}

func (s *sinks) take(route string, list []told) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.out[route] {
		return false
	}
	for i, x := range list {
		s.got[route] = append(s.got[route], x.key())
		if i > 0 && x.weight() > list[i-1].weight() {
			s.bad = append(s.bad, fmt.Sprintf("%s: %v stands behind %v", route, x, list[i-1]))
		}
	}
	return true
}

type mailSink struct {
	s     *sinks
	route string
}

func (m *mailSink) Mail(string, *smtp.MailOptions) error { return nil }
func (m *mailSink) Reset()                               {}
func (m *mailSink) Logout() error                        { return nil }
func (m *mailSink) Rcpt(to string, _ *smtp.RcptOptions) error {
	m.route, _, _ = strings.Cut(to, "@")
	return nil
}

// Data reads a mail as a person does: its subject, and the headings of what came with it.
func (m *mailSink) Data(r io.Reader) error {
	parts, err := mail.CreateReader(r)
	if err != nil {
		return err
	}
	subject, err := parts.Header.Subject()
	for err == nil {
		var part *mail.Part
		if part, err = parts.NextPart(); err != nil {
			break
		}
		if kind, _, _ := part.Header.(*mail.InlineHeader).ContentType(); kind != "text/plain" {
			continue
		}
		b, err := io.ReadAll(part.Body)
		if err != nil {
			return err
		}
		sections := strings.Split(strings.ReplaceAll(string(b), "\r\n", "\n"), "\n\n")
		subject, _, _ = strings.Cut(subject, " and ")
		list := []told{read(subject, sections[0])}
		for _, x := range sections[1:] {
			heading, rest, _ := strings.Cut(x, "\n")
			list = append(list, read(heading, rest))
		}
		if !m.s.take(m.route, list) {
			return &smtp.SMTPError{Code: 451, Message: "not now"}
		}
		return nil
	}
	return cmp.Or(err, errors.New("there is no text in it"))
}

// read finds out what a heading and the lines under it say.
func read(heading, lines string) told {
	x := told{what: "raised"}
	for _, p := range []struct{ says, what string }{{"Critical, still: ", "reminder"}, {"Critical: ", "raised"},
		{"Still: ", "reminder"}, {"Over: ", "over"}, {"Acknowledged: ", "acknowledged"}} {
		if rest, ok := strings.CutPrefix(heading, p.says); ok {
			heading, x.what, x.grave = rest, p.what, strings.HasPrefix(p.says, "Critical")
			break
		}
	}
	x.name, x.value, _ = strings.Cut(heading, ", ")
	first, _, _ := strings.Cut(lines, "\n")
	switch {
	case strings.HasPrefix(x.name, "Pressed"):
		x.what = "message"
	case x.what == "over":
		x.value = strings.TrimSuffix(strings.TrimPrefix(first, "It is over: "), ".")
	}
	return x
}

func whatever(any) error { return nil } // version of what is changed

const storyZone = "Europe/Vienna"

// storyDays are shortly before clocks are set forward there, and back.
var storyDays = [2]time.Time{time.Date(2027, 3, 25, 0, 0, 0, 0, time.UTC), time.Date(2027, 10, 28, 0, 0, 0, 0,
	time.UTC)}

var storyOwner = access.Actor{Kind: access.Person, ID: "mo", Name: "Mo", Role: access.Owner}

// storyHouse is a data folder with an owner, devices, rules and a mail server, for stories to begin with.
func storyHouse(t *testing.T, s *sinks, day time.Time) string {
	ctx, dir := t.Context(), t.TempDir()
	st, err := store.Open(ctx, dir, store.Options{NoSync: true})
	require.NoError(t, err)
	began := time.Now()
	h, people, err := household.Start(ctx, st, hub.Options{Now: func() time.Time { return day.Add(time.Since(began)) },
		ClockSet: func() bool { return true }})
	require.NoError(t, err)
	require.NoError(t, people.SetUp(ctx, people.SetupCode(), "test", site.Hub{Name: "Studio", Zone: storyZone},
		household.NewMember{Account: "mo", Name: "Mo", Password: "a long enough password"}))
	secret, err := people.SignIn(ctx, "mo", "a long enough password", "", "test")
	require.NoError(t, err)
	mo, err := people.Who(secret, "test")
	require.NoError(t, err)
	_, err = people.AddMember(ctx, mo, household.NewMember{Account: "kim", Name: "Kim", Role: access.Member,
		Password: "a long enough password too"})
	require.NoError(t, err)
	for _, d := range []string{"shed", "yard"} {
		_, _, err = h.AddDevice(ctx, mo, site.Device{ID: d, Name: d, Place: d})
		require.NoError(t, err)
	}
	for _, g := range []struct {
		device, name string
		kind         site.ValueKind
	}{{"shed", "heat", site.Number}, {"yard", "level", site.Number}, {"shed", "presses", site.Number}, {"shed", "one",
		site.OnOff}, {"shed", "two", site.OnOff}} {
		s := site.Signal{ID: g.device + "." + g.name, Device: g.device, Raw: g.name, Name: site.Title(g.name), Kind: g.kind,
			Reports: site.OnChange}
		if g.name == "heat" || g.name == "level" {
			s.Decimals = 1
		}
		_, err = h.Keep(ctx, mo, s)
		require.NoError(t, err)
	}
	say := func(text string, grave bool) []site.Action {
		return []site.Action{{Kind: site.DoMessage, ID: "shed", Text: text + " {shed.presses}", Grave: grave}}
	}
	for _, r := range []site.Rule{
		{ID: "single", Name: "Single", Stages: []site.Stage{{When: "shed.one", Actions: say("Pressed one", false)}}},
		{ID: "staged", Name: "Staged", Stages: []site.Stage{{When: "shed.one", Actions: say("Pressed first", false)},
			{When: "shed.two", Actions: say("Pressed second", true), WithinMS: 2 * 3600_000}}},
	} {
		_, err = h.Keep(ctx, mo, &r)
		require.NoError(t, err)
	}
	_, err = h.Keep(ctx, mo, site.Messaging{Mail: site.Mail{Host: "127.0.0.1", Port: s.port, Security: "none",
		From: "hub@studio.example"}})
	require.NoError(t, err)
	h.Stop()
	require.NoError(t, st.Close())
	return dir
}

// story is one of them: what is set up, what happens when, and what must come of it.
type story struct {
	seed   uint64
	rnd    *rand.Rand
	s      *sinks
	house  string
	alerts []site.Alert
	routes []site.Route
	acts   []turn
	begin  time.Time // of the hub's own clock
	end    time.Duration

	t       *testing.T
	dir     string
	st      *store.Store
	h       *hub.Hub
	endPost func()
	began   time.Time // of the virtual one
	last    map[string]float64
}

// turn is something that happens at a time; of a value that goes somewhere the oracle knows by itself.
type turn struct {
	at    time.Duration
	kind  string
	id    string
	by    string
	value float64
	span  time.Duration
}

func newStory(seed uint64, s *sinks, house string, day time.Time) *story {
	x := &story{seed: seed, rnd: rand.New(rand.NewPCG(seed, 7)), s: s, house: house}
	pick := func(n int) int { return x.rnd.IntN(n) }
	minutes := func(of ...int64) int64 { return of[pick(len(of))] * 60_000 }
	severity := []site.Severity{site.Info, site.Warning, site.Critical}
	for i, a := range []site.Alert{{ID: "a", Name: "Shed alert a", Of: "shed.heat", Limit: 100}, {ID: "b",
		Name: "Shed alert b", Of: "shed.heat", Limit: 200}, {ID: "c", Name: "Yard alert c", Of: "yard.level", Limit: 50},
		{ID: "d", Name: "Yard alert d", Of: "yard.level", Limit: 60}} {
		a.Kind, a.Severity, a.Latch, a.RestMS = site.AlertAbove, severity[(i+pick(3))%3], pick(3) == 0, minutes(0, 0, 10, 90)
		x.alerts = append(x.alerts, a)
	}
	for i := range 2 + pick(3) {
		id := fmt.Sprintf("r%d", i)
		r := site.Route{ID: id, Name: id, Least: severity[pick(3)], RemindMS: minutes(0, 30, 120), AfterMS: minutes(0, 0, 45),
			Ends: pick(2) == 0, Via: site.ByWebhook, To: s.web.URL + "/" + id, Inside: true}
		if pick(2) == 0 {
			r.Via, r.To, r.Inside = site.ByMail, id+"@studio.example", false
		}
		r.Person = []string{"", "mo", "kim"}[pick(3)]
		if pick(3) == 0 {
			r.From, r.Until = "22:00", []string{"07:00", "06:30"}[pick(2)]
		}
		if pick(4) == 0 {
			r.Places = []string{[]string{"shed", "yard"}[pick(2)]}
		}
		x.routes = append(x.routes, r)
	}
	// Each act has a second of its own within the minute, so that nothing that is due whole minutes after one happens
	// together with another.
	n, last := 10+pick(40), 14*60
	for i := range n {
		a := turn{at: time.Duration(pick(last))*time.Minute + time.Duration(i+1)*time.Second, id: x.alerts[pick(4)].ID,
			by: []string{"mo", "kim"}[pick(2)]}
		switch k := pick(100); {
		case k < 35:
			a.kind, a.id = "value", []string{"shed.heat", "yard.level"}[pick(2)]
			a.value = []float64{20, 20, 55, 120, 250}[pick(5)] + float64(i)/10
		case k < 55:
			a.kind, a.id, a.value = "press", []string{"shed.one", "shed.two"}[pick(2)], float64(pick(2))
		case k < 68:
			a.kind = "acknowledge"
		case k < 73:
			a.kind, a.span = "shelve", time.Duration(1+pick(5))*time.Hour
		case k < 79:
			a.kind = "again"
		case k < 87:
			a.kind, a.id, a.span = "out", x.routes[pick(len(x.routes))].ID, time.Duration(1+pick(6))*time.Hour
		case k < 94:
			a.kind = "restart"
		default:
			a.kind = "kill"
		}
		x.acts = append(x.acts, a)
	}
	calm := time.Duration(last+60) * time.Minute // then all is well, somebody has seen everything, and what waits arrives
	for i, id := range []string{"shed.heat", "yard.level"} {
		x.acts = append(x.acts, turn{at: calm + time.Duration(55+i)*time.Second, kind: "value", id: id, value: 1})
	}
	for i, a := range x.alerts {
		x.acts = append(x.acts, turn{at: calm + 4*time.Hour + time.Duration(51+i)*time.Second, kind: "acknowledge", id: a.ID,
			by: "kim"})
	}
	slices.SortFunc(x.acts, func(a, b turn) int { return cmp.Compare(a.at, b.at) })
	x.end = calm + 15*time.Hour
	x.begin = day.Add(time.Duration(2+pick(5*24)) * time.Hour)
	return x
}

func (x *story) now() time.Time { return x.begin.Add(time.Since(x.began)) }

// open starts the hub of the story.
func (x *story) open() {
	var err error
	x.st, err = store.Open(x.t.Context(), x.dir, store.Options{NoSync: true})
	require.NoError(x.t, err)
	x.h, _, err = household.Start(x.t.Context(), x.st, hub.Options{Now: x.now, ClockSet: func() bool { return true },
		Boot: func() (string, time.Duration) { return "one", time.Since(x.began) }})
	require.NoError(x.t, err)
	quiet := slog.New(slog.DiscardHandler)
	p := post.New(x.h, x.st, archive.New(x.h, x.st, quiet), pages.New(x.h, x.st, nil, quiet), quiet)
	x.h.Carries(p)
	ctx, stop := context.WithCancel(context.WithoutCancel(x.t.Context()))
	posted := make(chan struct{})
	go func() { defer close(posted); p.Run(ctx) }()
	x.endPost = func() { stop(); <-posted }
	for _, d := range []string{"shed", "yard"} {
		x.h.Online(hub.Session{Device: d, ID: d, Link: "mqtt", Client: d})
	}
	// as boards do when they come back
	for _, id := range []string{"shed.heat", "yard.level", "shed.presses", "shed.one", "shed.two"} {
		x.sends(id, x.last[id])
	}
}

func (x *story) close() {
	x.endPost()
	x.h.Stop()
	require.NoError(x.t, x.st.Close())
}

// live lets a hub live through the story.
func (x *story) live(t *testing.T) {
	ctx := t.Context()
	x.t, x.dir, x.began, x.last = t, t.TempDir(), time.Now(), map[string]float64{}
	x.s.mu.Lock()
	x.s.out, x.s.got, x.s.bad = map[string]bool{}, map[string][]string{}, nil
	x.s.mu.Unlock()
	copyFiles(t, x.house, x.dir)
	x.open()
	for _, r := range x.routes {
		_, err := x.h.Keep(ctx, storyOwner, r)
		require.NoError(t, err)
	}
	for _, a := range x.alerts {
		_, err := x.h.Keep(ctx, storyOwner, &a)
		require.NoError(t, err)
	}
	for i, a := range x.acts {
		time.Sleep(a.at - time.Since(x.began))
		x.happens(i, a)
		synctest.Wait()
	}
	time.Sleep(x.end - time.Since(x.began))
	x.close()
	want := x.oracle()
	for _, r := range x.routes {
		got := slices.Sorted(slices.Values(x.s.got[r.ID]))
		require.Equal(t, strings.Join(want[r.ID], "\n"), strings.Join(got, "\n"), "STORY=%d, route %s\n%s", x.seed, r.ID, x)
	}
	require.Empty(t, x.s.bad, "STORY=%d", x.seed)
}

func (x *story) sends(id string, v float64) {
	device, name := site.Split(id)
	value := reading.Number(v)
	if name == "one" || name == "two" {
		value = reading.OnOff(v != 0)
	}
	x.last[id] = v
	x.h.Deliver(hub.Arrival{Session: hub.Session{Device: device, ID: device, Link: "mqtt"},
		Readings: []reading.Named{{Name: name, Value: value}}})
	synctest.Wait()
}

func (x *story) happens(i int, a turn) {
	ctx := x.t.Context()
	switch a.kind {
	case "value":
		x.sends(a.id, a.value)
	case "press":
		x.sends("shed.presses", float64(i))
		x.sends(a.id, a.value)
	case "acknowledge", "shelve":
		by := storyOwner
		if a.by == "kim" {
			by = access.Actor{Kind: access.Person, ID: "kim", Name: "Kim", Role: access.Member}
		}
		event := map[string]alert.Event{"acknowledge": alert.Acknowledge, "shelve": alert.Shelve}[a.kind]
		// there may be nothing to do
		_, _ = x.h.ActOnAlerts(ctx, by, hub.AlertAction{IDs: []string{a.id}, Event: event, Until: x.now().Add(a.span)})
	case "again":
		require.NoError(x.t, x.h.DropPart(ctx, storyOwner, "alert", a.id, whatever))
		synctest.Wait()
		_, err := x.h.Keep(ctx, storyOwner, &x.alerts[slices.IndexFunc(x.alerts,
			func(y site.Alert) bool { return y.ID == a.id })])
		require.NoError(x.t, err)
	case "out":
		x.s.mu.Lock()
		x.s.out[a.id] = true
		x.s.mu.Unlock()
		time.AfterFunc(a.span, func() {
			x.s.mu.Lock()
			delete(x.s.out, a.id)
			x.s.mu.Unlock()
		})
	case "restart":
		x.close()
		x.open()
	case "kill": // what is on the disk when nothing goes on is what is left; the old hub tells nobody anything more
		next := x.t.TempDir()
		copyFiles(x.t, x.dir, next)
		x.close()
		x.dir = next
		x.open()
	}
}

func copyFiles(t *testing.T, from, to string) {
	for _, name := range []string{store.File, store.File + "-wal"} {
		b, err := os.ReadFile(filepath.Join(from, name))
		if errors.Is(err, os.ErrNotExist) {
			continue
		}
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(to, name), b, 0o600))
	}
}

// String tells the story, for who has to find out what went wrong in it.
func (x *story) String() string {
	var b strings.Builder
	for _, a := range x.alerts {
		fmt.Fprintf(&b, "alert %s: %s above %g, %s, latch %v, rest %s\n", a.ID, a.Of, a.Limit, a.Severity, a.Latch,
			site.Millis(a.RestMS))
	}
	for _, r := range x.routes {
		fmt.Fprintf(&b, "route %s by %s for %q: from %s, after %s, again after %s, ends %v, quiet %s to %s, places %v\n",
			r.ID, r.Via, r.Person, r.Least, site.Millis(r.AfterMS), site.Millis(r.RemindMS), r.Ends, r.From, r.Until, r.Places)
	}
	zone, _ := time.LoadLocation(storyZone)
	for i, a := range x.acts {
		fmt.Fprintf(&b, "%2d %s (%s) %s %s %g %s %s\n", i, a.at, x.begin.Add(a.at).In(zone).Format("Mon 15:04:05"), a.kind,
			a.id, a.value, a.by, a.span)
	}
	return b.String()
}

// standing is how the oracle thinks of an alert.
type standing struct {
	is, up, acked, waits        bool
	since, ended, ackedAt, rest time.Duration // rest: until when it does not come again
	shelved                     time.Duration
	ackedBy, value              string
	told                        map[string]*carried
}

type carried struct {
	at    time.Duration
	known bool
}

// oracle is what the story must come to, by route: docs/alerts.md, second by second.
func (x *story) oracle() map[string][]string {
	out := map[string][]string{}
	zone, _ := time.LoadLocation(storyZone)
	minute, clock := time.Duration(-1), ""
	quiet := func(r site.Route, at time.Duration) bool {
		if r.From == "" {
			return false
		}
		if at/time.Minute != minute {
			minute, clock = at/time.Minute, x.begin.Add(at).In(zone).Format("15:04")
		}
		return clock >= r.From || clock < r.Until
	}
	states := map[string]*standing{}
	for _, a := range x.alerts {
		states[a.ID] = &standing{told: map[string]*carried{}}
	}
	values := map[string]float64{}
	armed, stage, stagedAt := map[string]bool{"single": true, "staged": true}, 0, time.Duration(0)
	type held struct {
		route, key string
		r          site.Route
	}
	var waiting []held
	speak := func(now time.Duration, text string, grave bool) {
		for _, r := range x.routes {
			if !grave && r.Least != site.Info || r.AfterMS > 0 || len(r.Places) > 0 && r.Places[0] != "shed" {
				continue
			}
			waiting = append(waiting, held{r.ID, told{what: "message", name: text}.key(), r})
			if grave || !quiet(r, now) {
				out[r.ID] = append(out[r.ID], waiting[len(waiting)-1].key)
				waiting = waiting[:len(waiting)-1]
			}
		}
	}
	raise := func(s *standing, now time.Duration, value string) {
		switch {
		case s.shelved > 0 || s.up || now < s.rest:
		case s.waits:
			s.up, s.waits = true, false
		default:
			*s = standing{is: true, up: true, since: now, ended: s.ended, rest: s.rest, value: value,
				told: map[string]*carried{}}
		}
	}
	acts := x.acts
	for now := time.Duration(0); now <= x.end; now += time.Second {
		for len(acts) > 0 && acts[0].at <= now {
			a := acts[0]
			acts = acts[1:]
			s := states[a.id]
			switch a.kind {
			case "value":
				values[a.id] = a.value
			case "press":
				presses := fmt.Sprintf("%d", len(x.acts)-len(acts)-1)
				values[a.id] = a.value
				if !(values["shed.one"] > 0) {
					armed["single"] = true
				}
				if stage == 0 && !(values["shed.one"] > 0) {
					armed["staged"] = true
				}
				if values["shed.one"] > 0 && armed["single"] {
					armed["single"] = false
					speak(now, "Pressed one "+presses, false)
				}
				if stage == 1 && now-stagedAt >= 2*time.Hour {
					stage, armed["staged"] = 0, !(values["shed.one"] > 0)
				}
				if stage == 0 && values["shed.one"] > 0 && armed["staged"] {
					stage, stagedAt, armed["staged"] = 1, now, false
					speak(now, "Pressed first "+presses, false)
				}
				if stage == 1 && values["shed.two"] > 0 {
					stage, armed["staged"] = 0, !(values["shed.one"] > 0)
					speak(now, "Pressed second "+presses, true)
				}
			case "acknowledge":
				switch {
				case s.shelved > 0:
				case s.up && !s.acked:
					s.acked, s.ackedBy, s.ackedAt = true, a.by, now
				case s.waits:
					s.waits = false
				}
			case "shelve":
				s.shelved, s.up, s.waits = now+a.span, false, false
			case "again":
				*s = standing{told: map[string]*carried{}}
			}
		}
		if stage == 1 && now-stagedAt >= 2*time.Hour {
			stage, armed["staged"] = 0, !(values["shed.one"] > 0)
		}
		for _, a := range x.alerts {
			s, v := states[a.ID], values[a.Of]
			value := fmt.Sprintf("%.1f", v)
			if is := v > a.Limit; is != s.is {
				if s.is = is; is {
					raise(s, now, value)
				} else if s.up {
					s.up, s.ended = false, now
					if a.RestMS > 0 {
						s.rest = now + site.Millis(a.RestMS)
					}
					s.waits = a.Latch && !s.acked
				}
			}
			if s.shelved > 0 && now >= s.shelved {
				s.shelved = 0
			}
			if s.is {
				raise(s, now, value)
			}
			for _, r := range x.routes {
				if !a.Severity.AtLeast(r.Least) || len(r.Places) > 0 && !strings.HasPrefix(a.Of, r.Places[0]+".") {
					continue
				}
				c := s.told[r.ID]
				say := told{name: a.Name, value: value}
				switch {
				case s.shelved > 0:
				case s.up && !s.acked || s.waits:
					if c == nil && now >= s.since+site.Millis(r.AfterMS) {
						say.what = "raised"
					} else if c != nil && r.RemindMS > 0 && now >= c.at+site.Millis(r.RemindMS) {
						say.what = "reminder"
					}
				case s.up:
					if c != nil && !c.known && s.ackedBy != r.Person {
						say.what = "acknowledged"
					}
				case c != nil && r.Ends:
					say.what = "over"
				}
				if say.what == "" || a.Severity != site.Critical && quiet(r, now) {
					continue
				}
				out[r.ID] = append(out[r.ID], say.key())
				if say.what == "over" {
					delete(s.told, r.ID)
					continue
				}
				if c == nil {
					c = &carried{}
					s.told[r.ID] = c
				}
				c.at, c.known = now, say.what == "acknowledged"
			}
		}
		waiting = slices.DeleteFunc(waiting, func(w held) bool {
			if !quiet(w.r, now) {
				out[w.route] = append(out[w.route], w.key)
				return true
			}
			return false
		})
	}
	for id := range maps.Keys(out) {
		slices.Sort(out[id])
	}
	return out
}

// Whatever tells people is made, tells, is taken away, and is made again under its id: it tells again, as one that was
// never there.
func TestMadeAgainItTellsAgain(t *testing.T) {
	t.Parallel()
	s := newSinks(t)
	house := storyHouse(t, s, storyDays[0])
	synctest.Test(t, func(t *testing.T) {
		ctx := t.Context()
		x := newStory(1, s, house, storyDays[0])
		x.t, x.dir, x.began, x.last = t, t.TempDir(), time.Now(), map[string]float64{"yard.level": 5}
		s.out, s.got = map[string]bool{}, map[string][]string{}
		copyFiles(t, house, x.dir)
		x.open()
		defer x.close()
		_, err := x.h.Keep(ctx, storyOwner, site.NewControl("shed", "lamp", "lamp", "Lamp"))
		require.NoError(t, err)
		_, err = x.h.Keep(ctx, storyOwner, &site.Automation{Control: "shed.lamp", Proof: &site.Proof{When: "shed.heat > 5000",
			WithinMS: 20_000}})
		require.NoError(t, err)
		route := site.Route{ID: "r", Name: "R", Via: site.ByWebhook, To: s.web.URL + "/r", Inside: true, Least: site.Info}
		makeRoute := func() {
			_, err := x.h.Keep(ctx, storyOwner, route)
			require.NoError(t, err)
		}
		makeRoute()
		shed := hub.Session{Device: "shed", ID: "shed", Link: "mqtt"}
		yard := hub.Session{Device: "yard", ID: "yard", Link: "mqtt"}
		ramp := func(step float64) {
			for i := range 40 {
				x.sends("shed.heat", float64(i)*step)
				time.Sleep(time.Minute)
			}
		}
		lamp := func(says *reading.Value) {
			x.sends("shed.one", 1)
			_, _ = x.h.Switch(ctx, storyOwner, "shed.lamp", reading.OnOff(true), time.Time{})
			if says != nil {
				x.h.Deliver(hub.Arrival{Session: shed, Reports: []hub.Report{{Name: "lamp", Value: *says}}})
			}
			time.Sleep(3 * time.Hour)
			_, _ = x.h.Switch(ctx, storyOwner, "shed.lamp", reading.OnOff(false), time.Time{})
			x.h.Deliver(hub.Arrival{Session: shed, Reports: []hub.Report{{Name: "lamp", Value: reading.OnOff(false)}}})
		}
		on, calm := reading.OnOff(true), func() {
			x.sends("shed.heat", 20)
			x.sends("shed.one", 0)
			require.NoError(t, x.h.Serviced(ctx, storyOwner, "shed.lamp"))
			time.Sleep(2 * time.Hour)
		}
		for _, k := range []struct {
			a     site.Alert
			cause func()
		}{
			{site.Alert{Kind: site.AlertAbove, Of: "shed.heat", Limit: 100}, func() { x.sends("shed.heat", 120) }},
			{site.Alert{Kind: site.AlertBelow, Of: "shed.heat", Limit: 10}, func() { x.sends("shed.heat", 5) }},
			{site.Alert{Kind: site.AlertOutside, Of: "shed.heat", Limit: 10, Upper: 50}, func() { x.sends("shed.heat", 70) }},
			{site.Alert{Kind: site.AlertFaster, Of: "shed.heat", Limit: 30, SpanMS: 600_000}, func() { ramp(10) }},
			{site.Alert{Kind: site.AlertTrend, Of: "shed.heat", Limit: 100, SpanMS: 3600_000}, func() { ramp(2.5) }},
			{site.Alert{Kind: site.AlertSilent, Of: "yard.level", SpanMS: 600_000},
				func() { x.sends("yard.level", 5); time.Sleep(20 * time.Minute) }},
			{site.Alert{Kind: site.AlertUnchanged, Of: "yard.level", SpanMS: 600_000}, func() {
				for i := range 25 {
					x.sends("yard.level", float64(min(i, 5)))
					time.Sleep(time.Minute)
				}
			}},
			{site.Alert{Kind: site.AlertEvent, Of: "shed.one"}, func() { x.sends("shed.one", 1) }},
			{site.Alert{Kind: site.AlertOffline, Of: "yard"}, func() {
				x.h.Offline(yard, "gone", false)
				time.Sleep(time.Minute)
				x.h.Online(yard)
			}},
			{site.Alert{Kind: site.AlertUnconfirmed, Of: "shed.lamp"}, func() { lamp(nil) }},
			{site.Alert{Kind: site.AlertNoEffect, Of: "shed.lamp"}, func() { lamp(&on) }},
			{site.Alert{Kind: site.AlertService, Of: "shed.lamp", Limit: 2}, func() { x.sends("shed.heat", 6000); lamp(&on) }},
			{site.Alert{Kind: site.AlertFormula, When: "shed.heat > 100 and shed.one"},
				func() { x.sends("shed.heat", 120); x.sends("shed.one", 1) }},
		} {
			k.a.ID, k.a.Name, k.a.Severity = "it", "It, "+string(k.a.Kind), site.Warning
			for round := range 3 {
				calm()
				_, err := x.h.Keep(ctx, storyOwner, new(k.a))
				require.NoError(t, err)
				time.Sleep(time.Hour)
				s.mu.Lock()
				s.got["r"] = nil
				s.mu.Unlock()
				k.cause()
				time.Sleep(time.Minute)
				s.mu.Lock()
				n := 0
				for _, m := range s.got["r"] {
					if strings.HasPrefix(m, "raised "+k.a.Name) {
						n++
					}
				}
				require.Equal(t, 1, n, "%s, round %d: %v", k.a.Kind, round, s.got["r"])
				s.mu.Unlock()
				require.NoError(t, x.h.DropPart(ctx, storyOwner, "alert", "it", whatever))
			}
		}
		// A rule, and the route itself.
		rule := site.Rule{ID: "again", Name: "Again", Stages: []site.Stage{{When: "shed.heat > 900",
			Actions: []site.Action{{Kind: site.DoMessage, ID: "shed", Text: "Pressed again"}}}}}
		for range 3 {
			x.sends("shed.heat", 0)
			_, err := x.h.Keep(ctx, storyOwner, &rule)
			require.NoError(t, err)
			s.mu.Lock()
			s.got["r"] = nil
			s.mu.Unlock()
			x.sends("shed.heat", 1000)
			time.Sleep(time.Minute)
			s.mu.Lock()
			require.Equal(t, []string{"message Pressed again "}, s.got["r"])
			s.mu.Unlock()
			require.NoError(t, x.h.DropPart(ctx, storyOwner, "rule", "again", whatever))
			require.NoError(t, x.h.DropPart(ctx, storyOwner, "route", "r", whatever))
			makeRoute()
		}
	})
}
