package api

import (
	"context"
	"errors"
	"math"
	"net/http"
	"strings"
	"time"

	"idleember/archive"
	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/core/fault"
	"idleember/core/reading"
	"idleember/core/series"
	"idleember/core/site"
	"idleember/core/words"
	"idleember/household"
	"idleember/store"
)

// handlers implement the contract.
type handlers struct{ s *Server }

var errChanged = errors.New("somebody changed this meanwhile; load it again and repeat your change")

func actor(ctx context.Context) access.Actor {
	a, _ := ctx.Value(actorKey{}).(access.Actor)
	return a
}

// in puts what the hub says into the words of whoever asks.
func in[T any](ctx context.Context, s *Server, v T) T {
	return shown.In(v, s.reader(ctx, actor(ctx)), s.hub.Time())
}

// reader is how somebody reads.
func (s *Server) reader(ctx context.Context, a access.Actor) words.Reader {
	return s.people.Reader(ctx, a, s.hub.Site().Hub.Zone)
}

func from(ctx context.Context) string {
	f, _ := ctx.Value(fromKey{}).(string)
	return f
}

func cookie(ctx context.Context, value string, life time.Duration) *string {
	return cookieOf(ctx, cookieName, value, life)
}

// cookieOf is a cookie that no script reads and no other site's page sends. Over TLS it has a name of its own, which a
// browser takes from this host alone and never tells in the clear.
func cookieOf(ctx context.Context, name, value string, life time.Duration) *string {
	c := http.Cookie{Name: name, Value: value, Path: "/", HttpOnly: true, SameSite: http.SameSiteStrictMode,
		MaxAge: int(life.Seconds())}
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
	return GetSetup200JSONResponse{Needed: h.s.people.SetupCode() != "", Zones: zones}, nil
}

