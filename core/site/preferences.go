package site

import (
	"fmt"
	"slices"
)

// Preferences are how a person wants the console. The zero value is how everybody finds it at first.
type Preferences struct {
	Theme      string   `json:"theme,omitempty"`      // light, dark; none: as the device
	Accent     string   `json:"accent,omitempty"`     // slate, moss, plum; none: ember
	Comma      bool     `json:"comma,omitempty"`      // numbers have a decimal comma
	Clock12    bool     `json:"clock_12,omitempty"`   // times of day go to 12
	Units      string   `json:"units,omitempty"`      // metric, customary; none: as the signals have them
	Sound      bool     `json:"sound,omitempty"`      // when something new needs attention
	Start      string   `json:"start,omitempty"`      // the page that opens first; none: Now
	Favourites []string `json:"favourites,omitempty"` // signals and controls, the dearest first
}

const mostFavourites = 40

// Validate says in a sentence what is wrong, or returns nil.
func (p Preferences) Validate() error {
	switch {
	case !slices.Contains([]string{"", "light", "dark"}, p.Theme):
		return fmt.Errorf("the theme %q is unknown; use light or dark, or none for that of the device", p.Theme)
	case !slices.Contains([]string{"", "slate", "moss", "plum"}, p.Accent):
		return fmt.Errorf("the accent %q is unknown; use slate, moss or plum, or none for ember", p.Accent)
	case !slices.Contains([]string{"", "metric", "customary"}, p.Units):
		return fmt.Errorf("the units %q are unknown; use metric or customary, or none for those of the signals", p.Units)
	case len(p.Start) > 200 || p.Start != "" && p.Start[0] != '/':
		return fmt.Errorf("the page %q is none of the console's; give its path, as in /charts", p.Start)
	case len(p.Favourites) > mostFavourites:
		return fmt.Errorf("there may be %d favourites, and these are %d", mostFavourites, len(p.Favourites))
	}
	for _, id := range p.Favourites {
		if len(id) > 100 {
			return fmt.Errorf("the favourite %.40s… is no id", id)
		}
	}
	return nil
}
