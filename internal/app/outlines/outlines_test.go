package outlines_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"kanban/internal/app/outlines"
	"kanban/internal/apptest"
	"kanban/internal/core/learning"
	"kanban/internal/core/rule"
	"kanban/internal/store/db"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/learningstore"
	"kanban/internal/wire/xapi"
)

func events(t *testing.T, w *apptest.World, kind rule.Trigger) (who []string) {
	t.Helper()
	list, err := eventstore.Events(t.Context(), w.Store, eventstore.EventFilter{Type: string(kind), Limit: 100})
	require.NoError(t, err)
	for i := len(list) - 1; i >= 0; i-- {
		who = append(who, list[i].Person)
	}
	return who
}

// A new outline is previewed with whom it completes and reopens; then exactly that
// happens, once, whether a fact or the background comes first.
func TestNewOutlineIsPreviewedThenWorkedOut_E2(t *testing.T) {
	w, now := apptest.Clocked(t)
	w.Outlined()
	course := w.Section("PROP-A").CourseID
	platform := w.Connect("xapi", "Platform", nil).ID
	w.Completes(platform, "stu-001", "one", *now)
	for _, a := range []string{"one", "two"} {
		w.Completes(platform, "stu-002", a, *now)
		w.Completes(platform, "stu-003", a, *now)
	}
	w.Completes(platform, "stu-003", "three", *now) // in no outline yet
	require.Len(t, events(t, w, rule.CourseCompleted), 2)

	shorter := learning.Outline{Modules: []learning.Module{{
		ID: "m", Title: "M",
		Activities: []learning.Activity{{ID: apptest.Activities + "one", Title: "One", Kind: learning.Lesson}},
	}}}
	p, err := w.Outlines.PreviewOutline(t.Context(), course, shorter)
	require.NoError(t, err)
	assert.Equal(t, 3, p.People)
	assert.Equal(t, 1, p.Completes)
	assert.Zero(t, p.Reopens)
	require.Len(t, p.Touched, 1)
	assert.Equal(t, "Ada Alder", p.Touched[0].Person)
	assert.Equal(t, []int{50, 100}, []int{p.Touched[0].Before, p.Touched[0].After})
	assert.Contains(t, p.Touched[0].Completed, "the course")

	longer := learning.Outline{Modules: []learning.Module{{ID: "m", Title: "M", Activities: []learning.Activity{
		{ID: apptest.Activities + "one", Kind: learning.Lesson}, {
			ID:   apptest.Activities + "two",
			Kind: learning.Lesson,
		}, {ID: apptest.Activities + "three", Title: "Three", Kind: learning.Lesson},
	}}}}
	p, err = w.Outlines.PreviewOutline(t.Context(), course, longer)
	require.NoError(t, err)
	assert.Equal(t, 2, p.Reopens,
		"what was reported before an outline had it counts only if it was kept for the place")
	require.NoError(t, w.Outlines.SetOutline(t.Context(), "test", course, longer))
	w.Completes(platform, "stu-002", "three", *now) // before the background has come to it
	for range 2 {
		require.NoError(t, w.Facts.RecountCourse(t.Context(), course)) // the queued job, twice
	}
	assert.Len(t, events(t, w, rule.CourseReopened), 2)
	assert.Len(t, events(t, w, rule.CourseCompleted), 2, "done again is not recorded again")
	require.NoError(t, w.Facts.Resolve(t.Context()))
	percent := map[string]int{}
	for _, who := range []string{"stu-001", "stu-002", "stu-003"} {
		g, err := learningstore.ProgressOf(t.Context(), w.Store, w.Person(who).ID, w.Section("PROP-A").ID)
		require.NoError(t, err)
		percent[who] = learning.Percent(longer, g)
	}
	assert.Equal(t, map[string]int{"stu-001": 33, "stu-002": 100, "stu-003": 100}, percent,
		"what came too early counts too")
}

