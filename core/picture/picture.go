// Package picture makes pictures that people upload safe to show: of PNG and JPEG the picture alone is kept, SVG is
// written anew from what a drawing needs and nothing else.
package picture

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"image"
	_ "image/jpeg" // for DecodeConfig
	_ "image/png"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// Rules is the number of the rules by which pictures are made safe. It goes up with what they ask for.
const Rules = 2

// Bounds of a picture.
const (
	MostBytes    = 4 << 20
	mostPixels   = 40_000_000
	mostDepth    = 100
	mostElements = 20_000
	mostNames    = 100 // attributes of one element
)

// Picture is one that may be shown. Left says in words what was left out of it.
type Picture struct {
	Type   string // image/png, image/jpeg, image/svg+xml
	Body   []byte
	Width  float64
	Height float64
	Left   []string
}

// Clean looks at what was uploaded; what it is, is told by its beginning and not by its name. The error is a sentence.
func Clean(body []byte) (Picture, error) {
	if len(body) > MostBytes {
		return Picture{}, fmt.Errorf("the picture has %.1f MB; up to %d MB are taken, so make it smaller",
			float64(len(body))/1e6, MostBytes>>20)
	}
	if c, format, err := image.DecodeConfig(bytes.NewReader(body)); err == nil {
		if c.Width*c.Height > mostPixels || c.Width == 0 || c.Height == 0 {
			return Picture{}, fmt.Errorf("the picture has %d by %d pixels; up to 40 million are taken", c.Width, c.Height)
		}
		if body = bare(format, body); body == nil {
			return Picture{}, errors.New("the picture is damaged; save it anew as PNG or JPEG")
		}
		return Picture{Type: "image/" + format, Body: body, Width: float64(c.Width), Height: float64(c.Height)}, nil
	}
	if !bytes.Contains(body[:min(len(body), 4096)], []byte("<svg")) {
		return Picture{}, errors.New("this is neither PNG nor JPEG nor SVG; save it as one of these")
	}
	return cleanSVG(body)
}

const svgSpace = "http://www.w3.org/2000/svg"

// elements are those that draw, of https://www.w3.org/TR/SVG2/eltindex.html. No script, no animation, nothing of HTML.
var elements = words(`svg g defs symbol use title desc path rect circle ellipse line polyline polygon text tspan textPath linearGradient
	radialGradient stop clipPath mask pattern marker filter feGaussianBlur feOffset feBlend feColorMatrix feComposite feFlood feMerge
	feMergeNode feDropShadow feMorphology feTurbulence feComponentTransfer feFuncR feFuncG feFuncB feFuncA image style`)

func words(s string) map[string]bool {
	out := map[string]bool{}
	for _, w := range strings.Fields(s) {
		out[w] = true
	}
	return out
}

var (
	outside    = regexp.MustCompile(`(?i)url\(\s*['"]?\s*[^#'"\s]|@import|@font-face|expression\s*\(|javascript:|vbscript:|\\|-moz-binding|behavior\s*:|image\s*\(|image-set|src\s*\(`)
	embedded   = regexp.MustCompile(`^data:image/(png|jpeg);base64,[A-Za-z0-9+/=\s]+$`)
	local      = regexp.MustCompile(`^#[^\s]+$`)
	plainName  = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9-]*$`)
	leadNumber = regexp.MustCompile(`^\s*([0-9]+(?:\.[0-9]+)?)`)
)

// cleaner writes an SVG anew.
type cleaner struct {
	out    bytes.Buffer
	left   []string
	count  int
	parts  parts
	names  map[string]string // what has an id
	sheets int               // their bytes
	rules  int               // and their rules
}

func (c *cleaner) leave(what string) {
	if !slices.Contains(c.left, what) && len(c.left) < 20 {
		c.left = append(c.left, what)
	}
}

// Long, because it is one pass over the tokens, with a case for each.
func cleanSVG(body []byte) (Picture, error) {
	c := &cleaner{names: map[string]string{}, parts: parts{ids: map[string]int{}}}
	for d := xml.NewDecoder(bytes.NewReader(body)); ; {
		tok, err := d.RawToken()
		if err != nil {
			break // it is told below
		}
		if t, ok := tok.(xml.StartElement); ok {
			for _, a := range t.Attr {
				if a.Name.Local == "id" && c.names[a.Value] == "" {
					c.names[a.Value] = t.Name.Local
				}
			}
		}
	}
	d := xml.NewDecoder(bytes.NewReader(body))
	var p Picture
	var open []string
	for {
		tok, err := d.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return p, fmt.Errorf("the SVG cannot be read: %w", err)
		}
		switch t := tok.(type) {
		case xml.StartElement:
			name := t.Name.Local
			if c.count++; c.count > mostElements || len(open) > mostDepth {
				return p, fmt.Errorf("the SVG has more than %d elements, or they lie more than %d deep; simplify it", mostElements,
					mostDepth)
			}
			if len(open) == 0 && (name != "svg" || c.out.Len() > 0) {
				return p, errors.New("the file does not begin with an svg element")
			}
			if len(t.Attr) > mostNames {
				return p, fmt.Errorf("an element of the SVG has more than %d attributes; simplify it", mostNames)
			}
			if t.Name.Space != svgSpace && t.Name.Space != "" || !elements[name] {
				if name != "metadata" && (t.Name.Space == svgSpace || t.Name.Space == "") {
					c.leave(name)
				}
				if err := d.Skip(); err != nil {
					return p, fmt.Errorf("the SVG cannot be read: %w", err)
				}
				continue
			}
			if name == "style" {
				var sheet struct {
					Text string `xml:",chardata"`
				}
				if err := d.DecodeElement(&sheet, &t); err != nil {
					return p, fmt.Errorf("the SVG cannot be read: %w", err)
				}
				c.style(sheet.Text)
				continue
			}
			attributes := c.attributes(name, t.Attr)
			if len(open) == 0 {
				p.Width, p.Height, attributes = frame(attributes)
			}
			c.out.WriteString("<" + name)
			for _, a := range attributes {
				c.out.WriteString(" " + a[0] + `="`)
				_ = xml.EscapeText(&c.out, []byte(a[1])) // to memory
				c.out.WriteByte('"')
			}
			c.out.WriteByte('>')
			c.parts.begin(name, attributes)
			open = append(open, name)
		case xml.EndElement:
			c.out.WriteString("</" + open[len(open)-1] + ">")
			open = open[:len(open)-1]
			c.parts.end()
		case xml.CharData:
			if len(open) > 0 {
				_ = xml.EscapeText(&c.out, t)
				c.parts.text(len(t))
			}
		}
	}
	if c.out.Len() == 0 {
		return p, errors.New("the file holds no svg element")
	}
	switch cost, loop := c.parts.cost(); {
	case loop:
		return p, errors.New("something in the SVG is a copy of itself, which nobody can draw")
	case cost > mostCost:
		return p, errors.New("the SVG draws its parts again so often that it would hold every page up; use fewer copies, " +
			"patterns and effects")
	}
	p.Type, p.Body, p.Left = "image/svg+xml", c.out.Bytes(), c.left
	return p, nil
}

