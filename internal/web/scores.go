package web

import (
	"bytes"
	"context"
	"errors"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"kanban/internal/app/scores"
	"kanban/internal/core/finding"
	"kanban/internal/core/grade"
	"kanban/internal/core/permission"
	"kanban/internal/core/refusal"
	"kanban/internal/store/db"
	"kanban/internal/store/rosterstore"
	"kanban/internal/store/scorestore"
	"kanban/internal/web/auth"
	"kanban/internal/web/problem"
	"kanban/internal/wire/api"
	"kanban/internal/wire/sheet"
)

type scoreLinksInput struct {
	Section string `query:"section" doc:"Id of a section; those that have ended are among its links"`
}

type assignmentInput struct {
	ID   string `path:"id" doc:"The score link's id"`
	Item string `path:"item" doc:"The assignment's id"`
}

type linkAssignmentInput struct {
	ID   string `path:"id" doc:"The score link's id"`
	Item string `path:"item" doc:"The assignment's id"`
	Body api.AssignmentLink
}

type periodInput struct {
	ID     string `path:"id" doc:"The score link's id"`
	Period string `path:"period" doc:"The period's id in the register"`
	Body   api.FinalPeriod
}

// scoreOperation is an operation about scores.
func scoreOperation(id string, of permission.Subject, method, path string, status int, summary string) operation {
	act := permission.CarryScores
	if method == http.MethodGet {
		act = permission.Look
	}
	return operation{
		ID: id, Act: act, Of: of, Method: method, Path: path, Status: status, Tag: "scores", Summary: summary,
	}
}

