package scores

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"kanban/internal/adapter"
	"kanban/internal/adapter/gradebooks"
	"kanban/internal/core/finding"
	"kanban/internal/core/grade"
	"kanban/internal/store/db"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/proofstore"
	"kanban/internal/store/runstore"
	"kanban/internal/store/scorestore"
	"kanban/internal/wire/call"
)

const (
	// batch is how many scores are noted as begun, then written together.
	batch = 100
	// atOnce is how many of them are under way at a time.
	atOnce = 4
	// lookEvery is after how long the book is looked at again while scores are written, so that what somebody enters
	// there meanwhile stays.
	lookEvery = 5 * time.Second
)

// carrying is a run at work.
type carrying struct {
	*Service
	run     runstore.Run
	link    scorestore.Link
	c       *compared
	book    book
	files   bool            // the book takes files: nothing can be read back
	plan    scorestore.Plan // what is to be done as things are now
	changes []scorestore.Change
	looked  time.Time
	ids     map[string]string // what the book calls people
}

// Work carries out a run, or goes on with one that was cut off. An error means that it may be tried again; with last
// set there is no next try, so the run ends as failed instead and can be resumed by hand.
func (s *Service) Work(ctx context.Context, runID string, last bool) error {
	run, err := runstore.FindRun(ctx, s.Store, runID)
	if err != nil || !run.Active() {
		return err
	}
	x := &carrying{Service: s, run: run}
	if err = runstore.ErrCancelled; !run.CancelAsked {
		err = x.work(ctx)
	}
	keep := context.WithoutCancel(ctx)
	finish := func() error {
		x.run.Done = x.done()
		return s.Store.InTx(keep, func(tx *db.Tx) error { return runstore.FinishRun(keep, tx, &x.run) })
	}
	if errors.Is(err, runstore.ErrCancelled) {
		x.run.State = runstore.Cancelled
		x.run.Error = "stopped by a person; what was done is kept, and the run can be resumed"
		return finish()
	}
	if err == nil || ctx.Err() != nil {
		return err // cut off: another worker, or this one after a restart, goes on
	}
	if adapter.MayWait(err, run.StartedAt) {
		last = false // it said for how long it wants to be left alone
	}
	if adapter.MayPass(err) && !last {
		step := "waits: " + err.Error()
		if errors.Is(err, errRosterFirst) {
			step = errRosterFirst.Error()
		}
		told := runstore.KeepRunProgress(keep, s.Store, runID, step, x.done(), x.run.Total)
		if told != nil && !errors.Is(told, runstore.ErrCancelled) {
			return errors.Join(err, told)
		}
		return err
	}
	x.run.State, x.run.Error, x.run.ErrorCode = runstore.Failed, err.Error(), string(adapter.RunCodeOf(err))
	return finish()
}

func (x *carrying) done() int {
	n := 0
	for _, c := range x.changes {
		if !c.Open() {
			n++
		}
	}
	return n
}

func (x *carrying) work(ctx context.Context) (err error) {
	if x.link, err = scorestore.FindLink(ctx, x.Store, *x.run.ScoreLinkID); err != nil {
		return err
	}
	if err := x.allowed(ctx, x.link); err != nil {
		return err
	}
	if x.changes, err = scorestore.Changes(ctx, x.Store, x.run.ID); err != nil {
		return err
	}
	if x.link.TestLearner, err = proofstore.LearnerNow(ctx, x.Store, peopleOf(x.changes)); err != nil {
		return err
	}
	if err := runstore.StartRun(ctx, x.Store, x.run.ID, "reading both sides"); err != nil {
		return err
	}
	if x.book, x.files, err = x.openBook(ctx, x.link.BookInterfaceID); err != nil {
		return err
	}
	if err := x.look(ctx); err != nil {
		return err
	}
	if err := x.roster(ctx); err != nil {
		return err
	}
	if !slices.ContainsFunc(x.changes, func(c scorestore.Change) bool {
		return c.What != scorestore.AboutRoster && c.State != runstore.ChangePending
	}) {
		if stop, err := x.promise(ctx); stop || err != nil {
			return err
		}
	}
	for _, step := range []func(context.Context) error{x.categories, x.assignments, x.scores, x.readBack} {
		if err := step(ctx); err != nil {
			return err
		}
	}
	return x.finish(ctx)
}

