// Package purchasestore keeps offers and the access that buyers have by them.
package purchasestore

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"kanban/internal/store/db"
	"kanban/internal/store/deliverystore"
)

// Offer says to which sections something that can be bought, or a membership, gives
// access.
type Offer struct {
	ID          string
	Name        string
	InterfaceID string   // the service that tells about purchases
	Offer       string   // as the service calls it
	SectionIDs  []string `gorm:"serializer:json"`
	CourseID    *string  // instead of sections: the one of this course in TermRule
	TermRule    string   // "current" or "next", with CourseID
	PlatformID  *string  // where people are enrolled; nobody is when nil
	GraceDays   int      // how long access outlives its end
	AtEnd       string   // "unenrol" or "mark"
	OnlyBuyers  bool     // learners without access are a disagreement
	// OffSince is since when it gives nothing and takes nothing; nil while it is on.
	OffSince  *time.Time
	Version   int
	CreatedAt time.Time
	UpdatedAt time.Time
}

// Offers lists them, ordered by name.
func Offers(ctx context.Context, from db.From) (all []Offer, err error) {
	err = from.Records(ctx).Order("name").Find(&all).Error
	return all, db.Known(err, "listing offers")
}

// FindOffer finds one by id.
func FindOffer(ctx context.Context, from db.From, id string) (o Offer, err error) {
	err = from.Records(ctx).Where("id = ?", id).First(&o).Error
	return o, db.Known(err, "finding the offer")
}

// UpdateOffer writes an edited offer whose version must still be the one read.
func UpdateOffer(tx *db.Tx, o *Offer) error {
	read := o.Version
	o.Version++
	o.UpdatedAt = time.Now().UTC()
	done := tx.DB.Where("id = ? AND version = ?", o.ID, read).Select("name", "interface_id", "offer", "section_ids",
		"course_id", "term_rule", "platform_id", "grace_days", "at_end", "only_buyers", "off_since", "version",
		"updated_at").Updates(o)
	if done.Error == nil && done.RowsAffected == 0 {
		return fmt.Errorf("changing the offer: %w", db.ErrStale)
	}
	return db.Known(done.Error, "changing the offer")
}

// RemoveOffer removes an offer; what it gave stays as it is.
func RemoveOffer(ctx context.Context, tx *db.Tx, id string) error {
	_, err := db.Exec(ctx, tx, `DELETE FROM offers WHERE id = $1`, id)
	return db.Known(err, "removing the offer")
}

// Access is what one purchase or membership gives one buyer.
type Access struct {
	ID          string
	InterfaceID string
	Offer       string
	Buyer       string // address, normalised
	OrderRef    string
	OfferID     *string
	Name        string
	PersonID    *string
	SectionIDs  []string `gorm:"serializer:json"` // to which it gives access now
	StartedAt   *time.Time
	EndedAt     *time.Time
	EndsOn      *time.Time // with the grace
	ClosedAt    *time.Time // when what it gave was reverted
	Trouble     string     // code of a finding: why it gives nothing; "adopted" until it was looked at
	CreatedAt   time.Time
	Until       *time.Time // for access given by hand: when it ends by itself
	GivenBy     string     // who gave it by hand; empty for what was bought
	Reason      string
}

// Holds reports whether it gives access at a time, its grace counted in.
func (a Access) Holds(at time.Time) bool {
	if a.StartedAt == nil || a.RanOut(at) {
		return false
	}
	return !a.Over() || a.EndsOn != nil && a.EndsOn.After(at)
}

// RanOut reports whether access given by hand has come to its end at a time.
func (a Access) RanOut(at time.Time) bool { return a.Until != nil && !a.Until.After(at) }

// Over reports whether it was ended after it was started.
func (a Access) Over() bool {
	return a.EndedAt != nil && (a.StartedAt == nil || !a.EndedAt.Before(*a.StartedAt))
}

