package elsewhere

import (
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Whoever may name an address reaches by it nothing in the house, however it is written.
func TestAddressesInTheHouse(t *testing.T) {
	for text, inner := range map[string]bool{"127.0.0.1": true, "::1": true, "10.1.2.3": true, "192.168.0.1": true,
		"172.16.0.1": true, "169.254.1.1": true, "100.64.0.1": true, "fe80::1%eth0": true, "fd12::1": true,
		"::ffff:192.168.0.1": true, "64:ff9b::c0a8:1": true, "64:ff9b::7f00:1": true, "2002:c0a8:1::": true,
		"64:ff9b:1::5": true, "0.0.0.0": true, "ff02::1": true, "224.0.0.1": true,
		"93.184.216.34": false, "64:ff9b::5db8:d822": false, "2606:2800:220:1::1": false, "2002:5db8:d822::": false,
		"172.32.0.1": false, "100.128.0.1": false} {
		assert.Equal(t, inner, Inner(netip.MustParseAddr(text)), text)
	}
	list, err := net.InterfaceAddrs()
	require.NoError(t, err)
	for _, a := range list {
		p, err := netip.ParsePrefix(a.String())
		require.NoError(t, err)
		assert.True(t, ownNet(p.Addr().Unmap()), "%s is this computer's", a)
	}
	assert.False(t, ownNet(netip.MustParseAddr("93.184.216.34")))
	there := httptest.NewServer(http.NotFoundHandler())
	defer there.Close()
	_, err = Client(false).Get(there.URL)
	assert.ErrorContains(t, err, "an address in the house")
	resp, err := Client(true).Get(there.URL)
	require.NoError(t, err)
	_ = resp.Body.Close()
}
