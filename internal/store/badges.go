package store

import (
	"context"
	"time"
)

// Issuer gives out badges.
type Issuer struct {
	ID          string
	Name        string
	URL         string
	Email       string
	Description string
	KeyID       string
	Key         []byte // sealed private JWK
	CreatedAt   time.Time
}

// Badge is an achievement that can be awarded.
type Badge struct {
	ID          string
	IssuerID    string
	Name        string
	Description string
	Criteria    string
	CreatedAt   time.Time
}

// Award is a badge given to a person, with its signed credential.
type Award struct {
	ID         string
	BadgeID    string
	PersonID   string
	EventID    *string
	Credential string // compact JWS
	AwardedAt  time.Time
}

// Issuers lists all, ordered by name.
func (s *Store) Issuers(ctx context.Context) (all []Issuer, err error) {
	err = s.reader(ctx).Order("name").Find(&all).Error
	return all, known(err, "listing issuers")
}

// Issuer finds one by id.
func (s *Store) Issuer(ctx context.Context, id string) (i Issuer, err error) {
	err = s.reader(ctx).Where("id = ?", id).First(&i).Error
	return i, known(err, "finding the issuer")
}

// ListedBadge is a badge with its issuer's name and how often it was awarded.
type ListedBadge struct {
	Badge  `gorm:"embedded"`
	Issuer string
	Awards int
}

// Badges lists all, ordered by name.
func (s *Store) Badges(ctx context.Context) (all []ListedBadge, err error) {
	err = s.reader(ctx).Table("badges b").Joins("JOIN issuers i ON i.id = b.issuer_id").
		Select("b.*, i.name AS issuer, (SELECT count(*) FROM awards a WHERE a.badge_id = b.id) AS awards").Order("b.name").Scan(&all).Error
	return all, known(err, "listing badges")
}

// Badge finds one by id.
func (s *Store) Badge(ctx context.Context, id string) (b Badge, err error) {
	err = s.reader(ctx).Where("id = ?", id).First(&b).Error
	return b, known(err, "finding the badge")
}

// Award finds one by id.
func (s *Store) Award(ctx context.Context, id string) (a Award, err error) {
	err = s.reader(ctx).Where("id = ?", id).First(&a).Error
	return a, known(err, "finding the award")
}

// AwardOf finds the award of a badge to a person.
func (s *Store) AwardOf(ctx context.Context, badgeID, personID string) (a Award, err error) {
	err = s.reader(ctx).Where("badge_id = ? AND person_id = ?", badgeID, personID).First(&a).Error
	return a, known(err, "finding the award")
}

// ListedAward is an award with the names that a person reads.
type ListedAward struct {
	Award  `gorm:"embedded"`
	Person string
	Badge  string
}

// Awards lists the newest, of one badge or person if given, older than before if
// given.
func (s *Store) Awards(ctx context.Context, badgeID, personID, before string, limit int) (all []ListedAward, err error) {
	q := s.reader(ctx).Table("awards a").Joins("JOIN badges b ON b.id = a.badge_id").
		Select(`a.*, b.name AS badge, coalesce((SELECT p.given_name || ' ' || p.family_name FROM people p WHERE p.id = a.person_id), '') AS person`).
		Order("a.id DESC").Limit(limit)
	if badgeID != "" {
		q = q.Where("a.badge_id = ?", badgeID)
	}
	if personID != "" {
		q = q.Where("a.person_id = ?", personID)
	}
	if before != "" {
		q = q.Where("a.id < ?", before)
	}
	err = q.Scan(&all).Error
	return all, known(err, "listing awards")
}
