package pages

import (
	"context"
	"errors"
	"log/slog"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/core/alert"
	"idleember/core/site"
	"idleember/hub"
	"idleember/sight"
	"idleember/store"
)

// What a test began it also ended.
func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// house stands in for a hub: what a turn writes is kept, what is published counted.
type house struct {
	hub.Turn // what pages do not use of a turn
	store    *store.Store
	glass    sight.Glass
	mu       sync.Mutex
	site     *site.Site
	told     int
}

func (h *house) Site() *site.Site {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.site
}
func (h *house) Time() time.Time                  { return time.Now() }
func (h *house) Trusted() bool                    { return true }
func (h *house) Sight(a access.Actor) sight.Sight { return h.glass.As(h.Site(), a) }
func (h *house) Secret(site.Key, string) string   { return "secret" }
func (h *house) Publish(string, any, access.Object) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.told++
}
func (h *house) Do(_ context.Context, f func(hub.Turn) error) error { return f(h) }
func (h *house) Write(x ...store.Change) {
	_ = h.store.Do(context.Background(), x...)
}
func (h *house) Journal(access.Actor, string, string, string, string, string) {}
func (h *house) change(x ...site.Change) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.site = h.site.With(x...)
}
func (h *house) Evaluate(_ context.Context, f string) (shown.Checked, error) {
	return shown.Checked{OK: f != "gone.x", Value: "21"}, nil
}

// camera answers when it is let, and counts how often it was asked.
type camera struct {
	mu    sync.Mutex
	asked int
	slow  time.Duration
	err   error
}

func (c *camera) fetch(context.Context, site.Camera, string) ([]byte, error) {
	c.mu.Lock()
	c.asked++
	slow, err := c.slow, c.err
	c.mu.Unlock()
	time.Sleep(slow)
	return []byte("jpeg"), err
}

var mo = access.Actor{Kind: access.Person, ID: "mo", Role: access.Owner}

// in runs f in a bubble of time with pages that work until f returns.
func in(t *testing.T, f func(t *testing.T, p *Pages, h *house, c *camera)) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		st, err := store.Open(t.Context(), t.TempDir(), store.Options{NoSync: true})
		require.NoError(t, err)
		h := &house{store: st, site: (&site.Site{}).With(site.Put(site.Place{ID: "yard", Name: "Yard"}),
			site.Put(site.Signal{ID: "shed.gas", Device: "shed"}), site.Put(site.Device{ID: "shed", Place: "yard"}),
			site.Put(site.Device{ID: "gate", Name: "Gate", Place: "yard", Camera: site.Camera{Address: "http://gate/still",
				KeepDays: 3}}))}
		c := &camera{slow: time.Second}
		p := New(h, st, c.fetch, slog.New(slog.DiscardHandler))
		ctx, stop := context.WithCancel(t.Context())
		ended := make(chan struct{})
		go func() { defer close(ended); p.Run(ctx) }()
		defer func() { stop(); <-ended; require.NoError(t, st.Close()) }()
		f(t, p, h, c)
	})
}

// However many want a picture at once, the camera is asked once; and one of a moment ago will do.
func TestACameraIsAskedOnceForAll(t *testing.T) {
	in(t, func(t *testing.T, p *Pages, h *house, c *camera) {
		var all sync.WaitGroup
		for range 20 {
			all.Go(func() {
				x, err := p.TakeStill(t.Context(), mo, "gate")
				assert.NoError(t, err)
				assert.Equal(t, 4, x.Size)
			})
		}
		all.Wait()
		_, err := p.TakeStill(t.Context(), mo, "gate")
		require.NoError(t, err)
		synctest.Wait()
		assert.Equal(t, 1, c.asked)
		assert.Equal(t, 1, h.told)
		_, err = p.TakeStill(t.Context(), access.Actor{Kind: access.Person, ID: "visitor", Role: access.Guest}, "gate")
		assert.ErrorContains(t, err, "there is no device")
		_, err = p.TakeStill(t.Context(), mo, "shed")
		assert.ErrorContains(t, err, "no camera")
		time.Sleep(time.Minute)
		c.err = errors.New("no route")
		_, err = p.TakeStill(t.Context(), mo, "gate")
		assert.ErrorContains(t, err, "Gate gives no picture: no route")
	})
}

