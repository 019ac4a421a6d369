package modbus

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math"
	"net"
	"slices"
	"strconv"
	"time"

	"idleember/core/mailbox"
	"idleember/core/mapping"
	"idleember/core/reading"
	"idleember/core/site"
	"idleember/hub"
	"idleember/link"
)

const (
	name       = "modbus"
	dialWait   = 3 * time.Second
	answerWait = 2 * time.Second
	patience   = 3 // timeouts after which the connection is begun anew
)

// Run asks and tells every device with this link until the context ends.
func Run(ctx context.Context, h *hub.Hub, _ *slog.Logger) {
	link.Each(ctx, h, site.Modbus, func(ctx context.Context, dev site.Device) {
		w := &worker{hub: h, dev: dev,
			session: hub.Session{Device: dev.ID, ID: name + "-" + dev.ID, Link: name, Client: fmt.Sprintf("unit %d",
				dev.Link.Unit), From: dev.Link.Address}}
		w.plan = plan(h.Site(), dev.ID)
		w.run(ctx)
	})
}

// point is one register that is read, and what it is of.
type point struct {
	site.Register
	raw     string
	control bool
	kind    site.ControlKind
	source  site.Source
}

// block is neighbouring registers of one table, read with one request.
type block struct {
	table   site.Table
	address int
	n       int
	points  []point
}

// plan gathers the registers of a device into as few requests as may be. Only neighbours are read together: what lies
// between two registers may not exist.
func plan(s *site.Site, device string) []block {
	var points []point
	signals, controls := s.Of(device)
	for _, id := range signals {
		if g := s.Signals[id]; g.Source.Register != nil {
			points = append(points, point{*g.Source.Register, g.Raw, false, "", g.Source})
		}
	}
	for _, id := range controls {
		if c := s.Controls[id]; c.Source.Register != nil {
			points = append(points, point{*c.Source.Register, c.Raw, true, c.What(), c.Source})
		}
	}
	return blocks(points)
}

func blocks(points []point) (out []block) {
	slices.SortStableFunc(points, func(a, b point) int {
		return cmp.Or(cmp.Compare(a.Table, b.Table), cmp.Compare(a.Address, b.Address))
	})
	for _, p := range points {
		most := mostWords
		if p.Bit() {
			most = mostBits
		}
		end := p.Address + p.Words()
		if n := len(out); n > 0 {
			b := &out[n-1]
			if b.table == p.Table && p.Address <= b.address+b.n && max(end, b.address+b.n)-b.address <= most {
				b.n = max(b.n, end-b.address)
				b.points = append(b.points, p)
				continue
			}
		}
		out = append(out, block{p.Table, p.Address, p.Words(), []point{p}})
	}
	return out
}

type worker struct {
	hub     *hub.Hub
	dev     site.Device
	session hub.Session
	plan    []block
	conn    net.Conn
	next    uint16
	missed  int
	online  bool
	told    map[string]string // troubles, each told once until what failed works again
	apart   bool              // the device refuses to write several at once
}

func (w *worker) run(ctx context.Context) {
	box, err := w.hub.Attach(ctx, w.dev.ID)
	if err != nil {
		return
	}
	defer w.hub.Detach(box)
	defer func() {
		w.drop("the hub no longer asks")
	}()
	wait := link.Backoff{First: time.Second, Most: time.Minute}
	every := w.dev.Link.Interval()
	next := time.NewTimer(0)
	defer next.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-next.C:
			if err := w.connect(ctx); err != nil {
				w.trouble("connect", fmt.Sprintf("no connection to %s: %s", w.dev.Link.Address, link.Reason(err)))
				next.Reset(wait.Failed())
				continue
			}
			if w.poll() {
				wait.Worked()
				next.Reset(every)
			} else {
				next.Reset(wait.Failed())
			}
		case <-box.Ready():
			if w.conn == nil && w.connect(ctx) != nil {
				box.Again() // it is told when the connection is back
				if !link.Sleep(ctx, time.Second) {
					return
				}
				continue
			}
			w.tell(box.Take())
		}
	}
}

func (w *worker) connect(ctx context.Context) error {
	if w.conn != nil {
		return nil
	}
	conn, err := (&net.Dialer{Timeout: dialWait}).DialContext(ctx, "tcp", w.dev.Link.Address)
	if err == nil {
		w.conn, w.missed = conn, 0
	}
	return err
}

