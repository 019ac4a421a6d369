package hub

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
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
	h.current.Store(next)
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
		h.journal(time.Now(), a, "change", object, strings.Join(was, ", "), strings.Join(is, ", "), "")
	}
}

// plainJSON takes the signs out of settings that are told in the journal.
var plainJSON = strings.NewReplacer("{}", "none", `":`, " ", `"`, "", "{", "", "}", "", ",", ", ", "[", "", "]", "")

func fieldsOf(record any) map[string]string {
	out := map[string]string{}
	v := reflect.ValueOf(record)
	for i := range v.NumField() {
		name, _, _ := strings.Cut(v.Type().Field(i).Tag.Get("json"), ",")
		text := fmt.Sprint(v.Field(i).Interface())
		if k := v.Field(i).Kind(); k == reflect.Struct || k == reflect.Slice || k == reflect.Pointer {
			b, _ := json.Marshal(v.Field(i).Interface()) // plain settings
			text = plainJSON.Replace(string(b))
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
	case strings.ContainsFunc(name, func(r rune) bool { return r < ' ' || r == 0x7f }):
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
	if _, err := time.LoadLocation(v.Zone); err != nil || v.Zone == "" || v.Zone == "Local" {
		return &InvalidError{"zone", fmt.Sprintf("%q is no time zone; use a name such as Europe/Vienna", clip(v.Zone, 60))}
	}
	return nil
}

// Settings returns what the owner told about the hub.
func (h *Hub) Settings(ctx context.Context, a access.Actor) (site.Hub, error) {
	return h.Site().Hub, access.May(a, access.Look, access.Anything)
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
func (h *Hub) SavePlace(ctx context.Context, a access.Actor, p site.Place) (site.Place, error) {
	err := h.do(ctx, func() error {
		if err := access.May(a, access.Configure, access.Anything); err != nil {
			return err
		}
		return h.savePlace(a, &p)
	})
	return p, err
}

func (h *Hub) savePlace(a access.Actor, p *site.Place) error {
	if err := checkName("name", p.Name); err != nil {
		return err
	}
	if p.ID == "" {
		slug, err := site.Slug(p.Name)
		if err != nil {
			return &InvalidError{"name", err.Error()}
		}
		p.ID = slug
	}
	if err := site.CheckSlug(p.ID); err != nil {
		return &InvalidError{"id", err.Error()}
	}
	if _, ok := h.site.Devices[p.ID]; ok {
		if have, isPlace := h.site.Place(p.ID); !isPlace {
			return &InvalidError{"id", fmt.Sprintf("the id %s belongs to the device %q; choose another for the place", p.ID, h.site.Devices[p.ID].Name)}
		} else if have.Name == p.Name {
			return nil
		}
	}
	before := ""
	if have, ok := h.site.Place(p.ID); ok {
		before = have.Name
	}
	h.journal(time.Now(), a, "save", "place "+p.ID, before, p.Name, "")
	h.changeSite(func(s *site.Site) {
		if i := slices.IndexFunc(s.Places, func(x site.Place) bool { return x.ID == p.ID }); i >= 0 {
			s.Places[i] = *p
		} else {
			s.Places = append(s.Places, *p)
		}
	}, store.SavePlace(*p))
	return nil
}

// NewKey returns a device key of 130 random bits and its SHA-256.
func newKey() (key string, hash []byte) {
	key = secret(17)[:26]
	sum := sha256.Sum256([]byte(key))
	return key, sum[:]
}

// AddDevice adds a device and returns its key, which is not kept. The place may be an id or a new place's name; an empty
// id is made from the name.
func (h *Hub) AddDevice(ctx context.Context, a access.Actor, d site.Device) (Device, string, error) {
	var view Device
	var key string
	err := h.do(ctx, func() error {
		if err := access.May(a, access.Configure, access.Anything); err != nil {
			return err
		}
		var err error
		view, key, err = h.addDevice(a, d, nil, nil)
		return err
	})
	return view, key, err
}

func (h *Hub) addDevice(a access.Actor, d site.Device, signals []site.Signal, controls []site.Control) (Device, string, error) {
	if err := h.completeDevice(a, &d); err != nil {
		return Device{}, "", err
	}
	key, hash := newKey()
	d.Created = time.Now().Truncate(time.Millisecond)
	h.keys.set(d.ID, hash)
	writes := []store.Change{store.AddDevice(d, hash)}
	for _, g := range signals {
		writes = append(writes, store.SaveSignal(g))
	}
	for _, c := range controls {
		writes = append(writes, store.SaveControl(c))
	}
	h.changeSite(func(s *site.Site) {
		s.Devices[d.ID] = d
		for _, g := range signals {
			s.Signals[g.ID] = g
		}
		for _, c := range controls {
			s.Controls[c.ID] = c
		}
	}, writes...)
	h.journal(time.Now(), a, "add", d.ID, "", "device", d.Model)
	return h.deviceView(d), key, nil
}

// completeDevice checks a new device, makes its id from its name and adds its place where there is none.
func (h *Hub) completeDevice(a access.Actor, d *site.Device) error {
	if d.Link.Kind == "" {
		d.Link.Kind = site.MQTT
	}
	if err := checkName("name", d.Name); err != nil {
		return err
	}
	if d.ID == "" {
		slug, err := site.Slug(d.Name)
		if err != nil {
			return &InvalidError{"name", err.Error()}
		}
		d.ID = slug
	}
	if err := site.CheckSlug(d.ID); err != nil {
		return &InvalidError{"id", err.Error()}
	}
	if d.ID == site.ScriptUser {
		return &InvalidError{"id", "the id token is the user name of scripts; choose another"}
	}
	if have, ok := h.site.Devices[d.ID]; ok {
		why := fmt.Sprintf("there is already a device with the id %s; choose another id", d.ID)
		if have.State == site.Removed {
			why = fmt.Sprintf("a removed device had the id %s and its history is kept; bring it back, delete its history, or choose another id", d.ID)
		}
		return &InvalidError{"id", why}
	}
	if err := h.checkDevice(*d); err != nil {
		return err
	}
	return h.placeFor(a, d)
}

func (h *Hub) checkDevice(d site.Device) error {
	if err := d.Validate(); err != nil {
		return &InvalidError{"link", err.Error()}
	}
	if d.Link.Kind == site.Outside {
		if _, ok := h.site.Brokers[d.Link.Broker]; !ok {
			return &InvalidError{"link.broker", fmt.Sprintf("there is no broker with the id %q; add it first", clip(d.Link.Broker, 40))}
		}
	}
	return nil
}

// placeFor turns a device's place, an id or a name, into an id, adding the place where there is none.
func (h *Hub) placeFor(a access.Actor, d *site.Device) error {
	for _, p := range h.site.Places {
		if p.ID == d.Place || strings.EqualFold(p.Name, d.Place) {
			d.Place = p.ID
			return nil
		}
	}
	if strings.TrimSpace(d.Place) == "" {
		return &InvalidError{"place", "the place is missing; name the room, shed or yard in which the device is"}
	}
	p := site.Place{Name: d.Place}
	if err := h.savePlace(a, &p); err != nil {
		return err
	}
	d.Place = p.ID
	return nil
}

func (h *Hub) device(a access.Actor, action access.Action, id string) (site.Device, error) {
	d, ok := h.site.Devices[id]
	if !ok || access.May(a, access.Look, h.deviceObject(d)) != nil {
		var ids []string
		for other, d := range h.site.Devices {
			if access.May(a, access.Look, h.deviceObject(d)) == nil {
				ids = append(ids, other)
			}
		}
		slices.Sort(ids)
		return d, &NotFoundError{"device", id, site.Nearest(id, ids)}
	}
	return d, access.May(a, action, h.deviceObject(d))
}

// ChangeDevice changes a device's name, place, lease or leave to bring new signals.
func (h *Hub) ChangeDevice(ctx context.Context, a access.Actor, id string, change func(*site.Device) error) (Device, error) {
	var view Device
	err := h.do(ctx, func() error {
		d, err := h.device(a, access.Configure, id)
		if err != nil {
			return err
		}
		before := d
		if err := change(&d); err != nil {
			return err
		}
		if err := checkName("name", d.Name); err != nil {
			return err
		}
		if err := h.checkDevice(d); err != nil {
			return err
		}
		if err := h.placeFor(a, &d); err != nil {
			return err
		}
		h.changeSite(func(s *site.Site) { s.Devices[id] = d }, store.SaveDevice(d))
		h.journalChange(a, id, before, d)
		view = h.deviceView(d)
		return nil
	})
	return view, err
}

// Device returns one device.
func (h *Hub) Device(ctx context.Context, a access.Actor, id string) (Device, error) {
	var view Device
	err := h.ask(ctx, func() error {
		d, err := h.device(a, access.Look, id)
		if err == nil {
			view = h.deviceView(d)
			if a.Role == access.Guest {
				view = forGuests(view)
			}
		}
		return err
	})
	return view, err
}

// Refusals returns what a device sent and the hub could not take, newest first.
func (h *Hub) Refusals(ctx context.Context, a access.Actor, id string) ([]store.Refusal, error) {
	if err := h.ask(ctx, func() error { _, err := h.device(a, access.Configure, id); return err }); err != nil {
		return nil, err
	}
	return h.store.Refusals(ctx, id)
}

// ChangeSignal changes how a signal is named and shown.
func (h *Hub) ChangeSignal(ctx context.Context, a access.Actor, id string, change func(*site.Signal) error) (Signal, error) {
	var view Signal
	err := h.do(ctx, func() error {
		s, ok := h.site.Signals[id]
		if !ok || access.May(a, access.Look, h.signalObject(s)) != nil {
			return &NotFoundError{"signal", id, site.Nearest(id, h.ids(a, true, false))}
		}
		if err := access.May(a, access.Configure, h.signalObject(s)); err != nil {
			return err
		}
		before := s
		if err := change(&s); err != nil {
			return err
		}
		s.New = false
		if err := checkSignal(s); err != nil {
			return err
		}
		h.changeSite(func(c *site.Site) { c.Signals[id] = s }, store.SaveSignal(s))
		h.journalChange(a, id, before, s)
		view = h.signalView(s)
		return nil
	})
	return view, err
}

func checkSignal(s site.Signal) error {
	switch {
	case len(s.Unit) > 20:
		return &InvalidError{"unit", "the unit is longer than 20 characters; use a UCUM symbol such as Cel, % or W"}
	case s.Decimals < 0 || s.Decimals > 6:
		return &InvalidError{"decimals", fmt.Sprintf("decimals is %d; choose between 0 and 6", s.Decimals)}
	case s.Interval < 0 || s.Interval > 24*time.Hour:
		return &InvalidError{"interval_ms", fmt.Sprintf("the interval is %s; choose up to 24 h, or 0 to let the hub learn it", s.Interval)}
	case s.Guests == site.GuestsSwitch:
		return &InvalidError{"guests", "a signal can be seen, not switched; choose none or see"}
	}
	if err := s.Validate(); err != nil {
		return &InvalidError{"signal", err.Error()}
	}
	return checkName("name", s.Name)
}

// SaveControl adds a control to a device, or changes it.
func (h *Hub) SaveControl(ctx context.Context, a access.Actor, id string, change func(*site.Control) error) (Control, error) {
	var view Control
	err := h.do(ctx, func() error {
		c, ok := h.site.Controls[id]
		if !ok {
			return &NotFoundError{"control", id, site.Nearest(id, h.ids(a, false, true))}
		}
		before := c
		if err := access.May(a, access.Configure, h.controlObject(c)); err != nil {
			return err
		}
		if err := change(&c); err != nil {
			return err
		}
		return h.keepControl(a, before, c, &view)
	})
	return view, err
}

// AddControl adds a switch to a device, for boards that do not report one by themselves.
func (h *Hub) AddControl(ctx context.Context, a access.Actor, device, name string, change func(*site.Control) error) (Control, error) {
	var view Control
	err := h.do(ctx, func() error {
		d, err := h.device(a, access.Configure, device)
		if err != nil {
			return err
		}
		slug, err := site.Slug(name)
		if err != nil {
			return &InvalidError{"name", err.Error()}
		}
		c := site.NewControl(d.ID, slug, slug, name)
		if _, ok := h.site.Controls[c.ID]; ok {
			return &InvalidError{"name", fmt.Sprintf("there is already a control with the id %s; choose another name", c.ID)}
		}
		if _, ok := h.site.Signals[c.ID]; ok {
			return &InvalidError{"name", fmt.Sprintf("there is already a signal with the id %s; choose another name", c.ID)}
		}
		if err := change(&c); err != nil {
			return err
		}
		return h.keepControl(a, site.Control{}, c, &view)
	})
	return view, err
}

func (h *Hub) keepControl(a access.Actor, before, c site.Control, view *Control) error {
	if err := checkName("name", c.Name); err != nil {
		return err
	}
	if err := c.Validate(); err != nil {
		return &InvalidError{"control", err.Error()}
	}
	h.changeSite(func(s *site.Site) { s.Controls[c.ID] = c }, store.SaveControl(c))
	if before.ID == "" {
		h.journal(time.Now(), a, "add", c.ID, "", "switch", "")
	} else {
		h.journalChange(a, c.ID, before, c)
	}
	*view = h.controlView(c)
	h.publishControl(c.ID)
	return nil
}

// AddSignal adds a signal before its first reading.
func (h *Hub) AddSignal(ctx context.Context, a access.Actor, device, raw string, kind site.Kind, change func(*site.Signal)) (Signal, error) {
	var view Signal
	err := h.do(ctx, func() error {
		d, err := h.device(a, access.Configure, device)
		if err != nil {
			return err
		}
		d.NewSignals = true // whatever the board may do, its owner may
		id, known, why := h.nameAnew(d, raw)
		if known {
			why = "it is there already"
		}
		if why != "" {
			return &InvalidError{"name", fmt.Sprintf("%q cannot be added to %s: %s", clip(raw, 40), device, why)}
		}
		s := newSignal(d, id, raw, kind)
		s.New = false
		change(&s)
		if err := checkSignal(s); err != nil {
			return err
		}
		h.changeSite(func(c *site.Site) { c.Signals[id] = s }, store.SaveSignal(s))
		h.journal(time.Now(), a, "add", id, "", "signal", "")
		view = h.signalView(s)
		return nil
	})
	return view, err
}