var (
	listGradebookClassesOp = scoreOperation("list-gradebook-classes", "", http.MethodGet, "/interfaces/{id}/gradebook-classes",
		http.StatusOK, "List the classes that a gradebook has assignments of")
	overlapScoreLinkOp = scoreOperation("overlap-score-link", "", http.MethodPost, "/score-links/overlap", http.StatusOK,
		"What both sides of a score link would have in common")
	listScoreLinksOp = scoreOperation("list-score-links", permission.Listed, http.MethodGet, "/score-links",
		http.StatusOK, "List score links")
	makeScoreLinkOp = scoreOperation("make-score-link", "", http.MethodPost, "/score-links", http.StatusCreated,
		"Make a score link; nothing is carried before it is run")
	getScoreLinkOp = scoreOperation("get-score-link", permission.OfScoreLink, http.MethodGet, "/score-links/{id}",
		http.StatusOK, "Show a score link")
	editScoreLinkOp = scoreOperation("edit-score-link", permission.OfScoreLink, http.MethodPatch, "/score-links/{id}",
		http.StatusOK, "Change a score link")
	endScoreLinkOp = scoreOperation("end-score-link", "", http.MethodPost, "/score-links/{id}/end", http.StatusOK,
		"End a score link; what is in the book stays there")
	listAssignmentsOp = scoreOperation("list-assignments", permission.OfScoreLink, http.MethodGet, "/score-links/{id}/assignments",
		http.StatusOK, "List the assignments of a score link, with every reason why one is not ready")
	editAssignmentsOp = scoreOperation("edit-assignments", permission.OfScoreLink, http.MethodPatch, "/score-links/{id}/assignments",
		http.StatusOK, "Change many assignments at once")
	listScoreCounterpartsOp = scoreOperation("list-score-counterparts", permission.OfScoreLink, http.MethodGet,
		"/score-links/{id}/assignments/{item}/counterparts", http.StatusOK,
		"Rank the book's line items that may be the one of an assignment")
	linkAssignmentOp = scoreOperation("link-assignment", permission.OfScoreLink, http.MethodPut, "/score-links/{id}/assignments/{item}/link",
		http.StatusNoContent, "Link an assignment to a line item of the book, or unlink it")
	listPersonScoresOp = scoreOperation("list-person-scores", permission.OfPerson, http.MethodGet, "/people/{id}/scores",
		http.StatusOK, "List the scores of somebody in the sections in which they are or were")
	scoreActivitiesOp = scoreOperation("list-score-activities", permission.OfScoreLink, http.MethodGet, "/score-links/{id}/activities",
		http.StatusOK, "List the activities of the course's outline that assignments can be")
	scoreCategoriesOp = scoreOperation("list-score-categories", permission.OfScoreLink, http.MethodGet, "/score-links/{id}/categories",
		http.StatusOK, "How the source's categories match the book's")
	listUnfinishedOp = scoreOperation("list-unfinished-work", permission.OfScoreLink, http.MethodGet, "/score-links/{id}/unfinished",
		http.StatusOK, "List missing work and scores that are not final")
	previewScoresOp = scoreOperation("preview-scores", permission.OfScoreLink, http.MethodPost, "/score-links/{id}/previews",
		http.StatusOK, "Read both sides and show what a run would do, score by score")
	getScorePreviewOp = scoreOperation("get-score-preview", permission.OfScorePreview, http.MethodGet, "/score-previews/{id}",
		http.StatusOK, "Show a preview again")
	runScoresOp = scoreOperation("run-scores", permission.OfScorePreview, http.MethodPost, "/score-previews/{id}/run", http.StatusCreated,
		"Do exactly what a preview of scores shows")
	listScoreChangesOp = scoreOperation("list-score-changes", permission.OfRun, http.MethodGet, "/runs/{id}/score-changes",
		http.StatusOK, "Everything that a run did to the book, with outcome and reason")
	revertScoresOp = scoreOperation("revert-scores", permission.OfRun, http.MethodPost, "/runs/{id}/revert-scores",
		http.StatusOK, "Show how a run's effect on the book would be undone")
	decideScoresOp = scoreOperation("decide-scores", permission.OfScoreLink, http.MethodPost, "/score-links/{id}/decisions",
		http.StatusOK, "Decide about scores that differ; it holds until either side changes")
	listGivenScoresOp = scoreOperation("list-given-scores", permission.OfScoreLink, http.MethodGet, "/score-links/{id}/owners",
		http.StatusOK, "List whose scores were said to be by hand")
	giveScoresOp = scoreOperation("give-scores", permission.OfScoreLink, http.MethodPost, "/score-links/{id}/owners", http.StatusNoContent,
		"Say whose results they are, or in which section a mover's go on")
	listScorePeriodsOp = scoreOperation("list-score-periods", permission.OfScoreLink, http.MethodGet, "/score-links/{id}/periods",
		http.StatusOK, "List the grading periods of a score link")
	finalPeriodOp = scoreOperation("declare-period-final", permission.OfScoreLink, http.MethodPut, "/score-links/{id}/periods/{period}",
		http.StatusNoContent, "Declare a grading period final, or open it again")
)

type gradebookUploadInput struct {
	ID      string `path:"id" doc:"The interface's id"`
	RawBody []byte `contentType:"application/zip"`
}

// gradebookUpload takes a package of a gradebook of files.
func (s *Server) gradebookUpload(a huma.API) {
	op := scoreOperation("upload-gradebook", "", http.MethodPost, "/interfaces/{id}/gradebook/upload", http.StatusCreated,
		"Read an uploaded OneRoster CSV package of a gradebook").huma()
	op.MaxBodyBytes, op.BodyReadTimeout = maxUpload, 10*time.Minute
	huma.Register(a, op, func(ctx context.Context, in *gradebookUploadInput) (*answer[api.GradebookRead], error) {
		r, err := s.Scores.Upload(ctx, auth.Caller(ctx).Name, in.ID, in.RawBody)
		if err != nil {
			return nil, problemOf(err)
		}
		return &answer[api.GradebookRead]{api.GradebookRead{
			ReadAt: r.ReadAt, Unread: r.UnreadCount,
			First: each(r.Unread, func(x scorestore.Unread) api.UnreadRecord { return api.UnreadRecord(x) }),
		}}, nil
	})
}

