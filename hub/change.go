package hub

import (
	"context"
	"errors"
	"maps"
	"reflect"
	"slices"
	"strings"

	"idleember/core/access"
	"idleember/core/engine"
	"idleember/core/fault"
	"idleember/core/site"
	"idleember/store"
)

// Whatever somebody changes of the configuration goes through keep or remove, of whatever kind it is: both ask the
// catalogue.

// changeSite changes parts of the site, keeps them, and tells the engine and everybody who looks on.
func (h *Hub) changeSite(changes ...site.Change) {
	next := h.site.With(changes...)
	h.site = next
	h.sites++
	h.current.Store(next)
	h.rights.Store(access.NewRights(next.Rights.Lines))
	h.live.NewSite()
	if len(h.toldOf) > 2*len(next.Signals)+100 { // of signals that are gone
		clear(h.toldOf)
	}
	h.write(store.Keep(changes...))
	if slices.ContainsFunc(changes, func(c site.Change) bool { return !site.KindOf(c.Key().Kind).Idle }) {
		h.apply(engine.SiteChanged{Site: next})
	}
	h.changed.tell()
	if slices.ContainsFunc(changes, func(c site.Change) bool {
		return !site.KindOf(c.Key().Kind).Idle || c.Key().Kind == "rights"
	}) {
		h.lookAgain()
	}
}

// lookAgain tells everybody who looks on, after the commit, that names or rights changed: streams whose right has ended
// end.
func (h *Hub) lookAgain() {
	h.later(func(err error) {
		if err == nil {
			h.live.Publish("site", struct{}{}, access.Anything)
		}
	})
}

// edit is a part that somebody wants kept.
type edit struct {
	part any
	// check is asked with what is there of its id, or nil, and may refuse.
	check func(before any) error
	// given are the fields that somebody told, nil where it is whole: the others are as they usually are.
	given map[string]bool
	// secrets are those that were entered with it by their name; nil: as it was.
	secrets map[string]*string
	// again: it was like that before, and is brought back.
	again bool
}

func (e *edit) gave(field string) bool { return e.given == nil || e.given[field] }

// keep checks a part, keeps it and writes down what changed. Without an id it is made with a free one, and so is a
// setting of which only the owner is told ("kiln."). It returns the part as it is kept.
func (h *Hub) keep(a access.Actor, e edit) (part any, err error) {
	key := site.KeyOf(e.part)
	k := site.KindOf(key.Kind)
	door := h.doors[k.Name]
	kept := k.Get(h.site, key.ID)
	if door.fill != nil {
		if err := door.fill(kept, &e); err != nil {
			return nil, err
		}
	}
	if err := h.may(a, k, kept, e.part); err != nil {
		return nil, err
	}
	if e.part, err = h.identified(k, e.part); err != nil {
		return nil, err
	}
	key = site.KeyOf(e.part)
	kept = k.Get(h.site, key.ID)
	if e.check != nil {
		there := h.find(k, key.ID)
		if err := e.check(plain(there)); errors.Is(err, fault.ErrThere) {
			return nil, &fault.ExistsError{Kind: k.Name, ID: key.ID, Name: k.Named(there)}
		} else if err != nil {
			return nil, err
		}
	}
	if err := k.Validate(h.site, e.part); err != nil {
		return nil, fault.AsInvalid(k.Name, err)
	}
	if door.check != nil {
		if err := door.check(a, kept, &e); err != nil {
			return nil, err
		}
	}
	if err := h.refers(kept, e.part); err != nil {
		return nil, err
	}
	if err := engine.CheckFormulas(h.site, func(each func(place, text string, quantity bool)) {
		k.Formulas(e.part, each)
	}); err != nil {
		return nil, err
	}
	secrets, err := h.secretsOf(k, kept, e)
	if err != nil {
		return nil, err
	}
	if a, ok := e.part.(*site.Automation); ok && reflect.DeepEqual(*a, site.Automation{Control: a.Control}) {
		h.changeSite(site.Change{Drop: key}) // nothing is decided any more
	} else {
		h.changeSite(site.Put(e.part))
	}
	h.write(secrets...)
	h.tellChange(a, kept, e.part)
	h.tellSecrets(a, k, key.ID, e.secrets)
	if door.after != nil {
		door.after(kept, e.part)
	}
	return e.part, nil
}

// save keeps a part from outside the loop.
func (h *Hub) save(ctx context.Context, a access.Actor, e edit) (saved any, err error) {
	err = h.do(ctx, func() error { saved, err = h.keep(a, e); return err })
	return saved, err
}

