package api

import (
	_ "embed" // for the names
	"strings"
	_ "time/tzdata" // the hub's computer may have no zone data of its own
)

//go:embed zones.txt
var zonesText string

// zones are the names of the time zones to choose from.
var zones = strings.Fields(zonesText)
