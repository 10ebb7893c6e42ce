// Package rollover finds, for sections whose term runs out, the sections that
// follow them, so that their classes can be moved on.
//
//	for _, m := range rollover.Propose(ending, all, today) {
//		fmt.Println(m.From.Title, "→", m.To.Title, m.Evidence)
//	}
package rollover

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"kanban/internal/core/roster"
	"kanban/internal/core/similarity"
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
	From     Section
	To       Section // the zero Section when none follows
	Score    int     // 0 to 100
	Evidence []string
	// Choices are the sections that could follow instead, of the same course or with the
	// same teacher, the likeliest first; To is one of them.
	Choices []Section
}

// weights of the evidence; they add up to 100.
const (
	byCourse  = 50
	byTeacher = 30
	byTitle   = 20
)

// mostChoices is how many sections are offered for one that ends.
const mostChoices = 20

// Propose gives one move for each ending section, ordered by its title: to the best
// section that follows it, which is one of a course with the same code, beginning after
// it has begun, not over and not taken. Each section follows one other at most; the
// surest moves are made first.
func Propose(ending, all []Section, at time.Time) []Move {
	free := newFree(all, at)
	list := make([]Move, len(ending))
	type pick struct {
		Move
		of int // in list
	}
	var picks []pick
	for i, from := range ending {
		list[i].From = from
		moves := free.follow(from)
		for _, m := range moves {
			if sameCourse(from, m.To) {
				picks = append(picks, pick{m, i})
			}
			if len(list[i].Choices) < mostChoices {
				list[i].Choices = append(list[i].Choices, m.To)
			}
		}
	}
	slices.SortStableFunc(picks, func(a, b pick) int {
		return cmp.Or(surer(a.Move, b.Move),
			cmp.Compare(a.From.Code, b.From.Code))
	})
	come := map[string]bool{}
	for _, p := range picks {
		if m := &list[p.of]; m.To.ID == "" && !come[p.To.ID] {
			come[p.To.ID] = true
			m.To, m.Score, m.Evidence = p.To, p.Score, p.Evidence
		}
	}
	slices.SortStableFunc(list, func(a, b Move) int {
		return cmp.Or(cmp.Compare(a.From.Title, b.From.Title), cmp.Compare(a.From.ID, b.From.ID))
	})
	return list
}

func surer(a, b Move) int {
	return cmp.Or(cmp.Compare(b.Score, a.Score), a.To.Begins.Compare(*b.To.Begins), cmp.Compare(a.To.Code, b.To.Code),
		cmp.Compare(a.To.ID, b.To.ID))
}

// free are the sections that can follow others, by course and by teacher, so that one
// that ends is compared with few of them.
type free struct {
	all       []Section
	byCourse  map[string][]int
	byTeacher map[string][]int
}

func newFree(all []Section, at time.Time) free {
	f := free{byCourse: map[string][]int{}, byTeacher: map[string][]int{}}
	for _, s := range all {
		if s.Taken || s.Begins == nil || roster.Over(s.Ends, at) {
			continue
		}
		n := len(f.all)
		f.all = append(f.all, s)
		if code := strings.ToLower(s.CourseCode); code != "" {
			f.byCourse[code] = append(f.byCourse[code], n)
		}
		for _, t := range s.Teachers {
			f.byTeacher[t] = append(f.byTeacher[t], n)
		}
	}
	return f
}

// follow gives every section that could follow one, the likeliest first.
func (f free) follow(from Section) (moves []Move) {
	near := slices.Clone(f.byCourse[strings.ToLower(from.CourseCode)])
	for _, t := range from.Teachers {
		near = append(near, f.byTeacher[t]...)
	}
	slices.Sort(near)
	for _, n := range slices.Compact(near) {
		if to := f.all[n]; to.ID != from.ID && (from.Begins == nil || to.Begins.After(*from.Begins)) {
			moves = append(moves, evidence(from, to))
		}
	}
	slices.SortStableFunc(moves, surer)
	return moves
}

func sameCourse(a, b Section) bool {
	return a.CourseCode != "" && strings.EqualFold(a.CourseCode, b.CourseCode)
}

func evidence(from, to Section) Move {
	m := Move{From: from, To: to}
	if sameCourse(from, to) {
		m.Score, m.Evidence = byCourse, []string{"same course"}
	}
	if slices.ContainsFunc(from.Teachers, func(t string) bool { return slices.Contains(to.Teachers, t) }) {
		m.Score += byTeacher
		m.Evidence = append(m.Evidence, "same teacher")
	}
	alike := similarity.Alike(from.Title, to.Title)
	m.Score += int(byTitle*alike + 0.5)
	if alike == 1 {
		m.Evidence = append(m.Evidence, "same title")
	} else if alike > 0.6 {
		m.Evidence = append(m.Evidence, "similar title")
	}
	return m
}