// A message about an alert waits a little for the picture of its place, and not for ever; of a device that is removed
// meanwhile nothing is kept, and an old picture goes.
func TestPicturesOfAlerts(t *testing.T) {
	in(t, func(t *testing.T, p *Pages, h *house, c *camera) {
		gas, raised := &site.Alert{ID: "gas", Of: "shed.gas"}, time.Now()
		p.LookOn(gas, 1, raised)
		id := p.StillFor(t.Context(), hub.Notice{What: string(alert.WasRaised), Alert: "gas", N: 1, Since: raised})
		body, s, err := p.StillBody(t.Context(), mo, id)
		require.NoError(t, err)
		assert.Equal(t, "jpeg gate", string(body)+" "+s.Device)
		assert.Zero(t, p.StillFor(t.Context(), hub.Notice{What: string(alert.WasRaised), Alert: "gas", N: 1,
			Since: raised.Add(-time.Hour)}), "of another time")
		c.slow = 9 * time.Second
		p.LookOn(gas, 2, raised)
		began := time.Now()
		assert.Zero(t, p.StillFor(t.Context(), hub.Notice{What: string(alert.WasRaised), Alert: "gas", N: 2, Since: raised}))
		assert.Equal(t, stillFor, time.Since(began))
		h.change(site.Change{Drop: site.Key{Kind: "device", ID: "gate"}})
		time.Sleep(time.Minute)
		list, err := h.store.Stills(t.Context(), "gate", 10)
		require.NoError(t, err)
		assert.Len(t, list, 1)
		h.change(site.Put(site.Device{ID: "gate", Camera: site.Camera{Address: "http://gate/still", KeepDays: 3}}))
		time.Sleep(4 * 24 * time.Hour)
		_, _, err = p.StillBody(t.Context(), mo, id)
		assert.ErrorContains(t, err, "no picture")
	})
}

// A drawing is made safe before it is kept, and goes a day after nothing shows it.
func TestDrawings(t *testing.T) {
	in(t, func(t *testing.T, p *Pages, h *house, _ *camera) {
		id, pic, err := p.AddPicture(t.Context(), mo, "circuit.svg",
			[]byte(`<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 9 9"><script>1</script><rect width="3" height="3"/></svg>`))
		require.NoError(t, err)
		assert.NotEmpty(t, pic.Left, "what was left out is told")
		other, _, err := p.AddPicture(t.Context(), mo, "circuit.svg",
			[]byte(`<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 9 9"><rect width="3" height="3"/></svg>`))
		require.NoError(t, err)
		h.change(site.Put(site.Place{ID: "yard", Name: "Yard", Picture: id}))
		time.Sleep(32 * time.Hour)
		got, err := p.Picture(t.Context(), mo, id)
		require.NoError(t, err)
		assert.NotContains(t, string(got.Body), "script")
		_, err = p.Picture(t.Context(), mo, other)
		assert.ErrorContains(t, err, "no picture")
		_, _, err = p.AddPicture(t.Context(), mo, "x.svg", []byte("<html>"))
		assert.Error(t, err)
	})
}

// Of a formula that names what is closed to whoever looks, nothing is told.
func TestFormulasOfADashboard(t *testing.T) {
	in(t, func(t *testing.T, p *Pages, h *house, _ *camera) {
		h.change(site.Put(site.Dashboard{ID: "d", By: "mo", Shared: site.Everybody,
			Tiles: []site.Tile{{Parts: []site.Part{{Formula: "shed.gas + 1"}, {Formula: "gone.x"}}}}}))
		for who, values := range map[access.Role][]string{access.Owner: {"21", "unknown"}, access.Guest: {"unknown",
			"unknown"}} {
			list, err := p.FormulasNow(t.Context(), access.Actor{Kind: access.Person, ID: "who", Role: who}, "d")
			require.NoError(t, err)
			assert.Equal(t, values, []string{list[0].Value, list[1].Value}, who)
		}
	})
}
