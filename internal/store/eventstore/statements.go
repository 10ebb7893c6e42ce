package eventstore

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"kanban/internal/store/db"
)

// Statement is an xAPI statement as it came.
type Statement struct {
	ID          string
	InterfaceID string
	Body        json.RawMessage
	PersonID    *string
	Note        string // why nothing followed from it, if nothing did

	// What it can be asked for by.
	Actor, Verb, Object, Registration string
}

// AddStatements stores statements of an interface whose ids are not there yet. It gives
// the stored bodies of the others, and which were voided before they came. Both are
// asked for at once.
func AddStatements(ctx context.Context, tx *db.Tx, interfaceID string, all []Statement,
	voidVerb string,
) (existing map[string]json.RawMessage, awaited map[string]bool, err error) {
	n := len(all)
	ids, connections, bodies, people := make([]string, n), make([]string, n), make([]string, n), make([]*string, n)
	notes, actors, verbs, objects, registrations := make([]string, n), make([]string, n), make([]string,
		n), make([]string, n), make([]string, n)
	for i, s := range all {
		ids[i], connections[i], bodies[i], people[i] = s.ID, s.InterfaceID, string(s.Body), s.PersonID
		notes[i], actors[i], verbs[i], objects[i], registrations[i] = s.Note, s.Actor, s.Verb, s.Object,
			s.Registration
	}
	// Whoever voids waits for those who are storing, and they for whoever voids: else a
	// statement and the one that voids it could miss each other.
	lock := `SELECT pg_advisory_xact_lock_shared(hashtextextended('voiding/' || $1, 0))`
	if slices.Contains(verbs, voidVerb) {
		lock = `SELECT pg_advisory_xact_lock(hashtextextended('voiding/' || $1, 0))`
	}
	var batch pgx.Batch
	batch.Queue(lock, interfaceID)
	// They are numbered as they came, but stored in one order by everybody, so that the
	// same ones from two sides never wait for each other.
	batch.Queue(`INSERT INTO statements (id, interface_id, body, person_id, note, actor, verb, object, registration,
		seq) OVERRIDING SYSTEM VALUE
		SELECT w.* FROM (SELECT w.*, nextval('statements_seq_seq') FROM unnest($1::text[]::uuid[], $2::text[]::uuid[],
			$3::jsonb[], $4::text[]::uuid[],
			$5::text[], $6::text[], $7::text[], $8::text[], $9::text[]) AS w (id)) AS w
		ORDER BY w.id ON CONFLICT (interface_id, id) DO NOTHING RETURNING id::text`, ids, connections, bodies, people, notes, actors, verbs, objects, registrations)
	// The verb stands there as it is, because the index is about it alone.
	batch.Queue(`SELECT lower(object) FROM statements WHERE interface_id = $1
		AND verb = 'http://adlnet.gov/expapi/verbs/voided' AND lower(object) = ANY ($2)`, interfaceID, ids)
	results := tx.PGX.SendBatch(ctx, &batch)
	defer results.Close()
	if _, err := results.Exec(); err != nil {
		return nil, nil, db.Known(err, "storing statements")
	}
	fresh, err := texts(results)
	if err == nil {
		awaited, err = texts(results)
	}
	if err == nil {
		err = results.Close()
	}
	if err != nil || len(fresh) == n {
		return nil, awaited, db.Known(err, "storing statements")
	}
	existing, err = db.Map[string, json.RawMessage](ctx, tx, "finding stored statements", `SELECT id::text AS key,
		body AS value FROM statements WHERE interface_id = $1 AND id = ANY ($2::text[]::uuid[])`, interfaceID, ids)
	maps.DeleteFunc(existing, func(id string, _ json.RawMessage) bool { return fresh[id] })
	return existing, awaited, err
}

// texts reads the next result of a batch as a set.
func texts(results pgx.BatchResults) (map[string]bool, error) {
	rows, err := results.Query()
	if err != nil {
		return nil, err
	}
	out := map[string]bool{}
	var text string
	_, err = pgx.ForEachRow(rows, []any{&text}, func() error { out[text] = true; return nil })
	return out, err
}

// Voided is a statement that was voided.
type Voided struct {
	ID       string
	PersonID *string
	Object   string
}

// VoidStatement voids a statement of an interface; ok is false when there is none yet, when
// it is voided already, or when it voids another one itself.
func VoidStatement(ctx context.Context, tx *db.Tx, interfaceID, id, voidVerb string) (v Voided, ok bool, err error) {
	v, err = db.Row[Voided](ctx, tx, "voiding a statement", `UPDATE statements SET voided_at = now()
		WHERE interface_id = $1 AND id::text = lower($2) AND voided_at IS NULL AND verb <> $3
		RETURNING id::text, person_id::text, object`, interfaceID, id, voidVerb)
	if errors.Is(err, db.ErrNotFound) {
		return v, false, nil
	}
	return v, err == nil, err
}

// StatementsAbout lists what is stored, and not voided, of a person about activities,
// in the order in which it came.
func StatementsAbout(ctx context.Context, tx *db.Tx, personID string, activityIDs []string) ([]json.RawMessage,
	error,
) {
	return db.Values[json.RawMessage](ctx, tx, "listing a person's statements", `SELECT body FROM statements
		WHERE person_id = $1 AND object = ANY ($2) AND voided_at IS NULL ORDER BY seq`, personID, activityIDs)
}

// StoredStatement is one statement with what storing it added.
type StoredStatement struct {
	Seq      int64
	ID       string
	Body     json.RawMessage
	StoredAt time.Time
}