// gradebookPackage gives what waits to be put into a gradebook of files.
func (s *Server) gradebookPackage(w http.ResponseWriter, r *http.Request) {
	var out bytes.Buffer
	if err := s.Scores.Package(r.Context(), chi.URLParam(r, "id"), &out); err != nil {
		status := http.StatusInternalServerError
		if refused := huma.StatusError(nil); errors.As(problemOf(err), &refused) {
			status = refused.GetStatus()
		}
		problem.Write(w, status, problemOf(err).Error())
		return
	}
	w.Header().Set("Content-Type", "application/zip")
	w.Header().Set("Content-Disposition", `attachment; filename="gradebook.zip"`)
	_, _ = w.Write(out.Bytes())
}

// scores registers the operations about scores.
func (s *Server) scores(a huma.API) {
	s.gradebookUpload(a)
	handle(a, listGradebookClassesOp, s.listGradebookClasses)
	handle(a, overlapScoreLinkOp, s.overlapScoreLink)
	handle(a, listScoreLinksOp, s.listScoreLinks)
	handleTagged(a, makeScoreLinkOp, s.makeScoreLink)
	handleTagged(a, getScoreLinkOp, s.getScoreLink)
	handleTagged(a, editScoreLinkOp, s.editScoreLink)
	handle(a, endScoreLinkOp, s.endScoreLink)
	handle(a, listAssignmentsOp, s.listAssignments)
	handle(a, editAssignmentsOp, s.editAssignments)
	handle(a, listScoreCounterpartsOp, s.listScoreCounterparts)
	handleEmpty(a, linkAssignmentOp, s.linkAssignment)
	handle(a, scoreActivitiesOp, s.scoreActivities)
	handle(a, listPersonScoresOp, s.listPersonScores)
	handle(a, scoreCategoriesOp, s.scoreCategories)
	handle(a, listUnfinishedOp, s.listUnfinished)
	handle(a, previewScoresOp, s.previewScores)
	handle(a, getScorePreviewOp, s.getScorePreview)
	handle(a, runScoresOp, s.runScores)
	handle(a, listScoreChangesOp, s.listScoreChanges)
	handle(a, revertScoresOp, s.revertScores)
	handle(a, decideScoresOp, s.decideScores)
	handle(a, listGivenScoresOp, s.listGivenScores)
	handleEmpty(a, giveScoresOp, s.giveScores)
	handle(a, listScorePeriodsOp, s.listScorePeriods)
	handleEmpty(a, finalPeriodOp, s.finalPeriod)
	s.scoreTemplates(a)
}

func (s *Server) listGradebookClasses(ctx context.Context, in *byID) (api.Page[api.GradebookClass], error) {
	all, err := s.Scores.Classes(ctx, in.ID)
	return api.Page[api.GradebookClass]{
		Items: each(all, func(c scorestore.Class) api.GradebookClass { return api.GradebookClass(c) }),
	}, err
}

// newScoreLink reads a score link that is to be made.
func newScoreLink(n api.NewScoreLink) (scores.NewLink, error) {
	out := scores.NewLink{
		SectionID: n.SectionID, SetID: n.SetID, SourceInterfaceID: n.SourceInterfaceID, SourceClass: n.SourceClass,
		BookInterfaceID: n.BookInterfaceID, BookClasses: n.BookClasses, Anyway: n.Anyway, Template: n.Template,
	}
	if n.Policy == nil {
		return out, nil
	}
	p, err := scorePolicyOf(*n.Policy)
	out.Policy = &p
	return out, err
}

