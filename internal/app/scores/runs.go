package scores

import (
	"context"
	"errors"
	"slices"
	"strings"

	"kanban/internal/adapter/gradebooks"
	"kanban/internal/core/finding"
	"kanban/internal/core/grade"
	"kanban/internal/core/refusal"
	"kanban/internal/store/db"
	"kanban/internal/store/jobs"
	"kanban/internal/store/proofstore"
	"kanban/internal/store/runstore"
	"kanban/internal/store/scorestore"
)

// Start queues a run that does exactly what a preview shows. only narrows it to these assignments; approved says that
// the values of the book which it would lose were looked at.
func (s *Service) Start(ctx context.Context, who, previewID string, approved bool, only ...string) (
	runstore.Run, error,
) {
	return s.begin(ctx, who, previewID, approved, false, only)
}

// StartInStep does the same and brings the roster in step first, in the same run: what the preview holds back
// because of it is carried too when it can be then.
func (s *Service) StartInStep(ctx context.Context, who, previewID string, approved bool, only ...string) (
	runstore.Run, error,
) {
	return s.begin(ctx, who, previewID, approved, true, only)
}

func (s *Service) begin(ctx context.Context, who, previewID string, approved, roster bool, only []string) (
	runstore.Run, error,
) {
	p, err := scorestore.FindPreview(ctx, s.Store, previewID)
	if errors.Is(err, db.ErrNotFound) {
		return runstore.Run{}, refusal.Invalid("previewId", "there is no preview %q; make one first", previewID)
	}
	if err != nil {
		return runstore.Run{}, err
	}
	l, err := scorestore.FindLink(ctx, s.Store, p.LinkID)
	if err != nil {
		return runstore.Run{}, err
	}
	if err := s.allowed(ctx, l); err != nil {
		return runstore.Run{}, err
	}
	plan, err := narrowed(p.Plan, only)
	if err != nil {
		return runstore.Run{}, err
	}
	if n := len(plan.Losses()); n > 0 && !approved && p.Reverts == nil {
		return runstore.Run{}, refusal.Conflict(finding.ScoreReplaced,
			"this would replace %d values that the book has; look at them in the preview, then run it with the replacing approved", n)
	}
	r := runstore.Run{
		ID: db.NewID(), Kind: runstore.RunScores, ScoreLinkID: &l.ID, PreviewID: &p.ID,
		State: runstore.Queued, Approved: approved, Reverts: p.Reverts, RequestedBy: who,
	}
	changes := changesOf(r, plan, roster && p.Reverts == nil)
	if len(changes) == 0 {
		return r, refusal.Conflict("", "there is nothing to carry: %s", nothing(plan))
	}
	r.Total = len(changes)
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := db.Create(tx, &r, "queueing the run"); err != nil {
			return err
		}
		if err := scorestore.AddChanges(tx, changes); err != nil {
			return err
		}
		if err := tx.Audit(ctx, who, "started carrying scores", "run/"+r.ID,
			map[string]any{"scoreLink": l.ID, "changes": r.Total, "approved": approved}); err != nil {
			return err
		}
		if err := tx.Enqueue(ctx, jobs.CarryScores{RunID: r.ID, ByHand: who != bySchedule}); err != nil {
			return err
		}
		return tx.Announce(ctx, "run", r.ID)
	})
	if errors.Is(err, db.ErrTaken) {
		return r, refusal.Conflict("", "another run is at work on this score link; wait until it is done")
	}
	return r, err
}

// narrowed is a plan of some assignments only; all others stay as they are.
func narrowed(plan scorestore.Plan, only []string) (scorestore.Plan, error) {
	if len(only) == 0 {
		return plan, nil
	}
	wanted := map[string]bool{}
	for _, id := range only {
		wanted[id] = true
	}
	var items []grade.ItemPlan
	for _, item := range plan.Items {
		if wanted[item.ID] {
			items = append(items, item)
			delete(wanted, item.ID)
		}
	}
	for id := range wanted {
		return plan, refusal.Invalid("only", "the preview has no assignment %q", id)
	}
	plan.Items = items
	return plan, nil
}

// nothing says why a plan has nothing to carry.
func nothing(plan scorestore.Plan) string {
	var parts []string
	for _, r := range plan.Summary() {
		parts = append(parts, finding.Number(r.Results, "score")+" in "+finding.Number(r.Items, "assignment")+": "+
			strings.ToLower(finding.Title(r.Reason)))
	}
	if len(parts) == 0 {
		return "both sides agree"
	}
	return strings.Join(parts, "; ")
}

