package reading

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestUnitsAreTurnedIntoEachOther(t *testing.T) {
	for _, x := range []struct {
		v        float64
		from, to string
		want     float64
	}{
		{294.55, "K", "Cel", 21.4}, {70, "[degF]", "Cel", 21.1111111111}, {21.4, "Cel", "[degF]", 70.52}, {0, "Cel", "K",
			273.15},
		{1013.25, "hPa", "Pa", 101325}, {230000, "mV", "V", 230}, {1.5, "kWh", "W.h", 1500}, {36, "km/h", "m/s", 10}, {50,
			"%RH", "%", 50}, {0.5, "/", "%", 50},
		{400, "ppm", "[ppm]", 400}, {12, "", "Cel", 12}, {12, "Cel", "", 12}, {3, "beats", "1", 3}, {90, "min", "h", 1.5},
	} {
		got, err := Number(x.v).In(x.from, x.to)
		require.NoError(t, err, "%+v", x)
		assert.InDelta(t, x.want, got.Num, 1e-9, "%+v", x)
	}
	for _, x := range [][2]string{{"V", "Cel"}, {"lx", "Cel"}, {"Cel", "furlong"}} {
		_, err := Number(1).In(x[0], x[1])
		assert.ErrorContains(t, err, "is not turned into the other", "%v", x)
	}
	for from, a := range measures {
		for to, b := range measures {
			if a.dimension == b.dimension {
				there, err := Number(12.5).In(from, to)
				require.NoError(t, err)
				back, err := there.In(to, from)
				require.NoError(t, err)
				assert.InEpsilon(t, 12.5, back.Num, 1e-8, "%s and %s", from, to)
			}
		}
	}
}
