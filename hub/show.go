package hub

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"strings"

	jsonpatch "github.com/evanphx/json-patch/v5"

	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/core/site"
)

// Shown is a part of any kind as an actor finds it.
type Shown = shown.Part[any, any]

// show is a part as an actor finds it; ok is false where it is not theirs to see.
func (h *Hub) show(a access.Actor, k *site.Kind, part any) (out Shown, ok bool) {
	out = Shown{Config: plain(part), State: shown.None{}, Version: Version(part)}
	if f := h.doors[k.Name].show; f != nil {
		return out, f(a, part, &out)
	}
	return out, access.May(a, access.Configure, access.Anything) == nil
}

// Parts are those of a kind that an actor may see, by id: at most so many after one.
func (h *Hub) Parts(ctx context.Context, a access.Actor, kind, after string, limit int) (page shown.Page[Shown], err error) {
	page.Items = []Shown{}
	k := site.KindOf(kind)
	return page, h.look(ctx, k, func(s *site.Site) error {
		last := ""
		for _, id := range k.IDs(s) {
			x, ok := h.show(a, k, k.Get(s, id))
			if !ok || after != "" && id <= after {
				continue
			}
			if len(page.Items) == limit {
				page.Next = last
				break
			}
			page.Items, last = append(page.Items, x), id
		}
		return nil
	})
}

// Part is one part, as an actor finds it.
func (h *Hub) Part(ctx context.Context, a access.Actor, kind, id string) (out Shown, err error) {
	k := site.KindOf(kind)
	return out, h.look(ctx, k, func(s *site.Site) error {
		out, err = h.seenPart(s, a, k, id)
		return err
	})
}

// look runs f with the site: in the loop where a part's state is the engine's, else beside it, so that many large ones hold nobody up.
func (h *Hub) look(ctx context.Context, k *site.Kind, f func(*site.Site) error) error {
	if h.doors[k.Name].beside {
		return f(h.Site())
	}
	return h.ask(ctx, func() error { return f(h.site) })
}

// seenPart is one part; what is not theirs to see is not there.
func (h *Hub) seenPart(s *site.Site, a access.Actor, k *site.Kind, id string) (Shown, error) {
	if part := k.Get(s, id); part != nil {
		if x, ok := h.show(a, k, part); ok {
			return x, nil
		}
	}
	var seen []string
	for _, other := range k.IDs(s) {
		if _, ok := h.show(a, k, k.Get(s, other)); ok {
			seen = append(seen, other)
		}
	}
	return Shown{}, &NotFoundError{k.Name, id, site.Nearest(id, seen)}
}

// KeepPart keeps a part as it comes in JSON. check is asked with what is there of its id, or nil.
func (h *Hub) KeepPart(ctx context.Context, a access.Actor, kind, id string, body []byte, check func(before any) error) (out Shown, err error) {
	k := site.KindOf(kind)
	part, err := readPart(k, body)
	if err != nil {
		return out, err
	}
	if own := site.KeyOf(part).ID; id != "" && own != id {
		if own != "" {
			return out, &InvalidError{"id", fmt.Sprintf("the id is %s in the address and %s in the body; tell the same", clip(id, 60), clip(own, 60))}
		}
		part = k.WithID(part, id)
	}
	return out, h.do(ctx, func() error {
		out, err = h.keepShown(a, k, part, check)
		return err
	})
}

// Keep keeps a part of any kind, whatever is there of its id, and returns it as it is kept.
func (h *Hub) Keep(ctx context.Context, a access.Actor, part any) (any, error) {
	return h.save(ctx, a, edit{part: part})
}

func (h *Hub) keepShown(a access.Actor, k *site.Kind, part any, check func(before any) error) (Shown, error) {
	part, err := h.keep(a, edit{part: part, check: check})
	if err != nil {
		return Shown{}, err
	}
	out, _ := h.show(a, k, part)
	return out, nil
}

// PatchPart changes some fields of a part by a merge patch (RFC 7396).
func (h *Hub) PatchPart(ctx context.Context, a access.Actor, kind, id string, patch []byte, check func(before any) error) (out Shown, err error) {
	k := site.KindOf(kind)
	return out, h.do(ctx, func() error {
		if _, err := h.seenPart(h.site, a, k, id); err != nil {
			return err
		}
		before := k.Get(h.site, id)
		body, err := json.Marshal(before)
		if err == nil {
			body, err = jsonpatch.MergePatch(body, patch)
		}
		if err != nil {
			return &InvalidError{"", "the patch cannot be read: " + err.Error()}
		}
		part, err := readPart(k, body)
		if err != nil {
			return err
		}
		if site.KeyOf(part).ID != id {
			return &InvalidError{"id", "an id stays as it is; only a name can be changed"}
		}
		out, err = h.keepShown(a, k, part, check)
		return err
	})
}

// DropPart removes a part with all that it owns. check is asked with what is there.
func (h *Hub) DropPart(ctx context.Context, a access.Actor, kind, id string, check func(before any) error) error {
	return h.takeOut(ctx, func() ([]string, error) {
		k := site.KindOf(kind)
		if err := h.may(a, k, k.Get(h.site, id), k.Get(h.site, id)); err != nil {
			return nil, err
		}
		if _, err := h.seenPart(h.site, a, k, id); err != nil {
			return nil, err
		}
		if err := check(plain(k.Get(h.site, id))); err != nil {
			return nil, err
		}
		return h.remove(a, "remove", site.Key{Kind: kind, ID: id})
	})
}

// jsonWord is what a type is in JSON.
func jsonWord(t reflect.Type) string {
	switch t.Kind() {
	case reflect.String:
		return "a text"
	case reflect.Bool:
		return "true or false"
	case reflect.Slice, reflect.Array:
		return "a list"
	case reflect.Struct, reflect.Map, reflect.Pointer:
		return "an object"
	}
	return "a number"
}

// readPart reads a part that somebody sent: what it does not know is told, and so is a value of another type.
func readPart(k *site.Kind, body []byte) (any, error) {
	part, err := k.Read(body)
	var wrong *json.UnmarshalTypeError
	switch {
	case errors.As(err, &wrong) && strings.HasPrefix(wrong.Value, "number "):
		return nil, &InvalidError{wrong.Field, fmt.Sprintf("%s is %s, which is beyond what can be kept", wrong.Field, clip(strings.TrimPrefix(wrong.Value, "number "), 40))}
	case errors.As(err, &wrong):
		return nil, &InvalidError{wrong.Field, fmt.Sprintf("%s is a %s; expected %s", wrong.Field, wrong.Value, jsonWord(wrong.Type))}
	case err != nil && strings.HasPrefix(err.Error(), "json: unknown field "):
		field := strings.Trim(strings.TrimPrefix(err.Error(), "json: unknown field "), `"`)
		return nil, &InvalidError{field, fmt.Sprintf("a %s has no field %q", k.Name, clip(field, 60))}
	case err != nil:
		return nil, &InvalidError{"", "the body cannot be read: " + err.Error()}
	}
	return part, nil
}
