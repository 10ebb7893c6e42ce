package reports

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"kanban/internal/core/learning"
	"kanban/internal/core/refusal"
	"kanban/internal/core/report"
	"kanban/internal/store/learningstore"
	"kanban/internal/store/reportstore"
	"kanban/internal/store/rosterstore"
)

// group is what a section is compared under: two of one title stay apart.
type group struct{ key, title string }

// byTitle orders groups by their titles, and those of one title always in one way.
func byTitle(a, b group) int {
	return cmp.Or(strings.Compare(strings.ToLower(a.title), strings.ToLower(b.title)), strings.Compare(a.key, b.key))
}

// grouping is something that completion can compare.
type grouping struct {
	name, title, noun string
	of                func(rosterstore.Section) []group
}

// called makes groups of titles, which are all there is of them.
func called(titles ...string) (out []group) {
	for _, t := range titles {
		out = append(out, group{t, t})
	}
	return out
}

// groupings are what completion can compare.
var groupings = []grouping{
	{"course", "By course", "Course", func(x rosterstore.Section) []group { return []group{{x.CourseID, x.Course}} }},
	{"section", "By section", "Section", func(x rosterstore.Section) []group { return []group{{x.ID, title(x)}} }},
	{"term", "By term", "Term", func(x rosterstore.Section) []group { return called(x.Terms...) }},
	{"organisation", "By organisation", "Organisation", func(x rosterstore.Section) []group { return called(x.Org) }},
	{"teacher", "By teacher", "Teacher", func(x rosterstore.Section) []group { return called(x.Teachers...) }},
}

// completion makes the report on how far learners have come.
func (m *making) completion(ctx context.Context) error {
	by, one := m.ask.By, len(m.courses()) == 1
	if by == "" {
		if by = "course"; one {
			by = "section"
		}
	}
	n := slices.IndexFunc(groupings, func(x grouping) bool { return x.name == by })
	if n < 0 {
		return refusal.Invalid("by", "%q is not one of course, section, term, organisation, teacher", by)
	}
	ways, spans, without, err := m.ways(ctx, m.countedAs(by))
	if err != nil {
		return err
	}
	whole := report.Together("", "", ways)
	if one && len(ways) > 0 {
		m.out.Parts = append(m.out.Parts, whole.Funnel())
	}
	groups, took, twice := m.grouped(ways, spans, groupings[n].of)
	m.out.Parts = append(m.out.Parts, report.Groups(groupings[n].title, groupings[n].noun, groups, took))
	m.summarise(whole, spans)
	m.out.Remarks = append(m.out.Remarks, fmt.Sprintf("Whoever has done nothing for %s has stopped.", ofDays(m.days)))
	if without.learners > 0 {
		m.out.Remarks = append(m.out.Remarks, fmt.Sprintf(
			"%s of %s without an outline: nothing can be finished there, so that they are left out.",
			report.Of(without.learners, "learner", "learners"), report.Of(len(without.courses), "course", "courses")))
	}
	if twice {
		m.out.Remarks = append(m.out.Remarks, "A section that belongs to several of these is counted in each.")
	}
	return nil
}

// unguided are the courses without an outline and their learners.
type unguided struct {
	courses  map[string]bool
	learners int
}

// countedAs gives for each section as which one it is counted: itself, or, where courses are compared, the
// first of its course, so that what has to be counted is less.
func (m *making) countedAs(by string) []string {
	as, first := slices.Clone(m.ids), map[string]string{}
	if by != "course" {
		return as
	}
	for i, x := range m.sections {
		if first[x.CourseID] == "" {
			first[x.CourseID] = x.ID
		}
		as[i] = first[x.CourseID]
	}
	return as
}

// ways counts how far the learners of each section have come, each counted as the one in as; spans are how many
// days those took who finished.
func (m *making) ways(ctx context.Context, as []string) (ways []report.Way, spans map[string][]float64,
	without unguided, err error,
) {
	courses := m.courses()
	compiled, err := m.Outlines.CompiledOf(ctx, slices.Collect(maps.Keys(courses)))
	if err != nil {
		return nil, nil, without, err
	}
	standings, err := reportstore.Standings(ctx, m.Store, m.ids, as, m.since())
	if err != nil {
		return nil, nil, without, err
	}
	if spans, err = m.spans(ctx, as); err != nil {
		return nil, nil, without, err
	}
	byCourse := map[string][]report.Standing{}
	without.courses = map[string]bool{}
	for _, s := range standings {
		course := m.of[s.Group].CourseID
		if _, there := compiled[course]; !there {
			if !s.Left {
				without.courses[course] = true
				without.learners += s.Count
			}
			continue
		}
		byCourse[course] = append(byCourse[course], s)
	}
	for course, list := range byCourse {
		now := compiled[course]
		versions := map[int]*learning.Course{now.Version: now.Course}
		for _, s := range list {
			if _, there := versions[s.Version]; there || s.Version == 0 {
				continue
			}
			o, err := learningstore.OutlineAt(ctx, m.Store, course, s.Version)
			if err != nil {
				return nil, nil, without, err
			}
			versions[s.Version] = learning.NewCourse(o)
		}
		followed := report.Follow(now.Course.Outline, versions, list)
		if len(courses) > 1 {
			apart(followed, course, courses[course])
		}
		ways = append(ways, followed...)
	}
	order := map[string]int{}
	for i, id := range m.ids {
		order[id] = i
	}
	slices.SortFunc(ways, func(a, b report.Way) int { return order[a.Group] - order[b.Group] })
	return ways, spans, without, nil
}

