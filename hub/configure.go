package hub

import (
	"context"
	"crypto/rand"
	"encoding/base32"
	"encoding/json"
	"fmt"
	"reflect"
	"strings"
	"time"
	"unicode/utf8"

	"idleember/core/access"
	"idleember/core/site"
)

// plainJSON takes the signs out of settings that are told in the journal.
var plainJSON = strings.NewReplacer(`\"`, "'", "{}", "none", `":`, " ", `"`, "", "{", "", "}", "", ",", ", ", "[", "", "]", "")

func fieldsOf(record any) map[string]string {
	out := map[string]string{}
	v := reflect.ValueOf(record)
	for i := range v.NumField() {
		name, _, _ := strings.Cut(v.Type().Field(i).Tag.Get("json"), ",")
		text := fmt.Sprint(v.Field(i).Interface())
		if ms, ok := v.Field(i).Interface().(int64); ok && strings.HasSuffix(name, "_ms") {
			text = site.Millis(ms).String()
		}
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
		_, err := h.keep(a, edit{part: v})
		return err
	})
	return v, err
}

func placeText(part any) string {
	p := part.(site.Place)
	if facts := factsText(p); facts != "" {
		return p.Name + ": " + facts
	}
	return p.Name
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
