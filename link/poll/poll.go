// Package poll is the link that fetches a page over HTTP now and then and takes values out of it by JSON Pointer,
// regular expression or CSV column.
package poll

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"strconv"
	"time"

	"idleember/core/mapping"
	"idleember/core/site"
	"idleember/elsewhere"
	"idleember/hub"
	"idleember/link"
)

const (
	maxPage     = 1 << 20
	answerWait  = 20 * time.Second
	longestWait = time.Hour
	name        = "poll"
	patience    = 3 // failures after which the page counts as away
)

// Run polls every device with this link until the context ends.
func Run(ctx context.Context, h *hub.Hub, _ *slog.Logger) {
	link.Each(ctx, h, site.Poll, func(ctx context.Context, dev site.Device) {
		w := &worker{hub: h, dev: dev, m: mapping.For(h.Site(), dev.ID), client: elsewhere.Client(dev.Link.Inside),
			session: hub.Session{Device: dev.ID, ID: name + "-" + dev.ID, Link: name, Client: name, From: dev.Link.Address}}
		w.run(ctx)
	})
}

type worker struct {
	hub     *hub.Hub
	dev     site.Device
	m       *mapping.Map
	client  *http.Client
	session hub.Session

	etag, modified string
	page           []byte // the last page, which a 304 says is still so
	failures       int
}

func (w *worker) run(ctx context.Context) {
	every := w.dev.Link.Interval()
	wait := link.Backoff{First: every, Most: max(longestWait, every)}
	for {
		pause := every
		asked, err := w.ask(ctx)
		switch {
		case ctx.Err() != nil:
			w.hub.Offline(w.session, "the hub no longer asks", true)
			return
		case err != nil:
			pause = max(wait.Failed(), asked)
			w.failed(err, pause)
		default:
			wait.Worked()
			w.failures = 0
			w.hub.Online(w.session)
			w.take()
		}
		if !link.Sleep(ctx, pause) {
			w.hub.Offline(w.session, "the hub no longer asks", true)
			return
		}
	}
}

func (w *worker) failed(err error, pause time.Duration) {
	w.failures++
	w.hub.Failed(w.dev.ID, name, "GET "+w.dev.Link.Address, fmt.Sprintf("%s; asked again in %s", err,
		pause.Round(time.Second)))
	if w.failures == patience {
		w.hub.Offline(w.session, err.Error(), false)
	}
}

// ask fetches the page. after is how long the server wants to be left alone.
func (w *worker) ask(ctx context.Context) (after time.Duration, err error) {
	ctx, cancel := context.WithTimeout(ctx, answerWait)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, w.dev.Link.Address, nil)
	if err != nil {
		return 0, err
	}
	req.Header.Set("User-Agent", "idleember")
	req.Header.Set("Accept", "application/json, text/csv, text/plain, */*;q=0.5")
	if w.page != nil && w.etag != "" {
		req.Header.Set("If-None-Match", w.etag)
	}
	if w.page != nil && w.modified != "" {
		req.Header.Set("If-Modified-Since", w.modified)
	}
	resp, err := w.client.Do(req)
	if err != nil {
		return 0, fmt.Errorf("the page cannot be fetched: %s", link.Reason(err))
	}
	defer func() { _ = resp.Body.Close() }()
	switch {
	case resp.StatusCode == http.StatusNotModified && w.page != nil:
		return 0, nil
	case resp.StatusCode != http.StatusOK:
		return retryAfter(resp.Header.Get("Retry-After"), time.Now()), fmt.Errorf("the server answered %s", resp.Status)
	}
	page, err := io.ReadAll(io.LimitReader(resp.Body, maxPage+1))
	switch {
	case err != nil:
		return 0, fmt.Errorf("the page broke off: %s", link.Reason(err))
	case len(page) > maxPage:
		return 0, fmt.Errorf("the page is longer than %d bytes; poll one that holds less", maxPage)
	}
	w.page, w.etag, w.modified = page, resp.Header.Get("ETag"), resp.Header.Get("Last-Modified")
	return 0, nil
}

// retryAfter reads the header in either of its forms (RFC 9110, section 10.2.3).
func retryAfter(header string, now time.Time) time.Duration {
	if s, err := strconv.Atoi(header); err == nil && s > 0 {
		return min(time.Duration(s)*time.Second, 24*time.Hour)
	}
	if at, err := http.ParseTime(header); err == nil {
		return min(max(0, at.Sub(now)), 24*time.Hour)
	}
	return 0
}

func (w *worker) take() {
	d := hub.Arrival{Session: w.session, Topic: "GET " + w.dev.Link.Address, Payload: w.page}
	if most := w.dev.Limits.Filled().MaxBytes; len(d.Payload) > most { // a page is long, what is taken of it is not
		d.Payload = d.Payload[:most]
	}
	mapped := w.m.Take("", w.page)
	if !mapped.Matched {
		w.hub.Noted(w.dev.ID, name, d.Topic, w.page, "no signal of this device says where its value is on the page")
		return
	}
	d.Mapped(mapped)
	w.hub.Deliver(d)
}
