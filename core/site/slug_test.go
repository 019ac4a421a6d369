package site

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

func ExampleSlug() {
	for _, raw := range []string{"Temp-1", "tempC", "Drying room", "18b20", "CO2 (ppm)"} {
		s, _ := Slug(raw)
		fmt.Println(s)
	}
	// Output:
	// temp_1
	// temp_c
	// drying_room
	// n18b20
	// co2_ppm
}

func TestSlugRefuses(t *testing.T) {
	for raw, why := range map[string]string{"": "no letter", "te+mp": "wildcard", "a#": "wildcard", "温度": "no letter",
		"key": "reserved", "T": "reserved", string(make([]byte, 500)): "at most"} {
		_, err := Slug(raw)
		assert.ErrorContains(t, err, why, raw)
	}
}

func TestSlugsAreAlwaysValid(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		if s, err := Slug(rapid.String().Draw(t, "raw")); err == nil {
			again, err := Slug(s)
			if CheckSlug(s) != nil || err != nil || again != s {
				t.Fatalf("%q is no stable slug", s)
			}
		}
	})
}

func TestNearest(t *testing.T) {
	ids := []string{"drying_room.heater", "drying_room.humidity", "kiln.fan"}
	assert.Equal(t, []string{"drying_room.heater"}, Nearest("drying_room.heatr", ids))
	assert.Equal(t, []string{"kiln.fan"}, Nearest("fan", ids))
	assert.Empty(t, Nearest("zebra", ids))
}
