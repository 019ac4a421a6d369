// Package mapping finds values in the messages of devices that nobody can reflash, and words their wants.
//
// A Map is made once from a site and a device and is then only read.
package mapping

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/go-openapi/jsonpointer"

	"idleember/core/reading"
	"idleember/core/site"
)

// Map is how one device's messages are read.
type Map struct {
	entries  []Entry
	presence *Entry
}

// Entry is one signal or control with its compiled source.
type Entry struct {
	ID      string // of the signal or control; empty: presence
	Raw     string
	Control bool
	Kind    site.ValueKind
	Source  site.Source
	pattern *regexp.Regexp
	skip    int
}

// Found is what a message holds for an entry.
type Found struct {
	Entry Entry
	Text  string // as it stands in the message
	Value reading.Value
	Err   error
}

// Online and offline as words of a presence topic, where the owner named none.
var (
	onlineWords  = []string{"online", "on", "true", "1", "connected"}
	offlineWords = []string{"offline", "off", "false", "0", "disconnected", "lost"}
)

// For makes the map of a device. Signals and controls without a source are left out.
func For(s *site.Site, device string) *Map {
	m := &Map{}
	dev := s.Devices[device]
	signals, controls := s.Of(device)
	for _, id := range signals {
		g := s.Signals[id]
		m.add(Entry{ID: id, Raw: g.Raw, Kind: g.Kind, Source: g.Source, skip: dev.Link.Skip})
	}
	for _, id := range controls {
		c := s.Controls[id]
		src := c.Source
		if src.Set() && len(src.On)+len(src.Off) == 0 && c.What() == site.Switch {
			src.On, src.Off = words(c.Target.On), words(c.Target.Off)
		}
		kind := map[site.ControlKind]site.ValueKind{site.Switch: site.OnOff, site.Level: site.Number}[c.What()]
		if kind == "" {
			kind = site.Text
		}
		m.add(Entry{ID: id, Raw: c.Raw, Control: true, Kind: kind, Source: src, skip: dev.Link.Skip})
	}
	if p := dev.Link.Presence; p != nil {
		src := *p
		if len(src.On)+len(src.Off) == 0 {
			src.On, src.Off = onlineWords, offlineWords
		}
		if e, err := compile(Entry{Kind: site.OnOff, Source: src}); err == nil {
			m.presence = &e
		}
	}
	return m
}

func words(w string) []string {
	if w == "" {
		return nil
	}
	return []string{w}
}

func (m *Map) add(e Entry) {
	if !e.Source.Set() {
		return
	}
	if e, err := compile(e); err == nil { // what is wrong was refused when it was saved
		m.entries = append(m.entries, e)
	}
}

func compile(e Entry) (Entry, error) {
	if e.Source.Pattern == "" {
		return e, nil
	}
	var err error
	e.pattern, err = regexp.Compile(e.Source.Pattern)
	return e, err
}

// Entries are the mapped signals and controls.
func (m *Map) Entries() []Entry { return m.entries }

