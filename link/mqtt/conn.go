package mqtt

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/mochi-mqtt/server/v2/packets"

	"idleember/core/fault"
	"idleember/core/site"
	"idleember/hub"
	"idleember/link/door"
	"idleember/link/topics"
)

// Reason codes of MQTT 5, section 2.4.
const (
	codeSuccess       byte = 0x00
	codeNoSubID       byte = 0xA1
	codeBadMethod     byte = 0x8C
	codeWithWill      byte = 0x04
	codeMalformed     byte = 0x81
	codeProtocol      byte = 0x82
	codeVersion       byte = 0x84
	codeClientID      byte = 0x85
	codeBadKey        byte = 0x86
	codeNotAuthorized byte = 0x87
	codeUnavailable   byte = 0x88
	codeBusy          byte = 0x89
	codeShuttingDown  byte = 0x8B
	codeKeepAlive     byte = 0x8D
	codeTakenOver     byte = 0x8E
	codeFilter        byte = 0x8F
	codeTopic         byte = 0x90
	codeNoSuchID      byte = 0x92
	codeTooLarge      byte = 0x95
	codeQuota         byte = 0x97
	codePayload       byte = 0x99
	codeShared        byte = 0x9E
)

// conn is one connection of a client.
type conn struct {
	b       *Broker
	nc      net.Conn
	door    *door.Conn
	r       *bufio.Reader
	version byte
	device  string
	client  string
	session hub.Session
	sess    *session
	keep    time.Duration // how long the session outlives the connection
	beat    time.Duration // the client's keep-alive
	window  int           // messages that may be on their way to the client
	largest int           // bytes of a packet that the client takes, 0: any
	will    *packets.Packet
	delay   time.Duration // until the will is told
	slots   chan struct{}
	why     string
	known   bool
	script  *script // not a device but a script with a token

	mu     sync.Mutex
	out    []packets.Packet
	wake   chan struct{}
	ending bool
	done   chan struct{} // closed when the writer has ended
}

func newConn(b *Broker, nc net.Conn, at *door.Conn) *conn {
	return &conn{b: b, nc: nc, door: at, r: bufio.NewReaderSize(nc, 2048), window: 32, slots: make(chan struct{}, window),
		wake: make(chan struct{}, 1), done: make(chan struct{})}
}

// gone takes the connection out of the broker's books.
func (c *conn) gone() {
	_ = c.nc.Close()
	c.b.mu.Lock()
	delete(c.b.conns, c)
	c.b.mu.Unlock()
	c.b.open.Done()
}

func (c *conn) serve() {
	defer c.gone()
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	go c.write()
	err := c.connect(ctx)
	if err == nil {
		c.door.Busy()
		err = c.read()
	}
	c.end(codeSuccess, "")
	<-c.done
	if c.sess == nil || c.script != nil {
		return
	}
	c.mu.Lock()
	why := c.why
	c.mu.Unlock()
	if why == "" {
		why = plain(err, c.beat)
	}
	will := func() {
		if !c.b.ended() {
			c.published(*c.will)
		}
	}
	delay := min(c.delay, c.keep) // or until the session ends, if that is before
	if c.will != nil && delay == 0 {
		will()
	}
	c.b.leave(c)
	if c.will != nil && delay > 0 {
		c.sess.testament(delay, will)
	}
	c.b.hub.Offline(c.session, why, errors.Is(err, errBye))
}

// plain says in words why a connection ended.
func plain(err error, beat time.Duration) string {
	switch {
	case err == nil || errors.Is(err, errBye):
		return "the board said good-bye"
	case errors.Is(err, os.ErrDeadlineExceeded):
		return fmt.Sprintf("nothing was heard for %s, one and a half times its keep-alive", beat*3/2)
	case errors.Is(err, io.EOF), errors.Is(err, net.ErrClosed), errors.Is(err, io.ErrUnexpectedEOF):
		return "the connection broke off"
	default:
		return err.Error()
	}
}

var errBye = errors.New("disconnect")

// farewell is an error that the client is told before the connection ends.
type farewell struct {
	code byte
	text string
}

func (f *farewell) Error() string { return f.text }

// send queues a packet and never blocks. Messages for a client that does not read are dropped; acknowledgements cannot
// be many, since a client's window is limited.
func (c *conn) send(pk packets.Packet) {
	c.mu.Lock()
	if !c.ending && (len(c.out) < 4*queued || pk.FixedHeader.Type != packets.Publish || pk.FixedHeader.Qos > 0) {
		c.out = append(c.out, pk)
	}
	c.mu.Unlock()
	select {
	case c.wake <- struct{}{}:
	default:
	}
}

