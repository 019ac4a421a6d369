package site

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestADashboardWithoutADeviceIsStillSound(t *testing.T) {
	d := Dashboard{Name: "Mine", Narrow: []string{"shed", "kiln"}, Tiles: []Tile{
		{ID: "kiln", Kind: TileValue, Of: []string{"kiln.chamber"}, W: 1, H: 1}, {ID: "shed", Kind: TileValue,
			Of: []string{"shed.level"}, W: 1, H: 1}}}
	left, changed := d.Without(func(id string) bool { return id == "shed.level" })
	require.True(t, changed)
	require.NoError(t, left.Validate())
	assert.Equal(t, []string{"kiln"}, left.Narrow)
	assert.Equal(t, d, left.WithHidden(d, left), "nobody changed anything")
}
