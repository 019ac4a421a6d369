// Package push is the link over HTTP: devices push readings and reports, and the reply tells them what the hub wants.
//
//	POST /push/<device>          JSON, SenML (JSON or CBOR), CSV or a form
//	GET  /push/<device>?...      for the weakest boards, where the owner allowed it: name=value, with the key as key=
//	GET  /push/<device>/wants    what the hub wants; with wait=30 and the rev of the last answer it waits for a change
//
// The key is the password of Basic authentication with the device's id as the user, or a bearer token.
package push

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"mime"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"idleember/contract/shown"
	"idleember/core/fault"
	"idleember/core/mapping"
	"idleember/core/reading"
	"idleember/core/site"
	"idleember/hub"
)

const longestWait = 60 * time.Second

// Handler answers pushes. Use New to make one.
type Handler struct {
	hub  *hub.Hub
	mux  *http.ServeMux
	maps mapping.Cache
	quit chan struct{}
}

// New makes a handler for paths below /push/.
func New(h *hub.Hub) *Handler {
	p := &Handler{hub: h, mux: http.NewServeMux(), quit: make(chan struct{})}
	p.mux.HandleFunc("POST /push/{device}", p.push)
	p.mux.HandleFunc("GET /push/{device}", p.query)
	p.mux.HandleFunc("GET /push/{device}/wants", p.wants)
	return p
}

// ServeHTTP implements http.Handler.
func (p *Handler) ServeHTTP(w http.ResponseWriter, r *http.Request) { p.mux.ServeHTTP(w, r) }

// Close ends the long polls.
func (p *Handler) Close() { close(p.quit) }

// problem answers with a problem (RFC 9457).
func problem(w http.ResponseWriter, status int, detail string) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(map[string]any{"title": http.StatusText(status), "status": status, "detail": detail})
}

// sign finds out which device is speaking, and answers where it may not.
func (p *Handler) sign(w http.ResponseWriter, r *http.Request, queryKey string) (hub.Session, bool) {
	device := r.PathValue("device")
	from, _, _ := net.SplitHostPort(r.RemoteAddr)
	s := hub.Session{Device: device, ID: "http-" + device, Link: "http", Client: "http", From: from, Expires: true}
	user, key, basic := r.BasicAuth()
	switch token, bearer := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); {
	case bearer:
		key = strings.TrimSpace(token)
	case basic && user != device:
		problem(w, http.StatusForbidden, fmt.Sprintf("the user %.60q is not the device in the path; use the device's id "+
			"for both", user))
		return s, false
	case !basic && queryKey != "":
		if !p.hub.Site().Devices[device].Link.QueryKey {
			problem(w, http.StatusForbidden, "a key in the query string is not allowed for this device; allow it on the "+
				"device's page, or send it in a header")
			return s, false
		}
		key = queryKey
	}
	if err := p.hub.Admit(device, key, s.From); err != nil {
		var off *fault.DisabledError
		if errors.As(err, &off) {
			problem(w, http.StatusForbidden, err.Error())
			return s, false
		}
		var many *fault.TooManyError
		if errors.As(err, &many) {
			w.Header().Set("Retry-After", strconv.Itoa(int(many.Wait.Seconds())+1))
			problem(w, http.StatusTooManyRequests, many.Error())
			return s, false
		}
		if key != "" {
			p.hub.RefuseKey(s)
			time.Sleep(500 * time.Millisecond) // slows guessing
		}
		w.Header().Set("WWW-Authenticate", `Basic realm="device"`)
		problem(w, http.StatusUnauthorized, "the user must be a device's id and the password its key")
		return s, false
	}
	if wait := p.hub.Allow(device); wait > 0 {
		w.Header().Set("Retry-After", strconv.Itoa(int(wait.Seconds())+1))
		problem(w, http.StatusTooManyRequests, "the device sends more often than it may; send less often, or several "+
			"readings at once")
		return s, false
	}
	return s, true
}

