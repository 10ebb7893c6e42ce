package matchstore

import (
	"context"
	"fmt"
	"time"

	"kanban/internal/store/db"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/settingstore"
)

// What somebody can say of a record of a register.
const (
	MarkSecond  = "second"  // it is the second account of another person
	MarkTest    = "test"    // it is a test learner
	MarkNeither = "neither" // it is neither, whatever it looks like
)

// Proposal is a record of a register that looks like a second account or a test learner.
type Proposal struct {
	PersonID, Person, Identifier, UserName, Email string
	Kind                                          string
	OfID, Of, OfIdentifier                        string // for a second account: whose
	Evidence                                      string
	Enrolments                                    int
}

// Proposals lists the records of a register that look like second accounts or test
// learners, with what speaks for it, and of which nobody has said anything yet. Of two
// records of one person the one with fewer enrolments is the second, or the later one by
// its id. Those that the register itself lists as test learners are left away.
func Proposals(ctx context.Context, from db.From, interfaceID string) ([]Proposal, error) {
	return db.Rows[Proposal](ctx, from, "looking for second accounts and test learners", `
		WITH signs AS (
			SELECT p.*, p.user_name ~* '(^|[._ -])(test|preview|demo)([._ -]?(student|learner|user|account))?[._ -]?[0-9]*($|@)' AS by_user_name,
				p.given_name ~* '^(test|preview|demo)$' OR p.family_name ~*
					'^(test|preview|demo|preview (user|student|learner)|test (user|student|learner))$' AS by_name,
					r.by_role, r.listed
			FROM people p LEFT JOIN (
				SELECT e.person, min(e.role) FILTER (WHERE e.role ~* '^ext:.*(preview|test)') AS by_role,
					bool_or(e.role = 'ext:preview') AS listed
				FROM enrolments e WHERE e.interface_id = $1 AND e.gone_at IS NULL AND e.role LIKE 'ext:%'
					GROUP BY 1) r ON r.person = p.sourced_id
			WHERE p.interface_id = $1 AND p.gone_at IS NULL AND NOT p.test
				AND NOT EXISTS (SELECT 1 FROM person_marks k WHERE k.interface_id = p.interface_id
					AND k.sourced_id = p.sourced_id)),
		there AS (
			SELECT t.*, by_user_name OR by_name OR by_role IS NOT NULL AS tests,
				(SELECT count(*)::int FROM enrolments e WHERE e.interface_id = t.interface_id
					AND e.person = t.sourced_id AND e.gone_at IS NULL) AS n
			FROM signs t WHERE listed IS NOT TRUE AND (master <> '' AND NOT secondary OR by_user_name OR by_name
				OR by_role IS NOT NULL)),
		firsts AS (SELECT DISTINCT ON (f.master) f.* FROM there f WHERE f.master <> '' AND NOT f.secondary
			ORDER BY f.master, f.n DESC, f.sourced_id)
		SELECT t.id::text AS person_id, t.given_name || ' ' || t.family_name AS person, t.identifier, t.user_name,
			t.email, 'second' AS kind, f.id::text AS of_id, f.given_name || ' ' || f.family_name AS of,
			f.identifier AS of_identifier,
			'the same userMasterIdentifier ' || t.master AS evidence, t.n AS enrolments
		FROM there t JOIN firsts f ON f.master = t.master AND f.sourced_id <> t.sourced_id WHERE NOT t.secondary
		UNION ALL
		SELECT t.id::text, t.given_name || ' ' || t.family_name, t.identifier, t.user_name, t.email, 'test', '', '',
			'',
			concat_ws(', ', CASE WHEN t.by_user_name THEN 'its user name is ' || t.user_name END,
				CASE WHEN t.by_name THEN 'its name is ' || t.given_name || ' ' || t.family_name END,
				'its role is ' || t.by_role), t.n
		FROM there t WHERE t.tests AND NOT EXISTS (SELECT 1 FROM firsts f
			WHERE f.master = t.master AND f.sourced_id <> t.sourced_id AND NOT t.secondary)
		ORDER BY 6, 2, 3`, interfaceID)
}

