package tests

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"net"
	"strings"
	"testing"
	"time"

	paho "github.com/eclipse/paho.mqtt.golang"
	"github.com/mochi-mqtt/server/v2/packets"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"idleember/tests/rig"
)

// raw is a client of which every packet is chosen by the test.
type raw struct {
	t    *testing.T
	conn net.Conn
	r    *bufio.Reader
}

func dialRaw(t *testing.T, r *rig.Rig, device, key string, clean bool) *raw {
	c, err := net.Dial("tcp", r.Service.MQTT)
	require.NoError(t, err)
	t.Cleanup(func() { _ = c.Close() })
	x := &raw{t, c, bufio.NewReader(c)}
	x.send(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Connect}, ProtocolVersion: 4,
		Connect: packets.ConnectParams{
			ProtocolName: []byte("MQTT"), Clean: clean, Keepalive: 60, ClientIdentifier: "raw", UsernameFlag: true,
			Username: []byte(device), PasswordFlag: true, Password: []byte(key)}})
	require.Equal(t, packets.Connack, x.read().FixedHeader.Type)
	return x
}

func (x *raw) send(pk packets.Packet) {
	var b bytes.Buffer
	pk.ProtocolVersion = 4
	encode := map[byte]func(*bytes.Buffer) error{packets.Connect: pk.ConnectEncode, packets.Publish: pk.PublishEncode,
		packets.Puback: pk.PubackEncode,
		packets.Pubrel: pk.PubrelEncode, packets.Subscribe: pk.SubscribeEncode}[pk.FixedHeader.Type]
	require.NoError(x.t, encode(&b))
	_, err := x.conn.Write(b.Bytes())
	require.NoError(x.t, err)
}

func (x *raw) read() packets.Packet {
	require.NoError(x.t, x.conn.SetReadDeadline(time.Now().Add(5*time.Second)))
	first, err := x.r.ReadByte()
	require.NoError(x.t, err)
	pk := packets.Packet{ProtocolVersion: 4}
	require.NoError(x.t, pk.FixedHeader.Decode(first))
	pk.FixedHeader.Remaining, _, err = packets.DecodeLength(x.r)
	require.NoError(x.t, err)
	body := make([]byte, pk.FixedHeader.Remaining)
	_, err = io.ReadFull(x.r, body)
	require.NoError(x.t, err)
	switch pk.FixedHeader.Type {
	case packets.Publish:
		require.NoError(x.t, pk.PublishDecode(body))
	case packets.Puback, packets.Pubrec, packets.Pubcomp:
		require.NoError(x.t, pk.PubackDecode(body))
	}
	return pk
}

// until reads until a packet of a type comes.
func (x *raw) until(kind byte) packets.Packet {
	for {
		if pk := x.read(); pk.FixedHeader.Type == kind {
			return pk
		}
	}
}

// The board numbers its messages and the hub its own: the same number in both directions means two different messages.
func TestPacketIDsOfTheTwoWaysAreApart(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Device("kiln")
	require.Empty(t, r.Pub("kiln", key, "ember/kiln/is/fan", "off"))
	x := dialRaw(t, r, "kiln", key, false)
	x.send(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Subscribe, Qos: 1}, PacketID: 1,
		Filters: packets.Subscriptions{{Filter: "ember/kiln/want/#", Qos: 1}}})
	x.until(packets.Suback)
	r.Switch("kiln.fan", true)
	want := x.until(packets.Publish)
	assert.Equal(t, "on", string(want.Payload))
	for _, qos := range []byte{1, 2} { // the board's own message with the command's number
		x.send(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Publish, Qos: qos}, PacketID: want.PacketID,
			TopicName: "ember/kiln/r/x", Payload: []byte(fmt.Sprint(qos))})
		if qos == 1 {
			assert.Equal(t, want.PacketID, x.until(packets.Puback).PacketID)
			continue
		}
		x.until(packets.Pubrec)
		x.send(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Pubrel, Qos: 1}, PacketID: want.PacketID})
		x.until(packets.Pubcomp)
	}
	_ = x.conn.Close()
	again := dialRaw(t, r, "kiln", key, false)
	assert.Equal(t, "on", string(again.until(packets.Publish).Payload),
		"the command was not acknowledged, so it comes again")
}

// A client of version 5 that takes one message at a time hears every newest want for as long as it likes.
func TestSmallReceiveMaximum(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key := r.Device("kiln")
	require.Empty(t, r.Pub("kiln", key, "ember/kiln/is/fan", "off"))
	require.Empty(t, r.Pub("kiln", key, "ember/kiln/is/vent", "off"))
	sub := r.Sub("kiln", key, "ember/kiln/want/#", "-q", "1", "-V", "mqttv5", "-D", "connect", "receive-maximum", "1",
		"-i", "small")
	last := func(control, word string) func() bool {
		return func() bool {
			lines := strings.Split(sub.String(), "\n")
			for i := len(lines) - 1; i >= 0; i-- {
				if strings.HasPrefix(lines[i], "ember/kiln/want/"+control+" ") {
					return strings.HasSuffix(lines[i], " "+word)
				}
			}
			return false
		}
	}
	for end, on := time.Now().Add(time.Duration(Count(t, 3, 60))*time.Second), true; time.Now().Before(end); on = !on {
		word := map[bool]string{true: "on", false: "off"}[on]
		for range 5 { // faster than it acknowledges
			r.Switch("kiln.fan", !on)
			r.Switch("kiln.fan", on)
			r.Switch("kiln.vent", on)
		}
		r.Soon("the newest fan", last("fan", word))
		r.Soon("the newest vent", last("vent", word))
	}
}

// A will is a publish like any other: it may touch the device's own topics only.
func TestWillsObeyTheSameRights(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	key, other := r.Device("kiln"), r.Device("shed")
	require.Empty(t, r.Pub("shed", other, "ember/shed/r/x", "1"))
	die := func(topic, payload string) {
		c := r.Connect("kiln", key, "dying", func(o *paho.ClientOptions) {
			o.SetWill(topic, payload, 1, true)
		})
		defer c.Disconnect(0)
		require.True(t, c.Publish("ember/kiln/r/alive", 1, false, "1").WaitTimeout(20*time.Second))
		second := r.Connect("kiln", key, "dying") // taken over: the first one dies without a good-bye
		second.Disconnect(0)
	}
	die("ember/kiln/r/last", "7")
	r.Soon("its own will is taken", func() bool { return r.Value("kiln.last") == 7.0 })
	die("ember/shed/r/x", "99")
	r.Soon("another's is refused", func() bool {
		return strings.Contains(fmt.Sprint(r.Refusals("kiln")), "ember/shed/r/x")
	})
	assert.Equal(t, 1.0, r.Value("shed.x"))
}
