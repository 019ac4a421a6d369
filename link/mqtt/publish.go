package mqtt

import (
	"slices"
	"strings"

	"github.com/mochi-mqtt/server/v2/packets"

	"idleember/hub"
	"idleember/link/topics"
)

// published hands a message to the hub; the acknowledgement follows when it is on the disk. Up to window messages of a
// client are on their way at a time.
func (c *conn) published(pk packets.Packet) {
	qos := pk.FixedHeader.Qos
	if qos == 2 && !c.sess.received(pk.PacketID) {
		c.acknowledge(qos, pk.PacketID, codeSuccess, "")
		return
	}
	c.slots <- struct{}{}
	d, code := c.delivery(pk)
	d.Unacknowledged = qos == 0
	d.Done = func(x hub.Result) {
		<-c.slots
		refused := x.Refused
		if err := x.Err; err != nil { // not stored, so not acknowledged: the board keeps it and comes back
			c.end(codeBusy, "the hub cannot store readings now: "+err.Error())
			return
		}
		took := len(d.Readings) + len(d.Reports) + len(d.Copies) + len(d.Faults) - len(refused)
		switch {
		case len(refused) == 0:
			code = codeSuccess
		case took > 0: // something of it was taken, so it must not come again
			code = codeSuccess
		}
		c.acknowledge(qos, pk.PacketID, code, strings.Join(append(slices.Clone(refused), x.Remarks...), "; "))
		if len(refused) == 0 {
			c.b.publish(c.device, message{topic: pk.TopicName, payload: pk.Payload, qos: min(qos, 1), from: c.sess,
				props: &pk.Properties})
		}
	}
	c.b.hub.Deliver(d)
}

func (c *conn) acknowledge(qos byte, id uint16, code byte, text string) {
	pk := packets.Packet{PacketID: id, ReasonCode: code}
	switch qos {
	case 1:
		pk.FixedHeader.Type = packets.Puback
	case 2:
		pk.FixedHeader.Type = packets.Pubrec
	default:
		return
	}
	if c.version == 5 && text != "" {
		if len(text) > 500 {
			text = text[:500] + "…"
		}
		pk.Properties.ReasonString = text
	}
	if qos == 2 && code >= 0x80 && c.version == 5 {
		c.sess.released(id) // a failing PUBREC ends the exchange
	}
	c.send(pk)
}

// delivery takes topic and payload apart. code is the reason code in case that nothing of it can be taken.
func (c *conn) delivery(pk packets.Packet) (d hub.Arrival, code byte) {
	t := topics.Take(c.b.maps.For(c.b.hub.Site(), c.device), c.device, pk.TopicName, pk.Payload, c.b.hub.Time())
	t.Session = c.session
	if t.Online != nil { // a device behind the one that connected, or one that says so before it goes
		if *t.Online {
			c.b.hub.Online(c.session)
		} else {
			c.b.hub.Offline(c.session, "its presence topic says that it is gone", false)
		}
	}
	return t.Arrival, t.Code
}
