// Package client speaks to a hub over its HTTP interface. What the contract says is generated; this file adds signing
// in, errors in words and the live stream.
package client

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"strconv"
	"strings"
	"time"
)

//go:generate go tool oapi-codegen -config gen.yaml ../api/openapi.yaml
//go:generate go run idleember/scripts/alias client idleember/contract ../contract

// Remote is a hub to speak to. Use New to make one.
type Remote struct {
	*ClientWithResponses
	address string
	token   string
	doer    doer
}

// New returns a client for the hub at address, such as http://127.0.0.1:8480. The token may be empty: then SignIn
// begins a session.
func New(address, token string) (*Remote, error) {
	u, err := url.Parse(address)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
		return nil, fmt.Errorf("%q is no hub's address; use one such as http://127.0.0.1:8480", address)
	}
	jar, err := cookiejar.New(nil)
	if err != nil {
		return nil, err
	}
	h := &Remote{address: strings.TrimRight(address, "/"), token: token}
	h.doer = doer{h.address, &http.Client{Jar: jar}}
	h.ClientWithResponses, err = NewClientWithResponses(h.address+"/api/v1", WithHTTPClient(h.doer),
		WithRequestEditorFn(h.sign))
	return h, err
}

func (h *Remote) sign(_ context.Context, r *http.Request) error {
	if h.token != "" {
		r.Header.Set("Authorization", "Bearer "+h.token)
	}
	return nil
}

// ProblemError is what the hub answered instead of what was asked for.
type ProblemError struct {
	Problem
	// RetryAfter is how long the hub asks to wait, 0 where it does not say.
	RetryAfter time.Duration
}

func (e *ProblemError) Error() string { return e.Detail }

// UnreachableError says that no hub answered.
type UnreachableError struct {
	Address string
	Err     error
}

func (e *UnreachableError) Error() string {
	return fmt.Sprintf("no hub answers at %s (%v); is it running, and is --hub right?", e.Address, e.Err)
}
func (e *UnreachableError) Unwrap() error { return e.Err }

// doer sends requests and turns everything but a good answer into an error: *UnreachableError or *ProblemError.
type doer struct {
	address string
	http    *http.Client
}

// Do implements the generated client's HttpRequestDoer.
func (d doer) Do(r *http.Request) (*http.Response, error) {
	resp, err := d.http.Do(r)
	if err != nil {
		if errors.Is(err, context.Canceled) {
			return nil, err
		}
		var op *url.Error
		if errors.As(err, &op) {
			err = op.Err
		}
		return nil, &UnreachableError{d.address, err}
	}
	if resp.StatusCode < 300 {
		return resp, nil
	}
	defer func() { _ = resp.Body.Close() }()
	p := Problem{Status: resp.StatusCode, Title: resp.Status, Detail: "the hub answered " + resp.Status}
	body, _ := io.ReadAll(io.LimitReader(resp.Body, 64<<10))
	_ = json.Unmarshal(body, &p) // a proxy's page, perhaps: then the status has to do
	wait, _ := strconv.Atoi(resp.Header.Get("Retry-After"))
	return nil, &ProblemError{p, time.Duration(wait) * time.Second}
}

// Event is one event of the live stream.
type Event struct {
	ID   string
	Kind string // stream, reset, signal, control, setting, device, dashboard, site, hub
	Data json.RawMessage
}

// Live calls f for every event until the context ends or f fails, and comes back by itself when the connection is lost.
// lost, where not nil, is told each time that this happens.
func (h *Remote) Live(ctx context.Context, f func(Event) error, lost func(error)) error {
	last, wait := "", time.Second
	for {
		err := h.stream(ctx, &last, func(e Event) error {
			wait = time.Second
			if err := f(e); err != nil {
				return &stopError{err}
			}
			return nil
		})
		var stop *stopError
		var problem *ProblemError
		switch {
		case errors.As(err, &stop):
			return stop.err
		case errors.As(err, &problem) && problem.Status < 500, ctx.Err() != nil:
			return err
		}
		if lost != nil {
			lost(err)
		}
		select {
		case <-time.After(wait):
		case <-ctx.Done():
			return ctx.Err()
		}
		wait = min(2*wait, 30*time.Second)
	}
}

// LiveFrom reads one connection's events after the one with an id ("": from a snapshot on), until it ends or f fails.
func (h *Remote) LiveFrom(ctx context.Context, last string, f func(Event) error) error {
	return h.stream(ctx, &last, f)
}

type stopError struct{ err error }

func (e *stopError) Error() string { return e.err.Error() }

func (h *Remote) stream(ctx context.Context, last *string, f func(Event) error) error {
	r, err := h.GetLive(ctx, &GetLiveParams{LastEventID: last})
	if err != nil {
		return err
	}
	defer func() { _ = r.Body.Close() }()
	lines := bufio.NewScanner(r.Body)
	lines.Buffer(nil, 64<<20)
	var e Event
	for lines.Scan() {
		line := lines.Text()
		field, value, _ := strings.Cut(line, ": ")
		switch field {
		case "id":
			e.ID = value
		case "event":
			e.Kind = value
		case "data":
			e.Data = json.RawMessage(value)
		case "":
			if e.Kind != "" {
				if e.ID != "" {
					*last = e.ID
				}
				if err := f(e); err != nil {
					return err
				}
			}
			e = Event{}
		}
	}
	if err := lines.Err(); err != nil {
		return &UnreachableError{h.address, err}
	}
	return &UnreachableError{h.address, errors.New("the stream ended")}
}
