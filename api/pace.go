package api

import (
	"net/http"
	"time"

	"idleember/link/door"
)

// What a reader must take: a piece of an answer within a time, or it is let go, whatever it still was to get.
const (
	piece     = 16 << 10
	pieceWait = 20 * time.Second
)

// paced is an answer whose reader has to go on reading. Nothing else bounds how long one may take, as a backup does.
// While it waits for its reader it may have to make room for others.
type paced struct {
	http.ResponseWriter
	control *http.ResponseController
	at      *door.Conn
}

func pace(w http.ResponseWriter, at *door.Conn) *paced {
	return &paced{w, http.NewResponseController(w), at}
}

// Unwrap lets http.ResponseController find what is within.
func (p *paced) Unwrap() http.ResponseWriter { return p.ResponseWriter }

// Write implements io.Writer.
func (p *paced) Write(b []byte) (n int, err error) {
	p.at.Waits()
	defer p.at.Busy()
	for err == nil {
		part := b[:min(len(b), piece)]
		p.wait(pieceWait)
		var m int
		m, err = p.ResponseWriter.Write(part)
		if n, b = n+m, b[len(part):]; len(b) == 0 {
			break
		}
	}
	p.wait(0) // until the next part is there it has all the time
	return n, err
}

// Flush implements http.Flusher.
func (p *paced) Flush() {
	p.at.Waits()
	p.wait(pieceWait)
	_ = p.control.Flush()
	p.wait(0)
	p.at.Busy()
}

// end leaves a time for what is still to go out.
func (p *paced) end() { p.wait(pieceWait) }

func (p *paced) wait(d time.Duration) {
	at := time.Time{}
	if d > 0 {
		at = time.Now().Add(d)
	}
	_ = p.control.SetWriteDeadline(at)
}
