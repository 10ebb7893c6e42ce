package scorestore

import (
	"context"
	"encoding/json"
	"time"

	"kanban/internal/core/grade"
	"kanban/internal/store/db"
)

// Item is an assignment of the source in the book of one section.
type Item struct {
	ID            string
	LinkID        string
	SectionID     string
	SourceItem    string
	BookInterface string
	BookItem      string // empty while there is none
	Made          bool   // by Kanban
	LinkedBy      string
	LinkedAt      *time.Time
	Content       string // empty for that of the link; so are the others
	Basis         string
	Category      string
	Period        string
	Activity      string // of the course's outline, empty when it is none
	LeftOut       string // why it is left out, empty when it is not
	LeftOutBy     string
	LeftOutAs     string // how the assignment was then: when it changes, it calls for attention again
}

// TableName names the table for GORM.
func (Item) TableName() string { return "score_items" }

// Items lists those of a link.
func Items(ctx context.Context, from db.From, linkID string) (all []Item, err error) {
	err = from.Records(ctx).Where("link_id = ?", linkID).Order("source_item, section_id").Find(&all).Error
	return all, db.Known(err, "listing assignments")
}

// AddItems keeps assignments that were seen for the first time; those that are there stay as they are.
func AddItems(ctx context.Context, to db.From, items []Item) error {
	for _, x := range items {
		if _, err := db.Exec(ctx, to, `INSERT INTO score_items (id, link_id, section_id, source_item, book_interface)
			VALUES ($1, $2, $3, $4, $5) ON CONFLICT (link_id, section_id, source_item) DO NOTHING`,
			x.ID, x.LinkID, x.SectionID, x.SourceItem, x.BookInterface); err != nil {
			return db.Known(err, "keeping assignments")
		}
	}
	return nil
}

// UpdateItem writes an assignment. ErrTaken means that its line item in the book is written by another one.
func UpdateItem(tx *db.Tx, x *Item) error {
	err := tx.DB.Where("id = ?", x.ID).Select("book_interface", "book_item", "made", "linked_by", "linked_at",
		"content", "basis", "category", "period", "activity", "left_out", "left_out_by",
		"left_out_as").Updates(x).Error
	return db.Known(err, "changing the assignment")
}

// Carried is what was carried last of one person.
type Carried struct {
	ItemID    string
	PersonID  string
	Mark      grade.Mark `gorm:"serializer:json"`
	CarriedAt time.Time
	RunID     string
}

// CarriedOf lists what was carried through a link.
func CarriedOf(ctx context.Context, from db.From, linkID string) ([]Carried, error) {
	return db.Rows[Carried](ctx, from, "finding what was carried", `SELECT c.item_id::text, c.person_id::text, c.mark,
		c.carried_at, c.run_id::text FROM score_carried c JOIN score_items i ON i.id = c.item_id WHERE i.link_id = $1
		ORDER BY c.item_id, c.person_id`, linkID)
}

// KeepCarried keeps what was carried; a blank mark says that nothing is any more.
func KeepCarried(ctx context.Context, tx *db.Tx, c Carried) error {
	if c.Mark.Blank() {
		_, err := db.Exec(ctx, tx, `DELETE FROM score_carried WHERE item_id = $1 AND person_id = $2`, c.ItemID,
			c.PersonID)
		return db.Known(err, "keeping what was carried")
	}
	text, err := json.Marshal(c.Mark)
	if err != nil {
		return err
	}
	_, err = db.Exec(ctx, tx, `INSERT INTO score_carried (item_id, person_id, mark, carried_at, run_id)
		VALUES ($1, $2, $3, $4, $5) ON CONFLICT (item_id, person_id) DO UPDATE SET mark = excluded.mark,
		carried_at = excluded.carried_at, run_id = excluded.run_id`, c.ItemID, c.PersonID, string(text), c.CarriedAt, c.RunID)
	return db.Known(err, "keeping what was carried")
}

// ForgetCarried forgets what was carried of an assignment whose line item is another one now.
func ForgetCarried(ctx context.Context, tx *db.Tx, itemID string) error {
	_, err := db.Exec(ctx, tx, `DELETE FROM score_carried WHERE item_id = $1`, itemID)
	return db.Known(err, "forgetting what was carried")
}

// Decision is what somebody decided about a score that differs.
type Decision struct {
	ItemID    string
	PersonID  string
	Take      grade.Side
	Theirs    grade.Mark `gorm:"serializer:json"`
	Ours      grade.Mark `gorm:"serializer:json"`
	DecidedBy string
	DecidedAt time.Time
}

