package picture

import (
	"bytes"
	"image"
	"image/color"
	"image/png"
	"strings"

	"github.com/boombuler/barcode/qr"
)

// margin is the quiet zone around a QR code, in modules, as ISO/IEC 18004 asks for.
const margin = 4

// QR is a text as a QR code: a PNG of at most so many pixels on a side, each module as large as fits.
func QR(text string, pixels int) ([]byte, error) {
	dark, side, err := modules(text, qr.M)
	if err != nil {
		return nil, err
	}
	scale := max(1, pixels/side)
	img := image.NewPaletted(image.Rect(0, 0, side*scale, side*scale), color.Palette{color.White, color.Black})
	for y := range side * scale {
		for x := range side * scale {
			if dark(x/scale, y/scale) {
				img.SetColorIndex(x, y, 1)
			}
		}
	}
	var b bytes.Buffer
	err = png.Encode(&b, img)
	return b.Bytes(), err
}

// QRText is a text as a QR code for a dark terminal, two rows of modules a line.
func QRText(text string) (string, error) {
	dark, side, err := modules(text, qr.L)
	if err != nil {
		return "", err
	}
	var b strings.Builder
	for y := 0; y < side; y += 2 {
		for x := range side {
			b.WriteString([]string{"█", "▀", "▄", " "}[2*bit(dark(x, y))+bit(dark(x, y+1))])
		}
		b.WriteByte('\n')
	}
	return b.String(), nil
}

func bit(is bool) int {
	if is {
		return 1
	}
	return 0
}

// modules says which modules of a code are dark, its quiet zone included.
func modules(text string, level qr.ErrorCorrectionLevel) (dark func(x, y int) bool, side int, err error) {
	code, err := qr.Encode(text, level, qr.Auto)
	if err != nil {
		return nil, 0, err
	}
	size := code.Bounds().Dx()
	return func(x, y int) bool {
		x, y = x-margin, y-margin
		if x < 0 || y < 0 || x >= size || y >= size {
			return false
		}
		r, _, _, _ := code.At(x, y).RGBA()
		return r == 0
	}, size + 2*margin, nil
}