// KeepAccessNews notes the start or the end of an access, whichever order they come in: the
// latest of each counts. It gives the access as it is then, locked.
func KeepAccessNews(ctx context.Context, tx *db.Tx, a Access, started bool, at time.Time) (Access, error) {
	start, end := &at, (*time.Time)(nil)
	if !started {
		start, end = nil, &at
	}
	return db.Row[Access](ctx, tx, "noting an access", `INSERT INTO accesses (id, interface_id, offer, buyer,
		order_ref, offer_id, name, person_id, started_at, ended_at)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10)
		ON CONFLICT (interface_id, offer, buyer, order_ref) DO UPDATE SET started_at = greatest(accesses.started_at,
			excluded.started_at), ended_at = greatest(accesses.ended_at, excluded.ended_at),
			person_id = coalesce(accesses.person_id, excluded.person_id), offer_id = coalesce(accesses.offer_id,
				excluded.offer_id), name = coalesce(nullif(excluded.name, ''), accesses.name)
		RETURNING `+accessColumns, a.ID, a.InterfaceID, a.Offer, a.Buyer, a.OrderRef, a.OfferID, a.Name, a.PersonID, start, end)
}

const accessColumns = `id::text, interface_id::text, offer, buyer, order_ref, offer_id::text, name, person_id::text, section_ids, started_at, ended_at, ends_on, closed_at, trouble, created_at, until, given_by, reason`

// AccessesFor lists the accesses of an offer, locked, from an id on.
func AccessesFor(ctx context.Context, tx *db.Tx, offerID, after string, limit int) ([]Access, error) {
	return accesses(ctx, tx, `WHERE offer_id = $1 AND ($2 = '' OR id > nullif($2, '')::uuid) ORDER BY id LIMIT $3
		FOR UPDATE`, offerID, after, limit)
}

// AccessesByID lists some that an offer is made for, locked.
func AccessesByID(ctx context.Context, tx *db.Tx, ids []string) ([]Access, error) {
	return accesses(ctx, tx, `WHERE id = ANY ($1::text[]::uuid[]) AND offer_id IS NOT NULL ORDER BY id FOR UPDATE`,
		ids)
}

func accesses(ctx context.Context, tx *db.Tx, where string, args ...any) ([]Access, error) {
	return db.Rows[Access](ctx, tx, "listing accesses", `SELECT `+accessColumns+` FROM accesses `+where,
		args...)
}

// AssignAccesses gives an offer the accesses that were told before it was made, and every
// access without a person the one who has its address by now. What waits because
// nobody knew the buyer is queued again, for that person.
func AssignAccesses(ctx context.Context, tx *db.Tx) error {
	if _, err := db.Exec(ctx, tx, `UPDATE accesses a SET offer_id = o.id, trouble = 'adopted' FROM offers o
		WHERE a.offer_id IS NULL AND o.interface_id = a.interface_id AND o.offer = a.offer`); err != nil {
		return db.Known(err, "adopting accesses")
	}
	states, err := db.Values[string](ctx, tx, "adopting accesses", `WITH adopted AS (
			UPDATE accesses a SET person_id = p.id FROM people p WHERE a.person_id IS NULL AND p.email_key = a.buyer
				AND p.email_key <> '' AND p.gone_at IS NULL
			AND NOT EXISTS (SELECT 1 FROM people o WHERE o.email_key = p.email_key AND o.id <> p.id
				AND o.gone_at IS NULL)
			RETURNING a.id, a.offer_id, a.person_id),
		told AS (
			UPDATE events e SET person_id = a.person_id FROM adopted a JOIN deliveries d ON d.offer_id = a.offer_id
				AND d.person_id IS NULL
			WHERE e.id = d.event_id AND e.data->>'accessId' = a.id::text RETURNING e.id, a.person_id)
		UPDATE deliveries d SET person_id = t.person_id, state = CASE d.state WHEN 'waiting' THEN 'queued' ELSE
			d.state END
		FROM told t, deliveries was WHERE d.event_id = t.id AND was.id = d.id RETURNING was.state`)
	again := 0
	for _, was := range states {
		if was == deliverystore.DeliveryWaiting {
			again++
		}
	}
	return deliverystore.Requeued(ctx, tx, again, err)
}

// KeepAccess writes what an access gives now.
func KeepAccess(ctx context.Context, tx *db.Tx, a Access) error {
	sections, err := json.Marshal(append([]string{}, a.SectionIDs...))
	if err == nil {
		_, err = db.Exec(ctx, tx, `UPDATE accesses SET section_ids = $2, ends_on = $3, closed_at = $4, trouble = $5,
			person_id = $6 WHERE id = $1`, a.ID, string(sections), a.EndsOn, a.ClosedAt, a.Trouble, a.PersonID)
	}
	return db.Known(err, "keeping an access")
}

