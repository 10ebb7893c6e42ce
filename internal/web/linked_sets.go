package web

import (
	"context"
	"fmt"
	"net/http"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"kanban/internal/app/linking"
	"kanban/internal/app/pairings"
	"kanban/internal/core/finding"
	core "kanban/internal/core/linking"
	"kanban/internal/core/permission"
	"kanban/internal/core/roster"
	"kanban/internal/store/linkstore"
	"kanban/internal/store/pairingstore"
	"kanban/internal/web/auth"
	"kanban/internal/wire/api"
)

type proposalsInput struct {
	SameTeacher bool   `query:"sameTeacher" default:"true" doc:"Only sections that share a teacher"`
	Hidden      string `query:"hidden" enum:",*" doc:"* for what lists hide too"`
}

type setsInput struct {
	Unlinked bool `query:"unlinked" doc:"Those that were unlinked instead, the latest first"`
}

type unlinkingInput struct {
	ID     string `path:"id" doc:"The record's id"`
	Target string `query:"target" enum:"lead,end" doc:"What becomes of its classes"`
}

type groupsInput struct {
	Interface string `query:"interface" doc:"Only at this interface"`
}

var (
	proposeSetsOp = operation{
		ID: "propose-sets", Act: permission.Look, Of: permission.Listed,
		Method: http.MethodGet, Path: "/linked-sets/proposals",
		Status: http.StatusOK, Tag: "sections",
		Summary: "Sections that could be linked: of one course and term",
	}
	previewSetOp = operation{
		ID: "preview-set", Act: permission.Sync, Of: permission.Listed,
		Method: http.MethodPost, Path: "/linked-sets/outlook",
		Status: http.StatusOK, Tag: "sections",
		Summary: "What linking would mean; nothing is done",
	}
	makeSetOp = operation{
		ID: "make-set", Act: permission.Sync, Of: permission.Listed,
		Method: http.MethodPost, Path: "/linked-sets", Status: http.StatusCreated, Tag: "sections",
		Summary: "Link sections; many sets at once are a batch",
	}
	listSetsOp = operation{
		ID: "list-sets", Act: permission.Look, Of: permission.Listed,
		Method: http.MethodGet, Path: "/linked-sets", Status: http.StatusOK, Tag: "sections",
		Summary: "List linked sets",
	}
	getSetOp = operation{
		ID: "get-set", Act: permission.Look, Of: permission.OfSet,
		Method: http.MethodGet, Path: "/linked-sets/{id}", Status: http.StatusOK, Tag: "sections",
		Summary: "Show a linked set, and what unlinking would mean",
	}
	unlinkOp = operation{
		ID: "unlink", Act: permission.Sync, Of: permission.OfSet,
		Method: http.MethodPost, Path: "/linked-sets/{id}/unlink",
		Status: http.StatusOK, Tag: "sections",
		Summary: "Handle the sections of a set one by one again",
	}
	previewUnlinkingOp = operation{
		ID: "preview-unlinking", Act: permission.Look, Of: permission.OfSet,
		Method: http.MethodGet, Path: "/linked-sets/{id}/unlinking",
		Status: http.StatusOK, Tag: "sections",
		Summary: "What becomes of everybody when a set is unlinked; nothing is done",
	}
	previewSetEditOp = operation{
		ID: "preview-set-edit", Act: permission.Sync, Of: permission.OfSet,
		Method: http.MethodPost, Path: "/linked-sets/{id}/outlook",
		Status: http.StatusOK, Tag: "sections",
		Summary: "What changing a set would mean for everybody; nothing is done",
	}
	editSetOp = operation{
		ID: "edit-set", Act: permission.Sync, Of: permission.OfSet,
		Method: http.MethodPatch, Path: "/linked-sets/{id}", Status: http.StatusOK, Tag: "sections",
		Summary: "Add sections to a set, take some out, change its lead",
	}
	previewPutBackOp = operation{
		ID: "preview-put-back", Act: permission.Look,
		Method: http.MethodGet, Path: "/safety-copies/{id}/outlook",
		Status: http.StatusOK, Tag: "sections",
		Summary: "What putting a safety copy back would mean; nothing is done",
	}
	putBackOp = operation{
		ID: "put-back", Act: permission.Rosters,
		Method: http.MethodPost, Path: "/safety-copies/{id}/put-back",
		Status: http.StatusOK, Tag: "sections",
		Summary: "Put the results of a safety copy back that are no longer there",
	}
	listLeftGroupsOp = operation{
		ID: "list-left-groups", Act: permission.Look,
		Method: http.MethodGet, Path: "/left-groups",
		Status: http.StatusOK, Tag: "sections",
		Summary: "Groups inside classes that are for no section any more, as they are at the service now",
	}
	removeLeftGroupOp = operation{
		ID: "remove-left-group", Act: permission.Rosters,
		Method: http.MethodPost, Path: "/left-groups/remove",
		Status: http.StatusNoContent, Tag: "sections",
		Summary: "Remove an empty group that is for no section any more, at the service",
	}
)

