package personstore

import (
	"context"

	"kanban/internal/store/db"
)

// Named is the name of somebody, and what they sign in with; or the title of something else.
type Named struct {
	Given, Family, Login string
	Title                string // when it is no person
}

// EachName hands out the name of everybody who is known, now or before, and the titles of what else has a name, each
// once: everything by which people and things are told apart in texts.
func EachName(ctx context.Context, from db.From, do func(Named) error) error {
	return db.Each(ctx, from, "listing names", `
		SELECT given_name AS given, family_name AS family, user_name AS login, '' AS title FROM people
		UNION SELECT name, '', '', '' FROM users
		UNION SELECT name, '', '', '' FROM accesses
		UNION SELECT name, '', '', '' FROM placements
		UNION SELECT name, '', '', '' FROM score_changes
		UNION SELECT name, '', '', '' FROM person_merges
		UNION SELECT shown_name, '', '', '' FROM holders
		UNION SELECT by_name, '', '', '' FROM stage_approvals
		UNION SELECT '', '', '', title FROM (
			SELECT title FROM sections UNION SELECT title FROM courses UNION SELECT title FROM terms
			UNION SELECT name FROM orgs UNION SELECT name FROM badges UNION SELECT name FROM rules
			UNION SELECT name FROM connections UNION SELECT name FROM interfaces UNION SELECT name FROM issuers
			UNION SELECT name FROM offers UNION SELECT name FROM providers UNION SELECT name FROM stage_plans
			UNION SELECT name FROM people_lists UNION SELECT name FROM linked_sets UNION SELECT target_name FROM pairings
			UNION SELECT jsonb_path_query(outline, '$.**.title') #>> '{}' FROM outlines
		) AS titles WHERE title IS NOT NULL`, nil, do)
}