// scorePolicyOf reads a policy; its words were checked against the description.
func scorePolicyOf(p api.ScorePolicy) (out scorestore.Policy, err error) {
	out = scorestore.Policy{
		Comments: p.Comments, Category: p.Category, Categories: p.Categories, Makes: p.MakesCategories,
		PeriodKind: p.PeriodKind, WithoutPoints: p.WithoutPoints, Schedule: p.Schedule, Template: p.Template,
		Flags: map[string]scorestore.Flag{},
	}
	for field, read := range map[string]func() error{
		"policy.mode":    func() error { return out.Mode.UnmarshalText([]byte(p.Mode)) },
		"policy.content": func() error { return out.Content.UnmarshalText([]byte(p.Content)) },
		"policy.basis":   func() error { return out.Basis.UnmarshalText([]byte(p.Basis)) },
	} {
		if err := read(); err != nil {
			return out, refusal.Invalid(field, "%v", err)
		}
	}
	for name, f := range p.Flags {
		flag := scorestore.Flag{Drop: f.Drop}
		if err := flag.Value.UnmarshalText([]byte(f.Value)); err != nil {
			return out, refusal.Invalid("policy.flags", "%v", err)
		}
		out.Flags[name] = flag
	}
	return out, nil
}

func scorePolicy(p scorestore.Policy) api.ScorePolicy {
	out := api.ScorePolicy{
		Mode: p.Mode.String(), Content: p.Content.String(), Comments: p.Comments, Category: p.Category,
		Categories: p.Categories, MakesCategories: p.Makes, PeriodKind: p.PeriodKind, Basis: p.Basis.String(),
		WithoutPoints: p.WithoutPoints, Schedule: p.Schedule, Template: p.Template, Flags: map[string]api.FlagRule{},
	}
	for name, f := range p.Flags {
		out.Flags[name] = api.FlagRule{Value: f.Value.String(), Drop: f.Drop}
	}
	return out
}

func (s *Server) overlapScoreLink(ctx context.Context, in *with[api.NewScoreLink]) (
	api.Page[api.ScoreOverlap], error,
) {
	n, err := newScoreLink(in.Body)
	if err != nil {
		return api.Page[api.ScoreOverlap]{}, err
	}
	all, err := s.Scores.Overlaps(ctx, n)
	return api.Page[api.ScoreOverlap]{Items: each(all, func(o scores.Overlap) api.ScoreOverlap {
		return api.ScoreOverlap{
			SectionID: o.SectionID, Section: o.Section, BookClass: o.BookClass, Both: o.Both, SourceOnly: o.SourceOnly,
			BookOnly: o.BookOnly, Items: o.Items, OtherItems: o.OtherItems, Poor: o.Poor(),
		}
	})}, err
}

func (s *Server) listScoreLinks(ctx context.Context, in *scoreLinksInput) (api.Page[api.ScoreLink], error) {
	all, err := s.Scores.List(ctx, in.Section)
	all = slices.DeleteFunc(all, func(l scores.Listed) bool {
		return !auth.Reach(ctx).CoversAny(each(l.Sections, func(x rosterstore.Section) string { return x.ID }))
	})
	return api.Page[api.ScoreLink]{Items: each(all, scoreLink)}, err
}

func scoreLink(l scores.Listed) api.ScoreLink {
	out := api.ScoreLink{
		ID: l.ID, Title: l.Title, Sections: []api.ScoreLinkSection{}, SourceInterfaceID: l.SourceInterfaceID,
		Source: l.Source, SourceClass: l.SourceClass, BookInterfaceID: l.BookInterfaceID, Book: l.Book,
		SourceFiles: l.SourceFiles, BookFiles: l.BookFiles,
		Policy: scorePolicy(l.Policy), State: l.State(), Counts: l.Counts, Reasons: each(l.Reasons, scoreReason),
		NotReady: l.NotReady, ComparedAt: l.ComparedAt, RanAt: l.RanAt, NextRun: l.NextAt, Trouble: l.Trouble,
		TroubleCode: finding.Code(l.TroubleCode), Paused: l.PausedAt != nil, Ended: l.EndedAt != nil, MadeBy: l.MadeBy,
		Version: l.Version,
	}
	if e, known := finding.Lookup(out.TroubleCode); known {
		out.Remedy = e.Remedy
	}
	if l.SetID != nil {
		out.SetID = *l.SetID
	}
	if l.LastRunID != nil {
		out.LastRunID = *l.LastRunID
	}
	if out.Counts == nil {
		out.Counts = map[string]int{}
	}
	for _, x := range l.Sections {
		out.Sections = append(out.Sections, api.ScoreLinkSection{
			ID: x.ID, Title: x.Title, Code: x.Code, BookClass: l.BookClasses[x.ID],
		})
	}
	return out
}

