package web_test

import (
	"net/url"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/core/learning"
	"kanban/internal/core/permission"
	"kanban/internal/store/db"
	"kanban/internal/store/eventstore"
	"kanban/internal/wire/api"
)

// Why something was recorded of somebody, or was not, is answered by the register, the outline and what they did.
func TestWhyEvents(t *testing.T) {
	x := &talk{open(t, nil), describe(t)}
	x.World.Read(x.Register(), false)
	ada, section := x.Person("stu-001").ID, x.Section("PROP-A")
	why := func(thing string) api.Why {
		t.Helper()
		return get[api.Why](x, "/people/"+ada+"/why?kind=event&thing="+url.QueryEscape(thing))
	}
	last := func(a api.Why) []any {
		require.NotEmpty(t, a.Steps)
		s := a.Steps[len(a.Steps)-1]
		return []any{a.Happened, s.Found, s.Owner}
	}
	module := "module.completed/" + section.ID + "/m/1"
	assert.Equal(t, []any{false, "it has none", "administrator"}, last(why(module)))
	x.do(204, "PUT", "/courses/"+section.CourseID+"/outline", learning.Outline{Modules: []learning.Module{
		{ID: "m/1", Title: "Cuttings", Activities: []learning.Activity{
			{ID: "https://x.example/a/1", Title: "First", Kind: learning.Lesson},
			{ID: "https://x.example/a/2", Title: "Quiz", Kind: learning.Assessment},
			{ID: "https://x.example/a/3", Title: "More", Kind: learning.Lesson, Optional: true},
		}},
	}})
	a := why(module)
	assert.Equal(t, []any{false, "2 not done: First (not begun), Quiz (not begun)", "learner"}, last(a))
	assert.Contains(t, a.Thing.Title, "Cuttings")
	assert.NotEmpty(t, a.Again)
	assert.Equal(t, []any{false, "1 not done: Cuttings", "learner"}, last(why("course.completed/"+section.ID+"/")))
	quiz := "assessment.passed/" + section.ID + "/https://x.example/a/2"
	assert.Equal(t, []any{false, "nothing was, so far", "learner"}, last(why(quiz)))
	assert.Equal(t, []any{false, "it does not", "register office"},
		last(why("module.completed/"+x.Section("ORCH-A").ID+"/m/1")))
	joined := why("section.joined/" + section.ID + "/")
	assert.Contains(t, joined.Steps[len(joined.Steps)-1].Found, "longer ago than history is kept")
	things := get[api.Page[api.Thing]](x, "/people/"+ada+"/things?text=cuttings")
	require.Len(t, things.Items, 1)
	assert.Equal(t, module, things.Items[0].ID)

	x.Record(eventstore.Event{
		Type: "module.completed", NaturalKey: db.NewID(), PersonID: &ada, SectionID: &section.ID,
		CourseID: &section.CourseID, ModuleID: "m/1", OccurredAt: time.Now().Add(-time.Hour).UTC(),
	})
	a = why(module)
	assert.True(t, a.Happened)
	assert.Contains(t, a.Thing.Title, "Cuttings", "it says of what")
	assert.Equal(t, "later than it happened", a.Steps[len(a.Steps)-1].Found)
	assert.Empty(t, a.Again)
	for _, bad := range []string{
		"module.completed", "x/y/z", "module.completed/" + section.ID + "/none",
		"/" + section.ID + "/",
	} {
		x.do(404, "GET", "/people/"+ada+"/why?kind=event&thing="+url.QueryEscape(bad), nil)
	}
	_, other := x.invited("other", &permission.Grant{
		Role: permission.Support, Scope: permission.Scope{Kind: permission.Section, ID: x.Section("PROP-B").ID},
	}, "")
	twice := x.Person("stu-012").ID // in both
	status, _ := x.by(other(), "GET", "/api/v1/people/"+twice+"/why?kind=event&thing="+url.QueryEscape(module), "")
	assert.Equal(t, 404, status, "what happens in sections of others is theirs")
}
