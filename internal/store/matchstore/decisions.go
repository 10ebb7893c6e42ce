// Package matchstore keeps what people decided about whose account is whose, and what is proposed to them.
package matchstore

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"kanban/internal/core/roster"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/rosterstore"
)

// ChooseAccount keeps that somebody said whose account this is. It counts before
// everything that Kanban finds out itself.
func ChooseAccount(ctx context.Context, tx *db.Tx, interfaceID, personID, remoteID, who string) error {
	if err := connectionstore.KeepAccount(ctx, tx, interfaceID, remoteID, personID); err != nil {
		return err
	}
	_, err := db.Exec(ctx, tx, `UPDATE accounts SET chosen_by = $3, chosen_at = now()
		WHERE interface_id = $1 AND remote_id = $2`, interfaceID, remoteID, who)
	if err == nil {
		_, err = db.Exec(ctx, tx, `DELETE FROM not_accounts WHERE interface_id = $1 AND person_id = $2
			AND remote_id = $3`, interfaceID, personID, remoteID)
	}
	return db.Known(err, "keeping the choice")
}

// AccountHolder finds for whom an account is kept; nobody (an empty person) is no error. The row
// stays as it is until the transaction ends.
func AccountHolder(ctx context.Context, tx *db.Tx, interfaceID, remoteID string) (p rosterstore.Person, err error) {
	p, err = db.Row[rosterstore.Person](ctx, tx, "finding whose account it is",
		`SELECT `+rosterstore.PersonColumns+` FROM accounts a JOIN people p ON p.id = a.person_id AND p.leads
		WHERE a.interface_id = $1 AND a.remote_id = $2 FOR UPDATE OF a`, interfaceID, remoteID)
	if errors.Is(err, db.ErrNotFound) {
		return rosterstore.Person{}, nil
	}
	return p, err
}

// DenyAccount keeps that somebody said that an account is not this person's.
func DenyAccount(ctx context.Context, tx *db.Tx, interfaceID, personID, remoteID, who string) error {
	_, err := db.Exec(ctx, tx, `DELETE FROM accounts WHERE interface_id = $1 AND person_id = $2 AND remote_id = $3`,
		interfaceID, personID, remoteID)
	if err == nil {
		_, err = db.Exec(ctx, tx, `INSERT INTO not_accounts (interface_id, person_id, remote_id, decided_by)
			VALUES ($1, $2, $3, $4) ON CONFLICT DO NOTHING`, interfaceID, personID, remoteID, who)
	}
	return db.Known(err, "keeping the decision")
}

// KeepSwitchedOff notes whether Kanban has switched an account off.
func KeepSwitchedOff(ctx context.Context, tx *db.Tx, interfaceID, remoteID string, off bool) error {
	_, err := db.Exec(ctx, tx, `UPDATE accounts SET switched_off = $3 WHERE interface_id = $1 AND remote_id = $2`,
		interfaceID, remoteID, off)
	return db.Known(err, "noting that an account is switched off")
}

// ForgetDecisions lets Kanban find out again whose account is whose: an account that somebody
// chose is the person's no longer.
func ForgetDecisions(ctx context.Context, tx *db.Tx, interfaceID, personID string) error {
	_, err := db.Exec(ctx, tx, `DELETE FROM accounts WHERE interface_id = $1 AND person_id = $2 AND chosen_by <> ''`,
		interfaceID, personID)
	if err == nil {
		_, err = db.Exec(ctx, tx, `DELETE FROM not_accounts WHERE interface_id = $1 AND person_id = $2`,
			interfaceID, personID)
	}
	return db.Known(err, "forgetting the decisions")
}

// KnownAccount is a person's account at a service, or one that somebody said is
// not theirs.
type KnownAccount struct {
	InterfaceID string
	Interface   string
	RemoteID    string
	Denied      bool
	By          string // who said so; empty when Kanban found it out
	At          *time.Time
}

// AccountsOf lists the accounts stored for a person and the decisions about them.
func AccountsOf(ctx context.Context, from db.From, personID string) ([]KnownAccount, error) {
	return db.Rows[KnownAccount](ctx, from, "finding the person's accounts", `
		SELECT c.id::text AS interface_id, c.name AS interface, a.remote_id, false AS denied, a.chosen_by AS by,
			a.chosen_at AS at FROM accounts a JOIN interfaces c ON c.id = a.interface_id WHERE a.person_id = $1
		UNION ALL SELECT c.id::text, c.name, n.remote_id, true, n.decided_by, n.decided_at FROM not_accounts n
			JOIN interfaces c ON c.id = n.interface_id WHERE n.person_id = $1
		ORDER BY 2, 4, 3`, personID)
}

// PairedMember is somebody enrolled in a section that is paired with an interface.
type PairedMember struct {
	Member    roster.Member
	SectionID string
	Section   string
}

// PairedMembers lists everybody whom the matching of an interface is about.
func PairedMembers(ctx context.Context, from db.From, interfaceID string) ([]PairedMember, error) {
	var pairings []pairingstore.Pairing
	if err := from.Records(ctx).Where("interface_id = ? AND ended_at IS NULL",
		interfaceID).Find(&pairings).Error; err != nil {
		return nil, db.Known(err, "listing the interface's pairings")
	}
	titles, err := db.Rows[struct{ ID, Title string }](ctx, from, "naming the interface's sections", `
		SELECT f.section_id::text AS id, f.title FROM section_facts f JOIN paired_sections p USING (section_id)
			WHERE p.interface_id = $1`, interfaceID)
	if err != nil {
		return nil, err
	}
	title := map[string]string{}
	for _, x := range titles {
		title[x.ID] = x.Title
	}
	sources, err := pairingstore.Sources(ctx, from, interfaceID, pairings)
	var all []PairedMember
	for _, p := range pairings {
		for _, m := range sources[p.ID].Members {
			section := cmp.Or(m.Group, p.SectionID)
			all = append(all, PairedMember{m, section, title[section]})
		}
	}
	slices.SortStableFunc(all, func(a, b PairedMember) int { return strings.Compare(a.Section, b.Section) })
	return all, err
}

// PairingsThrough lists the pairings with an interface that have run at least once.
func PairingsThrough(ctx context.Context, from db.From, interfaceID string) (all []pairingstore.Pairing, err error) {
	err = from.Records(ctx).Where("interface_id = ? AND ended_at IS NULL AND ran_at IS NOT NULL",
		interfaceID).Find(&all).Error
	return all, db.Known(err, "listing the interface's pairings")
}