// GiveAccess writes access that is given by hand.
func GiveAccess(ctx context.Context, tx *db.Tx, a Access) error {
	_, err := db.Exec(ctx, tx, `INSERT INTO accesses (id, interface_id, offer, buyer, order_ref, offer_id, name,
		person_id, started_at, until, given_by, reason) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12)`,
		a.ID, a.InterfaceID, a.Offer, a.Buyer, a.OrderRef, a.OfferID, a.Name, a.PersonID, a.StartedAt, a.Until,
		a.GivenBy, a.Reason)
	return db.Known(err, "giving access")
}

// EndAccess lets access given by hand end at a time.
func EndAccess(ctx context.Context, tx *db.Tx, id string, at time.Time) error {
	_, err := db.Exec(ctx, tx, `UPDATE accesses SET until = $2 WHERE id = $1`, id, at)
	return db.Known(err, "ending access")
}

// AccessOf finds an access, locked.
func AccessOf(ctx context.Context, tx *db.Tx, id string) (Access, error) {
	list, err := accesses(ctx, tx, `WHERE id::text = $1 FOR UPDATE`, id)
	if err == nil && len(list) == 0 {
		err = fmt.Errorf("finding the access: %w", db.ErrNotFound)
	}
	if err != nil {
		return Access{}, err
	}
	return list[0], nil
}

// ShareAddress reports whether several people have an address.
func ShareAddress(ctx context.Context, tx *db.Tx, key string) (yes bool, err error) {
	err = db.Into(ctx, tx, &yes, `SELECT count(*) > 1 FROM (SELECT DISTINCT id FROM people
		WHERE email_key = $1 AND gone_at IS NULL LIMIT 2) x`, key)
	return yes, db.Known(err, "looking who has the address")
}

// AssignAccess gives an access the person whose it is. What waits because nobody knew the
// buyer is queued again, for that person.
func AssignAccess(ctx context.Context, tx *db.Tx, id, personID string) error {
	var n int
	err := db.Into(ctx, tx, &n, `WITH of AS (UPDATE accesses SET person_id = $2::text::uuid WHERE id = $1::text::uuid
		RETURNING id, offer_id),
		told AS (UPDATE events e SET person_id = $2::text::uuid FROM of a
			JOIN deliveries d ON d.offer_id = a.offer_id AND d.person_id IS NULL
			WHERE e.id = d.event_id AND e.data->>'accessId' = a.id::text RETURNING e.id),
		again AS (UPDATE deliveries d SET person_id = $2::text::uuid, state = CASE d.state WHEN 'waiting' THEN
			'queued' ELSE d.state END FROM told t WHERE d.event_id = t.id RETURNING d.state)
		SELECT count(*) FILTER (WHERE state = 'queued')::int FROM again`, id, personID)
	return deliverystore.Requeued(ctx, tx, n, db.Known(err, "saying whose the access is"))
}

// ListedAccess is an access with the names that a person reads.
type ListedAccess struct {
	Access
	OfferName, Person string
	Sections          []string // their titles
}

// AccessFilter narrows a list of accesses; empty fields do not.
type AccessFilter struct {
	ID, OfferID, PersonID string
	Troubled              bool   // only those that give nothing although they should
	Before                string // id
	Limit                 int
}

// Accesses lists what was bought and what was given by hand, the newest first.
func Accesses(ctx context.Context, from db.From, f AccessFilter) ([]ListedAccess, error) {
	return db.Rows[ListedAccess](ctx, from, "listing accesses", `SELECT `+accessColumns+`, coalesce((SELECT o.name
		FROM offers o WHERE o.id = a.offer_id), '') AS offer_name,
			coalesce((SELECT p.given_name || ' ' || p.family_name FROM people p
				WHERE p.id = a.person_id AND p.leads), '') AS person,
			coalesce((SELECT array_agg(x.title ORDER BY x.title) FROM sections x
				WHERE a.section_ids ? x.id::text), '{}') AS sections
		FROM accesses a WHERE ($1 = '' OR a.offer_id::text = $1) AND ($2 = '' OR a.person_id::text = $2) AND (NOT $3
			OR a.trouble NOT IN ('', 'adopted')) AND ($4 = '' OR a.id < nullif($4, '')::uuid) AND ($6 = ''
			OR a.id = nullif($6, '')::uuid)
		ORDER BY a.id DESC LIMIT $5`, f.OfferID, f.PersonID, f.Troubled, f.Before, f.Limit, f.ID)
}

