package reports

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"kanban/internal/core/refusal"
	"kanban/internal/core/report"
	"kanban/internal/core/rule"
	"kanban/internal/store/badgestore"
	"kanban/internal/store/reportstore"
	"kanban/internal/store/rulestore"
)

// oneByOne makes rows of learners who are handed out one after the other.
func oneByOne(each func(func(reportstore.Learner) error) error, row func(reportstore.Learner) report.Row) report.Rows {
	return func(yield func(report.Row, error) bool) {
		enough := errors.New("enough")
		err := each(func(l reportstore.Learner) error {
			if !yield(row(l), nil) {
				return enough
			}
			return nil
		})
		if err != nil && !errors.Is(err, enough) {
			yield(nil, err)
		}
	}
}

// moment is a time as a cell.
func moment(t *time.Time) any {
	if t == nil {
		return nil
	}
	return *t
}

// stopped makes the report on who has stopped.
func (m *making) stopped(ctx context.Context) error {
	if err := m.going(ctx); err != nil {
		return err
	}
	rules, err := rulestore.Rules(ctx, m.Store)
	if err != nil {
		return err
	}
	var nudging []string
	for _, r := range rules {
		if rule.Trigger(r.Trigger).Waits() {
			nudging = append(nudging, r.ID)
		}
	}
	total, err := reportstore.CountStopped(ctx, m.Store, m.ids, m.since())
	if err != nil {
		return err
	}
	m.out.Parts = append(m.out.Parts, report.Part{
		Title: "Who has stopped", Empty: "Nobody has stopped.", Total: total,
		Columns: []report.Column{
			{Title: "Learner", Unit: report.Text},
			{Title: "Section", Unit: report.Text},
			{Title: "Progress", Unit: report.Share},
			{Title: "Last activity", Unit: report.Time},
			{Title: "Days since", Unit: report.Count},
			{Title: "Nudged", Unit: report.Time},
			{Title: "By the rule", Unit: report.Text},
		},
		Rows: oneByOne(func(do func(reportstore.Learner) error) error {
			return reportstore.EachStopped(ctx, m.Store, m.ids, m.since(), nudging, do)
		}, func(l reportstore.Learner) report.Row {
			last := l.JoinedAt
			if l.LastAt != nil {
				last = *l.LastAt
			}
			return report.Row{
				l.Name, title(m.of[l.SectionID]), float64(l.Percent) / 100, moment(l.LastAt),
				int(m.now.Sub(last).Hours() / 24), moment(l.NudgedAt), l.NudgedBy,
			}
		}),
	})
	said := "Nobody has stopped."
	if total > 0 {
		said = fmt.Sprintf("%s stopped: nothing done for %s, and not finished.", has(total), ofDays(m.days))
	}
	m.out.Summary = append(m.out.Summary, said)
	m.out.Remarks = append(m.out.Remarks, "Days are counted from the last activity, or from when somebody joined when there is none.")
	return m.nudges(ctx, nudging)
}

// nudges says whether those came back who were nudged.
func (m *making) nudges(ctx context.Context, nudging []string) error {
	all, err := reportstore.Nudges(ctx, m.Store, nudging, m.ids, m.period.From, m.period.To)
	if err != nil {
		return err
	}
	var rows []report.Row
	chart := report.Chart{Kind: report.Bars, Series: []report.Series{
		{Title: "Came back", Tone: report.Done}, {Title: "Did not come back", Tone: report.Rest},
	}}
	for _, n := range all {
		rows = append(rows, report.Row{n.Rule, n.People, n.Back, report.Ratio(n.Back, n.People), n.Finished})
		chart.Labels = append(chart.Labels, n.Rule)
		chart.Series[0].Values = append(chart.Series[0].Values, float64(n.Back))
		chart.Series[1].Values = append(chart.Series[1].Values, float64(n.People-n.Back))
		if n.People > 0 {
			m.out.Summary = append(m.out.Summary, fmt.Sprintf("%s: %d of %d came back.", n.Rule, n.Back, n.People))
		}
	}
	m.out.Parts = append(m.out.Parts, report.Table("Whether nudges helped", "No rule nudges anybody: make one with the trigger Somebody stopped.",
		[]report.Column{
			{Title: "Rule", Unit: report.Text},
			{Title: "Nudged", Unit: report.Count},
			{Title: "Came back", Unit: report.Count},
			{Title: "Of all", Unit: report.Share},
			{Title: "Finished since", Unit: report.Count},
		}, rows, &chart))
	return nil
}

