package pairingstore

import (
	"context"
	"encoding/json"
	"time"

	"kanban/internal/core/roster"
	"kanban/internal/store/db"
	"kanban/internal/store/rosterstore"
)

// KeepGuardNotified notes that removals of a pairing were announced by mail.
func KeepGuardNotified(ctx context.Context, tx *db.Tx, pairingID string, removals int) error {
	_, err := db.Exec(ctx, tx, `UPDATE pairings SET guard_notified = $2 WHERE id = $1`, pairingID, removals)
	return db.Known(err, "noting a mail")
}

// SectionsOfPairings gives the section of each pairing, the lead of a linked set; whether
// any section of the set is gone, and the last day of the longest.
func SectionsOfPairings(ctx context.Context, from db.From, ids []string) (map[string]rosterstore.Section, error) {
	rows, err := db.Rows[struct {
		PairingID, SectionID, Title, Register string
		Ends                                  *time.Time
		Gone                                  bool
	}](ctx, from, "finding the pairings' sections", `
		SELECT p.id::text AS pairing_id, p.section_id::text, coalesce(t.name, lead.title) AS title,
			lead.interface_id::text AS register, max(f.ends_on) AS ends, bool_or(f.gone) AS gone
		FROM pairings p JOIN section_facts lead ON lead.section_id = p.section_id
		LEFT JOIN linked_sets t ON t.id = p.set_id
		LEFT JOIN linked_sections l ON l.set_id = p.set_id AND l.unlinked_at IS NULL
		JOIN section_facts f ON f.section_id = coalesce(l.section_id, p.section_id)
		WHERE p.id = ANY ($1::text[]::uuid[]) GROUP BY p.id, lead.section_id, t.id`, ids)
	out := make(map[string]rosterstore.Section, len(rows))
	for _, r := range rows {
		out[r.PairingID] = rosterstore.Section{
			ID: r.SectionID, Title: r.Title, Interface: r.Register,
			EndsOn: r.Ends, Gone: r.Gone,
		}
	}
	return out, err
}

// Noteworthy lists the pairings about which there may be something to say: people to
// mend or to know of, places that nobody minds, removals that wait, a run that stopped, a target or a section
// that is gone, another name at the service, a term that is over by a day.
func Noteworthy(ctx context.Context, from db.From, today time.Time) (all []Pairing, err error) {
	err = from.Records(ctx).Raw(`
		SELECT p.* FROM pairings p WHERE p.ended_at IS NULL AND p.id NOT IN (SELECT id FROM hidden_pairings) AND (
			p.last_failed OR p.guarded > 0 OR p.unminded > 0 OR p.target_lost
				OR p.target_seen NOT IN ('', p.target_name)
			OR p.mend IS NOT NULL AND p.mend <> '[]' OR p.left_as_is IS NOT NULL AND p.left_as_is <> '[]'
			OR p.id IN (SELECT q.pairing_id FROM paired_sections q JOIN section_facts f USING (section_id)
				WHERE f.gone OR f.ends_on < ?::date))
		ORDER BY p.created_at DESC, p.id`, today.Format(time.DateOnly)).Find(&all).Error
	return all, db.Known(err, "listing what is to be said about pairings")
}

// Ending are the classes of pairings whose section's last day is the same.
type Ending struct {
	On      time.Time
	Classes int
	Terms   []string // titles, ordered
}

// Endings lists the last days of sections that are paired, from one day to another, and how
// many classes they are about.
func Endings(ctx context.Context, source db.From, from, to time.Time) ([]Ending, error) {
	return db.Rows[Ending](ctx, source, "listing the terms that end", `
		SELECT f.ends_on AS on, count(DISTINCT p.id)::int AS classes, coalesce((SELECT array_agg(DISTINCT t
			ORDER BY t) FROM unnest(string_to_array(string_agg(array_to_string(f.terms, chr(31)), chr(31)),
			chr(31))) t WHERE t <> ''), '{}') AS terms
		FROM pairings p JOIN paired_sections q ON q.pairing_id = p.id JOIN section_facts f ON f.section_id =
			q.section_id
		WHERE p.ended_at IS NULL AND p.id NOT IN (SELECT id FROM hidden_pairings) AND NOT f.gone
			AND f.ends_on BETWEEN $1::date AND $2::date
		GROUP BY f.ends_on ORDER BY f.ends_on`, from.Format(time.DateOnly), to.Format(time.DateOnly))
}

// KeepReleased keeps that nobody is held back any more, before the next comparison.
func KeepReleased(ctx context.Context, tx *db.Tx, pairingID string, counts roster.Counts, quiet []Mend) error {
	countsText, err := json.Marshal(counts)
	if err != nil {
		return err
	}
	quietText, err := json.Marshal(quiet)
	if err != nil {
		return err
	}
	_, err = db.Exec(ctx, tx, `UPDATE pairings SET counts = $2, left_as_is = $3 WHERE id = $1`, pairingID,
		string(countsText), string(quietText))
	return db.Known(err, "keeping that a class is open")
}

// ForgetTarget lets a pairing's target be made anew.
func ForgetTarget(ctx context.Context, tx *db.Tx, pairingID string) error {
	for _, sql := range []string{
		`DELETE FROM placements WHERE pairing_id = $1`, `DELETE FROM group_placements WHERE pairing_id = $1`, `DELETE
			FROM pairing_groups WHERE pairing_id = $1`,
		`UPDATE pairings SET target_ref = '', target_seen = '', target_lost = false, ran_at = NULL,
			last_failed = false, last_run_id = NULL, counts = '{}', mend = '[]', left_as_is = '[]', guarded = 0,
			version = version + 1 WHERE id = $1`,
	} {
		if _, err := db.Exec(ctx, tx, sql, pairingID); err != nil {
			return db.Known(err, "forgetting the target")
		}
	}
	return nil
}

// MovePairing gives a pairing's target to another section or set. Whom it has put
// in stays noted, so that the next run can take them out; that run is the first.
func MovePairing(ctx context.Context, tx *db.Tx, p *Pairing, sectionID string, setID *string) error {
	p.SectionID, p.SetID = sectionID, setID
	if err := UpdatePairing(tx, p); err != nil {
		return err
	}
	_, err := db.Exec(ctx, tx, `UPDATE pairings SET ran_at = NULL, last_failed = false, last_run_id = NULL,
		counts = '{}', mend = '[]', left_as_is = '[]', guarded = 0, guard_notified = 0, compared_at = NULL,
		asked_at = NULL WHERE id = $1`, p.ID)
	p.RanAt, p.Counts, p.LastRunID, p.LastFailed = nil, roster.Counts{}, nil, false
	return db.Known(err, "moving the pairing")
}
