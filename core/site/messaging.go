package site

import (
	"crypto/x509"
	"fmt"
	"slices"
	"strings"
	"time"
)

// Messaging says how messages leave the hub. Passwords and keys are kept elsewhere.
type Messaging struct {
	Address string `json:"address,omitempty"` // of the console, as people reach it, for links: http://studio.local:8480
	Mail    Mail   `json:"mail,omitzero"`
	Push    bool   `json:"push,omitempty"` // to installed consoles; that needs the internet
	Alive   Alive  `json:"alive,omitzero"`
	Digest  Digest `json:"digest,omitzero"`
	// Say holds wordings of the owner's own for what is asked of a device, a place or a dashboard, by its id. {id} of a
	// signal or a control stands for what it is now, {alerts} for what needs somebody.
	Say map[string]string `json:"say,omitempty"`
}

// Mail is the server that takes the hub's mail.
type Mail struct {
	Host     string `json:"host,omitempty"`
	Port     int    `json:"port,omitempty"`
	Security string `json:"security,omitempty"` // starttls, tls, none
	Account  string `json:"account,omitempty"`  // empty: no sign-in
	From     string `json:"from,omitempty"`     // the sender's address
	// PEM certificate of the authority that the server's is signed by; empty: one of the public ones
	CA string `json:"ca,omitempty"`
}

// Alive is the hub's sign of life outward, so that its silence can be noticed elsewhere.
type Alive struct {
	Via     string `json:"via,omitempty"` // mail or webhook; empty: none
	To      string `json:"to,omitempty"`
	EveryMS int64  `json:"every_ms,omitempty"`
}

// Digest is what happened in a day or a week, by mail.
type Digest struct {
	Every string `json:"every,omitempty"` // day, week; empty: none
	At    string `json:"at,omitempty"`    // time of day; a week's comes on Monday
	To    string `json:"to,omitempty"`
}

// Validate says in a sentence what is wrong, or returns nil. Long, because it is one list of checks, each with its
// sentence.
func (m Messaging) Validate() error {
	address := func(s string) bool { return strings.Count(s, "@") == 1 && !strings.ContainsAny(s, " \r\n,;<>") }
	web := func(s string) bool {
		return (strings.HasPrefix(s, "http://") || strings.HasPrefix(s, "https://")) && !strings.ContainsAny(s, " \r\n\"<>")
	}
	switch {
	case m.Address != "" && !web(m.Address):
		return fmt.Errorf("the console's address %q begins with http:// or https://", m.Address)
	case m.Mail.Host != "" && (m.Mail.Port < 1 || m.Mail.Port > 65535):
		return fmt.Errorf("port %d is none; mail servers usually take mail at 587 (STARTTLS) or 465 (TLS)", m.Mail.Port)
	case m.Mail.Host != "" && !slices.Contains([]string{"starttls", "tls", "none"}, m.Mail.Security):
		return fmt.Errorf("the security %q is unknown; use starttls, tls or none", m.Mail.Security)
	case m.Mail.Host != "" && !address(m.Mail.From):
		return fmt.Errorf("%q is no sender's address", m.Mail.From)
	case m.Mail.CA != "" && !x509.NewCertPool().AppendCertsFromPEM([]byte(m.Mail.CA)):
		return fmt.Errorf("the certificate for the mail server is no PEM certificate; it begins with -----BEGIN " +
			"CERTIFICATE-----")
	case m.Mail.Host != "" && strings.ContainsAny(m.Mail.Host, " /:\r\n"):
		return fmt.Errorf("%q is no name of a mail server; the port stands apart", m.Mail.Host)
	}
	if a := m.Alive; a.Via != "" {
		switch {
		case a.Via != ByMail && a.Via != ByWebhook:
			return fmt.Errorf("the sign of life goes by mail or webhook, not by %q", a.Via)
		case a.Via == ByMail && !address(a.To), a.Via == ByWebhook && !web(a.To):
			return fmt.Errorf("%q is no place for the sign of life", a.To)
		case Millis(a.EveryMS) < time.Minute || Millis(a.EveryMS) > 7*24*time.Hour:
			return fmt.Errorf("the sign of life comes every %s; choose a minute to a week", Millis(a.EveryMS))
		}
	}
	if d := m.Digest; d.Every != "" {
		_, err := time.Parse("15:04", d.At)
		switch {
		case d.Every != "day" && d.Every != "week":
			return fmt.Errorf("the digest comes every day or every week, not every %q", d.Every)
		case err != nil:
			return fmt.Errorf("%q is no time of day for the digest; write it as 07:00", d.At)
		case !address(d.To):
			return fmt.Errorf("%q is no mail address for the digest", d.To)
		}
	}
	return nil
}