func TestOutlinesAreLearnedFromParents_E2(t *testing.T) {
	w, now := apptest.Clocked(t)
	platform := w.Connect("xapi", "Platform", nil).ID
	take := func(who, activity, module, course string) {
		t.Helper()
		raw := json.RawMessage(fmt.Sprintf(`{"id":%q,"timestamp":%q,"actor":{"account":{"homePage":"https://p.example","name":%q}},"verb":{"id":"http://adlnet.gov/expapi/verbs/completed"},
			"object":{"id":%q,"definition":{"name":{"en":"Title of %s"},"type":"http://adlnet.gov/expapi/activities/lesson"}},
			"context":{"contextActivities":{"parent":[{"id":"https://p.example/m/%s"}],"grouping":[{"id":"https://p.example/c/%s/"}]}}}`,
			db.NewID(), now.Format(time.RFC3339), who, apptest.Activities+activity, activity, module, course))
		list, _, err := xapi.Parse(raw)
		require.NoError(t, err)
		_, err = w.Facts.Take(t.Context(), platform, list, []json.RawMessage{raw})
		require.NoError(t, err)
	}
	course := w.Section("PROP-A").CourseID
	take("stu-001", "a", "m1", "propagation")
	take("stu-001", "b", "m1", "propagation")
	take("stu-001", "c", "m1", "beekeeping") // not a course of hers
	o, err := learningstore.Outline(t.Context(), w.Store, course)
	require.NoError(t, err)
	assert.True(t, o.Learned)
	require.Len(t, o.Modules, 1)
	assert.Equal(t, []learning.Activity{
		{ID: apptest.Activities + "a", Title: "Title of a", Kind: learning.Lesson},
		{ID: apptest.Activities + "b", Title: "Title of b", Kind: learning.Lesson},
	}, o.Modules[0].Activities)
	assert.Len(t, events(t, w, rule.ActivityCompleted), 2)

	w.Outlined() // somebody gives one
	take("stu-001", "d", "m1", "propagation")
	o, err = learningstore.Outline(t.Context(), w.Store, course)
	require.NoError(t, err)
	assert.False(t, o.Learned)
	_, _, there := o.Find(apptest.Activities + "d")
	assert.False(t, there, "an outline that was given is left alone")
}

func TestInstitutionsOwnVerbs_E1(t *testing.T) {
	w, now := apptest.Clocked(t)
	w.Outlined()
	platform := w.Connect("xapi", "Platform", nil).ID
	raw := json.RawMessage(fmt.Sprintf(`{"id":%q,"timestamp":%q,"actor":{"account":{"homePage":"https://p.example","name":"stu-001"}},"verb":{"id":"https://fernmoor.example/verbs/dug"},"object":{"id":%q}}`, db.NewID(), now.Format(time.RFC3339), apptest.Activities+"one"))
	list, _, err := xapi.Parse(raw)
	require.NoError(t, err)
	_, err = w.Facts.Take(t.Context(), platform, list, []json.RawMessage{raw})
	require.NoError(t, err)
	assert.Empty(t, events(t, w, rule.ActivityCompleted))
	assert.ErrorContains(t, w.Facts.SetVerbs(t.Context(), "test",
		[]learning.VerbRule{{Verb: "dug", Says: learning.Completed}}), "not an IRI")
	require.NoError(t, w.Facts.SetVerbs(t.Context(), "test",
		[]learning.VerbRule{{Verb: "https://fernmoor.example/verbs/dug", Says: learning.Completed}}))
	require.NoError(t, w.Facts.Resolve(t.Context())) // the queued job
	assert.Equal(t, []string{"Ada Alder"}, events(t, w, rule.ActivityCompleted),
		"what came before it was known counts")
}

// Handing work in is told each time, and is no finishing, whatever score comes with it.
func TestWorkSubmittedForMarking_E11(t *testing.T) {
	w, now := apptest.Clocked(t)
	mark := 0.5
	require.NoError(t, w.Outlines.SetOutline(t.Context(), "test", w.Section("PROP-A").CourseID,
		learning.Outline{Modules: []learning.Module{{
			ID: "m",
			Activities: []learning.Activity{{
				ID: apptest.Activities + "essay", Kind: learning.Assignment,
				PassMark: &mark,
			}},
		}}}))
	platform := w.Connect("xapi", "Platform", nil).ID
	for range 2 {
		raw := json.RawMessage(fmt.Sprintf(`{"id":%q,"timestamp":%q,"actor":{"account":{"homePage":"https://p.example","name":"stu-001"}},"verb":{"id":"http://activitystrea.ms/schema/1.0/submit"},"object":{"id":%q},"result":{"score":{"scaled":1}}}`, db.NewID(), now.Format(time.RFC3339), apptest.Activities+"essay"))
		list, _, err := xapi.Parse(raw)
		require.NoError(t, err)
		_, err = w.Facts.Take(t.Context(), platform, list, []json.RawMessage{raw})
		require.NoError(t, err)
	}
	assert.Equal(t, []string{"Ada Alder", "Ada Alder"}, events(t, w, rule.WorkSubmitted))
	for _, none := range []rule.Trigger{rule.ScoreReported, rule.AssessmentPassed, rule.ActivityCompleted} {
		assert.Empty(t, events(t, w, none), none)
	}
	w.Completes(platform, "stu-001", "essay", *now) // without a score the pass mark is not reached
	assert.Empty(t, events(t, w, rule.CourseCompleted))
}

