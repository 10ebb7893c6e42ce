package pipeline

import (
	"context"
	"maps"
	"slices"
	"strings"
	"unicode"

	"kanban/internal/core/learning"
	"kanban/internal/store/db"
	"kanban/internal/store/jobs"
	"kanban/internal/store/learningstore"
	"kanban/internal/store/rosterstore"
	"kanban/internal/wire/xapi"
)

// learn adds activities that are in no outline to the outline of their course, where
// nobody gave one: the statement names the course among its groupings, and the module
// as its parent. It gives the courses of all activities.
func (s *Facts) learn(ctx context.Context, items []*item, placed learningstore.Placed) (learningstore.Placed, error) {
	type lesson struct {
		moduleID, moduleTitle string
		activity              learning.Activity
	}
	lessons := map[string][]lesson{} // by course
	for _, x := range items {
		st := x.statement
		if x.note != "" || len(placed.Courses[st.Object.ID]) > 0 || st.Context == nil ||
			len(st.Context.ContextActivities.Parent) == 0 {
			continue
		}
		course, err := s.courseMeant(ctx, x.person.ID, st.Context.ContextActivities.Grouping)
		if err != nil {
			return placed, err
		}
		if course == "" {
			continue
		}
		parent := st.Context.ContextActivities.Parent[0]
		lessons[course] = append(lessons[course], lesson{
			parent.ID, nameOf(parent),
			learning.Activity{ID: st.Object.ID, Title: nameOf(st.Object), Kind: kindOfType(st.Object)},
		})
	}
	for _, course := range slices.Sorted(maps.Keys(lessons)) {
		err := s.Store.InTx(ctx, func(tx *db.Tx) error {
			o, err := learningstore.LockOutline(ctx, tx, course)
			if err != nil {
				return err
			}
			changed := false
			for _, l := range lessons[course] {
				var ok bool
				o, ok = learning.Learn(o, l.moduleID, l.moduleTitle, l.activity)
				changed = changed || ok
			}
			if !changed || o.Check() != nil {
				return nil
			}
			if err := learningstore.SetOutline(ctx, tx, "what was reported", course, o); err != nil {
				return err
			}
			return tx.Enqueue(ctx, jobs.RecountCourse{CourseID: course})
		})
		if err != nil {
			return placed, err
		}
	}
	if len(lessons) == 0 {
		return placed, nil
	}
	var ids []string
	for _, x := range items {
		ids = append(ids, x.statement.Object.ID)
	}
	return learningstore.CoursesWith(ctx, s.Store, distinct(ids))
}

// courseMeant finds the one course of a person that a statement's groupings name: by
// code or title, as their name or at the end of their address.
func (s *Facts) courseMeant(ctx context.Context, personID string, groupings xapi.Activities) (string, error) {
	if len(groupings) == 0 {
		return "", nil
	}
	enrolled, err := rosterstore.SectionsOf(ctx, s.Store.Quickly(), []string{personID}, nil)
	if err != nil {
		return "", err
	}
	mine := map[string]bool{}
	for _, e := range enrolled {
		mine[e.CourseID] = true
	}
	all, err := learningstore.Courses(ctx, s.Store)
	if err != nil {
		return "", err
	}
	names := map[string]bool{}
	for _, g := range groupings {
		names[slug(nameOf(g))] = true
		names[slug(g.ID[strings.LastIndexByte(strings.TrimRight(g.ID, "/"), '/')+1:])] = true
	}
	delete(names, "")
	found := ""
	for _, c := range all {
		if mine[c.ID] && (names[slug(c.Title)] || names[slug(c.Code)]) {
			if found != "" {
				return "", nil // two could be meant
			}
			found = c.ID
		}
	}
	return found, nil
}

// slug makes names comparable: small letters and digits only.
func slug(text string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			return unicode.ToLower(r)
		}
		return -1
	}, text)
}

func nameOf(o xapi.Object) string {
	if o.Definition != nil {
		for _, language := range slices.Sorted(maps.Keys(o.Definition.Name)) {
			return o.Definition.Name[language]
		}
	}
	id := strings.TrimRight(o.ID, "/")
	return id[strings.LastIndexByte(id, '/')+1:]
}

func kindOfType(o xapi.Object) learning.Kind {
	if o.Definition == nil {
		return learning.Lesson
	}
	kind := strings.ToLower(o.Definition.Type)
	switch {
	case strings.HasSuffix(kind, "/assessment"), strings.HasSuffix(kind, "/quiz"), strings.HasSuffix(kind,
		"/question"):
		return learning.Assessment
	case strings.HasSuffix(kind, "/assignment"):
		return learning.Assignment
	}
	return learning.Lesson
}
