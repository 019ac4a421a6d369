package site

import (
	"fmt"
	"strings"
	"time"
	"unicode/utf8"
)

// Place is a room, shed, cupboard or yard.
type Place struct {
	ID       string `json:"id"`
	Name     string `json:"name"`
	Facts    []Fact `json:"facts,omitempty"`
	Picture  string `json:"picture,omitempty"`  // its id
	Position int    `json:"position,omitempty"` // they follow each other in this order
}

// Pictures are the ids of the pictures that anything shows.
func (s *Site) Pictures() map[string]bool {
	shown := map[string]bool{}
	for _, p := range s.Places {
		shown[p.Picture] = true
	}
	for _, d := range s.Dashboards {
		for _, t := range d.Tiles {
			shown[t.Picture] = true
		}
	}
	delete(shown, "")
	return shown
}

// Fact is something that an owner wrote down about a place: words, or a date whose age is told.
type Fact struct {
	Name string `json:"name"`
	Text string `json:"text,omitempty"`
	Date string `json:"date,omitempty"` // 2026-04-02
}

const mostFacts = 12

// Validate says in a sentence what is wrong with a place's facts, or returns nil.
func (p Place) Validate() error {
	if p.Position < 0 || p.Position > 10_000 {
		return fmt.Errorf("the position is %d; choose 0 to 10000", p.Position)
	}
	if len(p.Facts) > mostFacts {
		return fmt.Errorf("a place has up to %d facts, and these are %d", mostFacts, len(p.Facts))
	}
	for _, f := range p.Facts {
		switch {
		case strings.TrimSpace(f.Name) == "" || utf8.RuneCountInString(f.Name) > 60:
			return fmt.Errorf("a fact has a name of 1 to 60 characters")
		case f.Text == "" && f.Date == "":
			return fmt.Errorf("the fact %s says nothing; give it words or a date", f.Name)
		case utf8.RuneCountInString(f.Text) > 300:
			return fmt.Errorf("the fact %s is longer than 300 characters", f.Name)
		}
		if _, err := time.Parse(time.DateOnly, f.Date); f.Date != "" && err != nil {
			return fmt.Errorf("the date %q of %s is none; write it as 2026-04-02", f.Date, f.Name)
		}
	}
	return nil
}
