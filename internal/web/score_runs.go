package web

import (
	"context"
	"math"
	"time"

	"kanban/internal/app/scores"
	"kanban/internal/core/finding"
	"kanban/internal/core/grade"
	"kanban/internal/core/refusal"
	"kanban/internal/store/runstore"
	"kanban/internal/store/scorestore"
	"kanban/internal/web/auth"
	"kanban/internal/wire/api"
)

func (s *Server) previewScores(ctx context.Context, in *byID) (api.ScorePreview, error) {
	p, err := s.Scores.Preview(ctx, in.ID, 0)
	return s.scorePreview(ctx, p, err)
}

func (s *Server) getScorePreview(ctx context.Context, in *byID) (api.ScorePreview, error) {
	p, err := s.Scores.FindPreview(ctx, in.ID)
	return s.scorePreview(ctx, p, err)
}

func (s *Server) revertScores(ctx context.Context, in *byID) (api.ScorePreview, error) {
	p, err := s.Scores.Revert(ctx, in.ID)
	return s.scorePreview(ctx, p, err)
}

func scoreMark(m grade.Mark) api.ScoreMark {
	if m.Kind == grade.Points && (math.IsNaN(m.Points) || math.IsInf(m.Points, 0)) {
		return api.ScoreMark{Text: "not a number", Comment: m.Comment}
	}
	return api.ScoreMark{Text: m.String(), Comment: m.Comment}
}

func (s *Server) scorePreview(ctx context.Context, p scorestore.Preview, err error) (api.ScorePreview, error) {
	if err != nil {
		return api.ScorePreview{}, err
	}
	sections, err := s.Scores.SectionTitles(ctx, p.LinkID)
	if err != nil {
		return api.ScorePreview{}, err
	}
	out := api.ScorePreview{
		ID: p.ID, LinkID: p.LinkID, Items: []api.ScoreItemPlan{}, Counts: outcomeCounts(p.Plan.Counts()),
		Changes: p.Plan.Counts().Changes(), Losses: len(p.Plan.Losses()), Reasons: each(p.Plan.Summary(), scoreReason),
		RosterHeld: scores.HeldByRoster(p.Plan.Plan),
		Codes:      map[finding.Code]api.ItemReason{}, SourceRead: p.SourceRead, BookRead: p.BookRead,
		Categories: []string{},
	}
	unread, err := s.Scores.UnreadOf(ctx, p.LinkID)
	if err != nil {
		return api.ScorePreview{}, err
	}
	out.Unread = each(unread, func(u scores.Unread) api.UnreadRecords {
		return api.UnreadRecords{
			Gradebook: u.Gradebook, Count: u.Count,
			First: each(u.First, func(x scorestore.Unread) api.UnreadRecord { return api.UnreadRecord(x) }),
		}
	})
	if p.Reverts != nil {
		out.Reverts, out.Losses = *p.Reverts, 0
	}
	for _, c := range p.Plan.Makes {
		out.Categories = append(out.Categories, c.Title)
	}
	for _, item := range p.Plan.Items {
		if item.Outcome == grade.ItemMade {
			out.Makes++
		}
		shown := api.ScoreItemPlan{
			ID: item.ID, Title: p.Plan.Titles[item.ID], Section: sections[item.ID], Outcome: item.Outcome.String(),
			PeriodID: p.Plan.Periods[item.ID].ID, Period: p.Plan.Periods[item.ID].Title,
			Reasons: append([]finding.Code{}, item.Reasons...), Counts: outcomeCounts(item.Counts()),
			Entries: each(item.Entries, func(e grade.Entry) api.ScoreEntry {
				return scoreEntry(e,
					p.Plan.Names[e.Who])
			}),
		}
		for _, r := range item.Reasons {
			out.Codes[r] = itemReason(r)
		}
		for _, e := range item.Entries {
			if _, had := out.Codes[e.Reason]; !had {
				out.Codes[e.Reason] = itemReason(e.Reason)
			}
		}
		out.Items = append(out.Items, shown)
	}
	return out, nil
}

func scoreEntry(e grade.Entry, name string) api.ScoreEntry {
	out := api.ScoreEntry{
		Who: e.Who, Name: name, Outcome: e.Outcome.String(), Code: e.Reason, Was: scoreMark(e.Was),
		Theirs: scoreMark(e.Theirs), Ours: scoreMark(e.Ours), Given: scoreMark(e.Given), Shortened: e.Shortened,
		Again: e.Again, Elsewhere: e.Elsewhere, ElsewhereID: e.ElsewhereID,
	}
	if e.Lost != 0 {
		out.Lost = e.Lost.Names()
	}
	if scores.Known(e.Who) {
		out.PersonID = e.Who
	}
	out.Student = scores.Student(e.Who)
	return out
}

