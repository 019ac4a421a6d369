package hub

import (
	"context"
	"crypto/rand"
	"encoding/base32"
	"encoding/json"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"idleember/core/access"
	"idleember/core/engine"
	"idleember/core/site"
	"idleember/store"
)

// changeSite replaces the site by a changed copy and tells the engine and everybody who looks on.
func (h *Hub) changeSite(change func(*site.Site), writes ...store.Change) {
	next := h.site.Clone()
	change(next)
	h.site = next
	h.sites++
	h.current.Store(next)
	h.live.newSite()
	if len(h.toldOf) > 2*len(next.Signals)+100 { // of signals that are gone
		clear(h.toldOf)
	}
	h.write(writes...)
	h.apply(engine.SiteChanged{Site: next})
	h.changed.tell()
	h.lookAgain()
}

// lookAgain tells everybody who looks on, after the commit, that names or rights changed: streams whose right has ended end.
func (h *Hub) lookAgain() {
	h.later(func(err error) {
		if err == nil {
			h.live.publish("site", struct{}{}, access.Anything)
		}
	})
}

// journalChange writes down which fields of a record changed, with their values before and after.
func (h *Hub) journalChange(a access.Actor, object string, before, after any) {
	b, c := fieldsOf(before), fieldsOf(after)
	var was, is []string
	for _, name := range slices.Sorted(maps.Keys(c)) {
		if b[name] != c[name] {
			label := strings.ReplaceAll(name, "_", " ")
			was, is = append(was, label+" "+b[name]), append(is, label+" "+c[name])
		}
	}
	if len(is) > 0 {
		v := versionOf(object, before)
		v.After = raw(after)
		h.writeState(store.AddEntry(h.Time(), a, "change", object, strings.Join(was, ", "), strings.Join(is, ", "), "", v))
	}
}

// plainJSON takes the signs out of settings that are told in the journal.
var plainJSON = strings.NewReplacer(`\"`, "'", "{}", "none", `":`, " ", `"`, "", "{", "", "}", "", ",", ", ", "[", "", "]", "")

func fieldsOf(record any) map[string]string {
	out := map[string]string{}
	v := reflect.ValueOf(record)
	for i := range v.NumField() {
		name, _, _ := strings.Cut(v.Type().Field(i).Tag.Get("json"), ",")
		text := fmt.Sprint(v.Field(i).Interface())
		if k := v.Field(i).Kind(); k == reflect.Struct || k == reflect.Slice || k == reflect.Pointer {
			var b strings.Builder
			coder := json.NewEncoder(&b)
			coder.SetEscapeHTML(false)               // formulas are full of > and <
			_ = coder.Encode(v.Field(i).Interface()) // plain settings
			text = plainJSON.Replace(strings.TrimSpace(b.String()))
		}
		if text == "" || text == "null" {
			text = "none"
		}
		out[name] = text
	}
	return out
}

func (h *Hub) deviceActor(d site.Device) access.Actor {
	from := ""
	if s, ok := h.engine.Device(d.ID); ok {
		from = s.From
	}
	return access.DeviceActor(d.ID, d.Name, from)
}

// secret returns n random bytes as small letters and digits.
func secret(n int) string {
	b := make([]byte, n)
	_, _ = rand.Read(b) // never fails
	return strings.ToLower(base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString(b))
}

func checkName(field, name string) error {
	switch {
	case strings.TrimSpace(name) == "":
		return &InvalidError{field, field + " is empty; give it a name"}
	case utf8.RuneCountInString(name) > 80:
		return &InvalidError{field, field + " is longer than 80 characters; shorten it"}
	case strings.ContainsFunc(name, site.Unprintable):
		return &InvalidError{field, field + " holds control characters; leave them out"}
	}
	return nil
}

func checkHub(v site.Hub) error {
	if err := checkName("name", v.Name); err != nil {
		return err
	}
	if v.Latitude < -90 || v.Latitude > 90 || v.Longitude < -180 || v.Longitude > 180 {
		return &InvalidError{"latitude", fmt.Sprintf("%g, %g is no place on the map; latitude goes from -90 to 90, longitude from -180 to 180", v.Latitude, v.Longitude)}
	}
	if v.JournalDays < 0 || v.JournalDays > 0 && v.JournalDays < 30 {
		return &InvalidError{"journal_days", "the journal is kept for at least 30 days, or for ever (0)"}
	}
	if v.IdleDays < 0 || v.IdleDays > 365 {
		return &InvalidError{"idle_days", "a browser that is not used is signed out after 1 to 365 days"}
	}
	if _, err := time.LoadLocation(v.Zone); err != nil || v.Zone == "" || v.Zone == "Local" {
		return &InvalidError{"zone", fmt.Sprintf("%q is no time zone; use a name such as Europe/Vienna", clip(v.Zone, 60))}
	}
	return nil
}