// look reads both sides and works out what is to be done as things are now.
func (x *carrying) look(ctx context.Context) (err error) {
	x.looked = time.Now()
	within := time.Duration(0)
	if x.c != nil { // the source was read when the run began
		within = wholeEvery
	}
	if x.c, err = x.readSides(ctx, &x.link, within, 0); err != nil {
		return err
	}
	return x.planned(ctx)
}

// compareAgain works it out anew by what was read.
func (x *carrying) compareAgain(ctx context.Context) (err error) {
	if x.c, err = x.compare(ctx, x.link); err != nil {
		return err
	}
	return x.planned(ctx)
}

func (x *carrying) planned(ctx context.Context) (err error) {
	if x.run.Reverts != nil {
		x.plan, err = x.revertPlan(ctx, x.c, *x.run.Reverts)
	} else {
		x.plan, err = x.kept(ctx, x.c)
	}
	if err != nil {
		return err
	}
	x.ids, err = scorestore.IDsAt(ctx, x.Store, x.link.BookInterfaceID, x.c.register(), peopleOf(x.changes))
	return err
}

// peopleOf are those whose scores a run is about.
func peopleOf(changes []scorestore.Change) (people []string) {
	for _, c := range changes {
		if c.PersonID != nil {
			people = append(people, *c.PersonID)
		}
	}
	return people
}

// promise checks that the preview still holds, for what the run is to do. If something moved, the run ends without
// having done anything and leaves a new preview.
func (x *carrying) promise(ctx context.Context) (stop bool, err error) {
	p, err := scorestore.FindPreview(ctx, x.Store, *x.run.PreviewID)
	if err != nil {
		return false, err
	}
	mine := map[string]bool{}
	for _, c := range x.changes {
		if c.ItemID != nil {
			mine[*c.ItemID] = true
		}
	}
	p.Plan.Items = slices.DeleteFunc(p.Plan.Items, func(i grade.ItemPlan) bool { return !mine[i.ID] })
	if x.plan.Keeps(p.Plan.Plan) {
		return false, nil
	}
	next := x.newPreview(x.c, x.plan, x.run.Reverts)
	x.run.State, x.run.ErrorCode, x.run.NextPreview = runstore.Moved, string(finding.PreviewMoved), &next.ID
	x.run.Error = "things changed since the preview; look at the new one and run that"
	x.run.Findings = x.moved(p.Plan)
	return true, x.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := db.Create(tx, &next, "keeping the preview"); err != nil {
			return err
		}
		return runstore.FinishRun(ctx, tx, &x.run)
	})
}

// moved names the scores about which a preview does not hold any more.
func (x *carrying) moved(had scorestore.Plan) (list []runstore.Noticed) {
	for i := range had.Items {
		now := x.plan.Item(had.Items[i].ID)
		for _, e := range had.Items[i].Entries {
			n := now.Entry(e.Who)
			if !e.Outcome.Writes() || n.Keeps(&e) {
				continue
			}
			is := "not there"
			if n != nil {
				is = fmt.Sprintf("%s, %s in the book", n.Outcome, n.Theirs)
			}
			list = append(list, runstore.Noticed{
				Code: finding.PreviewMoved, Subject: had.Titles[had.Items[i].ID] + ", " + had.Names[e.Who],
				Detail: fmt.Sprintf("was %s, %s in the book; is %s", e.Outcome, e.Theirs, is),
			})
		}
	}
	return list
}

// ended notes how a change ended.
func (x *carrying) ended(ctx context.Context, tx *db.Tx, c *scorestore.Change, err error) error {
	at := x.Clock.Now()
	c.State, c.FinishedAt = runstore.ChangeDone, &at
	if err != nil {
		c.State, c.Answer = runstore.ChangeRefused, err.Error()
		if c.Code == "" {
			c.Code = string(finding.RefusedByService)
		}
		if p, is := call.As(err); is && p.Detail != "" {
			c.Answer = p.Detail
		}
	}
	return scorestore.MarkEnded(ctx, tx, *c)
}

// refused reports whether an error is about this one change only, so that the others go on.
func (x *carrying) refused(err error) bool {
	p, is := call.As(err)
	if !is {
		return false
	}
	switch p.Kind {
	case call.Refused, call.NotFound:
		return true
	case call.NotAllowed: // one is locked; if nothing at all may be written, the run fails
		wrote := func(c scorestore.Change) bool { return c.State == runstore.ChangeDone }
		return x.run.Reverts != nil || slices.ContainsFunc(x.changes, wrote)
	}
	return false
}

