package serve

import (
	"crypto/x509"
	"encoding/pem"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The hub's authority is believed for the hub's names and addresses in a house, and for no other site, by Go and by
// OpenSSL.
func TestTheAuthorityIsGoodForTheHouseAlone(t *testing.T) {
	dir := filepath.Join(t.TempDir(), tlsFolder)
	names := []string{"localhost", "studio", "studio.local"}
	ca, key, _, err := authority(dir, names, []net.IP{net.ParseIP("203.0.113.9"), net.ParseIP("10.1.1.1")})
	require.NoError(t, err)
	again, _, _, err := authority(dir, []string{"other"}, nil)
	require.NoError(t, err)
	assert.Equal(t, ca.Raw, again.Raw, "it stays what it is")
	assert.WithinDuration(t, time.Now().AddDate(10, 0, 0), ca.NotAfter, 7*24*time.Hour)
	at := []net.IP{net.ParseIP("192.168.1.20"), net.ParseIP("127.0.0.1"), net.ParseIP("fd00::1"),
		net.ParseIP("2001:db8::1"), net.ParseIP("93.184.216.34"), net.ParseIP("203.0.113.9")}
	pair, err := own(ca, key, append(names, "elsewhere.example"), at)
	require.NoError(t, err)
	leaf, err := x509.ParseCertificate(pair.Certificate[0])
	require.NoError(t, err)
	assert.Equal(t, names, leaf.DNSNames)
	assert.Len(t, leaf.IPAddresses, 4, "and the one that the computer had")

	file := func(name string, der []byte) string {
		path := filepath.Join(t.TempDir(), name)
		require.NoError(t, os.WriteFile(path, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600))
		return path
	}
	roots := x509.NewCertPool()
	roots.AddCert(ca)
	believed := func(der []byte, name string) (byGo, byOpenSSL bool) {
		c, err := x509.ParseCertificate(der)
		require.NoError(t, err)
		_, err = c.Verify(x509.VerifyOptions{Roots: roots, DNSName: name})
		out := exec.Command("openssl", "verify", "-CAfile", file("ca.pem", ca.Raw), file("leaf.pem", der)).Run()
		return err == nil, out == nil
	}
	_, err = exec.LookPath("openssl")
	ssl := err == nil
	for _, name := range []string{"studio.local", "localhost", "192.168.1.20", "203.0.113.9"} {
		byGo, bySSL := believed(pair.Certificate[0], name)
		assert.True(t, byGo, name)
		assert.True(t, bySSL || !ssl, name)
	}
	for _, forged := range []struct {
		names []string
		at    []net.IP
		as    string
	}{{[]string{"bank.example"}, nil, "bank.example"}, {nil, []net.IP{net.ParseIP("93.184.216.34")}, "93.184.216.34"},
		{[]string{"studio.local", "bank.example"}, nil, "bank.example"}, {nil, []net.IP{net.ParseIP("2001:db8::1")},
			"2001:db8::1"}} {
		free := *ca
		free.PermittedDNSDomains, free.PermittedIPRanges = nil, nil // somebody who has the key signs what they like
		pair, err := own(&free, key, forged.names, forged.at)
		require.NoError(t, err)
		byGo, bySSL := believed(pair.Certificate[0], forged.as)
		assert.False(t, byGo, forged.as)
		assert.False(t, bySSL && ssl, forged.as)
	}

	old, oldKey, _, err := authority(dir, nil, nil)
	require.NoError(t, err)
	old.PermittedDNSDomains, old.PermittedIPRanges = nil, nil // as earlier versions made it
	pair, err = own(old, oldKey, []string{"elsewhere.example"}, at)
	require.NoError(t, err)
	leaf, err = x509.ParseCertificate(pair.Certificate[0])
	require.NoError(t, err)
	assert.Len(t, leaf.IPAddresses, 6, "one of before serves on as it did")

	aside, err := RenewAuthority(filepath.Dir(dir))
	require.NoError(t, err)
	assert.FileExists(t, filepath.Join(aside, authorityKey))
	fresh, _, _, err := authority(dir, names, []net.IP{net.ParseIP("203.0.113.9"), net.ParseIP("10.1.1.1")})
	require.NoError(t, err)
	assert.NotEqual(t, ca.Raw, fresh.Raw)
	_, err = RenewAuthority(t.TempDir())
	assert.ErrorContains(t, err, "no authority")
}
