package hub

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"

	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/core/fault"
	"idleember/core/site"
	"idleember/sight"
	"idleember/store"
)

// Earlier returns what was before a line of the journal, for owners.
func (h *Hub) Earlier(ctx context.Context, a access.Actor, entry int64) (shown.Earlier, error) {
	if err := access.May(a, access.Configure, access.Anything); err != nil {
		return shown.Earlier{}, err
	}
	v, err := h.earlier(ctx, a, entry)
	out := shown.Earlier{Entry: entry, Object: v.ID, Before: json.RawMessage(v.Body)}
	if v.After != "" {
		out.After = json.RawMessage(v.After)
	}
	return out, err
}

func (h *Hub) earlier(ctx context.Context, a access.Actor, entry int64) (store.Version, error) {
	v, ok, err := h.store.Version(ctx, entry)
	// what a member keeps to themselves is not the owner's either
	if id, is := strings.CutPrefix(v.ID, "dashboard."); ok && is {
		var d site.Dashboard
		if err := json.Unmarshal([]byte(v.Body), &d); err != nil {
			return v, fmt.Errorf("the version before line %d cannot be read: %w", entry, err)
		}
		if now, there := h.dashboard(id); !sight.MayOpen(a, d) || there && !sight.MayOpen(a, now) {
			ok = false
		}
	}
	if err == nil && !ok {
		err = fault.NotFound("earlier version at the line", fmt.Sprint(entry))
	}
	return v, err
}

// Restore brings back what was before a line of the journal. It is an edit like any other: it is checked against what
// is there now, stands in the journal, and can be taken back.
func (h *Hub) Restore(ctx context.Context, a access.Actor, entry int64) error {
	if err := access.May(a, access.Configure, access.Anything); err != nil {
		return err
	}
	v, err := h.earlier(ctx, a, entry)
	if err != nil {
		return err
	}
	k := site.KindOf(v.Kind)
	if k == nil {
		return fault.Invalid("id", "what line %d was about is not brought back by itself", entry)
	}
	part, err := k.Parse([]byte(v.Body))
	if err != nil {
		return fmt.Errorf("the version before line %d cannot be read: %w", entry, err)
	}
	return h.do(ctx, func() error {
		now := k.Get(h.site, site.KeyOf(part).ID)
		if d, ok := part.(site.Device); ok {
			if now == nil {
				return &fault.InvalidError{Field: "id", Reason: d.Name + " was deleted with its history and its key; add it anew"}
			}
			d.State = now.(site.Device).State // taking away has ways of its own
			part = d
		}
		if now == nil && (k.Name == "signal" || k.Name == "control") {
			return &fault.InvalidError{Field: "id", Reason: k.Named(part) + " was deleted with its history; add it anew"}
		}
		if _, err := h.keep(a, edit{part: part, again: true}); err != nil {
			return err
		}
		h.journal(h.Time(), a, "bring back", v.ID, "", fmt.Sprintf("as it was before line %d", entry), "")
		return nil
	})
}
