package depot

import (
	"bytes"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/webdav"

	"idleember/core/site"
)

// A place that never comes to an end of its list takes neither the hub's memory nor its time.
func TestAListWithoutEndIsRefused(t *testing.T) {
	t.Parallel()
	for via, begin := range map[string]string{
		site.ToWebDAV: `<?xml version="1.0"?><D:multistatus xmlns:D="DAV:">`,
		site.ToS3:     `<?xml version="1.0"?><ListBucketResult>`,
	} {
		endless := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
			if q.URL.Query().Has("location") {
				_, _ = io.WriteString(w, `<LocationConstraint></LocationConstraint>`)
				return
			}
			w.Header().Set("Content-Type", "application/xml")
			w.WriteHeader(map[bool]int{true: http.StatusMultiStatus, false: http.StatusOK}[via == site.ToWebDAV])
			_, _ = io.WriteString(w, begin)
			junk := bytes.Repeat([]byte("<x>y</x>"), 8192)
			for end := time.Now().Add(20 * time.Second); time.Now().Before(end); {
				if _, err := w.Write(junk); err != nil {
					return
				}
			}
		}))
		d, err := Open(site.Elsewhere{Via: via, Address: endless.URL, Bucket: "studio", Account: "mo", Inside: true}, "word")
		require.NoError(t, err)
		begun := time.Now()
		_, err = d.List(t.Context())
		assert.Error(t, err, via)
		assert.Less(t, time.Since(begun), 15*time.Second, via)
		endless.Close()
	}
}

// A place that asks for the account before it takes anything, and breaks off whoever sends without, gets a large backup
// at the first try.
func TestALargeBackupIsSentByWhoHasSignedIn(t *testing.T) {
	t.Parallel()
	there := t.TempDir()
	dav := &webdav.Handler{FileSystem: webdav.Dir(there), LockSystem: webdav.NewMemLS()}
	place := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		if user, word, _ := q.BasicAuth(); user != "mo" || word != "word" {
			assert.NotEqual(t, http.MethodPut, q.Method, "a backup is sent before anybody has signed in")
			w.Header().Set("WWW-Authenticate", `Basic realm="x"`)
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		dav.ServeHTTP(w, q)
	}))
	defer place.Close()
	large := bytes.Repeat([]byte("clay "), 1<<21)
	file := filepath.Join(t.TempDir(), "backup")
	require.NoError(t, os.WriteFile(file, large, 0o600))
	d, err := Open(site.Elsewhere{Via: site.ToWebDAV, Address: place.URL, Account: "mo", Inside: true}, "word")
	require.NoError(t, err)
	require.NoError(t, d.Put(t.Context(), "backup", file))
	got, err := os.ReadFile(filepath.Join(there, "backup"))
	require.NoError(t, err)
	assert.True(t, bytes.Equal(large, got), "%d bytes of %d", len(got), len(large))
}
