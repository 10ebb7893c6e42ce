package findings

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"kanban/internal/adapter"
	"kanban/internal/core/finding"
	"kanban/internal/core/grade"
	"kanban/internal/core/permission"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/scorestore"
)

// draftsFor is how long scores may be drafts until somebody is asked about them.
const draftsFor = 14 * 24 * time.Hour

// held are the reasons for which scores wait that somebody has to do something about; all others pass by themselves.
var held = []finding.Code{
	finding.ScoreMoved, finding.ScoreNotInBook, finding.ScoreOfUnknown, finding.ScoreVanished, finding.ScoreNotRead,
	finding.BookNotRead, finding.ScoreLocked, finding.ItemGoneAtSource, finding.ItemGoneInBook,
}

// scores gives what keeps scores from being carried, one finding for each score link and reason.
func (s *Service) scores(ctx context.Context) (list []Finding, err error) {
	all, err := scorestore.Noteworthy(ctx, s.Store)
	for _, l := range all {
		from, page := len(list), "/scores/"+l.ID
		if l.Trouble != "" {
			list = append(list, noticed(Mend, finding.Code(l.TroubleCode), l.Title, "scores for "+l.Book, l.Trouble,
				page))
		}
		if l.LastFailed && l.LastRunID != "" {
			list = append(list, noticed(Mend, finding.RunFailed, l.Title, "scores for "+l.Book,
				"the latest run did not come to its end", "/runs/"+l.LastRunID))
		}
		if l.OldestDraft != nil && s.Clock.Now().Sub(*l.OldestDraft) > draftsFor {
			list = append(list, noticed(Mend, finding.ScoreDraftOld, l.Title, "scores for "+l.Book,
				"the oldest was entered on "+l.OldestDraft.Format("2 January 2006"), page+"?state=drafts"))
		}
		if l.Mismatches > 0 {
			f := noticed(Mend, finding.GradebooksDiffer, l.Title, "scores for "+l.Book,
				finding.Number(l.Mismatches, "difference"), page+"?tab=set-up")
			f.Count = l.Mismatches
			list = append(list, f)
		}
		for _, r := range l.Reasons {
			if f, say := scoreReason(l, r, page); say {
				list = append(list, f)
			}
		}
		of(permission.OfScoreLink, l.ID, list[from:])
	}
	return list, err
}

// scoreReason is what there is to say about the scores of a link that one reason holds.
func scoreReason(l scorestore.Noted, r grade.Reasons, page string) (f Finding, say bool) {
	group := Waiting
	switch {
	case r.Reason == finding.ScoreNotGiven:
		return f, false // as it is meant to be
	case r.Outcome == grade.Conflict || r.Outcome == grade.Refused || r.Outcome == grade.Withdrawn,
		slices.Contains(held, r.Reason):
		group, page = Mend, page+"?tab=scores&outcome="+r.Outcome.String()
	case r.Reason == finding.ItemLeftOut || r.Reason == finding.ScoreDecided || r.Reason == finding.PeriodFinal ||
		r.Reason == finding.ItemWithoutScores || r.Reason == finding.ScoreBlanksOnly:
		group = LeftOut
	case r.Reason == finding.ItemNotReady:
		group, page = Mend, page+"?state=not-ready"
	case r.Outcome != grade.Waiting:
		return f, false // the next run carries it
	}
	f = noticed(group, r.Reason, l.Title, "scores for "+l.Book,
		fmt.Sprintf("%s in %s", finding.Number(r.Results, "score"), finding.Number(r.Items, "assignment")), page)
	f.Count = r.Results
	return f, true
}

// ScoreLink gives the checklist of a score link.
func (s *Service) ScoreLink(ctx context.Context, l scorestore.Link) (Checklist, error) {
	list := Checklist{}
	for _, side := range []struct {
		id, title, next string
		can             adapter.Capability
	}{
		{
			l.SourceInterfaceID, "The gradebook where work is marked can be read", "Test its interface", adapter.ScoresIn,
		},
		{l.BookInterfaceID, "The book of record can be written to", "Test its interface", adapter.ScoresOut},
	} {
		c, err := connectionstore.FindInterface(ctx, s.Store, side.id)
		if err != nil && !errors.Is(err, db.ErrNotFound) {
			return nil, err
		}
		var probe []adapter.Report
		if err == nil && len(c.Probe) > 0 {
			if err := json.Unmarshal(c.Probe, &probe); err != nil {
				return nil, err
			}
		}
		works := slices.ContainsFunc(probe, func(r adapter.Report) bool {
			return r.Capability == side.can && r.State == adapter.Works
		})
		list = append(list, Step{side.title, works && !c.Paused(), side.next})
	}
	carries := l.ComparedAt != nil && (l.Counts[grade.New.String()]+l.Counts[grade.Update.String()]+
		l.Counts[grade.Unchanged.String()] > 0 || l.Counts["makes"] > 0)
	return append(list,
		Step{"Both sides were compared", l.ComparedAt != nil && l.Trouble == "", "Look what would be carried"},
		Step{"An assignment is ready", carries, "See why none is ready, and mend it or choose what is set for it"},
		Step{"Carried once by hand", l.RanAt != nil, "Carry the scores; by itself it runs only after that"},
		Step{"Not paused", l.PausedAt == nil && l.EndedAt == nil, "Let it go on"},
	), nil
}
