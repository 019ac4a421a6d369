package hub

import (
	"crypto/rand"
	"encoding/base32"
	"encoding/json"
	"fmt"
	"reflect"
	"strings"

	"idleember/core/access"
	"idleember/core/site"
)

// plainJSON takes the signs out of settings that are told in the journal.
var plainJSON = strings.NewReplacer(`\"`, "'", "{}", "none", `":`, " ", `"`, "", "{", "", "}", "", ",", ", ", "[", "",
	"]", "")

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