var (
	errGone     = errors.New("the assignment is not at the source any more")
	errNotReady = errors.New("the assignment is not ready any more")
	errNotMade  = errors.New("the assignment is not in the book")
	errMoved    = errors.New("things changed since the preview, so nothing was written")
)

// scores writes every score without an outcome: noted before, written, noted after. One that is refused never stops
// the others.
func (x *carrying) scores(ctx context.Context) error {
	var open []*scorestore.Change
	for i := range x.changes {
		if c := &x.changes[i]; c.What == scorestore.AboutScore && c.Open() {
			open = append(open, c)
		}
	}
	var passing error
	for len(open) > 0 {
		if time.Since(x.looked) > lookEvery {
			if err := x.look(ctx); err != nil {
				return err
			}
		}
		now := open[:min(batch, len(open))]
		open = open[len(now):]
		if err := runstore.KeepRunProgress(ctx, x.Store, x.run.ID, "writing "+now[0].Title, x.done(),
			x.run.Total); err != nil {
			return err
		}
		late, err := x.batch(ctx, now)
		if err != nil {
			return err
		}
		if late != nil {
			passing = late
		}
	}
	return passing
}

// batch writes some scores. late is the error of those that are to be tried again.
func (x *carrying) batch(ctx context.Context, now []*scorestore.Change) (late, err error) {
	writes := make([]*write, 0, len(now))
	var positions []int
	err = x.Store.InTx(ctx, func(tx *db.Tx) error {
		for _, c := range now {
			w, code, why := x.write(c)
			switch {
			case w != nil:
				writes, positions = append(writes, w), append(positions, c.Position)
			case why == nil: // it has arrived before the run was cut off
				if err := x.arrived(ctx, tx, c); err != nil {
					return err
				}
			default:
				c.Code = string(code)
				if err := x.ended(ctx, tx, c, why); err != nil {
					return err
				}
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	if err := scorestore.MarkStarted(ctx, x.Store, x.run.ID, positions); err != nil {
		return nil, err
	}
	var group errgroup.Group
	group.SetLimit(atOnce)
	for _, w := range writes {
		group.Go(func() error {
			w.err = w.do(ctx)
			return nil
		})
	}
	_ = group.Wait() // each keeps its own
	err = x.Store.InTx(ctx, func(tx *db.Tx) error {
		for _, w := range writes {
			var err error
			switch {
			case w.err == nil:
				err = x.arrived(ctx, tx, w.change)
			case x.refused(w.err):
				err = x.ended(ctx, tx, w.change, w.err)
			default: // it is tried again, or ends the run
				late = w.err
			}
			if err != nil {
				return err
			}
		}
		return nil
	})
	return late, err
}

// write is one score that is to be written.
type write struct {
	change *scorestore.Change
	do     func(context.Context) error
	err    error
}

// write says how a score is written. Without one, the code and the error say why not; without either, it is there.
func (x *carrying) write(c *scorestore.Change) (*write, finding.Code, error) {
	item := x.plan.Item(*c.ItemID)
	at := slices.IndexFunc(x.c.rows, func(r scorestore.Item) bool { return r.ID == *c.ItemID })
	if item == nil || at < 0 || x.c.rows[at].BookItem == "" {
		return nil, finding.ItemNotReady, errNotMade
	}
	row := x.c.rows[at]
	e := item.Entry(*c.PersonID)
	switch {
	case e != nil && e.Outcome.Writes() && e.Ours == *c.Sent && e.Theirs == *c.Before:
	case c.State == runstore.ChangeStarted && e != nil && x.c.policy.Same(e.Theirs, *c.Sent):
		return nil, "", nil
	case e == nil:
		return nil, finding.PreviewMoved, errMoved
	default:
		return nil, e.Reason, fmt.Errorf("%w: %s", errMoved, finding.Title(e.Reason))
	}
	student := x.ids[*c.PersonID]
	id, marked := x.resultID(row, *c.PersonID, student), x.markedAt(row, *c.PersonID)
	mark := *c.Sent
	c.BookID = id
	if x.plan.Deletes[*c.ItemID+"/"+*c.PersonID] {
		return &write{change: c, do: func(ctx context.Context) error { return x.book.DeleteResult(ctx, id) }}, "", nil
	}
	return &write{change: c, do: func(ctx context.Context) error {
		got, err := x.book.PutResult(ctx, id, row.BookItem, student, mark, marked)
		if err == nil {
			c.BookID = got
		}
		return err
	}}, "", nil
}

// resultID is the id of a person's result in the book: that of the one that is there, else one of our own.
func (x *carrying) resultID(row scorestore.Item, person, student string) string {
	for _, r := range x.c.book.results[row.BookItem] {
		if r.Student == student || x.c.holder[r.Student] == person {
			return r.ID
		}
	}
	return gradebooks.ID("score", row.BookItem, student)
}

// markedAt is when a score was given, now when the source does not say.
func (x *carrying) markedAt(row scorestore.Item, person string) time.Time {
	for _, r := range x.c.source.results[row.SourceItem] {
		if who, _ := x.c.owner(r.Student, row.SourceItem); who == person && !r.Marked.IsZero() {
			return r.Marked
		}
	}
	return x.Clock.Now()
}

// arrived notes that a score was taken, and what was carried.
func (x *carrying) arrived(ctx context.Context, tx *db.Tx, c *scorestore.Change) error {
	carried := *c.Sent
	if x.run.Reverts != nil {
		carried = x.plan.Carried[*c.ItemID+"/"+*c.PersonID] // before the run that is undone
		if err := scorestore.DropDecision(ctx, tx, *c.ItemID, *c.PersonID); err != nil {
			return err
		}
	}
	if err := scorestore.KeepCarried(ctx, tx, scorestore.Carried{
		ItemID: *c.ItemID, PersonID: *c.PersonID, Mark: carried, CarriedAt: x.Clock.Now(), RunID: x.run.ID,
	}); err != nil {
		return err
	}
	return x.ended(ctx, tx, c, nil)
}

// finish ends the run with what became of everything.
func (x *carrying) finish(ctx context.Context) error {
	counts := map[string]int{
		"scored": 0, "updated": 0, "replaced": 0, "refused": 0, "not-arrived": 0, "made": 0, "reverted": 0,
	}
	for _, c := range x.changes {
		switch {
		case c.What == scorestore.AboutRoster:
		case c.State == runstore.ChangeRefused:
			counts["refused"]++
		case c.State == runstore.ChangeNotArrived:
			counts["not-arrived"]++
		case c.What == scorestore.AboutAssignment:
			counts["made"]++
		case c.What != scorestore.AboutScore:
		case x.run.Reverts != nil:
			counts["reverted"]++
		case c.Outcome == grade.New.String():
			counts["scored"]++
		case c.Outcome == grade.Update.String():
			counts["updated"]++
		default:
			counts["replaced"]++
		}
	}
	if x.link.TestLearner != "" { // what stands now counts no test learner
		x.link.TestLearner = ""
		var err error
		if x.c, err = x.compare(ctx, x.link); err != nil {
			return err
		}
	}
	for o, n := range x.c.plan.Counts() {
		counts["now-"+o.String()] = n
	}
	x.run.Counts, x.run.Done, x.run.State = counts, x.done(), runstore.Finished
	if counts["refused"]+counts["not-arrived"]+x.c.plan.Counts()[grade.Conflict] > 0 {
		x.run.State = runstore.NeedsPerson
	}
	if err := x.keepCompared(ctx, &x.link, x.c, nil); err != nil {
		return err
	}
	return x.Store.InTx(ctx, func(tx *db.Tx) error {
		if x.run.Reverts == nil {
			if _, err := eventstore.RecordEvents(ctx, tx, x.events()); err != nil {
				return err
			}
		} else if err := x.pause(ctx, tx); err != nil {
			return err
		}
		return runstore.FinishRun(ctx, tx, &x.run)
	})
}

// pause keeps a link that runs by itself from carrying what was just taken back.
func (x *carrying) pause(ctx context.Context, tx *db.Tx) error {
	if x.link.NextAt == nil || x.link.PausedAt != nil {
		return nil
	}
	now := x.Clock.Now()
	x.link.PausedAt = &now
	if err := scorestore.UpdateLink(tx, &x.link); err != nil {
		return err
	}
	return tx.Audit(ctx, x.run.RequestedBy, "paused a score link whose scores were taken back", "score-link/"+x.link.ID, nil)
}
