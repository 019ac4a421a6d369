package store

import (
	"context"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/core/access"
	"idleember/core/engine"
	"idleember/core/reading"
	"idleember/core/site"
)

func open(t testing.TB, dir string) *Store {
	s, err := Open(t.Context(), dir, Options{})
	require.NoError(t, err)
	return s
}

func all(t *testing.T, s *Store, name string, kind site.ValueKind, from, to int64, before bool) (out []Reading) {
	for r, err := range s.Readings(t.Context(), name, kind, time.UnixMilli(from), time.UnixMilli(to), before) {
		require.NoError(t, err)
		out = append(out, r)
	}
	return out
}

func TestReadingsComeBackBitForBit(t *testing.T) {
	s := open(t, t.TempDir())
	defer func() { _ = s.Close() }()
	values := []float64{0, math.Copysign(0, -1), 21.4, -1e-310, math.MaxFloat64, math.SmallestNonzeroFloat64, 1.0 / 3, 42}
	for i, v := range values {
		require.NoError(t, s.Do(t.Context(), AddReading("a.n", Reading{T: int64(i), Value: reading.Number(v)}, nil)))
	}
	require.NoError(t, s.Do(t.Context(), AddReading("a.t", Reading{T: 5, Value: reading.Text("wet"),
		Quality: reading.Suspect}, nil)))
	for i, r := range all(t, s, "a.n", site.Number, 0, 100, false) {
		assert.Equal(t, math.Float64bits(values[i]), math.Float64bits(r.Value.Num), "%g", values[i])
	}
	assert.Equal(t, []Reading{{T: 5, Value: reading.Text("wet"), Quality: reading.Suspect}}, all(t, s, "a.t", site.Text, 0,
		100, false))
	assert.Empty(t, all(t, s, "none", site.Number, 0, 100, false))
}

func TestReadingsInOrderPageByPageAndIdempotent(t *testing.T) {
	s := open(t, t.TempDir())
	defer func() { _ = s.Close() }()
	const n = 20_010
	var changes []Change
	for i := range n {
		at := int64((i*7919)%n) * 10
		changes = append(changes, AddReading("a.n", Reading{T: at, Value: reading.Number(float64(at))}, nil))
	}
	require.NoError(t, s.Do(t.Context(), changes...))
	require.NoError(t, s.Do(t.Context(), AddReading("a.n", Reading{T: 50, Value: reading.Number(-1)}, nil)))
	got := all(t, s, "a.n", site.Number, 0, math.MaxInt64/2, false)
	require.Len(t, got, n)
	for i, r := range got {
		require.Equal(t, int64(i)*10, r.T)
	}
	assert.Equal(t, -1.0, got[5].Value.Num, "same time again: the newer counts")
	got = all(t, s, "a.n", site.Number, 25, 45, true)
	assert.Equal(t, []int64{20, 30, 40}, []int64{got[0].T, got[1].T, got[2].T}, "what held at the start comes first")
	last, ok, err := s.Last(t.Context(), "a.n", site.Number)
	require.NoError(t, err)
	assert.True(t, ok)
	assert.Equal(t, int64(n-1)*10, last.T)
}

// What takes the place of a differing reading is counted, also within a rush of one millisecond that is committed at
// once.
func TestReplacedIsCounted(t *testing.T) {
	s := open(t, t.TempDir())
	defer func() { _ = s.Close() }()
	n := 0
	put := func(values ...float64) Change {
		var list []Reading
		for _, v := range values {
			list = append(list, Reading{T: 5, Value: reading.Number(v)})
		}
		return AddReadings("a.n", list, func(k int) { n += k })
	}
	for _, step := range []struct {
		changes []Change
		want    int
	}{
		{[]Change{put(1)}, 0},
		{[]Change{put(1)}, 0},
		{[]Change{put(2)}, 1},
		{[]Change{put(2, 3, 3, 4)}, 2},
		{[]Change{put(4), put(5), put(5), put(6)}, 2},
	} {
		n = 0
		require.NoError(t, s.Do(t.Context(), step.changes...))
		assert.Equal(t, step.want, n)
	}
	last, ok, err := s.Last(t.Context(), "a.n", site.Number)
	require.NoError(t, err)
	assert.True(t, ok)
	assert.Equal(t, reading.Number(6), last.Value)
}

