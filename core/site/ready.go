package site

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Ready arranges tiles for everything of a place or device, or for one signal, control, setting or preset: what a
// dashboard of it begins with. None come back where there is nothing of that id.
func (s *Site) Ready(id string) (name string, tiles []Tile) {
	switch {
	case s.Signals[id].ID != "":
		name = s.Signals[id].Name
		tiles = []Tile{fitting(s.Signals[id])}
	case s.Controls[id].ID != "":
		name, tiles = s.Controls[id].Name, []Tile{{Kind: TileControl, Of: []string{id}, W: 4, H: 2}}
	case s.Settings[id].ID != "":
		name, tiles = s.Settings[id].Name, []Tile{{Kind: TileSetpoint, Of: []string{id}, W: 3, H: 2}}
	case s.Presets[id].ID != "":
		name, tiles = s.Presets[id].Name, []Tile{{Kind: TilePreset, Of: []string{id}, W: 2, H: 1}}
	case s.Devices[id].ID != "":
		name, tiles = s.Devices[id].Name, s.readyFor(func(device string) bool { return device == id }, id)
	default:
		p, ok := s.Place(id)
		if !ok {
			return "", nil
		}
		name, tiles = p.Name, s.readyFor(func(device string) bool { return s.Devices[device].Place == id }, id)
	}
	arrange(tiles)
	return name, tiles
}

// fitting is the tile that suits a signal: a gauge where its range is known, a lamp for on and off.
func fitting(g Signal) Tile {
	t := Tile{Kind: TileSpark, Of: []string{g.ID}, W: 3, H: 2}
	switch {
	case g.Kind == OnOff:
		t.Kind, t.W, t.H = TileLamp, 2, 1
	case g.Kind == Text:
		t.Kind, t.H = TileValue, 1
	case g.Unit == "%":
		low, high := 0.0, 100.0
		t.Kind, t.Low, t.High = TileGauge, &low, &high
	}
	return t
}

// readyFor puts numbers first, then what can be switched with its setpoints, then when it ran and a chart of up to four
// numbers.
func (s *Site) readyFor(has func(device string) bool, owner string) []Tile {
	var numbers, lamps, controls, rest []Tile
	var charted, run []string
	for _, d := range ordered(s.Devices, func(d Device) string { return d.ID }) {
		if has(d.ID) && d.Camera.Address != "" {
			numbers = append(numbers, Tile{Kind: TileStill, Of: []string{d.ID}, W: 4, H: 3})
		}
	}
	for _, g := range ordered(s.Signals, func(g Signal) string { return g.ID }) {
		if !has(g.Device) {
			continue
		}
		t := fitting(g)
		if g.Kind == Number {
			numbers = append(numbers, t)
			if len(charted) < 4 {
				charted = append(charted, g.ID)
			}
		} else {
			lamps = append(lamps, t)
		}
	}
	aimed := map[string]bool{}
	for _, c := range ordered(s.Controls, func(c Control) string { return c.ID }) {
		if !has(c.Device) {
			continue
		}
		controls = append(controls, Tile{Kind: TileControl, Of: []string{c.ID}, W: 4, H: 2})
		if len(run) < 6 && c.Momentary == nil {
			run = append(run, c.ID)
		}
		for _, id := range s.AimedAt(c.ID) {
			aimed[id] = true // it stands beside the control
		}
	}
	for _, g := range ordered(s.Settings, func(g Setting) string { return g.ID }) {
		of, _ := Split(g.ID)
		if (of == owner || has(of)) && !aimed[g.ID] {
			rest = append(rest, Tile{Kind: TileSetpoint, Of: []string{g.ID}, W: 3, H: 2})
		}
	}
	out := slices.Concat(numbers, lamps, controls, rest)
	if len(run) > 0 {
		out = append(out, Tile{Kind: TileStrip, Of: run, W: 6, H: 1 + (len(run)+1)/2})
	}
	if len(charted) > 0 {
		out = append(out, Tile{Kind: TileChart, Of: charted, W: 12, H: 4, SpanMS: (24 * time.Hour).Milliseconds()})
	}
	if len(out) > mostTiles {
		out = out[:mostTiles]
	}
	return out
}

func ordered[T any](of map[string]T, id func(T) string) []T {
	out := make([]T, 0, len(of))
	for _, x := range of {
		out = append(out, x)
	}
	slices.SortFunc(out, func(a, b T) int { return strings.Compare(id(a), id(b)) })
	return out
}

// arrange gives tiles their places, line by line, and ids.
func arrange(tiles []Tile) {
	x, y, tall := 0, 0, 0
	for i := range tiles {
		t := &tiles[i]
		t.ID = fmt.Sprintf("t%d", i+1)
		if x+t.W > GridColumns || tall > 0 && t.H != tall {
			x, y, tall = 0, y+tall, 0
		}
		t.X, t.Y = x, y
		x, tall = x+t.W, max(tall, t.H)
	}
}
