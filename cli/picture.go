package cli

import (
	"fmt"
	"image/color"
	"math"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgimg"

	"idleember/client"
	"idleember/core/words"
)

var (
	inks = []color.NRGBA{{0x2f, 0x5f, 0x8a, 255}, {0x7a, 0x4b, 0x94, 255}, {0x5b, 0x7f, 0x3a, 255}, {0x8a, 0x6d, 0x00,
		255}}
	ash  = color.NRGBA{0xe2, 0xdd, 0xd4, 255}
	glow = color.NRGBA{0xc2, 0x48, 0x0f, 255}
)

// picture draws histories into a PNG file: a pane for each unit on one time axis, strips for what is on or off.
func picture(name string, list []client.History, zone *time.Location) error {
	var panes [][]client.History
	at := map[string]int{}
	for _, x := range list {
		key := "number " + x.Unit
		switch x.Kind {
		case "text":
			return &UsageError{x.Series + " is text and cannot be drawn; leave it out"}
		case "onoff":
			key = x.Series
		}
		i, ok := at[key]
		if !ok {
			i, at[key] = len(panes), len(panes)
			panes = append(panes, nil)
		}
		panes[i] = append(panes[i], x)
	}
	plots := make([][]*plot.Plot, len(panes))
	for i, p := range panes {
		plots[i] = []*plot.Plot{pane(p, zone, i == len(panes)-1)}
	}
	img := vgimg.NewWith(vgimg.UseWH(10*vg.Inch, vg.Length(len(panes))*2.1*vg.Inch), vgimg.UseDPI(128))
	tiles := draw.Tiles{Rows: len(panes), Cols: 1, PadX: vg.Points(6), PadY: vg.Points(6), PadTop: vg.Points(8),
		PadBottom: vg.Points(6), PadLeft: vg.Points(8), PadRight: vg.Points(14)}
	for i, row := range plot.Align(plots, tiles, draw.New(img)) {
		plots[i][0].Draw(row[0])
	}
	f, err := os.Create(name)
	if err != nil {
		return fmt.Errorf("the picture cannot be written: %w", err)
	}
	_, err = vgimg.PngCanvas{Canvas: img}.WriteTo(f)
	if end := f.Close(); err == nil {
		err = end
	}
	return err
}

func pane(list []client.History, zone *time.Location, last bool) *plot.Plot {
	p := plot.New()
	for _, style := range []*draw.TextStyle{&p.Title.TextStyle, &p.X.Tick.Label, &p.Y.Tick.Label, &p.Legend.TextStyle} {
		style.Font.Variant, style.Font.Size = "Sans", vg.Points(9)
	}
	p.Title.TextStyle.Font.Size = vg.Points(10)
	p.X.Min, p.X.Max = float64(list[0].From.UnixMilli())/1000, float64(list[0].To.UnixMilli())/1000
	p.X.Tick.Marker, p.Y.Tick.Marker = times{zone, last}, plot.TickerFunc(plain)
	grid := plotter.NewGrid()
	grid.Vertical.Color, grid.Horizontal.Color = ash, ash
	p.Add(grid)
	p.X.LineStyle.Width, p.Y.LineStyle.Width, p.X.Tick.LineStyle.Width, p.Y.Tick.LineStyle.Width = 0, 0, 0, 0
	p.Legend.Top, p.Legend.YOffs = true, vg.Points(15)
	var names []string
	for i, x := range list {
		names = append(names, x.Name)
		if x.Kind == "onoff" {
			strip(p, x)
			continue
		}
		ink := inks[i%len(inks)]
		band := ink
		band.A = 40
		v := middle(x)
		for n, run := range unbroken(x) {
			if x.Mean != nil {
				area, err := plotter.NewPolygon(append(points(x.T, *x.Max, run[0], run[1]),
					backwards(points(x.T, *x.Min, run[0], run[1]))...))
				if err == nil {
					area.Color, area.LineStyle.Width = band, 0
					p.Add(area)
				}
			}
			xy := points(x.T, v, run[0], run[1])
			if end := min(x.To.UnixMilli(), time.Now().UnixMilli()); x.HoldMs == 0 && run[1] == len(v) { // it still holds
				xy = append(xy, plotter.XY{X: float64(end) / 1000, Y: v[run[1]-1]})
			}
			line, err := plotter.NewLine(xy)
			if err != nil {
				continue
			}
			line.Color, line.Width = ink, vg.Points(1.1)
			if i%2 == 1 {
				line.Dashes = []vg.Length{vg.Points(4), vg.Points(3)}
			}
			if x.HoldMs == 0 {
				line.StepStyle = plotter.PostStep
			}
			if n == 0 && len(list) > 1 {
				p.Legend.Add(x.Name, line)
			}
			p.Add(line)
		}
	}
	p.Title.Text = strings.TrimSpace(strings.Join(names, ", ") + "  " + words.UnitSign(list[0].Unit))
	return p
}

