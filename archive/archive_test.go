package archive

import (
	"context"
	"log/slog"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"idleember/core/access"
	"idleember/core/reading"
	"idleember/core/site"
	"idleember/hub"
	"idleember/sight"
	"idleember/store"
)

// What a test began it also ended.
func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// house stands in for a hub; it takes a device away when it is asked how often a signal reports, where that is wished.
type house struct {
	hub.Turn
	store   *store.Store
	glass   sight.Glass
	site    *site.Site
	gone    bool
	changed []string
}

func (h *house) Site() *site.Site                                   { return h.site }
func (h *house) Time() time.Time                                    { return noon }
func (h *house) Trusted() bool                                      { return true }
func (h *house) Sight(a access.Actor) sight.Sight                   { return h.glass.As(h.site, a) }
func (h *house) Do(_ context.Context, f func(hub.Turn) error) error { return f(h) }
func (h *house) Write(x ...store.Change)                            { _ = h.store.Do(context.Background(), x...) }
func (h *house) Journal(_ access.Actor, action, object, before, _, _ string) {
	h.changed = append(h.changed, action+" "+object+": "+before)
}
func (h *house) PastChanged(signal string) { h.changed = append(h.changed, signal) }
func (h *house) Interval(context.Context, string) (time.Duration, error) {
	if h.gone {
		h.site = &site.Site{}
	}
	return 10 * time.Second, nil
}

var (
	noon = time.Date(2026, 3, 2, 12, 0, 0, 0, time.UTC)
	mo   = access.Actor{Kind: access.Person, ID: "mo", Role: access.Owner}
)

func past(t *testing.T) (*Archive, *house) {
	st, err := store.Open(t.Context(), t.TempDir(), store.Options{NoSync: true})
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, st.Close()) })
	h := &house{store: st, site: (&site.Site{}).With(site.Put(site.Hub{Zone: "UTC"}),
		site.Put(site.Device{ID: "kiln", Name: "Kiln"}),
		site.Put(site.Signal{ID: "kiln.chamber", Device: "kiln", Name: "Chamber", Kind: site.Number, Unit: "Cel",
			Reports: site.Periodic}),
		site.Put(site.Control{ID: "kiln.fan", Device: "kiln", Name: "Fan", Guests: site.GuestsSee}),
		site.Put(&site.Automation{Control: "kiln.fan", Permits: []site.Permit{{Name: "not too hot",
			Condition: site.Condition{When: "kiln.chamber < 90"}}}}))}
	return New(h, st, slog.New(slog.DiscardHandler)), h
}

func minutes(n int, value func(i int) float64) (list []store.Reading) {
	for i := range n {
		list = append(list, store.Reading{T: noon.Add(time.Duration(i-n) * time.Minute).UnixMilli(),
			Value: reading.Number(value(i))})
	}
	return list
}

// What is brought in stands there once, however often it comes; what cannot be taken is told, and takes nothing else
// with it.
func TestBroughtInTwiceIsThereOnce(t *testing.T) {
	t.Parallel()
	ar, h := past(t)
	list := append(minutes(30, func(i int) float64 { return float64(i) }),
		store.Reading{T: noon.Add(time.Hour).UnixMilli()}, store.Reading{T: noon.UnixMilli(), Value: reading.Text("hot")})
	for range 2 {
		got, err := ar.Import(t.Context(), mo, "kiln.chamber", list, false)
		require.NoError(t, err)
		assert.Equal(t, 30, got.Stored)
		assert.Equal(t, []int{30, 31}, []int{got.Refused[0].At, got.Refused[1].At})
	}
	page, err := ar.Readings(t.Context(), mo, Page{Series: "kiln.chamber", From: noon.Add(-time.Hour), To: noon,
		Limit: 20})
	require.NoError(t, err)
	assert.Len(t, page.Readings, 20)
	assert.True(t, page.More)
	sum, err := ar.Summary(t.Context(), mo, Range{Series: "kiln.chamber", From: noon.Add(-time.Hour), To: noon})
	require.NoError(t, err)
	assert.Equal(t, 30, int(sum.Count))
	assert.InDelta(t, 14.5, sum.Mean, 1e-9)
	n, err := ar.DeleteReadings(t.Context(), mo, "kiln.chamber", noon.Add(-10*time.Minute), noon)
	require.NoError(t, err)
	assert.Equal(t, 10, n)
	x, err := ar.History(t.Context(), mo, Range{Series: "kiln.chamber", From: noon.Add(-time.Hour), To: noon})
	require.NoError(t, err)
	assert.Len(t, x.Readings, 20)
	assert.Equal(t, []string{"kiln.chamber", "kiln.chamber",
		"delete readings kiln.chamber: 10 readings from 2026-03-02 11:50:00 to 2026-03-02 12:00:00", "kiln.chamber"},
		h.changed)
}

