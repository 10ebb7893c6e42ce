package reports

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"kanban/internal/core/finding"
	"kanban/internal/core/grade"
	"kanban/internal/core/report"
	"kanban/internal/core/rule"
	"kanban/internal/store/reportstore"
	"kanban/internal/store/rosterstore"
	"kanban/internal/store/scorestore"
)

// sum adds awards up by what key gives.
func sum(all []reportstore.Awarded, key func(reportstore.Awarded) group) map[group]reportstore.Awarded {
	out := map[group]reportstore.Awarded{}
	for _, a := range all {
		x := out[key(a)]
		x.Awards, x.Valid, x.Revoked, x.Suspended = x.Awards+a.Awards, x.Valid+a.Valid, x.Revoked+a.Revoked,
			x.Suspended+a.Suspended
		x.Shared, x.Opened, x.ByPeople, x.Programs = x.Shared+a.Shared, x.Opened+a.Opened, x.ByPeople+a.ByPeople,
			x.Programs+a.Programs
		out[key(a)] = x
	}
	return out
}

// awardColumns are the columns of a table of awards, after its first.
var awardColumns = []report.Column{
	{Title: "Awarded", Unit: report.Count},
	{Title: "Valid", Unit: report.Count},
	{Title: "Revoked", Unit: report.Count},
	{Title: "Suspended", Unit: report.Count},
	{Title: "Shared", Unit: report.Count},
	{Title: "Opened", Unit: report.Count},
	{Title: "Looked at", Unit: report.Count},
	{Title: "Checked by programs", Unit: report.Count},
}

// awarded makes a table of awards by what its first column names.
func awarded(heading, noun string, all map[group]reportstore.Awarded) report.Part {
	var rows []report.Row
	chart := report.Chart{Kind: report.Bars, Series: []report.Series{
		{Title: "Valid", Tone: report.Done},
		{Title: "Ended or suspended", Tone: report.Rest},
		{Title: "Revoked", Tone: report.Bad},
	}}
	for _, g := range slices.SortedFunc(maps.Keys(all), byTitle) {
		a := all[g]
		rows = append(rows, report.Row{
			g.title, a.Awards, a.Valid, a.Revoked, a.Suspended, a.Shared, a.Opened, a.ByPeople, a.Programs,
		})
		chart.Labels = append(chart.Labels, g.title)
		for i, v := range []int{a.Valid, a.Awards - a.Valid - a.Revoked, a.Revoked} {
			chart.Series[i].Values = append(chart.Series[i].Values, float64(v))
		}
	}
	return report.Table(heading, "Nothing was awarded.",
		append([]report.Column{{Title: noun, Unit: report.Text}}, awardColumns...), rows, &chart)
}

// badges makes the report on what was awarded.
func (m *making) badges(ctx context.Context) error {
	var in []string
	if m.narrowed() {
		in = append([]string{}, m.ids...)
		m.out.Remarks = []string{"What was awarded by hand or from a file is for no section and left out here."}
	}
	all, err := reportstore.Awards(ctx, m.Store, in, m.period)
	if err != nil {
		return err
	}
	months := sum(all, func(a reportstore.Awarded) group { return called(a.At.In(m.Location()).Format("2006-01"))[0] })
	whole := sum(all, func(reportstore.Awarded) group { return group{} })[group{}]
	m.out.Summary = []string{fmt.Sprintf("%s, %d of them valid; %d shared, %d revoked.",
		report.Of(whole.Awards, "award", "awards"), whole.Valid, whole.Shared, whole.Revoked)}
	monthly := awarded("By month", "Month", months)
	monthly.Columns[0].Unit = report.Day
	if monthly.Chart != nil {
		lines := report.Chart{Kind: report.Lines, Series: []report.Series{{Title: "Awarded", Tone: report.Done}}}
		lines.Labels = gapless(monthly.Chart.Labels, "2006-01",
			func(t time.Time) time.Time { return t.AddDate(0, 1, 0) })
		for _, l := range lines.Labels {
			lines.Series[0].Values = append(lines.Series[0].Values, float64(months[group{l, l}].Awards))
		}
		monthly.Chart = &lines
	}
	m.out.Parts = []report.Part{
		awarded("By badge", "Badge", sum(all, func(a reportstore.Awarded) group { return group{a.BadgeID, a.Badge} })),
		awarded("By section", "Section", sum(all, func(a reportstore.Awarded) group {
			if x, there := m.of[a.SectionID]; there {
				return group{x.ID, title(x)}
			}
			return group{"", "for no section"}
		})),
		monthly,
	}
	return nil
}

