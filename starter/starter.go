// Package starter writes what an owner pastes: how a device connects, and code that works on a board at once.
package starter

import (
	"bytes"
	"embed"
	"fmt"
	"net"
	"net/url"
	"strings"
	"text/template"

	"idleember/core/site"
)

// Addresses are where the hub listens; an empty one is not open.
type Addresses struct {
	HTTP, HTTPS, MQTT, MQTTS, UDP string
}

// Placeholder stands in code where the key goes.
const Placeholder = "DEVICE-KEY"

// Row is one line of what a device needs to connect.
type Row struct{ Label, Value string }

// Connect is how a device connects.
type Connect struct {
	Rows     []Row
	Examples []Row // shell lines
	Remark   string
}

// How tells how a device connects. key may be the placeholder.
func How(s *site.Site, d site.Device, a Addresses, key string) (c Connect) {
	row := func(label, format string, args ...any) {
		c.Rows = append(c.Rows, Row{label, fmt.Sprintf(format, args...)})
	}
	try := func(label, format string, args ...any) {
		c.Examples = append(c.Examples, Row{label, fmt.Sprintf(format, args...)})
	}
	switch d.Link.Kind {
	case site.MQTT:
		host, port := reachable(a.MQTT)
		row("Broker", "%s port %s", host, port)
		if a.MQTTS != "" {
			secure, securePort := reachable(a.MQTTS)
			row("With TLS", "%s port %s, certificate of the hub's authority at %s/ca.pem", secure, securePort, web(a.HTTP))
		}
		row("Over a WebSocket", "%s/mqtt", strings.Replace(web(a.HTTP), "http", "ws", 1))
		row("User", "%s", d.ID)
		row("Password", "the key")
		row("Client id", "%s", d.ID)
		row("Readings", "ember/%s/r/<signal> with a value, or ember/%s/r with a JSON object", d.ID, d.ID)
		row("Reports", "ember/%s/is/<control> with on or off", d.ID)
		row("Listens to", "ember/%s/#", d.ID)
		sign := fmt.Sprintf("-h %s -p %s -u %s -P %s", host, port, d.ID, key)
		try("A first reading", "mosquitto_pub %s -i %s_try -q 1 -t ember/%s/r/temperature -m 21.4", sign, d.ID, d.ID)
		try("What the hub wants", "mosquitto_sub %s -i %s -v -t 'ember/%s/#'", sign, d.ID, d.ID)
		c.Remark = closed(a.MQTT, "The hub's broker", "--mqtt")
	case site.HTTP:
		row("Address", "%s/push/%s", web(a.HTTP), d.ID)
		row("User and password", "%s and the key (Basic), or the key as a bearer token", d.ID)
		row("Readings", "JSON, SenML (JSON or CBOR), CSV or a form; the reply holds what the hub wants")
		row("Wants", "%s/push/%s/wants?wait=30&rev=<rev of the last answer>", web(a.HTTP), d.ID)
		try("A first reading", `curl -u %s:%s -H 'Content-Type: application/json' -d '{"temperature":21.4}' %s/push/%s`, d.ID,
			key, web(a.HTTP), d.ID)
		if d.Link.QueryKey {
			try("For the weakest boards", "curl '%s/push/%s?key=%s&temperature=21.4'", web(a.HTTP), d.ID, url.QueryEscape(key))
		}
		c.Remark = closed(a.HTTP, "The hub's HTTP port", "--http")
	case site.UDP:
		host, port := reachable(a.UDP)
		row("Address", "%s port %s, UDP", host, port)
		if d.Link.Address != "" {
			row("Known by", "datagrams from %s; wants go there", d.Link.Address)
		} else {
			row("Datagram", "k=<key> name=value name=value")
		}
		row("Wants", "come back to the address that it sent from, as name=on or name=off unless mapped")
		try("A first reading", "echo 'k=%s temperature=21.4' >/dev/udp/%s/%s", key, host, port)
		if a.UDP == "" {
			c.Remark = "The hub takes no datagrams: start it with --udp :8481."
		} else {
			c.Remark = closed(a.UDP, "The hub's UDP port", "--udp")
		}
	case site.Outside:
		b := s.Brokers[d.Link.Broker]
		row("Broker", "%s (%s)", b.Name, b.Address)
		row("Readings", "ember/%s/r/<signal>, or any topic by the mapping of its signals", d.ID)
		row("Key", "is not needed: the broker decides who may publish")
	case site.Modbus:
		row("The hub asks", "%s, unit %d, every %s", d.Link.Address, d.Link.Unit, d.Link.Interval())
		row("Key", "is not needed: the hub connects to the device")
	case site.Lines:
		what := "TCP"
		if d.Link.Serial() {
			what = fmt.Sprintf("serial, %d baud", or(d.Link.Baud, site.DefaultBaud))
		}
		row("The hub listens at", "%s (%s)", d.Link.Address, what)
		row("Key", "is not needed: the hub holds the line")
	case site.Poll:
		row("The hub fetches", "%s every %s", d.Link.Address, d.Link.Interval())
		row("Key", "is not needed: the hub fetches the page")
	case site.Itself:
		row("The hub", "tells every 15 s how it is itself: readings and commits a second, time of a commit, what waits, "+
			"memory, disk, live streams, devices on line")
		row("Key", "is not needed")
	}
	return c
}

