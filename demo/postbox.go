package demo

import (
	"bytes"
	"context"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"html/template"
	"io"
	"net"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-message/mail"
	"github.com/emersion/go-smtp"

	_ "github.com/emersion/go-message/charset" // mail in any of them

	"idleember/core/access"
	"idleember/core/site"
	"idleember/hub"
)

// postbox stands in for a mail server and for what takes webhooks. What it took can be read at /demo/outbox.
type postbox struct {
	mu    sync.Mutex
	taken []message // the newest first
	count int

	mails *smtp.Server
	hooks *http.Server
	done  sync.WaitGroup
	// Where they listen.
	mailAddr, hookURL string
}

type message struct {
	N        int
	At       time.Time
	By, To   string
	Subject  string
	Text     string
	Note     string // what a receiver would look at besides
	Link     string
	Pictures []picture
}

type picture struct {
	Name string
	kind string
	body []byte
}

const (
	keptMessages = 60
	largestMail  = 8 << 20
	outboxPath   = "/demo/outbox"
)

func newPostbox() (*postbox, error) {
	p := &postbox{}
	at := [2]net.Listener{}
	for i := range at {
		var err error
		if at[i], err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
			return nil, err
		}
	}
	p.mails = smtp.NewServer(p)
	p.mails.Domain, p.mails.MaxMessageBytes, p.mails.ReadTimeout, p.mails.WriteTimeout = "studio.example", largestMail,
		time.Minute, time.Minute
	p.hooks = &http.Server{Handler: http.HandlerFunc(p.takeHook), ReadHeaderTimeout: 5 * time.Second}
	p.mailAddr, p.hookURL = at[0].Addr().String(), "http://"+at[1].Addr().String()+"/studio"
	p.done.Add(2)
	go func() { defer p.done.Done(); _ = p.mails.Serve(at[0]) }() // ends with close
	go func() { defer p.done.Done(); _ = p.hooks.Serve(at[1]) }()
	return p, nil
}

func (p *postbox) close() {
	_, _ = p.mails.Close(), p.hooks.Close()
	p.done.Wait()
}

func (p *postbox) keep(m message) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.count++
	m.N, m.At = p.count, time.Now()
	p.taken = append([]message{m}, p.taken[:min(len(p.taken), keptMessages-1)]...)
}

// NewSession implements smtp.Backend.
func (p *postbox) NewSession(*smtp.Conn) (smtp.Session, error) { return &envelope{box: p}, nil }

// envelope is a mail that is being taken.
type envelope struct {
	box *postbox
	to  []string
}

// Mail implements smtp.Session.
func (e *envelope) Mail(string, *smtp.MailOptions) error { return nil }

// Rcpt implements smtp.Session.
func (e *envelope) Rcpt(to string, _ *smtp.RcptOptions) error {
	e.to = append(e.to, to)
	return nil
}

// Reset implements smtp.Session.
func (e *envelope) Reset() { e.to = nil }

// Logout implements smtp.Session.
func (e *envelope) Logout() error { return nil }

// Data implements smtp.Session.
func (e *envelope) Data(r io.Reader) error {
	m, err := readMail(r)
	if err != nil {
		return &smtp.SMTPError{Code: 554, Message: "this is no mail: " + err.Error()}
	}
	m.To = strings.Join(e.to, ", ")
	e.box.keep(m)
	return nil
}

func readMail(r io.Reader) (m message, err error) {
	parts, err := mail.CreateReader(r)
	if err != nil {
		return m, err
	}
	m.By = "mail"
	if m.Subject, err = parts.Header.Subject(); err != nil {
		return m, err
	}
	m.Note = "Message-Id " + parts.Header.Get("Message-Id")
	for {
		part, err := parts.NextPart()
		if errors.Is(err, io.EOF) {
			return m, nil
		}
		if err != nil {
			return m, err
		}
		body, err := io.ReadAll(part.Body)
		if err != nil {
			return m, err
		}
		kind, params, _ := strings.Cut(part.Header.Get("Content-Type"), ";")
		switch {
		case kind == "text/plain":
			m.Text = strings.ReplaceAll(string(body), "\r\n", "\n")
		case strings.HasPrefix(kind, "image/"):
			name := kind
			if _, n, ok := strings.Cut(params, "name="); ok {
				name = strings.Trim(n, `"`)
			}
			m.Pictures = append(m.Pictures, picture{name, kind, body})
		}
	}
}