// drop ends the connection.
func (w *worker) drop(why string) {
	if w.conn != nil {
		_ = w.conn.Close()
		w.conn = nil
	}
	if w.online {
		w.online = false
		w.hub.Offline(w.session, why, false)
	}
}

// trouble tells a failure once.
func (w *worker) trouble(what, why string) {
	if w.told[what] == why {
		return
	}
	if w.told == nil {
		w.told = map[string]string{}
	}
	w.told[what] = why
	w.hub.Failed(w.dev.ID, name, what, why)
}

// transact sends a request and waits for its answer. An answer to an earlier request, which came too late, is passed
// over.
func (w *worker) transact(request []byte) ([]byte, error) {
	if w.conn == nil {
		return nil, net.ErrClosed
	}
	w.next++
	_ = w.conn.SetDeadline(time.Now().Add(answerWait))
	err := writeFrame(w.conn, w.next, byte(w.dev.Link.Unit), request)
	for err == nil {
		var transaction uint16
		var pdu []byte
		transaction, _, pdu, err = readFrame(w.conn)
		if err == nil && transaction == w.next {
			w.missed = 0
			return pdu, nil
		}
	}
	var timeout net.Error
	if errors.As(err, &timeout) && timeout.Timeout() {
		w.missed++
		err = fmt.Errorf("unit %d did not answer within %s", w.dev.Link.Unit, answerWait)
		if w.missed >= patience {
			w.drop(err.Error())
		}
		return nil, err
	}
	err = fmt.Errorf("the connection to %s broke off: %s", w.dev.Link.Address, link.Reason(err))
	w.drop(err.Error())
	return nil, err
}

// poll reads all registers and reports whether the device answered.
func (w *worker) poll() bool {
	if len(w.plan) == 0 {
		w.trouble("read", "no signal or control of this device has a register; add one on its page")
		return true
	}
	answered := false
	for i := 0; i < len(w.plan); i++ {
		b := w.plan[i]
		ok, err := w.read(b)
		answered = answered || ok
		if errors.Is(err, IllegalAddress) && len(b.points) > 1 { // one of them does not exist: the others must not suffer
			var single []block
			for _, p := range b.points {
				single = append(single, block{p.Table, p.Address, p.Words(), []point{p}})
			}
			w.plan = slices.Replace(w.plan, i, i+1, single...)
			i--
		}
		if w.conn == nil {
			return false
		}
	}
	return answered
}

func (b block) String() string {
	if b.n == 1 {
		return fmt.Sprintf("read %s %d", b.table, b.address)
	}
	return fmt.Sprintf("read %s %d to %d", b.table, b.address, b.address+b.n-1)
}

// read reads a block and delivers what is in it; ok says that the device answered at all.
func (w *worker) read(b block) (ok bool, err error) {
	request := readRequest(b.table, b.address, b.n)
	pdu, err := w.transact(request)
	if err != nil {
		w.trouble(b.String(), err.Error())
		return false, err
	}
	words, err := readAnswer(request, pdu)
	if err != nil {
		if !errors.Is(err, IllegalAddress) || len(b.points) == 1 { // else it turns out which one it is
			w.trouble(b.String(), err.Error())
		}
		return true, err
	}
	delete(w.told, b.String())
	if !w.online {
		w.online = true
		w.hub.Online(w.session)
	}
	d := hub.Arrival{Session: w.session, Topic: b.String(), Payload: []byte(fmt.Sprint(words))}
	for _, p := range b.points {
		at := p.Address - b.address
		w.value(&d, p, decode(p.Register, words[at:at+p.Words()]))
	}
	w.hub.Deliver(d)
	return true, nil
}

func (w *worker) value(d *hub.Arrival, p point, v float64) {
	n := reading.Named{Name: p.raw, Value: reading.Number(v), Decimals: decimals(p.Scale)}
	if p.control && (math.IsNaN(v) || math.IsInf(v, 0)) {
		w.trouble(fmt.Sprintf("%s %d", p.Table, p.Address), fmt.Sprintf("%v says nothing of %s", v, p.raw))
		return
	}
	if p.Bit() {
		n.Value = reading.OnOff(v != 0)
	}
	text := strconv.FormatFloat(v, 'f', -1, 64)
	if on, off := p.source.On, p.source.Off; len(on)+len(off) > 0 {
		n.Value = reading.OnOff(slices.Contains(on, text) || len(on) == 0 && !slices.Contains(off, text))
	}
	if !p.control {
		d.Readings = append(d.Readings, n)
		return
	}
	d.Reports = append(d.Reports, hub.Report{Name: p.raw, Value: p.report(n.Value)})
}

