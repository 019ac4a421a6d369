// Package topics knows the MQTT topics of the hub: how a device's messages are taken apart and where its wants go, be
// it over the broker inside or over one elsewhere.
package topics

import (
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"idleember/core/engine"
	"idleember/core/mapping"
	"idleember/core/reading"
	"idleember/core/site"
	"idleember/hub"
)

// Reason codes of MQTT 5 (section 2.4) for messages that can never be taken.
const (
	NotAuthorized byte = 0x87
	TopicInvalid  byte = 0x90
	PayloadFormat byte = 0x99
)

// Own is what a device's own topics begin with.
func Own(device string) string { return "ember/" + device + "/" }

// Want is the topic on which a control's want goes out, and whether it is kept there.
func Want(c site.Control) (topic string, retain bool) {
	if c.Target.Topic != "" {
		return c.Target.Topic, c.Target.Retain
	}
	return Own(c.Device) + "want/" + c.Raw, true
}

// Taken is a message taken apart.
type Taken struct {
	hub.Arrival
	Code   byte  // the reason code in case that nothing of it can be taken
	Online *bool // what the message tells of the device's presence
}

// Take takes a message of a device apart. speaker is the device through whose session it came. Long, because it is
// one case for each topic.
func Take(m *mapping.Map, speaker, topic string, payload []byte, now time.Time) (t Taken) {
	t.Topic, t.Payload, t.Device, t.Code = topic, payload, speaker, PayloadFormat
	fail := func(code byte, format string, args ...any) Taken {
		t.Faults, t.Code = append(t.Faults, fmt.Sprintf(format, args...)), code
		return t
	}
	if online, told, err := m.Presence(topic, payload); told {
		if err != nil {
			return fail(PayloadFormat, "presence: %s", err)
		}
		t.Online, t.Note = &online, "presence"
	}
	if mapped := m.Take(topic, payload); mapped.Matched {
		t.Mapped(mapped)
		return t
	}
	if t.Online != nil {
		return t
	}
	own := Own(speaker)
	levels := strings.SplitN(topic, "/", 3)
	if len(levels) < 3 || levels[0] != "ember" {
		if len(m.Topics()) > 0 {
			return fail(NotAuthorized, "the topic is neither mapped nor below %s", own)
		}
		return fail(NotAuthorized, "the topic is not this device's; publish below %s", own)
	}
	t.Device = levels[1]
	what, name, deep := strings.Cut(levels[2], "/")
	if strings.ContainsAny(name, "+#/") {
		return fail(TopicInvalid, "the name %q holds a wildcard or a slash; use letters, digits and _", short(name))
	}
	switch {
	case what == "r" && !deep:
		if mapped := m.Take("", payload); mapped.Matched && len(mapped.Readings)+len(mapped.Reports) > 0 {
			t.Mapped(mapped)
			break
		}
		named, faults, err := reading.Message(payload, now)
		if err != nil {
			return fail(PayloadFormat, "%s", err)
		}
		t.Values(named, faults)
	case what == "r" && name != "":
		v, err := reading.Parse(payload)
		if err != nil {
			return fail(PayloadFormat, "%s.%s: %s", speaker, name, err)
		}
		t.Readings = []reading.Named{{Name: name, Value: v, Decimals: reading.Decimals(string(payload))}}
	case what == "is" && name != "":
		v, by, err := reading.Report(payload)
		if err != nil {
			return fail(PayloadFormat, "%s.%s: %s", speaker, name, err)
		}
		t.Reports = []hub.Report{{Name: name, Value: v, By: by}}
	case what == "has" && name != "":
		c, err := reading.CopyJSON(name, payload)
		if err != nil {
			return fail(PayloadFormat, "%s.%s: %s", speaker, name, err)
		}
		t.Copies = []reading.Copy{c}
	case what == "ask":
		return fail(NotAuthorized, "a board does not ask; scripts with a token do")
	case what == "want" || what == "set" || what == "lease" || what == "problem":
		return fail(NotAuthorized, "only the hub publishes on %s%s; a board subscribes to it", own, what)
	default:
		return fail(TopicInvalid, "the topic is none of %sr, %sr/<signal>, %sis/<control> and %shas/<setting>", own, own, own,
			own)
	}
	if t.Device != speaker { // which the hub is going to refuse
		t.Code = NotAuthorized
	}
	return t
}

func short(s string) string {
	if len(s) > 80 {
		return s[:80] + "…"
	}
	return s
}

// Mirror is the topic and payload that tell a device of a setting of which it has a copy.
func Mirror(m engine.Mirror) (topic string, payload []byte) {
	payload, _ = json.Marshal(map[string]any{"v": m.Said(), "rev": m.Rev}) // plain values
	return Own(m.Device) + "set/" + m.Raw, payload
}
