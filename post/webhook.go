package post

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"idleember/core/site"
	"idleember/elsewhere"
	"idleember/hub"
)

type webhook struct{ post *Post }

// event is a CloudEvent in the structured mode of its JSON format (CloudEvents 1.0.2).
type event struct {
	Version string    `json:"specversion"`
	ID      string    `json:"id"`
	Source  string    `json:"source"`
	Type    string    `json:"type"`
	Subject string    `json:"subject,omitempty"`
	Time    time.Time `json:"time"`
	Kind    string    `json:"datacontenttype"`
	Data    any       `json:"data"`
}

func (w webhook) send(ctx context.Context, r site.Route, n hub.Notice) (string, error) {
	kind, body := "application/cloudevents+json; charset=utf-8", []byte(nil)
	if r.Body != "" {
		if kind = r.Type; kind == "" {
			kind = "application/json"
		}
		body = []byte(fill(r.Body, kind, n))
	} else {
		var err error
		body, err = json.Marshal(event{Version: "1.0", ID: n.ID, Source: "/idleember/" + url.PathEscape(n.Hub),
			Type: "idleember." + strings.ReplaceAll(n.What, " ", "_"), Subject: n.Alert,
			Time: n.At.UTC(), Kind: "application/json", Data: n})
		if err != nil {
			return "", fmt.Errorf("the message cannot be written: %w", err)
		}
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, r.To, bytes.NewReader(body))
	if err != nil {
		return "", &NeverError{Answer: "the address " + r.To + " cannot be used: " + err.Error()}
	}
	req.Header.Set("Content-Type", kind)
	req.Header.Set("User-Agent", "idleember")
	key, err := w.post.house.OwnSecret(ctx, hub.SigningKey)
	if err != nil {
		return "", err
	}
	sign(req, body, key, time.Now())
	resp, err := elsewhere.Client(r.Inside).Do(req)
	if err != nil {
		return "", fmt.Errorf("no answer from %s: %w", req.URL.Host, err)
	}
	defer func() { _ = resp.Body.Close() }()
	said, _ := io.ReadAll(io.LimitReader(resp.Body, 200))
	answer := resp.Status + " " + oneLine(string(said))
	switch code := resp.StatusCode; {
	case code >= 200 && code < 300:
		return answer, nil
	case code >= 300 && code < 400:
		return "", &NeverError{Answer: answer + "; it points elsewhere, and that is not followed: give its last address"}
	case code >= 400 && code < 500 && code != 408 && code != 425 && code != 429:
		return "", &NeverError{Answer: answer}
	default:
		return "", fmt.Errorf("%s", answer)
	}
}

// sign signs a request by HMAC-SHA256 after RFC 9421, with the body's digest after RFC 9530.
func sign(req *http.Request, body []byte, key string, at time.Time) {
	sum := sha256.Sum256(body)
	digest := "sha-256=:" + base64.StdEncoding.EncodeToString(sum[:]) + ":"
	params := fmt.Sprintf(`("@method" "@target-uri" "content-digest");created=%d;keyid="idleember";alg="hmac-sha256"`,
		at.Unix())
	base := fmt.Sprintf("\"@method\": %s\n\"@target-uri\": %s\n\"content-digest\": %s\n\"@signature-params\": %s",
		req.Method, req.URL, digest, params)
	mac := hmac.New(sha256.New, []byte(key))
	mac.Write([]byte(base))
	req.Header.Set("Content-Digest", digest)
	req.Header.Set("Signature-Input", "ember="+params)
	req.Header.Set("Signature", "ember=:"+base64.StdEncoding.EncodeToString(mac.Sum(nil))+":")
}
