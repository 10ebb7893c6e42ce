package coursepages

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"html/template"
	"net/http"
	"net/url"

	"kanban/internal/standin/page"
	"kanban/internal/standin/school"
)

// unsigned is a token of the algorithm none (RFC 7519, 6).
func unsigned(claims map[string]any) (string, error) {
	text, err := json.Marshal(claims)
	return base64.RawURLEncoding.EncodeToString([]byte(`{"alg":"none","typ":"JWT"}`)) + "." +
		base64.RawURLEncoding.EncodeToString(text) + ".", err
}

var adminPage = template.Must(template.New("admin").Parse(`
<h2>Tools</h2><form method="post" action="/lti/join"><label>Registration address of a tool <input name="address" size="60" id="address" required></label> <button id="join">Let it register</button></form>
<p>{{range .Tools}}<code>{{.}}</code> {{else}}None has registered.{{end}}</p>
<h2>Courses</h2><table>{{range .Sections}}<tr><td><a href="/lti/courses/{{.ID}}">{{.Title}}</a><td>{{.Code}}</tr>{{end}}</table>
<h2>Faults</h2><form method="post" action="/lti/wrong"><input name="how" placeholder="none" size="18"><label><input type="checkbox" name="storage" value="no"> keep no values for frames</label> <button>Set</button></form>`))

// admin is the page of the platform's administrator.
func (p *Server) admin(w http.ResponseWriter, _ *http.Request) {
	var body bytes.Buffer
	_ = adminPage.Execute(&body, map[string]any{"Tools": p.Tools(), "Sections": p.school.Sections()})
	page.Write(w, page.Page{
		Title: "Course platform: tools and courses",
		About: "Stand-in for a course platform that opens pages of tools from inside its courses (LTI 1.3).",
		Body:  template.HTML(body.String()),
	})
}

var coursePage = template.Must(template.New("course").Parse(`
<form method="get"><select name="as" id="as" onchange="this.form.submit()"><option value="">who opens it?</option>
{{range .People}}<option value="{{.ID}}"{{if eq .ID $.As}} selected{{end}}>{{.Name}} ({{.Role}})</option>{{end}}<option value="test"{{if eq .As "test"}} selected{{end}}>the test user</option></select> <button>Choose</button></form>
{{if .As}}<iframe id="tool" title="Kanban" src="{{.Open}}" style="display:block;width:100%;height:34rem;border:1px solid #ddd;background:#fff;margin-top:1rem"></iframe>
<p><a href="{{.Open}}" target="_blank" rel="opener">Open in a new window</a></p>{{end}}
<script src="/lti/storage.js"></script>`))

// course is the page of a course, with the tool in a frame.
func (p *Server) course(w http.ResponseWriter, r *http.Request) {
	id, as := r.PathValue("section"), r.URL.Query().Get("as")
	var in []school.Person
	members := map[string]bool{}
	for _, e := range p.school.Enrolments() {
		if e.SectionID == id && !e.Ended {
			members[e.PersonID] = true
		}
	}
	for _, x := range p.school.People() {
		if members[x.ID] || x.ID == as {
			in = append(in, x)
		}
	}
	title := id
	for _, x := range p.school.Sections() {
		if x.ID == id {
			title = x.Title
		}
	}
	var body bytes.Buffer
	_ = coursePage.Execute(&body, map[string]any{
		"People": in, "As": as, "Open": "/lti/open/" + url.PathEscape(id) + "?as=" + url.QueryEscape(as),
	})
	page.Write(w, page.Page{Title: title, About: "A course of the course platform.", Body: template.HTML(body.String())})
}

// storageScript keeps values for pages in frames and for windows that were opened (LTI Client Side postMessages 1.0).
func storageScript(w http.ResponseWriter, _ *http.Request) {
	w.Header().Set("Content-Type", "text/javascript")
	_, _ = w.Write([]byte(`const kept = new Map()
addEventListener('message', (e) => {
  const m = e.data
  if (!m || typeof m.subject !== 'string') return
  const reply = { subject: m.subject + '.response', message_id: m.message_id, key: m.key }
  if (m.subject === 'lti.put_data') {
    kept.set(e.origin + ' ' + m.key, m.value)
    reply.value = m.value
  } else if (m.subject === 'lti.get_data') {
    reply.value = kept.get(e.origin + ' ' + m.key)
  } else return
  e.source.postMessage(reply, e.origin)
})
`))
}
