package batches_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"kanban/internal/app/linking"
	"kanban/internal/app/pairings"
	"kanban/internal/apptest"
	"kanban/internal/core/refusal"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/linkstore"
	"kanban/internal/store/runstore"
)

// life is a model of two sections that can be linked, of their classes, and of who
// must be in them; it is compared with the workspace after every run.
type life struct {
	t        *testing.T
	w        *apptest.World
	register connectionstore.Interface
	service  string
	rand     *rand.Rand
	log      []string

	linked bool
	set    linkstore.LinkedSet
	class  map[string]*class // by code of the section that leads it
	frozen map[string][]string
	made   int
}

// class is a pairing in the model.
type class struct {
	id, name string
	hold     bool
	in       map[string]bool // whom Kanban put in, by name
}

var both = []string{"PROP-B", "PROP-C"}

// wrong are people of the two sections with whom something is wrong.
var wrong = []string{"Nils Nettle", "Tilda Thyme"}

func (l *life) note(format string, args ...any) { l.log = append(l.log, fmt.Sprintf(format, args...)) }

// enrolled gives the people of sections by name, learners and teachers.
func (l *life) enrolled(codes ...string) (learners, teachers map[string]bool) {
	learners, teachers = map[string]bool{}, map[string]bool{}
	people := map[string]string{}
	for _, p := range l.w.Standins.School.People() {
		people[p.ID] = p.Name()
	}
	for _, e := range l.w.Standins.School.Enrolments() {
		name := people[e.PersonID]
		for _, c := range codes {
			if e.Ended || e.SectionID != map[string]string{"PROP-B": "sec-prop-b", "PROP-C": "sec-prop-c"}[c] ||
				slices.Contains(wrong, name) {
				continue
			}
			if e.Role == "teacher" {
				teachers[name] = true
			} else {
				learners[name] = true
			}
		}
	}
	return learners, teachers
}

func (l *life) sections(lead string) []string {
	if l.linked {
		return both
	}
	return []string{lead}
}

func (l *life) lead() string { return both[0] }

func (l *life) check(where, space string, want map[string]bool) {
	l.t.Helper()
	names := []string{}
	for n := range want {
		names = append(names, n)
	}
	slices.Sort(names)
	require.Equal(l.t, names, l.w.Standins.Workspace.Space(space), "%s, after %v", where, l.log)
}

// run brings a class in step and says who must be in it then.
func (l *life) run(code string) {
	c := l.class[code]
	if c == nil {
		return
	}
	l.note("run %s", code)
	r := l.w.Sync(c.id, true)
	require.Contains(l.t, []string{runstore.Finished, runstore.NeedsPerson}, r.State, "%s %v", r.Error, l.log)
	learners, teachers := l.enrolled(l.sections(code)...)
	now := map[string]bool{}
	for n := range learners {
		if !c.hold || c.in[n] {
			now[n] = true
		}
	}
	for n := range teachers {
		now[n] = true
	}
	c.in = now
	l.check("the class", c.name, now)
	if !l.linked {
		return
	}
	for _, s := range both {
		part := map[string]bool{}
		learners, teachers := l.enrolled(s)
		for n := range now {
			if learners[n] || teachers[n] {
				part[n] = true
			}
		}
		l.check("the group of "+s, c.name+" – "+l.w.Section(s).Title, part)
	}
}

func (l *life) link() {
	l.note("link")
	_, err := l.w.Linking.Link(l.t.Context(), "test", linking.Wish{
		LeadID: l.w.Section(both[0]).ID,
		Others: []string{l.w.Section(both[1]).ID},
	})
	if l.linked || l.class[both[1]] != nil {
		_, refused := refusal.As(err)
		require.True(l.t, refused, "%v %v", err, l.log)
		return
	}
	require.NoError(l.t, err, l.log)
	sets, err := linkstore.LinkedSets(l.t.Context(), l.w.Store)
	require.NoError(l.t, err)
	l.linked, l.set = true, sets[0]
}

