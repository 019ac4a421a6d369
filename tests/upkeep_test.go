package tests

import (
	"io"
	"net/http"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/client"
	"idleember/core/site"
	"idleember/store"
	"idleember/tests/rig"
)

func fetch(t *testing.T, url, token string) (int, string, http.Header) {
	q, err := http.NewRequestWithContext(t.Context(), "GET", url, nil)
	require.NoError(t, err)
	if token != "" {
		q.Header.Set("Authorization", "Bearer "+token)
	}
	resp, err := http.DefaultClient.Do(q)
	require.NoError(t, err)
	defer func() { _ = resp.Body.Close() }()
	b, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	return resp.StatusCode, string(b), resp.Header
}

// What the hub knows of itself, in the text form of OpenMetrics, behind a token.
func TestMetrics(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Device("kiln")
	for _, v := range []string{"1", "2", "3"} {
		r.Pub("kiln", key, "ember/kiln/r/chamber", v)
	}
	status, _, _ := fetch(t, r.URL()+"/metrics", "")
	assert.Equal(t, 401, status)
	status, _, _ = fetch(t, r.URL()+"/metrics", r.Token(r.Member("lee", client.RoleGuest)))
	assert.Equal(t, 403, status)
	live := watch(t, r.Owner)
	status, text, header := fetch(t, r.URL()+"/metrics", r.Token(r.Owner))
	require.Equal(t, 200, status)
	assert.Equal(t, "application/openmetrics-text; version=1.0.0; charset=utf-8", header.Get("Content-Type"))
	assert.True(t, strings.HasSuffix(text, "# EOF\n"))
	value := func(name string) string {
		m := regexp.MustCompile(`(?m)^` + name + ` (\S+)$`).FindStringSubmatch(text)
		require.NotNil(t, m, name)
		return m[1]
	}
	assert.Contains(t, []string{"4", "5"}, value("ember_readings_total"), "and that the kiln is on line is history too")
	assert.Equal(t, "1", value("ember_readers"))
	assert.Equal(t, "0", value("ember_trouble"))
	for _, name := range []string{"ember_commits_total", "ember_commit_seconds_total", "ember_memory_bytes",
		"ember_disk_used_percent", "ember_waiting", "ember_uptime_seconds"} {
		value(name)
	}
	// Each family is told of before its sample (OpenMetrics 1.0, section 3).
	line := regexp.MustCompile(`^(# (TYPE|UNIT|HELP) ember\w* .+|ember\w*(\{version="[^"]+"\})? \S+|# EOF)$`)
	for _, l := range strings.Split(strings.TrimSuffix(text, "\n"), "\n") {
		assert.Regexp(t, line, l)
	}
	live.cancel()
	r.Soon("it left", func() bool {
		_, text, _ = fetch(t, r.URL()+"/metrics", r.Token(r.Owner))
		return value("ember_readers") == "0"
	})
}

// Ready is a hub that can store; while it cannot it says why, and is alive all the same.
func TestReadyAndAlive(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Device("kiln")
	status, text, _ := fetch(t, r.URL()+"/readyz", "")
	assert.Equal(t, 200, status)
	assert.Equal(t, "ready\n", text)
	db, err := sqlx.Open("sqlite", filepath.Join(r.Dir, store.File))
	require.NoError(t, err)
	defer func() { _ = db.Close() }()
	_, err = db.Exec(`BEGIN EXCLUSIVE`)
	require.NoError(t, err)
	board := r.Paho("kiln", key, "kiln")
	board.Publish("ember/kiln/r/chamber", 1, false, "1")
	r.Soon("not ready", func() bool { status, text, _ = fetch(t, r.URL()+"/readyz", ""); return status == 503 })
	assert.NotEmpty(t, text)
	status, _, _ = fetch(t, r.URL()+"/healthz", "")
	assert.Equal(t, 200, status)
	_, err = db.Exec(`ROLLBACK`)
	require.NoError(t, err)
	r.Soon("ready again", func() bool { status, _, _ = fetch(t, r.URL()+"/readyz", ""); return status == 200 })
}

// The hub itself is a device like any other, where somebody wants that: charted, and watched by alerts.
func TestTheHubItselfAsSignals(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	r.Linked("this_hub", client.Link{Kind: site.Itself})
	r.Soon("it is there", func() bool { return r.Online("this_hub") })
	r.Soon("its signals", func() bool { return len(r.Now().Signals) >= 8 })
	assert.Positive(t, r.Value("this_hub.memory_mb"))
	assert.Equal(t, 1.0, r.Value("this_hub.devices"))
	assert.NotNil(t, r.Signal("this_hub.commit_ms"))
	saveAlert(r, site.Alert{ID: "heavy", Name: "Heavy", Kind: site.AlertAbove, Of: "this_hub.memory_mb", Limit: 1})
	r.Soon("an alert of it", func() bool { return len(alerts(r, r.Owner)) == 1 })
	assert.NotEmpty(t, r.History("this_hub.disk_used"))
}