// linkedSets registers the operations about linked sets, their safety copies and the groups that they left.
func (s *Server) linkedSets(a huma.API) {
	handle(a, proposeSetsOp, s.proposeSets)
	handle(a, previewSetOp, s.previewSet)
	handle(a, makeSetOp, s.makeSet)
	handle(a, listSetsOp, s.listSets)
	handleTagged(a, getSetOp, s.getSet)
	handleTagged(a, unlinkOp, s.unlink)
	handle(a, previewUnlinkingOp, s.previewUnlinking)
	handle(a, previewSetEditOp, s.previewSetEdit)
	handleTagged(a, editSetOp, s.editSet)
	handle(a, previewPutBackOp, s.previewPutBack)
	handle(a, putBackOp, s.putBack)
	handle(a, listLeftGroupsOp, s.listLeftGroups)
	handleEmpty(a, removeLeftGroupOp, s.removeLeftGroup)
}

func (s *Server) proposeSets(ctx context.Context, in *proposalsInput) (api.SetProposals, error) {
	all, err := s.Linking.Proposals(ctx, in.SameTeacher, in.Hidden == pairings.Everything, reach(ctx))
	return api.SetProposals{Hidden: all.Hidden, Items: each(all.List, func(p core.Proposal) api.SetProposal {
		return api.SetProposal{
			Name: p.Name, Sections: each(p.Sections, linked),
			SharedTeachers: each(p.SharedTeachers, func(t core.SharedTeacher) api.SharedTeacher {
				return api.SharedTeacher{
					Teacher:  all.Teachers[t.Teacher],
					Sections: each(t.Sections, func(x core.Section) string { return x.Title }),
				}
			}),
		}
	})}, err
}

func (s *Server) previewSet(ctx context.Context, in *with[api.NewSet]) (api.SetOutlook, error) {
	if err := s.mayLink(ctx, in.Body.Reason, append(in.Body.Sections, in.Body.LeadID)...); err != nil {
		return api.SetOutlook{}, err
	}
	c, err := s.Linking.Consequences(ctx, wish(in.Body))
	return api.SetOutlook{
		Name: c.Name, Sections: each(c.Sections, linked), People: c.People, Several: c.Several, Results: c.Results,
		Refused: each(c.Refused, refusedSection),
		Targets: each(c.Pairings, func(p pairingstore.Pairing) string { return p.TargetName }),
	}, err
}

func (s *Server) makeSet(ctx context.Context, in *with[api.NewSet]) (api.LinkedSet, error) {
	if err := s.mayLink(ctx, in.Body.Reason, append(in.Body.Sections, in.Body.LeadID)...); err != nil {
		return api.LinkedSet{}, err
	}
	set, err := s.Linking.Link(ctx, auth.Caller(ctx).Name, wish(in.Body))
	if err != nil {
		return api.LinkedSet{}, err
	}
	return s.set(ctx, set.ID)
}

