// Package api is the hub's HTTP interface: the contract in openapi.yaml, its handlers, sign-in and the live stream.
package api

import (
	"context"
	"crypto/sha256"
	_ "embed" // for the contract
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/getkin/kin-openapi/routers/legacy"
	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"

	"idleember/archive"
	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/core/fault"
	"idleember/core/picture"
	"idleember/household"
	"idleember/hub"
	"idleember/link/door"
	"idleember/pages"
	"idleember/post"
	"idleember/starter"
	"idleember/store"
)

//go:generate go tool oapi-codegen -config gen.yaml openapi.yaml
//go:generate go run idleember/scripts/alias api idleember/contract ../contract

//go:embed openapi.yaml
var contract []byte

const (
	base       = "/api/v1"
	cookieName = "ember_session"
	wallCookie = "ember_wall"
	safely     = "__Host-" // before a cookie's name over TLS
	maxBody    = 64 << 10
	maxImport  = 2 << 20 // of readings that are brought in
	maxBoard   = 1 << 20 // of a dashboard
)

// Options of New.
type Options struct {
	Log *slog.Logger
	// Addresses are those that the hub listens on.
	Addresses starter.Addresses
	// Authority is the PEM certificate of the hub's own authority, for boards that connect with TLS; nil: none.
	Authority []byte
	// Mount holds what else answers on this server, by the beginning of its path.
	Mount map[string]http.Handler
	// Console holds the built console.
	Console fs.FS
	// Proxies are those that are believed who asks and whether over TLS.
	Proxies []netip.Prefix
	// Door counts the connections, and is told who is known; nil: nobody counts them.
	Door *door.Keeper
	// Hosts are names beside its own that the hub answers to.
	Hosts []string
	// Trusted says that its certificate is one that every browser trusts, so that they may be told to come by TLS alone.
	Trusted bool
	// Level is that of the log, to be changed while it runs; nil: it is not.
	Level *slog.LevelVar
}

// Server answers HTTP requests for a hub. Use New to make one.
type Server struct {
	hub     *hub.Hub
	people  *household.People
	post    *post.Post
	pages   *pages.Pages
	archive *archive.Archive
	upkeep  Upkeep
	o       Options
	router  routers.Router
	doc     *openapi3.T
	quit    chan struct{}

	streams streams
	refused refusals
	policy  string // of the console's page
	echo    *echo.Echo
	from    func(*http.Request) string // who asked the proxies
}

// Upkeep is what the interface asks of whoever keeps the hub safe.
type Upkeep interface {
	BackUp(ctx context.Context, a access.Actor) (store.Backup, error)
	BackupsElsewhere(ctx context.Context, a access.Actor) ([]store.Backup, error)
	FetchBackup(ctx context.Context, a access.Actor, name string) (store.Backup, error)
	Drill(ctx context.Context, a access.Actor) error
	Storage(ctx context.Context, a access.Actor) (shown.Storage, error)
}

// Rooms are what the interface opens.
type Rooms struct {
	Hub     *hub.Hub
	People  *household.People
	Post    *post.Post
	Pages   *pages.Pages
	Archive *archive.Archive
	Upkeep  Upkeep
}

// New makes a server.
func New(r Rooms, o Options) (*Server, error) {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	doc, err := openapi3.NewLoader().LoadFromData(contract)
	if err != nil {
		return nil, fmt.Errorf("api: the contract: %w", err)
	}
	router, err := legacy.NewRouter(doc)
	if err != nil {
		return nil, fmt.Errorf("api: the contract: %w", err)
	}
	s := &Server{hub: r.Hub, people: r.People, post: r.Post, pages: r.Pages, archive: r.Archive, upkeep: r.Upkeep, o: o,
		router: router, doc: doc, quit: make(chan struct{}), echo: echo.New(), from: fromProxies(o.Proxies)}
	if page, err := fs.ReadFile(o.Console, "index.html"); err == nil {
		s.policy = policyFor(page)
	}
	e := s.echo
	e.Logger = o.Log
	e.HTTPErrorHandler = s.fail
	e.Use(middleware.Recover(), s.headers, s.hosted)
	e.Use(middleware.GzipWithConfig(middleware.GzipConfig{Skipper: s.unpacked, MinLength: 1024}))
	group := e.Group(base, crossOrigin(), s.bodyLimit, s.guard)
	s.parts(group)
	RegisterHandlers(group, NewStrictHandler(&handlers{s}, nil))
	group.RouteNotFound("/*", func(*echo.Context) error {
		return echo.NewHTTPError(http.StatusNotFound, "no such operation; /api/docs lists them")
	})
	e.GET("/api/openapi.yaml", func(c *echo.Context) error { return c.Blob(http.StatusOK, "application/yaml", contract) })
	e.GET("/api/docs", s.docs)
	e.GET("/api/docs.css", func(c *echo.Context) error { return c.Blob(http.StatusOK, "text/css", docsStyle) })
	e.GET("/readyz", s.ready)
	e.GET("/metrics", s.metrics)
	e.GET("/healthz", func(c *echo.Context) error { return c.String(http.StatusOK, "ok\n") })
	for path, h := range o.Mount {
		e.Any(path, echo.WrapHandler(h))
		if strings.HasSuffix(path, "/") {
			e.Any(path+"*", echo.WrapHandler(h))
		}
	}
	e.GET("/ca.pem", func(c *echo.Context) error {
		if o.Authority == nil {
			return echo.NewHTTPError(http.StatusNotFound, "the hub shows a given certificate and has no authority of its own")
		}
		return c.Blob(http.StatusOK, "application/x-pem-file", o.Authority)
	})
	e.GET("/api/device-model.schema.json", func(c *echo.Context) error {
		return c.JSONBlob(http.StatusOK, modelSchema(doc))
	})
	e.GET("/*", s.console)
	return s, nil
}

