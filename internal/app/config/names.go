package config

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"kanban/internal/store/badgestore"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/learningstore"
	"kanban/internal/store/rosterstore"
)

// named is something that others refer to: its id, and by what it can be called, the shortest first.
type named struct {
	id    string
	calls []string
	now   bool // for records of a register: it is in the register still
}

// names say how everything is called that a set-up refers to.
type names struct {
	interfaces, issuers, badges, courses, sections, orgs list

	waiting map[key]bool // what files made that waits for a register
}

func readNames(ctx context.Context, from *db.Database) (*names, error) {
	var n names
	registers, err := n.readOwn(ctx, from)
	if err != nil {
		return nil, err
	}
	kept, err := waiting(ctx, from)
	if err != nil {
		return nil, err
	}
	n.waiting = map[key]bool{}
	for _, x := range kept {
		n.waiting[keyOf(x.Kind, x.Name)] = true
	}
	courses, err := learningstore.NamedCourses(ctx, from)
	if err != nil {
		return nil, err
	}
	var all []named
	for _, x := range courses {
		short := []string{x.Code, x.Title}
		all = append(all, named{x.ID, calls(short, registers[x.InterfaceID], x.SourcedID), !x.Gone})
	}
	n.courses = listOf(all)
	orgs, err := rosterstore.Orgs(ctx, from)
	if err != nil {
		return nil, err
	}
	all = nil
	for _, x := range orgs {
		all = append(all, named{x.ID, calls([]string{x.Name}, registers[x.InterfaceID], x.SourcedID), true})
	}
	n.orgs = listOf(all)
	n.sections, err = readSections(ctx, from, registers)
	return &n, err
}

// readOwn reads what files make, and gives the names of the interfaces by id. What registers have is not
// read again: files make nothing of that.
func (n *names) readOwn(ctx context.Context, from *db.Database) (registers map[string]string, err error) {
	interfaces, err := connectionstore.Interfaces(ctx, from)
	if err != nil {
		return nil, err
	}
	registers = map[string]string{}
	for _, x := range interfaces {
		registers[x.ID] = x.Name
	}
	removed, err := connectionstore.RemovedInterfaces(ctx, from)
	if err != nil {
		return nil, err
	}
	var all []named
	for _, x := range append(interfaces, removed...) { // one that was removed can be named still, and used no more
		all = append(all, named{x.ID, []string{x.Name}, x.RemovedAt == nil})
	}
	n.interfaces = listOf(all)
	issuers, err := badgestore.Issuers(ctx, from)
	if err != nil {
		return nil, err
	}
	n.issuers = namedBy(issuers, func(x badgestore.Issuer) (id, name string) { return x.ID, x.Name })
	badges, err := badgestore.Badges(ctx, from, nil)
	n.badges = namedBy(badges, func(x badgestore.ListedBadge) (id, name string) { return x.ID, x.Name })
	return registers, err
}

// namedBy makes a list of what is called by its one name.
func namedBy[T any](records []T, of func(T) (id, name string)) list {
	var all []named
	for _, x := range records {
		id, name := of(x)
		all = append(all, named{id, []string{name}, true})
	}
	return listOf(all)
}

func readSections(ctx context.Context, from *db.Database, registers map[string]string) (list, error) {
	sections, err := rosterstore.Sections(ctx, from)
	if err != nil {
		return list{}, err
	}
	var ids []string
	for _, x := range sections {
		ids = append(ids, x.ID)
	}
	sourced, err := rosterstore.SourcedIDs(ctx, from, ids)
	if err != nil {
		return list{}, err
	}
	var all []named
	for _, x := range sections {
		if x.List != "" {
			continue // a list of people, in which nothing happens
		}
		short := []string{x.Code, x.Title}
		for _, term := range x.Terms {
			for _, name := range []string{x.Code, x.Title} {
				if name != "" {
					short = append(short, name+" in "+term)
				}
			}
		}
		all = append(all, named{x.ID, calls(short, registers[x.Interface], sourced[x.ID]), !x.Gone})
	}
	return listOf(all), nil
}

// calls are the names of a record of a register: short ones, and the same with where it is from for one
// that has those in common with another.
func calls(short []string, register, sourcedID string) (out []string) {
	for _, from := range []string{"", " of " + register} {
		for _, name := range short {
			if strings.TrimSpace(name) != "" {
				out = append(out, strings.TrimSpace(name)+from)
			}
		}
	}
	return append(out, sourcedID+" of "+register)
}

// list are the records of one kind, by what they can be called.
type list struct {
	all  []named
	by   map[string][]int // in small letters
	byID map[string]int
}

func listOf(all []named) list {
	l := list{all, map[string][]int{}, map[string]int{}}
	for i, x := range all {
		l.byID[x.id] = i
		for _, call := range x.calls {
			key := strings.ToLower(call)
			if at := l.by[key]; len(at) == 0 || at[len(at)-1] != i {
				l.by[key] = append(at, i)
			}
		}
	}
	return l
}

// find looks a name up: the one record that has it, or several, or none. Where several records of a
// register have it, those count that are still there.
func (l list) find(name string) (found []named) {
	var now []named
	for _, i := range l.by[strings.ToLower(strings.TrimSpace(name))] {
		if found = append(found, l.all[i]); l.all[i].now {
			now = append(now, l.all[i])
		}
	}
	if len(now) > 0 {
		return now
	}
	return found
}

// name gives the shortest name that leads to a record and no other; its id for one that is not there.
func (l list) name(id string) string {
	i, there := l.byID[id]
	if !there {
		return id
	}
	for _, call := range l.all[i].calls {
		if found := l.find(call); len(found) == 1 && found[0].id == id {
			return call
		}
	}
	return l.all[i].calls[len(l.all[i].calls)-1]
}

// several says which records a name fits.
func (l list) several(noun, name string, found []named) string {
	var all []string
	for _, x := range found {
		all = append(all, l.name(x.id))
	}
	slices.Sort(all)
	return fmt.Sprintf("%q fits %d %ss; name one of them: %s", name, len(found), noun, strings.Join(all, ", "))
}
