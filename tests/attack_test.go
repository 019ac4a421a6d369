package tests

import (
	"bufio"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/client"
	"idleember/core/site"
	"idleember/serve"
	"idleember/tests/rig"
)

// Whoever guesses a device's key waits, longer each time, at every door; the device itself, from elsewhere, does not,
// nor do others.
func TestGuessingKeys(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key, other := r.Device("kiln"), r.Device("yard")
	for range 5 {
		assert.Contains(t, r.Pub("kiln", "guess", "ember/kiln/r/chamber", "1"), "efused")
	}
	out := r.Pub("kiln", key, "ember/kiln/r/chamber", "1", "-V", "mqttv5", "-d")
	assert.NotEmpty(t, out, "also the right key is not taken now")
	require.Empty(t, r.Pub("yard", other, "ember/yard/r/light", "1"), "of another device it is")
	q, err := http.NewRequestWithContext(t.Context(), "POST", r.URL()+"/push/kiln", strings.NewReader(`{"chamber":1}`))
	require.NoError(t, err)
	q.Header.Set("Content-Type", "application/json")
	q.SetBasicAuth("kiln", key)
	resp, err := http.DefaultClient.Do(q)
	require.NoError(t, err)
	_ = resp.Body.Close()
	assert.Equal(t, 429, resp.StatusCode)
	assert.NotEmpty(t, resp.Header.Get("Retry-After"))
	r.Soon("after the wait", func() bool { return r.Pub("kiln", key, "ember/kiln/r/chamber", "2") == "" })
}

// The hub fetches nothing of the house for somebody who has not said that it may, and follows nobody elsewhere.
func TestPagesOfTheHouseNeedConsent(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	var asked atomic.Int32
	inner := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		asked.Add(1)
		if q.URL.Path == "/away" {
			http.Redirect(w, q, "/values", http.StatusFound)
			return
		}
		_, _ = io.WriteString(w, `{"level":4}`)
	}))
	defer inner.Close()
	r.Linked("weather", client.Link{Kind: site.Poll, Address: inner.URL + "/values", IntervalMS: 1000})
	r.Soon("it is said", func() bool {
		return strings.Contains(strings.Join(r.Traffic("weather"), "\n"), "is an address in the house; allow that here")
	})
	assert.Zero(t, asked.Load())
	r.Linked("away", client.Link{Kind: site.Poll, Address: inner.URL + "/away", IntervalMS: 1000, Inside: true})
	r.Soon("it is not followed", func() bool {
		return strings.Contains(strings.Join(r.Traffic("away"), "\n"), "the server answered 302")
	})
	assert.Nil(t, r.Value("away.level"))
}