func scoreReason(r grade.Reasons) api.ScoreReason {
	e, _ := finding.Lookup(r.Reason)
	return api.ScoreReason{
		Code: r.Reason, Title: finding.Title(r.Reason), Remedy: e.Remedy, Owner: string(e.Owner),
		Outcome: r.Outcome.String(), Scores: r.Results, Items: r.Items,
	}
}

func (s *Server) taggedScoreLink(ctx context.Context, id string, err error) (api.ScoreLink, int, error) {
	if err != nil {
		return api.ScoreLink{}, 0, err
	}
	l, err := s.Scores.Find(ctx, id)
	if err != nil {
		return api.ScoreLink{}, 0, err
	}
	out := scoreLink(l)
	list, err := s.Findings.ScoreLink(ctx, l.Link)
	out.Checklist = checklist(list)
	return out, l.Version, err
}

func (s *Server) makeScoreLink(ctx context.Context, in *with[api.NewScoreLink]) (api.ScoreLink, int, error) {
	n, err := newScoreLink(in.Body)
	if err != nil {
		return api.ScoreLink{}, 0, err
	}
	l, err := s.Scores.Make(ctx, auth.Caller(ctx).Name, n)
	return s.taggedScoreLink(ctx, l.ID, err)
}

func (s *Server) getScoreLink(ctx context.Context, in *byID) (api.ScoreLink, int, error) {
	return s.taggedScoreLink(ctx, in.ID, nil)
}

func (s *Server) editScoreLink(ctx context.Context, in *edit[api.EditScoreLink]) (api.ScoreLink, int, error) {
	v, err := version(in.IfMatch)
	if err != nil {
		return api.ScoreLink{}, 0, err
	}
	e := scores.Edit{
		SourceInterfaceID: in.Body.SourceInterfaceID, SourceClass: in.Body.SourceClass, Paused: in.Body.Paused,
		BookInterfaceID: in.Body.BookInterfaceID, BookClasses: in.Body.BookClasses,
	}
	if in.Body.Policy != nil {
		p, err := scorePolicyOf(*in.Body.Policy)
		if err != nil {
			return api.ScoreLink{}, 0, err
		}
		e.Policy = &p
	}
	_, err = s.Scores.Change(ctx, auth.Caller(ctx).Name, in.ID, v, e)
	return s.taggedScoreLink(ctx, in.ID, err)
}

func (s *Server) endScoreLink(ctx context.Context, in *byID) (api.ScoreLink, error) {
	_, err := s.Scores.End(ctx, auth.Caller(ctx).Name, in.ID)
	out, _, err := s.taggedScoreLink(ctx, in.ID, err)
	return out, err
}

func (s *Server) listAssignments(ctx context.Context, in *byID) (api.Page[api.Assignment], error) {
	all, err := s.Scores.Assignments(ctx, in.ID)
	return api.Page[api.Assignment]{Items: each(all, assignment)}, err
}

func lineItem(x grade.LineItem) api.LineItem {
	out := api.LineItem{ID: x.ID, Title: x.Title, Maximum: x.Maximum, Gone: x.Gone}
	for into, at := range map[**time.Time]time.Time{&out.Due: x.Due, &out.Assigned: x.Assigned} {
		if !at.IsZero() {
			*into = &at
		}
	}
	return out
}

