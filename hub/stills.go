package hub

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/core/alert"
	"idleember/core/engine"
	"idleember/core/site"
	"idleember/store"
)

func stillView(s store.Still) shown.Still {
	about, _ := cutCause(s.Cause)
	return shown.Still{ID: s.ID, Device: s.Device, At: time.UnixMilli(s.AtMS), Alert: about, Size: s.Size}
}

// Fetcher brings a JPEG from a camera. The password is "" where it asks for none.
type Fetcher func(ctx context.Context, c site.Camera, password string) ([]byte, error)

// stills fetches each device's picture once, however many want it.
type stills struct {
	mu    sync.Mutex
	fetch Fetcher
	now   map[string]*flight // by device
}

type flight struct {
	done  chan struct{}
	still store.Still
	err   error
}

// RemoteError says that what the hub asked elsewhere did not give what it should.
type RemoteError struct{ Err error }

func (e *RemoteError) Error() string { return e.Err.Error() }
func (e *RemoteError) Unwrap() error { return e.Err }

const (
	fetchWithin = 10 * time.Second
	stillFor    = 8 * time.Second // how long a message waits for its picture
	stillRest   = 2 * time.Second // between two that somebody asks for
)

// Fetches registers who brings pictures. It is called before there is anything to fetch.
func (h *Hub) Fetches(f Fetcher) {
	h.stills.mu.Lock()
	h.stills.fetch = f
	h.stills.mu.Unlock()
}

func stillObject(d site.Device) access.Object {
	o := access.Object{Device: d.ID, Name: stillsOf(d.ID), Place: d.Place, Guests: site.GuestsNothing, Private: true}
	if d.Camera.Guests != "" {
		o.Guests = d.Camera.Guests
	}
	return o
}

// stillsOf names the pictures of a device, which may be open where the device is not.
func stillsOf(device string) string { return device + site.PicturesOf }

// seen returns a device with a camera that an actor may look through.
func (h *Hub) seen(a access.Actor, id string) (site.Device, error) {
	s := h.Site()
	d, ok := s.Devices[id]
	if !ok || access.May(a, access.Look, stillObject(d)) != nil {
		return d, &NotFoundError{"device", id, site.Nearest(id, slices.Collect(maps.Keys(s.Devices)))}
	}
	return d, nil
}

func (h *Hub) cameraPassword(device string) string {
	return h.vault.get(site.Key{Kind: "device", ID: device}, site.CameraPassword)
}

// Camera returns a device's, for owners.
func (h *Hub) Camera(ctx context.Context, a access.Actor, id string) (v shown.Camera, err error) {
	if err := access.May(a, access.Configure, access.Anything); err != nil {
		return v, err
	}
	d, err := h.seen(a, id)
	if err != nil {
		return v, err
	}
	return shown.Camera{Config: d.Camera, Password: h.cameraPassword(id) != ""}, nil
}

// SaveCamera changes a device's; the zero value takes it away. A nil password leaves the one that is kept, unless the picture
// is to come from another host: the password is not for that one.
func (h *Hub) SaveCamera(ctx context.Context, a access.Actor, id string, c site.Camera, password *string) (shown.Camera, error) {
	if err := c.Validate(); err != nil {
		return shown.Camera{}, &InvalidError{"camera", err.Error()}
	}
	err := h.do(ctx, func() error {
		d, err := h.device(a, access.Configure, id)
		if err != nil {
			return err
		}
		if password == nil && (c.Account == "" || c.Host() != d.Camera.Host()) {
			password = new(string)
		}
		d.Camera = c
		_, err = h.keep(a, edit{part: d, secrets: map[string]*string{site.CameraPassword: password}})
		return err
	})
	if err != nil {
		return shown.Camera{}, err
	}
	return h.Camera(ctx, a, id)
}

// TakeStill fetches a picture now. One that was taken a moment ago will do.
func (h *Hub) TakeStill(ctx context.Context, a access.Actor, id string) (shown.Still, error) {
	d, err := h.seen(a, id)
	if err != nil {
		return shown.Still{}, err
	}
	if d.Camera.Address == "" {
		return shown.Still{}, &InvalidError{"id", d.Name + " has no camera; an owner gives its address on the page of the device"}
	}
	if list, err := h.store.Stills(ctx, id, 1); err != nil || len(list) > 0 && h.Time().Sub(time.UnixMilli(list[0].AtMS)) < stillRest {
		return first(list), err
	}
	f := h.takeStill(d, "")
	select {
	case <-f.done:
	case <-ctx.Done():
		return shown.Still{}, ctx.Err()
	}
	if f.err != nil {
		return shown.Still{}, &RemoteError{f.err}
	}
	return stillView(f.still), nil
}

func first(list []store.Still) shown.Still {
	if len(list) == 0 {
		return shown.Still{}
	}
	return stillView(list[0])
}

