package store

import (
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
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

// since is what the kept database of each format has more than that of the one before.
var since = map[int64][]string{
	1: {
		`INSERT INTO places (id, name, position) VALUES ('shed', 'Shed', 0)`,
		`INSERT INTO devices (id, name, place, key_hash, lease_ms, new_signals, created_ms) VALUES ('kiln', 'Kiln', 'shed', x'00', 60000, 1, 1000)`,
		`INSERT INTO signals (id, device, raw, name, kind, unit, decimals, reports, interval_ms, is_new, guests) VALUES ('kiln.t', 'kiln', 't', 'T', 'number', 'Cel', 1, 'periodic', 0, 0, 'see')`,
		`INSERT INTO controls (id, device, raw, name, confirm_ms, resume_ms, safe, dangerous, at_device, answers, guests) VALUES ('kiln.fan', 'kiln', 'fan', 'Fan', 5000, 0, 0, 1, 'insist', 1, 'none')`,
		`INSERT INTO series (id, name) VALUES (1, 'kiln.t')`,
		`INSERT INTO readings (series, t, v, q) VALUES (1, 5000, 21.4, 0)`,
		`INSERT INTO members (id, name, role, password, created_ms, disabled) VALUES ('mo', 'Mo', 'owner', 'x', 1000, 0)`,
		`INSERT INTO passes (hash, id, kind, member, name, created_ms, expires_ms) VALUES (x'01', 'p', 'token', 'mo', 'script', 1000, 0)`,
		`INSERT INTO journal (at_ms, actor_kind, actor_id, actor_name, source, action, object, before, after, reason) VALUES (1000, 'person', 'mo', 'Mo', '', 'add', 'kiln', '', 'device', '')`,
	},
	2: {`UPDATE devices SET settings = '{"link":{"kind":"http"}}'`},
	3: {`INSERT INTO parts (kind, id, body) VALUES ('preset', 'night', '{"id":"night","name":"Night","actions":[{"kind":"control","id":"kiln.fan"}]}')`,
		`INSERT INTO notes (at_ms, object, text, by_name) VALUES (1000, 'kiln', 'swept', 'Mo')`},
	5:  {`INSERT INTO views (account, name, view, shared) VALUES ('mo', 'Kiln', 's=kiln.t', 1)`},
	6:  {`INSERT INTO preferences (account, body) VALUES ('mo', '{"theme":"dark"}')`},
	7:  {`INSERT INTO dashboards (id, body) VALUES ('door', '{"id":"door","name":"Door"}')`},
	8:  {`INSERT INTO parts (kind, id, body) VALUES ('route', 'mo', '{"id":"mo","name":"Mo","via":"console"}')`},
	9:  {`INSERT INTO stills (device, at_ms, cause, body) VALUES ('kiln', 1000, '', x'ff')`},
	10: {`INSERT INTO versions (entry, kind, id, body, after) VALUES (1, 'device', 'kiln', '{}', '{}')`},
	12: {
		`INSERT INTO hub (key, value) VALUES ('site', '{"name":"Studio","latitude":1,"longitude":2,"zone":"UTC"}'), ('messaging', '{"address":"http://studio"}'),
			('rights', '[{"who":"mo","of":"kiln","may":"see"}]'), ('panel', '{"on":false,"address":"","allow":["10.0.0.1"],"points":null}'), ('backups', '{"every":"day","at":"03:00"}'),
			('secret mail password', 'stamp'), ('secret backup passphrase', 'clay'), ('secret backup elsewhere', 'shelf'), ('secret camera password kiln', 'lens'), ('secret signing key', 'seal'), ('alive', '2026-11-01T00:00:00Z')`,
		`INSERT INTO brokers (id, body, password) VALUES ('yard', '{"id":"yard","name":"Yard","address":"mqtt://b","user":"u"}', 'gate')`,
		`INSERT INTO models (id, body) VALUES ('oven', '{"id":"oven","name":"Oven"}')`,
		`UPDATE places SET facts = '[{"name":"fuse","text":"third"}]', picture = 'p'`,
		`UPDATE devices SET settings = '{"link":{"kind":"http"},"wakes":600000000000,"limits":{"per_second":3},"state":"disabled","model":"oven","camera":{"address":"http://c/x.jpg"}}'`,
		`UPDATE signals SET interval_ms = 2500, is_new = 1, settings = '{"sense":{"lowest":1},"accept_ms":5,"source":{},"calibration":{}}'`,
		`UPDATE controls SET settings = '{"kind":"level","lowest":20,"ask":true,"source":{},"target":{"topic":"a"}}', safe = 0.5`,
		`INSERT INTO versions (entry, kind, id, body, after) VALUES (2, 'site.Device', 'kiln', '{"id":"kiln","lease":60000000000,"wakes":0}', '{"id":"kiln","lease":30000000000,"wakes":0}'),
			(3, 'site.Signal', 'kiln.t', '{"id":"kiln.t","interval":2500000000}', ''), (4, 'site.Control', 'kiln.fan', '{"id":"kiln.fan","confirm_after":5000000000,"resume_within":0}', ''),
			(5, 'hub.rightsOf', 'hub.rights', '{"lines":null}', '{"lines":[]}'), (6, 'site.Dashboard', 'dashboard.door', '{"id":"door"}', '')`,
	},
	13: {`INSERT INTO views (account, name, view, shared) VALUES ('mo', 'Fan', 's=kiln.fan.is', 0)`},
}

// kept is the database of an earlier format as it was written when that was the newest: testdata/format-N.db.gz. With
// IDLEEMBER_WRITE=1 one that is missing is made; one that is there is never made anew.
func kept(t *testing.T, format int64, files fs.FS, into string) {
	file := filepath.Join("testdata", fmt.Sprintf("format-%d.db.gz", format))
	if _, err := os.Stat(file); os.IsNotExist(err) && os.Getenv("IDLEEMBER_WRITE") != "" {
		made := filepath.Join(t.TempDir(), File)
		db, err := sqlx.Open("sqlite", "file:"+made)
		require.NoError(t, err)
		p, err := goose.NewProvider(goose.DialectSQLite3, db.DB, files, goose.WithLogger(goose.NopLogger()))
		require.NoError(t, err)
		for n := int64(1); n <= format; n++ {
			_, err = p.UpTo(t.Context(), n)
			require.NoError(t, err)
			for _, q := range since[n] {
				_, err := db.Exec(q)
				require.NoError(t, err, q)
			}
		}
		require.NoError(t, db.Close())
		b, err := os.ReadFile(made)
		require.NoError(t, err)
		var packed bytes.Buffer
		w := gzip.NewWriter(&packed)
		_, err = w.Write(b)
		require.NoError(t, errors.Join(err, w.Close()))
		require.NoError(t, os.WriteFile(file, packed.Bytes(), 0o644))
	}
	f, err := os.Open(file)
	require.NoError(t, err, "keep a database of this format: IDLEEMBER_WRITE=1 go test ./store -run FromEveryFormat")
	defer func() { _ = f.Close() }()
	r, err := gzip.NewReader(f)
	require.NoError(t, err)
	b, err := io.ReadAll(r)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(into, b, 0o600))
}