// Requests that are too long, too slow or not what they seem end with a plain answer, and the hub goes on.
func TestOddRequests(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	raw := func(text string, wait time.Duration) (status string, took time.Duration) {
		c, err := net.Dial("tcp", r.Service.HTTP)
		require.NoError(t, err)
		defer func() { _ = c.Close() }()
		begun := time.Now()
		_, err = io.WriteString(c, text)
		require.NoError(t, err)
		_ = c.SetReadDeadline(time.Now().Add(wait))
		line, _ := bufio.NewReader(c).ReadString('\n')
		return strings.TrimSpace(line), time.Since(begun)
	}
	head := "Host: studio\r\nContent-Type: application/json\r\n"
	for name, c := range map[string]struct{ text, status string }{
		"a header bomb": {"GET /api/v1/setup HTTP/1.1\r\nHost: studio\r\nX: " + strings.Repeat("x", 40<<10) +
			"\r\n\r\n", "431"},
		"a cookie bomb": {"GET /api/v1/session HTTP/1.1\r\nHost: studio\r\nCookie: " + strings.Repeat("a=b; ",
			2500) + "\r\n\r\n", "401"},
		"a body that is too long": {"POST /api/v1/session HTTP/1.1\r\n" + head + "Content-Length: 9999999\r\n\r\n", "413"},
		"a chunked one": {"POST /api/v1/session HTTP/1.1\r\n" + head +
			"Transfer-Encoding: chunked\r\n\r\n20000\r\n" + strings.Repeat("x", 0x20000) + "\r\n0\r\n\r\n", "4"},
		"two lengths": {"POST /api/v1/session HTTP/1.1\r\n" + head +
			"Content-Length: 2\r\nContent-Length: 3\r\n\r\n{}", "400"},
		"a packed body": {"POST /api/v1/session HTTP/1.1\r\n" + head +
			"Content-Encoding: gzip\r\nContent-Length: 2\r\n\r\n\x1f\x8b", "400"},
		"a picture elsewhere": {"GET /api/v1/pictures/..%2f..%2fidleember.db HTTP/1.1\r\nHost: studio\r\n\r\n", "40"},
	} {
		status, _ := raw(c.text, 10*time.Second)
		assert.Regexp(t, `^HTTP/1.1 `+c.status, status, name)
	}
	for _, path := range []string{"/assets/../../../../etc/passwd", "/assets/%2e%2e/%2e%2e/etc/passwd", "/../idleember.db",
		"/api/../../idleember.db"} {
		c, err := net.Dial("tcp", r.Service.HTTP)
		require.NoError(t, err)
		_, err = io.WriteString(c, "GET "+path+" HTTP/1.1\r\nHost: studio\r\nConnection: close\r\n\r\n")
		require.NoError(t, err)
		b, err := io.ReadAll(c)
		require.NoError(t, err)
		_ = c.Close()
		assert.NotContains(t, string(b), "root:", path)
		assert.NotContains(t, string(b), "SQLite", path)
	}
	status, took := raw("GET /healthz HTTP/1.1\r\nHost: stu", 20*time.Second)
	assert.NotContains(t, status, "200")
	assert.Less(t, took, 15*time.Second, "who does not come to an end is hung up on")
	got, _, _ := fetch(t, r.URL()+"/healthz", "")
	assert.Equal(t, 200, got)
}

// Whoever is not signed in learns neither the version nor who lives here; each answer has what keeps a browser safe.
func TestNothingIsToldToStrangers(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	r.Device("kiln")
	for _, path := range []string{"/", "/healthz", "/readyz", "/metrics", "/api/v1/setup", "/api/v1/now",
		"/api/v1/nothing", "/ca.pem", "/push/kiln", "/nowhere"} {
		_, text, header := fetch(t, r.URL()+path, "")
		if block, _ := pem.Decode([]byte(text)); block != nil {
			text = string(block.Bytes) // in Base64 any short word comes up by chance
		}
		all := text + fmt.Sprint(header)
		for _, word := range []string{serve.Version, "Rowan", "kiln", "Go/", "echo"} {
			if path == "/push/kiln" && word == "kiln" {
				continue
			}
			assert.NotContains(t, strings.ToLower(all), strings.ToLower(word), path)
		}
		assert.Empty(t, header.Get("Server"), path)
		assert.Equal(t, "nosniff", header.Get("X-Content-Type-Options"), path)
		assert.NotContains(t, header.Get("Content-Security-Policy"), "unsafe", path)
	}
}

// An id is of plain letters, so that none looks like another.
func TestIdsThatLookAlike(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	r.Device("kiln")
	// the first with a Cyrillic i
	for _, id := range []string{"kіln", "kiln\u200b", "ＫＩＬＮ", "kiln/../yard", "kiln#", "kiln+", "KILN"} {
		_, err := r.Owner.AddDevice(t.Context(), rig.Fields{"id": &id, "name": "Kiln"})
		assert.Error(t, err, id)
		_, err = r.Owner.AddMemberWithResponse(t.Context(), client.NewMember{Account: id, Role: client.RoleMember,
			Password: rig.Password})
		assert.Error(t, err, id)
	}
}

