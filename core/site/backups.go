package site

import (
	"fmt"
	"time"
)

// Backups says how often the hub writes everything that it keeps to a file. The zero value: only when somebody asks.
type Backups struct {
	Every string `json:"every,omitempty"` // day, week
	At    string `json:"at,omitempty"`    // time of day; a week's is made on Monday
	Keep  int    `json:"keep,omitempty"`  // how many stay, the newest; 0: 7
	// Elsewhere is where each is copied to.
	Elsewhere Elsewhere `json:"elsewhere,omitzero"`
}

const mostBackups = 400

// Kept is how many backups stay.
func (b Backups) Kept() int {
	if b.Keep == 0 {
		return 7
	}
	return b.Keep
}

// Validate says in a sentence what is wrong, or returns nil.
func (b Backups) Validate() error {
	if b.Keep < 0 || b.Keep > mostBackups {
		return fmt.Errorf("keep 1 to %d backups", mostBackups)
	}
	if err := b.Elsewhere.Validate(); err != nil {
		return err
	}
	if b.Every == "" {
		return nil
	}
	if b.Every != "day" && b.Every != "week" {
		return fmt.Errorf("backups are made every day or every week, not every %q", b.Every)
	}
	if _, err := time.Parse("15:04", b.At); err != nil {
		return fmt.Errorf("%q is no time of day; write it as 03:00", b.At)
	}
	return nil
}
