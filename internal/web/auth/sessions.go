package auth

import (
	"context"
	"time"

	"github.com/alexedwards/scs/v2"

	"kanban/internal/app/access"
	"kanban/internal/store/accessstore"
)

// sessionStore keeps sessions through the use case. Every request writes its session when it ends,
// as its idle time begins anew: a session that somebody ended meanwhile must not come back by that.
type sessionStore struct{ access *access.Service }

// Find implements scs.Store.
func (s sessionStore) Find(token string) (data []byte, there bool, err error) {
	return s.FindCtx(context.Background(), token)
}

// FindCtx implements scs.CtxStore.
func (s sessionStore) FindCtx(ctx context.Context, token string) (data []byte, there bool, err error) {
	return s.access.FindSession(ctx, token)
}

// Commit implements scs.Store.
func (s sessionStore) Commit(token string, data []byte, until time.Time) error {
	return s.CommitCtx(context.Background(), token, data, until)
}

// CommitCtx implements scs.CtxStore. What a request did is kept though its caller is gone.
func (s sessionStore) CommitCtx(ctx context.Context, token string, data []byte, until time.Time) error {
	var of accessstore.SessionOf
	if _, values, err := (scs.GobCodec{}).Decode(data); err == nil {
		of.UserID, _ = values[administrator].(string)
		of.Agent, _ = values[agent].(string)
		of.Address, _ = values[beganFrom].(string)
		of.ProviderID, _ = values[enteredBy].(string)
		of.ProviderSession, _ = values[providerSession].(string)
	}
	return s.access.KeepSession(context.WithoutCancel(ctx), token, data, until, of)
}

// Delete implements scs.Store.
func (s sessionStore) Delete(token string) error { return s.DeleteCtx(context.Background(), token) }

// DeleteCtx implements scs.CtxStore.
func (s sessionStore) DeleteCtx(ctx context.Context, token string) error {
	return s.access.EndSession(context.WithoutCancel(ctx), token)
}
