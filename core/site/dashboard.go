package site

import (
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"
)

// Sharing says who sees a dashboard besides who made it.
type Sharing string

// How far a dashboard is shared.
const (
	Private   Sharing = ""
	Household Sharing = "household" // owners and members
	Everybody Sharing = "everybody" // guests too; they see of it what was opened to them
)

// Dashboard is a page that somebody arranged. Its tiles lie on a grid of 12 columns; narrower screens have fewer, on
// which the tiles follow each other in order.
type Dashboard struct {
	ID     string   `json:"id"`
	Name   string   `json:"name"`
	By     string   `json:"by"` // the account of who made it
	Shared Sharing  `json:"shared,omitempty"`
	Tiles  []Tile   `json:"tiles"`
	Narrow []string `json:"narrow,omitempty"` // ids of tiles as a narrow screen has them; none: by row, then column
}

// TileKind says what a tile is.
type TileKind string

// The kinds of tiles.
const (
	TileValue    TileKind = "value"
	TileGauge    TileKind = "gauge"
	TileSpark    TileKind = "sparkline"
	TileChart    TileKind = "chart"
	TileLamp     TileKind = "lamp"
	TileControl  TileKind = "control" // switch, slider or choice, with its mode
	TileSetpoint TileKind = "setpoint"
	TileText     TileKind = "text"
	TileAlerts   TileKind = "alerts"
	TileStrip    TileKind = "strip" // when it ran
	TilePreset   TileKind = "preset"
	TileTimer    TileKind = "timer" // how long it has been on
	TileNotes    TileKind = "notes"
	TilePicture  TileKind = "picture" // with pins and moving parts it is a drawing
	TileStill    TileKind = "still"   // what a device's camera saw last
	TileClock    TileKind = "clock"
)

// mostOf is how many things a tile is about at most.
const mostOf = 12

// tileTakes is how many things a tile of each kind is about, at least and at most. Of kinds that are not in it the
// console alone knows.
var tileTakes = map[TileKind][2]int{
	TileValue: {1, 1}, TileGauge: {1, 1}, TileSpark: {1, 1}, TileChart: {1, 12}, TileLamp: {1, 1}, TileControl: {1, 1},
	TileSetpoint: {1, 1},
	TileText:     {0, 0}, TileAlerts: {0, 12}, TileStrip: {1, 6}, TilePreset: {1, 1}, TileTimer: {1, 1}, TileNotes: {0, 1},
	TilePicture: {0, 0}, TileStill: {1, 1}, TileClock: {0, 0},
}

// Tile is one thing on a dashboard. X, Y, W and H are in columns and rows of the grid.
type Tile struct {
	ID      string   `json:"id"`
	Kind    TileKind `json:"kind"`
	Name    string   `json:"name,omitempty"` // none: what it is about tells
	Of      []string `json:"of,omitempty"`   // signals, controls, settings, presets, devices or places
	X       int      `json:"x"`
	Y       int      `json:"y"`
	W       int      `json:"w"`
	H       int      `json:"h"`
	SpanMS  int64    `json:"span_ms,omitempty"` // of a chart, sparkline or strip; 0: a day
	Low     *float64 `json:"low,omitempty"`     // where a gauge begins
	High    *float64 `json:"high,omitempty"`    // where it ends
	Ranges  []Range  `json:"ranges,omitempty"`
	Over    *float64 `json:"over,omitempty"` // of a timer of numbers: it runs above this
	Text    string   `json:"text,omitempty"`
	Picture string   `json:"picture,omitempty"` // its id
	Pins    []Pin    `json:"pins,omitempty"`
	Parts   []Part   `json:"parts,omitempty"`
}

// Range is a stretch of a gauge with what it means.
type Range struct {
	From float64 `json:"from"`
	To   float64 `json:"to"`
	Tone string  `json:"tone"` // well, warn, critical
}

// Pin is something live on a picture, at per cents of its width and height.
type Pin struct {
	ID   string   `json:"id"`
	Kind TileKind `json:"kind"` // value, lamp, control, sparkline
	Of   string   `json:"of"`
	Name string   `json:"name,omitempty"`
	X    float64  `json:"x"`
	Y    float64  `json:"y"`
}

// Part is an element of an SVG picture that a signal, control or formula moves. Numbers from Low to High go from Start
// to End; on is End, off is Start.
type Part struct {
	Element string  `json:"element"` // its id in the picture
	Does    string  `json:"does"`    // fill, opacity, show, turn, text, level
	Of      string  `json:"of,omitempty"`
	Formula string  `json:"formula,omitempty"` // in the place of one signal or control
	Low     float64 `json:"low,omitempty"`
	High    float64 `json:"high,omitempty"`
	Start   string  `json:"start,omitempty"` // a colour, an opacity, degrees
	End     string  `json:"end,omitempty"`
}

