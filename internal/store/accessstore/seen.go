package accessstore

import (
	"context"

	"kanban/internal/store/db"
)

// Seen is what a session sees otherwise than its user would.
type Seen struct {
	NamesKey     string // by what names are made up; empty where they are shown
	ViewedPerson string // of the register, as whom it looks; empty for nobody
	ViewedName   string
}

// SeenBy gives what a session sees, by its token as it is kept; the usual where there is no such session.
func SeenBy(ctx context.Context, from db.From, token string) (Seen, error) {
	all, err := db.Rows[Seen](ctx, from, "finding what the session sees", `SELECT names_key, viewed_person, viewed_name
		FROM sessions WHERE token = $1`, token)
	if err != nil || len(all) == 0 {
		return Seen{}, err
	}
	return all[0], nil
}

// KeepNamesKey keeps by what names are made up in a session; empty to show them.
func KeepNamesKey(ctx context.Context, to db.From, token, key string) error {
	_, err := db.Exec(ctx, to, `UPDATE sessions SET names_key = $2 WHERE token = $1`, token, key)
	return db.Known(err, "hiding names")
}

// KeepViewed keeps as whom of the register a session looks; empty for nobody.
func KeepViewed(ctx context.Context, to db.From, token, person, name string) error {
	_, err := db.Exec(ctx, to, `UPDATE sessions SET viewed_person = $2, viewed_name = $3 WHERE token = $1`, token, person,
		name)
	return db.Known(err, "looking as somebody")
}