func (p *postbox) takeHook(w http.ResponseWriter, r *http.Request) {
	body, err := io.ReadAll(io.LimitReader(r.Body, 1<<20))
	if err != nil {
		http.Error(w, "the body broke off", http.StatusBadRequest)
		return
	}
	m := message{By: "webhook", To: r.URL.Path, Subject: r.Header.Get("Content-Type"), Note: "Signature-Input " +
		r.Header.Get("Signature-Input"), Text: string(body)}
	var event struct {
		Type string `json:"type"`
		Data struct {
			Name string `json:"name"`
			Link string `json:"link"`
		} `json:"data"`
	}
	var tidy bytes.Buffer
	if json.Unmarshal(body, &event) == nil && json.Indent(&tidy, body, "", "  ") == nil {
		m.Subject, m.Text, m.Link = event.Type+": "+event.Data.Name, tidy.String(), event.Data.Link
	}
	p.keep(m)
	_, _ = fmt.Fprintln(w, "thank you")
}

//go:embed outbox.html outbox.css
var outboxFiles embed.FS

var outboxPage = template.Must(template.New("outbox.html").Funcs(template.FuncMap{
	"clock": func(t time.Time) string { return t.Format("15:04:05") },
	"link": func(text string) string {
		for _, w := range strings.Fields(text) {
			if strings.HasPrefix(w, "http://") || strings.HasPrefix(w, "https://") {
				return w
			}
		}
		return ""
	},
}).ParseFS(outboxFiles, "outbox.html"))

// ServeHTTP shows what was taken.
func (p *postbox) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	p.mu.Lock()
	taken := slices.Clone(p.taken)
	p.mu.Unlock()
	rest := strings.Trim(strings.TrimPrefix(r.URL.Path, outboxPath), "/")
	switch n, k, _ := strings.Cut(rest, "/"); {
	case rest == "":
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		w.Header().Set("Cache-Control", "no-store")
		if err := outboxPage.Execute(w, taken); err != nil {
			return // whoever asked is gone
		}
	case rest == "outbox.css":
		http.ServeFileFS(w, r, outboxFiles, "outbox.css")
	default:
		for _, m := range taken {
			i, err := strconv.Atoi(k)
			if strconv.Itoa(m.N) == n && err == nil && i >= 0 && i < len(m.Pictures) {
				w.Header().Set("Content-Type", m.Pictures[i].kind)
				_, _ = w.Write(m.Pictures[i].body)
				return
			}
		}
		http.NotFound(w, r)
	}
}

// introduce tells the hub where its messages go; the ports are others at every start. What an owner changed stays.
func (p *postbox) introduce(ctx context.Context, h *hub.Hub, console string) error {
	me := access.HubActor()
	me.Name = "the demo"
	host, port, err := net.SplitHostPort(p.mailAddr)
	if err != nil {
		return err
	}
	if m := h.Site().Messaging; m.Mail.Host == "" || m.Mail.Host == host {
		m.Mail = site.Mail{Host: host, Security: "none", From: "hub@studio.example"}
		if m.Mail.Port, err = strconv.Atoi(port); err != nil {
			return err
		}
		if m.Address == "" || strings.HasPrefix(m.Address, "http://127.0.0.1:") {
			m.Address = "http://" + console
		}
		if m.Digest.Every == "" {
			m.Digest = site.Digest{Every: "day", At: "07:00", To: "mo@studio.example"}
		}
		if m.Say == nil {
			m.Say = map[string]string{"kiln": "The kiln is at {kiln.chamber}, the vent fan {kiln.vent}; {alerts}."}
		}
		if _, err := h.Keep(ctx, me, m); err != nil {
			return fmt.Errorf("the demo's mail server: %w", err)
		}
	}
	for _, r := range []site.Route{
		{ID: "mo_by_mail", Name: "Mo by mail", Person: "mo", Via: site.ByMail, To: "mo@studio.example", Least: site.Info,
			Ends: true, RemindMS: 30 * minute},
		{ID: "studio_hook", Name: "The studio's chat", Via: site.ByWebhook, To: p.hookURL, Inside: true, Least: site.Warning,
			Ends: true},
	} {
		if have, ok := h.Site().Routes[r.ID]; ok && have.Via == site.ByMail || ok && !strings.HasPrefix(have.To,
			"http://127.0.0.1:") {
			continue
		}
		if _, err := h.Keep(ctx, me, r); err != nil {
			return fmt.Errorf("the demo's route %s: %w", r.ID, err)
		}
	}
	return nil
}
