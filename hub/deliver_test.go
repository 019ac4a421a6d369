package hub

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"idleember/core/reading"
	"idleember/core/site"
)

// Who may bring what, before anything of it is looked at.
func TestAdmit(t *testing.T) {
	t.Parallel()
	dev := site.Device{ID: "kiln", State: site.Active, Limits: site.Limits{MaxBytes: 2000}}
	brings := Arrival{Device: "kiln", Readings: []reading.Named{{Name: "chamber"}}}
	for why, x := range map[string]struct {
		dev   site.Device
		known bool
		d     Arrival
	}{
		"":                        {dev, true, brings},
		"no longer known":         {dev, false, brings},
		"is disabled":             {site.Device{ID: "kiln", State: site.Disabled}, true, brings},
		"may send 2000 at a time": {dev, true, Arrival{Device: "kiln", Payload: make([]byte, 2001)}},
		"below ember/kiln/":       {dev, true, Arrival{Device: "shed", Readings: brings.Readings}},
	} {
		got := admit(x.dev, x.known, &x.d)
		assert.True(t, strings.Contains(got, why) && (why == "") == (got == ""), "%s: %s", why, got)
	}
	assert.Empty(t, admit(dev, true, &Arrival{Device: "shed"}), "what brings nothing is about nothing")
}

// A reading comes in its signal's kind and unit, or is refused; what is calibrated has a unit of its own.
func TestValued(t *testing.T) {
	t.Parallel()
	g := site.Signal{Kind: site.Number, Unit: "Cel"}
	v, err := valued(g, reading.Named{Value: reading.Number(68), Unit: "[degF]"})
	assert.NoError(t, err)
	assert.InDelta(t, 20, v.Num, 1e-9)
	_, err = valued(g, reading.Named{Value: reading.Number(3), Unit: "V"})
	assert.Error(t, err)
	_, err = valued(g, reading.Named{Value: reading.Text("wet")})
	assert.Error(t, err)
	g.Calibration = site.Calibration{Method: "gain", Points: [][2]float64{{1, 2}}}
	v, err = valued(g, reading.Named{Value: reading.Number(3), Unit: "V"})
	assert.NoError(t, err)
	assert.Equal(t, 3.0, v.Num)
}
