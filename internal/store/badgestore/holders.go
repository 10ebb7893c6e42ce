package badgestore

import (
	"context"
	"time"

	"gorm.io/gorm/clause"

	"kanban/internal/store/db"
)

// Holder is what somebody who holds badges decided about them.
type Holder struct {
	PersonID   string `gorm:"primaryKey"`
	ShownName  string
	Terms      int // the version that was accepted
	AcceptedAt time.Time
}

// FindHolder finds what somebody decided; ErrNotFound when they have accepted no terms yet.
func FindHolder(ctx context.Context, from db.From, personID string) (h Holder, err error) {
	err = from.Records(ctx).Where("person_id = ?", personID).First(&h).Error
	return h, db.Known(err, "finding the holder")
}

// KeepHolder keeps what somebody decides.
func KeepHolder(ctx context.Context, tx *db.Tx, h Holder) error {
	err := tx.DB.WithContext(ctx).Clauses(clause.OnConflict{UpdateAll: true}).Create(&h).Error
	return db.Known(err, "keeping what the holder decided")
}

// Share notes since when an award's page says whose it is; nil for no more.
func Share(ctx context.Context, tx *db.Tx, awardID string, at *time.Time) error {
	_, err := db.Exec(ctx, tx, `UPDATE awards SET shared_at = $2 WHERE id = $1`, awardID, at)
	return db.Known(err, "sharing the award")
}

// Looks are how often an award's public page was opened, by people and by programs.
type Looks struct {
	AwardID          string
	People, Programs int
	LastAt           *time.Time
}

// NoteLook counts a look at an award's public page.
func NoteLook(ctx context.Context, from db.From, awardID string, program bool, at time.Time) error {
	people, programs := 1, 0
	if program {
		people, programs = 0, 1
	}
	_, err := db.Exec(ctx, from, `INSERT INTO award_looks (award_id, day, people, programs, last_at)
		VALUES ($1, ($2::timestamptz AT TIME ZONE 'UTC')::date, $3, $4, $2) ON CONFLICT (award_id, day) DO UPDATE SET
			people = award_looks.people + excluded.people, programs = award_looks.programs + excluded.programs,
			last_at = excluded.last_at`, awardID, at.UTC(), people, programs)
	return db.Known(err, "counting a look")
}

// LooksAt gives how often awards were looked at, by award.
func LooksAt(ctx context.Context, from db.From, awardIDs []string) (map[string]Looks, error) {
	all := map[string]Looks{}
	err := db.Each(ctx, from, "counting looks", `SELECT award_id::text, sum(people)::int AS people,
		sum(programs)::int AS programs, max(last_at) AS last_at FROM award_looks
		WHERE award_id = ANY ($1::text[]::uuid[]) GROUP BY award_id`, []any{awardIDs}, func(l Looks) error {
		all[l.AwardID] = l
		return nil
	})
	return all, err
}

// AwardsOfHolder lists the awards of somebody, the newest first, with what their badges are called; what was renewed
// is left out.
func AwardsOfHolder(ctx context.Context, from db.From, personID string) (all []ListedAward, err error) {
	err = from.Records(ctx).Table("awards a").Joins("JOIN badges b ON b.id = a.badge_id").Select(awardNames).
		Where("a.person_id = ? AND a.renewed_at IS NULL", personID).Order("a.awarded_at DESC, a.id DESC").Scan(&all).Error
	return all, db.Known(err, "listing somebody's awards")
}
