package post

import (
	"bytes"
	"image/color"
	"time"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	vgdraw "gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgimg"

	"idleember/archive"
	"idleember/core/site"
)

// draw makes a small PNG of a history; nil where there are fewer than two points.
func draw(x archive.History, zone *time.Location) []byte {
	var points plotter.XYs
	add := func(ms int64, v float64) {
		if n := len(points); x.Kind == site.OnOff && n > 0 { // steps
			points = append(points, plotter.XY{X: float64(ms) / 1000, Y: points[n-1].Y})
		}
		points = append(points, plotter.XY{X: float64(ms) / 1000, Y: v})
	}
	for _, b := range x.Buckets {
		if b.Count > 0 {
			add(b.From, b.Mean)
		}
	}
	for _, r := range x.Readings {
		add(r.T, r.Value.Num)
	}
	if len(points) < 2 {
		return nil
	}
	line, err := plotter.NewLine(points)
	if err != nil {
		return nil
	}
	line.Color, line.Width = color.NRGBA{0x2f, 0x5f, 0x8a, 255}, vg.Points(1.4)
	p := plot.New()
	p.X.Tick.Marker = plot.TimeTicks{Format: "15:04", Time: func(t float64) time.Time {
		return time.Unix(int64(t), 0).In(zone)
	}}
	p.X.LineStyle.Width, p.Y.LineStyle.Width = 0, 0
	grid := plotter.NewGrid()
	grid.Vertical.Width, grid.Horizontal.Color = 0, color.NRGBA{0xe2, 0xdd, 0xd4, 255}
	p.Add(grid, line)
	img := vgimg.NewWith(vgimg.UseWH(6.5*vg.Inch, 2*vg.Inch), vgimg.UseDPI(80))
	p.Draw(vgdraw.New(img))
	var out bytes.Buffer
	if _, err := (vgimg.PngCanvas{Canvas: img}).WriteTo(&out); err != nil {
		return nil
	}
	return out.Bytes()
}
