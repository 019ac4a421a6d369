package hub

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/core/engine"
	"idleember/core/fault"
	"idleember/core/site"
	"idleember/models"
)

// shippedModels are the device models that are part of the program.
func shippedModels() (map[string]site.Model, error) {
	list, err := models.All()
	out := map[string]site.Model{}
	for _, m := range list {
		out[m.ID] = m
	}
	return out, err
}

// models are those that ship and those that the owner keeps.
func (h *Hub) models() map[string]site.Model {
	all := maps.Clone(h.shipped)
	maps.Copy(all, h.site.Models)
	return all
}

func (h *Hub) modelState(id string) shown.ModelState {
	v := shown.ModelState{Shipped: h.shipped[id].ID != ""}
	for _, d := range h.site.Devices {
		if d.Model == id && d.State != site.Removed {
			v.Devices++
		}
	}
	return v
}

// checkModel tries a model on a site of its own.
func (h *Hub) checkModel(m site.Model) error {
	if h.shipped[m.ID].ID != "" {
		return fault.Invalid("id", "the model %s ships with the hub; choose another id for yours", m.ID)
	}
	if err := m.Validate(); err != nil {
		return fault.Invalid("model", "%v", err)
	}
	s := m.Tried()
	for _, id := range slices.Sorted(maps.Keys(s.Automations)) {
		if err := engine.CheckAutomation(s, s.Controls[id], s.Automations[id]); err != nil {
			_, name := site.Split(id)
			return fault.Invalid("model", "the automation of %s: %v", name, err)
		}
		if err := engine.CheckFormulas(s, s.Automations[id].Formulas); err != nil {
			return err
		}
		if ring := engine.Ring(s, id); ring != nil {
			return &fault.InvalidError{Field: "automations", Reason: ringWords(s, ring)}
		}
	}
	return nil
}

// ModelFrom keeps the description of a device as a model.
func (h *Hub) ModelFrom(ctx context.Context, a access.Actor, device, name, about string, replace bool) (out shown.Model,
	err error) {
	err = h.do(ctx, func() error {
		if _, err := h.device(a, access.Configure, device); err != nil {
			return err
		}
		slug, err := site.Slug(name)
		if err != nil {
			return fault.Invalid("name", "%v", err)
		}
		m := site.ModelOf(h.site, device, slug, name)
		m.About = about
		if a := m.Link.Spec().Address; a == nil || !a.Shared { // an address is one device's own
			m.Link.Address = ""
		}
		saved, err := h.keep(a, edit{part: m, check: func(before any) error {
			if before != nil && !replace {
				return fault.ErrThere
			}
			return nil
		}})
		if err != nil {
			return err
		}
		m = saved.(site.Model)
		out = shown.Model{Config: m, State: h.modelState(m.ID), Version: shown.Version(m)}
		for _, id := range m.LeftOut(h.site, device) {
			out.State.LeftOut = append(out.State.LeftOut,
				fmt.Sprintf("what the hub decides of %s is not part of the model: it names something outside of %s",
					h.site.Controls[id].Name, h.site.Devices[device].Name))
		}
		return nil
	})
	return out, err
}

// Made is a device that was added from a model, with its key.
type Made struct {
	Device shown.Device
	Key    string
}

// AddFromModel adds several devices of one model: all of them or none.
func (h *Hub) AddFromModel(ctx context.Context, a access.Actor, model string, list []site.Device) (out []Made,
	err error) {
	err = h.do(ctx, func() error {
		if err := access.May(a, access.Configure, access.Anything); err != nil {
			return err
		}
		m, ok := h.models()[model]
		if !ok {
			return fault.NotFound("device model", model, site.Nearest(model, slices.Sorted(maps.Keys(h.models())))...)
		}
		taken := map[string]bool{}
		for i := range list {
			m.Apply(&list[i])
			d := list[i]
			if err := h.completeDevice(a, &d); err != nil {
				return err
			}
			if taken[d.ID] {
				return fault.Invalid("devices", "two of the devices would have the id %s; give them different names", d.ID)
			}
			taken[d.ID], list[i] = true, d
		}
		for i := range list {
			parts := m.Apply(&list[i])
			view, key, err := h.addDevice(a, list[i], parts)
			if err != nil {
				return err
			}
			out = append(out, Made{view, key})
		}
		return nil
	})
	return out, err
}
