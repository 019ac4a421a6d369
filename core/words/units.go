package words

// unitSigns are what people read for what UCUM writes otherwise.
var unitSigns = map[string]string{"Cel": "°C", "[degF]": "°F", "[ppm]": "ppm", "[ppb]": "ppb", "1": "",
	"[in_i'Hg]": "inHg", "[mi_i]/h": "mph", "[in_i]": "in", "[ft_i]": "ft", "[mi_i]": "mi", "[gal_us]": "gal",
	"[gal_us]/min": "gal/min", "[lb_av]": "lb", "[oz_av]": "oz", "[psi]": "psi"}

// UnitSign is how people write a unit that UCUM writes otherwise.
func UnitSign(unit string) string {
	if s, ok := unitSigns[unit]; ok {
		return s
	}
	return unit
}

// UnitSigns are the units that people write otherwise than UCUM.
func UnitSigns() map[string]string { return unitSigns }

// Units are the measures that somebody thinks in.
type Units string

// The measures. The empty one leaves each quantity in its own unit.
const (
	Metric    Units = "metric"
	Customary Units = "customary" // of the United States
)

// Conversion is how a quantity of one unit is told in another one: times K, plus B, with so many decimals more.
type Conversion struct {
	To       string  `json:"to"`
	K        float64 `json:"k"`
	B        float64 `json:"b"`
	Decimals int     `json:"decimals"`
}

// Of converts a number.
func (c Conversion) Of(v float64) float64 { return v*c.K + c.B }

// conversions of units; the factors are those of NIST Special Publication 811 (2008), appendix B.
var conversions = map[Units]map[string]Conversion{
	Customary: {
		"Cel": {"[degF]", 9.0 / 5, 32, 0}, "hPa": {"[in_i'Hg]", 1 / 33.8638867, 0, 2},
		"mbar": {"[in_i'Hg]", 1 / 33.8638867, 0, 2}, "m/s": {"[mi_i]/h", 2.2369363, 0, 0},
		"km/h": {"[mi_i]/h", 0.62137119, 0, 0}, "mm": {"[in_i]", 1 / 25.4, 0, 2}, "cm": {"[in_i]", 1 / 2.54, 0, 1},
		"m": {"[ft_i]", 3.2808399, 0, 0}, "km": {"[mi_i]", 0.62137119, 0, 1}, "L": {"[gal_us]", 0.26417205, 0, 1},
		"L/min": {"[gal_us]/min", 0.26417205, 0, 1}, "kg": {"[lb_av]", 2.2046226, 0, 0},
		"g": {"[oz_av]", 0.03527396, 0, 1}, "bar": {"[psi]", 14.503774, 0, 0},
	},
	Metric: {"[degF]": {"Cel", 5.0 / 9, -160.0 / 9, 1}},
}

// Conversion is what becomes of a unit for who thinks in these.
func (u Units) Conversion(unit string) (Conversion, bool) {
	c, ok := conversions[u][unit]
	return c, ok
}

// Conversions are all that these measures convert.
func (u Units) Conversions() map[string]Conversion { return conversions[u] }
