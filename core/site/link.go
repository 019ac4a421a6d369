package site

import (
	"fmt"
	"net"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"
)

// LinkKind says over which protocol a device speaks with the hub.
type LinkKind string

// Link is how a device speaks with the hub. Which fields count depends on the kind.
type Link struct {
	Kind       LinkKind `json:"kind"`
	Address    string   `json:"address,omitempty"`     // host:port, a serial port's path, or a page's URL
	Broker     string   `json:"broker,omitempty"`      // outside: the id of the broker
	IntervalMS int64    `json:"interval_ms,omitempty"` // modbus, poll: how often the hub asks
	Unit       int      `json:"unit,omitempty"`        // modbus: unit id
	Baud       int      `json:"baud,omitempty"`        // lines over a serial port
	QueryKey   bool     `json:"query_key,omitempty"`   // http: the key may stand in the query string
	// mqtt, outside: the topic, often a last will, that says on or off line
	Presence *Source `json:"presence,omitempty"`
	Skip     int     `json:"skip,omitempty"`   // poll: lines before a CSV page's header
	Inside   bool    `json:"inside,omitempty"` // poll: the page may be at an address in the house
	// Watchdog is the Modbus register into which the hub writes the lease in seconds with every beat.
	Watchdog *Register `json:"watchdog,omitempty"`
}

// DefaultBaud is how fast a serial port is by default.
const DefaultBaud = 9600

// Interval is how often the hub asks.
func (l Link) Interval() time.Duration {
	if l.IntervalMS > 0 {
		return Millis(l.IntervalMS)
	}
	return l.Spec().Every
}

// Serial reports whether the lines come over a serial port rather than TCP.
func (l Link) Serial() bool { return strings.HasPrefix(l.Address, "/") }

// Source says where in a device's messages a value is found. The zero value means: where the link's own rules say.
type Source struct {
	Topic   string `json:"topic,omitempty"`   // MQTT topic filter
	Pointer string `json:"pointer,omitempty"` // JSON Pointer (RFC 6901) into the payload
	// regular expression (RE2); its group "value", else its first group, else all that matched
	Pattern  string    `json:"pattern,omitempty"`
	Column   string    `json:"column,omitempty"`   // CSV column, by name or by number from 1; the newest row counts
	On       []string  `json:"on,omitempty"`       // words or numbers that mean on
	Off      []string  `json:"off,omitempty"`      // those that mean off
	Words    []string  `json:"words,omitempty"`    // what the device calls the options of a choice, in their order
	Full     float64   `json:"full,omitempty"`     // what the device calls 100 % of a level; 0: 100
	Register *Register `json:"register,omitempty"` // Modbus
	Comma    Comma     `json:"comma,omitempty"`    // what a comma in a number means
}

// Comma is what a comma in a number means.
type Comma string

// The empty Comma is a decimal one where that is plain, as in 21,4 but not in 1,250.
const (
	DecimalComma   Comma = "decimal"   // 1.250,5
	ThousandsComma Comma = "thousands" // 1,250.5
)

// Set reports whether the source is mapped at all.
func (s Source) Set() bool {
	return s.Topic != "" || s.Pointer != "" || s.Pattern != "" || s.Column != "" || s.Register != nil ||
		len(s.On)+len(s.Off)+len(s.Words) > 0 || s.Full != 0
}

// Set reports whether the target is mapped at all.
func (t Target) Set() bool {
	return t.Topic != "" || t.On != "" || t.Off != "" || t.Template != "" || t.Retain || t.Register != nil ||
		len(t.Words) > 0 || t.Full != 0
}

// Target says how a want is sent. The zero value means: as the link's own rules say, with on and off as words.
type Target struct {
	Topic    string    `json:"topic,omitempty"`    // MQTT topic
	On       string    `json:"on,omitempty"`       // what stands for on
	Off      string    `json:"off,omitempty"`      // what stands for off
	Words    []string  `json:"words,omitempty"`    // what stands for the options of a choice, in their order
	Full     float64   `json:"full,omitempty"`     // what stands for 100 % of a level; 0: 100
	Template string    `json:"template,omitempty"` // what is sent, with {value} for the word and {t} for Unix milliseconds
	Retain   bool      `json:"retain,omitempty"`   // the broker keeps it; the hub's own topics always are
	Register *Register `json:"register,omitempty"` // Modbus
}

// Table is one of the four tables of a Modbus device.
type Table string

