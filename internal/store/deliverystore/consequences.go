package deliverystore

import (
	"context"

	"kanban/internal/store/db"
)

// Consequence is what a rule or a stage plan did because of a completion that was reversed
// since, and that nothing reverts.
type Consequence struct {
	Type                   string // of the completion
	PersonID, Person       string
	SectionID, CourseID    string
	ModuleID, ActivityID   string
	Kind, Badge, Operation string // of the action
	Origin, Service        string // names
}

// ConsequencesOfReversed lists what was done for completions that have been reversed at some time, by
// person. Whether they are still open is not looked at.
func ConsequencesOfReversed(ctx context.Context, from db.From) ([]Consequence, error) {
	return db.Rows[Consequence](ctx, from, "looking what reversed completions led to", `
		WITH open AS (SELECT DISTINCT replace(type, '.reopened', '.completed') AS type, person_id, section_id,
			module_id, activity_id FROM events
			WHERE type IN ('activity.reopened', 'module.reopened', 'course.reopened') AND person_id IS NOT NULL
				AND section_id IS NOT NULL)
		SELECT c.type, c.person_id::text, coalesce((SELECT p.given_name || ' ' || p.family_name FROM people p
			WHERE p.id = c.person_id AND p.leads), '') AS person, c.section_id::text, c.course_id::text, c.module_id,
			c.activity_id,
			d.action->>'kind' AS kind, coalesce(b.name, '') AS badge, coalesce(d.action->>'operation',
				d.action->>'group', '') AS operation,
			coalesce((SELECT r.name FROM rules r WHERE r.id = d.rule_id), (SELECT p.name FROM stage_plans p
				WHERE p.id = d.stage_plan_id), '') AS origin, coalesce((SELECT n.name FROM interfaces n
				WHERE n.id = d.interface_id), '') AS service
		FROM open o JOIN events c ON c.type = o.type AND c.person_id = o.person_id AND c.section_id = o.section_id
			AND c.module_id = o.module_id AND c.activity_id = o.activity_id
		JOIN deliveries d ON d.event_id = c.id AND d.state = 'delivered' AND d.undoes IS NULL
			AND d.action->>'kind' IN ('award', 'call-operation', 'send-event', 'enrol', 'add-to-group')
		LEFT JOIN badges b ON b.id::text = d.action->>'badgeId'
		WHERE NOT EXISTS (SELECT FROM deliveries u WHERE u.undoes = d.id)
			AND (d.action->>'kind' <> 'award' OR EXISTS (SELECT FROM awards a
				WHERE a.badge_id = b.id AND a.person_id = c.person_id AND a.event_id = c.id AND a.revoked_at IS NULL))
		ORDER BY c.person_id, c.section_id, c.type, c.module_id, c.activity_id, d.id`)
}

// KeepChains keeps with events of joining and leaving how many events led to them by deliveries
// that enrolled the person there or took them out in the 60 days before, and gives those
// numbers by event. Events that nothing led to are left out.
func KeepChains(ctx context.Context, from db.From, ids []string) (map[string]int, error) {
	return db.Map[string, int](ctx, from, "looking what led to events", `
		WITH led AS (
			SELECT e.id, 1 + coalesce((c.data->>'chain')::int, 0) AS n
			FROM events e
			CROSS JOIN LATERAL (SELECT d.event_id FROM deliveries d
				WHERE d.person_id = e.person_id AND d.state = 'delivered'
					AND d.action->>'kind' = CASE e.type WHEN 'section.left' THEN 'unenrol' ELSE 'enrol' END
					AND coalesce(nullif(d.action->>'sectionId', ''), d.section_id::text) = e.section_id::text
						AND d.event_id < e.id AND d.finished_at > e.recorded_at - interval '60 days'
				ORDER BY d.finished_at DESC LIMIT 1) d
			JOIN events c ON c.id = d.event_id
			WHERE e.id = ANY ($1::text[]::uuid[]))
		UPDATE events e SET data = coalesce(e.data, '{}') || jsonb_build_object('chain', led.n) FROM led
			WHERE e.id = led.id RETURNING e.id::text AS key, led.n AS value`, ids)
}
