package hub

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"idleember/core/access"
	"idleember/core/engine"
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

// Model is a device model with where it comes from and how many devices are of it.
type Model struct {
	site.Model
	Shipped bool
	Devices int
	LeftOut []string // of a device that was kept as a model: what could not be part of it, in sentences
}

func (h *Hub) modelView(m site.Model) Model {
	v := Model{Model: m, Shipped: h.shipped[m.ID].ID != ""}
	for _, d := range h.site.Devices {
		if d.Model == m.ID && d.State != site.Removed {
			v.Devices++
		}
	}
	return v
}

// Models returns all device models in order of their names.
func (h *Hub) Models(ctx context.Context, a access.Actor) (out []Model, err error) {
	err = h.ask(ctx, func() error {
		if err := access.May(a, access.Configure, access.Anything); err != nil {
			return err
		}
		for _, m := range h.models() {
			out = append(out, h.modelView(m))
		}
		return nil
	})
	slices.SortFunc(out, func(a, b Model) int { return strings.Compare(a.Name+"\x00"+a.ID, b.Name+"\x00"+b.ID) })
	return out, err
}

// Model returns one device model.
func (h *Hub) Model(ctx context.Context, a access.Actor, id string) (out Model, err error) {
	err = h.ask(ctx, func() error {
		if err := access.May(a, access.Configure, access.Anything); err != nil {
			return err
		}
		m, ok := h.models()[id]
		if !ok {
			return &NotFoundError{"device model", id, site.Nearest(id, slices.Sorted(maps.Keys(h.models())))}
		}
		out = h.modelView(m)
		return nil
	})
	return out, err
}

// SaveModel keeps a device model. One that is there already is replaced only where that is wished; those that ship stay.
func (h *Hub) SaveModel(ctx context.Context, a access.Actor, m site.Model, replace bool) (out Model, err error) {
	err = h.do(ctx, func() error {
		if err := access.May(a, access.Configure, access.Anything); err != nil {
			return err
		}
		return h.saveModel(a, m, replace, &out)
	})
	return out, err
}

// checkModel tries a model on a site of its own.
func (h *Hub) checkModel(m site.Model) error {
	if h.shipped[m.ID].ID != "" {
		return &InvalidError{"id", fmt.Sprintf("the model %s ships with the hub; choose another id for yours", m.ID)}
	}
	if err := m.Validate(); err != nil {
		return &InvalidError{"model", err.Error()}
	}
	s := m.Tried()
	for _, id := range slices.Sorted(maps.Keys(s.Automations)) {
		if err := formulasOf(s, s.Automations[id].Formulas); err != nil {
			return err
		}
		if ring := engine.Ring(s, id); ring != nil {
			return &InvalidError{"automations", ringWords(s, ring)}
		}
	}
	return nil
}

func (h *Hub) saveModel(a access.Actor, m site.Model, replace bool, out *Model) error {
	if _, have := h.site.Models[m.ID]; have && !replace {
		return &InvalidError{"id", fmt.Sprintf("there is already a model with the id %s; replace it, or choose another id", m.ID)}
	}
	saved, err := h.keep(a, edit{part: m})
	if err == nil {
		*out = h.modelView(saved.(site.Model))
	}
	return err
}

// ModelFrom keeps the description of a device as a model.
func (h *Hub) ModelFrom(ctx context.Context, a access.Actor, device, name, about string, replace bool) (out Model, err error) {
	err = h.do(ctx, func() error {
		if _, err := h.device(a, access.Configure, device); err != nil {
			return err
		}
		slug, err := site.Slug(name)
		if err != nil {
			return &InvalidError{"name", err.Error()}
		}
		m := site.ModelOf(h.site, device, slug, name)
		m.About = about
		if m.Link.Kind != site.Poll { // an address is one device's own
			m.Link.Address = ""
		}
		if err := h.saveModel(a, m, replace, &out); err != nil {
			return err
		}
		for _, id := range m.LeftOut(h.site, device) {
			out.LeftOut = append(out.LeftOut, fmt.Sprintf("what the hub decides of %s is not part of the model: it names something outside of %s", h.site.Controls[id].Name, h.site.Devices[device].Name))
		}
		return nil
	})
	return out, err
}

// RemoveModel forgets a device model; devices that were made from it stay as they are.
func (h *Hub) RemoveModel(ctx context.Context, a access.Actor, id string) error {
	if h.shipped[id].ID != "" {
		if err := access.May(a, access.Configure, access.Anything); err != nil {
			return err
		}
		return &InvalidError{"id", fmt.Sprintf("the model %s ships with the hub and stays", id)}
	}
	return h.drop(ctx, a, "model", id)
}

// Made is a device that was added from a model, with its key.
type Made struct {
	Device Device
	Key    string
}

// AddFromModel adds several devices of one model: all of them or none.
func (h *Hub) AddFromModel(ctx context.Context, a access.Actor, model string, list []site.Device) (out []Made, err error) {
	err = h.do(ctx, func() error {
		if err := access.May(a, access.Configure, access.Anything); err != nil {
			return err
		}
		m, ok := h.models()[model]
		if !ok {
			return &NotFoundError{"device model", model, site.Nearest(model, slices.Sorted(maps.Keys(h.models())))}
		}
		taken := map[string]bool{}
		for i := range list {
			m.Apply(&list[i])
			d := list[i]
			if err := h.completeDevice(a, &d); err != nil {
				return err
			}
			if taken[d.ID] {
				return &InvalidError{"devices", fmt.Sprintf("two of the devices would have the id %s; give them different names", d.ID)}
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