// Decisions lists those of a link.
func Decisions(ctx context.Context, from db.From, linkID string) ([]Decision, error) {
	type row struct {
		ItemID, PersonID, Take string
		Theirs                 grade.Mark `gorm:"serializer:json"`
		Ours                   grade.Mark `gorm:"serializer:json"`
		DecidedBy              string
		DecidedAt              time.Time
	}
	var list []Decision
	err := db.Each(ctx, from, "finding decisions", `SELECT d.item_id::text, d.person_id::text, d.take, d.theirs, d.ours,
		d.decided_by, d.decided_at FROM score_decisions d JOIN score_items i ON i.id = d.item_id
		WHERE i.link_id = $1 ORDER BY d.item_id, d.person_id`, []any{linkID}, func(r row) error {
		d := Decision{
			ItemID: r.ItemID, PersonID: r.PersonID, Theirs: r.Theirs, Ours: r.Ours, DecidedBy: r.DecidedBy,
			DecidedAt: r.DecidedAt,
		}
		list = append(list, d)
		return list[len(list)-1].Take.UnmarshalText([]byte(r.Take))
	})
	return list, err
}

// DropDecision forgets what was decided about a score.
func DropDecision(ctx context.Context, tx *db.Tx, itemID, personID string) error {
	_, err := db.Exec(ctx, tx, `DELETE FROM score_decisions WHERE item_id = $1 AND person_id = $2`, itemID, personID)
	return db.Known(err, "forgetting the decision")
}

// KeepDecision keeps a decision; the latest counts.
func KeepDecision(ctx context.Context, tx *db.Tx, d Decision) error {
	theirs, err := json.Marshal(d.Theirs)
	if err != nil {
		return err
	}
	ours, err := json.Marshal(d.Ours)
	if err != nil {
		return err
	}
	_, err = db.Exec(ctx, tx, `INSERT INTO score_decisions (item_id, person_id, take, theirs, ours, decided_by,
			decided_at) VALUES ($1, $2, $3, $4, $5, $6, $7)
		ON CONFLICT (item_id, person_id) DO UPDATE SET take = excluded.take, theirs = excluded.theirs,
			ours = excluded.ours, decided_by = excluded.decided_by, decided_at = excluded.decided_at`,
		d.ItemID, d.PersonID, d.Take.String(), string(theirs), string(ours), d.DecidedBy, d.DecidedAt)
	return db.Known(err, "keeping the decision")
}

// Owner says to whom a result belongs whose student the source calls so, or in which section a mover's goes on.
type Owner struct {
	LinkID     string
	SourceItem string // empty for every assignment
	Student    string
	PersonID   string
	SectionID  *string // nil for the one that they are in
	GivenBy    string
	GivenAt    time.Time
}

// TableName names the table for GORM.
func (Owner) TableName() string { return "score_owners" }

// Owners lists those of a link.
func Owners(ctx context.Context, from db.From, linkID string) (all []Owner, err error) {
	err = from.Records(ctx).Where("link_id = ?", linkID).Order("source_item, student").Find(&all).Error
	return all, db.Known(err, "finding whose results are whose")
}

// KeepOwner keeps one; the latest counts.
func KeepOwner(ctx context.Context, tx *db.Tx, o Owner) error {
	_, err := db.Exec(ctx, tx, `INSERT INTO score_owners (link_id, source_item, student, person_id, section_id,
			given_by, given_at) VALUES ($1, $2, $3, $4, $5, $6, $7)
		ON CONFLICT (link_id, source_item, student) DO UPDATE SET person_id = excluded.person_id,
			section_id = excluded.section_id, given_by = excluded.given_by, given_at = excluded.given_at`,
		o.LinkID, o.SourceItem, o.Student, o.PersonID, o.SectionID, o.GivenBy, o.GivenAt)
	return db.Known(err, "keeping whose result it is")
}

// DropOwner forgets one; there says whether there was one.
func DropOwner(ctx context.Context, tx *db.Tx, linkID, sourceItem, student string) (there bool, err error) {
	n, err := db.Exec(ctx, tx, `DELETE FROM score_owners WHERE link_id = $1 AND source_item = $2 AND student = $3`,
		linkID, sourceItem, student)
	return n > 0, db.Known(err, "forgetting whose result it is")
}

// PeriodsFinal gives the periods of a link after which nothing is carried, with who said so.
func PeriodsFinal(ctx context.Context, from db.From, linkID string) (map[string]string, error) {
	return db.Map[string, string](ctx, from, "finding periods that are final",
		`SELECT period AS key, final_by AS value FROM score_periods_final WHERE link_id = $1`, linkID)
}

// KeepPeriodFinal says that a period is final, or that it is not any more.
func KeepPeriodFinal(ctx context.Context, tx *db.Tx, linkID, period, who string, final bool, at time.Time) error {
	if !final {
		_, err := db.Exec(ctx, tx, `DELETE FROM score_periods_final WHERE link_id = $1 AND period = $2`, linkID, period)
		return db.Known(err, "opening the period")
	}
	_, err := db.Exec(ctx, tx, `INSERT INTO score_periods_final (link_id, period, final_by, final_at)
		VALUES ($1, $2, $3, $4) ON CONFLICT DO NOTHING`, linkID, period, who, at)
	return db.Known(err, "declaring the period final")
}

// Written gives the line items of a book that scores are carried into.
func Written(ctx context.Context, from db.From, interfaceID string) (map[string]bool, error) {
	return db.Map[string, bool](ctx, from, "finding what is written", `SELECT book_item AS key, true AS value
		FROM score_items WHERE book_interface = $1 AND book_item <> ''`, interfaceID)
}
