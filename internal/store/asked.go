package store

import (
	"context"
	"encoding/json"
	"time"

	"github.com/riverqueue/river"

	"kanban/internal/core/roster"
)

// Ask notes that pairings are to be compared, and with run to be brought in step,
// and queues the work: once per connection, however many they are.
func (tx *Tx) Ask(ctx context.Context, who string, run bool, pairings ...Pairing) error {
	var ids []string
	connections := map[string]bool{}
	var jobs []river.JobArgs
	for _, p := range pairings {
		ids = append(ids, p.ID)
		if !connections[p.ConnectionID] {
			connections[p.ConnectionID] = true
			jobs = append(jobs, WorkAsked{ConnectionID: p.ConnectionID})
		}
	}
	if len(ids) == 0 {
		return nil
	}
	// clock_timestamp: what was asked for counts from now, not from the transaction's begin.
	_, err := tx.PGX.Exec(ctx, `UPDATE pairings SET asked_at = clock_timestamp(), asked_by = $2, asked_run = (asked_run AND asked_at IS NOT NULL) OR $3 WHERE id = ANY ($1::uuid[])`, ids, who, run)
	if err != nil {
		return known(err, "asking for comparisons")
	}
	return tx.Enqueue(ctx, jobs...)
}

// Asked lists pairings with a connection whose comparison was asked for, and how
// many there are. What a person asked for comes first.
func (s *Store) Asked(ctx context.Context, connectionID string, limit int) (all []Pairing, total int, err error) {
	err = s.Pool.QueryRow(ctx, `SELECT count(*) FROM pairings WHERE connection_id = $1 AND asked_at IS NOT NULL AND ended_at IS NULL`, connectionID).Scan(&total)
	if err == nil {
		err = s.reader(ctx).Where("connection_id = ? AND asked_at IS NOT NULL AND ended_at IS NULL", connectionID).Order("asked_by = 'schedule', asked_at, id").Limit(limit).Find(&all).Error
	}
	return all, total, known(err, "listing what is to be compared")
}

// Trouble keeps why comparisons through a connection do not come about; empty when
// they do again.
func (s *Store) Trouble(ctx context.Context, connectionID, code, text string) error {
	_, err := s.Pool.Exec(ctx, `UPDATE connections SET trouble_code = $2, trouble = $3 WHERE id = $1 AND (trouble_code, trouble) <> ($2, $3)`, connectionID, code, text)
	return known(err, "noting what stops comparisons")
}

// Answered notes that what was asked for has been done, unless it was asked for
// again in the meantime. same are the pairings of which nothing new was found.
func (tx *Tx) Answered(ctx context.Context, all []Pairing, same []string) error {
	var ids []string
	var asked []*time.Time
	for _, p := range all {
		ids, asked = append(ids, p.ID), append(asked, p.AskedAt)
	}
	_, err := tx.PGX.Exec(ctx, `UPDATE pairings p SET asked_at = NULL, asked_run = false, compared_at = CASE WHEN p.id = ANY ($3::uuid[]) THEN now() ELSE p.compared_at END
		FROM unnest($1::uuid[], $2::timestamptz[]) AS w (id, at) WHERE p.id = w.id AND p.asked_at = w.at`, ids, asked, same)
	return known(err, "noting what was compared")
}

// SectionsOfPairings gives the section of each pairing, the lead of a linked set; whether
// any section of the set is gone, and the last day of the longest.
func (s *Store) SectionsOfPairings(ctx context.Context, ids []string) (map[string]Section, error) {
	rows, err := many[struct {
		PairingID, SectionID, Title, Register string
		Ends                                  *time.Time
		Gone                                  bool
	}](ctx, s, "finding the pairings' sections", `
		SELECT p.id::text, p.section_id::text, coalesce(t.name, lead.title), lead.connection_id::text, max(f.ends_on), bool_or(f.gone)
		FROM pairings p JOIN section_facts lead ON lead.section_id = p.section_id
		LEFT JOIN linked_sets t ON t.id = p.set_id
		LEFT JOIN linked_sections l ON l.set_id = p.set_id AND l.unlinked_at IS NULL
		JOIN section_facts f ON f.section_id = coalesce(l.section_id, p.section_id)
		WHERE p.id = ANY ($1::uuid[]) GROUP BY p.id, lead.section_id, t.id`, ids)
	out := make(map[string]Section, len(rows))
	for _, r := range rows {
		out[r.PairingID] = Section{ID: r.SectionID, Title: r.Title, Connection: r.Register, EndsOn: r.Ends, Gone: r.Gone}
	}
	return out, err
}

