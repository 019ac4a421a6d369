package site

import (
	"fmt"
	"math"
)

// Calibration says how a raw number becomes a reading. The zero value leaves it as it is.
type Calibration struct {
	Method  string       `json:"method,omitempty"`  // two_point, gain, divider, table; empty: none
	Points  [][2]float64 `json:"points,omitempty"`  // raw and value: two for two_point, one for gain, more for table
	Divider *Divider     `json:"divider,omitempty"` // for divider
	Offset  float64      `json:"offset,omitempty"`  // added afterwards
	Min     *float64     `json:"min,omitempty"`     // clamp: lower results become this
	Max     *float64     `json:"max,omitempty"`     // clamp: higher results become this
	Invert  bool         `json:"invert,omitempty"`  // of on/off signals: on means off
}

// Divider is a voltage measured through two resistors by a converter. The input goes through R1 to the pin, and R2 goes
// from the pin to ground.
type Divider struct {
	R1        float64 `json:"r1"`        // ohms; 0: no divider, the pin is the input
	R2        float64 `json:"r2"`        // ohms
	Reference float64 `json:"reference"` // volts at the pin that give the highest count
	Counts    float64 `json:"counts"`    // the highest count, such as 1023 or 4095
	Highest   float64 `json:"highest"`   // volts that the input may reach; 0: not told
	Limit     float64 `json:"limit"`     // volts that the pin stands; 0: the reference
}

// Factor is volts at the input for one count.
func (d Divider) Factor() float64 {
	f := d.Reference / d.Counts
	if d.R1 > 0 {
		f *= (d.R1 + d.R2) / d.R2
	}
	return f
}

// AtPin is the voltage at the pin for a voltage at the input.
func (d Divider) AtPin(volts float64) float64 {
	if d.R1 > 0 {
		return volts * d.R2 / (d.R1 + d.R2)
	}
	return volts
}

// Warning says in a sentence what is dangerous or pointless about the divider, or nothing.
func (d Divider) Warning() string {
	limit := d.Limit
	if limit == 0 {
		limit = d.Reference
	}
	pin := d.AtPin(d.Highest)
	switch {
	case d.Highest == 0:
		return ""
	case pin > limit:
		return fmt.Sprintf("At %.4g V the pin would see %.3g V, more than the %.3g V that it stands: make R1 larger than "+
			"%.3g kΩ.",
			d.Highest, pin, limit, d.R2*(d.Highest/limit-1)/1000)
	case pin > d.Reference:
		return fmt.Sprintf("At %.4g V the pin would see %.3g V, more than the reference of %.3g V: readings stop at %.4g V.",
			d.Highest, pin, d.Reference, d.Factor()*d.Counts)
	}
	return ""
}

// Set reports whether the calibration changes anything.
func (c Calibration) Set() bool {
	return c.Method != "" || c.Offset != 0 || c.Min != nil || c.Max != nil || c.Invert
}

// Validate says in a sentence what is wrong with the calibration of a signal of this kind, or returns nil. Long,
// because it is one list of checks, each with its sentence.
func (c Calibration) Validate(kind ValueKind) error {
	numeric := c.Method != "" || c.Offset != 0 || c.Min != nil || c.Max != nil
	switch {
	case kind != Number && numeric:
		return fmt.Errorf("only numbers can be calibrated; this signal is %s", kind)
	case kind != OnOff && c.Invert:
		return fmt.Errorf("only on/off signals can be inverted; reverse a number with two points")
	case c.Min != nil && c.Max != nil && *c.Min >= *c.Max:
		return fmt.Errorf("the clamp's lower end %g is not below its upper end %g", *c.Min, *c.Max)
	}
	for _, p := range c.Points {
		if math.IsNaN(p[0]+p[1]) || math.IsInf(p[0]+p[1], 0) {
			return fmt.Errorf("a calibration point is not finite")
		}
	}
	switch c.Method {
	case "":
		return nil
	case "two_point":
		if len(c.Points) != 2 {
			return fmt.Errorf("a two-point calibration needs two points, each a raw number and its value; there are %d",
				len(c.Points))
		}
		if c.Points[0][0] == c.Points[1][0] {
			return fmt.Errorf("both points have the raw number %g; measure at two different values", c.Points[0][0])
		}
	case "gain":
		if len(c.Points) != 1 {
			return fmt.Errorf("a calibration by one reference needs one point, a raw number and the reference meter's value; "+
				"there are %d", len(c.Points))
		}
		if c.Points[0][0] == 0 {
			return fmt.Errorf("the raw number of the reference is 0; measure where it is not")
		}
	case "table":
		if len(c.Points) < 2 || len(c.Points) > 200 {
			return fmt.Errorf("a table needs 2 to 200 points; there are %d", len(c.Points))
		}
		for i := 1; i < len(c.Points); i++ {
			if c.Points[i][0] <= c.Points[i-1][0] {
				return fmt.Errorf("the table's raw numbers must rise; %g comes after %g", c.Points[i][0], c.Points[i-1][0])
			}
		}
	case "divider":
		d := c.Divider
		switch {
		case d == nil:
			return fmt.Errorf("the divider's values are missing; give r1, r2, reference and counts")
		case d.R1 < 0 || d.R2 <= 0 && d.R1 > 0 || d.R1 > 1e9 || d.R2 > 1e9:
			return fmt.Errorf("the resistors %g Ω and %g Ω make no divider; R2 must be above 0", d.R1, d.R2)
		case d.Reference <= 0 || d.Reference > 1000 || d.Counts < 1 || d.Counts > 1<<32:
			return fmt.Errorf("the converter's reference %g V and highest count %g cannot be; use such as 3.3 and 4095",
				d.Reference, d.Counts)
		}
	default:
		return fmt.Errorf("the calibration %q is unknown; use two_point, gain, divider or table", c.Method)
	}
	return nil
}

// Sense is what can be said of a signal's readings before anybody looks: which can be true, and which are suspicious.
// The zero value trusts everything.
type Sense struct {
	Lowest  *float64 `json:"lowest,omitempty"`   // lower readings are bad
	Highest *float64 `json:"highest,omitempty"`  // higher readings are bad
	Spike   float64  `json:"spike,omitempty"`    // a reading further than this from both neighbours before it is suspect
	StuckMS int64    `json:"stuck_ms,omitempty"` // unchanged for longer than this is suspect
}

// Validate says in a sentence what is wrong, or returns nil.
func (s Sense) Validate(kind ValueKind) error {
	switch {
	case kind != Number && (s.Lowest != nil || s.Highest != nil || s.Spike != 0):
		return fmt.Errorf("only numbers have a plausible range or spikes")
	case s.Lowest != nil && s.Highest != nil && *s.Lowest >= *s.Highest:
		return fmt.Errorf("the plausible range goes from %g to %g; its lower end must be below its upper end", *s.Lowest,
			*s.Highest)
	case s.Spike < 0 || math.IsNaN(s.Spike) || math.IsInf(s.Spike, 0):
		return fmt.Errorf("a spike of %g cannot be; give the largest honest step", s.Spike)
	case s.StuckMS < 0 || s.StuckMS > 365*24*3600_000:
		return fmt.Errorf("stuck_ms is %d; choose up to a year", s.StuckMS)
	}
	return nil
}
