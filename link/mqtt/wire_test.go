package mqtt

import (
	"bufio"
	"bytes"
	"testing"

	"github.com/mochi-mqtt/server/v2/packets"
	"github.com/stretchr/testify/assert"
)

// No bytes from outside make the codec panic or take more than they claim.
func FuzzPackets(f *testing.F) {
	for _, seed := range [][]byte{
		{0x10, 16, 0, 4, 'M', 'Q', 'T', 'T', 4, 2, 0, 60, 0, 4, 'k', 'i', 'l', 'n'},
		{0x30, 5, 0, 1, 'a', '4', '2'}, {0x32, 7, 0, 1, 'a', 0, 9, '4', '2'}, {0x82, 6, 0, 1, 0, 1, 'a', 1}, {0xa2, 5, 0, 1,
			0, 1, 'a'},
		{0x40, 2, 0, 1}, {0x62, 2, 0, 1}, {0xc0, 0}, {0xe0, 2, 4, 0}, {0x10, 0xff, 0xff, 0xff, 0x7f}, {0x00, 0},
	} {
		f.Add(seed, byte(4))
		f.Add(seed, byte(5))
	}
	f.Fuzz(func(t *testing.T, raw []byte, version byte) {
		c := &conn{r: bufio.NewReader(bytes.NewReader(raw)), version: 4 + version%2}
		for {
			fh, err := c.header()
			if err != nil || fh.Remaining > len(raw) {
				return
			}
			pk, err := c.body(fh)
			if err != nil {
				return
			}
			assert.LessOrEqual(t, len(pk.Payload), len(raw))
			if pk.FixedHeader.Type == packets.Subscribe {
				assert.LessOrEqual(t, len(pk.Filters), len(raw))
			}
		}
	})
}
