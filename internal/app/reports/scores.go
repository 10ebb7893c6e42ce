package reports

import (
	"context"
	"fmt"
	"slices"
	"time"

	"kanban/internal/core/finding"
	"kanban/internal/core/grade"
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
		page := "/scores/" + l.ID
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
		for _, r := range l.Reasons {
			if f, say := scoreReason(l, r, page); say {
				list = append(list, f)
			}
		}
	}
	return list, err
}

// scoreReason is what there is to say about the scores of a link that one reason holds.
func scoreReason(l scorestore.Noted, r grade.Reasons, page string) (f Finding, say bool) {
	group := Waiting
	switch {
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
		fmt.Sprintf("%s in %s", number(r.Results, "score"), number(r.Items, "assignment")), page)
	f.Count = r.Results
	return f, true
}

func number(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}
