// Package reports makes the reports that people read about many: it reads the facts, lets
// the core compute, and says as of when the sources were read.
package reports

import (
	"cmp"
	"context"
	"slices"
	"strconv"
	"strings"
	"time"

	"kanban/internal/adapter/mails"
	"kanban/internal/core/clock"
	"kanban/internal/core/finding"
	"kanban/internal/core/learning"
	"kanban/internal/core/refusal"
	"kanban/internal/core/report"
	"kanban/internal/core/stage"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/reportstore"
	"kanban/internal/store/rosterstore"
	"kanban/internal/store/runstore"
)

// Outlines gives courses by their present outlines, those that have one.
type Outlines interface {
	CompiledOf(ctx context.Context, courseIDs []string) (map[string]learning.CompiledOutline, error)
}

// Criteria says how much people have done of what badges ask for, by person.
type Criteria interface {
	Unmet(ctx context.Context, all []stage.Criterion, people []string) (map[string][]string, error)
}

// Findings says what about rosters needs a person now: how many things of each code.
type Findings interface {
	RosterCauses(ctx context.Context) (map[finding.Code]report.Ages, error)
}

// Service is the use case. Fill every field.
type Service struct {
	Store    *db.Database
	Clock    clock.Clock
	Zone     *time.Location // the institution's, by which days and months begin; UTC when nil
	Outlines Outlines
	Criteria Criteria
	Findings Findings
	Progress Progress
	// Unfinished lists the work of a score link that is not done: where, and what is missing of it.
	Unfinished func(ctx context.Context, linkID string) ([]OpenWork, error)
	Public     string // address of the console
	// Mailer gives what sends mails of the service's own; nil when no mail server is connected.
	Mailer func(context.Context) (*mails.Mailer, error)
}

// OpenWork is work of somebody that is not done.
type OpenWork struct {
	SectionID, Section string
	State              string // draft, partly-marked, not-released, not-marked, missing or not-submitted
}

// Described is a report that can be asked for.
type Described struct {
	Name  report.Name
	Title string
	About string
	Takes []string // what it can be narrowed and set by: fields of Ask
}

// sections are the fields that narrow a report to sections.
var sections = []string{"organisation", "term", "course", "section", "teacher"}

// All are the reports, in the order in which they are listed.
var All = []Described{
	{
		report.Completion, "Completion", "How far learners have come, where they stop, and how long it takes",
		slices.Concat(sections, []string{"by", "days"}),
	},
	{
		report.Stopped, "Learners who stopped", "Who has done nothing for a while, and whether a nudge helped",
		slices.Concat(sections, []string{"days", "from", "to"}),
	},
	{
		report.Behind, "Learners who need help", "Who is below a mark, or has done nothing so far",
		slices.Concat(sections, []string{"mark"}),
	},
	{
		report.Badges, "Badges", "What was awarded, opened, shared and revoked, by badge, section and month",
		slices.Concat(sections, []string{"from", "to"}),
	},
	{
		report.Holdings, "Badges of a section", "The learners of a section, what they hold, and what is missing",
		[]string{"section"},
	},
	{
		report.Rosters, "Rosters", "Who joined and left by day, and what needs somebody",
		slices.Concat(sections, []string{"from", "to"}),
	},
	{report.Rules, "Rules", "What each rule did, and its calls against its limit", []string{"from", "to"}},
	{report.Services, "Services", "How each service answered, and what waits for it", []string{"from", "to"}},
	{
		report.Scores, "Scores", "What agrees, is held back, is in conflict or was refused, what work is not done, and what was carried",
		[]string{"from", "to"},
	},
}

// Ask is what a report is asked for; what is empty narrows nothing.
type Ask struct {
	Organisation string // its name or id; what is below it belongs to it
	Term         string // its title
	Course       string // title, code or id
	Section      string // title, code or id
	Teacher      string // a teacher's name or id
	From, To     string // days such as 2026-10-01, both included
	By           string // what completion compares: course, section, term, organisation or teacher
	Days         int    // after how many days without activity somebody has stopped; 14 when 0
	Mark         *int   // a score in percent; 50 when nil
}

// The usual values of an Ask.
const (
	usualDays = 14
	usualMark = 50
)

// making is one report at work.
type making struct {
	*Service
	ask      Ask
	now      time.Time
	days     int
	mark     int
	period   reportstore.Period
	sections []rosterstore.Section
	ids      []string
	of       map[string]rosterstore.Section
	out      report.Report
}