// unpacked says which answers are not compressed: the live stream, and what speaks for itself.
func (s *Server) unpacked(c *echo.Context) bool {
	path := c.Request().URL.Path
	for prefix := range s.o.Mount {
		if strings.HasPrefix(path, prefix) {
			return true
		}
	}
	return path == base+"/live"
}

// ServeHTTP answers a request.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	at := door.From(r.Context())
	at.Busy()
	p := pace(w, at)
	defer p.end()
	s.echo.ServeHTTP(p, s.behind(r))
}

// behind is a request as the proxy tells that it came, where a trusted one passed it on.
func (s *Server) behind(r *http.Request) *http.Request {
	at, err := netip.ParseAddrPort(r.RemoteAddr)
	if err != nil || !slices.ContainsFunc(s.o.Proxies,
		func(p netip.Prefix) bool { return p.Contains(at.Addr().Unmap()) }) {
		return r
	}
	r = r.WithContext(context.WithValue(context.WithValue(r.Context(), secureKey{},
		r.Header.Get("X-Forwarded-Proto") == "https"), proxyKey{}, true))
	r.RemoteAddr = net.JoinHostPort(s.from(r), "0")
	return r
}

// fromProxies finds the address nearest to us that is none of a trusted proxy.
func fromProxies(proxies []netip.Prefix) func(*http.Request) string {
	trust := []echo.TrustOption{echo.TrustLoopback(false), echo.TrustLinkLocal(false), echo.TrustPrivateNet(false)}
	for _, p := range proxies {
		trust = append(trust, echo.TrustIPRange(&net.IPNet{IP: p.Addr().AsSlice(), Mask: net.CIDRMask(p.Bits(),
			p.Addr().BitLen())}))
	}
	return echo.ExtractIPFromXFFHeader(trust...)
}

// safe reports whether a request came over TLS, to us or to a proxy.
func safe(r *http.Request) bool {
	told, _ := r.Context().Value(secureKey{}).(bool)
	return r.TLS != nil || told
}

// EndStreams ends all live streams, so that a stopping server need not wait for them.
func (s *Server) EndStreams() { close(s.quit) }

const policy = "default-src 'self'; img-src 'self' data:; object-src 'none'; base-uri 'none'; frame-ancestors " +
	"'none'; form-action 'self'"

// policyFor is the policy for a page that has scripts and styles within: those, by their digest, and no others.
func policyFor(page []byte) string {
	p := policy
	for tag, kind := range map[string]string{"script": "script-src", "style": "style-src"} {
		p += "; " + kind + " 'self'"
		for _, m := range regexp.MustCompile(`(?s)<`+tag+`>(.*?)</`+tag+`>`).FindAllSubmatch(page, -1) {
			sum := sha256.Sum256(m[1])
			p += " 'sha256-" + base64.StdEncoding.EncodeToString(sum[:]) + "'"
		}
	}
	return p
}

// headers sets what keeps a browser safe.
func (s *Server) headers(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		h := c.Response().Header()
		h.Set("Content-Security-Policy", policy)
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "no-referrer")
		if path := c.Request().URL.Path; strings.HasPrefix(path, "/api/") || path == "/metrics" || path == "/readyz" ||
			path == "/healthz" {
			h.Set("Cache-Control", "no-store")
		}
		if s.o.Trusted && c.Request().TLS != nil {
			h.Set("Strict-Transport-Security", "max-age=31536000")
		}
		return next(c)
	}
}

