package api

import (
	_ "embed" // for the style
	"html/template"
	"maps"
	"net/http"
	"slices"
	"strings"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/labstack/echo/v5"
)

var docsPage = template.Must(template.New("docs").Parse(`<!doctype html><html lang="en"><meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1"><title>{{.Title}}: interface</title><link rel="stylesheet" href="/api/docs.css">
<h1>{{.Title}}: interface</h1><p>{{.Description}}</p><p>The contract itself: <a href="/api/openapi.yaml">openapi.yaml</a></p>
{{range .Operations}}<h2><code>{{.Method}} {{.Path}}</code></h2><p>{{.Summary}}. Right: <b>{{.Right}}</b>.</p>
{{with .Description}}<p>{{.}}</p>{{end}}{{with .Params}}<ul>{{range .}}<li><code>{{.}}</code></li>{{end}}</ul>{{end}}
{{with .Body}}<p>Body:</p><ul>{{range .}}<li><code>{{.}}</code></li>{{end}}</ul>{{end}}{{end}}</html>`))

//go:embed docs.css
var docsStyle []byte

type docsOperation struct {
	Method, Path, Summary, Description, Right string
	Params, Body                              []string
}

// docs shows the contract as a page, with nothing from elsewhere.
func (s *Server) docs(c *echo.Context) error {
	page := struct {
		Title, Description string
		Operations         []docsOperation
	}{s.doc.Info.Title, s.doc.Info.Description, nil}
	for _, path := range s.doc.Paths.InMatchingOrder() {
		item := s.doc.Paths.Value(path)
		for method, op := range item.Operations() {
			right, _ := op.Extensions["x-right"].(string)
			o := docsOperation{Method: method, Path: base + path, Summary: op.Summary, Description: op.Description, Right: right}
			for _, p := range append(slices.Clone(item.Parameters), op.Parameters...) {
				o.Params = append(o.Params, p.Value.Name+" ("+p.Value.In+") "+p.Value.Description)
			}
			if op.RequestBody != nil {
				for _, kind := range slices.Sorted(maps.Keys(op.RequestBody.Value.Content)) {
					if media := op.RequestBody.Value.Content[kind]; kind == "application/json" {
						o.Body = append(o.Body, fields(media.Schema.Value)...)
					} else {
						o.Body = append(o.Body, kind)
					}
				}
			}
			page.Operations = append(page.Operations, o)
		}
	}
	slices.SortFunc(page.Operations, func(a, b docsOperation) int {
		return strings.Compare(a.Path+a.Method, b.Path+b.Method)
	})
	w := c.Response()
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.WriteHeader(http.StatusOK)
	return docsPage.Execute(w, page)
}

func fields(s *openapi3.Schema) []string {
	var out []string
	for name, f := range s.Properties {
		kind := ""
		if f.Value.Type != nil {
			kind = ": " + strings.Join(f.Value.Type.Slice(), " or ")
		}
		if !slices.Contains(s.Required, name) {
			kind += ", optional"
		}
		out = append(out, name+kind)
	}
	slices.Sort(out)
	return out
}
