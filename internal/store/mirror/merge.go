package mirror

import (
	"fmt"
)

// misplaced is a staged record that was taken out again.
type misplaced struct {
	Position int
	ID       string
	Other    string // the record or value that it is about
	Person   string
	Section  string
	Was      bool // the record that it refers to was there before
}

// absence is one record, named by others, which is not there.
type absence struct {
	first   misplaced
	n       int
	ref     mirrorRef
	deleted bool
}

type absenceKey struct {
	ref   mirrorRef
	other string
}

// absences are gathered by what is not there, in the order of the first that names it.
type absences struct {
	of   map[absenceKey]*absence
	list []*absence
}

func (h *absences) add(m misplaced, ref mirrorRef, deleted bool) {
	key := absenceKey{ref, m.Other}
	if h.of[key] == nil {
		h.of[key] = &absence{first: m, ref: ref, deleted: deleted}
		h.list = append(h.list, h.of[key])
	}
	h.of[key].n++
}

func namers(n int, table string) string {
	if n == 1 {
		return "1 of the " + table + ", which names it, is"
	}
	return fmt.Sprintf("%d %s, which name it, are", n, table)
}