// The tables (MODBUS Application Protocol Specification V1.1b3, section 4.3).
const (
	Holding  Table = "holding"  // 16-bit words, read and write
	Input    Table = "input"    // 16-bit words, read only
	Coil     Table = "coil"     // bits, read and write
	Discrete Table = "discrete" // bits, read only
)

// Register is where a value lies in a Modbus device.
type Register struct {
	Table   Table   `json:"table"`
	Address int     `json:"address"`         // 0 to 65535, as on the wire
	Type    string  `json:"type,omitempty"`  // u16, s16, u32, s32, f32; default u16
	Swap    bool    `json:"swap,omitempty"`  // the low word comes first
	Scale   float64 `json:"scale,omitempty"` // what the number is multiplied with; 0: 1
}

// Words is how many 16-bit words the value takes; 1 for a bit.
func (r Register) Words() int {
	switch r.Type {
	case "u32", "s32", "f32":
		return 2
	}
	return 1
}

// Bit reports whether the register is a single bit.
func (r Register) Bit() bool { return r.Table == Coil || r.Table == Discrete }

// Limits of what a device may send. Zero values mean the defaults.
type Limits struct {
	MaxBytes  int `json:"max_bytes,omitempty"`  // of one message
	PerSecond int `json:"per_second,omitempty"` // messages, on average; ten seconds' worth may come at once
	MaxNames  int `json:"max_names,omitempty"`  // signals and controls
}

// The defaults and the highest values of Limits.
const (
	DefaultMaxBytes  = 64 << 10
	DefaultPerSecond = 100
	DefaultMaxNames  = 64
	MostPerSecond    = 100_000
	MostNames        = 1000
)

// Filled returns the limits with the defaults in place of zeros.
func (l Limits) Filled() Limits {
	if l.MaxBytes == 0 {
		l.MaxBytes = DefaultMaxBytes
	}
	if l.PerSecond == 0 {
		l.PerSecond = DefaultPerSecond
	}
	if l.MaxNames == 0 {
		l.MaxNames = DefaultMaxNames
	}
	return l
}

// Validate says in a sentence what is wrong with the limits, or returns nil.
func (l Limits) Validate() error {
	switch f := l.Filled(); {
	case f.MaxBytes < 16 || f.MaxBytes > DefaultMaxBytes:
		return fmt.Errorf("max_bytes is %d; choose between 16 and %d", f.MaxBytes, DefaultMaxBytes)
	case f.PerSecond < 1 || f.PerSecond > MostPerSecond:
		return fmt.Errorf("per_second is %d; choose between 1 and %d", f.PerSecond, MostPerSecond)
	case f.MaxNames < 1 || f.MaxNames > MostNames:
		return fmt.Errorf("max_names is %d; choose between 1 and %d", f.MaxNames, MostNames)
	}
	return nil
}

// Validate says in a sentence what is wrong with the link, or returns nil.
func (l Link) Validate() error {
	spec := l.Spec()
	if spec.Kind == "" {
		return fmt.Errorf("the link %q is unknown; use one of %s", l.Kind, strings.Join(LinkNames(), ", "))
	}
	if l.IntervalMS != 0 && (l.IntervalMS < 100 || l.IntervalMS > 7*24*3600_000) {
		return fmt.Errorf("the interval is %d ms; choose between 100 ms and a week", l.IntervalMS)
	}
	if spec.check != nil {
		if err := spec.check(l); err != nil {
			return err
		}
	}
	if l.Presence != nil {
		if l.Presence.Topic == "" {
			return fmt.Errorf("the presence has no topic; name the one on which the device's last will comes")
		}
		return l.Presence.Validate()
	}
	return nil
}

func hostPort(addr string) error {
	host, port, err := net.SplitHostPort(addr)
	if err != nil || host == "" || port == "" {
		return fmt.Errorf("%.80q is no address; use one such as 192.168.1.20:502", addr)
	}
	return nil
}

