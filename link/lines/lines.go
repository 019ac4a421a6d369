// Package lines is the link over text lines: a serial port, or TCP to a board or a serial server. Each line that comes
// is taken apart by the patterns of the device's signals; each want is a line that goes out.
package lines

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"strings"
	"time"

	"go.bug.st/serial"

	"idleember/core/mapping"
	"idleember/core/reading"
	"idleember/core/site"
	"idleember/hub"
	"idleember/link"
)

const (
	maxLine  = 1024
	dialWait = 5 * time.Second
	sendWait = 5 * time.Second
	name     = "lines"
)

// Run holds a line to every device with this link until the context ends.
func Run(ctx context.Context, h *hub.Hub, _ *slog.Logger) {
	link.Each(ctx, h, site.Lines, func(ctx context.Context, dev site.Device) {
		w := &worker{hub: h, dev: dev, m: mapping.For(h.Site(), dev.ID)}
		w.session = hub.Session{Device: dev.ID, ID: name + "-" + dev.ID, Link: name, Client: name, From: dev.Link.Address,
			Expires: w.periodic()}
		w.run(ctx)
	})
}

type worker struct {
	hub     *hub.Hub
	dev     site.Device
	m       *mapping.Map
	session hub.Session
}

// periodic reports whether the device reports by itself now and then, so that its silence means something.
func (w *worker) periodic() bool {
	signals, _ := w.hub.Site().Of(w.dev.ID)
	for _, id := range signals {
		if w.hub.Site().Signals[id].Reports == site.Periodic {
			return true
		}
	}
	return false
}

func (w *worker) run(ctx context.Context) {
	wait := link.Backoff{First: time.Second, Most: 30 * time.Second}
	told := ""
	for ctx.Err() == nil {
		conn, err := w.open(ctx)
		if err != nil {
			why := plain(w.dev.Link, err)
			if why != told { // the same trouble is told once
				told = why
				w.hub.Failed(w.dev.ID, name, w.dev.Link.Address, why)
			}
			link.Sleep(ctx, wait.Failed())
			continue
		}
		told = ""
		wait.Worked()
		why := w.talk(ctx, conn)
		w.hub.Offline(w.session, why, false)
		link.Sleep(ctx, wait.Failed())
	}
}

func (w *worker) open(ctx context.Context) (io.ReadWriteCloser, error) {
	l := w.dev.Link
	if l.Serial() {
		baud := l.Baud
		if baud == 0 {
			baud = site.DefaultBaud
		}
		return serial.Open(l.Address, &serial.Mode{BaudRate: baud})
	}
	return (&net.Dialer{Timeout: dialWait, KeepAlive: 15 * time.Second}).DialContext(ctx, "tcp", l.Address)
}

// plain says in words why a line cannot be opened.
func plain(l site.Link, err error) string {
	var port *serial.PortError
	switch {
	case errors.As(err, &port) && port.Code() == serial.PermissionDenied:
		return fmt.Sprintf("the port %s may not be opened by the account that runs the hub; add it to the group dialout",
			l.Address)
	case errors.As(err, &port) && port.Code() == serial.PortBusy:
		return fmt.Sprintf("the port %s is used by another program", l.Address)
	case errors.As(err, &port) && port.Code() == serial.PortNotFound, errors.Is(err, fs.ErrNotExist):
		return fmt.Sprintf("there is no port %s; is the cable plugged in?", l.Address)
	case l.Serial():
		return fmt.Sprintf("the port %s cannot be opened: %s", l.Address, err)
	}
	return fmt.Sprintf("no connection to %s: %s", l.Address, link.Reason(err))
}