// A statement and the one that voids it never miss each other, even when both come in
// the same instant.
func TestVoidingInTheSameInstant(t *testing.T) {
	w, now := apptest.Clocked(t)
	w.Outlined()
	platform := w.Connect("xapi", "Platform", nil).ID
	take := func(texts ...string) error {
		list, raw, err := xapi.Parse([]byte("[" + strings.Join(texts, ",") + "]"))
		if err == nil {
			_, err = w.Facts.Take(t.Context(), platform, list, raw)
		}
		return err
	}
	actor := `"actor":{"account":{"homePage":"https://p.example","name":"stu-001"}}`
	for range 30 {
		id := db.NewID()
		var both errgroup.Group
		both.Go(func() error {
			return take(fmt.Sprintf(`{"id":%q,"timestamp":%q,%s,"verb":{"id":"http://adlnet.gov/expapi/verbs/completed"},"object":{"id":%q}}`, id, now.Format(time.RFC3339), actor, apptest.Activities+"one"))
		})
		both.Go(func() error {
			return take(fmt.Sprintf(`{"id":%q,%s,"verb":{"id":%q},"object":{"objectType":"StatementRef","id":%q}}`,
				db.NewID(), actor, xapi.Voided, id))
		})
		require.NoError(t, both.Wait())
	}
	state, err := learningstore.ProgressOf(t.Context(), w.Store, w.Person("stu-001").ID, w.Section("PROP-A").ID)
	require.NoError(t, err)
	assert.Empty(t, state.Activities, "every one of them was voided")
}

func TestScoresByPassMark(t *testing.T) {
	w, now := apptest.Clocked(t)
	mark := 0.6
	require.NoError(t, w.Outlines.SetOutline(t.Context(), "test", w.Section("PROP-A").CourseID,
		learning.Outline{Modules: []learning.Module{{
			ID: "m",
			Activities: []learning.Activity{{
				ID: apptest.Activities + "quiz", Kind: learning.Assessment,
				PassMark: &mark,
			}},
		}}}))
	platform := w.Connect("xapi", "Platform", nil).ID
	scores := func(score string) {
		t.Helper()
		raw := json.RawMessage(fmt.Sprintf(`{"id":%q,"timestamp":%q,"actor":{"account":{"homePage":"https://p.example","name":"stu-001"}},"verb":{"id":"http://adlnet.gov/expapi/verbs/scored"},"object":{"id":%q},"result":{"score":%s}}`, db.NewID(), now.Format(time.RFC3339), apptest.Activities+"quiz", score))
		list, _, err := xapi.Parse(raw)
		require.NoError(t, err)
		_, err = w.Facts.Take(t.Context(), platform, list, []json.RawMessage{raw})
		require.NoError(t, err)
	}
	scores(`{"raw":11,"max":20}`)
	scores(`{"raw":21}`) // says nothing: of how many is not known
	assert.Len(t, events(t, w, rule.AssessmentFailed), 1)
	assert.Len(t, events(t, w, rule.ScoreReported), 1)
	assert.Empty(t, events(t, w, rule.CourseCompleted))
	scores(`{"raw":3,"min":0,"max":5}`)
	assert.Len(t, events(t, w, rule.AssessmentPassed), 1)
	assert.Len(t, events(t, w, rule.CourseCompleted), 1)
}

func TestManifestByAddress(t *testing.T) {
	w, _ := apptest.Clocked(t)
	server := httptest.NewServer(http.HandlerFunc(func(out http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/moved.xml" {
			http.Redirect(out, r, "/imsmanifest.xml", http.StatusFound)
			return
		}
		_, _ = out.Write([]byte(apptest.Manifest))
	}))
	defer server.Close()
	o, err := w.Outlines.FetchCartridge(t.Context(), "http://p.example/", server.URL+"/imsmanifest.xml")
	require.NoError(t, err)
	assert.Len(t, o.Modules, 2)
	_, err = w.Outlines.FetchCartridge(t.Context(), "", server.URL+"/moved.xml")
	assert.ErrorContains(t, err, "redirects")
	_, err = w.Outlines.FetchCartridge(t.Context(), "", "file:///etc/passwd")
	assert.ErrorContains(t, err, "not a full http")
	_, err = outlines.ReadTable(strings.NewReader("module,activity,kind\nm,a,game\n"))
	assert.ErrorContains(t, err, "row 2")
}
