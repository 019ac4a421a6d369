package tests

import (
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/client"
	"idleember/serve"
	"idleember/tests/rig"
)

// wrongClock is a computer's clock that can be put forward and back, and that nothing keeps right.
type wrongClock struct {
	off  atomic.Int64
	boot atomic.Int64 // how often it was started anew
}

var began = time.Now()

func (c *wrongClock) put(off time.Duration) { c.off.Store(int64(off)) }

func (c *wrongClock) use(o *serve.Options) {
	o.Now = func() time.Time { return time.Now().Add(time.Duration(c.off.Load())) }
	o.ClockSet = func() bool { return false }
	o.Boot = func() (string, time.Duration) {
		return fmt.Sprint("start ", c.boot.Load()), time.Since(began)
	}
}

const year = 365 * 24 * time.Hour

// kilnBy starts a hub by a clock of its own, with a kiln that pushes over HTTP. What push sends was answered with 2xx.
func kilnBy(t *testing.T, c *wrongClock) (r *rig.Rig, push func(chamber int, at time.Time)) {
	r = rig.With(t, c.use)
	key := r.Device("kiln")
	push = func(chamber int, at time.Time) {
		body := fmt.Sprintf(`{"chamber":%d}`, chamber)
		if !at.IsZero() {
			body = fmt.Sprintf(`{"chamber":%d,"t":%d}`, chamber, at.UnixMilli())
		}
		q, err := http.NewRequestWithContext(t.Context(), "POST", r.URL()+"/push/kiln", strings.NewReader(body))
		require.NoError(t, err)
		q.Header.Set("Content-Type", "application/json")
		q.SetBasicAuth("kiln", key)
		resp, err := http.DefaultClient.Do(q)
		require.NoError(t, err)
		_ = resp.Body.Close()
		require.Equal(t, 200, resp.StatusCode)
	}
	push(1, time.Time{})
	return r, push
}

func doubt(t *testing.T, r *rig.Rig) string {
	c, err := r.Owner.GetClockWithResponse(t.Context())
	require.NoError(t, err)
	return c.JSON200.Doubt
}

// values are those of a series in the order of their times, and the times.
func values(r *rig.Rig, id string) (out []any, times []time.Time) {
	h := r.History(id)
	for _, ms := range slices.Sorted(maps.Keys(h)) {
		out, times = append(out, h[ms]), append(times, time.UnixMilli(ms))
	}
	return out, times
}

// A small computer without a battery starts in the past.
func TestTheClockStartsInThePast(t *testing.T) {
	t.Parallel()
	var clock wrongClock
	clock.put(-6 * time.Hour)
	r, push := kilnBy(t, &clock)
	require.NoError(t, r.Service.Close()) // for six hours
	clock.put(-3 * year)
	r.Reopen()
	assert.Contains(t, doubt(t, r), "the computer's clock is behind what was stored before: it shows ")
	assert.Equal(t, doubt(t, r), r.Now().Hub.ClockDoubt, "whoever looks is told")
	sent := time.Now()
	push(2, time.Time{})
	assert.EqualValues(t, 2, r.Value("kiln.chamber"), "what comes now is live")
	own := sent.Truncate(time.Millisecond)
	push(3, own) // a board whose clock is right
	push(4, time.Time{})
	got, times := values(r, "kiln.chamber")
	assert.Equal(t, []any{1.0, 2.0, 4.0}, got,
		"the hub's own come in order, after what was there: %v; the board's lies six hours ahead", times)

	clock.put(0)
	r.Soon("the clock is right", func() bool { return doubt(t, r) == "" })
	got, times = values(r, "kiln.chamber")
	assert.EqualValues(t, 1, got[0])
	require.Len(t, got, 4)
	at := map[any]time.Time{}
	for i, v := range got {
		at[v] = times[i]
	}
	assert.WithinDuration(t, sent, at[2.0], time.Second, "moved to where it belongs")
	assert.Equal(t, own, at[3.0], "a board's own time stays")
	assert.WithinDuration(t, sent, at[4.0], 2*time.Second)
	assert.WithinDuration(t, time.Now(), r.Signal("kiln.chamber").State.At.Local(), 30*time.Second)
	r.Soon("it is journalled", func() bool {
		return strings.Contains(reasons(r, "hub.clock")[0], "readings, was moved along")
	})
	push(5, time.Time{})
	r.Restart()
	assert.Empty(t, doubt(t, r))
	assert.EqualValues(t, 5, r.Value("kiln.chamber"))
}

// A hub that is started anew while the clock is wrong goes on as if it had not been, as long as the computer was not.
func TestRestartsWhileTheClockIsWrong(t *testing.T) {
	t.Parallel()
	for _, tt := range []struct {
		name  string
		while func(clock *wrongClock, r *rig.Rig) // the clock is wrong
		moved bool                                // what came before the restart too
	}{
		{"it is set later", func(_ *wrongClock, r *rig.Rig) { r.Restart() }, true},
		{"it is set while the hub is down", func(clock *wrongClock, r *rig.Rig) {
			require.NoError(r.T, r.Service.Close())
			clock.put(0)
			r.Reopen()
		}, true},
		{"the computer was started anew", func(clock *wrongClock, r *rig.Rig) {
			clock.boot.Add(1)
			r.Restart()
		}, false},
	} {
		t.Run(tt.name, func(t *testing.T) {
			t.Parallel()
			var clock wrongClock
			clock.put(-6 * time.Hour)
			r, push := kilnBy(t, &clock)
			require.NoError(t, r.Service.Close())
			clock.put(-3 * year)
			r.Reopen()
			sent := time.Now().Truncate(time.Millisecond)
			push(2, time.Time{})
			push(3, sent) // a board whose clock is right
			tt.while(&clock, r)
			push(4, time.Time{})
			clock.put(0)
			r.Soon("the clock is right", func() bool { return doubt(t, r) == "" })
			push(5, time.Time{})
			assert.EqualValues(t, 5, r.Value("kiln.chamber"))
			assert.Equal(t, "live", r.Signal("kiln.chamber").State.Fresh)
			got, times := values(r, "kiln.chamber")
			require.ElementsMatch(t, []any{1.0, 2.0, 3.0, 4.0, 5.0}, got)
			at := map[any]time.Time{}
			for i, v := range got {
				at[v] = times[i]
			}
			assert.Equal(t, sent, at[3.0], "a board's own time stays")
			assert.WithinDuration(t, time.Now(), at[4.0], 20*time.Second)
			told := strings.Join(reasons(r, "hub.clock"), "\n")
			if tt.moved {
				assert.WithinDuration(t, sent, at[2.0], time.Second)
				assert.NotContains(t, told, "keeps its times")
			} else {
				assert.WithinDuration(t, sent.Add(-6*time.Hour), at[2.0], time.Minute, "nobody knows for how long it was off")
				assert.Contains(t, told, "while its clock was wrong, keeps its times: the computer was started anew since")
			}
		})
	}
}

