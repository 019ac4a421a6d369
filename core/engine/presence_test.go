package engine

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/core/reading"
	"idleember/core/site"
)

func (b *bench) kiln(t require.TestingT) DeviceState {
	d, ok := b.Device("kiln")
	require.True(t, ok)
	return d
}

// change applies a site in which the kiln is another.
func (b *bench) change(f func(*site.Device)) {
	next := b.site.Clone()
	d := next.Devices["kiln"]
	f(&d)
	next.Devices["kiln"] = d
	b.site = next
	b.do(SiteChanged{next})
}

func TestSessionWithoutAnEndExpires(t *testing.T) {
	b := newBench()
	for range 6 { // a board that pushes every minute
		b.do(Online{Device: "kiln", Session: "http", Expires: true})
		b.do(Reading{Signal: "kiln.chamber", Newest: true, Value: reading.Number(20)})
		b.pass(time.Minute)
	}
	assert.True(t, b.kiln(t).Online)
	b.pass(90 * time.Second)
	assert.True(t, b.kiln(t).Online, "two messages may be missing")
	out := b.pass(30 * time.Second)
	assert.False(t, b.kiln(t).Online, "three may not")
	assert.Equal(t, "nothing was heard for 3 min", b.kiln(t).Why)
	n := 0
	for _, e := range out {
		if j, ok := e.(Journal); ok && j.Action == "offline" {
			n++
		}
	}
	assert.Equal(t, 1, n)
	b.do(Online{Device: "kiln", Session: "http", Expires: true})
	assert.True(t, b.kiln(t).Online)
}

// Two ways to push at once: each is watched by one wake, however long that goes on.
func TestSessionsThatExpireAreWatchedOnce(t *testing.T) {
	b := newBench()
	for range 300 {
		b.do(Online{Device: "kiln", Session: "http", Expires: true})
		b.do(Online{Device: "kiln", Session: "udp", Expires: true})
		b.pass(time.Minute)
	}
	assert.True(t, b.kiln(t).Online)
	assert.Less(t, b.wakes.Len(), 20)
	b.pass(4 * time.Minute)
	assert.False(t, b.kiln(t).Online)
}

func TestSleepingDevice(t *testing.T) {
	b := newBench()
	b.change(func(d *site.Device) { d.WakesMS = 600_000 })
	wake := func(t *testing.T) {
		b.do(Online{Device: "kiln", Session: "1"})
		b.do(Reading{Signal: "kiln.chamber", Newest: true, Value: reading.Number(20)})
	}
	sleep := func() { b.do(Offline{Device: "kiln", Session: "1", Bye: true}) }
	for range 4 {
		wake(t)
		b.do(Report{Control: "kiln.fan", Session: "1", Value: 0})
		sleep()
		b.pass(10 * time.Minute)
		assert.True(t, b.kiln(t).Online, "asleep is not offline")
		assert.True(t, b.kiln(t).Asleep)
	}
	s, _ := b.Signal("kiln.chamber")
	assert.Equal(t, Live, s.Fresh)

	b.do(Command{Control: "kiln.fan", To: 1, Actor: kim})
	assert.Contains(t, b.fan(t).Reason.String(), "sleeps and wakes every 10 min")
	b.pass(9 * time.Minute)
	assert.Equal(t, Pending, b.fan(t).Phase, "it waits for the board to wake")
	wake(t)
	b.do(Report{Control: "kiln.fan", Session: "1", Value: 1})
	assert.Equal(t, Confirmed, b.fan(t).Phase)
	sleep()

	b.do(Command{Control: "kiln.fan", To: 0, Actor: kim})
	out := b.pass(21 * time.Minute)
	assert.Equal(t, []string{"on"}, wants(out), "a want that was not fetched in time is taken back to what the board is")
	assert.Contains(t, b.fan(t).Reason.String(), "did not wake in time")
	assert.True(t, slices.ContainsFunc(out, func(x Effect) bool {
		j, ok := x.(Journal)
		return ok && j.Action == "not delivered" && j.Before == "off" && j.After == "on"
	}))
	b.pass(10 * time.Minute)
	assert.False(t, b.kiln(t).Online)
}

