package platform_test

import (
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/standin/gradebook"
	"kanban/internal/standin/platform"
	"kanban/internal/standin/school"
	"kanban/internal/wire/call"
	"kanban/internal/wire/oneroster"
)

func TestWhatTeachersMarkIsInTheGradebook(t *testing.T) {
	p := platform.New(school.Fernmoor(time.Now))
	server := httptest.NewServer(p)
	t.Cleanup(server.Close)
	client := func(secret string, scopes ...string) *oneroster.Client {
		return oneroster.NewGradebook(oneroster.V12, server.URL, server.URL+"/oauth/token", platform.MarksID,
			secret, scopes,
			call.Options{Retries: -1})
	}
	post := func(path string, values map[string]string) int {
		form := url.Values{"item": {"cuttings-report"}}
		for k, v := range values {
			form.Set(k, v)
		}
		got, err := http.PostForm(server.URL+path, form)
		require.NoError(t, err)
		defer got.Body.Close()
		return got.StatusCode
	}
	result := func() oneroster.Record {
		r, found, err := client(platform.MarksSecret, oneroster.ScopeGradebookRead).One(t.Context(),
			oneroster.FileResults,
			"cuttings-report-stu-001")
		require.NoError(t, err)
		require.True(t, found)
		return r
	}
	ada := map[string]string{"learner": "stu-001", "score": "17,5", "comment": "well done"}
	require.Equal(t, http.StatusOK, post("/marking", ada))
	assert.Equal(t, "submitted", result().Get("scoreStatus"))
	assert.Equal(t, "17.5", result().Get("score"))
	require.Equal(t, http.StatusOK, post("/marking/release", nil))
	assert.Equal(t, "fully graded", result().Get("scoreStatus"))
	ada["release"], ada["flag"], ada["score"] = "1", "late", "good"
	require.Equal(t, http.StatusOK, post("/marking", ada))
	assert.Equal(t, "good", result().Get("textScore"))
	assert.Equal(t, "true", result().Get("late"))
	require.Equal(t, http.StatusOK, post("/marking/withdraw", ada))
	assert.Equal(t, oneroster.ToBeDeleted, result().Get("status"))
	assert.Equal(t, http.StatusUnprocessableEntity, post("/marking", map[string]string{
		"learner": "tea-001",
		"score":   "1",
	}))
	assert.Len(t, gradebook.All[oneroster.Result](p.Marks, oneroster.FileResults), 1)

	page, err := http.Get(server.URL + "/marking?item=cuttings-report")
	require.NoError(t, err)
	defer page.Body.Close()
	text, err := io.ReadAll(page.Body)
	require.NoError(t, err)
	assert.Contains(t, string(text), "Ada Alder")
	assert.Contains(t, string(text), "deleted")

	_, err = client("wrong", oneroster.ScopeGradebookRead).Authorise(t.Context())
	require.Error(t, err)
	_, err = client(platform.MarksSecret, oneroster.ScopeGradebookRead).Put(t.Context(), oneroster.FileCategories, "c",
		oneroster.Category{Title: "Mine"})
	assert.ErrorContains(t, err, "does not grant")
}
