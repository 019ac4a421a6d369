package store

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/core/reading"
	"idleember/core/site"
)

// What a killed backup left goes at the next start; what is being made just now stays.
func TestWhatAKilledBackupLeftGoes(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "hub [1]")
	s := open(t, dir)
	require.NoError(t, s.Close())
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "backups"), 0o700))
	gone := []string{"backups/backup-20260101-030000.ember.part", "backup-999999999.part"}
	stays := []string{fmt.Sprintf("backup-%d.part", os.Getppid()), "backups/backup-20260101-030000.ember",
		"backups/notes.txt"}
	for _, name := range append(gone, stays...) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte("x"), 0o600))
	}
	s = open(t, dir)
	defer func() { require.NoError(t, s.Close()) }()
	for _, name := range gone {
		assert.NoFileExists(t, filepath.Join(dir, name))
	}
	for _, name := range stays {
		assert.FileExists(t, filepath.Join(dir, name))
	}
}

// A backup of a damaged database is made, says so, and never takes the place of the last one that is whole.
func TestTheLastWholeBackupStays(t *testing.T) {
	s := open(t, t.TempDir())
	defer func() { require.NoError(t, s.Close()) }()
	thirtyDays(t, s)
	require.NoError(t, s.Seal(t.Context()))
	next := func() Backup {
		time.Sleep(1100 * time.Millisecond) // their names tell seconds apart
		b, err := s.MakeBackup(t.Context(), 2, "")
		require.NoError(t, err)
		return b
	}
	next()
	whole := next()
	assert.Empty(t, whole.Damaged)
	assert.WithinDuration(t, time.Now(), s.Scrubbed(), time.Minute)
	require.NoError(t, s.Do(t.Context(), func(tx *Tx) error {
		return tx.exec(`UPDATE blocks SET body = zeroblob(length(body)) WHERE key = (SELECT min(key) FROM blocks)`)
	}))
	for range 3 {
		assert.Contains(t, next().Damaged, "a.n")
	}
	list, err := s.Backups()
	require.NoError(t, err)
	require.Len(t, list, 3)
	assert.Equal(t, []bool{true, true, false}, []bool{list[0].Damaged != "", list[1].Damaged != "", list[2].Damaged != ""})
	assert.Equal(t, whole.Name, list[2].Name)
	_, err = Restore(t.Context(), filepath.Join(s.BackupFolder(), whole.Name), filepath.Join(t.TempDir(), "again"), "")
	require.NoError(t, err)
	files, err := os.ReadDir(s.BackupFolder())
	require.NoError(t, err)
	assert.Len(t, files, 3*2+2, "what goes goes with what stands beside it: %v", files)
}

// A backup that seems old, since the clock is wrong, is not let go as it is made; nor are those of other hubs, which
// only a person fetched.
func TestABackupJustMadeStays(t *testing.T) {
	s := open(t, t.TempDir())
	defer func() { require.NoError(t, s.Close()) }()
	others := []string{BackupName(time.Now().AddDate(1, 0, 0), ""), BackupName(time.Now().AddDate(2, 0, 0), ""),
		BackupName(time.Now().AddDate(-9, 0, 0), "attic-1")}
	require.NoError(t, os.MkdirAll(s.BackupFolder(), 0o700))
	byHand := BackupName(time.Now().AddDate(-9, 0, 0), "")
	for _, name := range append(others, byHand) {
		require.NoError(t, os.WriteFile(filepath.Join(s.BackupFolder(), name), []byte("x"), 0o600))
	}
	b, err := s.MakeBackup(t.Context(), 2, "")
	require.NoError(t, err)
	for _, name := range append(others, b.Name) {
		assert.FileExists(t, filepath.Join(s.BackupFolder(), name))
	}
	assert.NoFileExists(t, filepath.Join(s.BackupFolder(), byHand))
	for name, want := range map[string]bool{"backup-20260101-000000.ember": true,
		"backup-20260101-000000.attic-3f.ember": true, "backup-20260101-000000..ember": false,
		"backup-20260101-000000.a/b.ember": false, "backup-20260101-000000.A.ember": false,
		"backup-20261301-000000.ember": false, "before-20260101-000000.ember": false,
		"backup-20260101-000000.ember.part": false} {
		at, of, ok := Named(name)
		assert.Equal(t, want, ok, name)
		assert.True(t, !ok || BackupName(at, of) == name, name)
	}
}

