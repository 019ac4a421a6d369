package shown

import (
	"time"

	"idleember/core/engine"
	"idleember/core/words"
)

// Saying is a sentence with clocks that run on: {age} in it stands for how long it is since Since, {left} for how long
// until Until. Who shows it puts that in (words.Reader.Fill).
type Saying struct {
	Text  words.Text `json:"text"`
	Since *time.Time `json:"since,omitempty"`
	Until *time.Time `json:"until,omitempty"`
}

// At is the sentence as it is read at a time.
func (s Saying) At(now time.Time) string {
	return words.English.Fill(s.Text.String(), s.Since, s.Until, now)
}

// Need is something that needs a person, from From on; without it, already.
type Need struct {
	Saying
	What  words.Text `json:"what"`
	From  *time.Time `json:"from,omitempty"`
	Grave bool       `json:"grave,omitempty"`
}

// SayingOf is what the engine says.
func SayingOf(s engine.Saying) Saying {
	return Saying{Text: words.TextOf(s.Fact), Since: instant(s.Since), Until: instant(s.Until)}
}

// NeedsOf are what the engine finds that needs a person.
func NeedsOf(list []engine.Need) (out []Need) {
	for _, n := range list {
		out = append(out, Need{SayingOf(n.Saying), words.TextOf(n.What), instant(n.From), n.Grave})
	}
	return out
}

func instant(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}

// Why is the chain of reasons for what a control is.
type Why struct {
	Reason words.Text   `json:"reason"` // in one line
	Lines  []words.Text `json:"lines"`  // step by step, with numbers and times
	Else   words.Text   `json:"else"`   // what it would be otherwise
	Next   []words.Text `json:"next"`   // what happens next, and when
}

// WhyOf is what the engine says of the reasons.
func WhyOf(w engine.Why) Why {
	return Why{words.TextOf(w.Reason), words.Texts(w.Lines), words.TextOf(w.Else), words.Texts(w.Next)}
}

// Upcoming is a change that is already known.
type Upcoming struct {
	At   time.Time  `json:"at"`
	ID   string     `json:"id"`
	What words.Text `json:"what"`
	Ends time.Time  `json:"ends,omitzero"`
}

// Tried is what a control would be.
type Tried struct {
	Want words.Text            `json:"want"`
	Why  Why                   `json:"why"`
	Uses map[string]words.Text `json:"uses"` // every id that the automation looks at, with the value that was taken
}

// In puts into a reader's words whatever is told of the hub: what has no sentences comes back as it is. What is shared
// is not changed; the slices of a snapshot are.
func In[T any](v T, r words.Reader, now time.Time) T { return any(said(v, r, now)).(T) }

// Long, because it is one case for each kind.
func said(v any, r words.Reader, now time.Time) any {
	text := func(t words.Text) words.Text { return t.In(r, now) }
	switch x := v.(type) {
	case Control:
		x.State = stateIn(x.State, r, now)
		return x
	case Signal:
		x.State.Needs = needsIn(x.State.Needs, r, now)
		return x
	case Device:
		x.State.Says, x.State.Needs = x.State.Says.in(r, now), needsIn(x.State.Needs, r, now)
		return x
	case Alert:
		s := &x.State
		s.Value, s.Limit, s.Was, s.Says = text(s.Value), text(s.Limit), text(s.Was), s.Says.in(r, now)
		return x
	case []Alert:
		return each(x, r, now)
	case LinkedAlert:
		x.Alert = In(x.Alert, r, now)
		return x
	case Automation:
		x.State.Says = textsIn(x.State.Says, r, now)
		return x
	case Rule:
		x.State.Says = textsIn(x.State.Says, r, now)
		return x
	case Group:
		x.State.Says = textsIn(x.State.Says, r, now)
		return x
	case Preset:
		x.State.Says = textsIn(x.State.Says, r, now)
		return x
	case Why:
		return Why{text(x.Reason), textsIn(x.Lines, r, now), text(x.Else), textsIn(x.Next, r, now)}
	case []Upcoming:
		out := make([]Upcoming, len(x))
		for i, u := range x {
			u.What = text(u.What)
			out[i] = u
		}
		return out
	case Tried:
		uses := make(map[string]words.Text, len(x.Uses))
		for id, t := range x.Uses {
			uses[id] = text(t)
		}
		return Tried{text(x.Want), In(x.Why, r, now), uses}
	case Snapshot:
		x.say(r, now)
		return x
	case Page[AnyPart]:
		x.Items = each(x.Items, r, now)
		return x
	case AnyPart:
		x.State = said(x.State, r, now)
		return x
	case ControlState:
		return stateIn(x, r, now)
	case SignalState:
		x.Needs = needsIn(x.Needs, r, now)
		return x
	case DeviceState:
		x.Says, x.Needs = x.Says.in(r, now), needsIn(x.Needs, r, now)
		return x
	case AlertState:
		return In(Alert{State: x}, r, now).State
	case AutomationState:
		x.Says = textsIn(x.Says, r, now)
		return x
	case AloudState:
		x.Says = textsIn(x.Says, r, now)
		return x
	case RuleState:
		x.Says = textsIn(x.Says, r, now)
		return x
	}
	return v
}

// say puts a snapshot into a reader's words where it stands: it was made for them alone, and may hold thousands of
// signals, most of which say nothing.
func (x *Snapshot) say(r words.Reader, now time.Time) {
	for i := range x.Signals {
		if s := &x.Signals[i].State; len(s.Needs) > 0 {
			s.Needs = needsIn(s.Needs, r, now)
		}
	}
	for i := range x.Controls {
		x.Controls[i].State = stateIn(x.Controls[i].State, r, now)
	}
	for i := range x.Devices {
		s := &x.Devices[i].State
		s.Says, s.Needs = s.Says.in(r, now), needsIn(s.Needs, r, now)
	}
	for i := range x.Presets {
		x.Presets[i].State.Says = textsIn(x.Presets[i].State.Says, r, now)
	}
	x.Alerts = each(x.Alerts, r, now)
}

// Speaks reports whether something has sentences, so that it differs from reader to reader.
func Speaks(v any) bool {
	switch x := v.(type) {
	case Signal:
		return len(x.State.Needs) > 0
	case Control, Device, Alert:
		return true
	}
	return false
}

func each[T any](list []T, r words.Reader, now time.Time) []T {
	out := make([]T, len(list))
	for i, x := range list {
		out[i] = In(x, r, now)
	}
	return out
}

func stateIn(s ControlState, r words.Reader, now time.Time) ControlState {
	s.Reason, s.Says, s.Needs = s.Reason.In(r, now), s.Says.in(r, now), needsIn(s.Needs, r, now)
	return s
}

func (s Saying) in(r words.Reader, now time.Time) Saying {
	s.Text = s.Text.In(r, now)
	return s
}

func needsIn(list []Need, r words.Reader, now time.Time) []Need {
	out := make([]Need, len(list))
	for i, n := range list {
		n.Saying, n.What = n.in(r, now), n.What.In(r, now)
		out[i] = n
	}
	return out
}

func textsIn(list []words.Text, r words.Reader, now time.Time) []words.Text {
	out := make([]words.Text, len(list))
	for i, t := range list {
		out[i] = t.In(r, now)
	}
	return out
}
