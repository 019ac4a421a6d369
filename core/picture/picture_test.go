package picture

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"image"
	"image/png"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const frameOf = `<svg xmlns="http://www.w3.org/2000/svg" xmlns:xlink="http://www.w3.org/1999/xlink" xmlns:draw="urn:draw" width="40mm" height="20" draw:version="1">`

// Whatever an SVG brings along, what is shown runs nothing and asks nobody.
func TestNothingOfAnAttackIsLeft(t *testing.T) {
	for name, body := range map[string]string{
		"script":           `<script>alert(1)</script>`,
		"script elsewhere": `<script xlink:href="//evil.example/x.js"/>`,
		"handler":          `<rect onload="alert(1)" OnClick="alert(2)"/>`,
		"link":             `<a xlink:href="javascript:alert(1)"><rect/></a>`,
		"html":             `<foreignObject><body xmlns="http://www.w3.org/1999/xhtml"><img src="x" onerror="alert(1)"/></body></foreignObject>`,
		"other namespace":  `<h:iframe xmlns:h="http://www.w3.org/1999/xhtml" src="//evil.example"/>`,
		"picture":          `<image href="https://evil.example/p.png"/>`,
		"picture as svg":   `<image href="data:image/svg+xml;base64,PHN2Zy8+"/>`,
		"use":              `<use href="//evil.example/x.svg#a"/>`,
		"fill":             `<rect fill="url(//evil.example/#a)"/>`,
		"style attribute":  `<rect style="fill:url( 'https://evil.example/a')"/>`,
		"style sheet":      `<style>@import url(//evil.example/a.css);</style>`,
		"style escaped":    `<style>rect{background:u\72l(//evil.example)}</style>`,
		"style closed":     `<style>&lt;/style&gt;&lt;script&gt;alert(1)&lt;/script&gt;</style>`,
		"animation":        `<rect><set attributeName="href" to="javascript:alert(1)"/><animate attributeName="href" values="javascript:alert(1)"/></rect>`,
		"comment":          `<!--><script>alert(1)</script>-->`,
		"cdata":            `<text><![CDATA[</text><script>alert(1)</script>]]></text>`,
	} {
		p, err := Clean([]byte(frameOf + body + `</svg>`))
		require.NoError(t, err, name)
		text := string(p.Body)
		for _, bad := range []string{"<script", "evil.example", "javascript:", "onload", "OnClick", "onerror",
			"foreignObject", "iframe", "@import", "svg+xml;", "<set", "<animate"} {
			assert.NotContains(t, text, bad, "%s: %s", name, text)
		}
		d := xml.NewDecoder(bytes.NewReader(p.Body))
		for err == nil {
			_, err = d.Token()
		}
		assert.EqualError(t, err, "EOF", "%s: %s", name, text)
		if name == "script" || name == "picture" {
			assert.NotEmpty(t, p.Left, name)
		}
	}
	_, err := Clean([]byte(`<!DOCTYPE svg [<!ENTITY a "aaaa"><!ENTITY b "&a;&a;">]>` + frameOf + `<text>&b;</text></svg>`))
	assert.ErrorContains(t, err, "cannot be read")
	_, err = Clean([]byte(frameOf + strings.Repeat("<g>", 200) + strings.Repeat("</g>", 200) + `</svg>`))
	assert.ErrorContains(t, err, "deep")
}