// OfferOf finds the offer by which a service knows something that is sold; ok is false when there
// is none.
func OfferOf(ctx context.Context, from db.From, interfaceID, offer string) (o Offer, ok bool, err error) {
	err = from.Records(ctx).Where("interface_id = ? AND offer = ?", interfaceID, offer).First(&o).Error
	err = db.Known(err, "finding the offer")
	if errors.Is(err, db.ErrNotFound) {
		return o, false, nil
	}
	return o, err == nil, err
}

// HeldElsewhere reports whether another access gives the same buyer the same section
// at a time.
func HeldElsewhere(ctx context.Context, tx *db.Tx, a Access, sectionID string, at time.Time) (yes bool, err error) {
	err = db.Into(ctx, tx, &yes, `SELECT EXISTS (SELECT 1 FROM accesses o
		WHERE o.id <> $1 AND CASE WHEN o.person_id IS NOT NULL AND $3::text IS NOT NULL THEN o.person_id::text =
		$3::text ELSE o.buyer = $2 END AND o.section_ids ? $4
		AND o.started_at IS NOT NULL AND (o.until IS NULL OR o.until > $5) AND (o.ended_at IS NULL
			OR o.ended_at < o.started_at OR o.ends_on > $5))`, a.ID, a.Buyer, a.PersonID, sectionID, at)
	return yes, db.Known(err, "looking for other accesses")
}

// Unsettled lists the accesses that end at or before a time, and those that give
// nothing although they should.
func Unsettled(ctx context.Context, from db.From, at time.Time) (ids []string, err error) {
	ids, err = db.Values[string](ctx, from, "finding accesses to settle", `SELECT id::text FROM accesses
		WHERE offer_id IN (SELECT o.id FROM offers o WHERE o.off_since IS NULL)
			AND (trouble <> '' OR ends_on <= $1 AND closed_at IS NULL) ORDER BY id`, at)
	return ids, err
}

// Troubled is an access that gives nothing although it should, and why.
type Troubled struct {
	OfferID, Offer, Buyer string
	PersonID              *string
	Code                  string
}

// TroubledAccesses lists them, ordered by offer and buyer.
func TroubledAccesses(ctx context.Context, from db.From) ([]Troubled, error) {
	return db.Rows[Troubled](ctx, from, "listing accesses that give nothing", `SELECT o.id::text AS offer_id,
		o.name AS offer, coalesce(p.given_name || ' ' || p.family_name, nullif(a.name, ''), a.buyer) AS buyer,
		a.person_id::text, a.trouble AS code
		FROM accesses a JOIN offers o ON o.id = a.offer_id LEFT JOIN people p ON p.id = a.person_id AND p.leads
			WHERE a.trouble NOT IN ('', 'adopted') ORDER BY 2, 3`)
}

// Fitting is a section of a course that an offer may choose.
type Fitting struct {
	ID       string
	BeginsOn *time.Time
	EndsOn   *time.Time
	Learners int
}

// SectionsOfCourse lists the sections of a course, the one with the fewest learners
// first.
func SectionsOfCourse(ctx context.Context, from db.From, courseID string) ([]Fitting, error) {
	return db.Rows[Fitting](ctx, from, "listing the course's sections", `SELECT section_id::text AS id, begins_on,
		ends_on, learners FROM section_facts WHERE course_id = $1 AND NOT gone ORDER BY learners, code`, courseID)
}

// Side is one person in one section, as access and enrolment see it.
type Side struct {
	OfferID    string
	Offer      string
	SectionID  string
	Section    string
	PersonID   *string
	Person     string
	Buyer      string
	Access     string // "active", "grace", "ended", "none"
	EndsOn     *time.Time
	Enrolled   bool
	Delivery   *string // the latest that was to enrol or take out
	State      string  // of it
	FinishedAt *time.Time
	AtEnd      string
	OnlyBuyers bool
	LastRead   *time.Time // of the section's register
	Since      time.Time  // of the access, or of the enrolment
}