// mostGaps is how many days or months a chart shows at most.
const mostGaps = 400

// gapless lists every day or month from the first label to the last, so that none in which nothing happened is
// missing.
func gapless(labels []string, layout string, next func(time.Time) time.Time) (out []string) {
	if len(labels) == 0 {
		return nil
	}
	at, err := time.Parse(layout, labels[0])
	if err != nil {
		return labels
	}
	for len(out) < mostGaps {
		l := at.Format(layout)
		out = append(out, l)
		if l >= labels[len(labels)-1] {
			return out
		}
		at = next(at)
	}
	return labels
}

// tally is how often two things happened on a day.
type tally struct{ one, other int }

// daily shows two things day by day, the latest first: at gives when something was counted, and how much of both.
func daily[T any](zone *time.Location, counted []T, empty string, one, other string,
	at func(T) (time.Time, tally),
) (p report.Part, whole tally) {
	by := map[string]tally{}
	for _, c := range counted {
		when, n := at(c)
		day := when.In(zone).Format(time.DateOnly)
		by[day] = tally{by[day].one + n.one, by[day].other + n.other}
		whole.one, whole.other = whole.one+n.one, whole.other+n.other
	}
	days := slices.Sorted(maps.Keys(by))
	var rows []report.Row
	for _, day := range slices.Backward(days) {
		rows = append(rows, report.Row{day, by[day].one, by[day].other})
	}
	chart := report.Chart{Kind: report.Lines, Series: []report.Series{
		{Title: one, Tone: report.Done}, {Title: other, Tone: report.Bad},
	}}
	chart.Labels = gapless(days, time.DateOnly, func(t time.Time) time.Time { return t.AddDate(0, 0, 1) })
	for _, l := range chart.Labels {
		chart.Series[0].Values = append(chart.Series[0].Values, float64(by[l].one))
		chart.Series[1].Values = append(chart.Series[1].Values, float64(by[l].other))
	}
	return report.Table("By day", empty, []report.Column{
		{Title: "Day", Unit: report.Day}, {Title: one, Unit: report.Count}, {Title: other, Unit: report.Count},
	}, rows, &chart), whole
}

// rosters makes the report on who joined and left, and what needs somebody.
func (m *making) rosters(ctx context.Context) error {
	moved, err := rosterstore.CountMovements(ctx, m.Store, m.ids, m.period.From, m.period.To)
	if err != nil {
		return err
	}
	days, whole := daily(m.Location(), moved, "Nobody joined or left.", "Joined", "Left",
		func(x rosterstore.Movement) (time.Time, tally) { return x.At, tally{x.Joined, x.Left} })
	m.out.Summary = []string{fmt.Sprintf("%d joined and %d left.", whole.one, whole.other)}
	m.out.Parts = []report.Part{days}
	m.out.Remarks = []string{
		"A day is that on which the register was read, in which the change stood; the first read, which found everybody, is not counted.",
	}
	if err := m.arrivals(ctx); err != nil || m.narrowed() {
		return err
	}
	return m.causes(ctx)
}

// arrivals adds how long it took from when the register showed that somebody had joined until they were in a class.
func (m *making) arrivals(ctx context.Context) error {
	all, err := rosterstore.Arrivals(ctx, m.Store, m.ids, m.period.From, m.period.To)
	if err != nil {
		return err
	}
	var rows []report.Row
	for _, a := range all {
		rows = append(rows, report.Row{a.Service, a.Joined, a.In, a.Joined - a.In, number(a.Half), number(a.Most)})
	}
	m.out.Parts = append(m.out.Parts, report.Table("From register to class", "Nobody joined a section that is paired.",
		[]report.Column{
			{Title: "Service", Unit: report.Text},
			{Title: "Joined", Unit: report.Count},
			{Title: "In the class", Unit: report.Count},
			{Title: "Not in it", Unit: report.Count},
			{Title: "Half were in after", Unit: report.Days},
			{Title: "9 of 10 after", Unit: report.Days},
		}, rows, nil))
	return nil
}