// changesOf lists what a run of a plan does: categories first, then assignments, then scores.
func changesOf(r runstore.Run, plan scorestore.Plan, roster bool) (changes []scorestore.Change) {
	add := func(c scorestore.Change) {
		c.RunID, c.Position, c.State = r.ID, len(changes), runstore.ChangePending
		changes = append(changes, c)
	}
	if roster {
		add(scorestore.Change{What: scorestore.AboutRoster, Title: "The roster is brought in step"})
	}
	makes := false
	for _, item := range plan.Items {
		makes = makes || item.Outcome == grade.ItemMade
	}
	for _, c := range plan.Makes {
		if makes {
			add(scorestore.Change{
				What: scorestore.AboutCategory, Title: c.Title, BookID: c.ID,
				Outcome: grade.New.String(),
			})
		}
	}
	for _, item := range plan.Items {
		if item.Outcome == grade.ItemMade {
			add(scorestore.Change{
				What: scorestore.AboutAssignment, ItemID: &item.ID, Title: plan.Titles[item.ID],
				BookID: gradebooks.ID("assignment", *r.ScoreLinkID, item.ID), Outcome: grade.New.String(),
			})
		}
	}
	for _, item := range plan.Items {
		for _, e := range item.Entries {
			if e.Outcome.Writes() {
				add(scoreChange(r.ID, plan, item.ID, e))
			}
		}
	}
	return changes
}

// scoreChange is what a run does about one score.
func scoreChange(runID string, plan scorestore.Plan, itemID string, e grade.Entry) scorestore.Change {
	return scorestore.Change{
		RunID: runID, What: scorestore.AboutScore, ItemID: &itemID, PersonID: &e.Who, Title: plan.Titles[itemID],
		Name: plan.Names[e.Who], Outcome: e.Outcome.String(), Reason: string(e.Reason), Was: &e.Was, Before: &e.Theirs,
		Sent: &e.Ours,
	}
}

// Changes lists what a run did to the book, and what became of it.
func (s *Service) Changes(ctx context.Context, runID string) ([]scorestore.Change, error) {
	return scorestore.Changes(ctx, s.Store, runID)
}

// Resume queues a failed or stopped run again, from the first change without an outcome.
func (s *Service) Resume(ctx context.Context, who, runID string) (runstore.Run, error) {
	r, err := runstore.FindRun(ctx, s.Store, runID)
	if err != nil {
		return r, err
	}
	if r.Kind != runstore.RunScores || r.State != runstore.Failed && r.State != runstore.Cancelled {
		return r, refusal.Conflict("", "only a run that failed or was stopped half-way can go on; this one is %s", r.State)
	}
	l, err := scorestore.FindLink(ctx, s.Store, *r.ScoreLinkID)
	if err != nil {
		return r, err
	}
	if err := s.allowed(ctx, l); err != nil {
		return r, err
	}
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := runstore.ReopenRun(ctx, tx, runID); err != nil {
			return err
		}
		if err := tx.Audit(ctx, who, "resumed a run", "run/"+runID, nil); err != nil {
			return err
		}
		if err := tx.Enqueue(ctx, jobs.CarryScores{RunID: runID, ByHand: true}); err != nil {
			return err
		}
		return tx.Announce(ctx, "run", runID)
	})
	if errors.Is(err, db.ErrTaken) {
		return r, refusal.Conflict("", "another run is at work on this score link; wait until it is done")
	}
	if err != nil {
		return r, err
	}
	return runstore.FindRun(ctx, s.Store, runID)
}