// end lets what is queued go out, tells a client of version 5 why, and closes the connection.
func (c *conn) end(code byte, text string) {
	c.mu.Lock()
	if !c.ending {
		if text != "" {
			c.why = text
		}
		if code != codeSuccess && c.version == 5 && c.known {
			c.out = append(c.out, packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Disconnect}, ReasonCode: code,
				Properties: packets.Properties{ReasonString: text}})
		}
		c.ending = true
	}
	c.mu.Unlock()
	select {
	case c.wake <- struct{}{}:
	default:
	}
}

// connect waits for who it is, and answers. Long, because it is the steps of one handshake.
func (c *conn) connect(ctx context.Context) error {
	_ = c.nc.SetReadDeadline(time.Now().Add(connectWait))
	fh, err := c.header()
	if err != nil {
		return err
	}
	if fh.Type != packets.Connect || fh.Remaining > maxConnect {
		return errors.New("the first packet is no fair CONNECT")
	}
	pk, err := c.body(fh)
	if err != nil {
		return err
	}
	c.mu.Lock()
	c.version = pk.ProtocolVersion
	c.mu.Unlock()
	p := pk.Connect
	if code := pk.ConnectValidate(); code.Code != 0 {
		if code == packets.ErrProtocolViolationProtocolVersion {
			return c.reject(codeVersion, 1, "speak MQTT 3.1.1 or 5")
		}
		return errors.New(code.Reason)
	}
	c.device, c.client = string(p.Username), p.ClientIdentifier
	from, _, _ := net.SplitHostPort(c.nc.RemoteAddr().String())
	c.session = hub.Session{Device: c.device, ID: "mqtt-" + strconv.FormatUint(c.b.next.Add(1), 10), Link: "mqtt",
		Client: c.client, From: from}
	if pk.Properties.AuthenticationMethod != "" {
		return c.reject(codeBadMethod, 5, "only a user name and a password are asked for; leave the authentication "+
			"method out")
	}
	admit, cancel := context.WithTimeout(ctx, connectWait)
	defer cancel()
	if c.device == scriptUser {
		return c.connectScript(string(p.Password), pk)
	}
	if err := c.b.hub.Admit(c.device, string(p.Password), from); err != nil {
		var off *fault.DisabledError
		if errors.As(err, &off) {
			return c.reject(codeNotAuthorized, 5, err.Error())
		}
		var many *fault.TooManyError
		if errors.As(err, &many) {
			return c.reject(codeBadKey, 4, many.Error())
		}
		c.b.hub.RefuseKey(c.session)
		time.Sleep(500 * time.Millisecond) // slows guessing
		return c.reject(codeBadKey, 4, "the user name must be a device's id and the password its key")
	}
	props := packets.Properties{}
	if c.client == "" {
		if c.version != 5 && !p.Clean {
			return c.reject(codeClientID, 2, "a client id is needed to keep a session")
		}
		c.client = c.session.ID
		c.session.Client = c.client
		props.AssignedClientID = c.client
	}
	if len(c.client) > 128 {
		return c.reject(codeClientID, 2, "the client id is longer than 128 bytes")
	}
	if c.version == 5 {
		c.keep = min(sessionLife, time.Duration(pk.Properties.SessionExpiryInterval)*time.Second)
		if n := pk.Properties.ReceiveMaximum; n > 0 {
			c.window = min(c.window, int(n))
		}
		c.largest = int(pk.Properties.MaximumPacketSize)
		props.ReceiveMaximum, props.MaximumPacketSize = window, maxPacket
		props.SubIDAvailableFlag, props.SharedSubAvailableFlag = true, true // both not available
		props.SessionExpiryIntervalFlag, props.SessionExpiryInterval = true, uint32(c.keep.Seconds())
	} else if !p.Clean {
		c.keep = sessionLife
	}
	c.beat = time.Duration(p.Keepalive) * time.Second
	if p.WillFlag {
		c.delay = time.Duration(p.WillProperties.WillDelayInterval) * time.Second
		c.will = &packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Publish}, TopicName: p.WillTopic,
			Payload: p.WillPayload}
	}
	sess, resumed, err := c.b.join(admit, c, p.Clean)
	if err != nil {
		return c.reject(codeQuota, 3, err.Error())
	}
	c.sess = sess
	c.mu.Lock()
	c.known = true
	c.mu.Unlock()
	c.send(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Connack}, SessionPresent: resumed,
		Properties: props})
	c.b.hub.Online(c.session)
	if resumed {
		sess.resume()
		c.b.tellWants(c.device, sess, "")
		if sess.hears("ember/" + c.device + "/lease") {
			c.b.hub.Listening(c.session)
		}
	}
	return nil
}

