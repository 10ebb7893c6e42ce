package mirror

import (
	"context"
	"fmt"
	"slices"

	"kanban/internal/store/db"
)

// ColumnLost is the error of a read that would empty a column of the mirror.
type ColumnLost struct {
	Table, Column string
	Values        int // how many records have a value in it
}

func (e *ColumnLost) Error() string {
	return fmt.Sprintf("the column %s of %s is missing, in which %d records have a value", e.Column, e.Table,
		e.Values)
}

// Loss is how many learners and teachers a section has and would lose.
type Loss struct {
	SectionID string
	Title     string
	Listed    bool // the section itself is still in the register
	Now       int  // learners and teachers in it after the merge
	Lost      int
}

// Losses counts the learners and teachers who lose their place by a merge, by section: whoever
// moved within the course is not one of them.
func Losses(ctx context.Context, tx *db.Tx, interfaceID string, m Merged) ([]Loss, error) {
	type stay struct{ person, course string }
	joined := map[stay]bool{}
	for _, x := range m.Joined {
		if x.HasPlace() {
			joined[stay{x.PersonID, x.CourseID}] = true
		}
	}
	lost := map[string]*Loss{}
	var ids []string
	for _, x := range m.Left {
		if !x.HasPlace() || joined[stay{x.PersonID, x.CourseID}] {
			continue
		}
		if lost[x.SectionID] == nil {
			lost[x.SectionID] = &Loss{SectionID: x.SectionID, Title: x.Section}
			ids = append(ids, x.SectionID)
		}
		lost[x.SectionID].Lost++
	}
	if len(ids) == 0 {
		return nil, nil
	}
	type now struct {
		ID     string
		Listed bool
		People int
	}
	err := db.Each(ctx, tx, "counting who loses their place", `SELECT s.id::text, s.gone_at IS NULL AS listed,
		count(e.sourced_id)::int AS people FROM sections s
		LEFT JOIN enrolments e ON e.interface_id = $1 AND e.section = s.sourced_id AND e.gone_at IS NULL
			AND e.role IN ('student', 'teacher')
		WHERE s.interface_id = $1 AND s.id = ANY ($2::uuid[]) GROUP BY s.id, s.gone_at`, []any{interfaceID, ids}, func(s now) error {
		lost[s.ID].Listed, lost[s.ID].Now = s.Listed, s.People
		return nil
	})
	if err != nil {
		return nil, err
	}
	all := make([]Loss, len(ids))
	for i, id := range ids {
		all[i] = *lost[id]
	}
	slices.SortStableFunc(all, func(a, b Loss) int { return b.Lost - a.Lost })
	return all, nil
}

// CountSeats counts the learners and teachers of all sections of a register.
func CountSeats(ctx context.Context, tx *db.Tx, interfaceID string) (n int, err error) {
	err = db.Into(ctx, tx, &n, `SELECT count(*)::int FROM enrolments WHERE interface_id = $1 AND gone_at IS NULL
		AND role IN ('student', 'teacher')`, interfaceID)
	if err != nil {
		return 0, fmt.Errorf("counting learners and teachers: %w", err)
	}
	return n, nil
}
