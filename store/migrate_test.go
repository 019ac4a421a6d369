package store

import (
	"io/fs"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/core/reading"
	"idleember/core/site"
)

// A database of the first format, with a device, a signal, a control and a reading in it, comes up complete.
func TestFromTheFirstFormat(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(dir, 0o700))
	db, err := sqlx.Open("sqlite", "file:"+filepath.Join(dir, File))
	require.NoError(t, err)
	files, err := fs.Sub(migrations, "migrations")
	require.NoError(t, err)
	p, err := goose.NewProvider(goose.DialectSQLite3, db.DB, files, goose.WithLogger(goose.NopLogger()))
	require.NoError(t, err)
	_, err = p.UpTo(t.Context(), 1)
	require.NoError(t, err)
	for _, q := range []string{
		`INSERT INTO places (id, name, position) VALUES ('shed', 'Shed', 0)`,
		`INSERT INTO devices (id, name, place, key_hash, lease_ms, new_signals, created_ms) VALUES ('kiln', 'Kiln', 'shed', x'00', 60000, 1, 1000)`,
		`INSERT INTO signals (id, device, raw, name, kind, unit, decimals, reports, interval_ms, is_new, guests) VALUES ('kiln.t', 'kiln', 't', 'T', 'number', 'Cel', 1, 'periodic', 0, 0, 'see')`,
		`INSERT INTO controls (id, device, raw, name, confirm_ms, resume_ms, safe, dangerous, at_device, answers, guests) VALUES ('kiln.fan', 'kiln', 'fan', 'Fan', 5000, 0, 0, 1, 'insist', 1, 'none')`,
		`INSERT INTO series (id, name) VALUES (1, 'kiln.t')`,
		`INSERT INTO readings (series, t, v, q) VALUES (1, 5000, 21.4, 0)`,
	} {
		_, err := db.Exec(q)
		require.NoError(t, err, q)
	}
	require.NoError(t, db.Close())

	s := open(t, dir)
	defer func() { _ = s.Close() }()
	got, err := s.Site(t.Context())
	require.NoError(t, err)
	d := got.Devices["kiln"]
	assert.Equal(t, site.MQTT, d.Link.Kind)
	assert.Equal(t, time.Minute, d.Lease)
	assert.True(t, d.Active())
	assert.Equal(t, "Cel", got.Signals["kiln.t"].Unit)
	assert.False(t, got.Signals["kiln.t"].Source.Set())
	assert.True(t, got.Controls["kiln.fan"].Dangerous)
	last, ok, err := s.Last(t.Context(), "kiln.t", site.Number)
	require.NoError(t, err)
	assert.True(t, ok)
	assert.Equal(t, reading.Number(21.4), last.Value)
	assert.Nil(t, last.Raw)
}

// What a model, a mapping and a calibration hold comes back as it was kept.
func TestSettingsComeBack(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	lo := -20.0
	d := site.Device{ID: "fan", Name: "Fan", Place: "shed", Created: time.UnixMilli(1000), Wakes: time.Hour, State: site.Disabled, Model: "m",
		Limits: site.Limits{PerSecond: 5}, Link: site.Link{Kind: site.Modbus, Address: "10.0.0.1:502", Unit: 7, Watchdog: &site.Register{Table: site.Holding, Address: 10}}}
	g := site.Signal{ID: "fan.speed", Device: "fan", Raw: "speed", Name: "Speed", Kind: site.Number, Reports: site.Periodic, Guests: site.GuestsNothing,
		Source: site.Source{Register: &site.Register{Table: site.Input, Address: 1, Type: "u32", Swap: true, Scale: 0.1}}, Sense: site.Sense{Lowest: &lo, Spike: 3},
		Calibration: site.Calibration{Method: "table", Points: [][2]float64{{0, 1}, {2, 3}}}}
	c := site.NewControl("fan", "on", "on", "On")
	c.Target, c.Source = site.Target{Topic: "a/b", Template: "{value}", Retain: true}, site.Source{Pattern: "x", On: []string{"1"}}
	b := site.Broker{ID: "b", Name: "B", Address: "mqtt://h:1", Share: "s"}
	m := site.ModelOf(&site.Site{Devices: map[string]site.Device{"fan": d}, Signals: map[string]site.Signal{g.ID: g}, Controls: map[string]site.Control{c.ID: c}}, "fan", "m", "M")
	require.NoError(t, m.Validate())
	p := site.Panel{On: true, Address: ":1502", Allow: []string{"10.0.0.2"}, Points: []site.Point{{ID: "fan.on", Register: site.Register{Table: site.Coil}, Write: true}}}
	require.NoError(t, s.Do(t.Context(), SavePlace(site.Place{ID: "shed", Name: "Shed"}), AddDevice(d, []byte{1}), SaveSignal(g), SaveControl(c), SaveBroker(b, "secret"), SaveModel(m), SavePanel(p)))
	require.NoError(t, s.Close())
	s = open(t, dir)
	defer func() { _ = s.Close() }()
	got, err := s.Site(t.Context())
	require.NoError(t, err)
	assert.Equal(t, d, got.Devices["fan"])
	assert.Equal(t, g, got.Signals["fan.speed"])
	assert.Equal(t, c, got.Controls["fan.on"])
	assert.Equal(t, b, got.Brokers["b"])
	assert.Equal(t, p, got.Panel)
	list, err := s.Models(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []site.Model{m}, list)
	again := site.Device{ID: "fan"}
	signals, controls := list[0].Apply(&again)
	assert.Equal(t, g, signals[0], "a device made from its own model is the same")
	assert.Equal(t, c.Target, controls[0].Target)
	words, err := s.BrokerPasswords(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "secret", words["b"])
	require.NoError(t, s.Do(t.Context(), DropBroker("b"), DropModel("m"), DropDevice("fan")))
	got, err = s.Site(t.Context())
	require.NoError(t, err)
	assert.Empty(t, got.Devices)
	assert.Empty(t, got.Signals)
	assert.Empty(t, got.Brokers)
}

// Many rows at once and one by one give the same, doubles included.
func TestAddReadings(t *testing.T) {
	s := open(t, t.TempDir())
	defer func() { _ = s.Close() }()
	var list []Reading
	for i := range 263 {
		list = append(list, Reading{T: int64(i), Value: reading.Number(float64(i))})
	}
	replaced := 0
	add := func(list []Reading) {
		require.NoError(t, s.Do(t.Context(), AddReadings("a.n", list, func(n int) { replaced += n })))
	}
	add(list)
	add(list)
	assert.Zero(t, replaced, "sent twice, it counts once")
	list[7].Value, list[255].Value = reading.Number(-1), reading.Number(-2)
	add(append(list, list[3]))
	assert.Equal(t, 2, replaced)
	got := all(t, s, "a.n", site.Number, 0, 1000, false)
	require.Len(t, got, 263)
	assert.Equal(t, -1.0, got[7].Value.Num)
	require.NoError(t, s.Do(t.Context(), DropReadings("a.n", time.UnixMilli(0), time.UnixMilli(200))))
	assert.Len(t, all(t, s, "a.n", site.Number, 0, 1000, false), 63)
	require.NoError(t, s.Do(t.Context(), DropSeries("a.n")))
	assert.Empty(t, all(t, s, "a.n", site.Number, 0, 1000, false))
	assert.ErrorContains(t, s.Do(t.Context(), AddReading("a.n", Reading{T: -1 << 50}, nil)), "from 1900 to 2178")
}