// Make makes a report.
func (s *Service) Make(ctx context.Context, name report.Name, a Ask) (report.Report, error) {
	i := slices.IndexFunc(All, func(d Described) bool { return d.Name == name })
	if i < 0 {
		return report.Report{}, refusal.Invalid("name", "there is no report %q; see which there are: kanban reports list", name)
	}
	m := &making{Service: s, ask: a, now: s.Clock.Now(), days: cmp.Or(a.Days, usualDays), mark: usualMark}
	m.out = report.Report{Name: name, Title: All[i].Title, MadeAt: m.now}
	if a.Mark != nil {
		m.mark = *a.Mark
	}
	if err := m.check(All[i]); err != nil {
		return m.out, err
	}
	if slices.Contains(All[i].Takes, "section") {
		if err := m.narrow(ctx); err != nil {
			return m.out, err
		}
	}
	if err := m.sources(ctx); err != nil {
		return m.out, err
	}
	err := map[report.Name]func(context.Context) error{
		report.Completion: m.completion, report.Stopped: m.stopped, report.Behind: m.behind, report.Badges: m.badges,
		report.Holdings: m.holdings, report.Rosters: m.rosters, report.Rules: m.rules, report.Services: m.services,
		report.Scores: m.scores,
	}[name](ctx)
	return m.out, err
}

// Location is the institution's time zone.
func (s *Service) Location() *time.Location {
	if s.Zone == nil {
		return time.UTC
	}
	return s.Zone
}

// check reads the period and refuses what the report does not take.
func (m *making) check(d Described) error {
	for field, given := range map[string]bool{
		"organisation": m.ask.Organisation != "", "term": m.ask.Term != "", "course": m.ask.Course != "",
		"section": m.ask.Section != "", "teacher": m.ask.Teacher != "", "from": m.ask.From != "", "to": m.ask.To != "",
		"by": m.ask.By != "", "days": m.ask.Days != 0, "mark": m.ask.Mark != nil,
	} {
		if given && !slices.Contains(d.Takes, field) {
			takes := "it takes nothing"
			if len(d.Takes) > 0 {
				takes = "it takes " + strings.Join(d.Takes, ", ")
			}
			return refusal.Invalid(field, "is nothing by which %q can be narrowed; %s", d.Title, takes)
		}
	}
	for field, x := range map[string]struct {
		text string
		into **time.Time
		end  int
	}{"from": {m.ask.From, &m.period.From, 0}, "to": {m.ask.To, &m.period.To, 1}} {
		if x.text == "" {
			continue
		}
		day, err := time.ParseInLocation(time.DateOnly, x.text, m.Location())
		if err != nil {
			return refusal.Invalid(field, "%q is not a day such as 2026-10-01", x.text)
		}
		day = day.AddDate(0, 0, x.end)
		*x.into = &day
	}
	switch {
	case m.period.From != nil && m.period.To != nil && !m.period.From.Before(*m.period.To):
		return refusal.Invalid("to", "%s lies before %s", m.ask.To, m.ask.From)
	case m.days < 1 || m.days > 3650:
		return refusal.Invalid("days", "is %d; it lies between 1 and 3650", m.days)
	case m.mark < 0 || m.mark > 100:
		return refusal.Invalid("mark", "is %d; it lies between 0 and 100 percent", m.mark)
	}
	if m.ask.From != "" || m.ask.To != "" {
		m.out.Scope = append(m.out.Scope, strings.TrimSpace(when("from", m.ask.From)+when(" to", m.ask.To)))
	}
	return nil
}

// when puts a word before a day, if there is one.
func when(word, day string) string {
	if day == "" {
		return ""
	}
	return word + " " + day
}

// narrow finds the sections that the report is about.
func (m *making) narrow(ctx context.Context) error {
	all, err := rosterstore.Sections(ctx, m.Store)
	if err != nil {
		return err
	}
	above, name, err := m.above(ctx, all)
	if err != nil {
		return err
	}
	a := m.ask
	narrowed := []struct {
		field, value, command string
		of                    func(rosterstore.Section) []string
	}{
		{"organisation", a.Organisation, "lists organisations", func(x rosterstore.Section) []string {
			return append([]string{x.Org}, above[x.ID]...)
		}},
		{"term", a.Term, "sections list", func(x rosterstore.Section) []string { return x.Terms }},
		{"course", a.Course, "courses list", func(x rosterstore.Section) []string {
			return []string{x.Course, x.CourseCode, x.CourseID}
		}},
		{"section", a.Section, "sections list", func(x rosterstore.Section) []string {
			return []string{x.Title, x.Code, x.ID}
		}},
		{"teacher", a.Teacher, "sections list", func(x rosterstore.Section) []string {
			return append(slices.Clone(x.Teachers), x.TeacherIDs...)
		}},
	}
	list := slices.DeleteFunc(slices.Clone(all), func(x rosterstore.Section) bool { return x.Gone || x.List != "" })
	for _, n := range narrowed {
		if n.value == "" {
			continue
		}
		fits := func(x rosterstore.Section) bool {
			return slices.ContainsFunc(n.of(x), func(have string) bool { return strings.EqualFold(have, n.value) })
		}
		if !slices.ContainsFunc(list, fits) {
			if slices.ContainsFunc(all, fits) {
				return refusal.Invalid(n.field, "no section of the %s %q fits the rest of what was asked for", n.field, n.value)
			}
			return refusal.Invalid(n.field, "there is no %s %q; see which there are: kanban %s", n.field, n.value, n.command)
		}
		list = slices.DeleteFunc(list, func(x rosterstore.Section) bool { return !fits(x) })
		switch n.field {
		case "organisation":
			n.value = name
		case "teacher":
			if n.value, err = m.oneTeacher(ctx, n.value, list); err != nil {
				return err
			}
		}
		m.out.Scope = append(m.out.Scope, n.field+" "+said(n.field, n.value, list))
	}
	m.sections, m.of = list, make(map[string]rosterstore.Section, len(list))
	for _, x := range list {
		m.ids = append(m.ids, x.ID)
		m.of[x.ID] = x
	}
	return nil
}

