package mqtt

import (
	"fmt"
	"strings"

	"github.com/mochi-mqtt/server/v2/packets"

	"idleember/core/reading"
	"idleember/hub"
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
	d.Done = func(refused []string, err error) {
		<-c.slots
		if err != nil { // not stored, so not acknowledged: the board keeps it and comes back
			c.end(codeBusy, "the hub cannot store readings now: "+err.Error())
			return
		}
		took := len(d.Readings) + len(d.Reports) + len(d.Faults) - len(refused)
		switch {
		case len(refused) == 0:
			code = codeSuccess
		case took > 0: // something of it was taken, so it must not come again
			code = codeSuccess
		}
		c.acknowledge(qos, pk.PacketID, code, strings.Join(refused, "; "))
		if len(refused) == 0 {
			c.b.publish(c.device, message{topic: pk.TopicName, payload: pk.Payload, qos: min(qos, 1)})
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
func (c *conn) delivery(pk packets.Packet) (d hub.Delivery, code byte) {
	d = hub.Delivery{Session: c.session, Topic: pk.TopicName, Payload: pk.Payload}
	fail := func(code byte, format string, args ...any) (hub.Delivery, byte) {
		d.Faults = append(d.Faults, fmt.Sprintf(format, args...))
		return d, code
	}
	own := "ember/" + c.device + "/"
	levels := strings.SplitN(pk.TopicName, "/", 3)
	if len(levels) < 3 || levels[0] != "ember" {
		return fail(codeNotAuthorized, "the topic is not this device's; publish below %s", own)
	}
	d.Device = levels[1]
	what, name, deep := strings.Cut(levels[2], "/")
	if strings.ContainsAny(name, "+#/") {
		return fail(codeTopic, "the name %q holds a wildcard or a slash; use letters, digits and _", short(name))
	}
	switch {
	case what == "r" && !deep:
		named, at, faults, err := reading.Object(pk.Payload)
		if err != nil {
			return fail(codePayload, "%s", err.Error())
		}
		d.Readings, d.Stamp = named, at
		for _, f := range faults {
			d.Faults = append(d.Faults, f.Error())
		}
	case what == "r" && name != "":
		v, err := reading.Parse(pk.Payload)
		if err != nil {
			return fail(codePayload, "%s.%s: %s", c.device, name, err.Error())
		}
		d.Readings = []reading.Named{{Name: name, Value: v, Decimals: reading.Decimals(string(pk.Payload))}}
	case what == "is" && name != "":
		on, by, err := reading.Report(pk.Payload)
		if err != nil {
			return fail(codePayload, "%s.%s: %s", c.device, name, err.Error())
		}
		d.Reports = []hub.Report{{Name: name, On: on, By: by}}
	case what == "want" || what == "lease" || what == "problem":
		return fail(codeNotAuthorized, "only the hub publishes on %s%s; a board subscribes to it", own, what)
	default:
		return fail(codeTopic, "the topic is none of %sr, %sr/<signal> and %sis/<control>", own, own, own)
	}
	if d.Device != c.device { // which the hub is going to refuse
		return d, codeNotAuthorized
	}
	return d, codePayload
}
