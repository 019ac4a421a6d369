package hub

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"io"
	"reflect"
	"slices"
	"strings"

	jsonpatch "github.com/evanphx/json-patch/v5"

	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/core/fault"
	"idleember/core/site"
)

// show is a part as an actor finds it; ok is false where it is not theirs to see.
func (h *Hub) show(a access.Actor, k *site.Kind, part any) (out shown.AnyPart, ok bool) {
	out = shown.AnyPart{Config: plain(part), State: shown.None{}, Version: shown.Version(part)}
	if f := h.doors[k.Name].show; f != nil {
		return out, f(a, part, &out)
	}
	return out, access.May(a, access.Configure, access.Anything) == nil
}

// Parts are those of a kind that an actor may see, by id: at most so many after one.
func (h *Hub) Parts(ctx context.Context, a access.Actor, kind, after string, limit int) (page shown.Page[shown.AnyPart],
	err error) {
	page.Items = []shown.AnyPart{}
	k := site.KindOf(kind)
	return page, h.look(ctx, k, func(s *site.Site) error {
		last := ""
		ids, get := h.all(k, s)
		for _, id := range ids {
			if after != "" && id <= after {
				continue
			}
			x, ok := h.show(a, k, get(id))
			if !ok {
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
func (h *Hub) Part(ctx context.Context, a access.Actor, kind, id string) (out shown.AnyPart, err error) {
	k := site.KindOf(kind)
	return out, h.look(ctx, k, func(s *site.Site) error {
		out, err = h.seenPart(s, a, k, id)
		return err
	})
}

// look runs f with the site: in the loop where a part's state is the engine's, else beside it, so that many large ones
// hold nobody up.
func (h *Hub) look(ctx context.Context, k *site.Kind, f func(*site.Site) error) error {
	if h.doors[k.Name].beside {
		return f(h.Site())
	}
	return h.ask(ctx, func() error { return f(h.site) })
}

// seenPart is one part; what is not theirs to see is not there.
func (h *Hub) seenPart(s *site.Site, a access.Actor, k *site.Kind, id string) (shown.AnyPart, error) {
	ids, get := h.all(k, s)
	if part := get(id); part != nil {
		if x, ok := h.show(a, k, part); ok {
			return x, nil
		}
	}
	var seen []string
	for _, other := range ids {
		if _, ok := h.show(a, k, get(other)); ok {
			seen = append(seen, other)
		}
	}
	return shown.AnyPart{}, fault.NotFound(k.Name, id, site.Nearest(id, seen)...)
}

// KeepPart keeps a part as it comes in JSON. check is asked with what is there of its id, or nil.
func (h *Hub) KeepPart(ctx context.Context, a access.Actor, kind, id string, body []byte,
	check func(before any) error) (out shown.AnyPart, err error) {
	k := site.KindOf(kind)
	e, err := readEdit(k, body)
	if err != nil {
		return out, err
	}
	part := e.part
	if own := site.KeyOf(part).ID; id != "" && own != id {
		if own != "" {
			return out, fault.Invalid("id", "the id is %s in the address and %s in the body; tell the same", site.Clip(id, 60),
				site.Clip(own, 60))
		}
		part = k.WithID(part, id)
	}
	e.part, e.check = part, check
	return out, h.do(ctx, func() error {
		out, err = h.keepShown(a, k, e)
		return err
	})
}

// Keep keeps a part of any kind, whatever is there of its id, and returns it as it is kept.
func (h *Hub) Keep(ctx context.Context, a access.Actor, part any) (any, error) {
	return h.save(ctx, a, edit{part: part})
}

// Change lets f change a part that is there, and keeps it.
func Change[T any](ctx context.Context, h *Hub, a access.Actor, id string, f func(*T)) error {
	k := site.KindOf(site.KeyOf(*new(T)).Kind)
	return h.do(ctx, func() error {
		part, ok := k.Get(h.site, id).(T)
		if !ok {
			return fault.NotFound(k.Name, id, site.Nearest(id, k.IDs(h.site))...)
		}
		f(&part)
		_, err := h.keep(a, edit{part: part})
		return err
	})
}

func (h *Hub) keepShown(a access.Actor, k *site.Kind, e edit) (shown.AnyPart, error) {
	part, err := h.keep(a, e)
	if err != nil {
		return shown.AnyPart{}, err
	}
	out, _ := h.show(a, k, part)
	return out, nil
}

// PatchPart changes some fields of a part by a merge patch (RFC 7396).
func (h *Hub) PatchPart(ctx context.Context, a access.Actor, kind, id string, patch []byte,
	check func(before any) error) (out shown.AnyPart, err error) {
	k := site.KindOf(kind)
	return out, h.do(ctx, func() error {
		if _, err := h.seenPart(h.site, a, k, id); err != nil {
			return err
		}
		before := h.find(k, id)
		body, err := json.Marshal(before)
		secrets, patch, err2 := entered(k, patch)
		if err = cmp.Or(err, err2); err == nil {
			body, err = jsonpatch.MergePatch(body, patch)
		}
		if err != nil {
			return &fault.InvalidError{Field: "", Reason: "the patch cannot be read: " + err.Error()}
		}
		e, err := readEdit(k, body)
		if err != nil {
			return err
		}
		if site.KeyOf(e.part).ID != id {
			return fault.Invalid("id", "an id stays as it is; only a name can be changed")
		}
		e.check, e.secrets = check, secrets
		out, err = h.keepShown(a, k, e)
		return err
	})
}

// DropPart removes a part with all that it owns. check is asked with what is there.
func (h *Hub) DropPart(ctx context.Context, a access.Actor, kind, id string, check func(before any) error) error {
	return h.takeOut(ctx, func() ([]string, error) {
		k := site.KindOf(kind)
		if _, err := h.seenPart(h.site, a, k, id); err != nil {
			return nil, err
		}
		part := h.find(k, id)
		if err := h.may(a, k, part, part); err != nil {
			return nil, err
		}
		if k.Get(h.site, id) == nil { // it is there without having been made
			if ids, _ := h.all(k, h.site); !slices.Contains(ids, id) { // and is empty
				return nil, nil
			}
			return nil, &fault.InvalidError{Field: "id", Reason: k.Named(part) + " is part of the hub and stays"}
		}
		if err := check(plain(part)); err != nil {
			return nil, err
		}
		return h.remove(a, "remove", site.Key{Kind: kind, ID: id})
	})
}

// readEdit reads what somebody sent of a part, and the secrets that came with it.
func readEdit(k *site.Kind, body []byte) (e edit, err error) {
	if e.secrets, body, err = entered(k, body); err != nil {
		return e, err
	}
	if e.part, err = readPart(k, body); err != nil {
		return e, err
	}
	var fields map[string]json.RawMessage
	if err := json.Unmarshal(body, &fields); err != nil {
		return e, err
	}
	e.given = map[string]bool{}
	for name := range fields {
		e.given[name] = true
	}
	return e, nil
}

// entered takes the secrets out of what somebody sent of a part: they are written and never read.
func entered(k *site.Kind, body []byte) (secrets map[string]*string, rest []byte, err error) {
	var fields map[string]json.RawMessage
	if len(k.Secrets()) == 0 || json.Unmarshal(body, &fields) != nil {
		return nil, body, nil // whoever reads the rest says what is wrong with it
	}
	for name := range k.Secrets() {
		text, there := fields[name]
		if !there || name == site.DeviceKey {
			continue
		}
		var secret *string
		if err := json.Unmarshal(text, &secret); err != nil {
			return nil, nil, &fault.InvalidError{Field: name, Reason: "the " + secretWords[name] + " is no text"}
		}
		if secret == nil { // it is to be forgotten
			secret = new(string)
		}
		if secrets == nil {
			secrets = map[string]*string{}
		}
		secrets[name] = secret
		delete(fields, name)
	}
	if secrets == nil {
		return nil, body, nil
	}
	rest, err = json.Marshal(fields)
	return secrets, rest, err
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
		return nil, fault.Invalid(wrong.Field, "%s is %s, which is beyond what can be kept", wrong.Field,
			site.Clip(strings.TrimPrefix(wrong.Value, "number "), 40))
	case errors.As(err, &wrong):
		return nil, fault.Invalid(wrong.Field, "%s is a %s; expected %s", wrong.Field, wrong.Value, jsonWord(wrong.Type))
	case err != nil && strings.HasPrefix(err.Error(), "json: unknown field "):
		field := strings.Trim(strings.TrimPrefix(err.Error(), "json: unknown field "), `"`)
		return nil, fault.Invalid(field, "a %s has no field %q", k.Name, site.Clip(field, 60))
	case errors.As(err, new(*json.SyntaxError)) || errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, io.EOF):
		return nil, &fault.InvalidError{Field: "", Reason: "the body cannot be read: " + err.Error()}
	case err != nil:
		return nil, fault.Invalid(k.Name, "%v", err)
	}
	return part, nil
}
