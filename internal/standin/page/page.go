// Package page draws the stand-ins' plain pages: a heading, a few lines and a
// table, readable and without script.
package page

import (
	"html/template"
	"net/http"
)

// Page is one page. Body is already HTML, made with html/template.
type Page struct {
	Title string
	About string
	Body  template.HTML
}

var layout = template.Must(template.New("page").Parse(`<!doctype html>
<html lang="en-GB"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width">
<title>{{.Title}}</title><style>
body{font:15px/1.5 system-ui,sans-serif;max-width:60rem;margin:2rem auto;padding:0 1rem;color:#222;background:#fafafa}
h1{font-size:1.3rem;margin:0}p{color:#555;margin:.2rem 0 1.2rem}
table{border-collapse:collapse;width:100%;background:#fff}td,th{border:1px solid #ddd;padding:.35rem .6rem;text-align:left;vertical-align:top}
th{background:#f0f0f0;font-weight:600}input,select,button{font:inherit;padding:.15rem .4rem}form{display:inline}
:target{background:#fff3c4}.ok{color:#17663a}.bad{color:#a11}code{background:#eee;padding:0 .2rem}pre{white-space:pre-wrap;margin:0}
</style></head><body><h1>{{.Title}}</h1><p>{{.About}}</p>{{.Body}}</body></html>`))

// Write sends the page.
func Write(w http.ResponseWriter, p Page) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_ = layout.Execute(w, p)
}
