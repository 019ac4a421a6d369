package reading

import (
	"fmt"
	"strconv"
)

// measure is a unit as so much of the first unit of its dimension: value · factor + offset.
type measure struct {
	dimension      string
	factor, offset float64
}

// measures are units by their UCUM symbol.
var measures = map[string]measure{
	"K": {"temperature", 1, 0}, "Cel": {"temperature", 1, 273.15}, "[degF]": {"temperature", 5.0 / 9, 273.15 - 32*5.0/9},
	"Pa": {"pressure", 1, 0}, "hPa": {"pressure", 100, 0}, "kPa": {"pressure", 1000, 0}, "mbar": {"pressure", 100, 0},
	"bar": {"pressure", 1e5, 0},
	"V":   {"voltage", 1, 0}, "mV": {"voltage", 1e-3, 0}, "kV": {"voltage", 1e3, 0},
	"A": {"current", 1, 0}, "mA": {"current", 1e-3, 0},
	"W": {"power", 1, 0}, "mW": {"power", 1e-3, 0}, "kW": {"power", 1e3, 0}, "MW": {"power", 1e6, 0},
	"J": {"energy", 1, 0}, "W.h": {"energy", 3600, 0}, "kW.h": {"energy", 3.6e6, 0}, "MW.h": {"energy", 3.6e9, 0},
	"V.A": {"apparent power", 1, 0}, "kV.A": {"apparent power", 1e3, 0}, "var": {"reactive power", 1, 0},
	"kvar": {"reactive power", 1e3, 0},
	"A.h":  {"charge", 3600, 0}, "C": {"charge", 1, 0},
	"m": {"length", 1, 0}, "mm": {"length", 1e-3, 0}, "cm": {"length", 1e-2, 0}, "km": {"length", 1e3, 0},
	"m/s": {"speed", 1, 0}, "km/h": {"speed", 1 / 3.6, 0}, "mm/h": {"speed", 1e-3 / 3600, 0}, "m/h": {"speed", 1.0 / 3600,
		0},
	"g": {"mass", 1e-3, 0}, "kg": {"mass", 1, 0},
	"s": {"time", 1, 0}, "ms": {"time", 1e-3, 0}, "min": {"time", 60, 0}, "h": {"time", 3600, 0},
	"Hz": {"frequency", 1, 0}, "kHz": {"frequency", 1e3, 0}, "MHz": {"frequency", 1e6, 0},
	"L": {"volume", 1e-3, 0}, "l": {"volume", 1e-3, 0}, "m3": {"volume", 1, 0},
	"W/m2": {"irradiance", 1, 0}, "L/s": {"flow", 1e-3, 0}, "m3/s": {"flow", 1, 0},
	"var.h": {"reactive energy", 3600, 0}, "kvar.h": {"reactive energy", 3.6e6, 0}, "kV.A.h": {"apparent energy", 3.6e6,
		0}, "V.A.s": {"apparent energy", 1, 0},
	"By": {"data", 1, 0}, "KiBy": {"data", 1024, 0}, "GBy": {"data", 1e9, 0}, "bit": {"data", 0.125, 0},
	"By/s": {"data rate", 1, 0}, "MBy/s": {"data rate", 1e6, 0}, "bit/s": {"data rate", 0.125, 0}, "Mbit/s": {"data rate",
		1.25e5, 0},
	"/s": {"rate", 1, 0}, "/min": {"rate", 1.0 / 60, 0},
	"[ppth]": {"ratio", 1e-3, 0}, "1": {"ratio", 1, 0}, "%": {"ratio", 1e-2, 0}, "[ppm]": {"ratio", 1e-6, 0},
}

// senmlUnits are units of RFC 8428 (section 12.1) and RFC 8798 whose symbol is another one in UCUM.
var senmlUnits = map[string]string{"l": "L", "%RH": "%", "/": "1", "EL": "%", "%EL": "%", "lm": "lm", "Wh": "W.h",
	"kWh": "kW.h", "VA": "V.A", "kVA": "kV.A", "Ah": "A.h", "ppm": "[ppm]",
	"/100": "%", "/1000": "[ppth]", "l/s": "L/s", "varh": "var.h", "kvarh": "kvar.h", "kVAh": "kV.A.h", "B": "By",
	"KiB": "KiBy", "GB": "GBy", "B/s": "By/s", "MB/s": "MBy/s", "ug/m3": "ug/m3", "1/s": "/s", "1/min": "/min",
	"beat/m": "/min", "beats": "1", "count": "1", "deg": "deg", "pH": "[pH]"}

// UnitOf is the UCUM symbol of a unit as a device calls it.
func UnitOf(unit string) string {
	if u, ok := senmlUnits[unit]; ok {
		return u
	}
	return unit
}

// overSeconds are units whose product with a second has a name of its own.
var overSeconds = map[string]string{"W": "J", "A": "C", "V.A": "V.A.s", "m/s": "m", "/s": "1", "Hz": "1", "L/s": "L",
	"m3/s": "m3", "mm/s": "mm", "kg/s": "kg"}

// timesSeconds is the unit of a sum over time (RFC 8428, section 4.3).
func timesSeconds(unit string) string {
	unit = UnitOf(unit)
	if unit == "" {
		return ""
	}
	if u, ok := overSeconds[unit]; ok {
		return u
	}
	return unit + ".s"
}

// In turns a value of one unit into another one of the same dimension; both are UCUM symbols or names of RFC 8428 and
// RFC 8798. What has no unit, or the same, stays as it is.
func (v Value) In(from, to string) (Value, error) {
	from, to = UnitOf(from), UnitOf(to)
	if from == "" || to == "" || from == to {
		return v, nil
	}
	a, knownA := measures[from]
	b, knownB := measures[to]
	if !knownA || !knownB || a.dimension != b.dimension {
		return Value{}, fmt.Errorf("%s came in %s, and the signal is in %s; one is not turned into the other",
			clip(v.String()), clip(from), clip(to))
	}
	n := (v.Num*a.factor + a.offset - b.offset) / b.factor
	v.Num, _ = strconv.ParseFloat(strconv.FormatFloat(n, 'g', 12, 64), 64) // not the dust of the arithmetic
	return v, nil
}