func reasons(r *rig.Rig, object string) (out []string) {
	j, err := r.Owner.ListJournalWithResponse(r.T.Context(), &client.ListJournalParams{Object: &object})
	require.NoError(r.T, err)
	for _, e := range j.JSON200.Entries {
		out = append(out, e.Reason)
	}
	return out
}

// Where nothing sets the clock but a person, who did, that person says so; nobody else can.
func TestTheOwnerSaysThatTheClockIsRight(t *testing.T) {
	t.Parallel()
	var clock wrongClock
	r, push := kilnBy(t, &clock)
	require.NoError(t, r.Service.Close())
	clock.put(-2 * time.Hour) // what was stored before had come by a clock that was ahead
	r.Reopen()
	require.NotEmpty(t, doubt(t, r))
	push(2, time.Time{})
	kim := r.Member("kim", client.RoleMember)
	_, err := kim.TrustClockWithResponse(t.Context())
	assert.ErrorContains(t, err, "owner")
	c, err := r.Owner.TrustClockWithResponse(t.Context())
	require.NoError(t, err)
	assert.Empty(t, c.JSON200.Doubt)
	assert.WithinDuration(t, time.Now().Add(-2*time.Hour), c.JSON200.Time, 5*time.Second)
	got, times := values(r, "kiln.chamber")
	require.Equal(t, []any{2.0}, got, "moved back with the clock; what was there before lies ahead of now")
	assert.WithinDuration(t, time.Now().Add(-2*time.Hour), times[0], 5*time.Second)
	push(3, time.Time{})
	assert.EqualValues(t, 3, r.Value("kiln.chamber"), "live, though an older one is stamped later")
	r.Restart()
	push(4, time.Time{})
	assert.EqualValues(t, 4, r.Value("kiln.chamber"), "after a restart too")
}

// Clocks jump while the hub runs: a little is taken as it is, what cannot be is not.
func TestTheClockJumps(t *testing.T) {
	t.Parallel()
	var clock wrongClock
	r, push := kilnBy(t, &clock)
	key := r.Device("vent")
	r.Pub("vent", key, "ember/vent/is/fan", "off")
	hour := int64(3_600_000)
	_, err := r.Owner.SwitchControlWithResponse(t.Context(), "vent.fan", nil, client.SwitchControlJSONRequestBody{To: true,
		ForMs: &hour})
	require.NoError(t, err)
	lines := func() int { return len(r.Journal("hub.clock")) }

	clock.put(3 * time.Hour)
	r.Soon("it was noticed", func() bool { return lines() == 1 })
	assert.Empty(t, doubt(t, r), "somebody set it")
	fan := r.Control("vent.fan")
	require.NotNil(t, fan.State.HandUntil, "still by hand")
	assert.WithinDuration(t, time.Now().Add(4*time.Hour), *fan.State.HandUntil, 20*time.Second,
		"an hour from when it was switched")

	clock.put(10 * year)
	r.Soon("it was noticed", func() bool { return lines() == 2 })
	assert.Contains(t, doubt(t, r), "jumped far ahead")
	push(2, time.Time{})
	got, times := values(r, "kiln.chamber")
	require.Len(t, got, 2)
	assert.WithinDuration(t, time.Now().Add(3*time.Hour), times[1], 20*time.Second, "time goes on evenly")
	r.Restart()
	assert.Contains(t, doubt(t, r), "jumped far ahead", "no more believed for a restart")
	clock.put(3 * time.Hour)
	r.Soon("it is believed again", func() bool { return doubt(t, r) == "" })

	clock.put(-24 * time.Hour)
	r.Soon("it was noticed", func() bool { return strings.Contains(doubt(t, r), "is behind") })
	push(3, time.Time{})
	clock.put(3*time.Hour + 72*time.Hour)
	time.Sleep(6 * time.Second) // it is looked at every five
	assert.Contains(t, doubt(t, r), "is now far ahead of that: it shows "+time.Now().Add(75*time.Hour).In(vienna(
		t)).Format("2 Jan 2006"), "three days ahead nobody believes without a word")
	clock.put(3 * time.Hour)
	r.Soon("it is believed again", func() bool { return doubt(t, r) == "" })
	got, times = values(r, "kiln.chamber")
	assert.Equal(t, []any{1.0, 2.0, 3.0}, got, "in the order in which they came: %v", times)
}

func vienna(t *testing.T) *time.Location {
	zone, err := time.LoadLocation("Europe/Vienna")
	require.NoError(t, err)
	return zone
}