// apart says of each step of which course it is.
func apart(ways []report.Way, id, title string) {
	for _, w := range ways {
		for i := range w.Steps {
			w.Steps[i].Key, w.Steps[i].Title = id+"/"+w.Steps[i].Key, w.Steps[i].Title+" of "+title
		}
	}
}

// spans gives how many days it took those who finished, by what each section is counted as.
func (m *making) spans(ctx context.Context, as []string) (map[string][]float64, error) {
	took, err := reportstore.Spans(ctx, m.Store, m.ids)
	counted := make(map[string]string, len(as))
	for i, id := range m.ids {
		counted[id] = as[i]
	}
	out := map[string][]float64{}
	for _, x := range took {
		out[counted[x.SectionID]] = append(out[counted[x.SectionID]], x.Days)
	}
	return out, err
}

// grouped adds the sections' ways up by what of gives; twice says that one was counted in several.
func (m *making) grouped(ways []report.Way, spans map[string][]float64, of func(rosterstore.Section) []group) (
	groups []report.Way, took map[string][]float64, twice bool,
) {
	parts, titles := map[string][]report.Way{}, map[string]string{}
	took = map[string][]float64{}
	for _, w := range ways {
		labels := of(m.of[w.Group])
		if len(labels) == 0 {
			labels = called("none")
		}
		twice = twice || len(labels) > 1
		for _, l := range labels {
			titles[l.key] = cmp.Or(l.title, "none")
			parts[l.key] = append(parts[l.key], w)
			took[l.key] = append(took[l.key], spans[w.Group]...)
		}
	}
	keys := slices.SortedFunc(maps.Keys(parts), func(a, b string) int {
		return cmp.Or(strings.Compare(strings.ToLower(titles[a]), strings.ToLower(titles[b])), strings.Compare(a, b))
	})
	for _, key := range keys {
		groups = append(groups, report.Together(key, titles[key], parts[key]))
	}
	report.ByFinished(groups)
	return groups, took, twice
}

// summarise says in sentences what there is to see.
func (m *making) summarise(w report.Way, spans map[string][]float64) {
	if w.Learners == 0 {
		m.out.Summary = []string{"Nobody is in it."}
		return
	}
	m.out.Summary = append(m.out.Summary, fmt.Sprintf("%d of %s finished (%s); %s not begun.", w.Done,
		report.Of(w.Learners, "learner", "learners"), report.Percent(w.Done, w.Learners), has(w.NotBegun())))
	if s, some := w.StoppedThere(); some {
		m.out.Summary = append(m.out.Summary, fmt.Sprintf("Most stop at %s: %s.", s.Title,
			report.Of(s.Still, "learner", "learners")))
	}
	var took []float64
	for _, list := range spans {
		took = append(took, list...)
	}
	if q, ok := report.QuartilesOf(took); ok {
		m.out.Summary = append(m.out.Summary, fmt.Sprintf("Half of those who finished took %s or less.", daysOf(q.Median)))
	}
}

// courses are those of the sections, by id with their titles.
func (m *making) courses() map[string]string {
	out := map[string]string{}
	for _, x := range m.sections {
		out[x.CourseID] = x.Course
	}
	return out
}

// going leaves out sections in which nobody can stop: those whose course has no outline, and, unless a term or a
// section was asked for, those that have ended.
func (m *making) going(ctx context.Context) error {
	compiled, err := m.Outlines.CompiledOf(ctx, slices.Collect(maps.Keys(m.courses())))
	if err != nil {
		return err
	}
	unguided, ended := 0, 0
	var list []rosterstore.Section
	m.ids = nil
	for _, x := range m.sections {
		switch _, there := compiled[x.CourseID]; {
		case !there:
			unguided++
		case m.ask.Term == "" && m.ask.Section == "" && x.Ended(m.now):
			ended++
		default:
			list, m.ids = append(list, x), append(m.ids, x.ID)
		}
	}
	m.sections = list
	if unguided > 0 {
		m.out.Remarks = append(m.out.Remarks, fmt.Sprintf("%s whose course has no outline: left out.",
			report.Of(unguided, "section", "sections")))
	}
	if ended > 0 {
		m.out.Remarks = append(m.out.Remarks, fmt.Sprintf("%s ended: left out; ask for their term to see them.",
			report.Of(ended, "section has", "sections have")))
	}
	return nil
}

// people counts people with the verb behind.
func people(n int, none, one, many string) string {
	switch n {
	case 0:
		return none
	case 1:
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

func has(n int) string { return people(n, "nobody has", "has", "have") }

// daysOf says a span in days, or hours when it is short.
func daysOf(days float64) string {
	if days < 1 {
		return report.Of(max(int(days*24+0.5), 1), "hour", "hours")
	}
	return report.Of(int(days+0.5), "day", "days")
}