func (p *Handler) push(w http.ResponseWriter, r *http.Request) {
	s, ok := p.sign(w, r, "")
	if !ok {
		return
	}
	most := p.hub.Site().Devices[s.Device].Limits.Filled().MaxBytes
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, int64(most)))
	if err != nil {
		var big *http.MaxBytesError
		if errors.As(err, &big) {
			why := fmt.Sprintf("the message is longer than the %d bytes that %s may send at a time; send it in portions", most,
				s.Device)
			p.hub.Deliver(hub.Arrival{Session: s, Topic: r.URL.Path, Payload: body, Faults: []string{why}})
			problem(w, http.StatusRequestEntityTooLarge, why)
			return
		}
		w.Header().Set("Connection", "close") // nobody waits for the rest of it
		problem(w, http.StatusRequestTimeout, "the message did not come whole within a minute; send it again")
		return
	}
	d := hub.Arrival{Session: s, Topic: "POST " + r.URL.Path, Payload: body}
	mapped := p.maps.For(p.hub.Site(), s.Device).Take("", body)
	if mapped.Matched && len(mapped.Readings)+len(mapped.Reports) > 0 {
		d.Mapped(mapped)
	} else if err := decode(&d, r.Header.Get("Content-Type"), body, p.hub.Time()); err != nil {
		d.Faults = append(d.Faults, err.Error())
	}
	p.deliver(w, r, d)
}

// decode takes a body apart by its media type.
func decode(d *hub.Arrival, contentType string, body []byte, now time.Time) error {
	kind, _, err := mime.ParseMediaType(contentType)
	if err != nil && contentType != "" {
		return fmt.Errorf("the media type %.80q cannot be read", contentType)
	}
	var named []reading.Named
	var faults []error
	switch kind {
	case "application/json", "text/json", "":
		named, faults, err = reading.Message(body, now)
	case "application/senml+json":
		named, faults, err = reading.SenML(body, now)
	case "application/senml+cbor", "application/cbor":
		named, faults, err = reading.SenMLCBOR(body, now)
	case "text/csv":
		named, faults, err = reading.CSV(body)
	case "application/x-www-form-urlencoded":
		if len(body) > 0 && strings.ContainsRune("{[", rune(body[0])) { // what curl -d calls JSON
			named, faults, err = reading.Message(body, now)
			break
		}
		var values url.Values
		if values, err = url.ParseQuery(string(body)); err == nil {
			named, faults, err = reading.Pairs(values)
		}
	default:
		return fmt.Errorf("the media type %.80q is unknown; use application/json, application/senml+json, "+
			"application/senml+cbor, text/csv or application/x-www-form-urlencoded", kind)
	}
	if err != nil {
		return err
	}
	d.Values(named, faults)
	return nil
}

func (p *Handler) query(w http.ResponseWriter, r *http.Request) {
	values, err := url.ParseQuery(r.URL.RawQuery)
	if err != nil {
		problem(w, http.StatusBadRequest, "the query string cannot be read; write name=value&name=value")
		return
	}
	key := values.Get("key")
	values.Del("key")
	s, ok := p.sign(w, r, key)
	if !ok {
		return
	}
	d := hub.Arrival{Session: s, Topic: "GET " + r.URL.Path, Payload: []byte(values.Encode())}
	named, faults, err := reading.Pairs(values)
	d.Values(named, faults)
	if err != nil {
		d.Faults = append(d.Faults, err.Error())
	}
	p.deliver(w, r, d)
}

// deliver hands a message to the hub and answers when what could be taken is on the disk.
func (p *Handler) deliver(w http.ResponseWriter, r *http.Request, d hub.Arrival) {
	done := make(chan hub.Result, 1)
	n := len(d.Readings) + len(d.Reports) + len(d.Copies) + len(d.Faults)
	d.Done = func(x hub.Result) { done <- x }
	p.hub.Deliver(d)
	var got hub.Result
	select {
	case got = <-done:
	case <-r.Context().Done():
		return
	}
	if got.Err != nil {
		w.Header().Set("Retry-After", "30")
		problem(w, http.StatusServiceUnavailable, "the readings could not be stored: "+got.Err.Error())
		return
	}
	a, err := p.current(r.Context(), d.Session.Device)
	if err != nil {
		problem(w, http.StatusServiceUnavailable, err.Error())
		return
	}
	taken := max(0, n-len(got.Refused))
	a.Stored, a.Refused, a.Remarks = &taken, got.Refused, got.Remarks
	status := http.StatusOK
	if taken == 0 && len(got.Refused) > 0 {
		status = http.StatusUnprocessableEntity
	}
	p.answer(w, r, status, a, d.Session.Device)
}

// answer is what a device is told.
type answer struct {
	Stored  *int              `json:"stored,omitempty"`
	Refused []string          `json:"refused,omitempty"`
	Remarks []string          `json:"remarks,omitempty"` // what was taken and looks wrong
	Wants   map[string]string `json:"wants"`
	Set     map[string]held   `json:"set,omitempty"` // settings of which the device has a copy
	Rev     string            `json:"rev"`           // of the wants and settings, for a long poll
	// seconds that a want may be kept from now on without hearing the hub again
	LeaseS float64 `json:"lease,omitempty"`
	T      int64   `json:"t,omitempty"` // the hub's time in Unix milliseconds, where it knows it
}