// report is what a register says of a control: of a switch any number but 0 is on.
func (p point) report(v reading.Value) reading.Value {
	if p.kind == site.Switch {
		return reading.OnOff(v.Num != 0)
	}
	return v
}

func decimals(scale float64) int {
	n := 0
	for s := scale; s > 0 && s < 0.999 && n < 6; s *= 10 {
		n++
	}
	return n
}

// tell writes what the hub wants and reads it back.
func (w *worker) tell(post mailbox.Post) {
	var writes []write
	controls := w.hub.Site().Controls
	for _, x := range post.Wants {
		c := controls[x.Control]
		if c.Target.Register == nil {
			w.hub.Failed(w.dev.ID, name, x.Control, "the control has no register to write to; enter it on the device's page")
			continue
		}
		words, err := wordsFor(c, x.Value)
		if err != nil {
			w.hub.Failed(w.dev.ID, name, x.Control, err.Error())
			continue
		}
		writes = append(writes, write{table: c.Target.Register.Table, address: c.Target.Register.Address, words: words})
	}
	if r := w.dev.Link.Watchdog; r != nil && post.Beat > 0 {
		if words, err := encode(*r, post.Beat.Seconds()); err == nil {
			writes = append(writes, write{table: r.Table, address: r.Address, words: words})
		}
	}
	for _, x := range joined(writes) {
		if w.apart && len(x.parts) > 1 {
			w.writeApart(x)
			continue
		}
		err := w.write(x)
		var refused Exception
		if errors.As(err, &refused) && len(x.parts) > 1 { // it writes one at a time alone, or one of them cannot be written
			w.writeApart(x)
		} else if err != nil {
			w.hub.Failed(w.dev.ID, name, x.String(), err.Error())
		}
	}
	if len(post.Wants) > 0 {
		w.readBack(post.Wants)
	}
}

func (w *worker) write(x write) error {
	request := writeRequest(x.table, x.address, x.words)
	pdu, err := w.transact(request)
	if err == nil {
		err = checkAnswer(request, pdu)
	}
	if err == nil {
		w.hub.Sent(w.dev.ID, name, x.String(), []byte(fmt.Sprint(x.words)), "written")
	}
	return err
}

// writeApart writes one by one what is refused together.
func (w *worker) writeApart(x write) {
	w.apart = true
	for _, one := range x.parts {
		if err := w.write(one); err != nil {
			w.apart = false // then it was not for being together
			w.hub.Failed(w.dev.ID, name, one.String(), err.Error())
		}
	}
}

func (w *worker) readBack(wants []mailbox.Outgoing) {
	var points []point
	for _, b := range w.plan {
		for _, p := range b.points {
			if p.control && slices.ContainsFunc(wants, func(x mailbox.Outgoing) bool { return x.Raw == p.raw }) {
				points = append(points, p)
			}
		}
	}
	for _, b := range blocks(points) {
		if w.conn != nil {
			_, _ = w.read(b)
		}
	}
}

// wordsFor are the words of a want: 1 and 0 for a switch, the level, the place of a choice, or the numbers that the
// owner chose.
func wordsFor(c site.Control, a site.Amount) ([]uint16, error) {
	v := float64(a)
	if word := mapping.Word(c, a); c.What() == site.Level || word != c.Say(a) {
		n, err := strconv.ParseFloat(word, 64)
		if err != nil {
			return nil, fmt.Errorf("%q is no number to write into a register", word)
		}
		v = n
	}
	return encode(*c.Target.Register, v)
}

type write struct {
	table   site.Table
	address int
	words   []uint16
	parts   []write // those that were put into it
}

func (x write) String() string { return fmt.Sprintf("write %s %d", x.table, x.address) }

// joined puts writes to neighbouring registers into one.
func joined(list []write) (out []write) {
	slices.SortStableFunc(list, func(a, b write) int {
		return cmp.Or(cmp.Compare(a.table, b.table), cmp.Compare(a.address, b.address))
	})
	for _, x := range list {
		most := mostWordsWrite
		if x.table == site.Coil {
			most = mostBitsWrite
		}
		if n := len(out); n > 0 && out[n-1].table == x.table && out[n-1].address+len(out[n-1].words) == x.address &&
			len(out[n-1].words)+len(x.words) <= most {
			to := &out[n-1]
			to.words, to.parts = append(slices.Clone(to.words), x.words...), append(to.parts, x)
			continue
		}
		x.parts = []write{x}
		out = append(out, x)
	}
	return out
}
