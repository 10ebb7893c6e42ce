package accessstore

import (
	"context"
	"fmt"
	"time"

	"kanban/internal/store/db"
)

// expired tells of a row of invitations whether its link is too old to be used.
const expired = `created_at < now() - CASE WHEN reset THEN interval '1 hour' ELSE interval '7 days' END`

// LockUsers keeps others from changing who may sign in until the transaction ends, and lists everybody by name.
func LockUsers(ctx context.Context, tx *db.Tx) (all []User, err error) {
	if _, err := db.Exec(ctx, tx, `LOCK TABLE users IN SHARE ROW EXCLUSIVE MODE`); err != nil {
		return nil, db.Known(err, "locking users")
	}
	return Users(ctx, tx)
}

// ChangeUser keeps a user's name, address and who of the register they are.
func ChangeUser(ctx context.Context, tx *db.Tx, u User) error {
	done := tx.Records(ctx).Model(&User{}).Where("id = ?", u.ID).Select("name", "email", "person_id").Updates(&u)
	if done.Error == nil && done.RowsAffected == 0 {
		return fmt.Errorf("changing the user: %w", db.ErrNotFound)
	}
	return db.Known(done.Error, "changing the user")
}

// ChoosePassword keeps a user's password, as its hash.
func ChoosePassword(ctx context.Context, tx *db.Tx, id, hash string) error {
	changed, err := db.Exec(ctx, tx, `UPDATE users SET password_hash = $2 WHERE id = $1`, id, hash)
	if err == nil && changed == 0 {
		return fmt.Errorf("keeping the password: %w", db.ErrNotFound)
	}
	return db.Known(err, "keeping the password")
}

// NoteSignIn notes that a user has signed in.
func NoteSignIn(ctx context.Context, to db.From, id string, at time.Time) error {
	_, err := db.Exec(ctx, to, `UPDATE users SET signed_in_at = $2 WHERE id = $1`, id, at)
	return db.Known(err, "noting the sign-in")
}

// RemoveUser removes a user with their tokens and invitations.
func RemoveUser(ctx context.Context, tx *db.Tx, id string) error {
	changed, err := db.Exec(ctx, tx, `DELETE FROM users WHERE id = $1`, id)
	if err == nil && changed == 0 {
		return fmt.Errorf("removing the user: %w", db.ErrNotFound)
	}
	return db.Known(err, "removing the user")
}

// Invite keeps the hash of a link by which a user chooses their password; older ones are void.
func Invite(ctx context.Context, tx *db.Tx, userID string, hash []byte, by string) error {
	if _, err := db.Exec(ctx, tx, `DELETE FROM invitations WHERE user_id = $1 AND used_at IS NULL`, userID); err != nil {
		return db.Known(err, "inviting")
	}
	_, err := db.Exec(ctx, tx, `INSERT INTO invitations (token_hash, user_id, made_by) VALUES ($1, $2, $3)`, hash, userID,
		by)
	return db.Known(err, "inviting")
}

// AddReset keeps the hash of a link by which a user who forgot their password chooses another one. Older ones stay as
// long as they would: which of several mails comes first is not known.
func AddReset(ctx context.Context, tx *db.Tx, userID string, hash []byte, by string) error {
	_, err := db.Exec(ctx, tx, `INSERT INTO invitations (token_hash, user_id, made_by, reset) VALUES ($1, $2, $3, true)`,
		hash, userID, by)
	return db.Known(err, "keeping a link to choose a password by")
}

// Invitation is what became of one.
type Invitation struct {
	UserID string
	Used   bool
	Reset  bool // for whoever forgot their password
	Old    bool // it is too old to be used
}

// FindInvitation finds one by the hash of its token.
func FindInvitation(ctx context.Context, from db.From, hash []byte) (Invitation, error) {
	return db.Row[Invitation](ctx, from, "finding the invitation", `SELECT user_id::text, used_at IS NOT NULL AS used, reset,
		`+expired+` AS old FROM invitations WHERE token_hash = $1`, hash)
}

// UseInvitation spends one; it can be spent once. The user's others are void.
func UseInvitation(ctx context.Context, tx *db.Tx, hash []byte) error {
	changed, err := db.Exec(ctx, tx, `WITH used AS (
			UPDATE invitations SET used_at = now() WHERE token_hash = $1 AND used_at IS NULL AND NOT (`+expired+`)
			RETURNING user_id
		), void AS (
			DELETE FROM invitations WHERE user_id IN (SELECT user_id FROM used) AND used_at IS NULL AND token_hash <> $1
		)
		SELECT 1 FROM used`, hash)
	if err == nil && changed == 0 {
		return fmt.Errorf("using the invitation: %w", db.ErrNotFound)
	}
	return db.Known(err, "using the invitation")
}
