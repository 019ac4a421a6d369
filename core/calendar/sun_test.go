package calendar_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/core/calendar"
)

// The reference comes from PyEphem 4.1.4 (VSOP87), upper limb, with a refraction of 34′ at the horizon.
func TestSunAgainstReference(t *testing.T) {
	for _, x := range []struct {
		lat, lon  float64
		rise, set string
	}{
		{0, 0, "2026-03-20T06:04:10Z", "2026-03-20T18:10:41Z"},
		{0, 0, "2026-06-21T05:58:09Z", "2026-06-21T18:05:28Z"},
		{0, 0, "2026-11-23T05:42:45Z", "2026-11-23T17:50:01Z"},
		{0, 0, "2027-01-15T06:05:39Z", "2027-01-15T18:12:59Z"},
		{0, 0, "2028-02-29T06:09:04Z", "2028-02-29T18:15:42Z"},
		{48.2, 9.8, "2026-03-20T05:24:00Z", "2026-03-20T17:33:22Z"},
		{48.2, 9.8, "2026-06-21T03:20:17Z", "2026-06-21T19:24:55Z"},
		{48.2, 9.8, "2026-11-23T06:39:20Z", "2026-11-23T15:34:35Z"},
		{48.2, 9.8, "2027-01-15T07:06:40Z", "2027-01-15T15:53:56Z"},
		{48.2, 9.8, "2028-02-29T06:03:10Z", "2028-02-29T17:04:01Z"},
		{-35, 149, "2026-03-19T20:06:42Z", "2026-03-20T08:15:50Z"},
		{-35, 149, "2026-06-20T21:11:45Z", "2026-06-21T06:59:41Z"},
		{-35, 149, "2026-11-22T18:45:48Z", "2026-11-23T08:55:09Z"},
		{-35, 149, "2027-01-14T19:05:20Z", "2027-01-15T09:20:38Z"},
		{-35, 149, "2028-02-28T19:50:03Z", "2028-02-29T08:42:18Z"},
		{60, 25, "2026-03-20T04:22:03Z", "2026-03-20T16:34:14Z"},
		{60, 25, "2026-06-21T00:55:49Z", "2026-06-21T19:47:46Z"},
		{60, 25, "2026-11-23T06:37:06Z", "2026-11-23T13:35:01Z"},
		{60, 25, "2027-01-15T07:08:03Z", "2027-01-15T13:51:04Z"},
		{60, 25, "2028-02-29T05:20:10Z", "2028-02-29T15:45:49Z"},
		{65, -20, "2026-03-20T07:20:40Z", "2026-03-20T19:35:54Z"},
		{65, -20, "2026-06-21T02:20:52Z", "2026-06-22T00:22:44Z"},
		{65, -20, "2026-11-23T10:24:17Z", "2026-11-23T15:47:49Z"},
		{65, -20, "2027-01-15T10:58:33Z", "2027-01-15T16:00:45Z"},
		{65, -20, "2028-02-29T08:31:40Z", "2028-02-29T18:34:31Z"},
		{-54, -68, "2026-03-20T10:33:24Z", "2026-03-20T22:44:14Z"},
		{-54, -68, "2026-06-21T12:52:48Z", "2026-06-21T20:14:54Z"},
		{-54, -68, "2026-11-23T08:08:19Z", "2026-11-24T00:29:36Z"},
		{-54, -68, "2027-01-15T08:25:23Z", "2027-01-16T00:56:24Z"},
		{-54, -68, "2028-02-29T09:55:44Z", "2028-02-29T23:31:44Z"},
		{35.5, -105, "2026-03-20T13:03:25Z", "2026-03-21T01:11:51Z"},
		{35.5, -105, "2026-06-21T11:45:05Z", "2026-06-22T02:18:39Z"},
		{35.5, -105, "2026-11-23T13:43:28Z", "2026-11-23T23:49:11Z"},
		{35.5, -105, "2027-01-15T14:08:40Z", "2027-01-16T00:10:26Z"},
		{35.5, -105, "2028-02-29T13:30:10Z", "2028-03-01T00:55:01Z"},
	} {
		wantRise, err := time.Parse(time.RFC3339, x.rise)
		require.NoError(t, err)
		wantSet, err := time.Parse(time.RFC3339, x.set)
		require.NoError(t, err)
		zone := time.FixedZone("mean", int(x.lon/15*3600)) // so that rise and set fall on one day
		rise, set, up := calendar.Spot{Latitude: x.lat, Longitude: x.lon}.Day(wantRise.In(zone))
		assert.WithinDuration(t, wantRise, rise, time.Minute, "sunrise at %v", x)
		assert.WithinDuration(t, wantSet, set, time.Minute, "sunset at %v", x)
		assert.True(t, up)
	}
}

func TestPolarDayAndNight(t *testing.T) {
	north := calendar.Spot{Latitude: 70, Longitude: 25}
	rise, set, up := north.Day(time.Date(2026, 6, 21, 12, 0, 0, 0, time.UTC))
	assert.True(t, rise.IsZero() && set.IsZero() && up, "the sun stays up")
	rise, set, up = north.Day(time.Date(2026, 12, 21, 12, 0, 0, 0, time.UTC))
	assert.True(t, rise.IsZero() && set.IsZero() && !up, "the sun stays down")
	early := 7 * 60
	at, ok := calendar.Moment{Base: calendar.Sunrise, NotBefore: &early}.At(time.Date(2026, 12, 21, 12, 0, 0, 0, time.UTC),
		north)
	assert.True(t, ok, "the clock stands in")
	assert.Equal(t, "07:00", at.Format("15:04"))
	_, ok = calendar.Moment{Base: calendar.Sunset}.At(time.Date(2026, 6, 21, 12, 0, 0, 0, time.UTC), north)
	assert.False(t, ok)
}
