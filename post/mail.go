package post

import (
	"bytes"
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"html/template"
	"net/textproto"
	"strings"
	"time"

	"github.com/wneessen/go-mail"

	"idleember/archive"
	"idleember/core/access"
	"idleember/core/site"
	"idleember/hub"
)

type mailer struct{ post *Post }

var page = template.Must(template.New("mail").Parse(`<!doctype html><html lang="en"><body style="margin:0;background:#f6f4f0;color:#22211f;font:15px/1.5 sans-serif">
<div style="max-width:560px;margin:0 auto;padding:20px"><h1 style="font-size:19px;margin:0 0 12px">{{.Subject}}</h1>
{{range .Lines}}<p style="margin:0 0 8px">{{.}}</p>{{end}}{{if .Chart}}<img src="cid:chart.png" alt="the last hours" width="520" style="max-width:100%;display:block;margin:12px 0">{{end}}
{{range .Others}}<h2 style="font-size:15px;margin:16px 0 4px">{{.Subject}}</h2>{{range .Lines}}<p style="margin:0 0 4px">{{.}}</p>{{end}}{{end}}
{{if .Link}}<p style="margin:16px 0 0"><a href="{{.Link}}" style="color:#c2480f">Open it in the console</a></p>{{end}}
<p style="color:#6a665f;font-size:13px;margin:20px 0 0">{{.Hub}}</p></div></body></html>`))

// domain is that of a sender's address: what makes ids stays with who sends, whichever server carries it (RFC 5322,
// section 3.6.4).
func domain(from string) string {
	_, at, _ := strings.Cut(strings.TrimSuffix(from, ">"), "@")
	return cmp.Or(at, "idleember.invalid")
}

type part struct {
	Subject string
	Lines   []string
}

func (m mailer) send(ctx context.Context, r site.Route, n hub.Notice) (string, error) {
	cfg := m.post.house.Site().Messaging.Mail
	if cfg.Host == "" {
		return "", errors.New("no mail server is set; set one under Alerts, Routes")
	}
	msg := mail.NewMsg()
	if err := errors.Join(msg.From(cfg.From), msg.To(r.To)); err != nil {
		return "", &NeverError{Answer: "an address cannot be used: " + err.Error()}
	}
	msg.Subject(subject(n))
	msg.SetUserAgent("idleember")
	msg.SetMessageIDWithValue(n.ID + "@" + domain(cfg.From))
	msg.SetDateWithValue(n.At)
	if urgent(n) {
		msg.SetImportance(mail.ImportanceHigh)
	}
	view := struct {
		part
		Others []part
		Chart  bool
		Link   string
		Hub    string
	}{part: part{subject(n), lines(n)}, Link: n.Link, Hub: n.Hub}
	text := strings.Join(view.Lines, "\r\n")
	for _, o := range n.Others {
		view.Others = append(view.Others, part{subject(o), lines(o)})
	}
	view.Others = append(view.Others, sections(n)...)
	for _, o := range view.Others {
		text += "\r\n\r\n" + o.Subject + "\r\n" + strings.Join(o.Lines, "\r\n")
	}
	if n.Link != "" {
		text += "\r\n\r\n" + n.Link
	}
	if png := m.chart(ctx, n); png != nil {
		if err := msg.EmbedReader("chart.png", bytes.NewReader(png)); err == nil {
			view.Chart = true
		}
	}
	if n.Still > 0 {
		if picture, s, err := m.post.pictures.StillBody(ctx, access.HubActor(), n.Still); err == nil {
			name := s.Device + " " + s.At.In(m.post.house.Site().Hub.Location()).Format("2006-01-02 15.04.05") + ".jpg"
			if err := msg.AttachReader(name, bytes.NewReader(picture), mail.WithFileContentType("image/jpeg")); err != nil {
				return "", fmt.Errorf("the picture cannot be attached: %w", err)
			}
		}
	}
	var html bytes.Buffer
	if err := page.Execute(&html, view); err != nil {
		return "", fmt.Errorf("the mail cannot be written: %w", err)
	}
	msg.SetBodyString(mail.TypeTextPlain, text)
	msg.AddAlternativeString(mail.TypeTextHTML, html.String())

	word := m.post.house.Secret(site.Key{Kind: "messaging"}, site.Password)
	options := []mail.Option{mail.WithPort(cfg.Port), mail.WithTimeout(20 * time.Second), mail.WithoutNoop()}
	if cfg.CA != "" {
		pool := x509.NewCertPool()
		if !pool.AppendCertsFromPEM([]byte(cfg.CA)) {
			return "", errors.New("the certificate entered for the mail server is no PEM certificate")
		}
		options = append(options, mail.WithTLSConfig(&tls.Config{RootCAs: pool, ServerName: cfg.Host,
			MinVersion: tls.VersionTLS12}))
	}
	switch cfg.Security {
	case "tls":
		options = append(options, mail.WithSSL())
	case "starttls":
		options = append(options, mail.WithTLSPolicy(mail.TLSMandatory))
	default:
		options = append(options, mail.WithTLSPolicy(mail.NoTLS))
	}
	if cfg.Account != "" {
		options = append(options, mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover), mail.WithUsername(cfg.Account),
			mail.WithPassword(word))
	}
	c, err := mail.NewClient(cfg.Host, options...)
	if err != nil {
		return "", fmt.Errorf("the mail server %s cannot be used: %w", cfg.Host, err)
	}
	if err := c.DialAndSendWithContext(ctx, msg); err != nil {
		return "", refusal(err)
	}
	return "taken by " + cfg.Host, nil
}

// sections are those of a digest.
func sections(n hub.Notice) (parts []part) {
	if n.Digest == nil {
		return nil
	}
	for _, s := range n.Digest.Sections {
		p := part{Subject: s.Title}
		for _, l := range s.Lines {
			p.Lines = append(p.Lines, l.Text)
		}
		parts = append(parts, p)
	}
	if len(parts) == 0 {
		return []part{{Subject: "Nothing happened that needs a word."}}
	}
	return parts
}

// refusal tells what can never be delivered from what may be later (RFC 5321, section 4.2.1).
func refusal(err error) error {
	var code *textproto.Error
	// a wrong password is mended one day
	if errors.As(err, &code) && code.Code >= 500 && code.Code != 530 && code.Code != 535 {
		return &NeverError{Answer: fmt.Sprintf("%d %s", code.Code, code.Msg)}
	}
	var sent *mail.SendError
	if errors.As(err, &sent) && !sent.IsTemp() && sent.ErrorCode() >= 500 {
		return &NeverError{Answer: oneLine(sent.Error())}
	}
	return errors.New(oneLine(err.Error()))
}

// chart draws the last hours of what a notice is about; nil where there is nothing to draw.
func (m mailer) chart(ctx context.Context, n hub.Notice) []byte {
	if n.Series == "" {
		return nil
	}
	to := time.Now()
	x, err := m.post.past.History(ctx, access.HubActor(), archive.Range{Series: n.Series, From: to.Add(-6 * time.Hour),
		To: to, Points: 300})
	if err != nil {
		return nil
	}
	return draw(x, m.post.house.Site().Hub.Location())
}
