package site

import (
	"fmt"
	"net/url"
	"time"
)

// Camera says where a still picture of what a device sees is to be had. The zero value is none.
type Camera struct {
	Address  string `json:"address,omitempty"`   // of a JPEG
	Account  string `json:"account,omitempty"`   // that the camera asks for; its password is kept apart
	Inside   bool   `json:"inside,omitempty"`    // it may be an address in the house
	KeepDays int    `json:"keep_days,omitempty"` // 0: a week
	Guests   Guests `json:"guests,omitempty"`    // whether they may see the pictures; empty: not
}

const mostStillDays = 3650

// Keep is how long pictures are kept.
func (c Camera) Keep() time.Duration {
	if c.KeepDays == 0 {
		return 7 * 24 * time.Hour
	}
	return time.Duration(c.KeepDays) * 24 * time.Hour
}

// Host is where the picture comes from, with its scheme and port.
func (c Camera) Host() string {
	u, err := url.Parse(c.Address)
	if err != nil {
		return ""
	}
	return u.Scheme + "://" + u.Host
}

// Validate says in a sentence what is wrong, or returns nil.
func (c Camera) Validate() error {
	if c.Address == "" {
		return nil
	}
	u, err := url.Parse(c.Address)
	switch {
	case err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "":
		return fmt.Errorf("%q is no address of a picture; write it as http://camera.local/still.jpg", c.Address)
	case u.User != nil:
		return fmt.Errorf("an account in the address would be shown to everybody who sees it; enter account and password " +
			"beside it")
	case len(c.Address) > 500:
		return fmt.Errorf("the address has %d characters; use up to 500", len(c.Address))
	case len(c.Account) > 200:
		return fmt.Errorf("the account has %d characters; use up to 200", len(c.Account))
	case c.KeepDays < 0 || c.KeepDays > mostStillDays:
		return fmt.Errorf("pictures are kept for 1 to %d days", mostStillDays)
	case c.Guests != "" && c.Guests != GuestsNothing && c.Guests != GuestsSee:
		return fmt.Errorf("guests see pictures or not; %q is neither", c.Guests)
	}
	return nil
}