// Settings returns what the owner told about the hub.
func (h *Hub) Settings(ctx context.Context, a access.Actor) (site.Hub, error) {
	v := h.Site().Hub
	if a.Role != access.Owner && a.Role != access.Member { // whoever is here for a while need not know where the house is
		v.Latitude, v.Longitude = 0, 0
	}
	return v, access.May(a, access.Look, access.Anything)
}

// ChangeHub changes what the owner told about the hub.
func (h *Hub) ChangeHub(ctx context.Context, a access.Actor, change func(*site.Hub) error) (site.Hub, error) {
	var v site.Hub
	err := h.do(ctx, func() error {
		if err := access.May(a, access.Configure, access.Anything); err != nil {
			return err
		}
		v = h.site.Hub
		if err := change(&v); err != nil {
			return err
		}
		if err := checkHub(v); err != nil {
			return err
		}
		h.journalChange(a, "hub", h.site.Hub, v)
		h.changeSite(func(s *site.Site) { s.Hub = v }, store.SaveHub(v))
		return nil
	})
	return v, err
}

// SavePlace adds a place, or renames the one that has this id. An empty id is made from the name.
// Facts and picture that are not told stay as they were.
func (h *Hub) SavePlace(ctx context.Context, a access.Actor, p site.Place, picture *string) (site.Place, error) {
	err := h.do(ctx, func() error {
		if err := access.May(a, access.Configure, access.Anything); err != nil {
			return err
		}
		return h.savePlace(a, &p, picture)
	})
	return p, err
}

func (h *Hub) savePlace(a access.Actor, p *site.Place, picture *string) error {
	if err := checkName("name", p.Name); err != nil {
		return err
	}
	if p.ID == "" {
		for _, x := range h.site.Places {
			if strings.EqualFold(x.Name, p.Name) {
				return &ExistsError{"place", x.ID, x.Name}
			}
		}
		free, err := freeID(p.Name, func(id string) bool {
			_, place := h.site.Place(id)
			_, device := h.site.Devices[id]
			return place || device
		})
		if err != nil {
			return &InvalidError{"name", err.Error()}
		}
		p.ID = free
	}
	if err := site.CheckSlug(p.ID); err != nil {
		return &InvalidError{"id", err.Error()}
	}
	if _, ok := h.site.Devices[p.ID]; ok {
		if have, isPlace := h.site.Place(p.ID); !isPlace {
			return &InvalidError{"id", fmt.Sprintf("the id %s belongs to the device %q; choose another for the place", p.ID, h.site.Devices[p.ID].Name)}
		} else if have.Name == p.Name && p.Facts == nil {
			return nil
		}
	}
	have, known := h.site.Place(p.ID)
	if known && p.Facts == nil {
		p.Facts = have.Facts
	}
	p.Picture = have.Picture
	if picture != nil {
		p.Picture = *picture
	}
	if err := p.Validate(); err != nil {
		return &InvalidError{"facts", err.Error()}
	}
	before, after := "", p.Name
	var v *store.Version
	if known {
		v = versionOf("place "+p.ID, have)
		v.After = raw(*p)
		before = have.Name
		if was, is := factsText(have), factsText(*p); was != is {
			before, after = have.Name+": "+was, p.Name+": "+is
		}
	}
	h.writeState(store.AddEntry(h.Time(), a, "save", "place "+p.ID, before, after, "", v))
	h.changeSite(func(s *site.Site) {
		if i := slices.IndexFunc(s.Places, func(x site.Place) bool { return x.ID == p.ID }); i >= 0 {
			s.Places[i] = *p
		} else {
			s.Places = append(s.Places, *p)
		}
	}, store.SavePlace(*p))
	return nil
}

func factsText(p site.Place) string {
	var out []string
	for _, f := range p.Facts {
		out = append(out, strings.TrimSpace(f.Name+" "+f.Text+" "+f.Date))
	}
	if p.Picture != "" {
		out = append(out, "picture "+p.Picture)
	}
	return strings.Join(out, ", ")
}