func (s *Server) listSets(ctx context.Context, in *setsInput) ([]api.LinkedSet, error) {
	var all []linkstore.LinkedSet
	var err error
	if in.Unlinked {
		all, err = s.Linking.UnlinkedSets(ctx)
	} else {
		all, err = s.Linking.LinkedSets(ctx)
	}
	out, reached := []api.LinkedSet{}, map[string]bool(nil)
	if r := reach(ctx); r != nil && err == nil {
		reached, err = s.Access.Reached(ctx, permission.OfSet, *r)
	}
	if err != nil {
		return nil, err
	}
	for _, x := range all {
		if reached != nil && !reached[x.ID] {
			continue
		}
		shown, err := s.set(ctx, x.ID)
		if err != nil {
			return out, err
		}
		out = append(out, shown)
	}
	return out, err
}

// mayLink refuses sections that the caller does not reach, and to link against the rule to whoever may not say what
// pairings do.
func (s *Server) mayLink(ctx context.Context, reason string, sections ...string) error {
	if reach(ctx) == nil || len(sections) == 0 {
		return nil
	}
	if err := allOf(ctx, sections...); err != nil || reason == "" {
		return err
	}
	return s.mayAlso(ctx, permission.Rosters, "link against the rule", sections...)
}

func (s *Server) getSet(ctx context.Context, in *byID) (api.LinkedSet, int, error) {
	x, err := s.set(ctx, in.ID)
	return x, x.Version, err
}

func (s *Server) unlink(ctx context.Context, in *edit[api.Unlinking]) (api.LinkedSet, int, error) {
	v, err := version(in.IfMatch)
	if err == nil {
		err = s.Linking.Unlink(ctx, auth.Caller(ctx).Name, in.ID, v, linking.Fate(in.Body.Target))
	}
	if err != nil {
		return api.LinkedSet{}, 0, err
	}
	x, err := s.set(ctx, in.ID)
	return x, x.Version, err
}

func (s *Server) previewUnlinking(ctx context.Context, in *unlinkingInput) ([]api.ClassEffects, error) {
	all, err := s.Linking.Unlinking(ctx, in.ID, linking.Fate(in.Target))
	return each(all, classEffects), err
}

func (s *Server) previewSetEdit(ctx context.Context, in *withID[api.EditSet]) (api.SetEdited, error) {
	if err := s.mayLink(ctx, in.Body.Reason, in.Body.Add...); err != nil {
		return api.SetEdited{}, err
	}
	x, err := s.Linking.Editing(ctx, in.ID, linking.Edit(in.Body))
	return api.SetEdited{
		Sections: each(x.Sections, linked), Refused: each(x.Refused, refusedSection),
		Classes: each(x.Classes, classEffects),
	}, err
}

func (s *Server) editSet(ctx context.Context, in *edit[api.EditSet]) (api.LinkedSet, int, error) {
	v, err := version(in.IfMatch)
	if err == nil {
		err = s.mayLink(ctx, in.Body.Reason, in.Body.Add...)
	}
	if err == nil {
		err = s.Linking.Change(ctx, auth.Caller(ctx).Name, in.ID, v, linking.Edit(in.Body))
	}
	if err != nil {
		return api.LinkedSet{}, 0, err
	}
	x, err := s.set(ctx, in.ID)
	return x, x.Version, err
}

func (s *Server) previewPutBack(ctx context.Context, in *byID) (api.PutBack, error) {
	x, err := s.Linking.PuttingBack(ctx, in.ID)
	return putBack(x), err
}

func (s *Server) putBack(ctx context.Context, in *byID) (api.PutBack, error) {
	x, err := s.Linking.PutBack(ctx, auth.Caller(ctx).Name, in.ID)
	return putBack(x), err
}

func (s *Server) listLeftGroups(ctx context.Context, in *groupsInput) ([]api.LeftGroup, error) {
	all, err := s.Linking.LeftGroups(ctx, in.Interface)
	return each(all, func(g linking.LeftGroup) api.LeftGroup {
		out := api.LeftGroup{
			Ref: g.Ref, Name: g.Name, InterfaceID: g.InterfaceID, Class: g.Class,
			Section: g.Section, Members: g.Members, Gone: g.Gone,
		}
		if g.Problem != nil {
			out.Problem = g.Problem.Error()
		}
		return out
	}), err
}