// Revert shows how a run's effect on the book is undone: what nobody has changed since is put back as it was.
func (s *Service) Revert(ctx context.Context, runID string) (scorestore.Preview, error) {
	r, err := runstore.FindRun(ctx, s.Store, runID)
	if err != nil {
		return scorestore.Preview{}, err
	}
	switch {
	case r.Kind != runstore.RunScores:
		return scorestore.Preview{}, refusal.Conflict("", "this run carried no scores")
	case r.Active():
		return scorestore.Preview{}, refusal.Conflict("",
			"this run is still at work; stop it first: kanban runs cancel %s", r.ID)
	case r.Reverts != nil:
		return scorestore.Preview{}, refusal.Conflict("", "this run reverted another one; carry the scores again instead")
	}
	l, err := scorestore.FindLink(ctx, s.Store, *r.ScoreLinkID)
	if err != nil {
		return scorestore.Preview{}, err
	}
	done, err := scorestore.Changes(ctx, s.Store, runID)
	if err != nil {
		return scorestore.Preview{}, err
	}
	if l.TestLearner, err = proofstore.LearnerNow(ctx, s.Store, peopleOf(done)); err != nil {
		return scorestore.Preview{}, err
	}
	c, err := s.readSides(ctx, &l, 0, 0)
	if err != nil {
		return scorestore.Preview{}, err
	}
	plan, err := s.revertPlan(ctx, c, runID)
	if err != nil {
		return scorestore.Preview{}, err
	}
	if len(plan.Items) == 0 {
		return scorestore.Preview{}, refusal.Conflict("", "this run changed no score, so there is nothing to revert")
	}
	return s.keepPreview(ctx, c, plan, &r.ID)
}

// revertPlan works out how the scores of a run are put back. Assignments and categories that it made stay: others may
// use them by now.
func (s *Service) revertPlan(ctx context.Context, c *compared, runID string) (scorestore.Plan, error) {
	out := scorestore.Plan{
		Titles: map[string]string{}, Names: map[string]string{}, Deletes: map[string]bool{},
		Carried: map[string]grade.Mark{},
	}
	done, err := scorestore.Changes(ctx, s.Store, runID)
	if err != nil {
		return out, err
	}
	book, _, err := s.openBook(ctx, c.link.BookInterfaceID)
	if err != nil {
		return out, err
	}
	var changes []grade.Change
	by := map[string]scorestore.Change{}
	for _, x := range done {
		if x.What == scorestore.AboutScore && x.State == runstore.ChangeDone {
			changes = append(changes, grade.Change{
				Item: *x.ItemID, Who: *x.PersonID, Before: *x.Before,
				Sent: *x.Sent,
			})
			by[*x.ItemID+"/"+*x.PersonID] = x
			out.Carried[*x.ItemID+"/"+*x.PersonID] = *x.Was
		}
	}
	if len(changes) == 0 {
		return out, nil
	}
	_, _, deletes, err := book.Grants(ctx)
	if err != nil {
		return out, err
	}
	c.undo(&out, changes, by, deletes)
	return out, nil
}

// undo adds to a plan how changes are put back, where the book deletes or not.
func (c *compared) undo(out *scorestore.Plan, changes []grade.Change, by map[string]scorestore.Change, deletes bool) {
	held := c.held()
	at := map[string]int{}
	for _, r := range grade.RevertOf(changes, func(item, who string) (grade.Mark, bool) {
		mark, there := held[item+"/"+who]
		return mark, there
	}, c.policy) {
		key := r.Item + "/" + r.Who
		e := grade.Entry{
			Who: r.Who, Outcome: r.Outcome, Reason: r.Reason, Was: r.Sent, Theirs: r.Now, Ours: r.Before,
			Given: r.Before,
		}
		switch {
		case r.Outcome == grade.Update && r.Deletes && !deletes:
			e.Outcome, e.Reason = grade.Refused, finding.ScoreNotDeletable
		case r.Outcome == grade.Update && r.Deletes:
			out.Deletes[key] = true
		}
		i, there := at[r.Item]
		if !there {
			i = len(out.Items)
			at[r.Item] = i
			out.Items = append(out.Items, grade.ItemPlan{ID: r.Item, Outcome: grade.ItemLinked})
			out.Titles[r.Item] = by[key].Title
		}
		out.Items[i].Entries = append(out.Items[i].Entries, e)
		out.Names[r.Who] = by[key].Name
	}
	for i := range out.Items {
		slices.SortFunc(out.Items[i].Entries, func(a, b grade.Entry) int { return strings.Compare(a.Who, b.Who) })
	}
}

// held gives what the book has now, by item and person.
func (c *compared) held() map[string]grade.Mark {
	out := map[string]grade.Mark{}
	for _, item := range c.plan.Items {
		for _, e := range item.Entries {
			if !e.Theirs.Blank() {
				out[item.ID+"/"+e.Who] = e.Theirs
			}
		}
	}
	return out
}