func (c *cleaner) style(text string) {
	text, why := c.sheet(text)
	if why != "" {
		c.leave(why)
	}
	if text == "" {
		return
	}
	c.out.WriteString("<style>")
	_ = xml.EscapeText(&c.out, []byte(text))
	c.out.WriteString("</style>")
}

// attributes keeps what draws. What a style attribute says is written as attributes, which mean the same. Long,
// because it is one list of what an attribute may be.
func (c *cleaner) attributes(element string, list []xml.Attr) (out [][2]string) {
	at := map[string]int{}
	put := func(name, value string) {
		if i, ok := at[name]; ok {
			out[i][1] = value
			return
		}
		if name == "numOctaves" && len(value) > 1 {
			return // each is twice the work of the one before
		}
		at[name] = len(out)
		out = append(out, [2]string{name, value})
	}
	style := ""
	for _, a := range list {
		name, value := a.Name.Local, a.Value
		switch {
		case name == "href" && (a.Name.Space == "" || strings.HasSuffix(a.Name.Space, "xlink")):
			if local.MatchString(value) || element == "image" && embedded.MatchString(value) {
				put("href", value)
			} else {
				c.leave("a reference to " + value[:min(len(value), 40)])
			}
		case name == "xmlns" || a.Name.Space != "": // of other programs
		case name == "style":
			style = value
		case strings.HasPrefix(strings.ToLower(name), "on"):
			c.leave(name)
		case !plainName.MatchString(name) || strings.HasPrefix(name, "data-") || name == "src":
		case outside.MatchString(value):
			c.leave("a reference in " + name)
		default:
			put(name, value)
		}
	}
	for i, rule := range strings.SplitN(style, ";", mostNames+1) {
		if i == mostNames {
			c.leave("a style that is too long")
			break
		}
		name, value, ok := strings.Cut(rule, ":")
		name, value = strings.TrimSpace(name), strings.TrimSpace(value)
		switch {
		case !ok || !plainName.MatchString(name) || strings.HasPrefix(name, "on") || name == "href":
		case outside.MatchString(value):
			c.leave("a reference in " + name)
		default:
			put(name, strings.TrimSuffix(value, "!important"))
		}
	}
	return out
}

// frame makes sure that a drawing tells its size as a view box, and so fits any space.
func frame(list [][2]string) (w, h float64, out [][2]string) {
	out = [][2]string{{"xmlns", svgSpace}}
	var wide, high, box string
	for _, a := range list {
		switch a[0] {
		case "width":
			wide = a[1]
		case "height":
			high = a[1]
		case "viewBox":
			box = a[1]
		default:
			out = append(out, a)
		}
	}
	number := func(s string) float64 {
		m := leadNumber.FindStringSubmatch(s)
		if m == nil || strings.Contains(s, "%") {
			return 0
		}
		v, _ := strconv.ParseFloat(m[1], 64) // matched
		return v
	}
	if f := strings.FieldsFunc(box, func(r rune) bool { return r == ' ' || r == ',' }); len(f) == 4 {
		w, h = number(f[2]), number(f[3])
	}
	if w <= 0 || h <= 0 {
		w, h = number(wide), number(high)
		if w <= 0 || h <= 0 {
			w, h = 300, 150 // what a browser takes
		}
		box = fmt.Sprintf("0 0 %g %g", w, h)
	}
	return w, h, append(out, [2]string{"viewBox", box})
}
