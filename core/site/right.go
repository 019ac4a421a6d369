package site

import (
	"fmt"
	"strings"
)

// Right is a line that says what somebody may do with something.
type Right struct {
	Who string `json:"who"` // an account, or RightMembers or RightGuests
	Of  string `json:"of"`  // the id of a place, device, signal, control or setting, or that of a device and PicturesOf
	May Guests `json:"may"`
}

// Rights are who may do what beyond what roles say. They are replaced as a whole.
type Rights struct {
	Lines []Right `json:"lines"`
}

// Whom a line may be about besides one person.
const (
	RightMembers = "members"
	RightGuests  = "guests"
)

// PicturesOf is what is put after a device's id to name what its camera sees.
const PicturesOf = " pictures"

const mostRights = 500

// CheckRights says in a sentence what is wrong with lines, or returns nil. member tells who is of the household.
func (s *Site) CheckRights(lines []Right, member func(account string) bool) error {
	if len(lines) > mostRights {
		return fmt.Errorf("there are %d lines; use up to %d", len(lines), mostRights)
	}
	seen := map[[2]string]bool{}
	for i, l := range lines {
		key := [2]string{l.Who, l.Of}
		switch {
		case l.Who != RightMembers && l.Who != RightGuests && !member(l.Who):
			return fmt.Errorf("line %d: nobody here has the account %q; a line is about a person, %s or %s", i+1, l.Who,
				RightMembers, RightGuests)
		case !s.Has(l.Of):
			return fmt.Errorf("line %d: there is no place, device, signal, control or setting with the id %q", i+1, l.Of)
		case l.May != GuestsNothing && l.May != GuestsSee && l.May != GuestsSwitch:
			return fmt.Errorf("line %d: may is %q; choose none, see or switch", i+1, l.May)
		case seen[key]:
			return fmt.Errorf("line %d: there is another line for %s and %s", i+1, l.Who, l.Of)
		}
		seen[key] = true
	}
	return nil
}

// Has reports whether there is a place, device, signal, control or setting of an id, or what a device sees.
func (s *Site) Has(id string) bool {
	_, place := s.Place(id)
	_, device := s.Devices[id]
	_, signal := s.Signals[id]
	_, control := s.Controls[id]
	_, setting := s.Settings[id]
	if d, ok := strings.CutSuffix(id, PicturesOf); ok {
		return s.Devices[d].Camera.Address != ""
	}
	return place || device || signal || control || setting
}