// reject answers a CONNECT with a reason: a code of version 5, or the return code of version 3.1.1.
func (c *conn) reject(code, old byte, text string) error {
	pk := packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Connack}, ReasonCode: old}
	if c.version == 5 {
		pk.ReasonCode, pk.Properties.ReasonString = code, text
	}
	c.send(pk)
	return &farewell{code, text}
}

// read takes packets until the connection ends.
func (c *conn) read() error {
	for {
		deadline := time.Time{}
		if c.beat > 0 {
			deadline = time.Now().Add(c.beat * 3 / 2)
		}
		_ = c.nc.SetReadDeadline(deadline)
		fh, err := c.header()
		if err == nil && fh.Remaining > maxPacket {
			err = c.discard(fh)
			if err == nil {
				continue
			}
		}
		var pk packets.Packet
		if err == nil {
			pk, err = c.body(fh)
		}
		if err == nil {
			err = c.handle(pk)
		}
		if err != nil {
			var f *farewell
			switch {
			case errors.As(err, &f):
				c.end(f.code, f.text)
			case errors.Is(err, os.ErrDeadlineExceeded):
				c.end(codeKeepAlive, plain(err, c.beat))
			}
			return err
		}
	}
}

// discard reads over a packet that is too long. A client of version 5 was told the limit and is sent away; an older one
// gets a refusal and its acknowledgement, or it would send the same again for ever.
func (c *conn) discard(fh packets.FixedHeader) error {
	text := fmt.Sprintf("the packet has %d bytes; at most %d are taken, send less at a time", fh.Remaining, maxPacket)
	start, _ := c.r.Peek(min(fh.Remaining, 512))
	head := fh
	head.Remaining = len(start)
	probe := packets.Packet{FixedHeader: head, ProtocolVersion: 4}
	_ = probe.PublishDecode(append([]byte{}, start...)) // of a truncated packet topic and id are enough
	d := hub.Arrival{Session: c.session, Topic: probe.TopicName, Payload: probe.Payload, Faults: []string{text},
		Done: func(hub.Result) {}}
	if fh.Type != packets.Publish || fh.Remaining > maxDiscard || c.version == 5 {
		c.b.hub.Deliver(d)
		return &farewell{codeTooLarge, text}
	}
	if _, err := io.CopyN(io.Discard, c.r, int64(fh.Remaining)); err != nil {
		return err
	}
	d.Done = func(x hub.Result) {
		err := x.Err
		if err == nil {
			c.acknowledge(fh.Qos, probe.PacketID, codeSuccess, "")
		}
	}
	c.b.hub.Deliver(d)
	return nil
}

func (c *conn) handle(pk packets.Packet) error {
	switch pk.FixedHeader.Type {
	case packets.Publish:
		if code := pk.PublishValidate(0); code.Code != 0 && code != packets.ErrProtocolViolationSurplusWildcard {
			return &farewell{code.Code, code.Reason}
		}
		if c.script != nil {
			c.asked(pk)
		} else {
			c.pace()
			c.published(pk)
		}
	case packets.Puback:
		c.sess.acked(pk.PacketID)
	case packets.Pubrel:
		c.sess.released(pk.PacketID)
		c.send(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Pubcomp}, PacketID: pk.PacketID})
	case packets.Subscribe:
		if code := pk.SubscribeValidate(); code.Code != 0 {
			return &farewell{code.Code, code.Reason}
		}
		if len(pk.Properties.SubscriptionIdentifier) > 0 {
			return &farewell{codeNoSubID, "subscription identifiers are not available, as the CONNACK said; subscribe without"}
		}
		c.subscribe(pk)
	case packets.Unsubscribe:
		c.unsubscribe(pk)
	case packets.Pingreq:
		c.send(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Pingresp}})
	case packets.Disconnect:
		if pk.ReasonCode != codeWithWill {
			c.will = nil
		}
		if p := pk.Properties; c.version == 5 && p.SessionExpiryIntervalFlag && c.script == nil {
			if c.keep == 0 && p.SessionExpiryInterval > 0 {
				return &farewell{codeProtocol, "a session that was to end with its connection cannot be kept any more"}
			}
			c.keep = min(sessionLife, time.Duration(p.SessionExpiryInterval)*time.Second)
		}
		return errBye
	case packets.Pubrec, packets.Pubcomp: // nothing is ever sent with QoS 2
	default:
		return &farewell{codeProtocol, "a second CONNECT, or a packet that only the hub sends"}
	}
	return nil
}