// causes adds what needs somebody, by cause.
func (m *making) causes(ctx context.Context) error {
	causes, err := m.Findings.RosterCauses(ctx)
	if err != nil {
		return err
	}
	all := func(code finding.Code) int { c := causes[code]; return c.All() }
	var rows []report.Row
	chart := report.Chart{
		Kind:   report.Bars,
		Series: []report.Series{{Title: "Findings", Tone: report.Bad}},
	}
	for _, code := range slices.SortedFunc(maps.Keys(causes), func(a, b finding.Code) int {
		return cmp.Or(all(b)-all(a), strings.Compare(string(a), string(b)))
	}) {
		e, _ := finding.Lookup(code)
		c := causes[code]
		row := append(report.Row{finding.Title(code), c.All()}, c.Cells()...)
		rows = append(rows, append(row, string(e.Owner), e.Remedy))
		chart.Labels = append(chart.Labels, finding.Title(code))
		chart.Series[0].Values = append(chart.Series[0].Values, float64(c.All()))
	}
	m.out.Parts = append(m.out.Parts, report.Table("What needs somebody now", "Nothing needs anybody.",
		slices.Concat([]report.Column{{Title: "Cause", Unit: report.Text}, {Title: "Findings", Unit: report.Count}},
			report.AgeColumns, []report.Column{
				{Title: "Who can mend it", Unit: report.Text},
				{Title: "What to do", Unit: report.Text},
			}), rows, &chart))
	return nil
}

// rules makes the report on what rules did.
func (m *making) rules(ctx context.Context) error {
	all, err := reportstore.ActedRules(ctx, m.Store, m.period)
	if err != nil {
		return err
	}
	var rows []report.Row
	fired, failed := 0, 0
	chart := report.Chart{Kind: report.Bars, Series: []report.Series{
		{Title: "Delivered", Tone: report.Done},
		{Title: "To come", Tone: report.Open},
		{Title: "Failed", Tone: report.Bad},
	}}
	for _, r := range all {
		state, limit := "off", any(nil)
		if r.On {
			state = "on"
		}
		if r.Most > 0 {
			limit = fmt.Sprintf("%d a %s", r.Most, r.Per)
		}
		rows = append(rows, report.Row{
			r.Name, state, rule.Trigger(r.Trigger).Name(), r.Fired, r.People, r.Delivered, r.Waiting, r.Failed,
			r.Calls, limit,
		})
		fired, failed = fired+r.Fired, failed+r.Failed
		if r.Fired == 0 {
			continue
		}
		chart.Labels = append(chart.Labels, r.Name)
		for i, v := range []int{r.Delivered, r.Waiting, r.Failed} {
			chart.Series[i].Values = append(chart.Series[i].Values, float64(v))
		}
	}
	m.out.Summary = []string{fmt.Sprintf("%s fired %s; %s for a person.", report.Of(len(all), "rule", "rules"),
		report.Of(fired, "time", "times"), report.Of(failed, "delivery waits", "deliveries wait"))}
	m.out.Parts = []report.Part{report.Table("What each rule did", "There is no rule.", []report.Column{
		{Title: "Rule", Unit: report.Text},
		{Title: "State", Unit: report.Text},
		{Title: "When", Unit: report.Text},
		{Title: "Fired", Unit: report.Count},
		{Title: "People", Unit: report.Count},
		{Title: "Delivered", Unit: report.Count},
		{Title: "To come", Unit: report.Count},
		{Title: "Failed", Unit: report.Count},
		{Title: "Tries", Unit: report.Count},
		{Title: "Limit", Unit: report.Text},
	}, rows, &chart)}
	return nil
}

