package badges

import (
	"bytes"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"kanban/internal/core/refusal"
	"kanban/internal/store/badgestore"
	"kanban/internal/store/rosterstore"
)

// The columns of a file of awards; the first is needed, the second as well where no badge is chosen for all.
var columns = []string{"person", "badge", "date", "note", "evidence"}

// AwardFromFile awards what stands in a CSV file with the columns person, badge, date, note and evidence, or only says
// what would become of each row. badgeID is the badge of rows that name none, or "".
func (s *Service) AwardFromFile(ctx context.Context, who Awarder, badgeID string, file []byte, apply bool) ([]Awarding,
	error,
) {
	wishes, err := readWishes(file)
	if err != nil {
		return nil, err
	}
	badges, err := badgestore.Badges(ctx, s.Store, nil)
	if err != nil {
		return nil, err
	}
	var names []string
	for _, w := range wishes {
		names = append(names, w.Person)
	}
	found, err := rosterstore.PeopleNamed(ctx, s.Store, names)
	if err != nil {
		return nil, err
	}
	people := map[string][]rosterstore.Named{}
	for _, p := range found {
		if !slices.ContainsFunc(people[p.Name], func(x rosterstore.Named) bool { return x.ID == p.ID }) {
			people[p.Name] = append(people[p.Name], p)
		}
	}
	used := map[string]badgestore.Badge{}
	all := make([]Awarding, len(wishes))
	for i, w := range wishes {
		a := Awarding{Wish: w}
		if w.wrong != "" {
			a.refuse("%s", w.wrong)
		} else if refused, is := refusal.As(w.check(s.Clock.Now())); is {
			a.refuse("the %s %s", refused.Field, refused.Detail)
		} else if a.meant(people[w.Person]); a.Outcome == "" {
			a.badge(badges, badgeID, used)
		}
		all[i] = a
	}
	if err := s.inReach(ctx, who, all, used); err != nil {
		return nil, err
	}
	return all, s.award(ctx, who.Name, all, used, apply)
}

func (a *Awarding) refuse(format string, args ...any) {
	a.Outcome, a.Because = Refused, fmt.Sprintf(format, args...)
}

const nobody = "nobody has the identifier, e-mail address or user name %q"

// meant finds the one person who is meant.
func (a *Awarding) meant(fits []rosterstore.Named) {
	here := slices.DeleteFunc(slices.Clone(fits), func(p rosterstore.Named) bool { return p.Left })
	switch {
	case len(here) == 1:
		a.PersonID, a.Name = here[0].ID, here[0].Person.Name()
		a.addressed(here[0].Person)
	case len(here) > 1:
		var names []string
		for _, p := range here {
			names = append(names, p.Person.Name())
		}
		a.refuse("%q fits %s; give an identifier that only one of them has", a.Person, strings.Join(names, " and "))
	case len(fits) > 0:
		a.Name = fits[0].Person.Name()
		a.refuse("%s is not in the register any more", a.Name)
	case a.Person == "":
		a.refuse("no person is named")
	default:
		a.refuse(nobody, a.Person)
	}
}

// badge finds the badge of a row, or takes the one that is chosen for all.
func (a *Awarding) badge(all []badgestore.ListedBadge, chosen string, used map[string]badgestore.Badge) {
	for _, b := range all {
		if a.Badge == "" && b.ID == chosen || a.Badge != "" && strings.EqualFold(b.Name, a.Badge) {
			a.BadgeID, a.Title = b.ID, b.Name
			used[b.ID] = b.Badge
			return
		}
	}
	if a.Badge == "" {
		a.refuse("no badge is named")
		return
	}
	a.refuse("there is no badge %q", a.Badge)
}

// readWishes reads a CSV file, with commas, semicolons or tabs.
func readWishes(file []byte) (all []Wish, err error) {
	file = bytes.TrimPrefix(file, []byte("\ufeff"))
	if !utf8.Valid(file) {
		return nil, refusal.Invalid("file", "is not in UTF-8; save it as CSV UTF-8")
	}
	head, _, _ := bytes.Cut(file, []byte("\n"))
	r := csv.NewReader(bytes.NewReader(file))
	r.FieldsPerRecord = -1
	for _, separator := range ";\t" {
		if bytes.ContainsRune(head, separator) && !bytes.ContainsRune(head, ',') {
			r.Comma = separator
		}
	}
	header, err := r.Read()
	if err != nil {
		return nil, refusal.Invalid("file", "has no header: its first line names the columns %s",
			strings.Join(columns, ", "))
	}
	at := map[string]int{}
	for i, name := range header {
		name = strings.ToLower(strings.TrimSpace(name))
		if !slices.Contains(columns, name) {
			return nil, refusal.Invalid("file", "has a column %q; it may have %s", name, strings.Join(columns, ", "))
		}
		if _, twice := at[name]; twice {
			return nil, refusal.Invalid("file", "has the column %q twice", name)
		}
		at[name] = i
	}
	if _, ok := at["person"]; !ok {
		return nil, refusal.Invalid("file", "has no column \"person\"; it has %s",
			strings.Join(slices.Sorted(maps.Keys(at)), ", "))
	}
	for {
		row, err := r.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, refusal.Invalid("file", "cannot be read: %v", err)
		}
		line, _ := r.FieldPos(0)
		if len(all) == mostWishes {
			return nil, refusal.Invalid("file", "has more than %d rows; award them in parts", mostWishes)
		}
		all = append(all, wishOf(line, row, at))
	}
	if len(all) == 0 {
		return nil, refusal.Invalid("file", "has no row below its header")
	}
	return all, nil
}

func wishOf(line int, row []string, at map[string]int) Wish {
	cell := func(name string) string {
		if i, ok := at[name]; ok && i < len(row) {
			return strings.TrimSpace(row[i])
		}
		return ""
	}
	w := Wish{Line: line, Person: cell("person"), Badge: cell("badge"), Note: cell("note")}
	if len(row) > len(at) {
		w.wrong = fmt.Sprintf("has %d cells under %d columns", len(row), len(at))
	}
	if e := cell("evidence"); e != "" {
		w.Evidence = []badgestore.Evidence{{Address: e}}
	}
	if d := cell("date"); d != "" {
		day, err := time.Parse(time.DateOnly, d)
		if err != nil {
			w.wrong = fmt.Sprintf("the date %q is not written as 2026-11-30", d)
		}
		w.At = day
	}
	return w
}