// find is what is there of an id, also without having been made.
func (h *Hub) find(k *site.Kind, id string) any {
	_, get := h.all(k, h.site)
	return get(id)
}

// all are the ids of what is there of a kind, also without having been made, and each of them.
func (h *Hub) all(k *site.Kind, s *site.Site) (ids []string, get func(id string) any) {
	if f := h.doors[k.Name].all; f != nil {
		return f(s)
	}
	return k.IDs(s), func(id string) any { return k.Get(s, id) }
}

// identified is a part with its id, which must be one that a new one may have.
func (h *Hub) identified(k *site.Kind, part any) (any, error) {
	id := site.KeyOf(part).ID
	if k.Alone {
		return part, nil
	}
	owner, slug := "", id
	if site.KeyOf(part).IsThing() && k.Name != "place" && k.Name != "device" {
		owner, slug = site.Split(id)
		owner += "."
	}
	name, named := k.NameOf(part)
	if named {
		if err := site.CheckName("name", name); err != nil {
			return nil, err
		}
	}
	taken := func(id string) bool { return h.find(k, id) != nil }
	if site.KeyOf(part).IsThing() {
		taken = func(id string) bool { return h.site.Has(id) }
	}
	switch {
	case slug == "" && id == owner && len(owner) != 1:
		free, err := freeID(name, func(slug string) bool { return taken(owner + slug) })
		if err != nil {
			return nil, fault.Invalid("name", "%v", err)
		}
		return k.WithID(part, owner+free), nil
	case k.Name == "automation":
	case owner == "":
		if err := site.CheckSlug(id); err != nil {
			return nil, fault.Invalid("id", "%v", err)
		}
	}
	if k.Get(h.site, id) == nil && site.KeyOf(part).IsThing() && taken(id) {
		return nil, &fault.InvalidError{Field: "id", Reason: "the id " + id + " is taken by " +
			h.site.Called(site.Key{Kind: site.Thing, ID: id}) + "; choose another"}
	}
	return part, nil
}

// secretsOf keeps the secrets that came with a part. One that is kept is for where it went until now: it does not go
// anywhere else.
func (h *Hub) secretsOf(k *site.Kind, before any, e edit) (writes []store.Change, err error) {
	key := site.KeyOf(e.part)
	changed := map[string]string{}
	for _, name := range slices.Sorted(maps.Keys(k.Secrets())) {
		now := k.Secrets()[name](e.part)
		was := site.Goes{}
		if before != nil {
			was = k.Secrets()[name](before)
		}
		kept := h.vault.get(key, name)
		switch entered := e.secrets[name]; {
		case entered != nil:
			if *entered != kept {
				changed[name] = *entered
			}
		case kept == "":
		case !now.Wanted:
			changed[name] = ""
		case now.With != was.With:
			return nil, fault.Invalid(name, "the %s that is kept is for %s as it was; enter the one for %s", secretWords[name],
				was.To, now.To)
		}
	}
	for name, secret := range changed {
		writes = append(writes, h.vault.set(key, name, secret))
	}
	return writes, nil
}

// takeOut runs f in the loop, which removes something and tells of what series that was; their readings are deleted.
func (h *Hub) takeOut(ctx context.Context, f func() (series []string, err error)) error {
	var series []string
	if err := h.do(ctx, func() (err error) { series, err = f(); return err }); err != nil {
		return err
	}
	return h.dropSeries(ctx, series...)
}

// removable says why something cannot be removed, or nil. It is asked before anything is switched because of that.
func (h *Hub) removable(a access.Actor, keys ...site.Key) error {
	_, err := h.site.Remove(h.glass.Reads(h.site), keys...)
	if err != nil {
		return fault.Invalid("id", "%v", err)
	}
	return nil
}

var secretWords = map[string]string{site.Password: "password", site.Passphrase: "passphrase", site.DeviceKey: "key",
	site.CameraPassword: "camera password"}

