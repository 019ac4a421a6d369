package mqtt

import (
	"bytes"
	"fmt"
	"io"
	"time"

	"github.com/mochi-mqtt/server/v2/packets"
)

// write sends what is queued, as much at a time as there is, until the connection ends.
func (c *conn) write() {
	defer close(c.done)
	defer func() { _ = c.nc.Close() }()
	var buf bytes.Buffer
	for {
		c.mu.Lock()
		out, ending := c.out, c.ending
		c.out = nil
		c.mu.Unlock()
		if len(out) == 0 {
			if ending {
				return
			}
			<-c.wake
			continue
		}
		buf.Reset()
		for i := range out {
			c.encode(&buf, &out[i])
		}
		_ = c.nc.SetWriteDeadline(time.Now().Add(writeWait))
		if _, err := c.nc.Write(buf.Bytes()); err != nil {
			_ = c.nc.Close() // the reader notices and ends the connection
			c.end(codeSuccess, "")
			return
		}
	}
}

func (c *conn) encode(buf *bytes.Buffer, pk *packets.Packet) {
	pk.ProtocolVersion = c.version
	start := buf.Len()
	var err error
	switch pk.FixedHeader.Type {
	case packets.Connack:
		err = pk.ConnackEncode(buf)
	case packets.Publish:
		err = pk.PublishEncode(buf)
	case packets.Puback:
		err = pk.PubackEncode(buf)
	case packets.Pubrec:
		err = pk.PubrecEncode(buf)
	case packets.Pubcomp:
		err = pk.PubcompEncode(buf)
	case packets.Suback:
		err = pk.SubackEncode(buf)
	case packets.Unsuback:
		err = pk.UnsubackEncode(buf)
	case packets.Pingresp:
		err = pk.PingrespEncode(buf)
	case packets.Disconnect:
		err = pk.DisconnectEncode(buf)
	}
	if err != nil || c.largest > 0 && buf.Len()-start > c.largest {
		buf.Truncate(start)
	}
}

// header reads the first byte and the length of a packet.
func (c *conn) header() (packets.FixedHeader, error) {
	var fh packets.FixedHeader
	first, err := c.r.ReadByte()
	if err != nil {
		return fh, err
	}
	if err := fh.Decode(first); err != nil {
		return fh, &farewell{codeMalformed, "a packet is malformed: " + err.Error()}
	}
	fh.Remaining, _, err = packets.DecodeLength(c.r)
	if err != nil {
		return fh, &farewell{codeMalformed, "a packet's length is malformed"}
	}
	return fh, nil
}

// body reads and takes a packet apart. The codec trusts lengths in a few places; what it trips over is malformed.
func (c *conn) body(fh packets.FixedHeader) (pk packets.Packet, err error) {
	defer func() {
		if recover() != nil {
			err = &farewell{codeMalformed, "a packet is malformed"}
		}
	}()
	buf := make([]byte, fh.Remaining)
	if _, err := io.ReadFull(c.r, buf); err != nil {
		return pk, err
	}
	pk.FixedHeader, pk.ProtocolVersion = fh, c.version
	switch fh.Type {
	case packets.Connect:
		err = pk.ConnectDecode(buf)
	case packets.Publish:
		err = pk.PublishDecode(buf)
	case packets.Puback:
		err = pk.PubackDecode(buf)
	case packets.Pubrec:
		err = pk.PubrecDecode(buf)
	case packets.Pubrel:
		err = pk.PubrelDecode(buf)
	case packets.Pubcomp:
		err = pk.PubcompDecode(buf)
	case packets.Subscribe:
		err = pk.SubscribeDecode(buf)
	case packets.Unsubscribe:
		err = pk.UnsubscribeDecode(buf)
	case packets.Disconnect:
		err = pk.DisconnectDecode(buf)
	case packets.Pingreq:
	default:
		err = fmt.Errorf("packet type %d is not for a client to send", fh.Type)
	}
	if err != nil {
		return pk, &farewell{codeMalformed, "a packet is malformed: " + err.Error()}
	}
	return pk, nil
}
