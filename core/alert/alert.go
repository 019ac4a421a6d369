// Package alert is the life cycle of alerts, in the terms of ANSI/ISA-18.2-2016 (section 5.4, alarm state transitions):
// normal, active and unacknowledged, active and acknowledged, returned and unacknowledged, shelved, out of service. It
// is pure: what happens is handed in with its time, and what became of it comes out. Who is told, and when, is in
// tell.go.
package alert

import (
	"fmt"
	"time"

	"idleember/core/words"
)

// Phase is where an alert stands in its life cycle.
type Phase string

// The phases.
const (
	Normal       Phase = "normal"
	Active       Phase = "active"       // and nobody acknowledged it
	Acknowledged Phase = "acknowledged" // active, and somebody knows
	Returned     Phase = "returned"     // over, but it stays until somebody clears it
	Shelved      Phase = "shelved"      // quiet until a time
	OutOfService Phase = "out_of_service"
)

// Config is what of an alert its life cycle depends on.
type Config struct {
	Latch bool          // it stays until somebody clears it
	Rest  time.Duration // after it was over it does not come again for this long
}

// State is what an alert remembers. The zero value is normal.
type State struct {
	ID    string     `json:"id"`
	Is    bool       `json:"is,omitempty"`    // its condition holds
	Up    bool       `json:"up,omitempty"`    // it was raised, and its condition has held since
	Waits bool       `json:"waits,omitempty"` // it is over, and stays until somebody clears it
	N     int64      `json:"n,omitempty"`     // how often it was raised
	Times int        `json:"times,omitempty"` // how often it came while it was up or waited
	Since time.Time  `json:"since,omitzero"`  // when it was raised
	Ended time.Time  `json:"ended,omitzero"`  // when it was last over
	Value words.Fact `json:"value,omitzero"`  // what it was like when it was raised

	Acked   bool      `json:"acked,omitempty"`
	AckedBy string    `json:"acked_by,omitempty"`
	AckedID string    `json:"acked_id,omitempty"` // the account, or the route by whose message it was done
	AckedAt time.Time `json:"acked_at,omitzero"`
	Word    string    `json:"word,omitempty"` // what was said then

	ShelvedUntil time.Time `json:"shelved_until,omitzero"`
	ShelvedBy    string    `json:"shelved_by,omitempty"`
	Out          bool      `json:"out,omitempty"`
	OutBy        string    `json:"out_by,omitempty"`
	OutAt        time.Time `json:"out_at,omitzero"`
	RestUntil    time.Time `json:"rest_until,omitzero"`
	Early        bool      `json:"early,omitempty"` // that it is near was told

	Late time.Time `json:"late,omitzero"` // the newest of what was learnt late

	Told map[string]Told `json:"told,omitempty"` // by route, of this time
}

// Phase is where the alert stands.
func (s *State) Phase() Phase {
	switch {
	case s.Out:
		return OutOfService
	case !s.ShelvedUntil.IsZero():
		return Shelved
	case s.Up && s.Acked:
		return Acknowledged
	case s.Up:
		return Active
	case s.Waits:
		return Returned
	}
	return Normal
}

// Event is what happens to an alert.
type Event int

// The events. Due is the passing of a time that Next named.
const (
	Came  Event = iota // its condition holds
	Went               // and holds no more
	Nears              // its earlier condition holds
	Parts              // and holds no more
	Acknowledge
	Shelve
	Unshelve
	Retire  // out of service
	Restore // and back
	Due
)

// Input is an event with what belongs to it.
type Input struct {
	Event Event
	By    string     // who did it
	ByID  string     // their account, or the route by whose message they did it
	Word  string     // what was said
	Until time.Time  // of Shelve
	Value words.Fact // what it is like now, of Came
}

// What became of an alert.
type What string

// The transitions. Again, of a latched one, is told to nobody.
const (
	WasRaised    What = "raised"
	WasAgain     What = "again"
	WasNear      What = "near"
	WasOver      What = "over"     // back to normal
	WasReturned  What = "returned" // over, waiting to be cleared
	WasAcked     What = "acknowledged"
	WasCleared   What = "cleared"
	WasShelved   What = "shelved"
	WasUnshelved What = "unshelved"
	WasRetired   What = "out of service"
	WasRestored  What = "back in service"
)

// NothingError says that there was nothing to do to an alert.
type NothingError struct {
	Phase Phase
	Event Event
}

