// Package tasks lists what people have to do and notes that they did it.
package tasks

import (
	"context"
	"strings"

	"kanban/internal/core/refusal"
	"kanban/internal/store/db"
	"kanban/internal/store/taskstore"
)

// Service is the use case.
type Service struct{ Store *db.Database }

// EndTask marks a task as done, with what is answered to whoever handed it on, or opens it again.
func (s *Service) EndTask(ctx context.Context, who, id, answer string, done bool) error {
	ok := false
	err := s.Store.InTx(ctx, func(tx *db.Tx) (err error) {
		word := "did a task"
		if done {
			ok, err = taskstore.EndTask(ctx, tx, taskstore.Task{ID: id, Answer: strings.TrimSpace(answer)}, who)
		} else {
			word = "opened a task again"
			ok, err = taskstore.ReopenTask(ctx, tx, id)
		}
		if err == nil && !ok {
			err = taskstore.HasTask(ctx, tx, id)
		}
		if err != nil || !ok {
			return err
		}
		return tx.Audit(ctx, who, word, "task/"+id, nil)
	})
	if err == nil && !ok {
		return refusal.Conflict("", "it is so already")
	}
	return err
}
