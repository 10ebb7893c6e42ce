package accessstore

import (
	"context"
	"fmt"
	"time"

	"kanban/internal/store/db"
)

// invitationLasts is how long the link of an invitation can be used.
const invitationLasts = "7 days"

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

// Invitation is what became of one.
type Invitation struct {
	UserID string
	Used   bool
	Old    bool // it is too old to be used
}

// FindInvitation finds one by the hash of its token.
func FindInvitation(ctx context.Context, from db.From, hash []byte) (Invitation, error) {
	return db.Row[Invitation](ctx, from, "finding the invitation", `SELECT user_id::text, used_at IS NOT NULL AS used,
		created_at < now() - interval '`+invitationLasts+`' AS old FROM invitations WHERE token_hash = $1`, hash)
}

// UseInvitation spends one; it can be spent once.
func UseInvitation(ctx context.Context, tx *db.Tx, hash []byte) error {
	changed, err := db.Exec(ctx, tx, `UPDATE invitations SET used_at = now() WHERE token_hash = $1 AND used_at IS NULL
		AND created_at > now() - interval '`+invitationLasts+`'`, hash)
	if err == nil && changed == 0 {
		return fmt.Errorf("using the invitation: %w", db.ErrNotFound)
	}
	return db.Known(err, "using the invitation")
}
