package site

// UnitSign is how people write a unit that UCUM writes otherwise.
func UnitSign(unit string) string {
	switch unit {
	case "Cel":
		return "°C"
	case "[degF]":
		return "°F"
	case "[ppm]":
		return "ppm"
	case "[pH]":
		return "pH"
	}
	return unit
}
