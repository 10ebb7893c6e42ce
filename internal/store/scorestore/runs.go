package scorestore

import (
	"context"
	"encoding/json"
	"time"

	"kanban/internal/core/grade"
	"kanban/internal/store/db"
	"kanban/internal/store/runstore"
)

// Preview is a comparison that a run can carry out exactly.
type Preview struct {
	ID          string
	LinkID      string
	Plan        Plan `gorm:"serializer:json"`
	Fingerprint string
	Reverts     *string    // the run whose effect it undoes
	SourceRead  *time.Time // as of when each side was read
	BookRead    *time.Time
	CreatedAt   time.Time
}

// TableName names the table for GORM.
func (Preview) TableName() string { return "score_previews" }

// Plan is a comparison with what people need to read it.
type Plan struct {
	grade.Plan
	// Titles are those of the assignments, by item; Names those of the people.
	Titles map[string]string `json:"titles"`
	Names  map[string]string `json:"names"`
	// Periods are the grading periods in which assignments are, by item.
	Periods map[string]InPeriod `json:"periods,omitempty"`
	// Makes are categories that are made first.
	Makes []grade.Category `json:"makes,omitempty"`
	// Deletes are results that are taken out of the book: item and person with a slash between.
	Deletes map[string]bool `json:"deletes,omitempty"`
	// Carried is what was carried before the run that a revert undoes, likewise.
	Carried map[string]grade.Mark `json:"carried,omitempty"`
}

// InPeriod is the grading period in which an assignment is.
type InPeriod struct {
	ID    string `json:"id"`
	Title string `json:"title"`
}

// FindPreview finds one by id.
func FindPreview(ctx context.Context, from db.From, id string) (p Preview, err error) {
	err = from.Records(ctx).Where("id = ?", id).First(&p).Error
	return p, db.Known(err, "finding the preview")
}

// DropPreviews removes previews that no run is of and that were made before a time.
func DropPreviews(ctx context.Context, from db.From, before time.Time) error {
	_, err := db.Exec(ctx, from, `DELETE FROM score_previews p WHERE created_at < $1
		AND NOT EXISTS (SELECT 1 FROM runs r WHERE r.preview_id = p.id)`, before)
	return db.Known(err, "removing previews")
}

// What a change is about.
const (
	AboutRoster     = "roster" // it is brought in step first
	AboutCategory   = "category"
	AboutAssignment = "assignment"
	AboutScore      = "score"
)

// Change is one thing that a run does to the book, and what became of it.
type Change struct {
	RunID      string
	Position   int
	What       string
	ItemID     *string
	PersonID   *string
	Title      string // of the assignment or the category
	Name       string // of the person
	Outcome    string
	Reason     string
	Was        *grade.Mark `gorm:"serializer:json"` // carried before
	Before     *grade.Mark `gorm:"serializer:json"` // in the book before
	Sent       *grade.Mark `gorm:"serializer:json"`
	BookID     string      // the record's id in the book
	State      string      // as of changes of runs: pending, started, done, refused, not-arrived
	Code       string
	Answer     string // the book's words
	StartedAt  *time.Time
	FinishedAt *time.Time
}

// TableName names the table for GORM.
func (Change) TableName() string { return "score_changes" }

// Open reports whether it is still to do.
func (c Change) Open() bool {
	return c.State == runstore.ChangePending || c.State == runstore.ChangeStarted
}

// Changes lists those of a run in their order.
func Changes(ctx context.Context, from db.From, runID string) (all []Change, err error) {
	err = from.Records(ctx).Where("run_id = ?", runID).Order("position").Find(&all).Error
	return all, db.Known(err, "listing the run's changes")
}

// AddChanges keeps what a run is to do.
func AddChanges(tx *db.Tx, changes []Change) error {
	if len(changes) == 0 {
		return nil
	}
	return db.Known(tx.DB.CreateInBatches(changes, 500).Error, "writing the run's changes")
}

// MarkStarted notes, before the book is called, that it is about to be.
func MarkStarted(ctx context.Context, from db.From, runID string, positions []int) error {
	_, err := db.Exec(ctx, from, `UPDATE score_changes SET state = 'started', started_at = now()
		WHERE run_id = $1 AND position = ANY ($2::int[])`, runID, positions)
	return db.Known(err, "noting changes")
}

// MarkWaiting notes for what a change waits, in its BookID.
func MarkWaiting(ctx context.Context, tx *db.Tx, c Change) error {
	_, err := db.Exec(ctx, tx, `UPDATE score_changes SET state = $3, answer = $4, book_id = $5, started_at = now()
		WHERE run_id = $1 AND position = $2`, c.RunID, c.Position, c.State, c.Answer, c.BookID)
	return db.Known(err, "noting a change")
}

// MarkEnded notes how a change ended.
func MarkEnded(ctx context.Context, tx *db.Tx, c Change) error {
	before, err := json.Marshal(c.Before)
	if err != nil {
		return err
	}
	_, err = db.Exec(ctx, tx, `UPDATE score_changes SET state = $3, code = $4, answer = $5, book_id = $6, before = $7,
		finished_at = now() WHERE run_id = $1 AND position = $2`, c.RunID, c.Position, c.State, c.Code, c.Answer, c.BookID,
		string(before))
	return db.Known(err, "noting a change")
}

// CarriedAt is how many scores were carried to books, and put back there, in a quarter of an hour.
type CarriedAt struct {
	At                time.Time
	Carried, Reverted int
}

// CountCarried counts them from a time on and before another; nil is without an end.
func CountCarried(ctx context.Context, from db.From, after, before *time.Time) ([]CarriedAt, error) {
	return db.Rows[CarriedAt](ctx, from, "counting carried scores", `SELECT `+db.Quarter(`c.finished_at`)+` AS at,
			count(*) FILTER (WHERE r.reverts IS NULL)::int AS carried,
			count(*) FILTER (WHERE r.reverts IS NOT NULL)::int AS reverted
		FROM score_changes c JOIN runs r ON r.id = c.run_id
		WHERE c.what = $1 AND c.state = 'done' AND c.finished_at IS NOT NULL AND `+db.NoTest("c.person_id")+`
			AND ($2::timestamptz IS NULL OR c.finished_at >= $2) AND ($3::timestamptz IS NULL OR c.finished_at < $3)
		GROUP BY 1 ORDER BY 1`, AboutScore, after, before)
}
