package store_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/apptest"
	"kanban/internal/core/learning"
	"kanban/internal/core/rule"
	"kanban/internal/store/db"
	"kanban/internal/store/rulestore"
)

// Scopes read as people wrote their titles; what is not there reads as nothing.
func TestPlacesHaveTheirTitles(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	section := w.Section("PROP-A")
	require.NoError(t, w.Outlines.SetOutline(t.Context(), "test", section.CourseID,
		learning.Outline{Modules: []learning.Module{
			{ID: "m1", Title: "Cuttings", Activities: []learning.Activity{{
				ID:    "http://p.example/a",
				Title: "Clean tools",
				Kind:  learning.Lesson, Activities: []learning.Activity{{
					ID:   "http://p.example/a/quiz",
					Kind: learning.Assessment,
				}},
			}}},
			{ID: "m2", Activities: []learning.Activity{{
				ID: "http://p.example/b", Title: "The union",
				Kind: learning.Lesson,
			}}},
		}}))
	other := w.Section("SOIL-A").CourseID
	got, err := rulestore.TitlesOfScopes(t.Context(), w.Store, []rule.Scope{
		{},
		{Course: section.CourseID, Section: section.ID, Module: "m1", Activity: "http://p.example/a"},
		{Module: "m2", Activity: "http://p.example/a/quiz"}, // in any course; without titles they go by their ids
		{Course: db.NewID(), Section: "no id", Module: "m3", Activity: "http://p.example/c"},
	})
	require.NoError(t, err)
	assert.Equal(t, []rulestore.ScopeTitles{{}, {
		Course: "Propagation", Section: "Propagation A", Module: "Cuttings",
		Activity: "Clean tools",
	}, {Module: "m2", Activity: "http://p.example/a/quiz"}, {}}, got)
	got, err = rulestore.TitlesOfScopes(t.Context(), w.Store, []rule.Scope{{Course: other, Module: "m1"}})
	require.NoError(t, err)
	assert.Equal(t, "Soil science", got[0].Course)
	assert.Empty(t, got[0].Module, "it is another course's")
}