// Validate says in a sentence what is wrong with the source, or returns nil.
func (s Source) Validate() error {
	if s.Topic != "" && !ValidFilter(s.Topic) {
		return fmt.Errorf("%.80q is no topic filter; + and # stand for whole levels and # comes last", s.Topic)
	}
	if s.Pointer != "" && !strings.HasPrefix(s.Pointer, "/") {
		return fmt.Errorf("the JSON Pointer %.80q must begin with /, as in /sensor/temperature", s.Pointer)
	}
	if len(s.Pattern) > 500 {
		return fmt.Errorf("the pattern has %d bytes; at most 500 are allowed", len(s.Pattern))
	}
	if _, err := regexp.Compile(s.Pattern); err != nil {
		return fmt.Errorf("the pattern cannot be read: %s", strings.TrimPrefix(err.Error(), "error parsing regexp: "))
	}
	if n := count(s.Pointer != "", s.Pattern != "", s.Column != "", s.Register != nil); n > 1 {
		return fmt.Errorf("choose one of JSON Pointer, pattern, column and register")
	}
	if s.Comma != "" && s.Comma != DecimalComma && s.Comma != ThousandsComma {
		return fmt.Errorf("a comma is %q; use decimal (1.250,5) or thousands (1,250.5)", s.Comma)
	}
	if s.Comma != "" && count(s.Topic != "", s.Pointer != "", s.Pattern != "", s.Column != "") == 0 {
		return fmt.Errorf("what a comma means counts only where a topic, JSON Pointer, pattern or column says where the " +
			"number is")
	}
	if s.Register != nil {
		return s.Register.Validate()
	}
	return nil
}

// Validate says in a sentence what is wrong with the target, or returns nil.
func (t Target) Validate() error {
	if t.Topic != "" && (strings.ContainsAny(t.Topic, "+#\x00") || len(t.Topic) > 500) {
		return fmt.Errorf("%.80q is no topic to publish on; leave + and # out", t.Topic)
	}
	if len(t.Template) > 2000 || len(t.On) > 500 || len(t.Off) > 500 {
		return fmt.Errorf("what is sent is longer than 2000 bytes; shorten it")
	}
	if t.Template != "" && !strings.Contains(t.Template, "{value}") {
		return fmt.Errorf("the template %.80q holds no {value}; without it on and off would be the same", t.Template)
	}
	if (t.On != "" || t.Off != "") && t.On == t.Off {
		return fmt.Errorf("on and off are both sent as %.80q; choose different words", t.On)
	}
	if t.Register != nil {
		if t.Register.Table != Holding && t.Register.Table != Coil {
			return fmt.Errorf("the table %s cannot be written; use holding or coil", t.Register.Table)
		}
		return t.Register.Validate()
	}
	return nil
}

// Validate says in a sentence what is wrong with the register, or returns nil.
func (r Register) Validate() error {
	switch {
	case !slices.Contains([]Table{Holding, Input, Coil, Discrete}, r.Table):
		return fmt.Errorf("the table %q is unknown; use holding, input, coil or discrete", r.Table)
	case !slices.Contains([]string{"", "u16", "s16", "u32", "s32", "f32"}, r.Type):
		return fmt.Errorf("the register's type %q is unknown; use u16, s16, u32, s32 or f32", r.Type)
	case r.Bit() && r.Type != "":
		return fmt.Errorf("a %s is a single bit; leave the type out", r.Table)
	case r.Address < 0 || r.Address+r.Words() > 65536:
		return fmt.Errorf("the register %d does not exist; addresses go from 0 to 65535", r.Address)
	}
	return nil
}

func count(of ...bool) (n int) {
	for _, b := range of {
		if b {
			n++
		}
	}
	return n
}

// ValidFilter reports whether the wildcards of an MQTT topic filter stand where they may (MQTT 5, section 4.7).
func ValidFilter(filter string) bool {
	if filter == "" || len(filter) > 500 || strings.ContainsRune(filter, 0) {
		return false
	}
	levels := strings.Split(filter, "/")
	for i, l := range levels {
		if l == "+" || l == "#" && i == len(levels)-1 {
			continue
		}
		if strings.ContainsAny(l, "+#") {
			return false
		}
	}
	return true
}

// Matches reports whether an MQTT topic filter matches a topic (MQTT 5, section 4.7).
func Matches(filter, topic string) bool {
	if strings.HasPrefix(topic, "$") && (strings.HasPrefix(filter, "+") || strings.HasPrefix(filter, "#")) {
		return false
	}
	for {
		f, fRest, fMore := strings.Cut(filter, "/")
		if f == "#" {
			return true
		}
		t, tRest, tMore := strings.Cut(topic, "/")
		if f != "+" && f != t {
			return false
		}
		if !fMore || !tMore {
			return fMore == tMore || fMore && fRest == "#" // a/# matches a
		}
		filter, topic = fRest, tRest
	}
}

// ScriptUser is the user name with which scripts sign in to the broker inside; no device has it as its id.
const ScriptUser = "token"

