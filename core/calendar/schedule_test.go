package calendar_test

import (
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/core/calendar"
)

var spot = calendar.Spot{Latitude: 48.2, Longitude: 9.8}

func zone(t *testing.T) *time.Location {
	loc, err := time.LoadLocation("Europe/Berlin")
	require.NoError(t, err)
	return loc
}

func clock(minutes int) calendar.Moment {
	return calendar.Moment{Base: calendar.Clock, Minutes: minutes}
}

func said(runs []calendar.Run) string {
	var out []string
	for _, r := range runs {
		out = append(out, r.From.Format("Mon 15:04 MST")+" "+r.To.Sub(r.From).String())
	}
	return strings.Join(out, ", ")
}

func TestSchedules(t *testing.T) {
	loc := zone(t)
	at := func(m time.Month, d int) time.Time { return calendar.Midnight(time.Date(2026, m, d, 12, 0, 0, 0, loc)) }
	end := clock(2 * 60)
	late := 10*60 + 30
	hour := int64(3600_000)
	for _, x := range []struct {
		name     string
		schedule calendar.Schedule
		from, to time.Time
		want     string
	}{
		{"eleven hours of light", calendar.Schedule{Windows: []calendar.Window{{Start: clock(360), ForMS: 11 * hour}}},
			at(5, 4), at(5, 5), "Mon 06:00 CEST 11h0m0s"},
		{"three mists on weekdays", calendar.Schedule{Windows: []calendar.Window{{Days: []int{1, 5}, Start: clock(480),
			ForMS: 240_000, EveryMS: 4 * hour, Times: 3}}},
			at(5, 3), at(5, 6), "Mon 08:00 CEST 4m0s, Mon 12:00 CEST 4m0s, Mon 16:00 CEST 4m0s"},
		{"over midnight", calendar.Schedule{Windows: []calendar.Window{{Start: clock(22 * 60), End: &end}}},
			at(5, 4).Add(time.Hour), at(5, 5), "Sun 22:00 CEST 4h0m0s, Mon 22:00 CEST 4h0m0s"},
		{"a start in the skipped hour comes at its end", calendar.Schedule{Windows: []calendar.Window{{Start: clock(150),
			ForMS: hour}}}, at(3, 29), at(3, 30), "Sun 03:00 CEST 1h0m0s"},
		{"a start in the doubled hour comes once, at the first",
			calendar.Schedule{Windows: []calendar.Window{{Start: clock(150), ForMS: hour}}},
			at(10, 25), at(10, 26), "Sun 02:30 CEST 1h0m0s"},
		{"an end in the doubled hour is the first", calendar.Schedule{Windows: []calendar.Window{{Start: clock(60),
			End: ptr(clock(150))}}}, at(10, 25), at(10, 26), "Sun 01:00 CEST 1h30m0s"},
		{"a length goes by the clock that does not jump", calendar.Schedule{Windows: []calendar.Window{{Start: clock(60),
			ForMS: 3 * hour}}}, at(10, 25), at(10, 26), "Sun 01:00 CEST 3h0m0s"},
		{"by the sun, not before", calendar.Schedule{Windows: []calendar.Window{{Start: calendar.Moment{
			Base: calendar.Sunrise, NotBefore: &late}, End: ptr(calendar.Moment{Base: calendar.Sunset, Minutes: -30})}}},
			at(12, 21), at(12, 22), "Mon 10:30 CET 5h29m7s"},
		{"not on an excepted day, and once besides", calendar.Schedule{Windows: []calendar.Window{{Start: clock(360),
			ForMS: hour}}, Except: []string{"2026-05-04"},
			Once: []calendar.Once{{At: at(5, 4).Add(15 * time.Hour), ForMS: 600_000}}},
			at(5, 4), at(5, 5), "Mon 15:00 CEST 10m0s"},
		{"windows that overlap are one", calendar.Schedule{Windows: []calendar.Window{{Start: clock(360), ForMS: hour},
			{Start: clock(390), ForMS: hour}}}, at(5, 4), at(5, 5), "Mon 06:00 CEST 1h30m0s"},
	} {
		require.NoError(t, x.schedule.Validate(), x.name)
		assert.Contains(t, said(x.schedule.Runs(x.from, x.to, spot)), x.want, x.name)
		assert.Equal(t, strings.Count(x.want, ","), strings.Count(said(x.schedule.Runs(x.from, x.to, spot)), ","), x.name)
	}
}

func ptr[T any](v T) *T { return &v }

