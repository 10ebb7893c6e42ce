package registers

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"kanban/internal/adapter"
	"kanban/internal/core/finding"
	"kanban/internal/core/refusal"
	"kanban/internal/store/db"
	"kanban/internal/store/mirror"
	"kanban/internal/store/runstore"
)

// Default guard of a register: a read that would take away more than this share
// of its people or of its enrolments waits for a person.
const defaultGuardShare = 0.5

// guard refuses a read that would empty or halve the register unnoticed. It is
// asked inside the transaction, so a refusal changes nothing.
//
// A section on its own counts when it has at least smallest learners and teachers and is
// still in the register: classes that end are no slip.
func guard(ctx context.Context, tx *db.Tx, c adapter.Interface, run *runstore.Run, m mirror.Merged) error {
	if run.Approved || m.First {
		return nil
	}
	share := defaultGuardShare
	if v, err := strconv.ParseFloat(c.Settings["guardShare"], 64); err == nil {
		share = v / 100
	}
	number, _ := strconv.Atoi(c.Settings["guardNumber"])
	people, enrolments := m.Tables["people"], m.Tables["enrolments"]
	for _, t := range []mirror.TableCounts{people, enrolments} {
		if t.Gone > 1 && float64(t.Gone) > share*float64(t.Before) || number > 0 && t.Gone > number {
			return refusal.Conflict(finding.RegisterShrunk,
				"this would take away %d of the %d enrolments and %d of the %d people in the mirror; nothing was changed",
				enrolments.Gone, enrolments.Before, people.Gone, people.Before)
		}
	}
	losses, err := mirror.Losses(ctx, tx, c.ID, m)
	if err != nil {
		return err
	}
	var most []string
	total, struck := 0, 0
	for _, l := range losses {
		total += l.Lost
		if before := l.Now + l.Lost; l.Listed && before >= smallest && float64(l.Lost) > share*float64(before) {
			if struck++; len(most) < 5 {
				most = append(most, fmt.Sprintf("%s (%d of %d)", l.Title, l.Lost, before))
			}
		}
	}
	// worth counting exactly
	if total > 1 && float64(total) > share*float64(enrolments.Before)/4 || number > 0 && total > number {
		places, err := mirror.CountSeats(ctx, tx, c.ID)
		if err != nil {
			return err
		}
		if places += total; float64(total) > share*float64(places) || number > 0 && total > number {
			return refusal.Conflict(finding.RegisterShrunk,
				"%d of the %d learners and teachers would lose their place; nothing was changed", total, places)
		}
	}
	if struck > 0 {
		more := ""
		if struck > len(most) {
			more = fmt.Sprintf(" and %d sections more", struck-len(most))
		}
		return refusal.Conflict(finding.RegisterShrunk,
			"most learners and teachers of sections that are still in the register would lose their place: %s%s; nothing was changed", strings.Join(most, ", "), more)
	}
	return nil
}

// smallest is how many learners and teachers a section has whose loss the guard looks at.
const smallest = 10