// The hub's authority is in a backup only where that is encrypted, and comes back with it. A restore that fails leaves
// nothing.
func TestTheAuthorityIsInAnEncryptedBackup(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	defer func() { require.NoError(t, s.Close()) }()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, tlsFolder), 0o700))
	for _, name := range authorityFiles {
		require.NoError(t, os.WriteFile(filepath.Join(dir, tlsFolder, name), []byte("the "+name), 0o600))
	}
	for word, there := range map[string]bool{"": false, "three wet towels": true} {
		file := filepath.Join(t.TempDir(), "studio.backup")
		_, err := WriteBackup(t.Context(), dir, file, word)
		require.NoError(t, err)
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		assert.NotContains(t, string(text), "the ca.key")
		to := filepath.Join(t.TempDir(), "new")
		if word != "" {
			_, err = Restore(t.Context(), file, to, "another word")
			require.Error(t, err)
			assert.NoDirExists(t, to)
		}
		_, err = Restore(t.Context(), file, to, word)
		require.NoError(t, err)
		for _, name := range authorityFiles {
			text, err := os.ReadFile(filepath.Join(to, tlsFolder, name))
			assert.Equal(t, there, err == nil && string(text) == "the "+name)
			if info, err := os.Stat(filepath.Join(to, tlsFolder, name)); err == nil {
				assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
			}
		}
		restored := open(t, to)
		kept, err := restored.hubValue(t.Context(), authoritySecret)
		require.NoError(t, err)
		assert.Empty(t, kept, "it lies in its folder alone")
		require.NoError(t, restored.Close())
	}
	left, err := filepath.Glob(filepath.Join(dir, "*"+partEnd))
	require.NoError(t, err)
	assert.Empty(t, left)
}

// A bit that turned in a row of the log gives no wrong value: the row is left out, counted, and told by a check. Rows
// of before have no sum and are read.
func TestABitInTheLogIsNoticed(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	put := func(v float64) {
		require.NoError(t, s.Do(t.Context(), AddReading("a.n", Reading{T: started + int64(v), Value: reading.Number(v)},
			nil)))
	}
	put(1)
	put(2)
	put(3)
	require.NoError(t, s.Do(t.Context(), func(tx *Tx) error { // as before there were sums
		return tx.exec(`UPDATE log SET readings = substr(readings, 6) WHERE seq = 1`)
	}))
	require.NoError(t, s.Check(t.Context(), nil))
	var row []byte
	require.NoError(t, s.read.Get(&row, `SELECT readings FROM log WHERE seq = 2`))
	for bit := range len(row) * 8 {
		broken := append([]byte{}, row...)
		broken[bit/8] ^= 1 << (bit % 8)
		changes, err := openRow(2, broken)
		if err == nil {
			err = eachOp(changes, func(op) {})
		}
		if err == nil {
			t.Errorf("bit %d turned and nobody noticed: %x", bit, changes)
		}
	}
	_, err := openRow(3, row)
	assert.Error(t, err, "a row in another's place")
	require.NoError(t, s.Do(t.Context(), func(tx *Tx) error {
		return tx.exec(`UPDATE log SET readings = ? WHERE seq = 2`, append(append([]byte{}, row[:len(row)-1]...),
			row[len(row)-1]^4))
	}))
	assert.ErrorContains(t, s.Check(t.Context(), nil), "row 2 of the log")
	require.NoError(t, s.Close())
	s = open(t, dir)
	defer func() { require.NoError(t, s.Close()) }()
	got := all(t, s, "a.n", site.Number, 0, 1<<42, false)
	require.Len(t, got, 2)
	assert.Equal(t, []float64{1, 3}, []float64{got[0].Value.Num, got[1].Value.Num})
	damaged, err := s.Damaged(t.Context())
	require.NoError(t, err)
	assert.EqualValues(t, 1, damaged)
}
