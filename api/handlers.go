package api

import (
	"context"
	"errors"
	"math"
	"net/http"
	"strings"
	"time"

	"idleember/core/access"
	"idleember/core/reading"
	"idleember/core/series"
	"idleember/core/site"
	"idleember/hub"
	"idleember/starter"
	"idleember/store"
)

// handlers implement the contract.
type handlers struct{ s *Server }

var errChanged = errors.New("somebody changed this meanwhile; load it again and repeat your change")

func actor(ctx context.Context) access.Actor {
	a, _ := ctx.Value(actorKey{}).(access.Actor)
	return a
}

func from(ctx context.Context) string {
	f, _ := ctx.Value(fromKey{}).(string)
	return f
}

func cookie(ctx context.Context, value string, life time.Duration) *string {
	return cookieOf(ctx, cookieName, value, life)
}

// cookieOf is a cookie that no script reads and no other site's page sends. Over TLS it has a name of its own, which a browser takes
// from this host alone and never tells in the clear.
func cookieOf(ctx context.Context, name, value string, life time.Duration) *string {
	c := http.Cookie{Name: name, Value: value, Path: "/", HttpOnly: true, SameSite: http.SameSiteStrictMode, MaxAge: int(life.Seconds())}
	if secure, _ := ctx.Value(secureKey{}).(bool); secure {
		c.Name, c.Secure = safely+name, true
	}
	if value == "" {
		c.MaxAge = -1
	}
	text := c.String()
	return &text
}

func (h *handlers) GetSetup(context.Context, GetSetupRequestObject) (GetSetupResponseObject, error) {
	return GetSetup200JSONResponse{Needed: h.s.hub.SetupCode() != "", Zones: zones}, nil
}

func (h *handlers) SetUp(ctx context.Context, r SetUpRequestObject) (SetUpResponseObject, error) {
	b := r.Body
	owner := hub.NewMember{Account: b.Account, Password: b.Password}
	if b.Person != nil {
		owner.Name = *b.Person
	}
	settings := site.Hub{Name: b.Name, Latitude: b.Latitude, Longitude: b.Longitude, Zone: b.Zone}
	if err := h.s.hub.SetUp(ctx, b.Code, from(ctx), settings, owner); err != nil {
		return nil, err
	}
	in, err := h.signIn(ctx, b.Account, b.Password, "")
	return SetUp201JSONResponse{in}, err
}

func (h *handlers) SignIn(ctx context.Context, r SignInRequestObject) (SignInResponseObject, error) {
	code := ""
	set(&code, r.Body.Code)
	in, err := h.signIn(ctx, r.Body.Account, r.Body.Password, code)
	return SignIn201JSONResponse{in}, err
}

func (h *handlers) signIn(ctx context.Context, account, password, code string) (SignedInJSONResponse, error) {
	key, err := h.s.hub.SignIn(ctx, account, password, code, from(ctx))
	if err != nil {
		return SignedInJSONResponse{}, err
	}
	if old, _ := ctx.Value(sessionKey{}).(string); old != "" { // the browser has another one now
		h.s.hub.EndSession(ctx, old)
	}
	a, _, err := h.s.hub.Who(key, from(ctx))
	return SignedInJSONResponse{Body: me(a), Headers: SignedInResponseHeaders{SetCookie: cookie(ctx, key, hub.SessionLife)}}, err
}

func me(a access.Actor) Me { return Me{Account: a.ID, Name: a.Name, Role: Role(a.Role)} }

func (h *handlers) GetSession(ctx context.Context, _ GetSessionRequestObject) (GetSessionResponseObject, error) {
	return GetSession200JSONResponse(me(actor(ctx))), nil
}

func (h *handlers) GetPreferences(ctx context.Context, _ GetPreferencesRequestObject) (GetPreferencesResponseObject, error) {
	p, err := h.s.hub.Preferences(ctx, actor(ctx))
	return GetPreferences200JSONResponse(p), err
}

func (h *handlers) SavePreferences(ctx context.Context, r SavePreferencesRequestObject) (SavePreferencesResponseObject, error) {
	p, err := h.s.hub.SavePreferences(ctx, actor(ctx), *r.Body)
	return SavePreferences200JSONResponse(p), err
}

func (h *handlers) SignOut(ctx context.Context, _ SignOutRequestObject) (SignOutResponseObject, error) {
	id, _ := ctx.Value(passKey{}).(string)
	err := h.s.hub.EndPass(ctx, actor(ctx), id)
	return SignOut204Response{Headers: SignOut204ResponseHeaders{SetCookie: cookie(ctx, "", 0)}}, err
}

func (h *handlers) EndToken(ctx context.Context, r EndTokenRequestObject) (EndTokenResponseObject, error) {
	return EndToken204Response{}, h.s.hub.EndPass(ctx, actor(ctx), r.Id)
}

