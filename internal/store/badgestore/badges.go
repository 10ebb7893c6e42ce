// Package badgestore keeps issuers, badges and awards.
package badgestore

import (
	"context"
	"fmt"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"kanban/internal/core/badge"
	"kanban/internal/core/permission"
	"kanban/internal/core/stage"
	"kanban/internal/store/db"
	"kanban/internal/store/reachstore"
)

// Issuer gives out badges.
type Issuer struct {
	ID          string
	Name        string
	URL         string
	Email       string
	Description string
	Picture     string // id of its picture; "" for none
	Terms       string // of use, for whoever relies on its badges
	CreatedAt   time.Time
}

// Badge is an achievement that can be awarded.
type Badge struct {
	ID          string
	IssuerID    string
	Name        string
	Description string
	Criteria    string
	Asks        []stage.Criterion `gorm:"serializer:json"` // the same as programs read it; none for what people judge
	Picture     string            // id of its picture; "" for the one that all have
	State       string            // draft, published or withdrawn
	Version     int               // counts changes since it was awarded first
	Revision    int               // counts every change
	Tags        []string          `gorm:"serializer:json"`
	Alignments  []Alignment       `gorm:"serializer:json"`
	ValidDays   int               // how long an award holds; 0 for good
	LastDay     string            // as 2027-07-31, on which every award ends; "" for none
	Renewable   bool              // who holds it can be awarded it again when it ends
	Level       string
	Design      *badge.Design `gorm:"serializer:json"` // how its picture is drawn, if it is drawn here
	CreatedAt   time.Time
}

// States of a badge. Only a published one is awarded.
const (
	Draft     = "draft"
	Published = "published"
	Withdrawn = "withdrawn"
)

// Alignment says to which goal of a framework a badge belongs (Open Badges 3.0, "Alignment").
type Alignment struct {
	Name        string `json:"name"`
	Address     string `json:"address"`
	Description string `json:"description,omitempty"`
	Framework   string `json:"framework,omitempty"`
	Code        string `json:"code,omitempty"`
}

// Former is a version of a badge that was.
type Former struct {
	BadgeID   string
	Version   int
	Badge     Badge `gorm:"serializer:json"`
	ChangedBy string
	ChangedAt time.Time // when the next one took its place
	Awards    int       `gorm:"->"` // people who hold it
}

// TableName names the table for GORM.
func (Former) TableName() string { return "badge_versions" }

// Award is a badge given to a person, with its signed credential.
type Award struct {
	ID         string
	BadgeID    string
	PersonID   string
	EventID    *string
	SectionID  *string // where what it was given for happened
	CourseID   *string
	Credential string // compact JWS
	Document   []byte // the credential with its proof inside, if it has one
	Picture    string // id of its picture; "" for the one that all have
	Number     *int64 // its place in the status lists of its issuer, if it has one
	AwardedAt  time.Time
	Version    int        // of the badge
	ValidUntil *time.Time // nil for good
	RenewedAt  *time.Time // when another award took its place
	SharedAt   *time.Time // since when its page says whose it is
	RevokedAt  *time.Time
	RevokedBy  string
	Reason     string // for which it was revoked

	SuspendedAt     *time.Time
	SuspendedBy     string
	SuspendedReason string

	AwardedBy string // by hand or from a file; "" by a rule or a stage
	Note      string
	Evidence  []Evidence `gorm:"serializer:json"`

	Test bool // it was given to a test learner, and counts nowhere
}

// Evidence is something that shows that a badge was earned.
type Evidence struct {
	Address string `json:"address,omitempty"`
	Text    string `json:"text,omitempty"`
}

// Issuers lists all, ordered by name.
func Issuers(ctx context.Context, from db.From) (all []Issuer, err error) {
	err = from.Records(ctx).Order("name").Find(&all).Error
	return all, db.Known(err, "listing issuers")
}

// FindIssuer finds one by id.
func FindIssuer(ctx context.Context, from db.From, id string) (i Issuer, err error) {
	err = from.Records(ctx).Where("id = ?", id).First(&i).Error
	return i, db.Known(err, "finding the issuer")
}

// ListedBadge is a badge with its issuer's name, how many hold it and how often it was
// revoked.
type ListedBadge struct {
	Badge   `gorm:"embedded"`
	Issuer  string
	Awards  int
	Revoked int
}

