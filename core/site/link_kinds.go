package site

import (
	"fmt"
	"net/url"
	"time"
)

// LinkSpec describes a link as data: what is asked for, what is checked, and what the hub may expect of whoever speaks
// so.
type LinkSpec struct {
	Kind LinkKind
	// Address is what its address is; nil: it has none.
	Address *AddressSpec
	// Every is how often the hub asks by default; 0: it is told.
	Every time.Duration
	// Heard says that it is noticed by itself when a device falls silent: by its session, or because the hub asks.
	Heard bool
	// Own is offered by nobody: it is the hub's own.
	Own   bool
	check func(Link) error
}

// AddressSpec says what an address is.
type AddressSpec struct {
	Question, Example string
	Must              bool // there is no link without
	Shared            bool // several devices of a model may have the same
}

// The links.
const (
	MQTT    LinkKind = "mqtt"    // the broker inside the hub
	HTTP    LinkKind = "http"    // the device pushes over HTTP
	UDP     LinkKind = "udp"     // datagrams
	Modbus  LinkKind = "modbus"  // Modbus TCP, the hub asks
	Lines   LinkKind = "lines"   // text lines over a serial port or TCP
	Poll    LinkKind = "poll"    // the hub fetches a page over HTTP
	Outside LinkKind = "outside" // a broker elsewhere, of which the hub is a client
	Itself  LinkKind = "itself"  // the hub tells how it is itself
)

// LinkSpecs are all links, in the order in which they are offered.
var LinkSpecs = []LinkSpec{
	{Kind: MQTT, Heard: true},
	{Kind: HTTP},
	{Kind: UDP, Address: &AddressSpec{Question: "Its address, where it cannot send a key", Example: "192.168.1.40:5005"},
		check: func(l Link) error {
			if l.Address == "" {
				return nil
			}
			return hostPort(l.Address)
		}},
	{Kind: Modbus, Heard: true, Every: 5 * time.Second, Address: &AddressSpec{Question: "Its address",
		Example: "192.168.1.20:502", Must: true}, check: func(l Link) error {
		if err := hostPort(l.Address); err != nil {
			return err
		}
		if l.Unit < 0 || l.Unit > 255 {
			return fmt.Errorf("the unit id is %d; choose between 0 and 255", l.Unit)
		}
		if l.Watchdog != nil {
			return Target{Register: l.Watchdog}.Validate()
		}
		return nil
	}},
	{Kind: Lines, Address: &AddressSpec{Question: "Its serial port or address",
		Example: "/dev/ttyUSB0 or 192.168.1.20:4001", Must: true}, check: func(l Link) error {
		if l.Baud < 0 || l.Baud > 4_000_000 {
			return fmt.Errorf("the speed is %d baud; use one such as 9600 or 115200", l.Baud)
		}
		if l.Serial() {
			return nil
		}
		return hostPort(l.Address)
	}},
	{Kind: Poll, Heard: true, Every: 15 * time.Minute, Address: &AddressSpec{Question: "The page's address",
		Example: "http://192.168.1.20/values.json", Must: true, Shared: true}, check: func(l Link) error {
		u, err := url.Parse(l.Address)
		switch {
		case err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "":
			return fmt.Errorf("%.80q is no page's address; use one such as http://192.168.1.20/values.json", l.Address)
		case u.User != nil:
			return fmt.Errorf("an account in the address would be shown to everybody who sees the device; let the page be " +
				"read without one, or push its values to the hub")
		case l.IntervalMS != 0 && l.IntervalMS < 1000:
			return fmt.Errorf("the interval is %d ms; pages are asked at most once a second", l.IntervalMS)
		}
		return nil
	}},
	{Kind: Outside, check: func(l Link) error {
		if l.Broker == "" {
			return fmt.Errorf("the broker is missing; add one first and name its id")
		}
		return nil
	}},
	{Kind: Itself, Own: true},
}

// Spec describes the link; the zero value where there is none of its kind.
func (l Link) Spec() LinkSpec {
	for _, s := range LinkSpecs {
		if s.Kind == l.Kind {
			return s
		}
	}
	return LinkSpec{}
}

// LinkNames are the links that a device may have, in the order in which they are offered.
func LinkNames() (names []string) {
	for _, s := range LinkSpecs {
		if !s.Own {
			names = append(names, string(s.Kind))
		}
	}
	return names
}