func (s *Server) listGivenScores(ctx context.Context, in *byID) (api.Page[api.GivenScores], error) {
	all, err := s.Scores.Given(ctx, in.ID)
	return api.Page[api.GivenScores]{
		Items: each(all, func(g scores.Given) api.GivenScores { return api.GivenScores(g) }),
	}, err
}

func (s *Server) runScores(ctx context.Context, in *withID[api.NewScoreRun]) (api.Run, error) {
	start := s.Scores.Start
	if in.Body.RosterFirst {
		start = s.Scores.StartInStep
	}
	r, err := start(ctx, auth.Caller(ctx).Name, in.ID, in.Body.Approved, in.Body.Only...)
	if err != nil {
		return api.Run{}, err
	}
	return s.run(ctx, r)
}

func (s *Server) listScoreChanges(ctx context.Context, in *byID) (api.Page[api.ScoreChange], error) {
	if _, err := s.Runs.FindRun(ctx, in.ID); err != nil {
		return api.Page[api.ScoreChange]{}, err
	}
	all, err := s.Scores.Changes(ctx, in.ID)
	return api.Page[api.ScoreChange]{Items: each(all, scoreChange)}, err
}

func scoreChange(c scorestore.Change) api.ScoreChange {
	out := api.ScoreChange{
		What: c.What, Title: c.Title, Name: c.Name, Outcome: c.Outcome, State: c.State, Code: finding.Code(c.Code),
		Answer: c.Answer,
	}
	for into, from := range map[*string]*string{&out.ItemID: c.ItemID, &out.PersonID: c.PersonID} {
		if from != nil {
			*into = *from
		}
	}
	for into, from := range map[*api.ScoreMark]*grade.Mark{&out.Before: c.Before, &out.Sent: c.Sent} {
		if from != nil {
			*into = scoreMark(*from)
		}
	}
	if e, known := finding.Lookup(out.Code); known {
		out.Why, out.Remedy = e.Title, e.Remedy
	}
	return out
}

func (s *Server) decideScores(ctx context.Context, in *withID[api.ScoreDecision]) (api.DecidedScores, error) {
	var side grade.Side
	if err := side.UnmarshalText([]byte(in.Body.Take)); err != nil {
		return api.DecidedScores{}, refusal.Invalid("take", "%v", err)
	}
	n, err := s.Scores.Decide(ctx, auth.Caller(ctx).Name, in.ID, side, in.Body.Assignments, in.Body.People)
	return api.DecidedScores{Scores: n}, err
}

func (s *Server) giveScores(ctx context.Context, in *withID[api.ScoreOwner]) error {
	b, who := in.Body, auth.Caller(ctx).Name
	if b.PersonID == "" {
		return s.Scores.Ungive(ctx, who, in.ID, b.Student, b.SourceItem)
	}
	return s.Scores.Give(ctx, who, in.ID, b.Student, b.SourceItem, b.PersonID, b.SectionID)
}

func (s *Server) listScorePeriods(ctx context.Context, in *byID) (api.Page[api.ScorePeriod], error) {
	all, final, err := s.Scores.Periods(ctx, in.ID)
	return api.Page[api.ScorePeriod]{Items: each(all, func(p grade.Period) api.ScorePeriod {
		by, is := final[p.ID]
		out := api.ScorePeriod{ID: p.ID, Title: p.Title, Final: is, FinalBy: by}
		if !p.Begins.IsZero() {
			out.Begins = p.Begins.Format(time.DateOnly)
		}
		if !p.Ends.IsZero() {
			out.Ends = p.Ends.Format(time.DateOnly)
		}
		return out
	})}, err
}

func (s *Server) finalPeriod(ctx context.Context, in *periodInput) error {
	return s.Scores.Close(ctx, auth.Caller(ctx).Name, in.ID, in.Period, in.Body.Final)
}

// scoreRun fills in what only a run of a score link has.
func (s *Server) scoreRun(ctx context.Context, r runstore.Run, out *api.Run) error {
	l, err := s.Scores.Find(ctx, *r.ScoreLinkID)
	if err != nil {
		return err
	}
	out.ScoreLinkID, out.About = l.ID, l.Title+": scores for "+l.Book
	return nil
}