// services makes the report on how services answered.
func (m *making) services(ctx context.Context) error {
	all, err := reportstore.Answers(ctx, m.Store, m.period)
	if err != nil {
		return err
	}
	var rows []report.Row
	calls, taken := 0, 0
	chart := report.Chart{Kind: report.Bars, Series: []report.Series{
		{Title: "Taken", Tone: report.Done},
		{Title: "Throttled", Tone: report.Open},
		{Title: "Refused", Tone: report.Second},
		{Title: "Failed", Tone: report.Bad},
	}}
	for _, a := range all {
		calls, taken = calls+a.Calls, taken+a.Taken
		rows = append(rows, report.Row{
			a.Name, a.Calls, a.Taken, a.Throttled, a.Refused, a.Failed, number(a.Median), number(a.Slow), a.Waiting,
		})
		chart.Labels = append(chart.Labels, a.Name)
		for i, v := range []int{a.Taken, a.Throttled, a.Refused, a.Failed} {
			chart.Series[i].Values = append(chart.Series[i].Values, float64(v))
		}
	}
	over, err := reportstore.CallsOver(ctx, m.Store, m.period)
	if err != nil {
		return err
	}
	days, _ := daily(m.Location(), over, "Nothing was sent.", "Taken", "Not taken",
		func(x reportstore.Calls) (time.Time, tally) { return x.At, tally{x.Taken, x.Failed} })
	m.out.Summary = []string{fmt.Sprintf("%s, %s taken.", report.Of(calls, "call", "calls"),
		report.Percent(taken, calls))}
	m.out.Parts = []report.Part{report.Table("By service", "Nothing was sent to any service.", []report.Column{
		{Title: "Service", Unit: report.Text},
		{Title: "Calls", Unit: report.Count},
		{Title: "Taken", Unit: report.Count},
		{Title: "Throttled", Unit: report.Count},
		{Title: "Refused", Unit: report.Count},
		{Title: "Failed", Unit: report.Count},
		{Title: "Half answered in", Unit: report.Span},
		{Title: "95 of 100 in", Unit: report.Span},
		{Title: "Waiting now", Unit: report.Count},
	}, rows, &chart), days}
	m.out.Remarks = []string{"It counts what rules send: reading registers and carrying rosters and scores is in their runs."}
	return nil
}

// number is a number as a cell.
func number(v *float64) any {
	if v == nil {
		return nil
	}
	return *v
}

// scores makes the report on what score links carry, as they were compared last.
func (m *making) scores(ctx context.Context) error {
	links, called, noted, err := m.links(ctx)
	if err != nil {
		return err
	}
	groups := []struct {
		title    string
		tone     report.Tone
		outcomes []grade.Outcome
	}{
		{"Agree", report.Done, []grade.Outcome{grade.Unchanged}},
		{"To be carried", report.Open, []grade.Outcome{grade.New, grade.Update, grade.Replacing}},
		{"Held back", report.Rest, []grade.Outcome{grade.Waiting, grade.Kept, grade.BookOnly}},
		{"Need somebody", report.Bad, []grade.Outcome{grade.Conflict, grade.Refused, grade.Withdrawn}},
	}
	columns := []report.Column{{Title: "Score link", Unit: report.Text}, {Title: "Book", Unit: report.Text}}
	chart := report.Chart{Kind: report.Bars}
	for _, g := range groups {
		columns = append(columns, report.Column{Title: g.title, Unit: report.Count})
		chart.Series = append(chart.Series, report.Series{Title: g.title, Tone: g.tone})
	}
	columns = append(columns, report.Column{Title: "Oldest draft", Unit: report.Time},
		report.Column{Title: "Compared", Unit: report.Time})
	var rows []report.Row
	need := 0
	for _, l := range links {
		n := called[l.ID]
		row := report.Row{n.Title, n.Book}
		chart.Labels = append(chart.Labels, n.Title)
		for i, g := range groups {
			count := 0
			for _, o := range g.outcomes {
				count += l.Counts[o.String()]
			}
			row = append(row, count)
			chart.Series[i].Values = append(chart.Series[i].Values, float64(count))
			if g.tone == report.Bad {
				need += count
			}
		}
		rows = append(rows, append(row, moment(l.OldestDraft), moment(l.ComparedAt)))
	}
	m.out.Summary = []string{fmt.Sprintf("%s; %s somebody.", report.Of(len(links), "score link", "score links"),
		report.Of(need, "score needs", "scores need"))}
	m.out.Parts = []report.Part{
		report.Table("By score link", "There is no score link.", columns, rows, &chart), reasons(noted),
		drafts(links, called, m.out.MadeAt),
	}
	m.out.Remarks = []string{"Only what was carried is that of the days; all else is as it was compared last."}
	return m.carried(ctx, links, called)
}

// openStates are what can be missing of work, in the order in which they are shown.
var openStates = []string{"missing", "not-submitted", "not-marked", "partly-marked", "draft", "not-released"}