// Badges lists all, ordered by name.
func Badges(ctx context.Context, from db.From, within *permission.Reach) (all []ListedBadge, err error) {
	err = listed(ctx, from, within).Order("b.name").Scan(&all).Error
	return all, db.Known(err, "listing badges")
}

// FindListed finds one as it is listed.
func FindListed(ctx context.Context, from db.From, id string, within *permission.Reach) (b ListedBadge, err error) {
	err = listed(ctx, from, within).Where("b.id = ?", id).Take(&b).Error
	return b, db.Known(err, "finding the badge")
}

func listed(ctx context.Context, from db.From, within *permission.Reach) *gorm.DB {
	where, args := "NOT test", []any{}
	if within != nil {
		where += " AND " + reachstore.In(permission.OfAward, "a.id", "?::uuid[]")
		args = append(args, db.TextArray(within.IDs()))
	}
	return from.Records(ctx).Table("badges b").Joins("JOIN issuers i ON i.id = b.issuer_id").
		Joins(`LEFT JOIN (SELECT badge_id, count(*) FILTER (WHERE revoked_at IS NULL AND renewed_at IS NULL) AS held,
			count(revoked_at) AS revoked FROM awards a WHERE `+where+` GROUP BY badge_id) a ON a.badge_id = b.id`, args...).
		Select("b.*, i.name AS issuer, coalesce(a.held, 0) AS awards, coalesce(a.revoked, 0) AS revoked")
}

// FindBadge finds one by id.
func FindBadge(ctx context.Context, from db.From, id string) (b Badge, err error) {
	err = from.Records(ctx).Where("id = ?", id).First(&b).Error
	return b, db.Known(err, "finding the badge")
}

// EditBadge writes a badge whose revision must still be the one that was read, and keeps the one that was when its
// version changes.
func EditBadge(ctx context.Context, tx *db.Tx, was, b Badge, who string, at time.Time) error {
	if b.Version != was.Version {
		if err := db.Create(tx, &Former{
			BadgeID: was.ID, Version: was.Version, Badge: was, ChangedBy: who, ChangedAt: at,
		}, "keeping the badge as it was"); err != nil {
			return err
		}
	}
	b.Revision = was.Revision + 1
	done := tx.DB.Where("id = ? AND revision = ?", was.ID, was.Revision).Select("name", "description", "criteria",
		"asks", "state", "version", "revision", "tags", "alignments", "valid_days", "last_day", "renewable",
		"level").Updates(&b)
	if done.Error == nil && done.RowsAffected == 0 {
		return fmt.Errorf("changing the badge: %w", db.ErrStale)
	}
	return db.Known(done.Error, "changing the badge")
}

// FormerBadges lists the versions of a badge that were, the latest first, with how many people hold each.
func FormerBadges(ctx context.Context, from db.From, badgeID string) (all []Former, err error) {
	err = from.Records(ctx).Select(`badge_versions.*, (SELECT count(*) FROM awards a WHERE a.badge_id =
		badge_versions.badge_id AND a.version = badge_versions.version AND a.revoked_at IS NULL AND NOT a.test
		AND a.renewed_at IS NULL)::int AS awards`).
		Where("badge_id = ?", badgeID).Order("version DESC").Find(&all).Error
	return all, db.Known(err, "listing versions of the badge")
}

// EditIssuer writes what an issuer says of itself.
func EditIssuer(ctx context.Context, tx *db.Tx, i Issuer) error {
	err := tx.DB.Where("id = ?", i.ID).Select("name", "url", "email", "description", "terms").Updates(&i).Error
	return db.Known(err, "changing the issuer")
}

// UseOfBadge is what a badge is used for: how often it was awarded, and the names of what
// awards it or asks for it.
type UseOfBadge struct {
	Awards            int
	Rules, StagePlans []string
}

// FindUseOfBadge looks what a badge is used for, and keeps it from being awarded meanwhile.
func FindUseOfBadge(ctx context.Context, tx *db.Tx, id string) (u UseOfBadge, err error) {
	return db.Row[UseOfBadge](ctx, tx, "looking what the badge is used for", `SELECT (SELECT count(*)::int FROM awards
		WHERE badge_id = b.id) AS awards,
			coalesce((SELECT array_agg(name ORDER BY name) FROM rules WHERE actions @>
				jsonb_build_array(jsonb_build_object('badgeId', $1::text))), '{}') AS rules,
			coalesce((SELECT array_agg(name ORDER BY name) FROM stage_plans
				WHERE removed_at IS NULL AND stages::text LIKE '%' || $1::text || '%'), '{}') AS stage_plans
		FROM badges b WHERE b.id = $1::text::uuid FOR UPDATE`, id)
}