func TestWhatDrawsIsKept(t *testing.T) {
	p, err := Clean([]byte(`<?xml version="1.0"?>` + frameOf +
		`<metadata>who</metadata><defs><linearGradient id="g"><stop offset="0" style="stop-color:#fff"/></linearGradient></defs>` +
		`<style>.pipe{stroke:#333}</style><rect id="pump" class="pipe" style="fill:url(#g);stroke:none" x="1" draw:hint="3"/><use xlink:href="#pump"/>` +
		`<text xml:space="preserve">3 &lt; 4</text><image href="data:image/png;base64,AAAA"/></svg>`))
	require.NoError(t, err)
	assert.Equal(t, `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 40 20"><defs><linearGradient id="g"><stop offset="0" stop-color="#fff"></stop></linearGradient></defs>`+
		`<style>.pipe{stroke:#333}</style><rect id="pump" class="pipe" x="1" fill="url(#g)" stroke="none"></rect><use href="#pump"></use>`+
		`<text>3 &lt; 4</text><image href="data:image/png;base64,AAAA"></image></svg>`, string(p.Body))
	assert.Empty(t, p.Left)
	assert.Equal(t, [2]float64{40, 20}, [2]float64{p.Width, p.Height})

	var b bytes.Buffer
	require.NoError(t, png.Encode(&b, image.NewGray(image.Rect(0, 0, 3, 2))))
	p, err = Clean(b.Bytes())
	require.NoError(t, err)
	assert.Equal(t, "image/png", p.Type)
	assert.Equal(t, 3.0, p.Width)
	_, err = Clean([]byte("GIF89a"))
	assert.ErrorContains(t, err, "neither PNG nor JPEG nor SVG")
}

// Whatever comes, a drawing that is taken holds no script, no handler and no reference elsewhere, is hardly larger,
// asks for a bounded number of shapes, and is the same when it is cleaned again.
func FuzzClean(f *testing.F) {
	for _, s := range []string{
		`<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 4 4"><rect id="a" width="1" onclick="x()"/><script>x()</script></svg>`,
		`<svg xmlns="http://www.w3.org/2000/svg"><a xlink:href="javascript:x()"><use href="#a"/></a><style>@import url(http://x);a{fill:url(#b)}</style></svg>`,
		`<?xml version="1.0"?><!DOCTYPE svg [<!ENTITY a "b">]><svg xmlns="http://www.w3.org/2000/svg">&a;<foreignObject><body xmlns="http://www.w3.org/1999/xhtml" onload="x()"/></foreignObject></svg>`,
		chain(2, func(l int) string { return fmt.Sprintf(`<use href="#l%d"/>`, l) }),
		frameOf + `<style>.a{fill:url(#g)}</style><g id="g" style="fill:red;mask:url(#h)"/><mask id="h"><rect marker="url(#g)"/></mask></svg>`,
		"\x89PNG\r\n\x1a\n", "\xff\xd8\xff",
	} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, body []byte) {
		p, err := Clean(body)
		if err != nil {
			return
		}
		if again, err := Clean(p.Body); err != nil || !bytes.Equal(again.Body, p.Body) {
			t.Fatalf("cleaned again it is another (%v)\n%q\n%q", err, p.Body, again.Body)
		}
		if p.Type != "image/svg+xml" {
			return
		}
		if len(p.Body) > 12*len(body)+200 {
			t.Fatalf("%d bytes became %d", len(body), len(p.Body))
		}
		if n, err := drawn(p.Body); err != nil {
			t.Fatalf("%d elements are drawn: %v", n, err)
		}
		d := xml.NewDecoder(bytes.NewReader(p.Body))
		for {
			tok, err := d.Token()
			if err == io.EOF {
				break
			}
			if err != nil {
				t.Fatalf("what was made is no XML: %v\n%q", err, p.Body)
			}
			switch x := tok.(type) {
			case xml.StartElement:
				if name := strings.ToLower(x.Name.Local); name == "script" || name == "foreignobject" || name == "iframe" ||
					name == "handler" {
					t.Fatalf("<%s> was left in\n%q", name, p.Body)
				}
				for _, a := range x.Attr {
					name, v := strings.ToLower(a.Name.Local), strings.ToLower(strings.TrimSpace(a.Value))
					if strings.HasPrefix(name, "on") || name == "href" && !strings.HasPrefix(v, "#") && !strings.HasPrefix(v,
						"data:image/") || strings.Contains(v, "javascript:") {
						t.Fatalf("%s=%q was left in\n%q", a.Name.Local, a.Value, p.Body)
					}
				}
			case xml.Directive:
				t.Fatalf("a directive was left in: %q", p.Body)
			}
		}
	})
}
