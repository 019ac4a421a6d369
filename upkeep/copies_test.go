package upkeep

import (
	"bytes"
	"context"
	"io"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/store"
)

// sender is a place that sends another number of bytes than it says.
type sender int

func (sender) List(context.Context) (map[string]int64, error) { return nil, nil }
func (sender) Put(context.Context, string, string) error      { return nil }
func (sender) Remove(context.Context, string) error           { return nil }
func (s sender) Get(_ context.Context, _ string, w io.Writer) error {
	for range s {
		if _, err := w.Write(make([]byte, 1000)); err != nil {
			return err
		}
	}
	return nil
}

func TestWhatIsFetchedIsAsLongAsItWasSaidToBe(t *testing.T) {
	var got bytes.Buffer
	b := copied{Backup: store.Backup{Name: "backup", Bytes: 3000}}
	require.NoError(t, get(t.Context(), sender(3), b, &got))
	got.Reset()
	assert.ErrorContains(t, get(t.Context(), sender(1<<30), b, &got), "more than it said")
	assert.LessOrEqual(t, got.Len(), 3000)
	assert.ErrorContains(t, get(t.Context(), sender(2), b, &got), "is not whole: 1000 of 3000 bytes")
}

func TestTheNewestIsNotOfTheFuture(t *testing.T) {
	now := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	of := func(days int, of string) store.Backup { return store.Backup{At: now.AddDate(0, 0, days), Of: of} }
	damaged := of(0, "")
	damaged.Damaged = "a block"
	list := []store.Backup{of(5000, ""), of(4000, ""), of(0, "attic-1"), damaged, of(-1, ""), of(-2, "")}
	got, ok := newestWhole(list, now)
	assert.True(t, ok)
	assert.Equal(t, list[4], got)
	got, _ = newestWhole(list[:4], now)
	assert.Equal(t, list[0], got, "better than none")
	_, ok = newestWhole(list[2:4], now)
	assert.False(t, ok)
}