// Whoever says little and slowly holds up nobody, and is let go.
func TestSlowRequests(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	dial := func(text string) net.Conn {
		c, err := net.Dial("tcp", r.Service.HTTP)
		require.NoError(t, err)
		t.Cleanup(func() { _ = c.Close() })
		_, err = io.WriteString(c, text)
		require.NoError(t, err)
		return c
	}
	begun := time.Now()
	key := r.Device("kiln")
	var headers, bodies []net.Conn
	for range 100 {
		headers = append(headers, dial("GET /api/v1/now HTTP/1.1\r\nHost: studio\r\nX-Slow: "))
		bodies = append(bodies, dial("POST /api/v1/session HTTP/1.1\r\nHost: studio\r\nContent-Type: application/json\r\n"+
			"Content-Length: 1000\r\n\r\n{"))
	}
	board := dial(fmt.Sprintf("POST /push/kiln HTTP/1.1\r\nHost: studio\r\nContent-Type: application/json\r\n"+
		"Authorization: Bearer %s\r\nContent-Length: 1000\r\n\r\n{", key))
	for range 20 {
		asked := time.Now()
		r.Now()
		assert.Less(t, time.Since(asked), 5*time.Second, "others are served")
	}
	ends := func(c net.Conn, within time.Duration) {
		_ = c.SetReadDeadline(begun.Add(within))
		if _, err := io.Copy(io.Discard, c); !errors.Is(err, syscall.ECONNRESET) { // which is one way of being let go
			assert.NoError(t, err, "it was let go within %s", within)
		}
	}
	for _, c := range headers {
		ends(c, 30*time.Second)
	}
	_ = board.SetReadDeadline(begun.Add(100 * time.Second))
	answer, err := io.ReadAll(board)
	require.NoError(t, err)
	assert.Contains(t, string(answer), "HTTP/1.1 408", "half a message is not acknowledged")
	for _, c := range bodies {
		ends(c, 100*time.Second)
	}
}

// A name that is not the hub's is not answered: a page elsewhere could let its own lead here.
func TestOnlyTheHubsNamesAreAnswered(t *testing.T) {
	t.Parallel()
	r := rig.With(t, func(o *serve.Options) { o.Hosts = []string{"studio.example"} })
	status := func(host, path string) int {
		q, err := http.NewRequestWithContext(t.Context(), "GET", r.URL()+path, nil)
		require.NoError(t, err)
		q.Host = host
		resp, err := http.DefaultClient.Do(q)
		require.NoError(t, err)
		defer func() { _ = resp.Body.Close() }()
		return resp.StatusCode
	}
	for _, host := range []string{"127.0.0.1", "localhost:8480", "[::1]:8480", "192.168.1.20", "10.0.0.4:80", "100.64.1.1",
		"[fe80::1]", "[fd00::5]:8480", "studio", "STUDIO.local.", "hub.lan:8480", "kiln.home.arpa", "studio.example:443"} {
		assert.Equal(t, 200, status(host, "/healthz"), host)
	}
	for _, host := range []string{"evil.example", "127.0.0.1.evil.example", "studio.example.evil.example", "93.184.216.34",
		"[2606:2800:220:1::1]", "local.evil", "lan.example:8480"} {
		for _, path := range []string{"/", "/api/v1/now", "/push/kiln", "/healthz"} {
			assert.Equal(t, 421, status(host, path), host+path)
		}
	}
	require.NoError(t, messaging(r, site.Messaging{Address: "https://kiln.example:8443/"}))
	assert.Equal(t, 200, status("kiln.example:8443", "/healthz"), "as people reach it")
}

// Who was refused stands in the log, a few times a minute; what is well does not.
func TestRefusalsAreLogged(t *testing.T) {
	t.Parallel()
	var said safeBuffer
	r := rig.With(t, func(o *serve.Options) {
		o.Log = slog.New(slog.NewTextHandler(&said, &slog.HandlerOptions{Level: slog.LevelWarn}))
	})
	r.Member("pat", client.RoleGuest)
	cookie := signedIn(t, r.URL(), "pat")
	assert.Empty(t, said.String())
	for range 30 {
		status, _ := rig.JSON(t, http.DefaultClient, "GET", r.URL()+"/api/v1/members", "", "Cookie", cookie)
		require.Equal(t, 403, status)
	}
	assert.Equal(t, 5, strings.Count(said.String(), "a request was refused"), said.String())
	assert.Contains(t, said.String(), "who=pat method=GET path=/api/v1/members status=403")
	status, _ := rig.JSON(t, http.DefaultClient, "GET", r.URL()+"/api/v1/session", "")
	assert.Equal(t, 401, status)
	assert.NotContains(t, said.String(), "/api/v1/session", "a browser that is not signed in asks to know that")
	resp, err := http.Get(r.URL() + "/metrics")
	require.NoError(t, err)
	_ = resp.Body.Close()
	assert.Equal(t, "no-store", resp.Header.Get("Cache-Control"))
	assert.Empty(t, resp.Header.Get("Strict-Transport-Security"))
}

