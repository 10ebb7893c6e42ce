package web_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/core/permission"
	"kanban/internal/wire/api"
)

// picture draws one, as JPEG.
func picture(t testing.TB, w, h int) string {
	t.Helper()
	p := image.NewRGBA(image.Rect(0, 0, w, h))
	for x := range w {
		for y := range h {
			p.Set(x, y, color.RGBA{R: uint8(x), G: uint8(y), A: 255})
		}
	}
	var out bytes.Buffer
	require.NoError(t, jpeg.Encode(&out, p, nil))
	return out.String()
}

// walkTeaching walks what a teacher does with a section.
func walkTeaching(x *talk, have *story) {
	t := x.site.t
	assert.Empty(t, get[api.Page[api.TaughtSection]](x, "/teaching").Items, "an administrator teaches nothing")
	a := x.Section("PROP-A").ID
	page := get[api.TaughtSectionPage](x, "/teaching/"+a)
	assert.Equal(t, a, page.Own)
	require.NotEmpty(t, page.Elsewhere)
	x.do(204, "PUT", "/teaching/"+a+"/name", api.SectionName{ShortName: "Cuttings"})
	x.do(422, "PUT", "/teaching/"+a+"/name", api.SectionName{ShortName: strings.Repeat("x", 61)})
	x.do(204, "PUT", "/teaching/order", api.SectionOrder{Sections: []string{a, a}})
	x.do(404, "PUT", "/teaching/order", api.SectionOrder{Sections: []string{"x"}})
	x.do(404, "GET", "/teaching/"+a+"/picture", nil)
	raw := []string{"Content-Type", "application/octet-stream"}
	x.do(204, "PUT", "/teaching/"+a+"/picture", picture(t, 300, 200), raw...)
	resp, content := x.ask("GET", "/api/v1/teaching/"+a+"/picture", "", x.bearer()...)
	assert.Equal(t, "image/png", resp.Header.Get("Content-Type"))
	kept, err := png.DecodeConfig(strings.NewReader(content))
	require.NoError(t, err)
	assert.Equal(t, []int{192, 192}, []int{kept.Width, kept.Height})
	for _, bad := range []string{"no picture", picture(t, 30, 30)[:200], picture(t, 6001, 1)} {
		x.do(422, "PUT", "/teaching/"+a+"/picture", bad, raw...)
	}
	x.do(204, "DELETE", "/teaching/"+a+"/picture", nil)
	x.do(404, "GET", "/teaching/"+a+"/picture", nil)
	page = get[api.TaughtSectionPage](x, "/teaching/"+a)
	assert.Equal(t, "Cuttings", page.ShortName)
	x.do(409, "POST", "/teaching/"+a+"/handed", api.NewHanding{PersonID: x.Person("tea-001").ID})
	var missing api.MissingPerson
	for _, m := range page.People {
		if !m.Waiting && m.PersonID != "" {
			missing = m
		}
	}
	require.NotEmpty(t, missing.Says, "somebody of the section is missing: %v", page.People)
	task := made[api.Task](x, "/teaching/"+a+"/handed", api.NewHanding{PersonID: missing.PersonID, Note: "Please"})
	assert.Equal(t, []string{"Please", missing.Ask}, []string{task.Detail, task.Owner})
	x.do(409, "POST", "/teaching/"+a+"/handed", api.NewHanding{PersonID: missing.PersonID})
	x.do(422, "POST", "/tasks/"+task.ID+"/done", api.TaskAnswer{Answer: strings.Repeat("x", 2001)})
	x.do(204, "POST", "/tasks/"+task.ID+"/done", api.TaskAnswer{Answer: "It is right now"})
}