// Topics are the topic filters of all entries and of the presence, each once, in order.
func (m *Map) Topics() []string {
	var out []string
	for _, e := range m.entries {
		if e.Source.Topic != "" {
			out = append(out, e.Source.Topic)
		}
	}
	if m.presence != nil {
		out = append(out, m.presence.Source.Topic)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// Message takes a message of a topic apart ("" for links without topics). An entry that the message does not speak of
// is left out where others of the same message do; where none is found, each comes back with why.
func (m *Map) Message(topic string, payload []byte) []Found {
	var out []Found
	hit := false
	for _, e := range m.entries {
		if e.Source.Register != nil || e.Source.Topic != "" && !site.Matches(e.Source.Topic, topic) || e.Source.Topic == "" &&
			topic != "" {
			continue
		}
		f := Found{Entry: e}
		f.Text, f.Value, f.Err = e.Value(payload)
		hit = hit || !errors.Is(f.Err, errAbsent)
		out = append(out, f)
	}
	if hit {
		out = slices.DeleteFunc(out, func(f Found) bool { return errors.Is(f.Err, errAbsent) })
	}
	return out
}

// Taken is what a message holds for a device.
type Taken struct {
	Readings []reading.Named
	Reports  []reading.Named // what controls are
	Faults   []string
	Matched  bool // the message is one that the mapping speaks of
	Silent   bool // nothing that is mapped is in it
}

// Take takes a message apart into readings and reports; see Message.
func (m *Map) Take(topic string, payload []byte) (t Taken) {
	t.Silent = true
	for _, f := range m.Message(topic, payload) {
		t.Matched, t.Silent = true, t.Silent && errors.Is(f.Err, errAbsent)
		n := reading.Named{Name: f.Entry.Raw, Value: f.Value, Decimals: reading.Decimals(f.Text)}
		switch {
		case f.Err != nil:
			t.Faults = append(t.Faults, f.Entry.ID+": "+f.Err.Error())
		case f.Entry.Control:
			t.Reports = append(t.Reports, n)
		default:
			t.Readings = append(t.Readings, n)
		}
	}
	return t
}

// Cache keeps the maps of a site's devices. The zero value is empty; it may be used from many goroutines.
type Cache struct {
	mu   sync.Mutex
	site *site.Site
	of   map[string]*Map
}

// For returns the map of a device.
func (c *Cache) For(s *site.Site, device string) *Map {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.site != s {
		c.site, c.of = s, map[string]*Map{}
	}
	m := c.of[device]
	if m == nil {
		m = For(s, device)
		c.of[device] = m
	}
	return m
}

// Presence says whether a message tells that the device is on or off line.
func (m *Map) Presence(topic string, payload []byte) (online, told bool, err error) {
	if m.presence == nil || !site.Matches(m.presence.Source.Topic, topic) {
		return false, false, nil
	}
	_, v, err := m.presence.Value(payload)
	return v.On(), true, err
}

// HasPresence reports whether the device's presence comes from a topic of its own.
func (m *Map) HasPresence() bool { return m.presence != nil }

// errAbsent says that a message does not speak of an entry at all.
var errAbsent = errors.New("nothing there")

type absent struct{ why string }

func (a *absent) Error() string        { return a.why }
func (a *absent) Is(target error) bool { return target == errAbsent }

// Value finds the entry's value in a payload. text is what stands there.
func (e Entry) Value(payload []byte) (text string, v reading.Value, err error) {
	text, v, err = e.find(payload)
	if err != nil {
		return text, v, err
	}
	v, err = e.worded(text, v)
	return text, v, err
}

func (e Entry) find(payload []byte) (string, reading.Value, error) {
	switch s := e.Source; {
	case s.Pointer != "":
		raw, err := pointed(payload, s.Pointer)
		if err != nil {
			return "", reading.Value{}, err
		}
		v, err := reading.FromJSON(raw)
		if err == nil && v.Kind == site.Text {
			return e.parsed(v.Text, nil)
		}
		return string(raw), v, err
	case e.pattern != nil:
		text, err := matched(e.pattern, payload)
		return e.parsed(text, err)
	case s.Column != "":
		text, err := cell(payload, s.Column, e.skip)
		return e.parsed(text, err)
	}
	return e.parsed(strings.TrimSpace(string(payload)), nil)
}

func (e Entry) parsed(text string, err error) (string, reading.Value, error) {
	if err == nil && e.Kind == site.Number && len(e.Source.On)+len(e.Source.Off) == 0 {
		text, err = reading.Pointed(text, e.Source.Comma)
	}
	if err != nil {
		return "", reading.Value{}, err
	}
	v, err := reading.Parse([]byte(text))
	return text, v, err
}

// worded turns the owner's words into on and off.
func (e Entry) worded(text string, v reading.Value) (reading.Value, error) {
	on, off := e.Source.On, e.Source.Off
	if len(on)+len(off) == 0 {
		return v.As(e.Kind)
	}
	is := func(list []string) bool {
		return slices.ContainsFunc(list, func(w string) bool { return strings.EqualFold(w, text) || sameNumber(w, text) })
	}
	switch {
	case is(on):
		return reading.OnOff(true), nil
	case is(off):
		return reading.OnOff(false), nil
	case len(off) == 0:
		return reading.OnOff(false), nil
	case len(on) == 0:
		return reading.OnOff(true), nil
	}
	return v, fmt.Errorf("%.40q is neither %s nor %s", text, strings.Join(on, ", "), strings.Join(off, ", "))
}

func sameNumber(a, b string) bool {
	x, err := strconv.ParseFloat(a, 64)
	if err != nil {
		return false
	}
	y, err := strconv.ParseFloat(b, 64)
	return err == nil && x == y
}

func pointed(payload []byte, pointer string) (json.RawMessage, error) {
	p, err := jsonpointer.New(pointer)
	if err != nil {
		return nil, fmt.Errorf("the JSON Pointer %.80q cannot be read: %w", pointer, err)
	}
	dec := json.NewDecoder(bytes.NewReader(payload))
	dec.UseNumber()
	var doc any
	if err := dec.Decode(&doc); err != nil {
		return nil, fmt.Errorf("the payload is no JSON: %w", err)
	}
	if _, err := dec.Token(); !errors.Is(err, io.EOF) {
		return nil, errors.New("the payload is no JSON: something follows it")
	}
	v, _, err := p.Get(doc)
	if err != nil {
		return nil, &absent{fmt.Sprintf("nothing lies at %s", pointer)}
	}
	return json.Marshal(v)
}

func matched(pattern *regexp.Regexp, payload []byte) (string, error) {
	m := pattern.FindSubmatch(payload)
	if m == nil {
		return "", &absent{"the pattern matches nothing"}
	}
	switch i := pattern.SubexpIndex("value"); {
	case i >= 0:
		return string(m[i]), nil
	case len(m) > 1:
		return string(m[1]), nil
	}
	return string(m[0]), nil
}

// cell is the newest value of a CSV column: that of the last row that has one.
func cell(payload []byte, column string, skip int) (string, error) {
	for range skip {
		_, rest, ok := bytes.Cut(payload, []byte("\n"))
		if !ok {
			return "", &absent{"the page has fewer lines than are to be left out"}
		}
		payload = rest
	}
	payload, comma, _ := reading.Dialect(payload)
	r := csv.NewReader(bytes.NewReader(payload))
	r.FieldsPerRecord, r.TrimLeadingSpace, r.LazyQuotes, r.Comma, r.Comment = -1, true, true, comma, '#'
	at, named := -1, false
	if n, err := strconv.Atoi(column); err == nil && n > 0 {
		at = n - 1
	}
	found := ""
	for first := true; ; first = false {
		row, err := r.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return "", fmt.Errorf("the CSV cannot be read: %w", err)
		}
		if first {
			if i := slices.IndexFunc(row, func(c string) bool {
				return strings.EqualFold(strings.TrimSpace(c), column)
			}); i >= 0 {
				at, named = i, true
				continue
			}
		}
		if at >= 0 && at < len(row) && strings.TrimSpace(row[at]) != "" {
			found = strings.TrimSpace(row[at])
		}
	}
	switch {
	case at < 0 && !named:
		return "", &absent{fmt.Sprintf("there is no column %.40q", column)}
	case found == "":
		return "", &absent{fmt.Sprintf("the column %.40q is empty", column)}
	}
	return found, nil
}

// Payload words a want: the target's word or number for the amount, in its template where there is one.
func Payload(c site.Control, a site.Amount, now time.Time) []byte {
	t := c.Target
	word := Word(c, a)
	if t.Template == "" {
		return []byte(word)
	}
	return []byte(strings.NewReplacer("{value}", word, "{t}", strconv.FormatInt(now.UnixMilli(), 10)).Replace(t.Template))
}

// Word is what the device calls an amount of a control.
func Word(c site.Control, a site.Amount) string {
	t := c.Target
	switch {
	case a == 0 && t.Off != "":
		return t.Off
	case c.What() == site.Switch && a != 0 && t.On != "":
		return t.On
	case c.What() == site.Level:
		f := float64(a)
		if t.Full > 0 {
			f = math.Round(f * t.Full / 100)
		}
		return strconv.FormatFloat(f, 'f', -1, 64)
	case c.What() != site.Switch && int(a) < len(t.Words):
		return t.Words[int(a)]
	}
	return c.Say(a)
}

// Amount is what a device's report of a control comes to.
func Amount(c site.Control, v reading.Value) (site.Amount, error) {
	switch c.What() {
	case site.Switch:
		b, err := v.As(site.OnOff)
		return site.Amount(b.Num), err
	case site.Level:
		full := c.Source.Full
		if full == 0 {
			full = c.Target.Full
		}
		switch n, err := v.As(site.Number); {
		case err != nil:
			on, err := v.As(site.OnOff)
			return site.Amount(100 * on.Num), err
		case v.Kind == site.OnOff:
			return site.Amount(100 * v.Num), nil
		case full > 0:
			return checked(c, site.Amount(n.Num*100/full))
		default:
			return checked(c, site.Amount(n.Num))
		}
	}
	text := v.String()
	for _, words := range [][]string{c.Source.Words, c.Target.Words} {
		if i := slices.IndexFunc(words, func(w string) bool {
			return strings.EqualFold(w, text) || sameNumber(w, text)
		}); i >= 0 {
			return site.Amount(i), nil
		}
	}
	return c.AmountOf(text)
}

// checked takes a level that a device reports: it may be below what the hub would want.
func checked(c site.Control, a site.Amount) (site.Amount, error) {
	c.Lowest = 0
	return a, c.Check(a)
}