// held is the value of a setting and its revision.
type held struct {
	V   any   `json:"v"`
	Rev int64 `json:"rev"`
}

func (p *Handler) current(ctx context.Context, device string) (answer, error) {
	wants, mirrors, lease, err := p.hub.Wants(ctx, device)
	now, right := p.hub.Clock()
	a := answer{Wants: map[string]string{}, LeaseS: lease.Seconds()}
	if right {
		a.T = now.UnixMilli()
	}
	controls := p.hub.Site().Controls
	for _, x := range wants {
		a.Wants[x.Raw] = string(mapping.Payload(controls[x.Control], x.Value, now))
	}
	for _, x := range mirrors {
		if a.Set == nil {
			a.Set = map[string]held{}
		}
		a.Set[x.Raw] = held{x.Said(), x.Rev}
	}
	a.Rev = shown.Version([]any{a.Wants, a.Set})
	return a, err
}

func (p *Handler) answer(w http.ResponseWriter, r *http.Request, status int, a answer, device string) {
	var body []byte
	kind := "application/json"
	if strings.HasPrefix(r.Header.Get("Accept"), "text/plain") { // for boards that have no JSON parser to spare
		kind = "text/plain; charset=utf-8"
		var b strings.Builder
		for _, id := range sorted(p.hub.Site(), device) {
			if word, ok := a.Wants[id]; ok {
				fmt.Fprintf(&b, "%s=%s\n", id, word)
			}
		}
		for _, name := range slices.Sorted(maps.Keys(a.Set)) {
			fmt.Fprintf(&b, "set.%s=%v,%d\n", name, a.Set[name].V, a.Set[name].Rev)
		}
		fmt.Fprintf(&b, "lease=%g\nt=%d\nrev=%s\n", a.LeaseS, a.T, a.Rev)
		for _, why := range a.Refused {
			fmt.Fprintf(&b, "refused=%s\n", why)
		}
		for _, what := range a.Remarks {
			fmt.Fprintf(&b, "remark=%s\n", what)
		}
		body = []byte(b.String())
	} else {
		body, _ = json.Marshal(a) // strings and numbers only
		body = append(body, '\n')
	}
	if len(a.Wants)+len(a.Set) > 0 {
		p.hub.Sent(device, "http", "answer", body, "sent")
	}
	w.Header().Set("Content-Type", kind)
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(status)
	_, _ = w.Write(body)
}

func sorted(s *site.Site, device string) (raw []string) {
	_, controls := s.Of(device)
	for _, id := range controls {
		raw = append(raw, s.Controls[id].Raw)
	}
	return raw
}

// wants answers what is wanted, at once or when it changes.
func (p *Handler) wants(w http.ResponseWriter, r *http.Request) {
	s, ok := p.sign(w, r, r.URL.Query().Get("key"))
	if !ok {
		return
	}
	seconds, _ := strconv.ParseFloat(r.URL.Query().Get("wait"), 64)
	wait := min(time.Duration(max(0, seconds)*float64(time.Second)), longestWait)
	if lease := p.hub.Site().Devices[s.Device].Lease(); lease > 0 {
		wait = min(wait, lease/3) // each answer is a beat
	}
	p.hub.Heard(s)
	ctx, cancel := context.WithTimeout(r.Context(), wait)
	defer cancel()
	box, err := p.hub.Attach(r.Context(), s.Device)
	if err != nil {
		problem(w, http.StatusServiceUnavailable, err.Error())
		return
	}
	defer p.hub.Detach(box)
	for {
		a, err := p.current(r.Context(), s.Device)
		if err != nil {
			problem(w, http.StatusServiceUnavailable, err.Error())
			return
		}
		if a.Rev != r.URL.Query().Get("rev") || ctx.Err() != nil {
			p.answer(w, r, http.StatusOK, a, s.Device)
			return
		}
		select {
		case <-box.Ready():
			if box.Take().Ended {
				problem(w, http.StatusUnauthorized, "the device has a new key or was taken away")
				return
			}
		case <-ctx.Done():
		case <-p.quit:
			problem(w, http.StatusServiceUnavailable, "the hub is stopping; ask again")
			return
		}
	}
}