// carried adds what work is not done, and how many scores were carried day by day.
func (m *making) carried(ctx context.Context, links []scorestore.Link, called map[string]scorestore.NamedLink) error {
	columns := []report.Column{{Title: "Score link", Unit: report.Text}, {Title: "Section", Unit: report.Text}}
	for _, state := range openStates {
		title := strings.ReplaceAll(state, "-", " ")
		columns = append(columns, report.Column{Title: strings.ToUpper(title[:1]) + title[1:], Unit: report.Count})
	}
	var rows []report.Row
	for _, l := range links {
		if l.ComparedAt == nil {
			continue
		}
		all, err := m.Unfinished(ctx, l.ID)
		if err != nil {
			return err
		}
		in := map[group]map[string]int{}
		for _, w := range all {
			at := group{w.SectionID, w.Section}
			if in[at] == nil {
				in[at] = map[string]int{}
			}
			in[at][w.State]++
		}
		for _, at := range slices.SortedFunc(maps.Keys(in), byTitle) {
			row := report.Row{called[l.ID].Title, at.title}
			for _, state := range openStates {
				row = append(row, in[at][state])
			}
			rows = append(rows, row)
		}
	}
	done, err := scorestore.CountCarried(ctx, m.Store, m.period.From, m.period.To)
	if err != nil {
		return err
	}
	days, whole := daily(m.Location(), done, "No score was carried.", "Carried", "Reverted",
		func(x scorestore.CarriedAt) (time.Time, tally) { return x.At, tally{x.Carried, x.Reverted} })
	m.out.Summary[0] += fmt.Sprintf(" %s carried.", report.Of(whole.one, "score was", "scores were"))
	m.out.Parts = append(m.out.Parts, report.Table("Work that is not done", "All work is done.", columns, rows, nil), days)
	return nil
}

// links gives the score links, what they are called, and why scores of them are not carried.
func (m *making) links(ctx context.Context) (links []scorestore.Link, called map[string]scorestore.NamedLink,
	noted []scorestore.Noted, err error,
) {
	if links, err = scorestore.Links(ctx, m.Store, ""); err != nil {
		return nil, nil, nil, err
	}
	if noted, err = scorestore.Noteworthy(ctx, m.Store); err != nil {
		return nil, nil, nil, err
	}
	names, err := scorestore.LinkNames(ctx, m.Store)
	called = map[string]scorestore.NamedLink{}
	for _, n := range names {
		called[n.ID] = n
	}
	return links, called, noted, err
}

// drafts shows how old the scores are that are not final.
func drafts(links []scorestore.Link, called map[string]scorestore.NamedLink, now time.Time) report.Part {
	var rows []report.Row
	for _, l := range links {
		var ages report.Ages
		for day, n := range l.DraftDays {
			if at, err := time.Parse(time.DateOnly, day); err == nil {
				ages.Add(n, &at, now)
			} else {
				ages.Add(n, nil, now)
			}
		}
		if ages.All() > 0 {
			rows = append(rows, append(report.Row{called[l.ID].Title, ages.All()}, ages.Cells()...))
		}
	}
	return report.Table("Not final, by age", "Every score is final.", append([]report.Column{
		{Title: "Score link", Unit: report.Text}, {Title: "Scores", Unit: report.Count},
	}, report.AgeColumns...), rows, nil)
}

// reasons shows why scores are not carried.
func reasons(all []scorestore.Noted) report.Part {
	var rows []report.Row
	for _, n := range all {
		for _, r := range n.Reasons {
			if r.Outcome == grade.Unchanged {
				continue
			}
			e, _ := finding.Lookup(r.Reason)
			rows = append(rows, report.Row{
				n.Title, r.Outcome.String(), finding.Title(r.Reason), r.Results, r.Items,
				e.Remedy,
			})
		}
	}
	return report.Table("Why", "Nothing is held back.", []report.Column{
		{Title: "Score link", Unit: report.Text},
		{Title: "What happens", Unit: report.Text},
		{Title: "Why", Unit: report.Text},
		{Title: "Scores", Unit: report.Count},
		{Title: "Assignments", Unit: report.Count},
		{Title: "What to do", Unit: report.Text},
	}, rows, nil)
}