// Noteworthy lists the pairings about which there may be something to say: people to
// mend or to know of, removals that wait, a run that stopped, a target or a section
// that is gone, another name at the service, a term that is over by a day.
func (s *Store) Noteworthy(ctx context.Context, today time.Time) (all []Pairing, err error) {
	err = s.reader(ctx).Raw(`
		SELECT p.* FROM pairings p WHERE p.ended_at IS NULL AND (
			p.last_failed OR p.guarded > 0 OR p.target_seen NOT IN ('', p.target_name)
			OR p.mend IS NOT NULL AND p.mend <> '[]' OR p.quiet IS NOT NULL AND p.quiet <> '[]'
			OR p.id IN (SELECT q.pairing_id FROM paired_sections q JOIN section_facts f USING (section_id) WHERE f.gone OR f.ends_on < ?::date))
		ORDER BY p.created_at DESC, p.id`, today.Format(time.DateOnly)).Find(&all).Error
	return all, known(err, "listing what is to be said about pairings")
}

// RefusedOf gives, by run and person, the changes of runs that the service refused
// or that did not arrive.
func (s *Store) RefusedOf(ctx context.Context, runIDs []string) (map[string]map[string]Change, error) {
	rows, err := many[struct {
		RunID, Entry, State, Code, Answer string
	}](ctx, s, "listing refused changes", `SELECT run_id::text, entry::text, state, code, answer FROM changes WHERE run_id = ANY ($1::uuid[]) AND state IN ('refused', 'not-arrived')`, runIDs)
	out := map[string]map[string]Change{}
	for _, r := range rows {
		c := Change{RunID: r.RunID, State: r.State, Code: r.Code, Answer: r.Answer}
		if err := json.Unmarshal([]byte(r.Entry), &c.Entry); err != nil {
			return nil, err
		}
		if out[r.RunID] == nil {
			out[r.RunID] = map[string]Change{}
		}
		out[r.RunID][c.Entry.Key()] = c
	}
	return out, err
}

// Batch is something that is done to many at once: shown first, then done exactly so.
type Batch struct {
	ID        string
	Act       string
	Options   json.RawMessage `gorm:"type:jsonb"`
	Items     json.RawMessage `gorm:"type:jsonb"`
	MadeBy    string
	CreatedAt time.Time
	AppliedAt *time.Time
}

// Batch finds one by id.
func (s *Store) Batch(ctx context.Context, id string) (b Batch, err error) {
	err = s.reader(ctx).Where("id = ?", id).First(&b).Error
	return b, known(err, "finding the batch")
}

// ApplyBatch takes a batch for doing; ErrTaken means that somebody did it already.
func (tx *Tx) ApplyBatch(ctx context.Context, id string) error {
	done, err := tx.PGX.Exec(ctx, `UPDATE batches SET applied_at = now() WHERE id = $1 AND applied_at IS NULL`, id)
	if err == nil && done.RowsAffected() == 0 {
		return ErrTaken
	}
	return known(err, "doing the batch")
}

// KeepItems keeps what became of a batch's items.
func (tx *Tx) KeepItems(ctx context.Context, id string, items json.RawMessage) error {
	_, err := tx.PGX.Exec(ctx, `UPDATE batches SET items = $2 WHERE id = $1`, id, string(items))
	return known(err, "keeping what became of a batch")
}

// BatchRuns counts the runs of a batch by state, and lists them.
func (s *Store) BatchRuns(ctx context.Context, id string) (all []Run, err error) {
	err = s.reader(ctx).Where("batch_id = ?", id).Order("id").Find(&all).Error
	return all, known(err, "listing the batch's runs")
}

// Forget lets a pairing's target be made anew.
func (tx *Tx) Forget(ctx context.Context, pairingID string) error {
	for _, sql := range []string{
		`DELETE FROM placements WHERE pairing_id = $1`, `DELETE FROM group_placements WHERE pairing_id = $1`, `DELETE FROM pairing_groups WHERE pairing_id = $1`,
		`UPDATE pairings SET target_ref = '', target_seen = '', ran_at = NULL, last_failed = false, last_run_id = NULL, counts = '{}', mend = '[]', quiet = '[]', guarded = 0, version = version + 1 WHERE id = $1`,
	} {
		if _, err := tx.PGX.Exec(ctx, sql, pairingID); err != nil {
			return known(err, "forgetting the target")
		}
	}
	return nil
}

// MovePairing gives a pairing's target to another section or set. Whom it has put
// in stays noted, so that the next run can take them out; that run is the first.
func (tx *Tx) MovePairing(ctx context.Context, p *Pairing, sectionID string, setID *string) error {
	p.SectionID, p.SetID = sectionID, setID
	if err := tx.UpdatePairing(p); err != nil {
		return err
	}
	_, err := tx.PGX.Exec(ctx, `UPDATE pairings SET ran_at = NULL, last_failed = false, last_run_id = NULL, counts = '{}', mend = '[]', quiet = '[]', guarded = 0, guard_told = 0, compared_at = NULL, asked_at = NULL WHERE id = $1`, p.ID)
	p.RanAt, p.Counts, p.LastRunID, p.LastFailed = nil, roster.Counts{}, nil, false
	return known(err, "moving the pairing")
}