// StatementQuery narrows a list of statements; empty values do not.
type StatementQuery struct {
	InterfaceID       string
	ID                string // one statement
	Voided            bool   // the one with ID is voided
	Actor             string
	AnyAgent          string // a JSON path that finds an agent anywhere in a statement
	Verb              string
	Activity          string
	RelatedActivities bool // the activity may stand in the context too
	Registration      string
	Since, Until      time.Time // stored after, stored at or before
	Ascending         bool
	After             int64 // seq of the last statement of the page before
	Limit             int
}

// Statements lists statements in the order in which they were stored, the newest
// first unless Ascending, and gives the time up to which everything can be read.
func Statements(ctx context.Context, from db.From, q StatementQuery) (list []StoredStatement, through time.Time,
	err error,
) {
	where, args := []string{"interface_id = $1"}, []any{q.InterfaceID}
	add := func(condition string, value any) {
		args = append(args, value)
		where = append(where, strings.ReplaceAll(condition, "$?", fmt.Sprintf("$%d", len(args))))
	}
	if q.ID != "" {
		add("id::text = lower($?)", q.ID)
	}
	where = append(where, map[bool]string{true: "voided_at IS NOT NULL", false: "voided_at IS NULL"}[q.Voided])
	for _, c := range []struct{ condition, value string }{
		{"actor = $?", q.Actor}, {"jsonb_path_exists(body, $?::jsonpath)", q.AnyAgent}, {
			"verb = $?",
			q.Verb,
		}, {"registration = lower($?)", q.Registration},
	} {
		if c.value != "" {
			add(c.condition, c.value)
		}
	}
	if q.Activity != "" && q.RelatedActivities {
		add("(object = $? OR jsonb_path_exists(body, '$.context.contextActivities.*[*].id ? (@ == $id)', jsonb_build_object('id', $?::text)))", q.Activity)
	} else if q.Activity != "" {
		add("object = $?", q.Activity)
	}
	// Whoever asks goes by the time that a statement was given out with, which has milliseconds only.
	if !q.Since.IsZero() {
		add("stored_at >= $?", q.Since.Truncate(time.Millisecond).Add(time.Millisecond))
	}
	if !q.Until.IsZero() {
		add("stored_at < $?", q.Until.Truncate(time.Millisecond).Add(time.Millisecond))
	}
	order, beyond := "DESC", "seq < $?"
	if q.Ascending {
		order, beyond = "ASC", "seq > $?"
	}
	if q.After > 0 {
		add(beyond, q.After)
	}
	// Whoever is still writing began at the earliest then.
	if err := db.Into(ctx, from, &through, `SELECT least(now(), min(xact_start)) FROM pg_stat_activity
		WHERE datname = current_database()`); err != nil {
		return nil, through, db.Known(err, "listing statements")
	}
	args = append(args, q.Limit)
	list, err = db.Rows[StoredStatement](ctx, from, "listing statements", fmt.Sprintf(`SELECT seq, id::text, body,
		stored_at FROM statements WHERE %s ORDER BY seq %s LIMIT $%d`,
		strings.Join(where, " AND "), order, len(args)), args...)
	return list, through, err
}

// Waiting is a statement from which nothing has followed, and why.
type Waiting struct {
	Seq         int64
	ID          string
	InterfaceID string
	Body        json.RawMessage
	Note        string
}

// WaitingStatements lists those from which nothing has followed, except for one
// cause, in the order in which they came, from a place on.
func WaitingStatements(ctx context.Context, from db.From, except string, after int64, limit int) ([]Waiting, error) {
	return db.Rows[Waiting](ctx, from, "listing statements that wait", `SELECT seq, id::text, interface_id::text,
		body, note FROM statements
		WHERE note <> '' AND note <> $1 AND voided_at IS NULL AND seq > $2 ORDER BY seq LIMIT $3`, except, after, limit)
}

// ReconsiderStatements marks statements with one of the verbs, from which nothing followed for
// that cause, to be looked at again.
func ReconsiderStatements(ctx context.Context, tx *db.Tx, note string, verbs []string) error {
	_, err := db.Exec(ctx, tx, `UPDATE statements SET note = 'the verb has come to be known'
		WHERE note = $1 AND verb = ANY ($2) AND voided_at IS NULL`, note, verbs)
	return db.Known(err, "marking statements")
}

// ResolveStatement keeps whom a statement is about and why still nothing follows
// from it; ok is false when somebody else did so in the meantime.
func ResolveStatement(ctx context.Context, tx *db.Tx, w Waiting, personID *string, note string) (ok bool, err error) {
	done, err := db.Exec(ctx, tx, `UPDATE statements SET person_id = $3, note = $4
		WHERE id = $1 AND note = $2 AND voided_at IS NULL AND interface_id = $5`, w.ID, w.Note, personID, note,
		w.InterfaceID)
	return done == 1, db.Known(err, "resolving a statement")
}

// Unresolved are statements from which nothing has followed, for one cause.
type Unresolved struct {
	Interface string
	Note      string
	N         int
	Since     time.Time
}

// UnresolvedStatements counts the statements that were stored before a time and from which
// nothing has followed, except for one cause, by interface and cause.
func UnresolvedStatements(ctx context.Context, from db.From, except string, before time.Time) ([]Unresolved, error) {
	return db.Rows[Unresolved](ctx, from, "counting statements that wait", `SELECT coalesce(c.name, '') AS interface,
		s.note, count(*)::int AS n, min(s.stored_at) AS since FROM statements s LEFT
		JOIN interfaces c ON c.id = s.interface_id
		WHERE s.note <> '' AND s.note <> $1 AND s.voided_at IS NULL AND s.stored_at < $2 AND c.removed_at IS NULL
			GROUP BY 1, 2 ORDER BY 1, 2`, except, before)
}