func (s *Server) removeLeftGroup(ctx context.Context, in *with[api.GroupToRemove]) error {
	return s.Linking.RemoveGroup(ctx, auth.Caller(ctx).Name, in.Body.InterfaceID, in.Body.Ref)
}

func classEffects(x linking.ClassEffects) api.ClassEffects {
	return api.ClassEffects{PairingID: x.Pairing.ID, Target: x.Pairing.TargetName, People: each(x.People, affected)}
}

func affected(f roster.Affected) api.Affected {
	out := api.Affected{PersonID: f.PersonID, Name: f.Name, Role: f.Role, Effect: f.Effect, Why: entry(f.Entry).Title}
	if f.Effect == roster.Removed && f.Reason == finding.NoLongerEnrolled {
		out.Why = "Kanban put them in, and no section of the class has them then"
	}
	if f.Effect == roster.Stays && f.Outcome == roster.OutcomeRemove {
		out.Why = "nobody takes them out any more"
	}
	if f.Effect == roster.NotAdded && f.Outcome == roster.OutcomeAdd {
		out.Why = "nobody puts them in any more"
	}
	return out
}

func putBack(x linking.PutBack) api.PutBack {
	return api.PutBack{There: x.There, Gone: x.Gone, Back: each(x.Back, func(r linking.BackResult) api.BackResult {
		return api.BackResult{Code: r.Code, Person: r.Person, Identifier: r.Identifier, ActivityID: r.ActivityID}
	})}
}

func refusedSection(r core.Refusal) api.Refused {
	return api.Refused{Section: linked(r.Section), Obstacle: obstacle(r.Obstacle)}
}

func wish(n api.NewSet) linking.Wish {
	return linking.Wish{LeadID: n.LeadID, Others: n.Sections, Name: n.Name, Reason: n.Reason}
}

func linked(x core.Section) api.SectionRef {
	return api.SectionRef{
		ID: x.ID, Title: x.Title, Code: x.Code, Course: x.Course, Terms: x.Terms, School: x.School,
		Teachers: x.TeacherNames, Learners: x.Learners, Gone: x.Gone,
	}
}

func obstacle(o core.Obstacle) api.Obstacle {
	text, _ := finding.Lookup(o.Code)
	return api.Obstacle{
		Code: o.Code, Title: text.Title, Detail: o.Detail, Remedy: text.Remedy, Blocks: true,
		Override: o.Overridable,
	}
}

func (s *Server) set(ctx context.Context, id string) (api.LinkedSet, error) {
	x, err := s.Linking.Set(ctx, id)
	if err != nil {
		return api.LinkedSet{}, err
	}
	out := api.LinkedSet{
		SetRef: api.SetRef{ID: x.ID, Name: x.Name, Sections: each(x.Sections,
			sectionRef)}, LeadID: x.LeadID, Reason: x.Reason,
		MadeBy: x.MadeBy, CreatedAt: x.CreatedAt, UnlinkedAt: x.UnlinkedAt, Version: x.Version,
	}
	out.Targets = each(x.Pairings, func(p pairingstore.Pairing) api.SetTarget {
		return api.SetTarget{PairingID: p.ID, Target: p.TargetName}
	})
	copies, err := s.Linking.SafetyCopies(ctx, id)
	out.Copies = each(copies, func(c linkstore.SafetyCopy) api.CopyRef {
		return api.CopyRef{ID: c.ID, People: c.People, Results: c.Results, CreatedAt: c.CreatedAt}
	})
	return out, err
}

// safetyCopy serves the rosters and results as they were before sections were linked, or a
// set was changed.
func (s *Server) safetyCopy(w http.ResponseWriter, r *http.Request) {
	kept, err := s.Linking.FindSafetyCopy(r.Context(), chi.URLParam(r, "id"))
	if err != nil {
		s.missing(w, err)
		return
	}
	w.Header().Set("Content-Type", "application/zip")
	w.Header().Set("Content-Disposition", fmt.Sprintf(`attachment; filename="before-linking-%s.zip"`,
		kept.CreatedAt.Format("2006-01-02")))
	_, _ = w.Write(kept.Content)
}