// What is brought in for a signal that goes meanwhile leaves nothing behind for one that is made under its id later.
func TestBroughtInForWhatGoesMeanwhile(t *testing.T) {
	t.Parallel()
	ar, h := past(t)
	h.gone = true
	_, err := ar.Import(t.Context(), mo, "kiln.chamber", minutes(5, func(int) float64 { return 1 }), false)
	require.ErrorContains(t, err, "there is no signal")
	list, err := h.store.Newest(t.Context(), "kiln.chamber", site.Number, time.Time{}, noon, 10)
	require.NoError(t, err)
	assert.Empty(t, list)
}

// A misspelt series is answered with what was meant; of what is closed nothing is told, marks included.
func TestWhoLooksBackSeesNoMoreThanNow(t *testing.T) {
	t.Parallel()
	ar, _ := past(t)
	guest := access.Actor{Kind: access.Person, ID: "visitor", Role: access.Guest}
	for series, says := range map[string]string{"kiln.chambr": "did you mean kiln.chamber",
		"kiln.fan": "did you mean kiln.fan.is or kiln.fan.want?"} {
		_, err := ar.History(t.Context(), mo, Range{Series: series, From: noon.Add(-time.Hour), To: noon})
		assert.ErrorContains(t, err, says)
	}
	_, err := ar.History(t.Context(), guest, Range{Series: "kiln.chamber", From: noon.Add(-time.Hour), To: noon})
	assert.NotContains(t, err.Error(), "mean", "a guess would tell that it is there")
	marks, err := ar.Marks(t.Context(), mo, []string{"kiln.chamber"})
	require.NoError(t, err)
	assert.Equal(t, []Mark{{Series: "kiln.chamber", Kind: "below", Control: "kiln.fan", Name: "Fan: not too hot",
		Value: 90}}, marks)
	_, err = ar.Marks(t.Context(), guest, []string{"kiln.chamber"})
	assert.Error(t, err)
}

// A calibration that is found later is applied to what came raw, and only once.
func TestThePastIsCalibratedAnew(t *testing.T) {
	t.Parallel()
	ar, h := past(t)
	require.NoError(t, ar.Backfill(t.Context(), mo, "kiln.chamber", minutes(10,
		func(i int) float64 { return float64(i) })))
	s := h.site.Signals["kiln.chamber"]
	s.Calibration = site.Calibration{Method: "gain", Points: [][2]float64{{1, 2}}}
	h.site = h.site.With(site.Put(s))
	for _, changed := range []int{9, 0} { // twice nothing is nothing
		n, err := ar.Recalibrate(t.Context(), mo, "kiln.chamber", noon.Add(-time.Hour), noon)
		require.NoError(t, err)
		assert.InDelta(t, changed, n, 1)
	}
	x, err := ar.History(t.Context(), mo, Range{Series: "kiln.chamber", From: noon.Add(-time.Hour), To: noon})
	require.NoError(t, err)
	assert.Equal(t, 18.0, x.Readings[9].Value.Num)
}