// Sides lists, for an offer or for all, everybody who has or had access and, where
// only buyers may be in the section, its other learners.
func Sides(ctx context.Context, from db.From, offerID string, at time.Time) ([]Side, error) {
	return db.Rows[Side](ctx, from, "comparing access and enrolment", `
		WITH given AS (
			SELECT DISTINCT ON (a.offer_id, v.section_id, coalesce(a.person_id::text, a.buyer)) a.*,
				v.section_id::uuid AS section_id
			FROM accesses a JOIN LATERAL (
				SELECT jsonb_array_elements_text(a.section_ids) AS section_id
				UNION SELECT e.section_id::text FROM deliveries d JOIN events e ON e.id = d.event_id
					WHERE d.offer_id = a.offer_id AND e.data->>'accessId' = a.id::text
			) v ON true
			WHERE a.offer_id IS NOT NULL AND ($1 = '' OR a.offer_id = nullif($1, '')::uuid)
			ORDER BY a.offer_id, v.section_id, coalesce(a.person_id::text, a.buyer), ((a.ended_at IS NULL
				OR a.ended_at < a.started_at) AND coalesce(a.until > $2, true)) DESC, a.ends_on DESC NULLS LAST)
		SELECT o.id::text AS offer_id, o.name AS offer, x.id::text AS section_id, x.title AS section,
			g.person_id::text, coalesce(p.given_name || ' ' || p.family_name, nullif(g.name, ''), g.buyer) AS person,
			g.buyer,
			CASE WHEN g.until <= $2 THEN 'ended' WHEN g.started_at IS NOT NULL AND (g.ended_at IS NULL
				OR g.ended_at < g.started_at) THEN 'active' WHEN g.ends_on > $2 THEN 'grace' ELSE 'ended' END AS
				access,
			g.ends_on, n.person IS NOT NULL AS enrolled, d.id::text AS delivery, coalesce(d.state, '') AS state,
				d.finished_at, o.at_end, o.only_buyers, r.read AS last_read, coalesce(g.started_at,
				g.created_at) AS since
		FROM given g
		JOIN offers o ON o.id = g.offer_id
		JOIN sections x ON x.id = g.section_id
		LEFT JOIN people p ON p.id = g.person_id AND p.leads
		LEFT JOIN LATERAL (SELECT e.person FROM people r JOIN enrolments e ON e.interface_id = r.interface_id
			AND e.section = x.sourced_id AND e.person = r.sourced_id AND e.gone_at IS NULL
			WHERE r.id = g.person_id AND r.interface_id = x.interface_id LIMIT 1) n ON true
		LEFT JOIN LATERAL (SELECT d.id, d.state, d.finished_at FROM deliveries d JOIN events e ON e.id = d.event_id
			WHERE d.offer_id = o.id AND d.section_id = x.id AND e.data->>'accessId' = g.id::text ORDER BY d.id DESC
				LIMIT 1) d ON true
		LEFT JOIN LATERAL (SELECT max(finished_at) AS read FROM runs WHERE kind = 'read'
			AND interface_id = x.interface_id AND state IN ('finished', 'needs-person')) r ON true
		UNION ALL
		SELECT o.id::text, o.name, x.id::text, x.title, p.id::text, p.given_name || ' ' || p.family_name, p.email_key,
			'none', NULL, true, NULL, '', NULL, o.at_end, true, NULL, e.joined_at
		FROM offers o
		CROSS JOIN LATERAL (SELECT jsonb_array_elements_text(o.section_ids)::uuid AS section_id) v
		JOIN sections x ON x.id = v.section_id
		JOIN enrolments e ON e.interface_id = x.interface_id AND e.section = x.sourced_id AND e.gone_at IS NULL
			AND e.role = 'student'
		JOIN people p ON p.interface_id = e.interface_id AND p.sourced_id = e.person
		WHERE o.only_buyers AND ($1 = '' OR o.id = nullif($1, '')::uuid)
			AND NOT EXISTS (SELECT 1 FROM given g WHERE g.offer_id = o.id AND g.section_id = x.id
				AND g.person_id = p.id)
		ORDER BY 2, 4, 6`, offerID, at)
}

// Unmapped is something that was bought and for which there is no offer.
type Unmapped struct {
	InterfaceID string
	Interface   string
	Offer       string
	Buyers      int
	Latest      time.Time
}

// UnmappedOffers lists what was bought and leads nowhere.
func UnmappedOffers(ctx context.Context, from db.From) ([]Unmapped, error) {
	return db.Rows[Unmapped](ctx, from, "listing what leads nowhere", `SELECT c.id::text AS interface_id,
		c.name AS interface, a.offer, count(DISTINCT a.buyer)::int AS buyers, max(a.created_at) AS latest
		FROM accesses a JOIN interfaces c ON c.id = a.interface_id WHERE a.offer_id IS NULL
			AND a.started_at IS NOT NULL GROUP BY c.id, c.name, a.offer ORDER BY c.name, a.offer`)
}