// DeleteBadge removes a badge of which there is no award.
func DeleteBadge(ctx context.Context, tx *db.Tx, id string) error {
	_, err := db.Exec(ctx, tx, `DELETE FROM badges WHERE id = $1`, id)
	return db.Known(err, "removing the badge")
}

// BadgesOfIssuer gives the names of the badges of an issuer, and keeps others from coming.
func BadgesOfIssuer(ctx context.Context, tx *db.Tx, id string) (names []string, err error) {
	err = db.Into(ctx, tx, &names, `SELECT coalesce((SELECT array_agg(name ORDER BY name) FROM badges
		WHERE issuer_id = i.id), '{}') FROM issuers i WHERE i.id = $1 FOR UPDATE`, id)
	return names, db.Known(err, "listing the issuer's badges")
}

// DeleteIssuer removes an issuer without badges.
func DeleteIssuer(ctx context.Context, tx *db.Tx, id string) error {
	_, err := db.Exec(ctx, tx, `DELETE FROM issuers WHERE id = $1`, id)
	return db.Known(err, "removing the issuer")
}

// FindAward finds one by id.
func FindAward(ctx context.Context, from db.From, id string) (a Award, err error) {
	err = from.Records(ctx).Where("id = ?", id).First(&a).Error
	return a, db.Known(err, "finding the award")
}

// AwardOf finds the award of a badge that a person holds, or had for an event.
func AwardOf(ctx context.Context, from db.From, badgeID, personID, eventID string) (a Award, err error) {
	err = from.Records(ctx).Where("badge_id = ? AND person_id = ? AND (revoked_at IS NULL AND renewed_at IS NULL OR event_id = ?)",
		badgeID, personID, eventID).Order(clause.OrderBy{Expression: clause.Expr{
		SQL: "coalesce(event_id = ?, false) DESC, revoked_at DESC NULLS FIRST", Vars: []any{eventID},
	}}).First(&a).Error
	return a, db.Known(err, "finding the award")
}

// Held is an award that somebody holds.
type Held struct {
	ID, BadgeID, PersonID string
	ValidUntil            *time.Time
}

// Holders gives the awards of badges that some people hold, by badge and person; they may have ended.
func Holders(ctx context.Context, from db.From, badgeIDs, personIDs []string) (held map[[2]string]Held, err error) {
	held = map[[2]string]Held{}
	err = db.Each(ctx, from, "finding who holds badges", `SELECT id, badge_id, person_id, valid_until FROM awards
		WHERE revoked_at IS NULL AND renewed_at IS NULL AND badge_id = ANY ($1::text[]::uuid[]) AND person_id = ANY ($2::text[]::uuid[])`,
		[]any{badgeIDs, personIDs}, func(r Held) error {
			held[[2]string{r.BadgeID, r.PersonID}] = r
			return nil
		})
	return held, err
}

// Renew notes that another award takes the place of one; ok is false when it is not held any more.
func Renew(ctx context.Context, tx *db.Tx, id string, at time.Time) (ok bool, err error) {
	n, err := db.Exec(ctx, tx, `UPDATE awards SET renewed_at = $2 WHERE id = $1 AND renewed_at IS NULL
		AND revoked_at IS NULL`, id, at)
	return n == 1, db.Known(err, "renewing the award")
}

// NextAwardNumber gives a place in the status lists that no other award has.
func NextAwardNumber(ctx context.Context, from db.From) (n int64, err error) {
	err = db.Into(ctx, from, &n, `SELECT nextval('award_numbers')`)
	return n, db.Known(err, "numbering the award")
}

// Revoke revokes an award; ok is false when it was revoked already.
func Revoke(ctx context.Context, tx *db.Tx, a *Award) (ok bool, err error) {
	done := tx.DB.Where("id = ? AND revoked_at IS NULL", a.ID).Select("revoked_at", "revoked_by", "reason").Updates(a)
	return done.RowsAffected == 1, db.Known(done.Error, "revoking the award")
}