func (l *life) unlink() {
	if !l.linked {
		return
	}
	fate := linking.ToLead
	if l.rand.IntN(2) == 0 {
		fate = linking.Ended
	}
	l.note("unlink %s", fate)
	require.NoError(l.t, l.w.Linking.Unlink(l.t.Context(), "test", l.set.ID, 0, fate), l.log)
	l.linked = false
	if c := l.class[l.lead()]; c != nil && fate == linking.Ended {
		l.freeze(l.lead())
	}
}

// freeze ends a class in the model: nobody may touch it any more.
func (l *life) freeze(code string) {
	c := l.class[code]
	if l.w.Standins.Workspace.Space(c.name) != nil {
		l.frozen[c.name] = l.w.Standins.Workspace.Space(c.name)
	}
	delete(l.class, code)
}

func (l *life) pair(code string) {
	at := code
	if l.linked {
		at = l.lead()
	}
	l.made++
	name := fmt.Sprintf("Class %d", l.made)
	l.note("pair %s as %s", code, name)
	p, err := l.w.Pairings.Pair(l.t.Context(), "test",
		pairings.Wish{SectionID: l.w.Section(code).ID, InterfaceID: l.service, TargetName: name})
	if l.class[at] != nil {
		_, refused := refusal.As(err)
		require.True(l.t, refused, "%v %v", err, l.log)
		return
	}
	require.NoError(l.t, err, l.log)
	l.class[at] = &class{id: p.ID, name: name, in: map[string]bool{}}
}

func (l *life) unpair(code string) {
	if c := l.class[code]; c != nil {
		l.note("unpair %s", code)
		require.NoError(l.t, l.w.Pairings.Unpair(l.t.Context(), "test", c.id), l.log)
		l.freeze(code)
	}
}

func (l *life) holdOrOpen(code string) {
	c := l.class[code]
	if c == nil {
		return
	}
	if c.hold = !c.hold; c.hold {
		l.note("hold %s", code)
		require.NoError(l.t, l.w.Runs.HoldClass(l.t.Context(), "test", c.id), l.log)
		return
	}
	l.note("open %s", code)
	require.NoError(l.t, l.w.Runs.OpenClass(l.t.Context(), "test", c.id, nil), l.log)
}

// move changes the register: somebody joins or leaves one of the sections.
func (l *life) move(code string) {
	section := map[string]string{"PROP-B": "sec-prop-b", "PROP-C": "sec-prop-c"}[code]
	who := fmt.Sprintf("stu-%03d", 15+l.rand.IntN(25))
	if who == "stu-020" {
		return
	}
	if l.w.Standins.School.Withdraw(who, section) != nil {
		require.NoError(l.t, l.w.Standins.School.Enrol(who, section))
	}
	l.note("%s joins or leaves %s", who, code)
	l.w.Read(l.register, true)
}

// Any sequence of link, unlink, pair, unpair, run, hold, open, joining and leaving
// leaves everybody exactly where the policy says, and never touches a class that is
// no longer paired.
func TestAnyLifeLeavesPeopleAsThePolicySays(t *testing.T) {
	for seed := range uint64(6) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			w, register, workspace := world(t)
			l := &life{
				t: t, w: w, register: register, service: workspace.ID, rand: rand.New(rand.NewPCG(seed, 7)),
				class: map[string]*class{}, frozen: map[string][]string{},
			}
			for range 60 {
				code := both[l.rand.IntN(2)]
				at := code
				if l.linked {
					at = l.lead()
				}
				switch n := l.rand.IntN(20); {
				case n < 2:
					l.link()
				case n < 3:
					l.unlink()
				case n < 5 && (l.class[at] == nil || n == 4 && l.made%3 == 0):
					l.pair(code)
				case n < 6:
					l.unpair(code)
				case n < 8:
					l.holdOrOpen(at)
				case n < 13:
					l.move(code)
				default:
					l.run(at)
				}
				for name, was := range l.frozen {
					require.Equal(t, was, w.Standins.Workspace.Space(name), "%s is nobody's any more, after %v", name,
						l.log)
				}
			}
			for _, code := range both {
				l.run(code)
				l.run(code)
			}
		})
	}
}