func (h *handlers) hub(v site.Hub) (Hub, *string) {
	etag := `"` + hub.Version(v) + `"`
	st := h.s.hub.Status()
	at := h.s.o.Addresses
	mqttOpen := !starter.Loopback(at.MQTT)
	idle := int(v.Idle() / (24 * time.Hour))
	return Hub{Name: v.Name, JournalDays: &v.JournalDays, IdleDays: &idle, Latitude: v.Latitude, Longitude: v.Longitude, Zone: v.Zone, Version: st.Version, Time: st.Time,
		Http: at.HTTP, Mqtt: at.MQTT, Https: text(at.HTTPS), Mqtts: text(at.MQTTS), Udp: text(at.UDP), Open: !starter.Loopback(at.HTTP), MqttOpen: &mqttOpen, Zones: zones}, &etag
}

func (h *handlers) GetHub(ctx context.Context, _ GetHubRequestObject) (GetHubResponseObject, error) {
	v, err := h.s.hub.Settings(ctx, actor(ctx))
	body, etag := h.hub(v)
	return GetHub200JSONResponse{Body: body, Headers: GetHub200ResponseHeaders{ETag: etag}}, err
}

func (h *handlers) ChangeHub(ctx context.Context, r ChangeHubRequestObject) (ChangeHubResponseObject, error) {
	v, err := h.s.hub.ChangeHub(ctx, actor(ctx), func(v *site.Hub) error {
		if err := unchanged(r.Params.IfMatch, *v); err != nil {
			return err
		}
		set(&v.Name, r.Body.Name)
		set(&v.Latitude, r.Body.Latitude)
		set(&v.Longitude, r.Body.Longitude)
		set(&v.Zone, r.Body.Zone)
		set(&v.JournalDays, r.Body.JournalDays)
		set(&v.IdleDays, r.Body.IdleDays)
		return nil
	})
	body, etag := h.hub(v)
	return ChangeHub200JSONResponse{Body: body, Headers: ChangeHub200ResponseHeaders{ETag: etag}}, err
}

// unchanged fails where an edit was made from an older version than the settings are now. It takes a quoted ETag and the
// plain version alike.
func unchanged(match *string, settings any) error {
	if match != nil && *match != "*" && strings.Trim(*match, `"`) != hub.Version(settings) {
		return errChanged
	}
	return nil
}

var errRemoved = errors.New("somebody removed this meanwhile; to make it again, save it as a new one")

// saves is for what is kept under ids: without If-Match it is made and replaces nothing, with it what is there is changed.
func saves(match *string) func(before any) error {
	return func(before any) error {
		switch {
		case before == nil && match != nil:
			return errRemoved
		case before == nil:
			return nil
		case match == nil:
			return hub.ErrThere
		}
		return unchanged(match, before)
	}
}

// set changes a field where there is a new value.
func set[T any](field *T, v *T) {
	if v != nil {
		*field = *v
	}
}

func (h *handlers) GetNow(ctx context.Context, _ GetNowRequestObject) (GetNowResponseObject, error) {
	snap, err := h.s.hub.Now(ctx, actor(ctx))
	return GetNow200JSONResponse(snapshot(snap)), err
}

func (h *handlers) GetLive(ctx context.Context, r GetLiveRequestObject) (GetLiveResponseObject, error) {
	x := stream{s: h.s, ctx: ctx, values: r.Params.Values != nil && *r.Params.Values}
	set(&x.lastID, r.Params.LastEventID)
	a := actor(ctx)
	pass, _ := ctx.Value(passKey{}).(string)
	x.pass = pass
	x.credential = func() (access.Actor, bool) { return h.s.hub.Still(a, pass) }
	return x, nil
}

func (h *handlers) GetHistory(ctx context.Context, r GetHistoryRequestObject) (GetHistoryResponseObject, error) {
	q := hub.Range{To: h.s.hub.Time().Add(reading.MostApart)} // what was acknowledged just now is in it
	set(&q.To, r.Params.To)
	q.From = q.To.Add(-24 * time.Hour)
	set(&q.From, r.Params.From)
	set(&q.Points, r.Params.Points)
	set(&q.Buckets, r.Params.Buckets)
	out := GetHistory200JSONResponse{}
	for _, q.Series = range r.Params.Series {
		got, err := h.s.hub.History(ctx, actor(ctx), q)
		if err != nil {
			return nil, err
		}
		out = append(out, history(got))
	}
	return out, nil
}

