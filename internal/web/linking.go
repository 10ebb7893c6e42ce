package web

import (
	"context"
	"fmt"
	"net/http"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"kanban/internal/app/linking"
	core "kanban/internal/core/linking"
	"kanban/internal/store"
	"kanban/internal/wire/api"

	"kanban/internal/core/finding"
)

type linkableInput struct {
	ID   string `path:"id" doc:"The lead section's id"`
	Text string `query:"text" doc:"In title, code or course"`
	Paging
}

type proposalsInput struct {
	SameTeacher bool `query:"sameTeacher" default:"true" doc:"Only sections that share a teacher"`
}

func (s *Server) linking(a huma.API) {
	handle(a, "sections", "GET /sections/{id}/linkable list-linkable What can be linked under a section, and why other sections cannot", func(ctx context.Context, in *linkableInput) (api.Page[api.Linkable], error) {
		all, err := s.Linking.Candidates(ctx, in.ID, in.Text)
		if err != nil {
			return api.Page[api.Linkable]{}, err
		}
		items, next, err := paged(all, in.Cursor, in.Limit)
		return api.Page[api.Linkable]{Next: next, Items: each(items, func(c linking.Candidate) api.Linkable {
			return api.Linkable{SectionRef: linked(c.Section), Obstacles: each(c.Obstacles, obstacle)}
		})}, err
	})
	handle(a, "sections", "GET /linked-sets/proposals propose-sets Sections that could be linked: of one course and term", func(ctx context.Context, in *proposalsInput) ([]api.SetProposal, error) {
		all, err := s.Linking.Proposals(ctx, in.SameTeacher)
		return each(all, func(p core.Proposal) api.SetProposal {
			return api.SetProposal{Name: p.Name, Sections: each(p.Sections, linked)}
		}), err
	})
	handle(a, "sections", "POST /linked-sets/outlook preview-set What linking would mean; nothing is done", func(ctx context.Context, in *with[api.NewSet]) (api.SetOutlook, error) {
		c, err := s.Linking.Consequences(ctx, wish(in.Body))
		return api.SetOutlook{
			Name: c.Name, Sections: each(c.Sections, linked), People: c.People, Several: c.Several, Results: c.Results,
			Refused: each(c.Refused, func(r core.Refusal) api.Refused {
				return api.Refused{Section: linked(r.Section), Obstacle: obstacle(r.Obstacle)}
			}),
			Targets: each(c.Pairings, func(p store.Pairing) string { return p.TargetName }),
		}, err
	})
	handle(a, "sections", "POST /linked-sets make-sets Link sections, one set or many", func(ctx context.Context, in *with[[]api.NewSet]) (api.LinkedMany, error) {
		out := api.LinkedMany{Sets: []api.LinkedSet{}, Problems: []string{}}
		for _, w := range in.Body {
			set, err := s.Linking.Link(ctx, callerOf(ctx).Name, wish(w))
			if err != nil && len(in.Body) == 1 {
				return out, err
			}
			if err != nil {
				out.Problems = append(out.Problems, err.Error())
				continue
			}
			shown, err := s.set(ctx, set.ID)
			if err != nil {
				return out, err
			}
			out.Sets = append(out.Sets, shown)
		}
		return out, nil
	})
	handle(a, "sections", "GET /linked-sets list-sets List linked sets", func(ctx context.Context, _ *struct{}) ([]api.LinkedSet, error) {
		all, err := s.Store.LinkedSets(ctx)
		out := []api.LinkedSet{}
		for _, x := range all {
			shown, err := s.set(ctx, x.ID)
			if err != nil {
				return out, err
			}
			out = append(out, shown)
		}
		return out, err
	})
	handleTagged(a, "sections", "GET /linked-sets/{id} get-set Show a linked set, and what unlinking would mean", func(ctx context.Context, in *byID) (api.LinkedSet, int, error) {
		x, err := s.set(ctx, in.ID)
		return x, x.Version, err
	})
	handleTagged(a, "sections", "POST /linked-sets/{id}/unlink unlink Handle the sections of a set one by one again", func(ctx context.Context, in *edit[api.Unlinking]) (api.LinkedSet, int, error) {
		v, err := version(in.IfMatch)
		if err == nil {
			err = s.Linking.Unlink(ctx, callerOf(ctx).Name, in.ID, v, linking.Fate(in.Body.Target))
		}
		if err != nil {
			return api.LinkedSet{}, 0, err
		}
		x, err := s.set(ctx, in.ID)
		return x, x.Version, err
	})
}

func wish(n api.NewSet) linking.Wish {
	return linking.Wish{LeadID: n.LeadID, Others: n.Sections, Name: n.Name, Reason: n.Reason}
}

func linked(x core.Section) api.SectionRef {
	return api.SectionRef{ID: x.ID, Title: x.Title, Code: x.Code, Course: x.Course, Terms: x.Terms, Learners: x.Learners, Gone: x.Gone}
}

func obstacle(o core.Obstacle) api.Obstacle {
	text, _ := finding.Lookup(o.Code)
	return api.Obstacle{Code: o.Code, Title: text.Title, Detail: o.Detail, Remedy: text.Remedy, Blocks: true, Override: o.Overridable}
}

func (s *Server) set(ctx context.Context, id string) (api.LinkedSet, error) {
	x, err := s.Linking.Set(ctx, id)
	if err != nil {
		return api.LinkedSet{}, err
	}
	out := api.LinkedSet{
		SetRef: api.SetRef{ID: x.ID, Name: x.Name, Sections: each(x.Sections, sectionRef)}, LeadID: x.LeadID, Reason: x.Reason,
		MadeBy: x.MadeBy, CreatedAt: x.CreatedAt, UnlinkedAt: x.UnlinkedAt, Version: x.Version,
	}
	if kept, err := s.Store.SafetyCopy(ctx, id); err == nil {
		out.Copy = &api.CopyRef{People: kept.People, Results: kept.Results, CreatedAt: kept.CreatedAt}
	}
	apart, err := s.Linking.Separations(ctx, id)
	out.Targets = each(apart, func(x linking.Separation) api.Apart {
		return api.Apart{PairingID: x.Pairing.ID, Target: x.Pairing.TargetName, Others: x.Others}
	})
	return out, err
}

// safetyCopy serves the rosters and results as they were before sections were linked.
func (s *Server) safetyCopy(w http.ResponseWriter, r *http.Request) {
	kept, err := s.Store.SafetyCopy(r.Context(), chi.URLParam(r, "id"))
	if err != nil {
		s.missing(w, err)
		return
	}
	w.Header().Set("Content-Type", "application/zip")
	w.Header().Set("Content-Disposition", fmt.Sprintf(`attachment; filename="before-linking-%s.zip"`, kept.CreatedAt.Format("2006-01-02")))
	_, _ = w.Write(kept.Content)
}
