package client

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/url"

	"idleember/contract/shown"
	"idleember/core/engine"
	"idleember/core/site"
)

// Parts are all parts of a kind; C is what their configuration is, S their state.
type Parts[C, S any] struct {
	hub  *Remote
	path string
}

// Places are rooms, sheds, cupboards and yards.
func (h *Remote) Places() Parts[site.Place, shown.None] {
	return Parts[site.Place, shown.None]{h, "places"}
}

// Settings are adjustable values.
func (h *Remote) Settings() Parts[site.Setting, shown.SettingState] {
	return Parts[site.Setting, shown.SettingState]{h, "settings"}
}

// Dashboards are one's own and the shared ones.
func (h *Remote) Dashboards() Parts[site.Dashboard, shown.DashboardState] {
	return Parts[site.Dashboard, shown.DashboardState]{h, "dashboards"}
}

// Presets are the presets that one may apply.
func (h *Remote) Presets() Parts[site.Preset, shown.None] {
	return Parts[site.Preset, shown.None]{h, "presets"}
}

// Rules are what the hub does when something becomes true.
func (h *Remote) Rules() Parts[site.Rule, engine.RuleState] {
	return Parts[site.Rule, engine.RuleState]{h, "rules"}
}

// Groups are controls that share something.
func (h *Remote) Groups() Parts[site.Group, shown.None] {
	return Parts[site.Group, shown.None]{h, "groups"}
}

// Routes are how people are told of alerts.
func (h *Remote) Routes() Parts[site.Route, shown.None] {
	return Parts[site.Route, shown.None]{h, "routes"}
}

// List reads all parts that one may see, by id.
func (p Parts[C, S]) List(ctx context.Context) (all []shown.Part[C, S], err error) {
	for after := ""; ; {
		var page shown.Page[shown.Part[C, S]]
		if err := p.hub.exchange(ctx, http.MethodGet, p.path+"?limit=1000&after="+url.QueryEscape(after), "", nil, &page); err != nil {
			return nil, err
		}
		all = append(all, page.Items...)
		if after = page.Next; after == "" {
			return all, nil
		}
	}
}

// Get reads one part.
func (p Parts[C, S]) Get(ctx context.Context, id string) (out shown.Part[C, S], err error) {
	return out, p.hub.exchange(ctx, http.MethodGet, p.at(id), "", nil, &out)
}

// Add adds a part, and replaces nothing.
func (p Parts[C, S]) Add(ctx context.Context, config C) (out shown.Part[C, S], err error) {
	return out, p.hub.exchange(ctx, http.MethodPost, p.path, "", config, &out)
}

// Put keeps a part as a whole: match is the version that it is made from, "" where there is none yet, * whatever is there.
func (p Parts[C, S]) Put(ctx context.Context, id string, config C, match string) (out shown.Part[C, S], err error) {
	return out, p.hub.exchange(ctx, http.MethodPut, p.at(id), match, config, &out)
}

// Save keeps a part whether it is there or not; one without an id is added.
func (p Parts[C, S]) Save(ctx context.Context, config C) (out shown.Part[C, S], err error) {
	var named struct{ ID string }
	b, err := json.Marshal(config)
	if err == nil {
		err = json.Unmarshal(b, &named)
	}
	if err != nil {
		return out, err
	}
	if named.ID == "" {
		return p.Add(ctx, config)
	}
	return p.Put(ctx, named.ID, config, "*")
}

// Patch changes some fields, by a merge patch (RFC 7396).
func (p Parts[C, S]) Patch(ctx context.Context, id string, patch any, match string) (out shown.Part[C, S], err error) {
	return out, p.hub.exchange(ctx, http.MethodPatch, p.at(id), match, patch, &out)
}

// Remove deletes a part with all that it owns.
func (p Parts[C, S]) Remove(ctx context.Context, id string) error {
	return p.hub.exchange(ctx, http.MethodDelete, p.at(id), "", nil, nil)
}

func (p Parts[C, S]) at(id string) string { return p.path + "/" + url.PathEscape(id) }

// exchange sends a request with a body as JSON, and reads the answer.
func (h *Remote) exchange(ctx context.Context, method, path, match string, body, answer any) error {
	var send io.Reader
	if body != nil {
		b, err := json.Marshal(body)
		if err != nil {
			return err
		}
		send = bytes.NewReader(b)
	}
	r, err := http.NewRequestWithContext(ctx, method, h.address+"/api/v1/"+path, send)
	if err != nil {
		return err
	}
	if body != nil {
		r.Header.Set("Content-Type", "application/json")
	}
	if match != "" {
		r.Header.Set("If-Match", match)
	}
	if err := h.sign(ctx, r); err != nil {
		return err
	}
	resp, err := h.doer.Do(r)
	if err != nil {
		return err
	}
	defer func() { _ = resp.Body.Close() }()
	if answer == nil {
		return nil
	}
	return json.NewDecoder(resp.Body).Decode(answer)
}
