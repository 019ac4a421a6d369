// Package camera is the link that fetches a still picture of a device when somebody asks for one, or an alert comes.
package camera

import (
	"bytes"
	"context"
	"fmt"
	"image/jpeg"
	"io"
	"net/http"

	"idleember/core/site"
	"idleember/elsewhere"
	"idleember/hub"
	"idleember/link"
)

const (
	mostBytes  = 4 << 20
	mostPixels = 40_000_000
)

// Register lets the hub fetch pictures.
func Register(h *hub.Hub) { h.Fetches(Fetch) }

// Fetch brings the JPEG that a camera shows now.
func Fetch(ctx context.Context, c site.Camera) ([]byte, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, c.Address, nil)
	if err != nil {
		return nil, err
	}
	req.Header.Set("User-Agent", "idleember")
	req.Header.Set("Accept", "image/jpeg")
	resp, err := elsewhere.Client(c.Inside).Do(req)
	if err != nil {
		return nil, fmt.Errorf("no answer: %s", link.Reason(err))
	}
	defer func() { _ = resp.Body.Close() }()
	if resp.StatusCode != http.StatusOK {
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
