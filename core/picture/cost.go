package picture

import (
	"bytes"
	"encoding/base64"
	"image"
	"math"
	"regexp"
	"slices"
	"strings"
)

// What it takes to draw a drawing is counted in bytes, as if everything that it draws again were written out: the parts
// that use elements copy, and what fills, strokes, marks, masks and filters each shape. The unit is a rough one; what
// matters is that a small file cannot ask for more than a large one.
const (
	mostCost     = 32 << 20
	costElement  = 400    // beside its bytes
	costGradient = 100    // however many stops it has
	costFilter   = 20_000 // of one of its steps
	pixelsAByte  = 4
)

var reference = regexp.MustCompile(`url\(\s*['"]?#([^'")]+?)['"]?\s*\)`)

// part is an element as far as it counts.
type part struct {
	name  string
	own   float64
	kids  []int
	all   []string // what is drawn once with it
	each  []string // what is drawn for each shape in it: it is inherited
	marks []string // what is drawn at each corner of each
	sum   float64  // -1: it is being summed up
	count float64  // of elements
}

// parts is a drawing as far as it counts.
type parts struct {
	list []part
	ids  map[string]int
	open []int
	loop bool
}

// begin takes an element with its attributes.
func (p *parts) begin(name string, attributes [][2]string) {
	x := part{name: name, own: costElement}
	if strings.HasPrefix(name, "fe") {
		x.own = costFilter
	}
	for _, a := range attributes {
		x.own += float64(len(a[1]))
		switch refs := reference.FindAllStringSubmatch(a[1], -1); {
		case a[0] == "id":
			if _, taken := p.ids[a[1]]; !taken {
				p.ids[a[1]] = len(p.list)
			}
		case a[0] == "href" && strings.HasPrefix(a[1], "#"):
			x.all = append(x.all, a[1][1:])
		case a[0] == "href":
			x.own += pixels(a[1]) / pixelsAByte
		default:
			for _, r := range refs {
				switch {
				case a[0] == "fill" || a[0] == "stroke":
					x.each = append(x.each, r[1])
				case strings.HasPrefix(a[0], "marker"):
					x.marks = append(x.marks, r[1])
				default:
					x.all = append(x.all, r[1])
				}
			}
		}
	}
	if n := len(p.open); n > 0 {
		above := &p.list[p.open[n-1]]
		above.kids = append(above.kids, len(p.list))
	}
	p.open = append(p.open, len(p.list))
	p.list = append(p.list, x)
}

func (p *parts) text(n int) {
	if len(p.open) > 0 {
		p.list[p.open[len(p.open)-1]].own += float64(n)
	}
}

func (p *parts) end() { p.open = p.open[:len(p.open)-1] }

// cost is what the whole takes; loop: something refers to itself.
func (p *parts) cost() (sum float64, loop bool) {
	if len(p.list) == 0 {
		return 0, false
	}
	sum, _ = p.sum(0)
	return sum, p.loop
}

func (p *parts) sum(i int) (sum, count float64) {
	x := &p.list[i]
	switch {
	case x.sum < 0:
		p.loop = true
		return 0, 0
	case x.sum > 0:
		return x.sum, x.count
	case x.name == "linearGradient" || x.name == "radialGradient":
		x.sum, x.count = costGradient, 1
		return x.sum, x.count
	}
	sum, count, x.sum = x.own, 1, -1
	add := func(of string, times float64) {
		if at, ok := p.ids[of]; ok && !p.loop {
			s, n := p.sum(at)
			sum, count = math.Min(sum+s*times, math.MaxInt32), math.Min(count+n*times, math.MaxInt32)
		}
	}
	for _, k := range x.kids {
		s, n := p.sum(k)
		sum, count = math.Min(sum+s, math.MaxInt32), math.Min(count+n, math.MaxInt32)
	}
	for _, of := range x.all {
		add(of, 1)
	}
	for _, of := range x.each {
		add(of, count)
	}
	for _, of := range x.marks {
		add(of, sum/2)
	}
	x.sum, x.count = sum, count
	return sum, count
}

// pixels is how many an embedded picture has.
func pixels(data string) float64 {
	_, code, ok := strings.Cut(data, ";base64,")
	if !ok {
		return 0
	}
	body, err := base64.StdEncoding.DecodeString(strings.Join(strings.Fields(code), ""))
	if err != nil {
		return 0 // nothing shows it
	}
	c, _, err := image.DecodeConfig(bytes.NewReader(body))
	if err != nil {
		return 0
	}
	return float64(c.Width) * float64(c.Height)
}

var (
	remark = regexp.MustCompile(`(?s)/\*.*?(\*/|$)`)
	escape = regexp.MustCompile(`(?i):\s*host|::|:has|:is|:where|:not|position\s*:|contain\s*:|animation|behavior|@`)
	atSize = regexp.MustCompile(`(?i)@media[^{;]*\{`)
)

// Bounds of all style sheets of a drawing: each of their rules may be held against each element.
const (
	mostSheet = 100_000
	mostRules = 1000
)

// sheet cleans a style sheet. What could reach out of the drawing, or make it draw without end, takes all of it along;
// a fill by something other than a gradient is taken out, as nobody could count how often it is drawn. why says what
// was left out.
func (c *cleaner) sheet(text string) (clean, why string) {
	text = remark.ReplaceAllString(text, " ")
	c.sheets, c.rules = c.sheets+len(text), c.rules+strings.Count(text, "{")
	switch {
	case outside.MatchString(text) || strings.ContainsAny(text, "<>") && strings.Contains(text, "</"):
		return "", "a style sheet that refers to something outside"
	case escape.MatchString(atSize.ReplaceAllString(text, "{")):
		return "", "a style sheet that is about more than shapes"
	case c.sheets > mostSheet || c.rules > mostRules:
		return "", "a style sheet that is too long"
	}
	clean = reference.ReplaceAllStringFunc(text, func(ref string) string {
		if slices.Contains([]string{"linearGradient", "radialGradient"}, c.names[reference.FindStringSubmatch(ref)[1]]) {
			return ref
		}
		why = "a reference in a style sheet"
		return "none"
	})
	return clean, why
}