// remove takes parts out of the site with all that they own and all that speaks of them, so that what is later made
// under their ids inherits nothing. Where something that stays needs one of them it is refused.
func (h *Hub) remove(a access.Actor, how string, keys ...site.Key) (series []string, err error) {
	before := h.site
	changes, err := before.Remove(h.glass.Reads(before), keys...)
	if err != nil {
		return nil, fault.Invalid("id", "%v", err)
	}
	if len(changes) == 0 {
		return nil, nil
	}
	h.changeSite(changes...)
	why := "it went with " + before.Called(keys[0])
	for _, c := range changes {
		key := c.Key()
		k := site.KindOf(key.Kind)
		was := k.Get(before, key.ID)
		switch {
		case c.Put != nil:
			h.tellChange(a, was, c.Put)
		case was == nil:
		case slices.Contains(keys, key):
			h.tellRemoval(a, how, was, "")
		case k.Name != "signal" && k.Name != "control": // a device goes with those
			h.tellRemoval(a, "remove", was, why)
		}
		if c.Put == nil {
			h.vault.drop(key)
			if gone := h.doors[key.Kind].gone; gone != nil {
				gone(key.ID)
			}
			series = append(series, seriesOf(key)...)
		}
	}
	h.write(h.alertsGone(before, changes)...)
	h.write(h.picturesGone(before)...)
	h.write(h.people.PartsGone(h.site)...)
	h.lookAgain()
	return series, nil
}

// seriesOf are the series that a part has.
func seriesOf(key site.Key) []string {
	switch key.Kind {
	case "device", "signal", "setting":
		return []string{key.ID}
	case "control":
		return []string{key.ID + ".is", key.ID + ".want", key.ID + ".mode"}
	}
	return nil
}

// picturesGone forgets the pictures that only what is gone showed.
func (h *Hub) picturesGone(before *site.Site) (writes []store.Change) {
	left := h.site.Pictures()
	for id := range before.Pictures() {
		if !left[id] {
			writes = append(writes, store.DropPicture(id))
		}
	}
	return writes
}

// alertsGone forgets what became of alerts that went with what they were about.
func (h *Hub) alertsGone(before *site.Site, changes []site.Change) (writes []store.Change) {
	if !slices.ContainsFunc(changes, func(c site.Change) bool { return c.Put == nil && c.Drop.IsThing() }) {
		return nil
	}
	all := h.site.AllAlerts()
	for id, x := range before.AllAlerts() {
		if all[id] == nil && x.Of != "" {
			writes = append(writes, store.DropAlertHistory(id))
		}
	}
	return writes
}

// tellChange writes down which fields of a part changed, with their values before and after; of one that is new, that
// it was added.
func (h *Hub) tellChange(a access.Actor, before, after any) {
	k := site.KindOf(site.KeyOf(after).Kind)
	object := k.Object(site.KeyOf(after).ID)
	if before == nil {
		h.journal(h.Time(), a, "add", object, "", k.Name, "")
		return
	}
	v := &store.Version{Kind: k.Name, ID: object, Body: raw(before), After: raw(after)}
	if v.Body == v.After {
		return
	}
	was, is := differences(plain(before), plain(after))
	if said := h.doors[k.Name].said; said != nil {
		was, is = said(before), said(after)
	}
	h.writeState(store.AddEntry(h.Time(), a, "change", object, was, is, "", v))
}

// tellSecrets writes down that secrets were entered or taken away; what they are stands nowhere.
func (h *Hub) tellSecrets(a access.Actor, k *site.Kind, id string, entered map[string]*string) {
	for _, name := range slices.Sorted(maps.Keys(entered)) {
		if entered[name] != nil {
			word := map[bool]string{true: "with a ", false: "without a "}[*entered[name] != ""]
			h.journal(h.Time(), a, "change", k.Object(id), "", word+secretWords[name], "")
		}
	}
}

func (h *Hub) tellRemoval(a access.Actor, how string, was any, why string) {
	k := site.KindOf(site.KeyOf(was).Kind)
	object := k.Object(site.KeyOf(was).ID)
	h.writeState(store.AddEntry(h.Time(), a, how, object, k.Named(was), "", why, &store.Version{Kind: k.Name, ID: object,
		Body: raw(was)}))
}

// plain is a record itself, also where it is kept by pointer; nil for nothing.
func plain(v any) any {
	if v == nil {
		return nil
	}
	return reflect.Indirect(reflect.ValueOf(v)).Interface()
}

// differences tells the fields that differ, in words.
func differences(before, after any) (was, is string) {
	b, c := fieldsOf(before), fieldsOf(after)
	var old, now []string
	for _, name := range slices.Sorted(maps.Keys(c)) {
		if b[name] != c[name] {
			label := strings.ReplaceAll(strings.TrimSuffix(name, "_ms"), "_", " ")
			old, now = append(old, label+" "+b[name]), append(now, label+" "+c[name])
		}
	}
	return strings.Join(old, ", "), strings.Join(now, ", ")
}