func TestDisabledDeviceTakesNoPart(t *testing.T) {
	b := newBench()
	b.do(Online{Device: "kiln", Session: "1"})
	b.do(Reading{Signal: "kiln.chamber", Newest: true, Value: reading.Number(20)})
	b.change(func(d *site.Device) { d.State = site.Disabled })
	assert.False(t, b.kiln(t).Online)
	assert.Equal(t, "disabled", b.kiln(t).Why)
	assert.Empty(t, b.do(Online{Device: "kiln", Session: "2"}))
	assert.Empty(t, b.do(Reading{Signal: "kiln.chamber", Newest: true, Value: reading.Number(99)}))
	assert.Empty(t, b.do(Command{Control: "kiln.fan", To: 1, Actor: kim}))
	assert.Empty(t, b.do(Report{Control: "kiln.fan", Session: "2", Value: 1}))
	b.change(func(d *site.Device) { d.State = site.Active })
	b.do(Online{Device: "kiln", Session: "3"})
	assert.True(t, b.kiln(t).Online)
}

func TestWithdraw(t *testing.T) {
	b := newBench()
	b.do(Online{Device: "kiln", Session: "1"})
	b.do(Command{Control: "kiln.fan", To: 1, Actor: kim})
	out := b.do(Withdraw{Control: "kiln.fan"})
	assert.Contains(t, out, Withdrawn{Device: "kiln", Control: "kiln.fan", Rev: b.fan(t).Rev})
	assert.Nil(t, b.fan(t).Want)
	assert.Empty(t, wants(b.pass(time.Hour)), "nothing is sent any more")
}

func TestCalibrationAndQualityOnTheWay(t *testing.T) {
	b := newBench()
	next := b.site.Clone()
	hi := 100.0
	g := next.Signals["kiln.chamber"]
	g.Calibration, g.Sense = site.Calibration{Method: "gain", Points: [][2]float64{{10, 1}}}, site.Sense{Highest: &hi}
	next.Signals[g.ID] = g
	b.do(SiteChanged{next})
	out := b.do(Reading{Signal: "kiln.chamber", Newest: true, Value: reading.Number(214)})
	raw := 214.0
	assert.Contains(t, out, &Store{Signal: "kiln.chamber", At: b.now.Wall, Value: reading.Number(21.4), Raw: &raw,
		Live: true})
	b.do(Reading{Signal: "kiln.chamber", Newest: true, Value: reading.Number(5000)})
	s, _ := b.Signal("kiln.chamber")
	assert.Equal(t, reading.Bad, s.Quality)
	assert.Equal(t, 5000.0, *s.Raw)

	at, late, err := b.Past(b.now, "kiln.chamber")(b.now.Wall.Add(-time.Hour))
	require.NoError(t, err)
	assert.True(t, late)
	assert.Equal(t, b.now.Wall.Add(-time.Hour), at)
	_, late, err = b.Past(b.now, "kiln.chamber")(b.now.Wall)
	require.NoError(t, err)
	assert.False(t, late)
	_, _, err = b.Past(b.now, "kiln.chamber")(b.now.Wall.Add(time.Hour))
	assert.ErrorContains(t, err, "ahead")
}

func TestWhatCannotAnswerOnABoardThatSleepsStaysWanted(t *testing.T) {
	for answers, stays := range map[bool]bool{true: false, false: true} {
		h := newHouse(t, func(s *site.Site) {
			d, c := s.Devices["h"], s.Controls["h.fan"]
			d.WakesMS, c.Answers = 600_000, answers
			s.Devices["h"], s.Controls["h.fan"] = d, c
		})
		h.byHand("fan", 1, 0)
		rev := h.state("fan").Rev
		h.pass(time.Hour)
		assert.Equal(t, stays, h.state("fan").Rev == rev, "what is taken back counts as newer")
		h.edits(nil)
		assert.Equal(t, stays, h.wanted("fan") == 1, "answers: %v", answers)
	}
}
