package pages

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/core/alert"
	"idleember/core/fault"
	"idleember/core/site"
	"idleember/hub"
	"idleember/sight"
	"idleember/store"
)

func stillView(s store.Still) shown.Still {
	about, _ := cutCause(s.Cause)
	return shown.Still{ID: s.ID, Device: s.Device, At: time.UnixMilli(s.AtMS), Alert: about, Size: s.Size}
}

// Fetcher brings a JPEG from a camera. The password is "" where it asks for none.
type Fetcher func(ctx context.Context, c site.Camera, password string) ([]byte, error)

// flight is a picture that is being fetched, once, however many want it.
type flight struct {
	done  chan struct{}
	still store.Still
	err   error
}

const (
	fetchWithin = 10 * time.Second
	stillFor    = 8 * time.Second // how long a message waits for its picture
	stillRest   = 2 * time.Second // between two that somebody asks for
)

// seen returns a device with a camera that an actor may look through.
func (p *Pages) seen(a access.Actor, id string) (site.Device, error) {
	s := p.house.Site()
	d, ok := s.Devices[id]
	if !ok || access.May(a, access.Look, sight.OfStills(d)) != nil {
		return d, fault.NotFound("device", id, site.Nearest(id, slices.Collect(maps.Keys(s.Devices)))...)
	}
	return d, nil
}

// TakeStill fetches a picture now. One that was taken a moment ago will do.
func (p *Pages) TakeStill(ctx context.Context, a access.Actor, id string) (shown.Still, error) {
	d, err := p.seen(a, id)
	if err != nil {
		return shown.Still{}, err
	}
	if d.Camera.Address == "" {
		return shown.Still{}, &fault.InvalidError{Field: "id", Reason: d.Name +
			" has no camera; an owner gives its address on the page of the device"}
	}
	if list, err := p.store.Stills(ctx, id, 1); err != nil || len(list) > 0 &&
		p.house.Time().Sub(time.UnixMilli(list[0].AtMS)) < stillRest {
		return first(list), err
	}
	f := p.takeStill(d, "")
	select {
	case <-f.done:
	case <-ctx.Done():
		return shown.Still{}, ctx.Err()
	}
	if f.err != nil {
		return shown.Still{}, &fault.RemoteError{Err: f.err}
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
func (p *Pages) takeStill(d site.Device, cause string) *flight {
	p.mu.Lock()
	defer p.mu.Unlock()
	if f := p.now[d.ID]; f != nil && (cause == "" || f.still.Cause == cause) {
		return f
	}
	f := &flight{done: make(chan struct{}), still: store.Still{Device: d.ID, Cause: cause}}
	p.now[d.ID] = f
	p.tasks.Go(func() {
		f.err = p.fetchStill(d, f)
		p.mu.Lock()
		if p.now[d.ID] == f {
			delete(p.now, d.ID)
		}
		p.mu.Unlock()
		close(f.done)
		if f.err != nil {
			p.log.Info("no picture", "device", d.ID, "error", f.err)
			return
		}
		p.house.Publish("still", stillView(f.still), sight.OfStills(d))
	})
	return f
}

func (p *Pages) fetchStill(d site.Device, f *flight) error {
	ctx, stop := context.WithTimeout(p.life, fetchWithin)
	defer stop()
	word := p.house.Secret(site.Key{Kind: "device", ID: d.ID}, site.CameraPassword)
	body, err := p.fetch(ctx, d.Camera, word)
	if err != nil {
		return fmt.Errorf("%s gives no picture: %w", d.Name, err)
	}
	f.still.AtMS, f.still.Size = p.house.Time().UnixMilli(), len(body)
	return p.house.Do(ctx, func(t hub.Turn) error {
		if now, ok := p.house.Site().Devices[d.ID]; !ok || !now.Created.Equal(d.Created) { // it was removed meanwhile
			return fault.NotFound("device", d.ID)
		}
		t.Write(store.AddStill(f.still, body, &f.still.ID))
		return nil
	})
}

// LookOn takes a picture for an alert that was raised: of its own device, else of one that sees its place. It does not
// wait for it.
func (p *Pages) LookOn(cfg *site.Alert, n int64, raised time.Time) {
	if d, ok := watching(p.house.Site(), cfg); ok {
		p.takeStill(d, causeOf(cfg.ID, n, raised))
	}
}

func watching(s *site.Site, cfg *site.Alert) (site.Device, bool) {
	owner, _ := site.Split(cfg.Of)
	if d := s.Devices[owner]; d.Active() && d.Camera.Address != "" {
		return d, true
	}
	place := sight.PlaceOf(s, cfg.Of)
	for _, id := range slices.Sorted(maps.Keys(s.Devices)) {
		if d := s.Devices[id]; d.Active() && d.Camera.Address != "" && d.Place == place && place != "" {
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

// StillFor is the picture that was taken for what a notice tells, waiting for it a little; 0 where there is none.
func (p *Pages) StillFor(ctx context.Context, n hub.Notice) int64 {
	if n.What != string(alert.WasRaised) || n.N == 0 {
		return 0
	}
	cause := causeOf(n.Alert, n.N, n.Since)
	p.mu.Lock()
	var wait *flight
	for _, f := range p.now {
		if f.still.Cause == cause {
			wait = f
		}
	}
	p.mu.Unlock()
	if wait != nil {
		select {
		case <-wait.done:
		case <-time.After(stillFor):
		case <-ctx.Done():
		}
	}
	s, _, err := p.store.StillOf(ctx, cause)
	if err != nil {
		p.log.Warn("a message goes without its picture", "error", err)
	}
	return s.ID
}

// Stills returns a device's newest pictures, newest first.
func (p *Pages) Stills(ctx context.Context, a access.Actor, id string, limit int) ([]shown.Still, error) {
	if _, err := p.seen(a, id); err != nil {
		return nil, err
	}
	list, err := p.store.Stills(ctx, id, limit)
	out := make([]shown.Still, 0, len(list))
	for _, s := range list {
		out = append(out, stillView(s))
	}
	return out, err
}

// StillBody returns a picture, a JPEG.
func (p *Pages) StillBody(ctx context.Context, a access.Actor, id int64) ([]byte, shown.Still, error) {
	s, body, ok, err := p.store.Still(ctx, id)
	if err != nil {
		return nil, shown.Still{}, err
	}
	if ok {
		_, err = p.seen(a, s.Device)
	}
	if !ok || err != nil {
		return nil, shown.Still{}, fault.NotFound("picture", fmt.Sprint(id))
	}
	return body, stillView(s), nil
}

// dropStills forgets pictures that are older than they are kept.
func (p *Pages) dropStills(ctx context.Context) error {
	var changes []store.Change
	for id, d := range p.house.Site().Devices {
		changes = append(changes, store.DropStills(id, p.house.Time().Add(-d.Camera.Keep())))
	}
	return p.store.Do(ctx, changes...)
}