// crossOrigin refuses changes that another site's page asks a signed-in browser for.
func crossOrigin() echo.MiddlewareFunc {
	p := http.NewCrossOriginProtection()
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		return func(c *echo.Context) error {
			if err := p.Check(c.Request()); err != nil {
				return echo.NewHTTPError(http.StatusForbidden,
					"the request comes from another site's page; open the hub's own console")
			}
			return next(c)
		}
	}
}

type actorKey struct{}
type wallKey struct{} // the cookie of a wall

// guard finds out who asks, checks the coarse right that the contract names, and checks the request against the
// contract.
func (s *Server) guard(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		r := c.Request()
		route, params, err := s.router.FindRoute(r)
		if err != nil {
			return s.noOperation(c, r)
		}
		from := address(r)
		ctx := context.WithValue(r.Context(), fromKey{}, from)
		ctx = context.WithValue(ctx, secureKey{}, safe(r))
		if v := cookieValue(r, cookieName); v != "" {
			ctx = context.WithValue(ctx, sessionKey{}, v)
		}
		if v := cookieValue(r, wallCookie); v != "" {
			ctx = context.WithValue(ctx, wallKey{}, v)
		}
		right, _ := route.Operation.Extensions["x-right"].(string)
		if right != "none" {
			actor, err := s.people.Who(credential(r), from)
			if err != nil {
				return err
			}
			if s.o.Door != nil {
				s.o.Door.Meet(from)
			}
			if err := access.Coarse(actor, access.Action(right)); err != nil {
				return err
			}
			ctx = context.WithValue(ctx, actorKey{}, actor)
		}
		if err := knownQuery(route, r); err != nil {
			return err
		}
		r = r.WithContext(ctx)
		err = openapi3filter.ValidateRequest(ctx, &openapi3filter.RequestValidationInput{Request: r, PathParams: params,
			Route: route, Options: &openapi3filter.Options{AuthenticationFunc: openapi3filter.NoopAuthenticationFunc}})
		if err != nil {
			return invalid(err)
		}
		c.SetRequest(r)
		return next(c)
	}
}

// noOperation tells a path that there is not from one that is there for other methods.
func (s *Server) noOperation(c *echo.Context, r *http.Request) error {
	var may []string
	for _, method := range []string{http.MethodGet, http.MethodPost, http.MethodPut, http.MethodPatch, http.MethodDelete} {
		other := r.Clone(r.Context())
		other.Method = method
		if _, _, err := s.router.FindRoute(other); err == nil {
			may = append(may, method)
		}
	}
	if len(may) == 0 {
		return echo.NewHTTPError(http.StatusNotFound, "no such operation; /api/docs lists them")
	}
	allow := strings.Join(may, ", ")
	c.Response().Header().Set("Allow", allow)
	return echo.NewHTTPError(http.StatusMethodNotAllowed, fmt.Sprintf("%s is not possible here; use %s", r.Method, allow))
}

// knownQuery refuses parameters that an operation does not have: whoever mistypes one would take the answer for what
// was asked.
func knownQuery(route *routers.Route, r *http.Request) error {
	var known []string
	for _, list := range []openapi3.Parameters{route.PathItem.Parameters, route.Operation.Parameters} {
		for _, p := range list {
			if p.Value.In == openapi3.ParameterInQuery {
				known = append(known, p.Value.Name)
			}
		}
	}
	for name := range r.URL.Query() {
		if slices.Contains(known, name) {
			continue
		}
		why := fmt.Sprintf("there is no parameter %.40q here", name)
		if len(known) > 0 {
			why += "; there is " + strings.Join(known, ", ")
		}
		return &fault.InvalidError{Field: name, Reason: why}
	}
	return nil
}

type fromKey struct{}
type sessionKey struct{} // the cookie of a session
type secureKey struct{}  // the request came over TLS

func address(r *http.Request) string {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		return r.RemoteAddr
	}
	return host
}

// credential is the bearer token, else the cookie of a session, else that of a wall.
func credential(r *http.Request) string {
	if token, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); ok {
		return strings.TrimSpace(token)
	}
	for _, name := range []string{cookieName, wallCookie} { // who is signed in is more than what stands on a wall
		if v := cookieValue(r, name); v != "" {
			return v
		}
	}
	return ""
}

// cookieValue is that of a cookie, over TLS only of the one that was never told in the clear.
func cookieValue(r *http.Request, name string) string {
	if safe(r) {
		name = safely + name
	}
	if c, err := r.Cookie(name); err == nil {
		return c.Value
	}
	return ""
}