// Broker is an MQTT broker elsewhere. Its password is kept apart.
type Broker struct {
	ID       string `json:"id"`
	Name     string `json:"name"`
	Address  string `json:"address"` // mqtt://host:1883 or mqtts://host:8883
	User     string `json:"user"`
	ClientID string `json:"client_id"`
	Share    string `json:"share"` // group of hubs that share the load; empty: this hub takes all
	CA       string `json:"ca"`    // PEM of the authority that signed its certificate; empty: those that the system trusts
	// a topic that says online while the hub is there, and offline by the hub's last will; empty: none
	Alive string `json:"alive"`
}

// Validate says in a sentence what is wrong with the broker, or returns nil.
func (b Broker) Validate() error {
	u, err := url.Parse(b.Address)
	if err != nil || u.Scheme != "mqtt" && u.Scheme != "mqtts" || u.Host == "" || u.User != nil {
		return fmt.Errorf("%.80q is no broker's address; use one such as mqtt://192.168.1.5:1883", b.Address)
	}
	if strings.ContainsAny(b.Share, "/+#") || len(b.Share) > 40 {
		return fmt.Errorf("the share group %.40q holds / or a wildcard; use a plain word", b.Share)
	}
	if strings.ContainsAny(b.Alive, "+#\x00") || strings.HasPrefix(b.Alive, "$") || strings.HasPrefix(b.Alive, "ember/") ||
		len(b.Alive) > 200 {
		return fmt.Errorf("%.80q is no topic for the hub's own presence; choose one without + and #, not below ember/, "+
			"such as studio/hub", b.Alive)
	}
	if len(b.ClientID) > 128 || len(b.User) > 200 || len(b.CA) > 20_000 {
		return fmt.Errorf("client id, user or certificate is too long")
	}
	return nil
}

// Panel is the hub as a Modbus server for a panel on the wall. The zero value is off.
type Panel struct {
	On      bool     `json:"on"`
	Address string   `json:"address"` // host:port to listen on
	Allow   []string `json:"allow"`   // addresses or networks (CIDR) that may connect
	Points  []Point  `json:"points"`
}

// Point offers a signal, a control or a setting as a register.
type Point struct {
	ID       string   `json:"id"` // of a signal, control or setting
	Register Register `json:"register"`
	Write    bool     `json:"write"` // the panel may change it
}

// Validate says in a sentence what is wrong with the panel, or returns nil.
func (p Panel) Validate(s *Site) error {
	if p.On {
		if _, _, err := net.SplitHostPort(p.Address); err != nil {
			return fmt.Errorf("%.80q is no address to listen on; use one such as 127.0.0.1:1502", p.Address)
		}
		if len(p.Allow) == 0 {
			return fmt.Errorf("the list of addresses that may connect is empty; name the panel's, such as 192.168.1.30")
		}
	}
	if len(p.Points) > 500 {
		return fmt.Errorf("there are %d points; at most 500 are allowed", len(p.Points))
	}
	for _, a := range p.Allow {
		if _, _, err := net.ParseCIDR(a); err != nil && net.ParseIP(a) == nil {
			return fmt.Errorf("%.60q is no address or network; use one such as 192.168.1.30 or 192.168.1.0/24", a)
		}
	}
	taken := map[string]string{}
	for _, pt := range p.Points {
		_, signal := s.Signals[pt.ID]
		_, control := s.Controls[pt.ID]
		_, setting := s.Settings[pt.ID]
		switch {
		case !signal && !control && !setting:
			return fmt.Errorf("there is no signal, control or setting called %.60q", pt.ID)
		case pt.Write && signal:
			return fmt.Errorf("%s is a signal; a panel can only write controls and settings", pt.ID)
		case pt.Write && (pt.Register.Table == Input || pt.Register.Table == Discrete):
			return fmt.Errorf("%s cannot be written in the table %s; use holding or coil", pt.ID, pt.Register.Table)
		}
		if err := pt.Register.Validate(); err != nil {
			return fmt.Errorf("%s: %w", pt.ID, err)
		}
		for i := range pt.Register.Words() {
			at := fmt.Sprintf("%s %d", pt.Register.Table, pt.Register.Address+i)
			if other := taken[at]; other != "" {
				return fmt.Errorf("%s and %s both lie at %s; move one", other, pt.ID, at)
			}
			taken[at] = pt.ID
		}
	}
	return nil
}