func (e *NothingError) Error() string {
	what := map[Event]string{Acknowledge: "acknowledge", Shelve: "shelve", Unshelve: "bring back from the shelf",
		Retire: "take out of service", Restore: "put back in service"}[e.Event]
	return fmt.Sprintf("there is nothing to %s: the alert is %s", what, map[Phase]string{Normal: "quiet", Active: "active",
		Acknowledged: "acknowledged already", Returned: "over", Shelved: "shelved", OutOfService: "out of service"}[e.Phase])
}

// Apply takes an event and returns what became of the alert, in order. What a person asked for in vain is a
// *NothingError. Long, because it is one case for each kind.
func (s *State) Apply(cfg Config, now time.Time, in Input) ([]What, error) {
	nothing := &NothingError{s.Phase(), in.Event}
	switch in.Event {
	case Came:
		s.Is, s.Early = true, false
		return s.raise(now, in.Value), nil
	case Went:
		s.Is = false
		return s.end(cfg, now), nil
	case Nears:
		if s.Early || s.Phase() != Normal || now.Before(s.RestUntil) {
			return nil, nil
		}
		s.Early, s.Since, s.Value, s.Told = true, now, in.Value, nil
		s.N++
		return []What{WasNear}, nil
	case Parts:
		s.Early = false
	case Acknowledge:
		switch s.Phase() {
		case Active:
			s.Acked, s.AckedBy, s.AckedID, s.AckedAt, s.Word = true, in.By, in.ByID, now, in.Word
			return []What{WasAcked}, nil
		case Returned:
			s.Waits, s.AckedBy, s.AckedID, s.AckedAt, s.Word = false, in.By, in.ByID, now, in.Word
			return []What{WasCleared}, nil
		}
		return nil, nothing
	case Shelve:
		if s.Out || !in.Until.After(now) {
			return nil, nothing
		}
		s.ShelvedUntil, s.ShelvedBy, s.Up, s.Waits = in.Until, in.By, false, false
		return []What{WasShelved}, nil
	case Unshelve:
		if s.ShelvedUntil.IsZero() {
			return nil, nothing
		}
		return s.unshelve(now, in.Value), nil
	case Retire:
		if s.Out {
			return nil, nothing
		}
		s.Out, s.OutBy, s.OutAt, s.Up, s.Waits, s.ShelvedUntil = true, in.By, now, false, false, time.Time{}
		return []What{WasRetired}, nil
	case Restore:
		if !s.Out {
			return nil, nothing
		}
		s.Out, s.OutBy, s.OutAt = false, "", time.Time{}
		return append([]What{WasRestored}, s.raiseIf(now, in.Value)...), nil
	case Due:
		if !s.ShelvedUntil.IsZero() && !now.Before(s.ShelvedUntil) {
			return s.unshelve(now, in.Value), nil
		}
		return s.raiseIf(now, in.Value), nil
	}
	return nil, nil
}

// raise raises an alert whose condition holds, unless it is quiet for now.
func (s *State) raise(now time.Time, value words.Fact) []What {
	switch {
	case s.Out || !s.ShelvedUntil.IsZero() || s.Up || now.Before(s.RestUntil):
		return nil
	case s.Waits: // it goes on waiting for the same person
		s.Up, s.Waits = true, false
		s.Times++
		return []What{WasAgain}
	}
	s.N++
	s.Up, s.Times, s.Since, s.Value = true, 1, now, value
	s.Acked, s.AckedBy, s.AckedID, s.AckedAt, s.Word, s.Told = false, "", "", time.Time{}, "", nil
	return []What{WasRaised}
}

func (s *State) raiseIf(now time.Time, value words.Fact) []What {
	if !s.Is {
		return nil
	}
	return s.raise(now, value)
}

func (s *State) end(cfg Config, now time.Time) []What {
	if !s.Up {
		return nil
	}
	s.Up, s.Ended = false, now
	if cfg.Rest > 0 {
		s.RestUntil = now.Add(cfg.Rest)
	}
	if cfg.Latch && !s.Acked {
		s.Waits = true
		return []What{WasReturned}
	}
	return []What{WasOver}
}

func (s *State) unshelve(now time.Time, value words.Fact) []What {
	s.ShelvedUntil, s.ShelvedBy = time.Time{}, ""
	return append([]What{WasUnshelved}, s.raiseIf(now, value)...)
}

// Next is when the alert wants Due by itself, zero where it does not.
func (s *State) Next() time.Time {
	switch {
	case s.Out:
		return time.Time{}
	case !s.ShelvedUntil.IsZero():
		return s.ShelvedUntil
	case s.Is && !s.Up:
		return s.RestUntil
	}
	return time.Time{}
}
