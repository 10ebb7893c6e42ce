// Package nextterm finds, for sections whose term runs out, the sections that
// follow them, so that their classes can be moved on.
//
//	for _, m := range nextterm.Propose(ending, all, today) {
//		fmt.Println(m.From.Title, "→", m.To.Title, m.Evidence)
//	}
package nextterm

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"kanban/internal/core/likeness"
	"kanban/internal/core/roster"
)

// Section is a section, or the lead of a linked set.
type Section struct {
	ID         string
	Title      string
	Code       string
	CourseCode string
	Teachers   []string // persons
	Begins     *time.Time
	Ends       *time.Time
	Taken      bool // paired at the service already, gone, or part of a set that it does not lead
}

// Move is a section with the one that follows it.
type Move struct {
	From, To Section
	Score    int // 0 to 100
	Evidence []string
}

// weights of the evidence; they add up to 100.
const (
	byCourse  = 50
	byTeacher = 30
	byTitle   = 20
)

// Propose finds for each ending section the best one that follows it: of a course
// with the same code, beginning after it has begun, not over and not taken. Each
// section follows one other at most; the surest moves are made first. The result
// is ordered by the ending section's title.
func Propose(ending, all []Section, at time.Time) []Move {
	var moves []Move
	for _, from := range ending {
		for _, to := range all {
			if m, ok := follows(from, to, at); ok {
				moves = append(moves, m)
			}
		}
	}
	slices.SortStableFunc(moves, func(a, b Move) int {
		return cmp.Or(cmp.Compare(b.Score, a.Score), a.To.Begins.Compare(*b.To.Begins), cmp.Compare(a.From.Code, b.From.Code), cmp.Compare(a.To.Code, b.To.Code), cmp.Compare(a.To.ID, b.To.ID))
	})
	var list []Move
	gone, come := map[string]bool{}, map[string]bool{}
	for _, m := range moves {
		if !gone[m.From.ID] && !come[m.To.ID] {
			gone[m.From.ID], come[m.To.ID] = true, true
			list = append(list, m)
		}
	}
	slices.SortStableFunc(list, func(a, b Move) int {
		return cmp.Or(cmp.Compare(a.From.Title, b.From.Title), cmp.Compare(a.From.ID, b.From.ID))
	})
	return list
}

func follows(from, to Section, at time.Time) (Move, bool) {
	switch {
	case to.ID == from.ID, to.Taken, from.CourseCode == "", !strings.EqualFold(from.CourseCode, to.CourseCode),
		to.Begins == nil, from.Begins != nil && !to.Begins.After(*from.Begins), roster.Over(to.Ends, at):
		return Move{}, false
	}
	m := Move{From: from, To: to, Score: byCourse, Evidence: []string{"same course"}}
	if slices.ContainsFunc(from.Teachers, func(t string) bool { return slices.Contains(to.Teachers, t) }) {
		m.Score += byTeacher
		m.Evidence = append(m.Evidence, "same teacher")
	}
	alike := likeness.Alike(from.Title, to.Title)
	m.Score += int(byTitle*alike + 0.5)
	if alike == 1 {
		m.Evidence = append(m.Evidence, "same title")
	} else if alike > 0.6 {
		m.Evidence = append(m.Evidence, "similar title")
	}
	return m, true
}
