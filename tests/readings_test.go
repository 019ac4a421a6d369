package tests

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/client"
	"idleember/tests/rig"
)

// Readings of the past come in, are read back bit for bit and page by page, sealed or not, and are deleted again.
func TestReadingsComeInAndGo(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Device("kiln")
	r.Pub("kiln", key, "ember/kiln/r", `{"chamber":20.5,"lid":"shut"}`)
	begin := time.Now().Add(-50 * 24 * time.Hour).Truncate(time.Second)
	bad, raw := client.OneReadingQ("bad"), 512.0
	var list []client.OneReading
	for i := range 9000 {
		list = append(list, client.OneReading{T: begin.Add(time.Duration(i) * 10 * time.Second).UnixMilli(),
			V: float64(i%400) / 10})
	}
	list[7].Q, list[8].Raw = &bad, &raw
	bring := func(series string, list []client.OneReading) client.Imported {
		x, err := r.Owner.ImportReadingsWithResponse(t.Context(), client.ReadingsImport{Series: series, Readings: list})
		require.NoError(t, err)
		return *x.JSON200
	}
	assert.Equal(t, client.Imported{Stored: 9000, Refused: []client.RefusedReading{}}, bring("kiln.chamber", list))
	assert.Zero(t, bring("kiln.chamber", list).Replaced, "again: nothing changes")
	list[3].V = -4.0
	assert.Equal(t, 1, bring("kiln.chamber", list[:10]).Replaced)
	ahead := time.Now().Add(time.Hour).UnixMilli()
	got := bring("kiln.chamber", []client.OneReading{{T: 5, V: 1.0}, {T: ahead, V: 1.0}, {T: 6, V: "wet"}})
	assert.Equal(t, 1, got.Stored)
	require.Len(t, got.Refused, 2)
	assert.Contains(t, got.Refused[0].Reason, "future")
	assert.Equal(t, 2, got.Refused[1].I)
	assert.Equal(t, 20.5, r.Value("kiln.chamber"), "no live value changes")

	page := func(from time.Time, newest bool, limit int) client.ReadingsPage {
		x, err := r.Owner.ListReadingsWithResponse(t.Context(), &client.ListReadingsParams{Series: "kiln.chamber",
			From: &from, Newest: &newest, Limit: &limit})
		require.NoError(t, err)
		return *x.JSON200
	}
	look := func() {
		p := page(begin, false, 5000)
		assert.True(t, p.More)
		assert.Equal(t, list[:5000], p.Readings)
		p = page(time.UnixMilli(p.Readings[4999].T+1), false, 5000)
		assert.False(t, p.More)
		assert.Equal(t, list[5000:], p.Readings[:4000])
		p = page(begin, true, 3)
		assert.Equal(t, []any{20.5, list[8999].V, list[8998].V}, []any{p.Readings[0].V, p.Readings[1].V, p.Readings[2].V})
	}
	look()
	require.NoError(t, r.Service.Hub.Seal(t.Context()))
	look()

	// Two weeks as buckets of the hub's days, and of hours.
	to, points := begin.Add(30*24*time.Hour), 30
	h, err := r.Owner.GetHistoryWithResponse(t.Context(), &client.GetHistoryParams{Series: []string{"kiln.chamber",
		"kiln.lid"}, From: &begin, To: &to, Points: &points})
	require.NoError(t, err)
	x := (*h.JSON200)[0]
	assert.Equal(t, int64(24*3600_000), x.StepMs)
	assert.Equal(t, 8999, sum(*x.Count), "the bad one is passed over")
	assert.Equal(t, begin.UnixMilli(), x.T[0], "the first bucket begins where it was asked for")
	zone, _ := time.LoadLocation("Europe/Vienna")
	assert.Equal(t, "00:00:00", time.UnixMilli(x.T[1]).In(zone).Format(time.TimeOnly), "days are the hub's")
	assert.Equal(t, -4.0, (*x.Min)[0])

	s, err := r.Owner.GetStorageWithResponse(t.Context())
	require.NoError(t, err)
	kept := map[string]client.KeptSeries{}
	for _, k := range s.JSON200.Series {
		kept[k.Series] = k
	}
	assert.Equal(t, int64(9002), kept["kiln.chamber"].Count)
	assert.Greater(t, kept["kiln.chamber"].Bytes, int64(1000))
	assert.Less(t, kept["kiln.chamber"].Bytes, int64(9000))
	assert.Equal(t, int64(5), kept["kiln.chamber"].From.UnixMilli())
	assert.Positive(t, s.JSON200.DatabaseBytes)

	gone, err := r.Owner.DeleteReadingsWithResponse(t.Context(), &client.DeleteReadingsParams{Series: "kiln.chamber",
		From: begin, To: begin.Add(25 * time.Second)})
	require.NoError(t, err)
	assert.Equal(t, 3, gone.JSON200.Removed)
	assert.Equal(t, list[3:5], page(begin, false, 2).Readings)
	assert.Contains(t, fmt.Sprint(r.Journal("kiln.chamber")), "delete readings 3 readings from")
	bring("kiln.chamber", list[:3])
	assert.Equal(t, list[:2], page(begin, false, 2).Readings, "brought back")

	kim := r.Member("kim", "member")
	_, err = kim.DeleteReadingsWithResponse(t.Context(), &client.DeleteReadingsParams{Series: "kiln.chamber", From: begin,
		To: to})
	assert.Error(t, err)
	_, err = kim.ImportReadingsWithResponse(t.Context(), client.ReadingsImport{Series: "kiln.chamber", Readings: list[:1]})
	assert.Error(t, err)
	_, err = r.Owner.ImportReadingsWithResponse(t.Context(), client.ReadingsImport{Series: "kiln.chambr",
		Readings: list[:1]})
	assert.ErrorContains(t, err, "did you mean kiln.chamber?")
	r.Restart()
	look()
}