func history(x hub.History) History {
	out := History{Series: x.Series, Name: x.Name, Unit: x.Unit, Kind: Kind(x.Kind), Decimals: x.Decimals, From: x.From, To: x.To,
		StepMs: x.Step.Milliseconds(), HoldMs: x.Hold.Milliseconds(), T: []int64{}, Gaps: [][]int64{}}
	for _, g := range x.Gaps {
		out.Gaps = append(out.Gaps, []int64{g.From, g.To})
	}
	if x.Buckets == nil {
		v, bad := []Value{}, []int{}
		for i, r := range x.Readings {
			out.T, v = append(out.T, r.T), append(v, r.Value)
			if r.Quality == reading.Bad {
				bad = append(bad, i)
			}
		}
		out.V, out.Bad = &v, &bad
		if x.More {
			out.More = &x.More
		}
		return out
	}
	n := len(x.Buckets)
	// Without a reading of its own a bucket has what held all the time.
	held := func(b series.Bucket) bool { return b.OnMS > 0 || x.Kind == site.Number && !math.IsNaN(b.TimeMean) }
	floats := func(get func(int) float64) *[]float64 {
		col := make([]float64, 0, n)
		for i, b := range x.Buckets {
			if b.Count > 0 || held(b) {
				v := get(i)
				if b.Count == 0 {
					v = b.TimeMean
				}
				if math.IsNaN(v) {
					v = 0
				}
				col = append(col, v)
			}
		}
		return &col
	}
	count, on := make([]int, 0, n), make([]int64, 0, n)
	for _, b := range x.Buckets {
		if b.Count > 0 || held(b) {
			out.T, count, on = append(out.T, b.From), append(count, b.Count), append(on, b.OnMS)
		}
	}
	out.Count, out.OnMs = &count, &on
	out.Min = floats(func(i int) float64 { return x.Buckets[i].Min })
	out.Max = floats(func(i int) float64 { return x.Buckets[i].Max })
	out.Mean = floats(func(i int) float64 { return x.Buckets[i].Mean })
	out.TimeMean = floats(func(i int) float64 { return x.Buckets[i].TimeMean })
	out.First = floats(func(i int) float64 { return x.Buckets[i].First })
	out.Last = floats(func(i int) float64 { return x.Buckets[i].Last })
	return out
}

func (h *handlers) GetControl(ctx context.Context, r GetControlRequestObject) (GetControlResponseObject, error) {
	v, err := h.s.hub.Control(ctx, actor(ctx), r.Id)
	return GetControl200JSONResponse(control(v)), err
}

func (h *handlers) ChangeControl(ctx context.Context, r ChangeControlRequestObject) (ChangeControlResponseObject, error) {
	v, err := h.s.hub.SaveControl(ctx, actor(ctx), r.Id, func(c *site.Control) error {
		b := r.Body
		if err := unchanged(r.Params.IfMatch, *c); err != nil {
			return err
		}
		set(&c.Name, b.Name)
		set(&c.ConfirmAfterMS, b.ConfirmAfterMs)
		set(&c.ResumeWithinMS, b.ResumeWithinMs)
		change := controlShape{b.Kind, b.Options, b.Lowest, b.Momentary, b.Ask, b.Safe}
		if err := change.apply(c); err != nil {
			return err
		}
		set(&c.Dangerous, b.Dangerous)
		set(&c.AtDevice, (*site.AtDevice)(b.AtDevice))
		set(&c.Answers, b.Answers)
		set(&c.Guests, (*site.Guests)(b.Guests))
		set(&c.Source, b.Source)
		set(&c.Target, b.Target)
		return nil
	})
	return ChangeControl200JSONResponse(control(v)), err
}

func (h *handlers) ChangeSignal(ctx context.Context, r ChangeSignalRequestObject) (ChangeSignalResponseObject, error) {
	v, err := h.s.hub.ChangeSignal(ctx, actor(ctx), r.Id, func(s *site.Signal) error {
		b := r.Body
		if err := unchanged(r.Params.IfMatch, *s); err != nil {
			return err
		}
		set(&s.Name, b.Name)
		set(&s.Unit, b.Unit)
		set(&s.Decimals, b.Decimals)
		set(&s.Reports, (*site.Reports)(b.Reports))
		set(&s.IntervalMS, b.IntervalMs)
		set(&s.Guests, (*site.Guests)(b.Guests))
		set(&s.Source, b.Source)
		set(&s.Calibration, b.Calibration)
		set(&s.Sense, b.Sense)
		set(&s.Keep, b.Keep)
		set(&s.AcceptMS, b.AcceptMs)
		return nil
	})
	return ChangeSignal200JSONResponse(signal(v)), err
}

func (h *handlers) ListRefusals(ctx context.Context, r ListRefusalsRequestObject) (ListRefusalsResponseObject, error) {
	list, err := h.s.hub.Refusals(ctx, actor(ctx), r.Id)
	return ListRefusals200JSONResponse(each(list, func(x store.Refusal) Refusal {
		return Refusal{N: x.N, At: time.UnixMilli(x.At), Link: x.Link, Topic: x.Topic, Payload: strings.ToValidUTF8(string(x.Payload), "�"),
			Bytes: x.Bytes, Reason: x.Reason}
	})), err
}