// Bounds of dashboards.
const (
	GridColumns = 12
	mostTiles   = 120
	mostRows    = 1000
	mostPins    = 60
)

// Validate says in a sentence what is wrong with the arrangement, or returns nil. Whether what tiles are about is there
// is not asked: it may come back, and the tile says so meanwhile.
func (d *Dashboard) Validate() error {
	switch {
	case strings.TrimSpace(d.Name) == "" || utf8.RuneCountInString(d.Name) > 80:
		return fmt.Errorf("a dashboard has a name of 1 to 80 characters")
	case !slices.Contains([]Sharing{Private, Household, Everybody}, d.Shared):
		return fmt.Errorf("it can be shared with the household or with everybody, not with %q", d.Shared)
	case len(d.Tiles) > mostTiles:
		return fmt.Errorf("a dashboard has up to %d tiles, and these are %d; make a second one", mostTiles, len(d.Tiles))
	}
	seen := map[string]bool{}
	for i := range d.Tiles {
		t := &d.Tiles[i]
		if seen[t.ID] {
			return fmt.Errorf("there are two tiles %s; each has an id of its own", t.ID)
		}
		seen[t.ID] = true
		if err := t.Validate(); err != nil {
			return fmt.Errorf("tile %s: %w", t.ID, err)
		}
	}
	for i, id := range d.Narrow {
		if !seen[id] || slices.Contains(d.Narrow[:i], id) {
			return fmt.Errorf("the order for narrow screens names %s, which is no tile or stands there twice", id)
		}
	}
	return nil
}

// Validate says in a sentence what is wrong with a tile, or returns nil. Long, because it is one list of checks, each
// with its sentence.
func (t *Tile) Validate() error {
	if err := CheckSlug(t.ID); err != nil {
		return err
	}
	if err := CheckSlug(string(t.Kind)); err != nil {
		return fmt.Errorf("the kind of a tile: %w", err)
	}
	takes, ok := tileTakes[t.Kind]
	if !ok {
		takes = [2]int{0, mostOf}
	}
	switch {
	case len(t.Of) < takes[0]:
		return fmt.Errorf("a %s is about something; tell its id in of", t.Kind)
	case len(t.Of) > takes[1]:
		return fmt.Errorf("a %s is about %d things at most, and these are %d", t.Kind, takes[1], len(t.Of))
	case t.W < 1 || t.H < 1 || t.X < 0 || t.Y < 0 || t.X+t.W > GridColumns || t.Y+t.H > mostRows:
		return fmt.Errorf("it lies at column %d, row %d and is %d by %d; the grid has %d columns, counted from 0", t.X, t.Y,
			t.W, t.H, GridColumns)
	case utf8.RuneCountInString(t.Name) > 80 || utf8.RuneCountInString(t.Text) > 4000:
		return fmt.Errorf("its name is up to 80 characters, its text up to 4000")
	case t.SpanMS != 0 && (t.SpanMS < time.Minute.Milliseconds() || t.SpanMS > 10*366*24*time.Hour.Milliseconds()):
		return fmt.Errorf("its span is between a minute and ten years")
	case t.Low != nil && t.High != nil && *t.Low >= *t.High:
		return fmt.Errorf("it goes from %g to %g; the first is less than the second", *t.Low, *t.High)
	case t.Kind == TilePicture && t.Picture == "":
		return fmt.Errorf("it has no picture; upload one and tell its id")
	case len(t.Ranges) > 8 || len(t.Pins) > mostPins || len(t.Parts) > mostPins:
		return fmt.Errorf("it has up to 8 ranges, %d pins and %d moving parts", mostPins, mostPins)
	}
	for _, id := range t.Of {
		if id == "" || len(id) > 100 {
			return fmt.Errorf("%q is no id", id)
		}
	}
	for _, r := range t.Ranges {
		if r.From >= r.To || !slices.Contains([]string{"well", "warn", "critical"}, r.Tone) {
			return fmt.Errorf("a range goes up from one number to another and means well, warn or critical")
		}
	}
	for _, p := range t.Pins {
		if err := p.validate(); err != nil {
			return err
		}
	}
	for _, p := range t.Parts {
		if err := p.validate(); err != nil {
			return err
		}
	}
	return nil
}

func (p Pin) validate() error {
	if !slices.Contains([]TileKind{TileValue, TileLamp, TileControl, TileSpark}, p.Kind) || p.Of == "" ||
		len(p.Of) > 100 || !(p.X >= 0 && p.X <= 100 && p.Y >= 0 && p.Y <= 100) || CheckSlug(p.ID) != nil {
		return fmt.Errorf("a pin is a value, lamp, control or sparkline of something, at 0 to 100 per cent of the picture")
	}
	return nil
}

