package tests

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/client"
	"idleember/serve"
	"idleember/tests/rig"
)

// given writes a certificate of a household's own to files.
func given(t *testing.T, dir string, serial int64) (cert, key string) {
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	c := &x509.Certificate{SerialNumber: big.NewInt(serial), Subject: pkix.Name{CommonName: "studio"},
		NotAfter: time.Now().Add(time.Hour), IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}}
	der, err := x509.CreateCertificate(rand.Reader, c, c, k.Public(), k)
	require.NoError(t, err)
	kd, err := x509.MarshalECPrivateKey(k)
	require.NoError(t, err)
	cert, key = filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem")
	require.NoError(t, os.WriteFile(cert, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600))
	require.NoError(t, os.WriteFile(key, pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: kd}), 0o600))
	return cert, key
}

// A given certificate is shown anew as soon as its files change, at every door; a broken one changes nothing.
func TestAGivenCertificateIsReadAgain(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	cert, key := given(t, dir, 1)
	s, err := serve.Start(context.Background(), serve.Options{Data: filepath.Join(dir, "hub"), HTTP: "127.0.0.1:0",
		HTTPS: "127.0.0.1:0", MQTT: "127.0.0.1:0", MQTTS: "127.0.0.1:0", Certificate: cert, Key: key})
	require.NoError(t, err)
	defer func() { require.NoError(t, s.Close()) }()
	shown := func(at string) int64 {
		c, err := tls.Dial("tcp", at, &tls.Config{InsecureSkipVerify: true}) //nolint:gosec // what is shown is looked at
		require.NoError(t, err)
		defer func() { _ = c.Close() }()
		return c.ConnectionState().PeerCertificates[0].SerialNumber.Int64()
	}
	assert.Equal(t, []int64{1, 1}, []int64{shown(s.HTTPS), shown(s.MQTTS)})
	given(t, dir, 2)
	rig.Soon(t, "the new one", func() bool { return shown(s.HTTPS) == 2 && shown(s.MQTTS) == 2 })
	require.NoError(t, os.WriteFile(cert, []byte("half a file"), 0o600))
	time.Sleep(5500 * time.Millisecond)
	assert.Equal(t, int64(2), shown(s.HTTPS))
	_, err = client.New("http://"+s.HTTP, "")
	require.NoError(t, err)
	resp, err := http.Get("http://" + s.HTTP + "/ca.pem")
	require.NoError(t, err)
	_ = resp.Body.Close()
	assert.Equal(t, 404, resp.StatusCode)
}

// Who asks is believed of a trusted proxy and of nobody else; over TLS the cookie is one that is never told in the
// clear.
func TestBehindAProxy(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s, err := serve.Start(context.Background(), serve.Options{Data: dir, HTTP: "127.0.0.1:0", MQTT: "127.0.0.1:0",
		Proxies: []netip.Prefix{netip.MustParsePrefix("127.0.0.1/32"), netip.MustParsePrefix("10.9.0.0/16")}})
	require.NoError(t, err)
	defer func() { require.NoError(t, s.Close()) }()
	setUp(t, "http://"+s.HTTP, s.People.SetupCode())
	ask := func(url string, header ...string) (*http.Response, string) {
		q, err := http.NewRequestWithContext(t.Context(), "POST", url+"/api/v1/session",
			strings.NewReader(`{"account":"mo","password":"`+rig.Password+`"}`))
		require.NoError(t, err)
		q.Header.Set("Content-Type", "application/json")
		for i := 0; i < len(header); i += 2 {
			q.Header.Set(header[i], header[i+1])
		}
		resp, err := http.DefaultClient.Do(q)
		require.NoError(t, err)
		require.NoError(t, resp.Body.Close())
		require.Equal(t, 201, resp.StatusCode)
		c := resp.Cookies()[0]
		_, got := rig.JSON(t, http.DefaultClient, "GET", url+"/api/v1/sessions", "", append(header, "Cookie",
			c.Name+"="+c.Value)...)
		for _, x := range got["list"].([]any) {
			if x := x.(map[string]any); x["current"] == true {
				return resp, x["from"].(string)
			}
		}
		return resp, ""
	}
	resp, from := ask("http://"+s.HTTP, "X-Forwarded-For", "203.0.113.7, 192.168.1.20, 10.9.1.1", "X-Forwarded-Proto",
		"https")
	assert.Equal(t, "192.168.1.20", from, "what stands before the last one that is not trusted may be anybody's invention")
	c := resp.Cookies()[0]
	assert.Equal(t, "__Host-ember_session", c.Name)
	assert.True(t, c.Secure && c.HttpOnly && c.SameSite == http.SameSiteStrictMode && c.Path == "/" && c.Domain == "")
	resp, from = ask("http://" + s.HTTP)
	assert.Equal(t, "127.0.0.1", from)
	assert.Equal(t, "ember_session", resp.Cookies()[0].Name)

	plain := rig.New(t)
	resp, from = ask(plain.URL(), "X-Forwarded-For", "192.168.1.20", "X-Forwarded-Proto", "https")
	assert.Equal(t, "127.0.0.1", from)
	assert.Equal(t, "ember_session", resp.Cookies()[0].Name)
}

func setUp(t *testing.T, url, code string) {
	c, err := client.New(url, "")
	require.NoError(t, err)
	_, err = c.SetUpWithResponse(t.Context(), client.Setup{Code: code, Name: "Rowan Lane studio", Latitude: 48.2,
		Longitude: 16.4, Zone: "Europe/Vienna", Account: "mo", Password: rig.Password})
	require.NoError(t, err)
}