// safeBuffer is written and read by many.
type safeBuffer struct {
	mu sync.Mutex
	b  strings.Builder
}

func (s *safeBuffer) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.Write(p)
}

func (s *safeBuffer) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.String()
}

// A browser that nobody used for a month is signed out, sooner where the owner says; walls and tokens go on.
func TestUnusedBrowsersAreSignedOut(t *testing.T) {
	t.Parallel()
	ahead := time.Duration(0)
	r := rig.With(t, func(o *serve.Options) {
		by := ahead
		o.Now = func() time.Time { return time.Now().Add(by) }
		o.ClockSet = func() bool { return true }
	})
	_, err := save(r.Owner, site.Dashboard{ID: "page", Name: "Page", Tiles: []site.Tile{}})
	require.NoError(t, err)
	w, err := r.Owner.AddWallWithResponse(t.Context(), "page", client.AddWallJSONRequestBody{Name: "hall"})
	require.NoError(t, err)
	token, cookie := r.Token(r.Owner), signedIn(t, r.URL(), "mo")
	after := func(days int) (list []int) {
		ahead = time.Duration(days) * 24 * time.Hour
		require.NoError(t, r.Service.Close())
		r.Reopen()
		for _, h := range []string{"Cookie: " + cookie, "Authorization: Bearer " + token, "Authorization: Bearer " +
			w.JSON201.Key} {
			name, value, _ := strings.Cut(h, ": ")
			status, _ := rig.JSON(t, http.DefaultClient, "GET", r.URL()+"/api/v1/now", "", name, value)
			list = append(list, status)
		}
		return list
	}
	assert.Equal(t, []int{200, 200, 200}, after(29))
	assert.Equal(t, []int{200, 200, 200}, after(58), "it was used in between")
	days := 7
	_, err = r.Owner.Hub().Patch(t.Context(), rig.Fields{"idle_days": &days}, "")
	require.NoError(t, err)
	assert.Equal(t, []int{401, 200, 200}, after(66))
	days = 400
	_, err = r.Owner.Hub().Patch(t.Context(), rig.Fields{"idle_days": &days}, "")
	assert.Error(t, err)
}

// How messages went is kept for three months.
func TestOldDeliveriesGo(t *testing.T) {
	t.Parallel()
	ahead := time.Duration(0)
	r := rig.With(t, func(o *serve.Options) {
		by := ahead
		o.Now = func() time.Time { return time.Now().Add(by) }
		o.ClockSet = func() bool { return true }
	})
	hook := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) {}))
	defer hook.Close()
	require.NoError(t, saveRoute(r, site.Route{ID: "hall", Via: "webhook", To: hook.URL, Inside: true}))
	key := r.Device("kiln")
	r.Pub("kiln", key, "ember/kiln/r/chamber", "150")
	r.Soon("a signal", func() bool { return len(r.Now().Signals) == 1 })
	saveAlert(r, site.Alert{ID: "hot", Name: "Too hot", Kind: site.AlertAbove, Of: "kiln.chamber", Limit: 100})
	kept := func() bool {
		x, err := r.Owner.ListDeliveriesWithResponse(t.Context(), &client.ListDeliveriesParams{})
		require.NoError(t, err)
		return slices.ContainsFunc(*x.JSON200, func(d client.Delivery) bool { return d.Alert == "hot" && d.State == "sent" })
	}
	r.Soon("it went", kept)
	for _, days := range []int{80, 100} {
		ahead = time.Duration(days) * 24 * time.Hour
		r.Restart()
		r.Soon("it is kept for as long as it should be", func() bool { return kept() == (days < 90) })
	}
}