func or(n, other int) int {
	if n == 0 {
		return other
	}
	return n
}

func closed(addr, what, flag string) string {
	if !Loopback(addr) {
		return ""
	}
	_, port, _ := net.SplitHostPort(addr)
	return fmt.Sprintf("%s listens to this computer alone. For boards elsewhere in the house start it with %s :%s.", what,
		flag, port)
}

func web(addr string) string {
	host, port := reachable(addr)
	return "http://" + net.JoinHostPort(host, port)
}

// Loopback reports whether an address is reached from this computer alone.
func Loopback(addr string) bool {
	host, _, _ := net.SplitHostPort(addr)
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// reachable is where others in the house reach what listens on an address.
func reachable(addr string) (host, port string) {
	host, port, _ = net.SplitHostPort(addr)
	if ip := net.ParseIP(host); host != "" && (ip == nil || !ip.IsUnspecified()) {
		return host, port
	}
	addrs, _ := net.InterfaceAddrs() // without them it is this computer
	for _, a := range addrs {
		if n, ok := a.(*net.IPNet); ok && n.IP.IsGlobalUnicast() && n.IP.To4() != nil {
			return n.IP.String(), port
		}
	}
	return "127.0.0.1", port
}

// Code is starter code for a kind of board.
type Code struct{ ID, Name, About, File, Text string }

//go:embed code
var files embed.FS

var templates = template.Must(template.New("").Funcs(template.FuncMap{"add": func(a, b int) int {
	return a + b
}}).ParseFS(files, "code/*"))

// kinds are the kinds of starter code by link.
var kinds = []struct {
	id, name, about, file string
	links                 []site.LinkKind
}{
	{"wifi", "Wi-Fi board in C++", "For boards with the Arduino core and Wi-Fi; needs the library PubSubClient.",
		"board.ino", []site.LinkKind{site.MQTT, site.Outside}},
	{"micropython", "MicroPython", "For boards with MicroPython and Wi-Fi; save it as main.py.", "main.py",
		[]site.LinkKind{site.MQTT, site.Outside}},
	{"shell", "Shell", "For a small computer: bash with mosquitto_pub and mosquitto_sub.", "board.sh",
		[]site.LinkKind{site.MQTT, site.Outside}},
	{"curl", "Shell with curl", "For a small computer: bash with curl.", "push.sh", []site.LinkKind{site.HTTP}},
	{"datagram", "Shell with datagrams", "For a small computer: bash alone.", "datagram.sh", []site.LinkKind{site.UDP}},
}

// view is what the templates see.
type view struct {
	ID, Name, Host, Port, Web, Key, User string
	LeaseS, EveryS                       int
	Signals, Controls                    []item
}

type item struct {
	Raw, Name, Sample, Safe string
	Index                   int
}

// For returns the starter code that fits a device, with the placeholder where the key goes.
func For(s *site.Site, d site.Device, a Addresses) ([]Code, error) {
	v := view{ID: d.ID, Name: d.Name, Web: web(a.HTTP), Key: Placeholder, User: d.ID, LeaseS: int(d.Lease().Seconds()),
		EveryS: 10}
	v.Host, v.Port = reachable(a.MQTT)
	switch d.Link.Kind {
	case site.UDP:
		v.Host, v.Port = reachable(a.UDP)
	case site.Outside:
		b := s.Brokers[d.Link.Broker]
		if u, err := url.Parse(b.Address); err == nil {
			v.Host, v.Port, v.User = u.Hostname(), u.Port(), b.User
		}
	}
	signals, controls := s.Of(d.ID)
	for i, id := range signals {
		g := s.Signals[id]
		x := item{Raw: g.Raw, Name: g.Name, Sample: "21.4", Index: i}
		switch g.Kind {
		case site.OnOff:
			x.Sample = "1"
		case site.Text:
			continue
		}
		v.Signals = append(v.Signals, x)
	}
	if len(v.Signals) == 0 {
		v.Signals = []item{{Raw: "temperature", Name: "Temperature", Sample: "21.4"}}
	}
	for i, id := range controls {
		c := s.Controls[id]
		x := item{Raw: c.Raw, Name: c.Name, Safe: "off", Index: i}
		if c.Safe != 0 {
			x.Safe = "on"
		}
		v.Controls = append(v.Controls, x)
	}
	out := []Code{}
	for _, k := range kinds {
		for _, l := range k.links {
			if l != d.Link.Kind {
				continue
			}
			var b bytes.Buffer
			if err := templates.ExecuteTemplate(&b, k.file+".tmpl", v); err != nil {
				return nil, fmt.Errorf("starter code %s: %w", k.id, err)
			}
			out = append(out, Code{k.id, k.name, k.about, k.file, b.String()})
		}
	}
	return out, nil
}