func itemReason(code finding.Code) api.ItemReason {
	e, _ := finding.Lookup(code)
	return api.ItemReason{
		Code: code, Title: finding.Title(code), Remedy: e.Remedy, Owner: string(e.Owner), Severity: string(e.Severity),
	}
}

func outcomeCounts(c grade.Counts) map[string]int {
	out := map[string]int{}
	for o, n := range c {
		out[o.String()] = n
	}
	return out
}

func assignment(a scores.Assignment) api.Assignment {
	out := api.Assignment{
		ID: a.ID, Title: a.Title, SectionID: a.SectionID, Section: a.Section, Source: lineItem(a.Source), Made: a.Made,
		Outcome: a.Outcome.String(), Reasons: each(a.Reasons, itemReason), Counts: outcomeCounts(a.Counts),
		Final:  a.Final,
		Drafts: a.Draft, Partly: a.Partly, Unmarked: a.Unmarked, Flagged: a.Flagged, SourceCategory: a.SourceCategory,
		Category: a.Category, CategoryEvidence: a.CategoryEvidence, Period: a.Period, Content: a.Carries.String(),
		Basis: a.By.String(), Own: a.Item.Content+a.Item.Basis+a.Item.Category+a.Item.Period != "", LeftOut: a.LeftOut,
		Activity: a.Activity, ActivityTitle: a.ActivityTitle,
		LeftOutBy: a.LeftOutBy, ChangedSince: a.ChangedSince, Page: a.Page,
	}
	if a.Book != nil {
		book := lineItem(*a.Book)
		out.Book = &book
	}
	return out
}

func (s *Server) editAssignments(ctx context.Context, in *withID[api.EditAssignments]) (
	api.Page[api.Assignment], error,
) {
	b := in.Body
	if err := s.Scores.EditItems(ctx, auth.Caller(ctx).Name, in.ID, b.IDs, scores.EditItem{
		Content: b.Content, Basis: b.Basis, Category: b.Category, Period: b.Period, LeftOut: b.LeftOut,
		Activity: b.Activity,
	}); err != nil {
		return api.Page[api.Assignment]{}, err
	}
	return s.listAssignments(ctx, &byID{ID: in.ID})
}

func (s *Server) listScoreCounterparts(ctx context.Context, in *assignmentInput) (
	api.Page[api.ScoreCounterpart], error,
) {
	all, err := s.Scores.Counterparts(ctx, in.ID, in.Item)
	return api.Page[api.ScoreCounterpart]{Items: each(all, func(c grade.Counterpart) api.ScoreCounterpart {
		return api.ScoreCounterpart{
			Item: lineItem(c.Item), Score: c.Score, Title: c.Title, SameDay: c.SameDay, SamePoints: c.SamePoints,
			Equal: c.Equal, Different: c.Different, Linked: c.Linked,
		}
	})}, err
}

func (s *Server) linkAssignment(ctx context.Context, in *linkAssignmentInput) error {
	return s.Scores.LinkItem(ctx, auth.Caller(ctx).Name, in.ID, in.Item, in.Body.BookItem)
}

func gradebookCategory(c grade.Category) api.GradebookCategory {
	out := api.GradebookCategory{ID: c.ID, Title: c.Title}
	if c.Weight >= 0 {
		out.Weight = &c.Weight
	}
	return out
}

