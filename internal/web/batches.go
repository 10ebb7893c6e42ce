package web

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"kanban/internal/app/batches"
	"kanban/internal/app/linking"
	"kanban/internal/core/permission"
	"kanban/internal/core/rollover"
	"kanban/internal/store/runstore"
	"kanban/internal/web/auth"
	"kanban/internal/wire/api"
)

type successionsInput struct {
	Days int `query:"days" default:"60" minimum:"0" maximum:"400" doc:"Sections whose term ends within so many days, or has ended"`
}

var (
	makeBatchOp = operation{
		ID: "make-batch", Act: permission.Rosters,
		Method: http.MethodPost, Path: "/batches", Status: http.StatusCreated, Tag: "batches",
		Summary: "Show what something would do with many; nothing is done",
	}
	listBatchesOp = operation{
		ID: "list-batches", Act: permission.Look,
		Method: http.MethodGet, Path: "/batches", Status: http.StatusOK, Tag: "batches",
		Summary: "List what was done with many, the newest first",
	}
	getBatchOp = operation{
		ID: "get-batch", Act: permission.Look,
		Method: http.MethodGet, Path: "/batches/{id}", Status: http.StatusOK, Tag: "batches",
		Summary: "Show a batch and how far its runs are",
	}
	doBatchOp = operation{
		ID: "do-batch", Act: permission.Rosters,
		Method: http.MethodPost, Path: "/batches/{id}/do", Status: http.StatusOK, Tag: "batches",
		Summary: "Do exactly what a batch shows",
	}
	proposeNextTermOp = operation{
		ID: "propose-next-term", Act: permission.Look,
		Method: http.MethodGet, Path: "/next-term", Status: http.StatusOK, Tag: "pairings",
		Summary: "Pairings whose term runs out, with the sections that follow or could",
	}
)

// batches registers the operations about what is done with many at once.
func (s *Server) batches(a huma.API) {
	handle(a, makeBatchOp, s.makeBatch)
	handle(a, listBatchesOp, s.listBatches)
	handle(a, getBatchOp, s.getBatch)
	handle(a, doBatchOp, s.doBatch)
	handle(a, proposeNextTermOp, s.proposeNextTerm)
}

func (s *Server) makeBatch(ctx context.Context, in *with[api.Order]) (api.Batch, error) {
	o := in.Body
	b, err := s.Batches.Prepare(ctx, auth.Caller(ctx).Name, batches.Order{
		Act: batches.Act(o.Act), Sets: each(o.Sets, wish), Sections: o.Sections, Pairings: o.Pairings,
		InterfaceID: o.InterfaceID, Template: o.Template,
		Naming: o.Naming, Names: o.Names, Details: o.Details, WithoutRun: o.WithoutRun, KeepNames: o.KeepNames,
		To: o.To, At: o.At,
	})
	return batch(b), err
}

func (s *Server) listBatches(ctx context.Context, in *Paging) (api.Page[api.ListedBatch], error) {
	all, err := s.Batches.Batches(ctx, in.Cursor, in.Limit)
	return api.Page[api.ListedBatch]{Items: each(all,
		func(b runstore.ListedBatch) api.ListedBatch { return api.ListedBatch(b) }), Next: last(all, in.Limit,
		func(b runstore.ListedBatch) string { return b.ID })}, err
}

func (s *Server) getBatch(ctx context.Context, in *byID) (api.Batch, error) {
	b, err := s.Batches.Batch(ctx, in.ID)
	return batch(b), err
}

func (s *Server) doBatch(ctx context.Context, in *withID[api.Doing]) (api.Batch, error) {
	b, err := s.Batches.Do(ctx, auth.Caller(ctx).Name, in.ID, in.Body.Approved)
	return batch(b), err
}

func (s *Server) proposeNextTerm(ctx context.Context, in *successionsInput) ([]api.Succession, error) {
	moves, pairings, err := s.Batches.Proposals(ctx, nil, in.Days)
	return each(moves, func(m rollover.Move) api.Succession {
		return api.Succession{
			PairingID: pairings[m.From.ID], From: m.From.Title, Ends: m.From.Ends, ToID: m.To.ID, To: m.To.Title,
			Score: m.Score, Evidence: append([]string{}, m.Evidence...),
			Choices: each(m.Choices, func(c rollover.Section) api.Choice {
				return api.Choice{
					ID: c.ID, Title: c.Title,
					Code: c.Code,
				}
			}),
		}
	}), err
}

func batch(b batches.Batch) api.Batch {
	o := b.Order
	out := api.Batch{
		ID: b.ID, MadeBy: b.MadeBy, CreatedAt: b.CreatedAt, AppliedAt: b.AppliedAt, Runs: map[string]int{},
		Items: []api.BatchItem{},
		Order: api.Order{
			Act: string(o.Act), Sets: each(o.Sets, newSet), Sections: o.Sections, Pairings: o.Pairings,
			InterfaceID: o.InterfaceID, Template: o.Template, Naming: o.Naming, Names: o.Names, Details: o.Details,
			WithoutRun: o.WithoutRun, KeepNames: o.KeepNames, To: o.To, At: o.At,
		},
		Done: b.EndedAt != nil,
	}
	states, did := map[string]string{}, map[string]map[string]int{}
	out.Tried = b.Tried
	out.Did, out.PeopleDone, out.People = b.Done()
	for _, r := range b.Runs {
		out.Runs[r.State]++
		states[r.ID], did[r.ID] = r.State, batches.Did(r)
		out.Done = out.Done && !r.Active()
	}
	out.Counts, out.NewAccounts, out.Guarded, out.Blocked = b.Totals()
	for _, i := range b.Items {
		out.Items = append(out.Items, api.BatchItem{
			Missing: missing(i), SectionID: i.SectionID, PairingID: i.PairingID, Title: i.Title, Target: i.Target,
			To: i.ToTitle, Remarks: each(i.Remarks, remark), Blocked: i.Blocked(),
			Counts: i.Counts, Guard: i.Guard, NewAccounts: i.NewAccounts, Says: i.Says, Done: i.Done,
			Problem: i.Problem, SetID: i.SetID, RunID: i.RunID, RunState: states[i.RunID], Did: did[i.RunID],
		})
	}
	return out
}

// missing is what a service wants to know of an item's class and nothing says.
func missing(i batches.Item) []string {
	if i.Outlook == nil {
		return nil
	}
	return i.Outlook.Missing
}

func newSet(w linking.Wish) api.NewSet {
	return api.NewSet{LeadID: w.LeadID, Sections: w.Others, Name: w.Name, Reason: w.Reason}
}