func (p Part) validate() error {
	switch {
	case p.Element == "" || len(p.Element) > 100:
		return fmt.Errorf("a moving part names an element of the picture by its id")
	case !slices.Contains([]string{"fill", "opacity", "show", "turn", "text", "level"}, p.Does):
		return fmt.Errorf("the part %s can change its fill, opacity, whether it shows, turn, text or level, not its %q",
			p.Element, p.Does)
	case (p.Of == "") == (p.Formula == ""):
		return fmt.Errorf("the part %s is moved by a signal or control, or by a formula: one of both", p.Element)
	case len(p.Of) > 100 || len(p.Formula) > 1000 || len(p.Start) > 40 || len(p.End) > 40:
		return fmt.Errorf("what moves the part %s is too long", p.Element)
	case p.High < p.Low:
		return fmt.Errorf("the part %s goes from %g to %g; the first is the lower one", p.Element, p.Low, p.High)
	}
	return nil
}

// About returns the ids of all that a dashboard shows, each once.
func (d *Dashboard) About() []string {
	var out []string
	for _, t := range d.Tiles {
		out = append(out, t.Of...)
		for _, p := range t.Pins {
			out = append(out, p.Of)
		}
		for _, p := range t.Parts {
			if p.Of != "" {
				out = append(out, p.Of)
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// Without is the dashboard without what some ids stand for; changed: there was something of them.
func (d Dashboard) Without(of func(id string) bool) (left Dashboard, changed bool) {
	left = d
	left.Tiles = nil
	for _, t := range d.Tiles {
		had := len(t.Of)
		t.Of = slices.DeleteFunc(slices.Clone(t.Of), of)
		pins := slices.DeleteFunc(slices.Clone(t.Pins), func(p Pin) bool { return of(p.Of) })
		parts := slices.DeleteFunc(slices.Clone(t.Parts), func(p Part) bool { return p.Of != "" && of(p.Of) })
		changed = changed || len(t.Of) < had || len(pins) < len(t.Pins) || len(parts) < len(t.Parts)
		t.Pins, t.Parts = pins, parts
		if had == 0 || len(t.Of) > 0 {
			left.Tiles = append(left.Tiles, t)
		}
	}
	left.Narrow = slices.DeleteFunc(slices.Clone(d.Narrow), func(id string) bool { return left.tile(id) < 0 })
	return left, changed
}

func (d *Dashboard) tile(id string) int {
	return slices.IndexFunc(d.Tiles, func(t Tile) bool { return t.ID == id })
}

// WithHidden is a dashboard that somebody saved who saw only a part of what was there before, with the rest of that in
// its place. Where somebody took a tile away of which they saw something, it goes as a whole.
func (d Dashboard) WithHidden(before, seen Dashboard) Dashboard {
	d.Tiles, d.Narrow = slices.Clone(d.Tiles), slices.Clone(d.Narrow)
	for i, t := range before.Tiles {
		shown, now := seen.tile(t.ID), d.tile(t.ID)
		if shown >= 0 {
			if now >= 0 {
				x, of := &d.Tiles[now], seen.Tiles[shown]
				x.Of, x.Pins, x.Parts = putBack(x.Of, t.Of, of.Of), putBack(x.Pins, t.Pins, of.Pins), putBack(x.Parts, t.Parts,
					of.Parts)
			}
			continue
		}
		was := t.ID
		for n := 2; d.tile(t.ID) >= 0 || n > 2 && before.tile(t.ID) >= 0; n++ {
			t.ID = fmt.Sprintf("%s_%d", was[:min(len(was), 36)], n)
		}
		d.Tiles = slices.Insert(d.Tiles, min(i, len(d.Tiles)), t)
		if at := slices.Index(before.Narrow, was); at >= 0 {
			d.Narrow = slices.Insert(d.Narrow, min(at, len(d.Narrow)), t.ID)
		}
	}
	return d
}

// putBack is a list with what of before was not seen.
func putBack[T comparable](now, before, seen []T) []T {
	for i, x := range before {
		if !slices.Contains(seen, x) && !slices.Contains(now, x) {
			now = slices.Insert(slices.Clone(now), min(i, len(now)), x)
		}
	}
	return now
}

// Formulas returns those that move parts of its pictures, each once.
func (d *Dashboard) Formulas() []string {
	var out []string
	for _, t := range d.Tiles {
		for _, p := range t.Parts {
			if p.Formula != "" && !slices.Contains(out, p.Formula) {
				out = append(out, p.Formula)
			}
		}
	}
	return out
}