// A teacher sees the sections that they teach and no others, arranged as they like; hands to whoever can mend it that
// somebody is missing, with the comparison; and gets the answer back.
func TestTeachersMindTheirTaughtSections(t *testing.T) {
	x := &talk{open(t, nil), describe(t)}
	left, right := x.halves()
	otto, ottos := x.invited("otto", nil, x.Person("tea-002").ID)
	_, others := x.invited("orla", nil, x.Person("tea-004").ID)
	token := ottos()
	ask := func(want int, method, path, body string) string {
		t.Helper()
		status, text := x.by(token, method, "/api/v1"+path, body)
		require.Equal(t, want, status, "%s %s: %s", method, path, text)
		return text
	}
	list := as[api.Page[api.TaughtSection]](x, ask(200, "GET", "/teaching", ""))
	require.Len(t, list.Items, list.Total)
	var titles []string
	for _, s := range list.Items {
		titles = append(titles, s.Title)
		assert.NotEqual(t, right.section, s.Own)
	}
	assert.Equal(t, []string{"Propagation", "Propagation A"}, titles)
	b := list.Items[0]
	assert.Equal(t, x.Section("PROP-B").ID, b.Own, "of the linked set, the section that is theirs")
	ask(204, "PUT", "/teaching/order", fmt.Sprintf(`{"sections": [%q, %q]}`, left.section, b.Own))
	ask(204, "PUT", "/teaching/"+left.section+"/name", `{"shortName": "Mornings"}`)
	list = as[api.Page[api.TaughtSection]](x, ask(200, "GET", "/teaching", ""))
	assert.Equal(t, []string{"Mornings", ""}, []string{list.Items[0].ShortName, list.Items[1].ShortName})
	ask(404, "GET", "/teaching/"+right.section, "")
	ask(404, "PUT", "/teaching/"+right.section+"/name", `{"shortName": "Mine"}`)
	ask(404, "PUT", "/teaching/order", fmt.Sprintf(`{"sections": [%q]}`, right.section))
	status, text := x.by(others(), "GET", "/api/v1/teaching", "")
	assert.Equal(t, 200, status)
	assert.NotContains(t, text, "Mornings", "what a teacher calls a section is their own")

	page := as[api.TaughtSectionPage](x, ask(200, "GET", "/teaching/"+left.section, ""))
	says := map[string]api.MissingPerson{}
	for _, m := range page.People {
		says[m.Name] = m
	}
	assert.Equal(t, "The register office has one e-mail address for two people, so nobody knows whose account it is.",
		says["Cleo Clover"].Says)
	assert.Equal(t, "register office", says["Cleo Clover"].Ask)
	assert.Equal(t, page.Missing+page.Waiting, len(page.People))
	var what []string
	for _, e := range page.Elsewhere {
		what = append(what, e.What+" "+strings.Join(e.Ask, ", "))
	}
	assert.Equal(t, []string{
		"Who is in the section is decided in the register: whoever is missing there is not here either. the register office",
		"Scores of this section are not carried anywhere. Maud <maud@fernmoor.example>",
	}, what)
	assert.NotContains(t, strings.Join(what, " "), "otto@", "nobody is sent to themselves")

	cleo := says["Cleo Clover"].PersonID
	body := fmt.Sprintf(`{"personId": %q, "note": "She starts on Monday."}`, cleo)
	task := as[api.Task](x, ask(201, "POST", "/teaching/"+left.section+"/handed", body))
	assert.Contains(t, ask(409, "POST", "/teaching/"+left.section+"/handed", body), "handed on already")
	ask(409, "POST", "/teaching/"+left.section+"/handed", fmt.Sprintf(`{"personId": %q}`, x.Person("stu-001").ID))
	ask(404, "POST", "/teaching/"+right.section+"/handed", body)
	status, _ = x.by(others(), "POST", "/api/v1/tasks/"+task.ID+"/done", "")
	assert.Equal(t, 404, status)
	var about map[string]any
	require.NoError(t, json.Unmarshal(task.About, &about))
	assert.Equal(t, "address-shared", about["code"])
	assert.Equal(t, "stu-003", about["register"].(map[string]any)["identifier"])
	open := get[api.Page[api.Task]](x, "/tasks").Items
	require.Equal(t, task.ID, open[len(open)-1].ID)
	assert.Equal(t, []string{"otto", "She starts on Monday.", "register office", "Propagation A"},
		[]string{
			open[len(open)-1].Asker, open[len(open)-1].Detail, open[len(open)-1].Owner,
			open[len(open)-1].Section,
		})
	x.do(204, "POST", "/tasks/"+task.ID+"/done", api.TaskAnswer{Answer: "She has her own address now."})
	page = as[api.TaughtSectionPage](x, ask(200, "GET", "/teaching/"+left.section, ""))
	for _, m := range page.People {
		if m.PersonID == cleo {
			assert.Equal(t, []string{"She has her own address now.", "Maud"}, []string{m.Task.Answer, m.Task.DoneBy})
		}
	}
	ask(201, "POST", "/teaching/"+left.section+"/handed", body) // it was not mended after all
	x.do(204, "DELETE", "/users/"+otto, nil)
	again := get[api.Page[api.Task]](x, "/tasks").Items
	assert.Equal(t, "otto", again[len(again)-1].Asker, "what somebody handed on outlasts them")

	_, support := x.invited("support", &permission.Grant{
		Role: permission.Support, Scope: permission.Scope{Kind: permission.Institution},
	}, "")
	status, text = x.by(support(), "GET", "/api/v1/teaching", "")
	assert.Equal(t, 200, status)
	assert.Contains(t, text, `"items":[]`, "who teaches nothing has none")
}