// talk carries lines both ways until the connection or the context ends, and says why it ended.
func (w *worker) talk(ctx context.Context, conn io.ReadWriteCloser) string {
	inner, stop := context.WithCancel(ctx)
	defer stop()
	box, err := w.hub.Attach(inner, w.dev.ID)
	if err != nil {
		_ = conn.Close()
		return err.Error()
	}
	defer w.hub.Detach(box)
	if !w.session.Expires {
		w.hub.Online(w.session)
	}
	failed := make(chan error, 2)
	go func() { failed <- w.read(conn) }()
	go func() { failed <- w.write(inner, conn, box) }()
	var ended error
	select {
	case ended = <-failed:
	case <-ctx.Done():
		ended = ctx.Err()
	}
	stop()
	_ = conn.Close()
	<-failed // the other one
	switch {
	case ctx.Err() != nil:
		return "the hub let go of the line"
	case errors.Is(ended, errMany):
		return ended.Error()
	}
	return "the line was cut"
}

var errMany = errors.New("a line is longer than 1024 bytes; are speed and line ends right?")

func (w *worker) read(conn io.Reader) error {
	sc := bufio.NewScanner(conn)
	sc.Buffer(make([]byte, 0, maxLine), maxLine)
	sc.Split(splitLines)
	for sc.Scan() {
		line := bytes.TrimSpace(sc.Bytes())
		if len(line) == 0 {
			continue
		}
		if wait := w.hub.Pace(w.dev.ID); wait > 0 {
			time.Sleep(min(wait, time.Second))
		}
		w.take(append([]byte(nil), line...))
	}
	if errors.Is(sc.Err(), bufio.ErrTooLong) {
		w.hub.Deliver(hub.Arrival{Session: w.session, Topic: "line", Faults: []string{errMany.Error()}})
		return errMany
	}
	if sc.Err() == nil {
		return io.EOF
	}
	return sc.Err()
}

// splitLines ends a line at a carriage return or a line feed, as boards do either.
func splitLines(data []byte, atEOF bool) (int, []byte, error) {
	if i := bytes.IndexAny(data, "\r\n"); i >= 0 {
		return i + 1, data[:i], nil
	}
	if atEOF && len(data) > 0 {
		return len(data), data, nil
	}
	return 0, nil, nil
}

func (w *worker) take(line []byte) {
	d := hub.Arrival{Session: w.session, Topic: "line", Payload: line}
	mapped := w.m.Take("", line)
	switch {
	case mapped.Matched && !mapped.Silent:
		d.Mapped(mapped)
	case bytes.ContainsRune(line, '='):
		_, named, faults, err := reading.Line(line)
		if err != nil || len(named) == 0 {
			w.hub.Noted(w.dev.ID, name, "line", line, "no pattern matches")
			return
		}
		d.Values(named, faults)
	default:
		w.hub.Noted(w.dev.ID, name, "line", line, "no pattern matches")
		return
	}
	w.hub.Deliver(d)
}

func (w *worker) write(ctx context.Context, conn io.Writer, box *hub.Mailbox) error {
	for {
		select {
		case <-box.Ready():
		case <-ctx.Done():
			return ctx.Err()
		}
		post := box.Take()
		controls := w.hub.Site().Controls
		for _, x := range post.Wants {
			c := controls[x.Control]
			text := string(mapping.Payload(c, x.Value, w.hub.Time()))
			if !c.Target.Set() {
				text = x.Raw + "=" + text
			}
			if err := w.send(conn, text); err != nil {
				return err
			}
		}
		for _, x := range post.Mirrors {
			if err := w.send(conn, link.Copy(x)); err != nil {
				return err
			}
		}
		if post.Beat > 0 {
			if err := w.send(conn, fmt.Sprintf("lease=%g", post.Beat.Seconds())); err != nil {
				return err
			}
		}
	}
}

func (w *worker) send(conn io.Writer, text string) error {
	if c, ok := conn.(net.Conn); ok {
		_ = c.SetWriteDeadline(time.Now().Add(sendWait))
	}
	if _, err := io.WriteString(conn, strings.TrimRight(text, "\r\n")+"\n"); err != nil {
		w.hub.Failed(w.dev.ID, name, "line", "not sent: "+link.Reason(err))
		return err
	}
	w.hub.Sent(w.dev.ID, name, "line", []byte(text), "sent")
	return nil
}
