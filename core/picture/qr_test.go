package picture

import (
	"bytes"
	"image/png"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestACodeFitsAndIsFramed(t *testing.T) {
	b, err := QR("https://hub.example/join#abcdefghijklmnop", 320)
	require.NoError(t, err)
	img, err := png.Decode(bytes.NewReader(b))
	require.NoError(t, err)
	side := img.Bounds().Dx()
	assert.LessOrEqual(t, side, 320)
	assert.Greater(t, side, 200)
	modules := 0
	for x := range side { // the edge is quiet, the corner after it begins dark
		r, _, _, _ := img.At(x, 0).RGBA()
		assert.NotZero(t, r)
		if r, _, _, _ := img.At(x, x).RGBA(); r == 0 && modules == 0 {
			modules = x
		}
	}
	assert.Zero(t, modules%margin)
	text, err := QRText("idle ember")
	require.NoError(t, err)
	lines := strings.Split(strings.TrimSpace(text), "\n")
	assert.Len(t, lines, (21+2*margin+1)/2)
	assert.Equal(t, strings.Repeat("█", 21+2*margin), lines[0])
	_, err = QR(strings.Repeat("x", 5000), 320)
	assert.Error(t, err)
}
