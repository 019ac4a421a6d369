package picture

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// chain is a drawing of n levels, each of which draws the one before ten times.
func chain(n int, again func(level int) string) string {
	var b strings.Builder
	b.WriteString(frameOf + `<defs><g id="l0"><rect width="1" height="1"/></g>`)
	for i := 1; i <= n; i++ {
		fmt.Fprintf(&b, `<g id="l%d">%s</g>`, i, strings.Repeat(again(i-1), 10))
	}
	fmt.Fprintf(&b, `</defs><use href="#l%d"/></svg>`, n)
	return b.String()
}

func TestAFewCopiesOfCopiesAreDrawnAndABillionAreNot(t *testing.T) {
	use := func(l int) string { return fmt.Sprintf(`<use href="#l%d"/>`, l) }
	_, err := Clean([]byte(chain(3, use)))
	require.NoError(t, err)
	for name, body := range map[string]string{
		"copies": chain(9, use),
		"patterns": strings.NewReplacer("<g ", `<pattern width="1" height="1" `, "</g>", "</pattern>").Replace(
			chain(9, func(l int) string { return fmt.Sprintf(`<rect fill="url( '#l%d' ) red"/>`, l) })),
		"masks": chain(9, func(l int) string { return fmt.Sprintf(`<rect style="mask:url(#l%d)"/>`, l) }),
		"inherited": frameOf + `<pattern id="p">` + strings.Repeat("<rect/>", 300) + `</pattern><g fill="url(#p)">` +
			strings.Repeat("<rect/>", 1000) + `</g></svg>`,
		"marks": frameOf + `<marker id="m">` + strings.Repeat("<rect/>", 20) + `</marker><path marker-mid="url(#m)" d="` +
			strings.Repeat("h1", 10_000) + `"/></svg>`,
		"filters": frameOf + `<filter id="f">` + strings.Repeat("<feMorphology/>", 10) + `</filter>` +
			strings.Repeat(`<rect filter="url(#f)"/>`, 1000) + `</svg>`,
	} {
		_, err := Clean([]byte(body))
		assert.ErrorContains(t, err, "so often", name)
	}
	for _, body := range []string{`<g id="a"><use href="#a"/></g>`,
		`<pattern id="a"><rect fill="url(#b)"/></pattern><pattern id="b"><rect fill="url(#a)"/></pattern>`} {
		_, err := Clean([]byte(frameOf + body + `</svg>`))
		assert.ErrorContains(t, err, "copy of itself", body)
	}
	_, err = Clean([]byte(frameOf + `<linearGradient id="a"><stop/></linearGradient><g fill="url(#a)">` +
		strings.Repeat("<rect/>", 10_000) + `</g></svg>`))
	require.NoError(t, err, "gradients cost nothing to speak of")
}

func TestAnElementHasFewAttributes(t *testing.T) {
	var many strings.Builder
	for i := range 30_000 {
		fmt.Fprintf(&many, ` a%d="1"`, i)
	}
	began := time.Now()
	_, err := Clean([]byte(frameOf + `<rect` + many.String() + `/></svg>`))
	assert.ErrorContains(t, err, "attributes")
	p, err := Clean([]byte(frameOf + `<rect style="` + strings.NewReplacer(`="1"`, ":1;").Replace(many.String()) +
		`"/></svg>`))
	require.NoError(t, err)
	assert.Less(t, len(p.Body), 3000)
	assert.Less(t, time.Since(began), 10*time.Second)
}

// A style sheet is about the shapes of its drawing.
func TestAStyleSheetStaysInItsDrawing(t *testing.T) {
	for _, bad := range []string{`:host{position:fixed}`, `:/**/host{top:0}`, `: HOST(x){}`,
		`svg{Position : fixed;inset:0}`, `svg{contain:none}`, `@keyframes x{from{x:1}}`, `rect{animation:x 1s infinite}`,
		`@layer a{:host{}}`, `@media all{:host{}}`, `a::part(x){}`, strings.Repeat("a{}", 2000), strings.Repeat(" ",
			200_000)} {
		p, err := Clean([]byte(frameOf + `<style>` + bad + `</style><rect/></svg>`))
		require.NoError(t, err)
		assert.NotContains(t, string(p.Body), "<style>", bad)
		assert.Len(t, p.Left, 1)
	}
	p, err := Clean([]byte(frameOf + `<style>/* :host */ .a:hover{fill:url(#g)} @media (max-width:9px){.a{mask:url(#m)}}</style><linearGradient id="g"/><mask id="m"/></svg>`))
	require.NoError(t, err)
	assert.Contains(t, string(p.Body), `<style>  .a:hover{fill:url(#g)} @media (max-width:9px){.a{mask:none}}</style>`)
	assert.Equal(t, []string{"a reference in a style sheet"}, p.Left)
}

var errMany = errors.New("too many")

// drawn counts elements as they are drawn, copies one by one.
func drawn(body []byte) (n int, err error) {
	type node struct {
		ref  string
		kids []*node
	}
	ids, stack := map[string]*node{}, []*node{{}}
	for d := xml.NewDecoder(bytes.NewReader(body)); ; {
		tok, err := d.Token()
		if errors.Is(err, io.EOF) {
			break
		} else if err != nil {
			return 0, err
		}
		switch x := tok.(type) {
		case xml.StartElement:
			k := &node{}
			for _, a := range x.Attr {
				switch {
				case a.Name.Local == "id" && ids[a.Value] == nil:
					ids[a.Value] = k
				case a.Name.Local == "href" && x.Name.Local == "use":
					k.ref = strings.TrimPrefix(a.Value, "#")
				}
			}
			up := stack[len(stack)-1]
			up.kids, stack = append(up.kids, k), append(stack, k)
		case xml.EndElement:
			stack = stack[:len(stack)-1]
		}
	}
	var walk func(*node) error
	walk = func(k *node) error {
		if n++; n > mostCost/costElement {
			return errMany
		}
		for _, x := range k.kids {
			if err := walk(x); err != nil {
				return err
			}
		}
		if to := ids[k.ref]; to != nil {
			return walk(to)
		}
		return nil
	}
	return n, walk(stack[0])
}