func (c *conn) subscribe(pk packets.Packet) {
	ack := packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Suback}, PacketID: pk.PacketID}
	retained := map[string]bool{} // by filter: whether what is kept comes with it
	told := 0
	for _, f := range pk.Filters {
		code, why := c.mayHear(f.Filter)
		if code != 0 {
			if told++; c.script == nil && told <= refusalsTold {
				c.b.hub.Deliver(hub.Arrival{Session: c.session, Topic: f.Filter, Faults: []string{why}, Done: func(hub.Result) {}})
			}
			ack.Properties.ReasonString = why
			if c.version != 5 {
				code = 0x80
			}
			ack.ReasonCodes = append(ack.ReasonCodes, code)
			continue
		}
		qos := min(f.Qos, 1)
		isNew := c.sess.subscribe(f.Filter, subscription{qos, f.NoLocal})
		retained[f.Filter] = retained[f.Filter] || f.RetainHandling == 0 || f.RetainHandling == 1 && isNew
		ack.ReasonCodes = append(ack.ReasonCodes, qos)
	}
	c.send(ack)
	var current []message
	lease := false
	for _, filter := range slices.Sorted(maps.Keys(retained)) {
		switch {
		case !retained[filter]:
		case c.script == nil:
			c.b.tellWants(c.device, c.sess, filter)
		default:
			if current == nil {
				current = c.script.current(c.b.hub)
			}
			for _, m := range current {
				if site.Matches(filter, m.topic) {
					c.sess.offer(m, m.kept)
				}
			}
		}
		lease = lease || c.script == nil && site.Matches(filter, topics.Own(c.device)+"lease")
	}
	if lease {
		c.b.hub.Listening(c.session)
	}
}

// How many subscriptions a client may have, and how many refused ones of a packet are told to its owner.
const (
	mostFilters  = 32
	mostOfScript = 256
	refusalsTold = 3
)

// mayHear says why a filter is refused, or returns 0.
func (c *conn) mayHear(filter string) (code byte, why string) {
	most := mostFilters
	if c.script != nil {
		most = mostOfScript
	}
	switch {
	case strings.HasPrefix(filter, "$share/"):
		return codeShared, "shared subscriptions are not for devices; subscribe to ember/" + c.device + "/#"
	case !site.ValidFilter(filter):
		return codeFilter, fmt.Sprintf("%q is no topic filter; + and # stand for whole levels, # comes last", short(filter))
	case c.script == nil && !strings.HasPrefix(filter, topics.Own(c.device)) && !c.mapped(filter):
		return codeNotAuthorized, fmt.Sprintf("%q is not this device's; it may subscribe to ember/%s/#", short(filter),
			c.device)
	case !c.sess.has(filter) && c.sess.filters() >= most:
		return codeQuota, fmt.Sprintf("a client may have %d subscriptions; # at the end of one covers many", most)
	}
	return 0, ""
}

// mapped reports whether a device with topics of its own may subscribe to a filter: to what its controls are told on,
// or to anything outside the hub's own topics. It hears its own messages only, whatever it subscribes to.
func (c *conn) mapped(filter string) bool {
	own := c.b.hub.Site()
	_, controls := own.Of(c.device)
	for _, id := range controls {
		if t := own.Controls[id].Target.Topic; t != "" && site.Matches(filter, t) {
			return true
		}
	}
	first, _, _ := strings.Cut(filter, "/")
	return len(c.b.maps.For(own, c.device).Topics()) > 0 && first != "ember" && first != "#" && first != "+"
}

// pace waits where the device sends more than it may.
func (c *conn) pace() {
	if wait := c.b.hub.Pace(c.device); wait > 0 {
		select {
		case <-time.After(min(wait, 10*time.Second)):
		case <-c.done:
		}
	}
}

func (c *conn) unsubscribe(pk packets.Packet) {
	ack := packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Unsuback}, PacketID: pk.PacketID}
	for _, f := range pk.Filters {
		code := codeSuccess
		if !c.sess.unsubscribe(f.Filter) {
			code = 0x11 // no subscription existed
		}
		ack.ReasonCodes = append(ack.ReasonCodes, code)
	}
	c.send(ack)
}

func short(s string) string {
	if len(s) > 80 {
		return s[:80] + "…"
	}
	return s
}