func (h *handlers) SetUp(ctx context.Context, r SetUpRequestObject) (SetUpResponseObject, error) {
	b := r.Body
	owner := household.NewMember{Account: b.Account, Password: b.Password}
	if b.Person != nil {
		owner.Name = *b.Person
	}
	settings := site.Hub{Name: b.Name, Latitude: b.Latitude, Longitude: b.Longitude, Zone: b.Zone}
	if err := h.s.people.SetUp(ctx, b.Code, from(ctx), settings, owner); err != nil {
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
	key, err := h.s.people.SignIn(ctx, account, password, code, from(ctx))
	if err != nil {
		return SignedInJSONResponse{}, err
	}
	if old, _ := ctx.Value(sessionKey{}).(string); old != "" { // the browser has another one now
		h.s.people.EndSession(ctx, old)
	}
	a, err := h.s.people.Who(key, from(ctx))
	return SignedInJSONResponse{Body: me(a), Headers: SignedInResponseHeaders{SetCookie: cookie(ctx, key,
		household.SessionLife)}}, err
}

func me(a access.Actor) Me { return Me{Account: a.ID, Name: a.Name, Role: Role(a.Role)} }

func (h *handlers) GetSession(ctx context.Context, _ GetSessionRequestObject) (GetSessionResponseObject, error) {
	return GetSession200JSONResponse(me(actor(ctx))), nil
}

func (h *handlers) GetPreferences(ctx context.Context, _ GetPreferencesRequestObject) (GetPreferencesResponseObject,
	error) {
	p, err := h.s.people.Preferences(ctx, actor(ctx))
	return GetPreferences200JSONResponse(p), err
}

func (h *handlers) SavePreferences(ctx context.Context, r SavePreferencesRequestObject) (SavePreferencesResponseObject,
	error) {
	p, err := h.s.people.SavePreferences(ctx, actor(ctx), *r.Body)
	return SavePreferences200JSONResponse(p), err
}

func (h *handlers) SignOut(ctx context.Context, _ SignOutRequestObject) (SignOutResponseObject, error) {
	a := actor(ctx)
	err := h.s.people.EndPass(ctx, a, a.Pass)
	return SignOut204Response{Headers: SignOut204ResponseHeaders{SetCookie: cookie(ctx, "", 0)}}, err
}

func (h *handlers) EndToken(ctx context.Context, r EndTokenRequestObject) (EndTokenResponseObject, error) {
	return EndToken204Response{}, h.s.people.EndPass(ctx, actor(ctx), r.Id)
}

// unchanged fails where an edit was made from an older version than the settings are now. It takes a quoted ETag and
// the plain version alike.
func unchanged(match *string, settings any) error {
	if match != nil && *match != "*" && strings.Trim(*match, `"`) != shown.Version(settings) {
		return errChanged
	}
	return nil
}

var errRemoved = errors.New("somebody removed this meanwhile; to make it again, save it as a new one")

// saves is for what is kept under ids: without If-Match it is made and replaces nothing, with it what is there is
// changed.
func saves(match *string) func(before any) error {
	return func(before any) error {
		switch {
		case before == nil && match != nil:
			return errRemoved
		case before == nil:
			return nil
		case match == nil:
			return fault.ErrThere
		}
		return unchanged(match, before)
	}
}

func each[A, B any](list []A, f func(A) B) []B {
	out := make([]B, len(list))
	for i, x := range list {
		out[i] = f(x)
	}
	return out
}

func text(s string) *string {
	if s == "" {
		return nil
	}
	return &s
}

// set changes a field where there is a new value.
func set[T any](field *T, v *T) {
	if v != nil {
		*field = *v
	}
}

func (h *handlers) GetNow(ctx context.Context, _ GetNowRequestObject) (GetNowResponseObject, error) {
	snap, err := h.s.hub.Now(ctx, actor(ctx))
	return GetNow200JSONResponse(in(ctx, h.s, snap)), err
}

func (h *handlers) GetLive(ctx context.Context, r GetLiveRequestObject) (GetLiveResponseObject, error) {
	x := stream{s: h.s, ctx: ctx, values: r.Params.Values != nil && *r.Params.Values}
	set(&x.lastID, r.Params.LastEventID)
	a := actor(ctx)
	x.pass = a.Pass
	x.credential = func() (access.Actor, bool) { return h.s.people.Still(a) }
	return x, nil
}

func (h *handlers) GetHistory(ctx context.Context, r GetHistoryRequestObject) (GetHistoryResponseObject, error) {
	q := archive.Range{To: h.s.hub.Time().Add(reading.MostApart)} // what was acknowledged just now is in it
	set(&q.To, r.Params.To)
	q.From = q.To.Add(-24 * time.Hour)
	set(&q.From, r.Params.From)
	set(&q.Points, r.Params.Points)
	set(&q.Buckets, r.Params.Buckets)
	out := GetHistory200JSONResponse{}
	for _, q.Series = range r.Params.Series {
		got, err := h.s.archive.History(ctx, actor(ctx), q)
		if err != nil {
			return nil, err
		}
		out = append(out, history(got))
	}
	return out, nil
}

func history(x archive.History) History {
	out := History{Series: x.Series, Name: x.Name, Unit: x.Unit, Kind: Kind(x.Kind), Decimals: x.Decimals, From: x.From,
		To: x.To, StepMs: x.Step.Milliseconds(), HoldMs: x.Hold.Milliseconds(), T: []int64{}, Gaps: [][]int64{}}
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

func (h *handlers) ListRefusals(ctx context.Context, r ListRefusalsRequestObject) (ListRefusalsResponseObject, error) {
	list, err := h.s.hub.Refusals(ctx, actor(ctx), r.Id)
	return ListRefusals200JSONResponse(each(list, func(x store.Refusal) Refusal {
		return Refusal{N: x.N, At: time.UnixMilli(x.At), Link: x.Link, Topic: x.Topic,
			Payload: strings.ToValidUTF8(string(x.Payload), "�"), Bytes: x.Bytes, Reason: x.Reason}
	})), err
}
