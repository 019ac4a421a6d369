package reading

import (
	"encoding/json"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"
)

// zoned are the forms of ISO 8601 that name a moment, and the same with a space for the T, as tables have it.
var zoned = []string{time.RFC3339, "2006-01-02T15:04Z07:00", "2006-01-02T15:04:05Z0700", "2006-01-02T15:04Z0700",
	"2006-01-02T15:04:05Z07", "2006-01-02T15:04Z07",
	"20060102T150405Z0700", "20060102T150405Z07:00", "20060102T150405Z07", "20060102T1504Z0700"}

// local are the same without a zone: they name a moment only where somebody says whose time of day it is.
var local = []string{"2006-01-02T15:04:05", "2006-01-02T15:04", "2006-01-02", "20060102T150405", "20060102T1504"}

// Stamp reads a time as Unix seconds, as Unix milliseconds where it is too large for seconds, or as ISO 8601 with a
// zone.
func Stamp(s string) (time.Time, error) {
	s = strings.TrimSpace(s)
	if f, err := strconv.ParseFloat(s, 64); err == nil {
		if t, ok := unixTime(f); ok {
			return t, nil
		}
	}
	if t, ok := parse(zoned, s); ok {
		if t.Year() < 1900 {
			return time.Time{}, fmt.Errorf("the time %s is before 1900", clip(s))
		}
		return t, nil
	}
	if _, ok := parse(local, s); ok {
		return time.Time{}, fmt.Errorf("the time %s has no zone; add Z for UTC, or one such as +01:00", clip(s))
	}
	return time.Time{}, fmt.Errorf("the time t is %s; expected Unix seconds or milliseconds, or one such as "+
		"2026-03-02T09:00:00Z", clip(s))
}

// StampIn is Stamp for whoever says in which zone times are that name none.
func StampIn(s string, zone *time.Location) (time.Time, error) {
	t, err := Stamp(s)
	if err == nil {
		return t, nil
	}
	if wall, ok := parse(local, strings.TrimSpace(s)); ok {
		return Local(wall, zone)
	}
	return time.Time{}, err
}

// Local is the moment at which clocks in a zone show what wall shows in UTC. As they are set forward and back, they
// show some times never and some twice, which are errors.
func Local(wall time.Time, zone *time.Location) (time.Time, error) {
	var found []time.Time
	for _, by := range []time.Duration{-26 * time.Hour, 26 * time.Hour} { // beyond any zone's offset and any change
		_, off := wall.Add(by).In(zone).Zone()
		t := wall.Add(-time.Duration(off) * time.Second).In(zone)
		if _, has := t.Zone(); has == off && (len(found) == 0 || !found[0].Equal(t)) {
			found = append(found, t)
		}
	}
	said := wall.Format("2006-01-02 15:04:05")
	switch len(found) {
	case 0:
		return time.Time{}, fmt.Errorf("the time %s was never shown in %s, as clocks were set forward", said, zone)
	case 1:
		return found[0], nil
	}
	return time.Time{}, fmt.Errorf("the time %s was shown twice in %s, as clocks were set back; add %s or %s to it", said,
		zone, found[0].Format("-07:00"), found[1].Format("-07:00"))
}

func parse(layouts []string, s string) (time.Time, bool) {
	if len(s) > 11 && s[10] == ' ' {
		s = s[:10] + "T" + s[11:]
	}
	s = strings.ToUpper(strings.Replace(s, " ", "", 1)) // a space before the offset, a small t or z
	for _, layout := range layouts {
		if t, err := time.Parse(layout, s); err == nil {
			return t, true
		}
	}
	return time.Time{}, false
}

// stampJSON reads the time of a JSON object, a number or a text.
func stampJSON(raw json.RawMessage) (time.Time, error) {
	s := string(raw)
	if strings.HasPrefix(s, `"`) {
		_ = json.Unmarshal(raw, &s) // what is no text is no time either
	}
	return Stamp(s)
}

// unixTime takes a number as Unix seconds, or as milliseconds where it is too large for seconds.
func unixTime(f float64) (time.Time, bool) {
	if !(f > 0 && f <= 1e14) {
		return time.Time{}, false
	}
	if f < 1e11 {
		f *= 1000
	}
	return time.UnixMilli(int64(math.Round(f))), true
}