// above gives what a section's organisation and those above it are called, and their ids, by section. Where several
// organisations have the name that is asked for it is asked which of them is meant.
func (m *making) above(ctx context.Context, all []rosterstore.Section) (above map[string][]string, name string,
	err error,
) {
	if name = m.ask.Organisation; name == "" {
		return nil, "", nil
	}
	orgs, err := rosterstore.Orgs(ctx, m.Store)
	if err != nil {
		return nil, "", err
	}
	names, same := map[string]string{}, []string{}
	for _, o := range orgs {
		if names[o.ID] = o.Name; strings.EqualFold(o.Name, m.ask.Organisation) {
			same = append(same, o.SourcedID+" ("+o.ID+")")
		}
		if o.ID == m.ask.Organisation {
			name = o.Name
		}
	}
	if len(same) > 1 {
		return nil, "", refusal.Invalid("organisation", "%d organisations are called %q; say which by the id: %s", len(same),
			m.ask.Organisation, strings.Join(same, ", "))
	}
	ids := make([]string, len(all))
	for i, x := range all {
		ids[i] = x.ID
	}
	above, err = rosterstore.OrgsAbove(ctx, m.Store, ids)
	for section, list := range above {
		for _, id := range list {
			above[section] = append(above[section], names[id])
		}
	}
	return above, name, err
}

// oneTeacher gives the name of the teacher who is asked for. Where several people teach under one name it is asked
// which of them is meant.
func (m *making) oneTeacher(ctx context.Context, asked string, list []rosterstore.Section) (string, error) {
	var ids []string
	for _, x := range list {
		ids = append(ids, x.TeacherIDs...)
	}
	slices.Sort(ids)
	people, err := rosterstore.PeopleByID(ctx, m.Store, slices.Compact(ids))
	if err != nil {
		return "", err
	}
	var same []string
	for _, p := range people {
		if p.ID == asked {
			return p.Name(), nil
		}
		if strings.EqualFold(p.Name(), asked) {
			same = append(same, p.Identifier+" ("+p.ID+")")
		}
	}
	if len(same) > 1 {
		return "", refusal.Invalid("teacher", "%d people teach under the name %q; say which by the id: %s", len(same), asked,
			strings.Join(same, ", "))
	}
	return asked, nil
}

// said is what was asked for, by its name where it was asked for by its id.
func said(field, value string, list []rosterstore.Section) string {
	for _, x := range list {
		switch {
		case field == "section" && strings.EqualFold(value, x.ID):
			return x.Title
		case field == "course" && strings.EqualFold(value, x.CourseID):
			return x.Course
		}
	}
	return value
}

// narrowed reports whether anything but the period narrows the report.
func (m *making) narrowed() bool {
	a := m.ask
	return a.Organisation+a.Term+a.Course+a.Section+a.Teacher != ""
}

// sources says when the registers were read from which the sections come.
func (m *making) sources(ctx context.Context) error {
	from := map[string]bool{}
	for _, x := range m.sections {
		from[x.Interface] = true
	}
	if len(from) == 0 {
		return nil
	}
	all, err := connectionstore.Interfaces(ctx, m.Store)
	if err != nil {
		return err
	}
	for _, c := range all {
		if !from[c.ID] {
			continue
		}
		at, err := runstore.LastRead(ctx, m.Store, c.ID)
		if err != nil {
			return err
		}
		m.out.Sources = append(m.out.Sources, report.Source{Name: c.Name, ReadAt: at})
	}
	return nil
}

// since is the time since when somebody has to have done something not to have stopped.
func (m *making) since() time.Time { return m.now.AddDate(0, 0, -m.days) }

// title is what a section is called here: its course too, where its own title does not begin with it.
func title(x rosterstore.Section) string {
	if x.Course == "" || strings.HasPrefix(strings.ToLower(x.Title), strings.ToLower(x.Course)) {
		return x.Title
	}
	return x.Title + " · " + x.Course
}

// ofDays says a number of days.
func ofDays(n int) string { return report.Of(n, "day", "days") }

// percent says a mark.
func percent(n int) string { return strconv.Itoa(n) + " %" }
