package serve

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/core/site"
	"idleember/store"
)

// said is what a hub prints, to be read meanwhile.
type said struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (s *said) Write(b []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.Write(b)
}

func (s *said) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.String()
}

// A database that does not open: the console says why, and brings back a backup, or what is readable, for whoever has
// the code.
func TestADamagedDatabaseIsBroughtBackInTheConsole(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s, err := store.Open(t.Context(), dir, store.Options{})
	require.NoError(t, err)
	require.NoError(t, s.Do(t.Context(), store.Keep(site.Put(site.Hub{Name: "Studio", Zone: "UTC"})),
		store.SaveMember(store.Member{ID: "mo", Name: "Mo", Role: "owner", Password: "x", Recovery: "[]"})))
	kept, err := s.MakeBackup(t.Context(), 3, "three words here")
	require.NoError(t, err)
	require.NoError(t, s.Do(t.Context(), store.Keep(site.Put(site.Place{ID: "yard", Name: "Yard"}))))
	require.NoError(t, s.Close())
	places := func() (out []string, messages string) {
		s, err := store.Open(t.Context(), dir, store.Options{})
		require.NoError(t, err)
		defer func() { _ = s.Close() }()
		there, err := s.Site(t.Context())
		require.NoError(t, err)
		for _, p := range there.Places {
			out = append(out, p.ID)
		}
		list, err := s.Messages(t.Context(), 9)
		require.NoError(t, err)
		return out, fmt.Sprint(list)
	}
	spoil := func() {
		b, err := os.ReadFile(filepath.Join(dir, store.File))
		require.NoError(t, err)
		clear(b[:100])
		require.NoError(t, os.WriteFile(filepath.Join(dir, store.File), b, 0o600))
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	at := "http://" + l.Addr().String()
	require.NoError(t, l.Close())
	run := func() (code string, stop func() error) {
		ctx, end := context.WithCancel(t.Context())
		out, ended := &said{}, make(chan error, 1)
		go func() {
			ended <- Run(ctx, Options{Data: dir, HTTP: strings.TrimPrefix(at, "http://"), MQTT: "127.0.0.1:0"}, out)
		}()
		require.Eventually(t, func() bool { return strings.Contains(out.String(), "asks for this code") }, 20*time.Second,
			10*time.Millisecond)
		return regexp.MustCompile(`\n  ([a-z2-7]{16})\n`).FindStringSubmatch(out.String())[1],
			func() error { end(); return <-ended }
	}
	get := func(path string) (int, string) {
		q, err := http.NewRequestWithContext(t.Context(), http.MethodGet, at+path, nil)
		require.NoError(t, err)
		r, err := http.DefaultClient.Do(q)
		if err != nil {
			return 0, ""
		}
		b, _ := io.ReadAll(r.Body)
		_ = r.Body.Close()
		return r.StatusCode, string(b)
	}
	act := func(path string, form ...string) string {
		v := url.Values{}
		for i := 0; i < len(form); i += 2 {
			v.Set(form[i], form[i+1])
		}
		r, err := http.PostForm(at+path, v)
		require.NoError(t, err)
		b, err := io.ReadAll(r.Body)
		require.NoError(t, errors.Join(err, r.Body.Close()))
		return string(b)
	}
	until := func(what string, path string) {
		require.Eventually(t, func() bool {
			status, text := get(path)
			return strings.Contains(text, what) && (status == http.StatusOK) == (path == "/readyz")
		}, 2*time.Minute, 50*time.Millisecond, what) // a passphrase takes its time
	}

	spoil()
	code, stop := run()
	status, text := get("/readyz")
	assert.Equal(t, http.StatusServiceUnavailable, status, text)
	status, text = get("/api/v1/now")
	assert.Equal(t, http.StatusServiceUnavailable, status)
	assert.Contains(t, text, "database cannot be opened")
	status, text = get("/charts")
	assert.Equal(t, http.StatusServiceUnavailable, status)
	assert.Contains(t, text, "is not a database")
	assert.Contains(t, text, kept.Name)
	assert.Contains(t, text, "the newest without damage")
	assert.Contains(t, act("/salvage", "code", "wrong"), "The code is wrong")
	assert.Contains(t, act("/restore", "code", "wrong", "backup", kept.Name), "The code is wrong")
	_, text = get("/")
	assert.NotContains(t, text, "The code is wrong", "what somebody else did wrong is theirs")
	act("/restore", "code", code, "backup", "../idleember.db")
	until("choose a backup", "/")
	act("/restore", "code", code, "backup", kept.Name)
	until("enter its passphrase", "/")
	act("/restore", "code", code, "backup", kept.Name, "passphrase", "three words there")
	until("nothing has changed", "/")
	act("/restore", "code", code, "backup", kept.Name, "passphrase", "three words here")
	until("", "/readyz")
	require.NoError(t, stop())
	have, told := places()
	assert.Empty(t, have, "it is as it was when the backup was made")
	assert.Contains(t, told, "was restored; what was there before is in "+filepath.Join(dir, "damaged-"))

	// it is deleted; then what was moved aside is brought back as it was
	require.NoError(t, os.Remove(filepath.Join(dir, store.File)))
	_, stop = run()
	_, text = get("/")
	assert.Contains(t, text, "it was deleted or moved")
	assert.NotContains(t, text, "/salvage")
	require.ErrorContains(t, stop(), "it was deleted or moved", "nobody did anything")

	aside, err := filepath.Glob(filepath.Join(dir, "damaged-*", store.File))
	require.NoError(t, err)
	require.Len(t, aside, 1)
	require.NoError(t, os.Rename(aside[0], filepath.Join(dir, store.File)))
	code, stop = run()
	act("/salvage", "code", code)
	until("", "/readyz")
	require.NoError(t, stop())
	have, told = places()
	assert.Equal(t, []string{"yard"}, have)
	assert.Contains(t, told, "were salvaged")
	left, err := filepath.Glob(filepath.Join(dir, "fresh-*"))
	require.NoError(t, err)
	assert.Empty(t, left)
}
