package rulestore

import (
	"context"
	"errors"
	"slices"

	"github.com/google/uuid"

	"kanban/internal/core/rule"
	"kanban/internal/store/db"
)

// ScopeTitles is what a scope names, as people read it; empty where there is no such thing, or
// not any more.
type ScopeTitles struct{ Course, Section, Module, Activity string }

// TitlesOfScopes gives the titles of what scopes name, in their order. What has no title goes by
// its id.
func TitlesOfScopes(ctx context.Context, from db.From, scopes []rule.Scope) ([]ScopeTitles, error) {
	var courses, sections, modules, activities, within []string
	anywhere := false // a module or an activity may stand in any outline
	for _, x := range scopes {
		courses, sections = append(courses, x.Course), append(sections, x.Section)
		if x.Module+x.Activity != "" {
			modules, activities, within = append(modules, x.Module), append(activities, x.Activity), append(within,
				x.Course)
			anywhere = anywhere || x.Course == ""
		}
	}
	if anywhere {
		within = nil
	}
	titles := [4]map[string]string{}
	unusable := func(id string) bool { _, err := uuid.Parse(id); return err != nil }
	ask := func(n int, sql string, ids []string, more ...any) (err error) {
		ids = slices.DeleteFunc(ids, func(id string) bool { return id == "" || n < 2 && unusable(id) })
		if len(ids) > 0 {
			titles[n], err = db.Map[string, string](ctx, from, "finding titles", sql, append([]any{ids}, more...)...)
		}
		return err
	}
	err := errors.Join(ask(0, `SELECT id::text AS key, coalesce(nullif(title, ''), id::text) AS value FROM courses
		WHERE id = ANY ($1::text[]::uuid[]) AND gone_at IS NULL`, courses),
		ask(1, `SELECT id::text AS key, coalesce(nullif(title, ''), id::text) AS value FROM sections
			WHERE id = ANY ($1::text[]::uuid[]) AND gone_at IS NULL`, sections),
		ask(2, `SELECT m->>'id' AS key, coalesce(nullif(m->>'title', ''), m->>'id') AS value
			FROM outlines o, jsonb_array_elements(o.outline->'modules') m
		WHERE m->>'id' = ANY ($1) AND ($2::text[] IS NULL OR o.course_id::text = ANY ($2))`, modules, within),
		ask(3, `SELECT a->>'id' AS key, coalesce(nullif(a->>'title', ''), a->>'id') AS value
			FROM outlines o, jsonb_path_query(o.outline, '$.modules[*].activities.** ? (@.kind <> "")') a
		WHERE o.course_id IN (SELECT x.course_id FROM outline_activities x
			WHERE x.activity_id = ANY ($1)) AND a->>'id' = ANY ($1)`, activities))
	if err != nil {
		return nil, err
	}
	list := make([]ScopeTitles, len(scopes))
	for i, x := range scopes {
		list[i] = ScopeTitles{titles[0][x.Course], titles[1][x.Section], titles[2][x.Module], titles[3][x.Activity]}
	}
	return list, nil
}
