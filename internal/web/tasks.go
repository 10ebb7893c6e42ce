package web

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"kanban/internal/core/permission"
	"kanban/internal/store/taskstore"
	"kanban/internal/web/auth"
	"kanban/internal/wire/api"
)

type tasksInput struct {
	Done  bool `query:"done" doc:"Those that are done, the latest first, instead of the open ones"`
	Limit int  `query:"limit" minimum:"1" maximum:"1000" default:"200"`
}

var (
	listTasksOp = operation{
		ID: "list-tasks", Act: permission.Look, Of: permission.Listed,
		Method: http.MethodGet, Path: "/tasks", Status: http.StatusOK, Tag: "tasks",
		Summary: "List what rules gave people to do, the most urgent first",
	}
	endTaskOp = operation{
		ID: "end-task", Act: permission.FinishTasks, Of: permission.OfTask,
		Method: http.MethodPost, Path: "/tasks/{id}/done",
		Status: http.StatusNoContent, Tag: "tasks",
		Summary: "Mark a task as done",
	}
	reopenTaskOp = operation{
		ID: "reopen-task", Act: permission.FinishTasks, Of: permission.OfTask,
		Method: http.MethodPost, Path: "/tasks/{id}/open",
		Status: http.StatusNoContent, Tag: "tasks",
		Summary: "Open a task again",
	}
)

// tasks registers the operations about tasks.
func (s *Server) tasks(a huma.API) {
	handle(a, listTasksOp, s.listTasks)
	handleEmpty(a, endTaskOp, s.endTask)
	handleEmpty(a, reopenTaskOp, s.reopenTask)
}

func (s *Server) listTasks(ctx context.Context, in *tasksInput) (api.Page[api.Task], error) {
	all, err := s.Tasks.Tasks(ctx, in.Done, in.Limit, reach(ctx))
	return api.Page[api.Task]{Items: each(all, shownTask)}, err
}

type endTaskInput struct {
	ID   string `path:"id" doc:"The task's id"`
	Body *api.TaskAnswer
}

func (s *Server) endTask(ctx context.Context, in *endTaskInput) error {
	answer := ""
	if in.Body != nil {
		answer = in.Body.Answer
	}
	return s.Tasks.EndTask(ctx, auth.Caller(ctx).Name, in.ID, answer, true)
}

func (s *Server) reopenTask(ctx context.Context, in *byID) error {
	return s.Tasks.EndTask(ctx, auth.Caller(ctx).Name, in.ID, "", false)
}

func shownTask(t taskstore.ListedTask) api.Task {
	out := api.Task{
		ID: t.ID, Title: t.Title, Detail: t.Detail, Owner: t.Owner, Person: t.Person, Section: t.Section,
		Rule: t.Rule, DeliveryID: orEmpty(t.DeliveryID),
		DueAt: t.DueAt, DoneAt: t.DoneAt, DoneBy: t.DoneBy, CreatedAt: t.CreatedAt,
		Asker: t.Asker, Answer: t.Answer, About: t.About,
	}
	if t.PersonID != nil {
		out.PersonID = *t.PersonID
	}
	return out
}
