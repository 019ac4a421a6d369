// Package camera is the link that fetches a still picture of a device when somebody asks for one, or an alert comes.
package camera

import (
	"bytes"
	"context"
	"fmt"
	"image/jpeg"
	"io"
	"net/http"
	"strings"

	"github.com/icholy/digest"

	"idleember/core/site"
	"idleember/elsewhere"
	"idleember/link"
)

const (
	mostBytes  = 4 << 20
	mostPixels = 40_000_000
)

// Fetch brings the JPEG that a camera shows now. To one that asks it tells account and password, by Digest (RFC 7616)
// or Basic (RFC 7617), whichever it asks for.
func Fetch(ctx context.Context, c site.Camera, password string) ([]byte, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, c.Address, nil)
	if err != nil {
		return nil, err
	}
	req.Header.Set("User-Agent", "idleember")
	req.Header.Set("Accept", "image/jpeg")
	client := elsewhere.Client(c.Inside)
	if c.Account != "" {
		client.Transport = &digest.Transport{Username: c.Account, Password: password, Transport: client.Transport}
	}
	resp, err := client.Do(req)
	if err == nil && c.Account != "" && resp.StatusCode == http.StatusUnauthorized &&
		strings.HasPrefix(strings.ToLower(resp.Header.Get("WWW-Authenticate")), "basic") {
		_ = resp.Body.Close()
		req.SetBasicAuth(c.Account, password)
		resp, err = client.Do(req)
	}
	if err != nil {
		return nil, fmt.Errorf("no answer: %s", link.Reason(err))
	}
	defer func() { _ = resp.Body.Close() }()
	switch {
	case resp.StatusCode == http.StatusUnauthorized && c.Account == "":
		return nil, fmt.Errorf("it asks for an account and a password; enter them beside its address")
	case resp.StatusCode == http.StatusUnauthorized:
		return nil, fmt.Errorf("it does not know the account %q with this password", c.Account)
	case resp.StatusCode != http.StatusOK:
		return nil, fmt.Errorf("it answered %s", resp.Status)
	}
	body, err := io.ReadAll(io.LimitReader(resp.Body, mostBytes+1))
	switch {
	case err != nil:
		return nil, fmt.Errorf("the picture broke off: %s", link.Reason(err))
	case len(body) > mostBytes:
		return nil, fmt.Errorf("the picture is larger than %d MB; let the camera give a smaller one", mostBytes>>20)
	}
	size, err := jpeg.DecodeConfig(bytes.NewReader(body))
	switch {
	case err != nil:
		return nil, fmt.Errorf("what came is no JPEG, but begins with %.20q", body)
	case size.Width*size.Height > mostPixels:
		return nil, fmt.Errorf("the picture has %d x %d pixels; let the camera give a smaller one", size.Width, size.Height)
	}
	return body, nil
}