// Notes are put at a time or a stretch, by people and from the terminal, and are told for the stretch that is asked
// for.
func TestNotes(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	r.Device("kiln")
	at := time.Now().Add(-48 * time.Hour).Truncate(time.Second).UTC()
	put := func(c *client.Remote, n client.NewNote) (client.Remark, error) {
		x, err := c.AddNoteWithResponse(t.Context(), n)
		if err != nil {
			return client.Remark{}, err
		}
		return *x.JSON201, nil
	}
	until := at.Add(3 * time.Hour)
	kim, lee := r.Member("kim", "member"), r.Member("lee", "member")
	one, err := put(kim, client.NewNote{At: at, Until: &until, Object: "studio", Text: " new filter "})
	require.NoError(t, err)
	assert.Equal(t, "new filter", one.Text)
	_, err = put(r.Owner, client.NewNote{At: at.Add(30 * time.Hour), Object: "kiln.chamber", Text: "later"})
	require.NoError(t, err)
	texts := func(from, to time.Time) (out []string) {
		x, err := kim.ListNotesWithResponse(t.Context(), &client.ListNotesParams{From: &from, To: &to})
		require.NoError(t, err)
		for _, n := range *x.JSON200 {
			out = append(out, n.Text)
		}
		return out
	}
	assert.Equal(t, []string{"later", "new filter"}, texts(at, time.Now()))
	assert.Equal(t, []string{"new filter"}, texts(at.Add(2*time.Hour), at.Add(4*time.Hour)),
		"a stretch counts where it reaches")
	assert.Empty(t, texts(at.Add(4*time.Hour), at.Add(5*time.Hour)))
	for want, n := range map[string]client.NewNote{"there is no place or device": {At: at, Object: "attic", Text: "x"},
		"1 to 500 characters":       {At: at, Object: "studio", Text: " "},
		"not after its begin":       {At: at, Until: &at, Object: "studio", Text: "x"},
		"between 1900 and tomorrow": {At: at.AddDate(1, 0, 0), Object: "studio", Text: "x"}} {
		_, err := put(kim, n)
		assert.ErrorContains(t, err, want)
	}
	_, err = lee.RemoveNoteWithResponse(t.Context(), one.ID)
	assert.Error(t, err, "another's note")
	_, err = kim.RemoveNoteWithResponse(t.Context(), one.ID)
	require.NoError(t, err)
	_, err = kim.RemoveNoteWithResponse(t.Context(), one.ID)
	assert.ErrorContains(t, err, "there is no note")
}