// Restore makes a revoked award hold again; ok is false when it is not revoked. The error
// wraps ErrTaken where the person holds another award of the badge.
func Restore(ctx context.Context, tx *db.Tx, a *Award) (ok bool, err error) {
	a.RevokedAt, a.RevokedBy, a.Reason = nil, "", ""
	done := tx.DB.Where("id = ? AND revoked_at IS NOT NULL", a.ID).Select("revoked_at", "revoked_by",
		"reason").Updates(a)
	return done.RowsAffected == 1, db.Known(done.Error, "cancelling the revocation")
}

// LastAwardNumber is the highest number that was given out.
func LastAwardNumber(ctx context.Context, from db.From) (n int64, err error) {
	err = db.Into(ctx, from, &n, `SELECT last_value FROM award_numbers`)
	return n, db.Known(err, "looking at the awards' numbers")
}

// NumbersSet lists the numbers from one up to another of the awards of an issuer that are revoked, or suspended.
func NumbersSet(ctx context.Context, source db.From, issuerID string, suspended bool, from, to int64) ([]int64,
	error,
) {
	column := "revoked_at"
	if suspended {
		column = "suspended_at"
	}
	return db.Values[int64](ctx, source, "listing what does not hold", `SELECT a.number FROM awards a
		JOIN badges b ON b.id = a.badge_id
		WHERE b.issuer_id = $1 AND a.`+column+` IS NOT NULL AND a.number >= $2 AND a.number < $3`, issuerID, from, to)
}

// Suspend suspends an award; ok is false when it is suspended or revoked already.
func Suspend(ctx context.Context, tx *db.Tx, a *Award) (ok bool, err error) {
	done := tx.DB.Where("id = ? AND suspended_at IS NULL AND revoked_at IS NULL", a.ID).
		Select("suspended_at", "suspended_by", "suspended_reason").Updates(a)
	return done.RowsAffected == 1, db.Known(done.Error, "suspending the award")
}

// Reinstate ends a suspension; ok is false when there is none.
func Reinstate(ctx context.Context, tx *db.Tx, a *Award) (ok bool, err error) {
	a.SuspendedAt, a.SuspendedBy, a.SuspendedReason = nil, "", ""
	done := tx.DB.Where("id = ? AND suspended_at IS NOT NULL", a.ID).
		Select("suspended_at", "suspended_by", "suspended_reason").Updates(a)
	return done.RowsAffected == 1, db.Known(done.Error, "ending the suspension")
}

// ListedAward is an award with the names that a person reads.
type ListedAward struct {
	Award  `gorm:"embedded"`
	Person string
	Badge  string
	Issuer string
}

const awardNames = `a.*, b.name AS badge, coalesce((SELECT p.given_name || ' ' || p.family_name FROM people p
	WHERE p.id = a.person_id AND p.leads), '') AS person, (SELECT i.name FROM issuers i WHERE i.id = b.issuer_id) AS issuer`

// FindListedAward finds one by id.
func FindListedAward(ctx context.Context, from db.From, id string) (a ListedAward, err error) {
	err = from.Records(ctx).Table("awards a").Joins("JOIN badges b ON b.id = a.badge_id").
		Select(awardNames).Where("a.id = ?", id).Take(&a).Error
	return a, db.Known(err, "finding the award")
}

// AwardFilter narrows a list of awards; what is empty does not.
type AwardFilter struct {
	BadgeID, PersonID string
	Before            string // id of the last award of the previous page
	Limit             int
	Within            *permission.Reach // only those of these sections; all when nil
}

// Awards lists the newest. What belongs to no section is of those of its holder.
func Awards(ctx context.Context, from db.From, f AwardFilter) (all []ListedAward, err error) {
	q := from.Records(ctx).Table("awards a").Joins("JOIN badges b ON b.id = a.badge_id").
		Select(awardNames).Order("a.id DESC").Limit(f.Limit)
	if f.BadgeID != "" {
		q = q.Where("a.badge_id = ?", f.BadgeID)
	}
	if f.PersonID != "" {
		q = q.Where("a.person_id = ?", f.PersonID)
	} else {
		q = q.Where("NOT a.test")
	}
	if f.Before != "" {
		q = q.Where("a.id < ?", f.Before)
	}
	if f.Within != nil {
		q = q.Where(reachstore.In(permission.OfAward, "a.id", "?::uuid[]"), db.TextArray(f.Within.IDs()))
	}
	err = q.Scan(&all).Error
	return all, db.Known(err, "listing awards")
}
