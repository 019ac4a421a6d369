package demo

import (
	"image"
	"image/color"
	"image/draw"
	"image/jpeg"
	"math"
	"net/http"
	"time"

	"golang.org/x/image/font"
	"golang.org/x/image/font/basicfont"
	"golang.org/x/image/math/fixed"
)

// look is the camera above the kiln shed's door: a drawing of the yard as it is now, in the light that there is.
func (p *peers) look(w http.ResponseWriter, _ *http.Request) {
	p.world.mu.Lock()
	lux, lamp, gate, door := p.world.rest.daylight, p.world.lamp, p.world.rest.gate, p.world.door
	p.world.mu.Unlock()
	now := time.Now().In(p.world.loc)
	light := math.Min(1, math.Log10(1+math.Max(0, lux))/4)
	w.Header().Set("Content-Type", "image/jpeg")
	_ = jpeg.Encode(w, yardScene(light, lamp, door, gate, now), &jpeg.Options{Quality: 82}) // whoever asked may be gone
}

// yardScene draws the yard; light goes from 0, night, to 1, gate from 0, shut, to 1; where the kiln is
// open, there is light in its shed.
func yardScene(light float64, lamp, door bool, gate float64, at time.Time) image.Image {
	const wide, high = 640, 400
	img := image.NewRGBA(image.Rect(0, 0, wide, high))
	if lamp {
		light = math.Max(light, 0.45)
	}
	lit := func(r, g, b float64) color.RGBA {
		k := 0.16 + 0.84*light
		return color.RGBA{uint8(r * k), uint8(g * k), uint8(b * k), 255}
	}
	fill := func(x0, y0, x1, y1 int, c color.Color) {
		draw.Draw(img, image.Rect(x0, y0, x1, y1), image.NewUniform(c), image.Point{}, draw.Src)
	}
	for y := range 230 { // the sky pales towards the roofs
		k := float64(y) / 230
		fill(0, y, wide, y+1, lit(150+60*k, 178+40*k, 205+20*k))
	}
	fill(0, 230, wide, high, lit(150, 138, 118))
	fill(0, 120, 250, 262, lit(176, 120, 92)) // the studio
	for i := range 60 {
		fill(-10+2*i, 120-i, 260-2*i, 121-i, lit(96, 82, 78))
	}
	fill(40, 160, 110, 215, lit(222, 214, 190))
	fill(160, 165, 215, 262, lit(92, 74, 60))
	fill(470, 150, 640, 262, lit(128, 132, 122)) // the kiln shed
	fill(560, 70, 580, 150, lit(104, 104, 108))
	if door {
		fill(520, 180, 560, 262, color.RGBA{255, 196, 120, 255})
	}
	fill(250, 215, 470, 222, lit(110, 96, 80)) // the fence, and the gate in it
	open := int(gate * 120)
	for x := 262; x < 462; x += 14 {
		if x > 300 && x < 300+open {
			continue
		}
		fill(x, 190, x+8, 258, lit(138, 118, 92))
	}
	fill(452, 96, 458, 258, lit(70, 70, 74))
	glow := lit(80, 80, 84)
	if lamp {
		glow = color.RGBA{255, 222, 150, 255}
	}
	fill(444, 84, 466, 98, glow)
	d := font.Drawer{Dst: img, Src: image.White, Face: basicfont.Face7x13, Dot: fixed.P(12, high-14)}
	fill(6, high-28, 160, high-8, color.RGBA{0, 0, 0, 255})
	d.DrawString(at.Format("2006-01-02 15:04:05"))
	return img
}