// takeStill begins to fetch a picture, or joins who does.
func (h *Hub) takeStill(d site.Device, cause string) *flight {
	s := &h.stills
	s.mu.Lock()
	defer s.mu.Unlock()
	if f := s.now[d.ID]; f != nil && (cause == "" || f.still.Cause == cause) {
		return f
	}
	f := &flight{done: make(chan struct{}), still: store.Still{Device: d.ID, Cause: cause}}
	if s.now == nil {
		s.now = map[string]*flight{}
	}
	s.now[d.ID] = f
	fetch := s.fetch
	h.tasks.Go(func() {
		f.err = h.fetchStill(fetch, d, f)
		s.mu.Lock()
		if s.now[d.ID] == f {
			delete(s.now, d.ID)
		}
		s.mu.Unlock()
		close(f.done)
		if f.err != nil {
			h.log.Info("no picture", "device", d.ID, "error", f.err)
			return
		}
		h.enqueue(func() { h.live.publish("still", stillView(f.still), stillObject(d)) })
	})
	return f
}

func (h *Hub) fetchStill(fetch Fetcher, d site.Device, f *flight) error {
	if fetch == nil {
		return errors.New("nobody fetches pictures here")
	}
	ctx, stop := context.WithTimeout(h.life, fetchWithin)
	defer stop()
	word := h.cameraPassword(d.ID)
	body, err := fetch(ctx, d.Camera, word)
	if err != nil {
		return fmt.Errorf("%s gives no picture: %w", d.Name, err)
	}
	f.still.AtMS, f.still.Size = h.Time().UnixMilli(), len(body)
	return h.do(ctx, func() error {
		if now, ok := h.site.Devices[d.ID]; !ok || !now.Created.Equal(d.Created) { // it was removed meanwhile
			return &NotFoundError{What: "device", ID: d.ID}
		}
		h.write(store.AddStill(f.still, body, &f.still.ID))
		return nil
	})
}

// lookOn takes a picture for an alert that was raised: of its own device, else of one that sees its place.
func (h *Hub) lookOn(x engine.AlertChanged, cfg *site.Alert) {
	if !slices.Contains(x.What, alert.WasRaised) {
		return
	}
	if d, ok := h.watching(cfg); ok {
		h.takeStill(d, causeOf(x.State.ID, x.State.N, x.State.Since))
	}
}

func (h *Hub) watching(cfg *site.Alert) (site.Device, bool) {
	owner, _ := site.Split(cfg.Of)
	if d := h.site.Devices[owner]; d.Active() && d.Camera.Address != "" {
		return d, true
	}
	place := h.placeOf(cfg.Of)
	for _, id := range slices.Sorted(maps.Keys(h.site.Devices)) {
		if d := h.site.Devices[id]; d.Active() && d.Camera.Address != "" && d.Place == place && place != "" {
			return d, true
		}
	}
	return site.Device{}, false
}

// causeOf names one time of an alert; an alert that is made again under its id counts from 1 again.
func causeOf(id string, n int64, since time.Time) string {
	return fmt.Sprintf("%s#%d@%d", id, n, since.UnixMilli())
}

func cutCause(cause string) (id string, n int64) {
	if i := slices.Index([]byte(cause), '#'); i >= 0 {
		_, _ = fmt.Sscan(cause[i+1:], &n)
		return cause[:i], n
	}
	return "", 0
}

// stillOf is the picture that was taken for what a notice tells, waiting for it a little; 0 where there is none.
func (h *Hub) stillOf(ctx context.Context, n Notice) int64 {
	if n.What != string(alert.WasRaised) || n.N == 0 {
		return 0
	}
	cause := causeOf(n.Alert, n.N, n.Since)
	h.stills.mu.Lock()
	var wait *flight
	for _, f := range h.stills.now {
		if f.still.Cause == cause {
			wait = f
		}
	}
	h.stills.mu.Unlock()
	if wait != nil {
		select {
		case <-wait.done:
		case <-time.After(stillFor):
		case <-ctx.Done():
		}
	}
	s, _, err := h.store.StillOf(ctx, cause)
	if err != nil {
		h.log.Warn("a message goes without its picture", "error", err)
	}
	return s.ID
}

// Stills returns a device's newest pictures, newest first.
func (h *Hub) Stills(ctx context.Context, a access.Actor, id string, limit int) ([]shown.Still, error) {
	if _, err := h.seen(a, id); err != nil {
		return nil, err
	}
	list, err := h.store.Stills(ctx, id, limit)
	out := make([]shown.Still, 0, len(list))
	for _, s := range list {
		out = append(out, stillView(s))
	}
	return out, err
}

// StillBody returns a picture, a JPEG.
func (h *Hub) StillBody(ctx context.Context, a access.Actor, id int64) ([]byte, shown.Still, error) {
	s, body, ok, err := h.store.Still(ctx, id)
	if err != nil {
		return nil, shown.Still{}, err
	}
	if ok {
		_, err = h.seen(a, s.Device)
	}
	if !ok || err != nil {
		return nil, shown.Still{}, &NotFoundError{What: "picture", ID: fmt.Sprint(id)}
	}
	return body, stillView(s), nil
}

// dropStills forgets pictures that are older than they are kept.
func (h *Hub) dropStills(ctx context.Context) error {
	var changes []store.Change
	for id, d := range h.Site().Devices {
		changes = append(changes, store.DropStills(id, h.Time().Add(-d.Camera.Keep())))
	}
	return h.store.Do(ctx, changes...)
}
