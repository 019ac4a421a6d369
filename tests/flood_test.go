package tests

import (
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"net/http"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	paho "github.com/eclipse/paho.mqtt.golang"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/serve"
	"idleember/tests/rig"
)

// flood opens connections to an address, says something on each, and closes them in the end.
func flood(t *testing.T, n int, addr, say string, secure bool) {
	t.Helper()
	for range n {
		c, err := net.Dial("tcp", addr)
		require.NoError(t, err)
		t.Cleanup(func() { _ = c.Close() })
		if tcp, ok := c.(*net.TCPConn); ok {
			_ = tcp.SetReadBuffer(4096)
		}
		if secure {
			c = tls.Client(c, &tls.Config{InsecureSkipVerify: true})
			_ = c.SetDeadline(time.Now().Add(5 * time.Second))
		}
		_, _ = io.WriteString(c, say)
	}
}

// Whoever stands about, says half of something, or does not read what was asked for, keeps nobody out; not even from
// the same address.
func TestNobodyIsKeptOutByWhoStandsAbout(t *testing.T) {
	t.Parallel()
	r := rig.With(t, func(o *serve.Options) { o.MQTTS, o.HTTPS = "127.0.0.1:0", "127.0.0.1:0" })
	key := r.Device("kiln")
	s := r.Service
	slow := "GET /api/openapi.yaml HTTP/1.1\r\nHost: hub\r\n\r\n"
	for name, f := range map[string]func(){
		"silent boards":   func() { flood(t, 300, s.MQTT, "", false) },
		"half a CONNECT":  func() { flood(t, 300, s.MQTT, "\x10\x20\x00\x04MQ", false) },
		"silent TLS":      func() { flood(t, 300, s.MQTTS, "", false) },
		"TLS and no more": func() { flood(t, 150, s.MQTTS, "", true) },
		"silent browsers": func() { flood(t, 300, s.HTTP, "", false) },
		"half a header":   func() { flood(t, 300, s.HTTP, "GET / HTTP/1.1\r\nHost: h", false) },
		"silent WebSockets": func() {
			flood(t, 300, s.HTTP, "GET /mqtt HTTP/1.1\r\nHost: hub\r\nConnection: Upgrade\r\nUpgrade: websocket\r\n"+
				"Sec-WebSocket-Version: 13\r\nSec-WebSocket-Key: dGhlIHNhbXBsZSBub25jZQ==\r\nSec-WebSocket-Protocol: mqtt\r\n\r\n",
				false)
		},
		"slow readers": func() { flood(t, 300, s.HTTP, slow+slow+slow+slow+slow+slow+slow+slow, false) },
		"silent HTTPS": func() { flood(t, 300, s.HTTPS, "", false) },
	} {
		f()
		begun := time.Now()
		require.Empty(t, r.Pub("kiln", key, "ember/kiln/r/chamber", "21"), name)
		fresh := &http.Client{Transport: &http.Transport{DisableKeepAlives: true}, Timeout: 10 * time.Second}
		resp, err := fresh.Get(r.URL() + "/healthz")
		require.NoError(t, err, name)
		_ = resp.Body.Close()
		now, err := r.Owner.GetNowWithResponse(t.Context())
		require.NoError(t, err, name)
		require.NotNil(t, now.JSON200, name)
		assert.Less(t, time.Since(begun), 10*time.Second, name)
	}
}

// Of any number of guesses at the same time no more are judged than of guesses one after another, and who signed in
// before is not held up by those of others.
func TestGuessesAtOnce(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	r.Member("kim", "member")
	guess := func(c *http.Client, password string) int {
		status, _ := rig.JSON(t, c, "POST", r.URL()+"/api/v1/session", `{"account":"kim","password":"`+password+`"}`)
		return status
	}
	var judged atomic.Int32
	var all sync.WaitGroup
	stranger := rig.From("127.0.0.7")
	for range 40 {
		all.Go(func() {
			if guess(stranger, "correct horse 1") != http.StatusTooManyRequests {
				judged.Add(1)
			}
		})
	}
	all.Wait()
	assert.LessOrEqual(t, judged.Load(), int32(5))
	n := 0
	r.Soon("from where nobody knows her, the account waits", func() bool { // on a slow machine its wait may just be over
		n++
		return guess(stranger, "correct horse 1") == http.StatusTooManyRequests &&
			guess(rig.From(fmt.Sprintf("127.0.1.%d", n)), rig.Password) == http.StatusTooManyRequests
	})
	assert.Less(t, guess(rig.From("127.0.0.1"), rig.Password), 300, "from where she signed in before, she gets in")
}

// A session has so many live streams, and a client so many subscriptions, whatever it asks for.
func TestStreamsAndSubscriptionsHaveABound(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	token := r.Token(r.Owner)
	open, refused := 0, 0
	for range 40 {
		q, err := http.NewRequestWithContext(t.Context(), "GET", r.URL()+"/api/v1/live", nil)
		require.NoError(t, err)
		q.Header.Set("Authorization", "Bearer "+token)
		resp, err := http.DefaultClient.Do(q)
		require.NoError(t, err)
		t.Cleanup(func() { _ = resp.Body.Close() })
		if resp.StatusCode == http.StatusOK {
			open++
		} else if assert.Equal(t, http.StatusTooManyRequests, resp.StatusCode) {
			refused++
		}
	}
	assert.Equal(t, []int{32, 8}, []int{open, refused})
	_, err := r.Owner.GetNowWithResponse(t.Context())
	require.NoError(t, err, "others have their own")

	board := r.Connect("kiln", r.Device("kiln"), "kiln")
	filters := map[string]byte{}
	for i := range 3000 {
		filters[fmt.Sprintf("ember/kiln/x/%d", i)] = 1
	}
	begun := time.Now()
	told := board.SubscribeMultiple(filters, nil)
	require.True(t, told.WaitTimeout(20*time.Second))
	taken := 0
	for _, code := range told.(*paho.SubscribeToken).Result() {
		if code < 0x80 {
			taken++
		}
	}
	assert.Equal(t, 32, taken)
	assert.Less(t, time.Since(begun), 5*time.Second)
	assert.Less(t, len(r.Refusals("kiln")), 10, "a few are told, as an example")
}