// middle is the value or mean at each time.
func middle(x client.History) []float64 {
	if x.Mean != nil {
		return *x.Mean
	}
	out := make([]float64, len(x.T))
	for i, v := range *x.V {
		out[i], _ = v.(float64)
	}
	return out
}

// unbroken are the places [from, to) between gaps.
func unbroken(x client.History) (out [][2]int) {
	begin, g := 0, 0
	for i := range x.T {
		cut := false
		for ; g < len(x.Gaps) && x.Gaps[g][0] < x.T[i]; g++ {
			cut = true
		}
		if cut && i > begin {
			out = append(out, [2]int{begin, i})
			begin = i
		}
	}
	if begin < len(x.T) {
		out = append(out, [2]int{begin, len(x.T)})
	}
	return out
}

func points(t []int64, v []float64, from, to int) plotter.XYs {
	out := make(plotter.XYs, 0, to-from)
	for i := from; i < to; i++ {
		out = append(out, plotter.XY{X: float64(t[i]) / 1000, Y: v[i]})
	}
	return out
}

func backwards(xy plotter.XYs) plotter.XYs {
	slices.Reverse(xy)
	return xy
}

// strip draws when something was on.
func strip(p *plot.Plot, x client.History) {
	p.Y.Min, p.Y.Max = 0, 1
	p.Y.Tick.Marker = plot.ConstantTicks{}
	end := min(x.To.UnixMilli(), time.Now().UnixMilli())
	for i, t := range x.T {
		from, to := max(t, x.From.UnixMilli()), end
		switch {
		case x.OnMs != nil:
			to = from + (*x.OnMs)[i]
		case (*x.V)[i] != true:
			continue
		case i+1 < len(x.T):
			to = x.T[i+1]
		}
		if to <= from {
			continue
		}
		a, b := float64(from)/1000, float64(to)/1000
		if run, err := plotter.NewPolygon(plotter.XYs{{X: a, Y: 0.3}, {X: a, Y: 0.7}, {X: b, Y: 0.7}, {X: b,
			Y: 0.3}}); err == nil {
			run.Color, run.LineStyle.Width = glow, 0
			p.Add(run)
		}
	}
}

// times puts ticks at whole hours or days of the hub's clock.
type times struct {
	zone   *time.Location
	labels bool
}

func (x times) Ticks(lo, hi float64) (out []plot.Tick) {
	const hour = 3600.0
	step := 0.0
	for _, s := range []float64{60, 300, 900, hour, 3 * hour, 6 * hour, 12 * hour, 24 * hour, 48 * hour, 7 * 24 * hour,
		30 * 24 * hour} {
		if step = s; (hi-lo)/s <= 10 {
			break
		}
	}
	for step < (hi-lo)/10 {
		step *= 2
	}
	layout := "15:04"
	if step >= 24*hour {
		layout = "02 Jan"
	} else if hi-lo > 24*hour {
		layout = "02 Jan\n15:04"
	}
	_, off := time.Unix(int64(lo), 0).In(x.zone).Zone()
	for t := math.Ceil((lo+float64(off))/step)*step - float64(off); t <= hi; t += step {
		at := time.Unix(int64(t), 0).In(x.zone)
		_, now := at.Zone()
		tick := plot.Tick{Value: t - float64(now-off), Label: " "} // a tick without a label would be a minor one
		if x.labels {
			tick.Label = at.Add(-time.Duration(now-off) * time.Second).Format(layout)
		}
		out = append(out, tick)
	}
	return out
}

// plain leaves the zeros behind the point out.
func plain(lo, hi float64) (out []plot.Tick) {
	for _, t := range (plot.DefaultTicks{}).Ticks(lo, hi) {
		if t.Label != "" {
			t.Label = strings.Replace(strconv.FormatFloat(t.Value, 'g', 6, 64), "-", "−", 1)
			out = append(out, t)
		}
	}
	return out
}