func (s *Server) listPersonScores(ctx context.Context, in *byID) (api.Page[api.PersonScore], error) {
	all, err := s.Scores.OfPerson(ctx, in.ID)
	if r := reach(ctx); r != nil && err == nil {
		var reached map[string]bool
		reached, err = s.Access.Reached(ctx, permission.OfScoreLink, *r)
		all = slices.DeleteFunc(all, func(x scores.OfPerson) bool { return !reached[x.LinkID] })
	}
	return api.Page[api.PersonScore]{Items: each(all, func(x scores.OfPerson) api.PersonScore {
		return api.PersonScore{
			LinkID: x.LinkID, Assignment: x.Assignment, Section: x.Section, Given: scoreMark(x.Given),
			InBook: scoreMark(x.InBook), Outcome: x.Outcome.String(), Reason: itemReason(x.Reason),
			Elsewhere: x.Elsewhere, Page: x.Page,
		}
	})}, err
}

func (s *Server) scoreActivities(ctx context.Context, in *byID) (api.Page[api.ScoreActivity], error) {
	all, err := s.Scores.Activities(ctx, in.ID)
	return api.Page[api.ScoreActivity]{
		Items: each(all, func(a scores.OutlineActivity) api.ScoreActivity { return api.ScoreActivity(a) }),
	}, err
}

func (s *Server) scoreCategories(ctx context.Context, in *byID) (api.ScoreCategories, error) {
	matches, book, l, err := s.Scores.Categories(ctx, in.ID)
	out := api.ScoreCategories{Book: each(book, gradebookCategory), Matches: []api.CategoryMatch{}}
	for _, m := range matches {
		x := api.CategoryMatch{
			Source: gradebookCategory(m.Source), Evidence: string(m.Evidence), Makes: l.Policy.Makes && m.Makes(),
			Several: m.Several, Weights: m.WeightsDiffer(), Guesses: each(m.Proposals, gradebookCategory),
		}
		if m.Book != nil {
			book := gradebookCategory(*m.Book)
			x.Book = &book
		}
		out.Matches = append(out.Matches, x)
	}
	return out, err
}

func (s *Server) listUnfinished(ctx context.Context, in *byID) (api.Page[api.UnfinishedWork], error) {
	all, err := s.Scores.Unfinished(ctx, in.ID)
	return api.Page[api.UnfinishedWork]{Items: each(all, func(u scores.Unfinished) api.UnfinishedWork {
		u.Teachers = append([]string{}, u.Teachers...)
		return api.UnfinishedWork(u)
	})}, err
}

// unfinishedFile gives the same as CSV or XLSX, by the ending of the address.
func (s *Server) unfinishedFile(w http.ResponseWriter, r *http.Request) {
	kind := chi.URLParam(r, "kind")
	all, err := s.Scores.Unfinished(r.Context(), chi.URLParam(r, "id"))
	if kind != "csv" && kind != "xlsx" || errors.Is(err, db.ErrNotFound) {
		problem.Write(w, http.StatusNotFound, "there is no such score link, or the address does not end with .csv or .xlsx")
		return
	}
	if err != nil {
		s.Log.Error("listing unfinished work", "cause", err.Error())
		problem.Write(w, http.StatusInternalServerError, "the list could not be made; try again")
		return
	}
	day := func(t *time.Time) string {
		if t == nil {
			return ""
		}
		return t.Format(time.DateOnly)
	}
	header := []string{"section", "teachers", "assignment", "due", "person", "state", "score", "since"}
	var rows [][]string
	for _, u := range all {
		rows = append(rows, []string{
			u.Section, strings.Join(u.Teachers, ", "), u.Assignment, day(u.Due), u.Person, u.State, u.Score,
			day(u.Since),
		})
	}
	hideCells(r.Context(), rows)
	w.Header().Set("Content-Disposition", `attachment; filename="unfinished-work.`+kind+`"`)
	if kind == "csv" {
		w.Header().Set("Content-Type", "text/csv; charset=utf-8")
		_ = sheet.CSV(w, header, rows)
		return
	}
	w.Header().Set("Content-Type", "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet")
	if err := sheet.XLSX(w, "unfinished work", header, rows); err != nil {
		s.Log.Error("writing unfinished work", "cause", err.Error())
	}
}