// behind makes the report on who is below a mark or has not begun.
func (m *making) behind(ctx context.Context) error {
	if err := m.going(ctx); err != nil {
		return err
	}
	mark := float64(m.mark) / 100
	counts, err := reportstore.CountBehind(ctx, m.Store, m.ids, mark)
	if err != nil {
		return err
	}
	by := map[string]reportstore.Behind{}
	for _, c := range counts {
		by[c.SectionID] = c
	}
	var rows []report.Row
	var notBegun, below int
	chart := report.Chart{Kind: report.Bars, Series: []report.Series{
		{Title: "Below " + percent(m.mark), Tone: report.Bad}, {Title: "Not begun", Tone: report.Rest},
	}}
	for _, x := range m.sections {
		c := by[x.ID]
		if c.Below+c.NotBegun == 0 {
			continue
		}
		below, notBegun = below+c.Below, notBegun+c.NotBegun
		rows = append(rows, report.Row{title(x), x.Learners, c.Below, c.NotBegun})
		chart.Labels = append(chart.Labels, title(x))
		chart.Series[0].Values = append(chart.Series[0].Values, float64(c.Below))
		chart.Series[1].Values = append(chart.Series[1].Values, float64(c.NotBegun))
	}
	m.out.Summary = []string{fmt.Sprintf("%s below %s on average; %s not begun.", people(below, "Nobody is", "is", "are"), percent(m.mark), has(notBegun))}
	m.out.Remarks = append(m.out.Remarks, "The mean is that of the best scores so far; whoever has no score yet, and has begun, is not in it.")
	m.out.Parts = []report.Part{
		report.Table("By section", "Nobody needs help.", []report.Column{
			{Title: "Section", Unit: report.Text},
			{Title: "Learners", Unit: report.Count},
			{Title: "Below " + percent(m.mark), Unit: report.Count},
			{Title: "Not begun", Unit: report.Count},
		}, rows, &chart),
		{
			Title: "Who it is", Empty: "Nobody needs help.", Total: below + notBegun,
			Columns: []report.Column{
				{Title: "Learner", Unit: report.Text},
				{Title: "Section", Unit: report.Text},
				{Title: "Mean score", Unit: report.Share},
				{Title: "Progress", Unit: report.Share},
				{Title: "Last activity", Unit: report.Time},
			},
			Rows: oneByOne(func(do func(reportstore.Learner) error) error {
				return reportstore.EachBehind(ctx, m.Store, m.ids, mark, do)
			}, func(l reportstore.Learner) report.Row {
				score := any(nil)
				if l.Score != nil {
					score = *l.Score
				}
				return report.Row{l.Name, title(m.of[l.SectionID]), score, float64(l.Percent) / 100, moment(l.LastAt)}
			}),
		},
	}
	return nil
}

// holdings makes the report on the badges of a section.
func (m *making) holdings(ctx context.Context) error {
	if m.ask.Section == "" {
		return refusal.Invalid("section", "is missing: say of which section")
	}
	if len(m.sections) > 1 {
		return refusal.Invalid("section", "%d sections are called %q; give a code or an id", len(m.sections), m.ask.Section)
	}
	in := m.sections[0]
	learners, err := reportstore.LearnersOf(ctx, m.Store, in.ID)
	if err != nil {
		return err
	}
	ids := make([]string, len(learners))
	for i, l := range learners {
		ids[i] = l.PersonID
	}
	held, err := reportstore.HeldBy(ctx, m.Store, ids)
	if err != nil {
		return err
	}
	since := map[holding]time.Time{}
	for _, h := range held {
		since[holding{h.PersonID, h.BadgeID}] = h.AwardedAt
	}
	all, err := badgestore.Badges(ctx, m.Store, nil)
	if err != nil {
		return err
	}
	all = slices.DeleteFunc(all, func(b badgestore.ListedBadge) bool {
		return !slices.ContainsFunc(held, func(h reportstore.Held) bool { return h.BadgeID == b.ID }) &&
			(b.State != badgestore.Published || !asksOf(b.Badge, in.CourseID))
	})
	m.out.Summary = []string{
		report.Of(len(learners), "learner", "learners") + ", " + report.Of(len(all), "badge", "badges") + ".",
	}
	m.out.Remarks = []string{"It shows the badges that somebody here holds, and those that ask for something of this course."}
	return m.board(ctx, learners, ids, all, since)
}

// holding is a person with a badge.
type holding struct{ person, badge string }

// board shows learners by badges: since when each is held, or what is missing.
func (m *making) board(ctx context.Context, learners []reportstore.Learner, ids []string,
	all []badgestore.ListedBadge, since map[holding]time.Time,
) error {
	columns := []report.Column{{Title: "Learner", Unit: report.Text}, {Title: "Progress", Unit: report.Share}}
	chart := report.Chart{Kind: report.Bars, Series: []report.Series{
		{Title: "Hold it", Tone: report.Done}, {Title: "Do not", Tone: report.Rest},
	}}
	rows := make([]report.Row, len(learners))
	for i, l := range learners {
		rows[i] = report.Row{l.Name, float64(l.Percent) / 100}
	}
	for _, b := range all {
		columns = append(columns, report.Column{Title: b.Name, Unit: report.Text})
		unmet, err := m.Criteria.Unmet(ctx, b.Asks, ids)
		if err != nil {
			return err
		}
		n := 0
		for i, l := range learners {
			at, has := since[holding{l.PersonID, b.ID}]
			if has {
				n++
			}
			rows[i] = append(rows[i], m.standing(b, at, unmet[l.PersonID]))
		}
		chart.Labels = append(chart.Labels, b.Name)
		chart.Series[0].Values = append(chart.Series[0].Values, float64(n))
		chart.Series[1].Values = append(chart.Series[1].Values, float64(len(learners)-n))
	}
	m.out.Parts = []report.Part{
		report.Table("Learners and badges", "Nobody learns in this section.", columns, rows, &chart),
	}
	return nil
}

// asksOf reports whether a badge asks for something of a course.
func asksOf(b badgestore.Badge, course string) bool {
	for _, c := range b.Asks {
		for leaf := range c.Leaves {
			if leaf.CourseID == course {
				return true
			}
		}
	}
	return false
}

// standing says how somebody stands with a badge.
func (m *making) standing(b badgestore.ListedBadge, since time.Time, unmet []string) string {
	switch {
	case !since.IsZero():
		return "since " + since.In(m.Location()).Format("2 January 2006")
	case len(b.Asks) == 0:
		return ""
	case len(unmet) == 0:
		return "all is done"
	case len(unmet) == 1:
		return "missing: " + unmet[0]
	}
	return fmt.Sprintf("%d of %d missing", len(unmet), len(b.Asks))
}
