package reading

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestStamps(t *testing.T) {
	moment := time.Date(2026, 3, 2, 9, 0, 0, 0, time.UTC)
	for _, s := range []string{"1772442000", "1772442000000", "2026-03-02T09:00:00Z", "2026-03-02t09:00:00z",
		"2026-03-02T10:00:00+01:00", "2026-03-02T10:00:00+0100",
		"2026-03-02T10:00+01", "2026-03-02 09:00:00+00:00", "2026-03-02 10:00:00 +0100", "2026-03-02 09:00:00.000000+00:00",
		"20260302T090000Z", "20260302T100000+0100", "2026-03-02T09:00:00,000Z"} {
		got, err := Stamp(s)
		require.NoError(t, err, s)
		assert.True(t, moment.Equal(got), "%s is %s", s, got)
		named, faults, err := Message([]byte(`{"t":"`+s+`","v":1}`), moment)
		require.NoError(t, err, s)
		assert.Empty(t, faults)
		assert.True(t, moment.Equal(named[0].At), "in JSON too")
	}
	for s, why := range map[string]string{"2026-03-02 09:00:00": "has no zone", "2026-03-02": "has no zone",
		"noon": "expected Unix", "": "expected Unix", "-5": "expected Unix", "2026-03-02T25:00:00Z": "expected Unix",
		"1e30": "expected Unix", "0001-01-01T00:00:00Z": "before 1900"} {
		_, err := Stamp(s)
		assert.ErrorContains(t, err, why, s)
	}
}

// Clocks in Berlin go from 2 to 3 o'clock on 29 March 2026, and from 3 to 2 on 25 October; half an hour in Lord Howe
// Island.
func TestTimesOfDayInAZone(t *testing.T) {
	berlin, err := time.LoadLocation("Europe/Berlin")
	require.NoError(t, err)
	lordHowe, err := time.LoadLocation("Australia/Lord_Howe")
	require.NoError(t, err)
	for _, x := range []struct {
		said string
		zone *time.Location
		want string
		why  string
	}{
		{"2026-03-02 09:00:00", berlin, "2026-03-02T08:00:00Z", ""}, {"2026-03-02", berlin, "2026-03-01T23:00:00Z", ""},
		{"2026-03-29 01:59", berlin, "2026-03-29T00:59:00Z", ""}, {"2026-03-29 02:30", berlin, "", "was never shown"},
		{"2026-03-29 03:00", berlin, "2026-03-29T01:00:00Z", ""},
		{"2026-10-25 02:30", berlin, "", "was shown twice in Europe/Berlin, as clocks were set back; add +02:00 or +01:00"},
		{"2026-10-25 03:00", berlin, "2026-10-25T02:00:00Z", ""}, {"2026-10-25 02:30+02:00", berlin, "2026-10-25T00:30:00Z",
			""},
		{"2026-04-05 01:45", lordHowe, "", "was shown twice"}, {"2026-10-04 02:15", lordHowe, "", "was never shown"},
		{"2026-10-04 02:30", lordHowe, "2026-10-03T15:30:00Z", ""},
	} {
		got, err := StampIn(x.said, x.zone)
		if x.why != "" {
			assert.ErrorContains(t, err, x.why, x.said)
			continue
		}
		require.NoError(t, err, x.said)
		assert.Equal(t, x.want, got.UTC().Format(time.RFC3339), x.said)
	}
}

// However far off a time is, it is said in words that make sense.
func TestTimesFarAhead(t *testing.T) {
	for year, said := range map[int]string{2027: "365 days ahead", 2040: "14 years ahead", 9999: "centuries ahead"} {
		_, err := new(Clock).Place(time.Date(2026, 3, 2, 9, 0, 0, 0, time.UTC), time.Date(year, 3, 2, 9, 0, 0, 0, time.UTC),
			0)
		assert.ErrorContains(t, err, said)
	}
}

func TestOddTimes(t *testing.T) {
	now := time.Date(2026, 3, 2, 9, 0, 0, 0, time.UTC)
	for _, x := range []struct {
		stamp time.Time
		why   string
	}{
		{time.Time{}, ""}, {now, ""}, {now.AddDate(-3, 0, 0), ""}, {now.Add(time.Hour), ""}, {time.Unix(12, 0),
			"was never set"},
		{now.Add(-from2000).Add(time.Hour), "counts from 2000; add 946684800 seconds"},
		{time.Date(2000, 1, 1, 0, 5, 0, 0, time.UTC), "was never set"},
		{time.Date(2011, 5, 5, 0, 0, 0, 0, time.UTC), "15 years ago; if that is no reading of the past"},
	} {
		if x.why == "" {
			assert.Empty(t, OddTime(x.stamp, now), x.stamp)
		} else {
			assert.Contains(t, OddTime(x.stamp, now), x.why)
		}
	}
}