func mustKeys(t *testing.T, s *Store) map[string][]byte {
	keys, err := s.Keys(t.Context())
	require.NoError(t, err)
	return keys
}

// A database of every earlier format comes up complete, and is backed up as it was before.
func TestFromEveryFormat(t *testing.T) {
	files, err := fs.Sub(migrations, "migrations")
	require.NoError(t, err)
	names, err := fs.Glob(files, "*.sql")
	require.NoError(t, err)
	for format := int64(1); format < int64(len(names)); format++ {
		t.Run(fmt.Sprint(format), func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			kept(t, format, files, filepath.Join(dir, File))
			s := open(t, dir)
			got, err := s.Site(t.Context())
			require.NoError(t, err)
			d := got.Devices["kiln"]
			assert.Equal(t, map[bool]site.LinkKind{true: site.MQTT, false: site.HTTP}[format < 2], d.Link.Kind)
			assert.Equal(t, time.Minute, d.Lease())
			assert.Equal(t, format < 12, d.Active())
			assert.Equal(t, "Cel", got.Signals["kiln.t"].Unit)
			assert.False(t, got.Signals["kiln.t"].Source.Set())
			assert.True(t, got.Controls["kiln.fan"].Dangerous)
			assert.Len(t, got.Presets, min(1, int(format)/3))
			assert.Len(t, got.Routes, min(1, int(format)/8))
			last, ok, err := s.Last(t.Context(), "kiln.t", site.Number)
			require.NoError(t, err)
			assert.True(t, ok)
			assert.Equal(t, reading.Number(21.4), last.Value)
			assert.Nil(t, last.Raw)
			people, err := s.Members(t.Context())
			require.NoError(t, err)
			assert.Equal(t, []Member{{ID: "mo", Name: "Mo", Role: "owner", Password: "x", Created: 1000, Recovery: "[]"}},
				people)
			passes, err := s.Passes(t.Context())
			require.NoError(t, err)
			assert.Len(t, passes, 1)
			lines, err := s.Journal(t.Context(), JournalFilter{Limit: 9})
			require.NoError(t, err)
			assert.Len(t, lines, 1)
			assert.Equal(t, []byte{0}, mustKeys(t, s)["kiln"])
			views := map[string]site.View{}
			if format >= 5 {
				views["view_1"] = site.View{ID: "view_1", Name: "Kiln", View: "s=kiln.t", Shared: true, By: "mo"}
			}
			if format >= 13 {
				views["view_2"] = site.View{ID: "view_2", Name: "Fan", View: "s=kiln.fan.is", By: "mo"}
			}
			assert.Equal(t, views, got.Views)
			if format == 12 {
				assert.Equal(t, site.Hub{Name: "Studio", Latitude: 1, Longitude: 2, Zone: "UTC"}, got.Hub)
				assert.Equal(t, []site.Right{{Who: "mo", Of: "kiln", May: site.GuestsSee}}, got.Rights.Lines)
				assert.Equal(t, []string{"10.0.0.1"}, got.Panel.Allow)
				assert.Equal(t, "day", got.Backups.Every)
				assert.Equal(t, "http://studio", got.Messaging.Address)
				assert.Equal(t, "Oven", got.Models["oven"].Name)
				assert.Equal(t, "Door", got.Dashboards["door"].Name)
				assert.Equal(t, []site.Place{{ID: "shed", Name: "Shed", Facts: []site.Fact{{Name: "fuse", Text: "third"}},
					Picture: "p"}}, got.Places)
				assert.Equal(t, site.Device{ID: "kiln", Name: "Kiln", Place: "shed", LeaseMS: 60_000, NewSignals: true,
					Created: time.UnixMilli(1000).UTC(), Link: site.Link{Kind: site.HTTP},
					WakesMS: 600_000, Limits: site.Limits{PerSecond: 3}, State: site.Disabled, Model: "oven",
					Camera: site.Camera{Address: "http://c/x.jpg"}}, d)
				lowest := 1.0
				assert.Equal(t, site.Signal{ID: "kiln.t", Device: "kiln", Raw: "t", Name: "T", Kind: site.Number, Unit: "Cel",
					Decimals: 1, Reports: site.Periodic, IntervalMS: 2500, AcceptMS: 5, New: true,
					Guests: site.GuestsSee, Sense: site.Sense{Lowest: &lowest}}, got.Signals["kiln.t"])
				assert.Equal(t, site.Control{ID: "kiln.fan", Device: "kiln", Raw: "fan", Name: "Fan", ConfirmAfterMS: 5000,
					Safe: 0.5, Dangerous: true, AtDevice: site.Insist, Answers: true,
					Guests: site.GuestsNothing, Kind: site.Level, Lowest: 20, Ask: true, Target: site.Target{Topic: "a"}},
					got.Controls["kiln.fan"])
				secrets, err := s.Secrets(t.Context())
				require.NoError(t, err)
				assert.Equal(t, map[site.Key]map[string]string{{Kind: "messaging"}: {"password": "stamp"},
					{Kind: "backups"}:            {"passphrase": "clay", "password": "shelf"},
					{Kind: "device", ID: "kiln"}: {"camera_password": "lens"}, {Kind: "broker", ID: "yard"}: {"password": "gate"},
					{Kind: "hub"}: {"signing key": "seal"}}, secrets)
				for entry, want := range map[int64]Version{2: {Kind: "device", ID: "kiln",
					Body: `{"id":"kiln","lease_ms":60000,"wakes_ms":0}`, After: `{"id":"kiln","lease_ms":30000,"wakes_ms":0}`},
					3: {Kind: "signal", ID: "kiln.t", Body: `{"id":"kiln.t","interval_ms":2500}`}, 4: {Kind: "control", ID: "kiln.fan",
						Body: `{"id":"kiln.fan","confirm_after_ms":5000,"resume_within_ms":0}`},
					5: {Kind: "rights", ID: "hub.rights", Body: `{"lines":null}`, After: `{"lines":[]}`}, 6: {Kind: "dashboard",
						ID: "dashboard.door", Body: `{"id":"door"}`}} {
					v, ok, err := s.Version(t.Context(), entry)
					require.NoError(t, err)
					require.True(t, ok)
					want.Entry = entry
					assert.Equal(t, want, v)
				}
			}
			require.NoError(t, s.Check(t.Context(), nil))
			require.NoError(t, s.Close())

			before, err := filepath.Glob(filepath.Join(dir, "backups", "before-format-*.ember"))
			require.NoError(t, err)
			require.Len(t, before, 1)
			again := filepath.Join(t.TempDir(), "again")
			_, err = Restore(t.Context(), before[0], again, "")
			require.NoError(t, err)
			db, err := sqlx.Open("sqlite", "file:"+filepath.Join(again, File))
			require.NoError(t, err)
			defer func() { _ = db.Close() }()
			var have int64
			require.NoError(t, db.Get(&have, `SELECT max(version_id) FROM goose_db_version`))
			assert.Equal(t, format, have, "it is as it was")
		})
	}
}