// invalid puts what the contract's checker found into a sentence.
func invalid(err error) error {
	var big *http.MaxBytesError
	if errors.As(err, &big) {
		return echo.NewHTTPError(http.StatusRequestEntityTooLarge, fmt.Sprintf("the body is longer than %d bytes", big.Limit))
	}
	if errors.Is(err, os.ErrDeadlineExceeded) {
		return echo.NewHTTPError(http.StatusRequestTimeout,
			"the body did not come within a minute; send it at once, or in portions")
	}
	field, why := "", ""
	var se *openapi3.SchemaError
	var re *openapi3filter.RequestError
	switch {
	case errors.As(err, &se):
		field = strings.Join(se.JSONPointer(), ".")
		why = se.Reason
		if se.SchemaField == "type" && se.Schema.Type != nil {
			why = fmt.Sprintf("is %s; expected a value of type %s", kindOf(se.Value), strings.Join(se.Schema.Type.Slice(),
				" or "))
		}
	case errors.As(err, &re) && re.Err != nil:
		why = strings.ReplaceAll(re.Err.Error(), "\n", " ")
	default:
		why = strings.ReplaceAll(err.Error(), "\n", " ")
	}
	if errors.As(err, &re) {
		switch {
		case re.Parameter != nil && field == "":
			field = re.Parameter.Name
		case re.RequestBody != nil && field == "" && se == nil:
			why = "the body cannot be read: " + why
		}
	}
	if field != "" && !strings.Contains(why, field) {
		why = field + " " + why
	}
	return &fault.InvalidError{Field: field, Reason: why}
}

func kindOf(v any) string {
	switch v := v.(type) {
	case nil:
		return "null"
	case string:
		return fmt.Sprintf("the text %.40q", v)
	case bool:
		return fmt.Sprintf("%t", v)
	case float64:
		return fmt.Sprintf("the number %g", v)
	case []any:
		return "a list"
	default:
		return "an object"
	}
}

// fail answers with a problem. Long, because it is one case for each error and its status.
func (s *Server) fail(c *echo.Context, err error) {
	p := Problem{Status: http.StatusInternalServerError, Title: "The hub failed",
		Detail: "something unforeseen went wrong; the hub's log says more"}
	var (
		notFound *fault.NotFoundError
		bad      *fault.InvalidError
		denied   *access.Denied
		many     *fault.TooManyError
		stored   *fault.UnsavedError
		remote   *fault.RemoteError
		factor   *household.FactorError
		exists   *fault.ExistsError
		web      *echo.HTTPError
		coder    echo.HTTPStatusCoder
	)
	set := func(status int, title, detail string) { p.Status, p.Title, p.Detail = status, title, detail }
	switch {
	case errors.As(err, &notFound):
		set(http.StatusNotFound, "Not found", err.Error())
		if len(notFound.Nearest) > 0 {
			p.Nearest = &notFound.Nearest
		}
	case errors.As(err, &bad):
		set(http.StatusBadRequest, "Not valid", err.Error())
		if bad.Field != "" {
			p.Field = &bad.Field
		}
	case errors.As(err, &denied):
		set(http.StatusForbidden, "Not allowed", err.Error())
	case errors.As(err, &many):
		set(http.StatusTooManyRequests, "Too many tries", err.Error())
		c.Response().Header().Set("Retry-After", fmt.Sprint(int(many.Wait.Seconds())+1))
	case errors.As(err, &stored):
		set(http.StatusServiceUnavailable, "Not stored", err.Error())
		c.Response().Header().Set("Retry-After", "30")
	case errors.As(err, &remote):
		set(http.StatusBadGateway, "No answer", err.Error())
	case errors.Is(err, household.ErrProve):
		set(http.StatusForbidden, "Password needed", err.Error())
		field := "proof"
		p.Field = &field
	case errors.Is(err, household.ErrFactor), errors.As(err, &factor):
		set(http.StatusUnauthorized, "Second factor", err.Error())
		field := "code"
		p.Field = &field
	case errors.Is(err, household.ErrInvite):
		set(http.StatusGone, "Invitation", err.Error())
	case errors.Is(err, household.ErrSignIn), errors.Is(err, household.ErrSignedOut):
		set(http.StatusUnauthorized, "Not signed in", err.Error())
	case errors.Is(err, household.ErrSetupCode):
		set(http.StatusForbidden, "Wrong setup code", err.Error())
	case errors.Is(err, household.ErrSetUp), errors.Is(err, errChanged), errors.Is(err, errRemoved), errors.As(err,
		&exists):
		set(http.StatusConflict, "Conflict", err.Error())
	case errors.Is(err, hub.ErrStopped):
		set(http.StatusServiceUnavailable, "Stopping", err.Error())
	case errors.As(err, &web):
		set(web.Code, http.StatusText(web.Code), web.Message)
	case errors.As(err, &coder):
		set(coder.StatusCode(), http.StatusText(coder.StatusCode()), err.Error())
	case errors.Is(err, context.Canceled):
		return
	default:
		s.o.Log.Error("a request failed", "path", c.Request().URL.Path, "error", err)
	}
	switch p.Status {
	case http.StatusUnauthorized, http.StatusForbidden, http.StatusMisdirectedRequest, http.StatusTooManyRequests:
		// a browser that is not signed in asks to know that; a wrong password is told of anyway
		if r := c.Request(); credential(r) != "" || r.Method != http.MethodGet && r.URL.Path != base+"/session" {
			who := ""
			if a, err := s.people.Who(credential(r), address(r)); err == nil {
				who = a.ID
			}
			s.refused.tell(s.o.Log, r, address(r), who, p.Status, p.Detail)
		}
	}
	w := c.Response()
	w.Header().Set("Content-Type", "application/problem+json")
	if p.Status == http.StatusRequestTimeout {
		w.Header().Set("Connection", "close") // nobody waits for the rest of it
	}
	w.WriteHeader(p.Status)
	if c.Request().Method != http.MethodHead {
		_ = json.NewEncoder(w).Encode(p)
	}
}

