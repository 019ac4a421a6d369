package depot

import (
	"bytes"
	"io"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

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
