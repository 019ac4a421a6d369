package hub

import (
	"context"
	"crypto/sha256"
	"slices"
	"strings"
	"time"

	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/core/fault"
	"idleember/core/site"
	"idleember/store"
)

// NewKey returns a device key of 130 random bits and its SHA-256.
func newKey() (key string, hash []byte) {
	key = secret(17)[:26]
	sum := sha256.Sum256([]byte(key))
	return key, sum[:]
}

// AddDevice adds a device and returns its key, which is not kept. The place may be an id or a new place's name; an
// empty id is made from the name.
func (h *Hub) AddDevice(ctx context.Context, a access.Actor, d site.Device) (shown.Device, string, error) {
	var view shown.Device
	var key string
	err := h.do(ctx, func() error {
		if err := access.May(a, access.Configure, access.Anything); err != nil {
			return err
		}
		var err error
		view, key, err = h.addDevice(a, d, site.Parts{})
		return err
	})
	return view, key, err
}

// NewDevice adds a device as it comes in JSON, and returns its key, which is not kept.
func (h *Hub) NewDevice(ctx context.Context, a access.Actor, body []byte) (view shown.Device, key string, err error) {
	e, err := readEdit(site.KindOf("device"), body)
	if err != nil {
		return view, "", err
	}
	return view, key, h.do(ctx, func() error {
		if err := access.May(a, access.Configure, access.Anything); err != nil {
			return err
		}
		if err := h.fillDevice(nil, &e); err != nil {
			return err
		}
		view, key, err = h.addDevice(a, e.part.(site.Device), site.Parts{})
		return err
	})
}

func (h *Hub) addDevice(a access.Actor, d site.Device, parts site.Parts) (shown.Device, string, error) {
	if err := h.completeDevice(a, &d); err != nil {
		return shown.Device{}, "", err
	}
	key, hash := newKey()
	d.Created = h.Time().Truncate(time.Millisecond)
	h.keys.set(d.ID, hash)
	changes := []site.Change{site.Put(d)}
	for _, g := range parts.Signals {
		changes = append(changes, site.Put(g))
	}
	for _, c := range parts.Controls {
		changes = append(changes, site.Put(c))
	}
	for _, g := range parts.Settings {
		changes = append(changes, site.Put(g))
	}
	for _, x := range parts.Automations {
		changes = append(changes, site.Put(x))
	}
	h.changeSite(changes...)
	h.write(store.SaveKey(d.ID, hash))
	for _, g := range parts.Settings { // their history begins with what they are at first
		h.settingKept(h.now(), g, g.Default)
	}
	h.journal(h.Time(), a, "add", d.ID, "", "device", d.Model)
	return h.deviceView(d), key, nil
}

// completeDevice checks a new device, makes its id from its name and adds its place where there is none.
func (h *Hub) completeDevice(a access.Actor, d *site.Device) error {
	if d.Link.Kind == "" {
		d.Link.Kind = site.MQTT
	}
	if err := site.CheckName("name", d.Name); err != nil {
		return err
	}
	if d.ID == "" {
		slug, err := site.Slug(d.Name)
		if err != nil {
			return fault.Invalid("name", "%v", err)
		}
		d.ID = slug
	}
	if err := site.CheckSlug(d.ID); err != nil {
		return fault.Invalid("id", "%v", err)
	}
	if have, ok := h.site.Devices[d.ID]; ok {
		if have.State == site.Removed {
			return fault.Invalid("id", "a removed device had the id %s and its history is kept; bring it back, delete its "+
				"history, or choose another id", d.ID)
		}
		return &fault.ExistsError{Kind: "device", ID: d.ID, Name: have.Name}
	}
	if err := h.checkDevice(*d); err != nil {
		return err
	}
	return h.placeFor(a, d)
}

func (h *Hub) checkDevice(d site.Device) error {
	if d.ID == site.ScriptUser {
		return fault.Invalid("id", "the id token is the user name of scripts; choose another")
	}
	if err := d.Validate(); err != nil {
		return fault.Invalid("link", "%v", err)
	}
	if d.Link.Kind == site.Outside {
		if _, ok := h.site.Brokers[d.Link.Broker]; !ok {
			return fault.Invalid("link.broker", "there is no broker with the id %q; add it first", site.Clip(d.Link.Broker, 40))
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
		return fault.Invalid("place", "the place is missing; name the room, shed or yard in which the device is")
	}
	saved, err := h.keep(a, edit{part: site.Place{Name: d.Place}})
	if err == nil {
		d.Place = saved.(site.Place).ID
	}
	return err
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
		return d, fault.NotFound("device", id, site.Nearest(id, ids)...)
	}
	return d, access.May(a, action, h.deviceObject(d))
}

// Device returns one device.
func (h *Hub) Device(ctx context.Context, a access.Actor, id string) (shown.Device, error) {
	var view shown.Device
	err := h.ask(ctx, func() error {
		d, err := h.device(a, access.Look, id)
		if err == nil {
			view = forActor(a, h.deviceView(d))
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