func TestSiteAndStateSurvive(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	want := (&site.Site{}).Clone()
	want.Hub = site.Hub{Name: "Rowan Lane studio", Latitude: 48.2, Longitude: 16.4, Zone: "Europe/Vienna"}
	want.Places = []site.Place{{ID: "shed", Name: "Shed", Facts: []site.Fact{{Name: "fuse", Text: "third"}}}, {ID: "attic",
		Name: "Attic", Position: 1}}
	d := site.Device{ID: "kiln", Name: "Kiln", Place: "shed", LeaseMS: 60_000, NewSignals: true,
		Created: time.UnixMilli(1700000000123).UTC()}
	g := site.Signal{ID: "kiln.chamber", Device: "kiln", Raw: "Chamber", Name: "Chamber", Kind: site.Number, Unit: "Cel",
		Decimals: 1, Reports: site.Periodic, IntervalMS: 10_000, New: true, Guests: site.GuestsSee}
	c := site.NewControl("kiln", "fan", "fan", "Vent fan")
	c.Dangerous = true
	want.Devices[d.ID], want.Signals[g.ID], want.Controls[c.ID] = d, g, c
	on := site.Amount(1)
	state := engine.ControlState{ID: c.ID, Want: &on, WantBy: access.HubActor(),
		WantAt: time.UnixMilli(1700000000456).UTC(), Phase: engine.Confirmed, Rev: 7}
	alive := time.UnixMilli(1700000001000).UTC()
	require.NoError(t, s.Do(t.Context(), Keep(site.Put(want.Hub)), Keep(site.Put(want.Places[0])),
		Keep(site.Put(want.Places[1])), Keep(site.Put(d)), SaveKey(d.ID, []byte("hash")),
		Keep(site.Put(g)), Keep(site.Put(c)), Remember(engine.Keep{Kind: "control", ID: c.ID, State: state}),
		SaveAlive(alive),
		AddEntry(alive, access.HubActor(), "switch", c.ID, "off", "on", "because", nil)))
	for _, name := range []string{File, File + "-wal"} {
		info, err := os.Stat(filepath.Join(dir, name))
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), name)
	}
	require.NoError(t, s.Close())

	s = open(t, dir)
	defer func() { _ = s.Close() }()
	got, err := s.Site(t.Context())
	require.NoError(t, err)
	assert.Equal(t, want, got)
	back, err := s.State(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []engine.ControlState{state}, back.Controls)
	assert.Equal(t, alive, back.Alive)
	keys, err := s.Keys(t.Context())
	require.NoError(t, err)
	assert.Equal(t, map[string][]byte{"kiln": []byte("hash")}, keys)
	entries, err := s.Journal(t.Context(), JournalFilter{Objects: []string{"kiln"}, Limit: 10})
	require.NoError(t, err)
	require.Len(t, entries, 1)
	assert.Equal(t, "because", entries[0].Reason)
}

func TestABadBatchTakesNoOtherWithIt(t *testing.T) {
	s := open(t, t.TempDir())
	defer func() { _ = s.Close() }()
	var wg sync.WaitGroup
	for i := range 200 {
		wg.Add(1)
		go func() {
			defer wg.Done()
			bad := func(tx *Tx) error {
				return tx.exec(`INSERT INTO places (id, name, position) VALUES (NULL, NULL, NULL)`)
			}
			changes := []Change{AddReading(fmt.Sprintf("s.%d", i%17), Reading{T: int64(i), Value: reading.Number(1)}, nil)}
			if i%10 == 0 {
				assert.Error(t, s.Do(context.Background(), append(changes, bad)...))
			} else {
				assert.NoError(t, s.Do(context.Background(), changes...))
			}
		}()
	}
	wg.Wait()
	total := int64(0)
	for i := range 17 {
		n, err := s.Count(t.Context(), fmt.Sprintf("s.%d", i))
		require.NoError(t, err)
		total += n
	}
	assert.Equal(t, int64(180), total)
}

func TestRefusalsCannotGrow(t *testing.T) {
	s := open(t, t.TempDir())
	defer func() { _ = s.Close() }()
	var changes []Change
	for n := range int64(1000) {
		changes = append(changes, AddRefusal(Refusal{Device: "kiln", N: n + 1, Payload: []byte("x"), Reason: "no"}))
	}
	require.NoError(t, s.Do(t.Context(), changes...))
	got, err := s.Refusals(t.Context(), "kiln")
	require.NoError(t, err)
	require.Len(t, got, RefusalsKept)
	assert.Equal(t, int64(1000), got[0].N)
	counts, err := s.RefusalCounts(t.Context())
	require.NoError(t, err)
	assert.Equal(t, int64(1000), counts["kiln"])
}

func TestOpenSaysWhatIsWrong(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	_, err := Open(t.Context(), dir, Options{})
	assert.ErrorContains(t, err, "in use by another hub")
	require.NoError(t, s.Close())

	db, err := sqlx.Open("sqlite", filepath.Join(dir, File))
	require.NoError(t, err)
	_, err = db.Exec(`INSERT INTO goose_db_version (version_id, is_applied) VALUES (99, 1)`)
	require.NoError(t, err)
	require.NoError(t, db.Close())
	_, err = Open(t.Context(), dir, Options{})
	var newer *NewerError
	require.ErrorAs(t, err, &newer)
	assert.Equal(t, int64(99), newer.Have)

	file := filepath.Join(t.TempDir(), "file")
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	_, err = Open(t.Context(), filepath.Join(file, "sub"), Options{})
	assert.ErrorContains(t, err, "choose another with --data")
	broken := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(broken, File),
		[]byte("this is no database at all, not even a small one"), 0o600))
	_, err = Open(t.Context(), broken, Options{})
	assert.ErrorContains(t, err, "cannot be opened")
}

// Whatever a folder is called, its database is in it, for nobody else to read, and can be checked and copied.
func TestAPathIsAPath(t *testing.T) {
	for _, name := range []string{"hub#1", "hub%41", "hub?mode=ro", "a b&c=d", "Werkstatt 窯", "hub:1", "%", "'\"", "-x"} {
		above := t.TempDir()
		dir := filepath.Join(above, name)
		s, err := Open(t.Context(), dir, Options{})
		require.NoError(t, err, name)
		require.NoError(t, s.Do(t.Context(), SaveSecret(site.Key{Kind: "device", ID: "kiln"}, "camera", "a word")))
		copied := filepath.Join(above, name+".backup")
		_, err = WriteBackup(t.Context(), dir, copied, "")
		assert.NoError(t, err, name)
		require.NoError(t, s.Close())
		files, err := os.ReadDir(above)
		require.NoError(t, err)
		assert.Len(t, files, 3, "%s: %v", name, files)
		info, err := os.Stat(filepath.Join(dir, File))
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
		s, err = Open(t.Context(), dir, Options{})
		require.NoError(t, err)
		word, err := s.Secret(t.Context(), site.Key{Kind: "device", ID: "kiln"}, "camera")
		require.NoError(t, err)
		assert.Equal(t, "a word", word)
		require.NoError(t, s.Close())
	}
}