// MarkPerson keeps what somebody said of a person's record; of is the person whose second account
// it is, for MarkSecond.
func MarkPerson(ctx context.Context, tx *db.Tx, personID, kind, of, by string) error {
	changed, err := db.Exec(ctx, tx, `INSERT INTO person_marks (interface_id, sourced_id, kind, second_of,
		decided_by)
		SELECT p.interface_id, p.sourced_id, $2, coalesce((SELECT f.sourced_id FROM people f
			WHERE f.id::text = $3 AND f.interface_id = p.interface_id), ''), $4 FROM people p WHERE p.id = $1
			AND ($3 = '' OR EXISTS (SELECT 1 FROM people f WHERE f.id::text = $3 AND f.interface_id = p.interface_id))
		ON CONFLICT (interface_id, sourced_id) DO UPDATE SET kind = excluded.kind, second_of = excluded.second_of,
			decided_by = excluded.decided_by, decided_at = now()`, personID, kind, of, by)
	if err == nil && changed == 0 {
		return fmt.Errorf("finding the person: %w", db.ErrNotFound)
	}
	return db.Known(err, "keeping what a record is")
}

// Mark is what somebody said of a person's record.
type Mark struct {
	Kind      string
	OfID      string // for a second account: whose, empty when their record is gone
	Of        string
	DecidedBy string
	DecidedAt time.Time
}

// MarkOf gives what was said of a person's record; nil when nothing was.
func MarkOf(ctx context.Context, from db.From, personID string) (*Mark, error) {
	all, err := db.Rows[Mark](ctx, from, "finding what was said of a record", `
		SELECT k.kind, coalesce(f.id::text, '') AS of_id, coalesce(f.given_name || ' ' || f.family_name, '') AS of,
			k.decided_by, k.decided_at
		FROM person_marks k JOIN people p ON p.interface_id = k.interface_id AND p.sourced_id = k.sourced_id
		LEFT JOIN people f ON k.kind = 'second' AND f.interface_id = k.interface_id AND f.sourced_id = k.second_of
		WHERE p.id = $1`, personID)
	if err != nil || len(all) == 0 {
		return nil, err
	}
	return &all[0], nil
}

// UnmarkPerson drops what was said of a person's record; ok is false when nothing was.
func UnmarkPerson(ctx context.Context, tx *db.Tx, personID string) (ok bool, err error) {
	changed, err := db.Exec(ctx, tx, `DELETE FROM person_marks k USING people p
		WHERE p.id = $1 AND k.interface_id = p.interface_id AND k.sourced_id = p.sourced_id`, personID)
	return changed > 0, db.Known(err, "dropping what was said of a record")
}

// PairingsOfRegister lists the pairings that have run and whose section is a register's.
func PairingsOfRegister(ctx context.Context, from db.From, interfaceID string) (all []pairingstore.Pairing,
	err error,
) {
	err = from.Records(ctx).Where("ended_at IS NULL AND ran_at IS NOT NULL AND section_id IN (SELECT id FROM sections WHERE interface_id = ?)", interfaceID).Order("id").Find(&all).Error
	return all, db.Known(err, "listing pairings")
}

// MarkedIn gives the registers that have records of a person of which something was said, or any when of none was.
func MarkedIn(ctx context.Context, from db.From, personID string) ([]string, error) {
	all, err := db.Values[string](ctx, from, "finding the person", `SELECT p.interface_id::text FROM people p
		LEFT JOIN person_marks k ON k.interface_id = p.interface_id AND k.sourced_id = p.sourced_id
		WHERE p.id = $1 ORDER BY k.kind IS NULL, 1`, personID)
	if err == nil && len(all) == 0 {
		err = fmt.Errorf("finding the person: %w", db.ErrNotFound)
	}
	return all, err
}

// Proposed is how many records of a register look like second accounts or test learners, and
// one of them, as they were looked for last.
type Proposed struct {
	Count int
	First Proposal
}

func proposedOf(interfaceID string) string { return "proposed/" + interfaceID }

// LookForProposals looks for them anew and keeps how many there are, so that lists of
// findings need not look themselves.
func LookForProposals(ctx context.Context, from *db.Database, interfaceID string) error {
	list, err := Proposals(ctx, from, interfaceID)
	if err != nil {
		return err
	}
	p := Proposed{Count: len(list)}
	if len(list) > 0 {
		p.First = list[0]
	}
	return from.InTx(ctx, func(tx *db.Tx) error {
		return settingstore.SaveSetting(ctx, tx, proposedOf(interfaceID),
			p)
	})
}

// LatestProposals gives what was found last.
func LatestProposals(ctx context.Context, from db.From, interfaceID string) (p Proposed, err error) {
	_, err = settingstore.FindSetting(ctx, from, proposedOf(interfaceID), &p)
	return p, err
}
