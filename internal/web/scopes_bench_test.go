package web_test

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kanban/internal/core/permission"
)

// How long the list of sections and the board take, of 11,112 sections with 10,000 pairings, for somebody who reaches
// one school of ten, all of them through the organisation above, and what a teacher teaches.
func BenchmarkPartOfALargeInstitution(b *testing.B) {
	x := open(b, nil)
	x.Large(11_112, 20)
	statement := func(text string, args ...any) {
		_, err := x.Store.Pool.Exec(b.Context(), text, args...)
		require.NoError(b, err)
	}
	statement(`INSERT INTO orgs (interface_id, sourced_id, name, type, parent) SELECT interface_id, 'school-' || n,
		'School ' || n, 'school', sourced_id FROM (SELECT * FROM orgs LIMIT 1) o, generate_series(0, 9) n`)
	statement(`UPDATE sections SET org = 'school-' || abs(hashtext(id::text)) % 10`)
	statement(`UPDATE enrolments SET role = 'teacher' WHERE (section, person) IN (SELECT section, person FROM enrolments
		WHERE person = (SELECT person FROM enrolments GROUP BY person ORDER BY count(*) DESC, person LIMIT 1))`)
	id := func(query string) (id string) {
		require.NoError(b, x.Store.Pool.QueryRow(b.Context(), query).Scan(&id))
		return id
	}
	school := id(`SELECT id FROM orgs WHERE sourced_id = 'school-3'`)
	top := id(`SELECT parent.id FROM orgs o JOIN orgs parent ON parent.sourced_id = o.parent WHERE o.id = '` + school + `'`)
	in := func(kind permission.ScopeKind, id string) *permission.Grant {
		return &permission.Grant{Role: permission.Operator, Scope: permission.Scope{Kind: kind, ID: id}}
	}
	who := map[string]func() string{"whole": func() string { return x.token }}
	_, who["school"] = x.invited("school", in(permission.Organisation, school), "")
	_, who["all-schools"] = x.invited("all-schools", in(permission.Organisation, top), "")
	_, who["teacher"] = x.invited("teacher", nil, id(`SELECT p.id FROM people p JOIN enrolments e
		ON e.interface_id = p.interface_id AND e.person = p.sourced_id WHERE e.role = 'teacher' GROUP BY p.id
		ORDER BY count(*) DESC LIMIT 1`))
	for b.Loop() {
		for _, name := range []string{"whole", "school", "all-schools", "teacher"} {
			token := who[name]()
			for page, path := range map[string]string{"sections": "/sections?limit=100", "board": "/board"} {
				var took []time.Duration
				for range 15 {
					started := time.Now()
					resp, text := x.ask("GET", "/api/v1"+path, "", "Authorization", "Bearer "+token)
					took = append(took, time.Since(started))
					require.Equal(b, 200, resp.StatusCode, text)
				}
				slices.Sort(took)
				b.ReportMetric(float64(took[len(took)/2].Microseconds())/1000, fmt.Sprintf("ms-%s-%s", name, page))
			}
		}
	}
}