func TestScheduleTellsItsNextChange(t *testing.T) {
	s := calendar.Schedule{Windows: []calendar.Window{{Days: []int{1}, Start: clock(360), ForMS: 3600_000}}}
	monday := time.Date(2026, 5, 4, 0, 0, 0, 0, zone(t))
	on, next := s.At(monday, spot)
	assert.False(t, on)
	assert.Equal(t, "Mon 06:00", next.Format("Mon 15:04"))
	on, next = s.At(next, spot)
	assert.True(t, on)
	assert.Equal(t, "Mon 07:00", next.Format("Mon 15:04"))
	on, next = s.At(next, spot)
	assert.False(t, on)
	assert.Equal(t, "05-11 06:00", next.Format("01-02 15:04"))
}

func TestWrongSchedulesSaySo(t *testing.T) {
	for want, s := range map[string]calendar.Schedule{
		"empty":               {},
		"the day 8 is":        {Windows: []calendar.Window{{Days: []int{8}, Start: clock(0), ForMS: 1000}}},
		"either when it ends": {Windows: []calendar.Window{{Start: clock(0)}}},
		"window 1":            {Windows: []calendar.Window{{Start: clock(24 * 60), ForMS: 1000}}},
		"within a day":        {Windows: []calendar.Window{{Start: clock(0), ForMS: 1000, Times: 3, EveryMS: 48 * 3600_000}}},
		"2026-12-24":          {Windows: []calendar.Window{{Start: clock(0), ForMS: 1000}}, Except: []string{"christmas"}},
		"single run 1":        {Once: []calendar.Once{{ForMS: 1000}}},
		"is unknown":          {Windows: []calendar.Window{{Start: calendar.Moment{Base: "noon"}, ForMS: 1000}}},
	} {
		assert.ErrorContains(t, s.Validate(), want)
	}
}

func TestLastDue(t *testing.T) {
	berlin := zone(t)
	at := func(s string) time.Time {
		x, err := time.ParseInLocation("2006-01-02 15:04", s, berlin)
		require.NoError(t, err)
		return x
	}
	for _, c := range [][5]string{
		{"day", "07:00", "2026-11-28 07:00", "2026-11-28 07:00", "2026-11-27 07:00"},
		{"day", "07:00", "2026-11-28 06:59", "2026-11-27 07:00", "2026-11-26 07:00"},
		{"week", "07:00", "2026-11-28 12:00", "2026-11-23 07:00", "2026-11-16 07:00"},
		{"week", "07:00", "2026-11-23 06:00", "2026-11-16 07:00", "2026-11-09 07:00"},
		{"week", "07:00", "2026-03-01 06:00", "2026-02-23 07:00", "2026-02-16 07:00"},
		{"day", "02:30", "2026-03-29 12:00", "2026-03-29 03:00", "2026-03-28 02:30"}, // in the hour that does not exist
	} {
		due, before := calendar.LastDue(c[0], c[1], at(c[2]), berlin)
		assert.Equal(t, []string{c[3], c[4]}, []string{due.Format("2006-01-02 15:04"), before.Format("2006-01-02 15:04")},
			"%v", c)
	}
	due, _ := calendar.LastDue("day", "noon", time.Now(), berlin)
	assert.True(t, due.IsZero())
}

// A look at the next day tells the same as one at the next week.
func TestTheNextChangeIsThatOfTheWholeWeek(t *testing.T) {
	loc, err := time.LoadLocation("Europe/Berlin")
	require.NoError(t, err)
	spot := calendar.Spot{Latitude: 48, Longitude: 10}
	rng := rand.New(rand.NewPCG(1, 2))
	for range 400 {
		var s calendar.Schedule
		for range 1 + rng.IntN(3) {
			w := calendar.Window{Start: calendar.Moment{Base: []calendar.Base{calendar.Clock, calendar.Sunrise,
				calendar.Sunset}[rng.IntN(3)], Minutes: rng.IntN(24) * 15}, ForMS: int64(1+rng.IntN(24)) * 3600_000}
			for d := 1; d <= 7; d++ {
				if rng.IntN(3) == 0 {
					w.Days = append(w.Days, d)
				}
			}
			s.Windows = append(s.Windows, w)
		}
		at := time.Date(2026, 3, 20, rng.IntN(400), rng.IntN(60), 0, 0, loc)
		on, next := s.At(at, spot)
		runs := s.Runs(at, at.Add(8*24*time.Hour), spot)
		switch {
		case len(runs) == 0:
			require.True(t, !on && next.IsZero())
		case runs[0].From.After(at):
			require.True(t, !on && next.Equal(runs[0].From))
		default:
			require.True(t, on && next.Equal(runs[0].To), "%v: %v, %v", at, next, runs[0])
		}
	}
}
