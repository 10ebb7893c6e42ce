package access

import (
	"context"

	"github.com/google/uuid"

	"kanban/internal/core/permission"
	"kanban/internal/core/refusal"
	"kanban/internal/store/accessstore"
	"kanban/internal/store/db"
	"kanban/internal/store/personstore"
	"kanban/internal/store/rosterstore"
)

// Viewed is somebody of the register as whom somebody else looks, who changes nothing meanwhile.
type Viewed struct{ PersonID, Name string }

// BeginViewing lets a caller look as somebody of the register does, and notes it in the trail.
func (s *Service) BeginViewing(ctx context.Context, c Caller, personID string) (Viewed, error) {
	if uuid.Validate(personID) != nil {
		return Viewed{}, refusal.Invalid("personId", "is not the id of a person")
	}
	now, err := personstore.PeopleNow(ctx, s.Store, personID)
	if err != nil {
		return Viewed{}, err
	}
	p, err := rosterstore.FindPerson(ctx, s.Store, now[personID])
	if err != nil {
		return Viewed{}, err
	}
	v := Viewed{PersonID: p.ID, Name: p.Name()}
	return v, s.Store.InTx(ctx, func(tx *db.Tx) error {
		return tx.Audit(ctx, c.Name, "began to view as somebody", "person/"+p.ID, map[string]string{"name": v.Name})
	})
}

// EndViewing notes in the trail that somebody looks as themselves again.
func (s *Service) EndViewing(ctx context.Context, c Caller) error {
	if c.Viewing == nil {
		return nil
	}
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		return tx.Audit(ctx, c.Name, "ended viewing as somebody", "person/"+c.Viewing.PersonID,
			map[string]string{"name": c.Viewing.Name})
	})
}

// Viewing gives a caller who looks as somebody of the register what that person may by what the register says of them,
// and nothing of their own. Whose own roles do not allow that any more looks as themselves.
func (s *Service) Viewing(ctx context.Context, c Caller, v Viewed) (Caller, error) {
	if !c.Everywhere(permission.ViewAs) {
		return c, nil
	}
	c.Viewing, c.PersonID, c.Grants = &v, v.PersonID, nil
	return s.asInRegister(ctx, c)
}

// SeenBy gives what a session sees otherwise than its user would, by its token as it is kept.
func (s *Service) SeenBy(ctx context.Context, token string) (accessstore.Seen, error) {
	return accessstore.SeenBy(ctx, s.Store, token)
}

// KeepViewed keeps as whom of the register a session looks.
func (s *Service) KeepViewed(ctx context.Context, token string, v Viewed) error {
	return accessstore.KeepViewed(ctx, s.Store, token, v.PersonID, v.Name)
}

// KeepNamesKey keeps by what names are made up in a session; empty to show them.
func (s *Service) KeepNamesKey(ctx context.Context, token, key string) error {
	return accessstore.KeepNamesKey(ctx, s.Store, token, key)
}