// console serves the built console; paths that are pages of it get its first file.
func (s *Server) console(c *echo.Context) error {
	name := strings.TrimPrefix(path.Clean("/"+c.Request().URL.Path), "/")
	h := c.Response().Header()
	if name != "" && fs.ValidPath(name) {
		if info, err := fs.Stat(s.o.Console, name); err == nil && !info.IsDir() {
			if strings.HasPrefix(name, "assets/") {
				h.Set("Cache-Control", "public, max-age=31536000, immutable")
			}
			http.ServeFileFS(c.Response(), c.Request(), s.o.Console, name)
			return nil
		}
	}
	if strings.HasPrefix(name, "assets/") || strings.HasPrefix(name, "api/") {
		return echo.NewHTTPError(http.StatusNotFound, "there is no such file")
	}
	index, err := fs.ReadFile(s.o.Console, "index.html")
	if err != nil {
		return c.String(http.StatusServiceUnavailable,
			"This idleember was built without its console. Build it with: make build\n")
	}
	h.Set("Cache-Control", "no-cache")
	h.Set("Content-Security-Policy", s.policy)
	return c.HTMLBlob(http.StatusOK, index)
}

// Serve answers on listeners until the context ends, then lets open requests finish.
func (s *Server) Serve(ctx context.Context, doors ...net.Listener) error {
	srv := &http.Server{Handler: s, ReadHeaderTimeout: 10 * time.Second, ReadTimeout: 60 * time.Second,
		IdleTimeout:    2 * time.Minute,
		MaxHeaderBytes: 16 << 10, ConnContext: door.In, ConnState: func(c net.Conn, state http.ConnState) {
			if state == http.StateIdle {
				door.Of(c).Waits()
			}
		}, ErrorLog: slog.NewLogLogger(s.o.Log.Handler(), slog.LevelDebug)}
	failed := make(chan error, len(doors))
	for _, l := range doors {
		go func() { failed <- srv.Serve(l) }()
	}
	select {
	case err := <-failed:
		return err
	case <-ctx.Done():
	}
	s.EndStreams()
	bounded, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	if err := srv.Shutdown(bounded); err != nil {
		return srv.Close()
	}
	return nil
}

// bodyLimit bounds how long a body may be.
func (s *Server) bodyLimit(next echo.HandlerFunc) echo.HandlerFunc {
	usual := middleware.BodyLimit(maxBody)(next)
	larger := map[string]echo.HandlerFunc{
		base + "/readings":   middleware.BodyLimit(maxImport)(next),
		base + "/dashboards": middleware.BodyLimit(maxBoard)(next),
		base + "/pictures":   middleware.BodyLimit(picture.MostBytes + 1)(next), // one more, to tell that it is too much
	}
	return func(c *echo.Context) error {
		list, _, _ := strings.Cut(strings.TrimPrefix(c.Request().URL.Path, base+"/"), "/")
		if f := larger[base+"/"+list]; f != nil && c.Request().Method != http.MethodDelete {
			return f(c)
		}
		return usual(c)
	}
}
